package dnp3

// The CRC of the data link layer (IEEE 1815-2012, 9.2.5): x^16+x^13+x^12+x^11+x^10+x^8+x^6+x^5+x^2+1, least significant
// bit first, complemented, sent with the low octet first.
const crcPolynomial = 0xA6BC // 0x3D65 with its bits in reverse order

// crcTables[k][b] is what octet b, followed by k octets of zeros, makes of a CRC of 0.
var crcTables = func() (t [16][256]uint16) {
	for b := range t[0] {
		crc := uint16(b)
		for range 8 {
			if crc&1 != 0 {
				crc = crc>>1 ^ crcPolynomial
			} else {
				crc >>= 1
			}
		}
		t[0][b] = crc
	}
	for k := 1; k < len(t); k++ {
		for b := range t[k] {
			was := t[k-1][b]
			t[k][b] = was>>8 ^ t[0][byte(was)]
		}
	}
	return t
}()

// CRC is the check value of a block.
func CRC(block []byte) uint16 {
	crc := uint16(0)
	for len(block) >= 16 { // a full block of user data, whose octets do not wait for each other
		b := block[:16]
		crc = crcTables[15][b[0]^byte(crc)] ^ crcTables[14][b[1]^byte(crc>>8)] ^
			crcTables[13][b[2]] ^ crcTables[12][b[3]] ^ crcTables[11][b[4]] ^ crcTables[10][b[5]] ^
			crcTables[9][b[6]] ^ crcTables[8][b[7]] ^ crcTables[7][b[8]] ^ crcTables[6][b[9]] ^
			crcTables[5][b[10]] ^ crcTables[4][b[11]] ^ crcTables[3][b[12]] ^ crcTables[2][b[13]] ^
			crcTables[1][b[14]] ^ crcTables[0][b[15]]
		block = block[16:]
	}
	for _, b := range block {
		crc = crc>>8 ^ crcTables[0][byte(crc)^b]
	}
	return ^crc
}

func appendCRC(b, block []byte) []byte {
	crc := CRC(block)
	return append(b, byte(crc), byte(crc>>8))
}

func crcFits(block, sum []byte) bool {
	crc := CRC(block)
	return sum[0] == byte(crc) && sum[1] == byte(crc>>8)
}
