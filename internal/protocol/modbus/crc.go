package modbus

// crcTable holds the CRC of each byte (6.2.2): polynomial 0xA001, reflected.
var crcTable = func() (table [256]uint16) {
	for i := range table {
		crc := uint16(i)
		for range 8 {
			if crc&1 == 1 {
				crc = crc>>1 ^ 0xA001
			} else {
				crc >>= 1
			}
		}
		table[i] = crc
	}
	return table
}()

// CRC is the checksum of RTU (6.2.2).
func CRC(b []byte) uint16 {
	crc := uint16(0xFFFF)
	for _, c := range b {
		crc = crc>>8 ^ crcTable[byte(crc)^c]
	}
	return crc
}
