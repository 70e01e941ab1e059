package pointlist

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// The address of a point: of its cell, of a table beside it or above it, and of a bit.

// address makes the address of its cell, of a table beside it and of a bit.
func (m *making) address(plain func(string) (string, bool)) {
	text, ok := plain("address")
	if !ok {
		if m.cells["address"] == "" && !m.spoilt {
			m.fault("address", "the row has no address")
		}
		return
	}
	if m.protocol() == site.DNP3 {
		m.index(text, plain)
		return
	}
	if r := remarked.FindStringSubmatch(text); r != nil {
		text = r[1]
		if _, order, _ := cutOrder(strings.ToLower(r[2])); order != "" && m.item.From["order"] == "" { // (LSW)
			m.halved = order
		}
	}
	if x := hexMarked.FindStringSubmatch(text); x != nil {
		text = "0x" + x[1]
	}
	text = joined(text, m.single())
	if named := spelled.FindStringSubmatch(text); named != nil {
		if m.notation == "" || m.notation == site.Ref5 || m.notation == site.Ref6 {
			m.fault("address", "%q does not say whether the first one has the number 0 or 1: write hr:0, or say --notation offset or --notation number", text)
			return
		}
		m.counted(named[2], m.notation, spelledTables[strings.ToLower(named[1])])
		return
	}
	if n, is := number(text); is && n >= 0 && n == float64(int(n)) && !strings.ContainsAny(text, ".") && strings.ContainsAny(text, ",'") {
		text = strconv.Itoa(int(n)) // 30,009
	} else if strings.HasSuffix(text, ".0") && reference(text) && m.cells[colBit] == "" && !m.single() {
		text = strings.TrimSuffix(text, ".0") // as a spreadsheet gives whole numbers
	}
	if bit, ok := plain(colBit); ok && bit != "-" && !wholeRegister.MatchString(bit) {
		n, err := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(strings.TrimPrefix(strings.ToLower(bit), "bit"), "b")))
		if severalBits.MatchString(bit) {
			m.fault(colBit, "%q are several bits, and a point is one of them, or the register: write a row for each bit, or none, for the register with type bits", bit)
		} else if err != nil {
			m.fault(colBit, "%q is no number of a bit", bit)
		} else if !strings.Contains(text, ".") {
			text = fmt.Sprintf("%s.%d", text, n)
			m.item.Fields["type"] = string(codec.TypeBool)
		}
	}
	if c := coilCrossed.FindStringSubmatch(text); c != nil && m.crosses {
		n, _ := strconv.Atoi(c[1]) // beyond all bounds: refused with its field
		m.item.Fields["address"] = fmt.Sprintf("%s:%d", site.Coils, n-1)
		return
	}
	if text, ok = m.iec(text); !ok {
		return
	}
	table, named := m.table(site.Modbus, plain)
	if m.notation != "" {
		m.counted(text, m.notation, table)
		return
	}
	if digits, _, _ := strings.Cut(strings.SplitN(text, ".", 2)[0], "-"); !reference(strings.TrimSpace(digits)) && strings.Trim(strings.TrimSpace(digits), "0123456789") == "" && digits != "" {
		if n := m.options.counts(m.station()); n == site.Offset || n == site.Number {
			m.once("the list does not say whether its addresses count from 0 or from 1; station %s counts from %s, so that is used. If it is %s, say --notation %s", m.station(), firsts[n], firsts[others[n]], others[n])
			m.counted(text, n, table)
			return
		}
	}
	if digits, _, _ := strings.Cut(strings.SplitN(text, ".", 2)[0], "-"); named && reference(digits) && digitOf[table] == digits[0] { // both say the same
		m.counted(text, map[int]site.Notation{5: site.Ref5, 6: site.Ref6}[len(digits)], table)
		return
	}
	m.item.Fields["address"] = text
	if a, err := site.ParseAddress(text, site.Offset, ""); err == nil && crossed.MatchString(text) { // 4x0010 is the same everywhere
		m.item.Fields["address"] = a.String()
	}
	if named {
		if _, numbered := number(strings.SplitN(text, ".", 2)[0]); !reference(text) && (numbered || strings.HasPrefix(strings.ToLower(text), "0x") || strings.HasSuffix(strings.ToLower(text), "h")) {
			m.item.Fields["table"] = string(table)
		}
	}
}

// hexMarked is a hexadecimal number as assemblers, controllers and some languages mark it: $0064, 16#0064, &H64.
var hexMarked = regexp.MustCompile(`^(?:\$|16#|&[hH])([0-9a-fA-F]{1,4})$`)

// remarked is an address with a remark behind it, in brackets.
var remarked = regexp.MustCompile(`^(\S*\d\S*)\s*\(([^()\d]{1,16})\)$`)

// What a column of bits says of the register as a whole, and of several of its bits.
var (
	wholeRegister = regexp.MustCompile(`(?i)^(?:bits?\s*)?(?:0\s*(?:-|–|to|\.\.+)\s*15|15\s*(?:-|–|to|\.\.+)\s*0|all)$`)
	severalBits   = regexp.MustCompile(`\d\s*(?:-|–|to|\.\.+|,|;|&)\s*\d`)
)

// What the first register is called in two notations, one of which is often taken for the other.
var (
	firsts = map[site.Notation]string{site.Offset: "0", site.Number: "1"}
	others = map[site.Notation]site.Notation{site.Offset: site.Number, site.Number: site.Offset}
)

func (m *making) station() string { s, _ := m.item.Fields["station"].(string); return s }

func (m *making) protocol() site.Protocol { return m.options.protocol(m.station()) }

// memoryWord is an address of a controller's memory (IEC 61131-3, 6.5.5) that is a register wherever it is passed on: %MW10, and a bit of it, %MW10.3
// or %MW10:X3. What other sizes lie at differs between makes.
var (
	memoryWord = regexp.MustCompile(`(?i)^%MW(\d+)(?:(?:\.|:X)(\d{1,2}))?$`)
	memoryAny  = regexp.MustCompile(`(?i)^(?:%[IQM][XBWDLF]?\d|[IQMEA][BWD]\d|DB\d+\.?DB[XBWD]\d)`)
)

// iec makes an offset of an address of a controller's memory.
func (m *making) iec(text string) (string, bool) {
	if w := memoryWord.FindStringSubmatch(text); w != nil {
		m.once("addresses such as %%MW10 are offsets of holding registers, as controllers pass them on that say nothing else")
		if w[2] != "" {
			return "hr:" + w[1] + "." + w[2], true
		}
		return "hr:" + w[1], true
	}
	if memoryAny.MatchString(text) {
		m.fault("address", "%q is in the memory of a controller; at which register that is differs between makes: its manual, or its program, has the map. Write hr:0 or co:0", text)
		return "", false
	}
	return text, true
}

// index makes the address of a DNP3 point: of the number of its index, the kind stands beside it or in a title.
func (m *making) index(text string, plain func(string) (string, bool)) {
	if k := kindNumber.FindStringSubmatch(text); k != nil {
		if kind := kinds[strings.ToLower(k[1])]; kind != "" {
			n, _ := strconv.Atoi(k[2]) // of five digits at most
			m.item.Fields["address"] = fmt.Sprintf("%s:%d", kind, n)
			return
		}
	}
	digits := strings.TrimSuffix(text, ".0") // as a spreadsheet gives whole numbers
	if strings.Trim(digits, "0123456789") != "" {
		m.item.Fields["address"] = text
		return
	}
	faults := len(m.list.Faults)
	kind, named := m.table(site.DNP3, plain)
	delete(m.item.Fields, "table")
	switch {
	case named:
		m.item.Fields["address"] = fmt.Sprintf("%s:%s", kind, digits)
	case len(m.list.Faults) == faults: // else it is told what is wrong beside it
		m.fault("address", "%q names no kind of point: write ai:%s for an analog input, bi:, dbi:, bo:, ctr:, fctr:, ao: or os: for the others, or name the column that has the kind: --columns table=A", text, digits)
	}
}

// single reports whether the row says that its value is a single bit.
func (m *making) single() bool {
	k, err := m.known.kind(m.cells["type"], 0)
	return err == nil && k.t == codec.TypeBool
}

// table is that of the column beside, of the title above, or of the defaults.
func (m *making) table(of site.Protocol, plain func(string) (string, bool)) (site.Space, bool) {
	if text, ok := plain(colTable); ok {
		read := tableOf
		if of == site.DNP3 {
			read = kindOf
		}
		space, err := read(text)
		if err != nil {
			m.fault(colTable, "%s", err)
		}
		return space, err == nil
	}
	if s := m.sections[of]; s != "" {
		return s, true
	}
	text, _ := m.options.Defaults["table"].(string)
	return site.Space(text), text != ""
}

// digitOf is with what references to a table begin.
var digitOf = map[site.Space]byte{site.Coils: '0', site.DiscreteInputs: '1', site.InputRegisters: '3', site.HoldingRegisters: '4'}

// counted makes the address of a number in a notation, that of the list mostly.
func (m *making) counted(text string, notation site.Notation, table site.Space) {
	delete(m.item.Fields, "table")
	first, last, ranged := strings.Cut(text, "-")
	digits, part, parted := strings.Cut(strings.TrimSpace(first), ".")
	if table == "" && (notation == site.Offset || notation == site.Number || notation == site.Hex) && !strings.Contains(digits, ":") && !crossed.MatchString(digits) {
		table = site.HoldingRegisters
		if !m.untold {
			m.untold = true
			m.list.Notes = append(m.list.Notes, "no table is named, so that holding registers are meant; a column with the table or function says otherwise, or the default {table: ir}")
		}
	}
	marked := func(digits string) string {
		if m.hexed && bareHex.MatchString(digits) {
			return "0x" + digits
		}
		if n, err := strconv.ParseUint(digits, 10, 16); err == nil && m.outright && reference(digits) && table != "" {
			return fmt.Sprintf("%s:0x%X", table, n)
		}
		return digits
	}
	a, err := site.ParseAddress(marked(digits), notation, table)
	if err != nil {
		m.fault("address", "%s", err)
		return
	}
	offset := func(n uint16) string {
		if n >= 10_000 { // which may be taken for a reference
			return fmt.Sprintf("0x%X", n)
		}
		return strconv.Itoa(int(n))
	}
	address := fmt.Sprintf("%s:%s", a.Space, offset(a.Offset))
	if parted {
		address += "." + part
	} else if ranged {
		end, err := site.ParseAddress(marked(strings.TrimSpace(last)), notation, table)
		if err != nil || end.Space != a.Space || end.Offset < a.Offset {
			m.fault("address", "%q does not go from one address to a later one of the same table", text)
			return
		}
		if end.Offset > a.Offset {
			address += ".." + offset(end.Offset)
		}
	}
	m.item.Fields["address"] = address
}

// reference reports whether a number is a reference, which names its table by its first digit.
func reference(text string) bool {
	digits := strings.SplitN(text, ".", 2)[0]
	return (len(digits) == 5 || len(digits) == 6) && strings.ContainsRune("0134", rune(digits[0])) && strings.Trim(digits, "0123456789") == ""
}
