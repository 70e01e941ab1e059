package pointlist

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// The type of a value, its length and its order, as a row says them.

// kind makes type, length and order.
func (m *making) kind(plain func(string) (string, bool)) {
	words := 0
	if text, ok := plain(colWords); ok {
		if n, is := number(text); is && n >= 1 && n <= 2000 && n == float64(int(n)) {
			words = (int(n) + m.size - 1) / m.size
		}
	}
	if text, ok := plain(colEnd); ok && words == 0 {
		first, err1 := strconv.ParseInt(strings.TrimSuffix(m.cells["address"], ".0"), 0, 32)
		last, err2 := strconv.ParseInt(strings.TrimSuffix(text, ".0"), 0, 32)
		if err1 == nil && err2 == nil && last >= first && last-first < 125 {
			words = int(last-first) + 1
		}
	}
	text, ok := plain("type")
	if ok && bitType.MatchString(text) && m.cells[colBit] == "" { // BIT3
		ok = false
		m.bitOf(bitType.FindStringSubmatch(text)[1])
	}
	if ok && unsaid[strings.ToLower(text)] && m.item.Fields["type"] == nil {
		ok = false
		m.once("type %q does not say how the value is stored; uint16 is used, or int16 where values may be below zero", text)
	}
	if ok {
		if name, states, ok := enumeration(text); ok && m.cells["states"] == "" {
			m.item.Fields["states"] = states
			m.from("states", "type")
			text = name
		}
		k, err := m.known.kind(text, words)
		if err != nil { // U16/10; uint16, 0.01 Hz
			if parts := scaledType.FindStringSubmatch(text); parts != nil && m.behindType(parts[2]+parts[4]) {
				k, err = m.known.kind(parts[1]+parts[3], words)
			}
		}
		if err != nil {
			m.fault("type", "%s", err)
		} else {
			m.typed("type", k)
		}
	} else if words > 1 && m.item.Fields["type"] == nil && m.protocol() == site.Modbus && m.cells["address"] != "" {
		if t := codec.Type(""); words == 2 || words == 4 {
			t = map[int]codec.Type{2: codec.TypeUint32, 4: codec.TypeUint64}[words]
			m.typed(colWords, typeMeaning{t: t})
			m.guess("type")
			if m.cells[colSigned] == "" {
				m.once("some rows have no data type: uint32 is used for two registers, and uint64 for four; if they are floats, say --defaults '{type: float32}'")
			}
		}
	}
	if text, ok := plain(colSigned); ok {
		m.sign(text)
	}
	m.below()
	if text, ok := plain("order"); ok {
		switch o, loose, is := orderOf(text); {
		case !is:
			m.fault("order", "%q is no byte order: ABCD, CDAB, BADC or DCBA", text)
		case o != "":
			m.item.Fields["order"] = string(o)
			m.looseOrder(loose)
		}
	}
}

// unsaid are types that do not say how a value is written.
var unsaid = map[string]bool{"ai": true, "ao": true, "analog": true, "analogue": true, "analog input": true, "analog output": true, "analogeingang": true, "analogausgang": true, "value": true, "measurement": true, "numeric": true, "number": true}

// bitType is a bit as a type: BIT3, b 3.
var bitType = regexp.MustCompile(`(?i)^bit\s*#?(\d{1,2})$`)

// bitOf makes the address one of a bit.
func (m *making) bitOf(bit string) {
	a, _ := m.item.Fields["address"].(string)
	n, err := strconv.Atoi(bit)
	if a == "" || strings.Contains(a, ".") || err != nil || n > 15 {
		m.fault("type", "bit %s: a register has the bits 0 to 15", bit)
		return
	}
	m.item.Fields["address"] = a + "." + strconv.Itoa(n)
	m.item.Fields["type"] = string(codec.TypeBool)
}

// below gives a value that may be below zero a sign, where nothing says of which type it is.
func (m *making) below() {
	if m.item.Fields["type"] != nil || m.protocol() != site.Modbus || m.cells["address"] == "" || len(m.headings.exact) > 0 {
		return
	}
	least, is := number(m.cells[colEngMin])
	if span, ok := spanOf(m.cells["range"]); !is && ok {
		least, is = span[0], true
	}
	if raw, ok := number(m.cells[colRawMin]); ok {
		least, is = raw, true
	}
	if a, _ := m.item.Fields["address"].(string); is && least < 0 && m.cells[colOffset] == "" && !strings.Contains(a, ".") {
		m.item.Fields["type"] = string(codec.TypeInt16)
		m.guess("type")
		m.once("some rows have no data type and values below zero: int16 is used")
	}
}

// typed takes over what a type means.
func (m *making) typed(column string, k typeMeaning) {
	m.item.Fields["type"] = string(k.t)
	m.from("type", column)
	if k.length > 0 {
		m.item.Fields["length"] = k.length
		m.from("length", column)
	}
	if k.order != "" {
		m.item.Fields["order"] = string(k.order)
		m.from("order", column)
		m.looseOrder(k.loose)
	}
}

// scaledType is a type with what the value is divided by, or with a step, behind it.
var scaledType = regexp.MustCompile(`^(?:(.*\S)\s*(/\s*\d+|[x×*]\s*0[.,]\d+)|([^,;(]*?)\s*[,;(]\s*(.+?)\)?)$`)

// behindType takes what stands behind a type for a scaling, where no column has one; it reports whether it is one.
func (m *making) behindType(text string) bool {
	if m.cells[colFactor] != "" || m.cells[colDivide] != "" {
		return false
	}
	s, u, err := stepped(text)
	if err != nil || s == nil && u == "" {
		return false
	}
	if s != nil {
		m.item.Fields["scaling"] = s
		m.from("scaling", "type")
	}
	if u != "" && m.item.Fields["unit"] == nil && m.cells["unit"] == "" {
		m.item.Fields["unit"] = u
		m.from("unit", "type")
	}
	return true
}

// signs are integers with a sign, by those without.
var signs = map[codec.Type]codec.Type{codec.TypeUint8: codec.TypeInt8, codec.TypeUint16: codec.TypeInt16, codec.TypeUint32: codec.TypeInt32, codec.TypeUint64: codec.TypeInt64}

// sign makes of an integer one with a sign, or without, as a column says.
func (m *making) sign(text string) {
	has := false
	switch strings.ToLower(text) {
	case "yes", "y", "true", "signed", "s", "1", "x", "ja", "j", "oui", "si", "sí", "+/-", "±", "int":
		has = true
	case "no", "n", "false", "unsigned", "u", "0", "nein", "non", "-", "+", "uint":
	default:
		m.fault(colSigned, "%q says neither that the value has a sign nor that it has none: yes or no", text)
		return
	}
	is, _ := m.item.Fields["type"].(string)
	t := codec.Type(cmp.Or(is, string(codec.TypeUint16)))
	for without, with := range signs {
		switch {
		case has && t == without:
			m.item.Fields["type"] = string(with)
		case !has && t == with:
			m.item.Fields["type"] = string(without)
		case t == without || t == with:
			m.item.Fields["type"] = string(t)
		default:
			continue
		}
		m.from("type", colSigned)
	}
}

var (
	pulseTime  = regexp.MustCompile(`(\d+)\s*(ms|msec|s|sec)\b`)
	controlled = []struct {
		word    string
		control site.Control
	}{{"trip", site.ControlTripClose}, {"latch", site.ControlLatch}, {"pulse", site.ControlPulse}, {"impuls", site.ControlPulse}, {"close", site.ControlTripClose}, {"momentary", site.ControlPulse}, {"maintained", site.ControlLatch}}
)

// controlOf reads how a binary output is commanded: Latch on/off, PULSE_ON, Trip/Close (IEEE 1815-2012, A.8.1).
func controlOf(text string) (site.Control, error) {
	written := strings.ToLower(text)
	for _, c := range controlled {
		if strings.Contains(written, c.word) {
			return c.control, nil
		}
	}
	switch short := strings.FieldsFunc(written, func(r rune) bool { return !unicode.IsLetter(r) }); {
	case slices.Contains(short, "lon"), slices.Contains(short, "loff"):
		return site.ControlLatch, nil
	case slices.Contains(short, "pon"), slices.Contains(short, "poff"):
		return site.ControlPulse, nil
	}
	return "", fmt.Errorf("%q is no way to command an output: latch, pulse, or trip/close", text)
}

// commanded makes how a binary output is commanded; one that is, is writable.
func (m *making) commanded(said string) {
	if a := text(m.item.Fields["address"]); !strings.HasPrefix(a, string(site.BinaryOutputs)+":") {
		return
	}
	control, err := controlOf(said)
	if err != nil {
		m.fault("control", "%s", err)
		return
	}
	m.item.Fields["control"], m.item.Fields["writable"] = string(control), true
	m.from("writable", "control")
	if p := pulseTime.FindStringSubmatch(strings.ToLower(said)); p != nil && control != site.ControlLatch {
		m.item.Fields["pulse"] = p[1] + map[bool]string{true: "ms", false: "s"}[p[2][0] == 'm']
		m.from("pulse", "control")
	}
}
