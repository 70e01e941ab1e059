package modbus

import (
	"maps"
	"slices"
)

// Identification is what a device says of itself.
type Identification struct {
	Objects map[byte]string // of ReadDeviceIdentification, by object number (AP 6.21)
	ID      []byte          // of ReportServerID, the run indicator last (AP 6.13)
}

// Named is a Model that says what it is.
type Named interface{ Identify() Identification }

// objectNames are the objects that the standard names (AP 6.21).
var objectNames = [...]string{"vendor", "product code", "revision", "vendor URL", "product name", "model", "application"}

// ObjectName is the standard's name of an identification object; "" for one it does not name.
func ObjectName(object byte) string {
	if int(object) < len(objectNames) {
		return objectNames[object]
	}
	return ""
}

// answer makes the response PDU to a request for an identification.
func (id Identification) answer(r Request) ([]byte, error) {
	if r.Function == ReportServerID {
		if id.ID == nil {
			return nil, IllegalFunction
		}
		return append([]byte{byte(r.Function), byte(len(id.ID))}, id.ID...), nil
	}
	if len(id.Objects) == 0 {
		return nil, IllegalFunction
	}
	first, last := byte(0), [...]byte{1: 0x02, 2: 0x7F, 3: 0xFF, 4: r.Object}[r.Level]
	if _, known := id.Objects[r.Object]; known && r.Object <= last {
		first = r.Object
	} else if r.Level == 4 {
		return nil, IllegalDataAddress
	}
	pdu := []byte{byte(r.Function), ReadDeviceIdentification, r.Level, 0x83, 0, 0, 0}
	for _, object := range slices.Sorted(maps.Keys(id.Objects)) {
		if object < first || object > last {
			continue
		}
		text := id.Objects[object]
		if len(pdu)+2+len(text) > MaxPDU {
			pdu[4], pdu[5] = 0xFF, object // more follows, from this one on
			break
		}
		pdu[6]++
		pdu = append(append(pdu, object, byte(len(text))), text...)
	}
	return pdu, nil
}

// ParseIdentification reads the data that ParseAnswer gives for EncapsulatedInterface. next is the object to ask for
// when more follow.
func ParseIdentification(data []byte) (objects map[byte]string, next byte, more bool, err error) {
	if len(data) < 6 || data[0] != ReadDeviceIdentification {
		return nil, 0, false, badResponse("%d bytes that are no device identification", len(data))
	}
	objects = map[byte]string{}
	rest := data[6:]
	for range data[5] {
		if len(rest) < 2 || len(rest) < 2+int(rest[1]) {
			return nil, 0, false, badResponse("a device identification that ends within its object %d", len(objects)+1)
		}
		objects[rest[0]] = string(rest[2 : 2+int(rest[1])])
		rest = rest[2+int(rest[1]):]
	}
	return objects, data[4], data[3] == 0xFF, nil
}

// identificationLength is how long an RTU answer of EncapsulatedInterface is, which only its objects tell.
func identificationLength(b []byte) (length int, known bool) {
	length = 8
	if len(b) < length {
		return 0, false
	}
	for range b[7] {
		if len(b) < length+2 {
			return length + 4, false
		}
		length += 2 + int(b[length+1])
	}
	return length + 2, true
}
