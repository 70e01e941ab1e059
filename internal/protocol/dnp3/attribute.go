package dnp3

import (
	"encoding/binary"
	"fmt"
	"math"
	"strings"
)

// Attribute is a device attribute (IEEE 1815-2012, A.2): group 0, its variation says which.
type Attribute struct {
	Variation byte
	Set       uint16 // the index; 0 is the standard's own set
	Type      byte   // data type code: 1 text, 2 unsigned, 3 signed, 4 float, 5 octets, 6 bits, 7 time, 8 and 254 list
	Data      []byte
}

// Variations of the standard's set that a master asks for.
const (
	AttributeAll  = 254
	AttributeList = 255
)

var attributeNames = map[byte]string{
	196: "configuration identifier", 197: "configuration version", 198: "configuration build date", 199: "configuration last change",
	204: "device altitude", 205: "longitude", 206: "latitude", 207: "secondary operator name", 208: "primary operator name", 209: "system name",
	211: "user-specific attributes", 212: "master-defined data sets", 216: "binary outputs", 217: "local timing accuracy", 218: "duration of time accuracy",
	219: "analog output events", 220: "highest analog output index", 221: "analog outputs", 222: "binary output events", 223: "highest binary output index", 224: "binary outputs",
	225: "frozen counter events", 226: "frozen counters", 227: "counter events", 228: "highest counter index", 229: "counters",
	230: "frozen analog inputs", 231: "analog input events", 232: "highest analog input index", 233: "analog inputs",
	234: "double-bit input events", 235: "highest double-bit input index", 236: "double-bit inputs", 237: "binary input events", 238: "highest binary input index", 239: "binary inputs",
	240: "largest transmit fragment", 241: "largest receive fragment", 242: "software version", 243: "hardware version", 245: "location", 246: "identifier", 247: "name", 248: "serial number",
	249: "DNP3 subset and conformance", 250: "product", 252: "manufacturer",
}

// Name says what the attribute is.
func (a Attribute) Name() string {
	if name, ok := attributeNames[a.Variation]; ok && a.Set == 0 {
		return name
	}
	return fmt.Sprintf("attribute %d of set %d", a.Variation, a.Set)
}

// Text is its value as a person reads it.
func (a Attribute) Text() string {
	n := uint64(0)
	for i, b := range a.Data[:min(8, len(a.Data))] {
		n |= uint64(b) << (8 * i)
	}
	switch {
	case a.Type == 1:
		return strings.Map(func(r rune) rune {
			if r < 0x20 || r == 0x7F {
				return -1
			}
			return r
		}, strings.ToValidUTF8(string(a.Data), "?"))
	case a.Type == 2 && len(a.Data) <= 8:
		return fmt.Sprint(n)
	case a.Type == 3 && len(a.Data) > 0 && len(a.Data) <= 8:
		shift := 64 - 8*len(a.Data)
		return fmt.Sprint(int64(n<<shift) >> shift)
	case a.Type == 4 && len(a.Data) == 4:
		return fmt.Sprint(math.Float32frombits(uint32(n)))
	case a.Type == 4 && len(a.Data) == 8:
		return fmt.Sprint(math.Float64frombits(n))
	case a.Type == 7 && len(a.Data) == 6:
		return readTime(a.Data).Go().Format("2006-01-02 15:04:05Z07:00")
	}
	return fmt.Sprintf("% X", a.Data)
}

// AppendAttribute appends an attribute with its header.
func AppendAttribute(b []byte, a Attribute) []byte {
	b = append(b, 0, a.Variation, byte(Range8), byte(a.Set), byte(a.Set), a.Type, byte(len(a.Data)))
	return append(b, a.Data...)
}

// UnsignedAttribute is an attribute with a number.
func UnsignedAttribute(variation byte, n uint32) Attribute {
	return Attribute{Variation: variation, Type: 2, Data: binary.LittleEndian.AppendUint32(nil, n)}
}

// ReadAttributes gives the attributes under the header that o stands at.
func ReadAttributes(o *Objects) (list []Attribute) {
	b, prefix := o.Body, o.Header.Qualifier.Prefix()
	for i := range o.Header.Count {
		if len(b) < prefix+2 || len(b) < prefix+2+int(b[prefix+1]) {
			return list
		}
		size := int(b[prefix+1])
		list = append(list, Attribute{o.Header.Variation, uint16(o.Header.Start + i), b[prefix], b[prefix+2 : prefix+2+size]})
		b = b[prefix+2+size:]
	}
	return list
}
