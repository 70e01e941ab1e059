package site

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/core/codec"
)

// Space is the part of a station that an address counts in: one of the four Modbus tables
// (MODBUS Application Protocol V1.1b3, 4.3) or a DNP3 point type.
type Space string

// The spaces.
const (
	Coils            Space = "co"
	DiscreteInputs   Space = "di"
	InputRegisters   Space = "ir"
	HoldingRegisters Space = "hr"

	BinaryInputs    Space = "bi"
	DoubleBitInputs Space = "dbi"
	BinaryOutputs   Space = "bo"
	Counters        Space = "ctr"
	FrozenCounters  Space = "fctr"
	AnalogInputs    Space = "ai"
	AnalogOutputs   Space = "ao"
	OctetStrings    Space = "os"
)

type spaceTraits struct {
	space    Space
	name     string // of one, in words
	protocol Protocol
	register bool
	output   bool // can be written
	digit    byte // leading digit of a reference number
	read     byte // Modbus function that reads it
}

var spaces = [...]spaceTraits{
	{Coils, "coil", Modbus, false, true, '0', 1},
	{DiscreteInputs, "discrete input", Modbus, false, false, '1', 2},
	{InputRegisters, "input register", Modbus, true, false, '3', 4},
	{HoldingRegisters, "holding register", Modbus, true, true, '4', 3},
	{BinaryInputs, "binary input", DNP3, false, false, 0, 0},
	{DoubleBitInputs, "double-bit input", DNP3, false, false, 0, 0},
	{BinaryOutputs, "binary output", DNP3, false, true, 0, 0},
	{Counters, "counter", DNP3, false, false, 0, 0},
	{FrozenCounters, "frozen counter", DNP3, false, false, 0, 0},
	{AnalogInputs, "analog input", DNP3, false, false, 0, 0},
	{AnalogOutputs, "analog output", DNP3, false, true, 0, 0},
	{OctetStrings, "octet string", DNP3, false, false, 0, 0},
}

func (s Space) traits() spaceTraits {
	for _, t := range spaces {
		if t.space == s {
			return t
		}
	}
	return spaceTraits{space: s, name: string(s)}
}

// Known reports whether s is one of the spaces.
func (s Space) Known() bool { return s.traits().protocol != "" }

// Protocol says which protocol s belongs to; "" when s is unknown.
func (s Space) Protocol() Protocol { return s.traits().protocol }

// Registers reports whether s is made of 16-bit registers.
func (s Space) Registers() bool { return s.traits().register }

// Output reports whether s can be written.
func (s Space) Output() bool { return s.traits().output }

// Name says what one of s is in words: holding register.
func (s Space) Name() string { return s.traits().name }

// Part says which part of a register an address means.
type Part uint8

// The parts; Bit makes further ones.
const (
	Whole    Part = 0
	LowByte  Part = 17
	HighByte Part = 18

	Deadband   Part = 19 // of a DNP3 analog input
	EventClass Part = 20 // of a DNP3 point
)

// Bit is the part that is one bit of a register, 0 (least significant) to 15.
func Bit(n int) Part { return Part(n + 1) }

// Bit returns the number of a part made by Bit.
func (p Part) Bit() (n int, ok bool) { return int(p) - 1, p >= 1 && p <= 16 }

// Meets reports whether two parts of one register have a bit in common.
func (p Part) Meets(q Part) bool { return p.mask()&q.mask() != 0 }

func (p Part) mask() uint16 {
	switch {
	case p == LowByte:
		return 0x00FF
	case p == HighByte:
		return 0xFF00
	case p >= 1 && p <= 16:
		return 1 << (p - 1)
	}
	return 0xFFFF
}

func (p Part) String() string {
	switch {
	case p == LowByte:
		return ".low"
	case p == HighByte:
		return ".high"
	case p == Deadband:
		return ".deadband"
	case p == EventClass:
		return ".class"
	case p >= 1 && p <= 16:
		return "." + strconv.Itoa(int(p)-1)
	}
	return ""
}

// Address is where a point lives in its station: for Modbus a table and the zero-based offset as on the wire,
// for DNP3 a point type and an index; both 0 to 65535.
type Address struct {
	Space  Space
	Offset uint16
	Part   Part
}

// BitNumbering is how a station's manual counts the bits of a register.
type BitNumbering string

// The numberings: whether the first bit is 0 or 1, and the least or the most significant. The zero is LSB0, that of
// canonical addresses.
const (
	LSB0 BitNumbering = "lsb0"
	LSB1 BitNumbering = "lsb1"
	MSB0 BitNumbering = "msb0"
	MSB1 BitNumbering = "msb1"
)

// BitNumberings lists all numberings.
var BitNumberings = [...]BitNumbering{LSB0, LSB1, MSB0, MSB1}

// first is the number of the first bit.
func (b BitNumbering) first() int {
	if b == LSB1 || b == MSB1 {
		return 1
	}
	return 0
}

// turn gives the number of a bit as b counts for one as LSB0 counts, and the other way round.
func (b BitNumbering) turn(bit int) int {
	switch b {
	case MSB0:
		return 15 - bit
	case MSB1:
		return 16 - bit
	}
	return bit
}

// shown is the number that b gives to bit n of LSB0.
func (b BitNumbering) shown(n int) int {
	if b == LSB1 {
		return n + 1
	}
	return b.turn(n)
}

// bit is the bit of LSB0 that b gives the number n.
func (b BitNumbering) bit(n int) (int, bool) {
	lsb := b.turn(n)
	if b == LSB1 {
		lsb = n - 1
	}
	return lsb, lsb >= 0 && lsb <= 15
}

// Convention is how a station's manual writes addresses. The zero Convention is that of canonical addresses.
type Convention struct {
	Notation Notation
	Bits     BitNumbering
}

// String gives the canonical form: hr:9, hr:9.3, hr:9.low, ai:3.
func (a Address) String() string {
	if a.Space == "" {
		return ""
	}
	return string(a.Space) + ":" + strconv.Itoa(int(a.Offset)) + a.Part.String()
}

// MarshalText writes the canonical form.
func (a Address) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalText reads the canonical form.
func (a *Address) UnmarshalText(b []byte) error {
	if len(b) == 0 {
		*a = Address{}
		return nil
	}
	parsed, err := ParseAddress(string(b), Offset, "")
	if err == nil {
		*a = parsed
	}
	return err
}

// Notation is how a station's manual counts plain numbers.
type Notation string

// The notations. The zero Notation is Offset.
const (
	Offset Notation = "offset" // 10 is offset 10
	Number Notation = "number" // 10 is the tenth: offset 9
	Ref5   Notation = "ref5"   // 40010 is hr:9
	Ref6   Notation = "ref6"   // 400010 is hr:9
	Hex    Notation = "hex"    // 0x10 is offset 16, and is written so
)

// Notations lists all notations.
var Notations = [...]Notation{Offset, Number, Ref5, Ref6, Hex}

// Format writes a in a convention: a reference number for Ref5 and Ref6 (in six digits where five do not reach), an offset in hex for Hex,
// otherwise the canonical form, with bits as the convention counts them. Convention.Parse reads it back.
func (a Address) Format(c Convention) string {
	part := a.Part.String()
	if bit, ok := a.Part.Bit(); ok {
		part = "." + strconv.Itoa(c.Bits.shown(bit))
	}
	a.Part = Whole
	digit := a.Space.traits().digit
	if digit != 0 && c.Notation == Hex {
		return fmt.Sprintf("%s:0x%04X%s", a.Space, a.Offset, part)
	}
	if digit == 0 || c.Notation != Ref5 && c.Notation != Ref6 {
		return a.String() + part
	}
	width := 5
	if c.Notation == Ref5 && a.Offset < 9999 {
		width = 4
	}
	return fmt.Sprintf("%c%0*d%s", digit, width, int(a.Offset)+1, part)
}

// Meaning says an address in words: holding register, offset 9 (0x0009), the 10th; 40010, 400010 as a reference.
func (a Address) Meaning() string {
	if a.Space.Protocol() != Modbus {
		of := map[Part]string{Deadband: "deadband of ", EventClass: "event class of "}[a.Part]
		return fmt.Sprintf("%s%s, index %d", of, a.Space.Name(), a.Offset)
	}
	whole := Address{Space: a.Space, Offset: a.Offset}
	part := ""
	if bit, ok := a.Part.Bit(); ok {
		part = fmt.Sprintf("bit %d of ", bit)
	} else if a.Part != Whole {
		part = strings.TrimPrefix(a.Part.String(), ".") + " byte of "
	}
	return fmt.Sprintf("%s%s, offset %d (0x%04X) on the wire, number %d, reference %s, read by function %d",
		part, a.Space.Name(), a.Offset, a.Offset, int(a.Offset)+1, whole.Format(Convention{Notation: Ref5}), a.Space.traits().read)
}

// ParseAddress reads what a person typed in notation n, with bits counted as in canonical addresses.
func ParseAddress(text string, n Notation, chosen Space) (Address, error) {
	return Convention{Notation: n}.Parse(text, chosen)
}

// Parse reads what a person typed in convention c. With a space in front (hr:9, ai:3) the number is canonical:
// zero-based, as on the wire, whatever the notation. A plain number is read in the notation; its table comes from its
// leading digit or is chosen. Hex is 0x3100 or 3100h; 30,009 and 4x2833 are read as manuals print them. A suffix names a part of a register: .low, .high, or a bit as c
// counts them, .0 to .15 unless it says otherwise. A number with two possible readings is an error that shows both.
func (c Convention) Parse(text string, chosen Space) (Address, error) {
	n := c.Notation
	typed := strings.TrimSpace(text)
	if typed == "" {
		return Address{}, fmt.Errorf("is empty: type an address such as hr:9 or 40010")
	}
	if chosen != "" && !chosen.Known() {
		return Address{}, fmt.Errorf("table %q is unknown: choose co, di, ir or hr", chosen)
	}
	digits, part, err := cutPart(typed, c.Bits)
	if err != nil {
		return Address{}, err
	}
	space, digits, prefixed := cutSpace(digits)
	if prefixed && !space.Known() {
		return Address{}, fmt.Errorf("%q: %q is no table: use co (coils), di (discrete inputs), ir (input registers) or hr (holding registers); for DNP3 bi, dbi, bo, ctr, fctr, ai, ao or os", typed, string(space))
	}
	if prefixed && chosen != "" && chosen != space {
		return Address{}, fmt.Errorf("%q names a %s, but the table chosen is %s (%s)", typed, space.Name(), chosen, chosen.Name())
	}
	var a Address
	if m := crossed.FindStringSubmatch(digits); m != nil && !prefixed {
		a, err = printed(typed, m[1][0], m[2], chosen)
	} else {
		if !prefixed {
			digits = ungrouped(digits)
		}
		number, hex, fault := parseNumber(digits)
		switch {
		case fault != nil && digits == typed:
			err = fault
		case fault != nil:
			err = fmt.Errorf("%q: %w", typed, fault)
		case prefixed:
			a, err = canonical(typed, space, digits, number, hex, n)
		default:
			a, err = plain(typed, digits, number, hex, n, chosen)
		}
	}
	if err != nil {
		return Address{}, err
	}
	a.Part = part
	if part != Whole && !a.has(part) {
		return Address{}, fmt.Errorf("%q: %s has no parts; %s belongs to registers", typed, a.Space.Name(), part)
	}
	return a, nil
}

// has reports whether the space of a has such parts.
func (a Address) has(part Part) bool {
	switch part {
	case Deadband:
		return a.Space == AnalogInputs
	case EventClass:
		return a.Space.Protocol() == DNP3
	}
	return a.Space.Registers()
}

// Writable reports whether what is at an address can be written at all.
func (a Address) Writable() bool {
	return a.Part == Deadband || a.Part == EventClass || a.Space.Output()
}

// cutSpace splits hr:9 into its space and its number.
func cutSpace(s string) (Space, string, bool) {
	before, after, found := strings.Cut(s, ":")
	if !found {
		return "", s, false
	}
	return Space(strings.ToLower(strings.TrimSpace(before))), strings.TrimSpace(after), true
}

// cutPart splits off .3, .low or .high.
func cutPart(s string, numbering BitNumbering) (string, Part, error) {
	number, suffix, found := strings.Cut(s, ".")
	if !found {
		return s, Whole, nil
	}
	switch strings.ToLower(suffix) {
	case "low":
		return number, LowByte, nil
	case "high":
		return number, HighByte, nil
	case "deadband":
		return number, Deadband, nil
	case "class":
		return number, EventClass, nil
	}
	typed, err := strconv.ParseUint(suffix, 10, 8)
	bit, ok := numbering.bit(int(typed))
	if err != nil || !ok {
		first := numbering.first()
		return "", Whole, fmt.Errorf("%q: after the point comes a bit, %d to %d, or low or high for a byte", s, first, first+15)
	}
	return number, Bit(bit), nil
}

var (
	grouped = regexp.MustCompile(`^\d{1,3}(,\d{3})+$`)
	crossed = regexp.MustCompile(`^([134])[xX](\d{1,5})$`)
)

// ungrouped takes the commas out of a number that is printed in groups of three digits: 30,009.
func ungrouped(digits string) string {
	if grouped.MatchString(digits) {
		return strings.ReplaceAll(digits, ",", "")
	}
	return digits
}

// printed reads a reference as some manuals print it, with an x behind the digit of its table: 4x2833. That it begins with 0 (coils) would be
// hex.
func printed(typed string, table byte, digits string, chosen Space) (Address, error) {
	number, _ := strconv.Atoi(digits)
	if number < 1 || number > 0x10000 {
		return Address{}, fmt.Errorf("%q: behind the x the numbers go from 1 to 65536", typed)
	}
	at := slices.IndexFunc(spaces[:], func(t spaceTraits) bool { return t.digit == table }) // crossed takes no other digits
	space := spaces[at].space
	if chosen != "" && chosen != space {
		return Address{}, fmt.Errorf("%q contradicts its table: it is a %s, but the table chosen is %s (%s)", typed, space.Name(), chosen, chosen.Name())
	}
	return Address{Space: space, Offset: uint16(number - 1)}, nil
}

func parseNumber(s string) (n uint64, hex bool, err error) {
	digits, base := s, 10
	lower := strings.ToLower(s)
	if rest, ok := strings.CutPrefix(lower, "0x"); ok {
		digits, base = rest, 16
	} else if rest, ok := strings.CutSuffix(lower, "h"); ok {
		digits, base = rest, 16
	}
	n, err = strconv.ParseUint(digits, base, 32)
	if err != nil {
		return 0, false, fmt.Errorf("%q is no number: use decimal digits, or hex as 0x3100 or 3100h", s)
	}
	return n, base == 16, nil
}

// canonical reads the number after a prefix. In a station that counts in references, a number that looks like one
// is not taken as an offset in silence.
func canonical(typed string, space Space, digits string, number uint64, hex bool, n Notation) (Address, error) {
	ref, isRef := reference(digits, number)
	if !hex && isRef && space.Protocol() == Modbus && (number > 0xFFFF || n == Ref5 || n == Ref6) && digits[0] != '0' {
		if ref.Space != space {
			offset := ""
			if number <= 0xFFFF {
				offset = fmt.Sprintf("; for offset %d write %s:0x%X", number, space, number)
			}
			return Address{}, fmt.Errorf("%q contradicts itself: the reference %s is a %s (%s), but %s: says %s%s",
				typed, digits, ref.Space.Name(), ref, space, space.Name(), offset)
		}
		if number <= 0xFFFF {
			return Address{}, fmt.Errorf("%q is ambiguous: as a reference it is %s, as an offset %s:0x%X; write one of these",
				typed, ref, space, number)
		}
		return ref, nil
	}
	if number > 0xFFFF {
		return Address{}, fmt.Errorf("%q: offset %d is out of range: 0 to 65535", typed, number)
	}
	return Address{Space: space, Offset: uint16(number)}, nil
}

// Ambiguity says that a number may mean several addresses.
type Ambiguity struct {
	Typed    string
	Readings []Address // the likeliest first
	Why      string    // why it is none by itself, in words
	notation Notation
}

func (a *Ambiguity) Error() string {
	all := make([]string, len(a.Readings))
	for i, r := range a.Readings {
		all[i] = unambiguous(r, a.notation)
		if digit := r.Space.traits().digit; digit != 0 && (a.notation == Ref5 || a.notation == Ref6) {
			all[i] += " (" + r.Format(Convention{Notation: a.notation}) + ")"
		}
	}
	last := len(all) - 1
	return fmt.Sprintf("%q %s: it may be %s or %s; write the one that is meant", a.Typed, a.Why, strings.Join(all[:last], ", "), all[last])
}

// For is a with the readings first that a value of a type can have.
func (a *Ambiguity) For(t codec.Type) *Ambiguity {
	fits := func(r Address) bool { return t == "" || r.Space.Registers() == (t != codec.TypeBool) }
	sorted := *a
	sorted.Readings = slices.Clone(a.Readings)
	slices.SortStableFunc(sorted.Readings, func(x, y Address) int {
		switch {
		case fits(x) == fits(y):
			return 0
		case fits(x):
			return -1
		}
		return 1
	})
	return &sorted
}

// inEach are the addresses of an offset in the tables, the usual one first.
func inEach(offset uint64) (list []Address) {
	for _, space := range []Space{HoldingRegisters, InputRegisters, Coils, DiscreteInputs} {
		list = append(list, Address{Space: space, Offset: uint16(offset)})
	}
	return list
}

// plain reads a number without a prefix.
func plain(typed, digits string, number uint64, hex bool, n Notation, chosen Space) (Address, error) {
	var readings []Address
	add := func(a Address) {
		for _, r := range readings {
			if r == a {
				return
			}
		}
		readings = append(readings, a)
	}
	ref, isRef := reference(digits, number)
	isRef = isRef && !hex
	switch n {
	case Ref5, Ref6:
		if hex {
			break
		}
		width := map[Notation]int{Ref5: 5, Ref6: 6}[n]
		if len(digits) < width && number >= 1 && number <= 9999 {
			if chosen != "" {
				return Address{}, &Ambiguity{typed, []Address{{Space: chosen, Offset: uint16(number - 1)}, {Space: chosen, Offset: uint16(number)}}, fmt.Sprintf("has fewer digits than the %d of a reference", width), n}
			}
			// It may be a reference whose leading zeros were lost, a number of some table, or an offset.
			return Address{}, &Ambiguity{typed, inEach(number - 1), fmt.Sprintf("has fewer digits than the %d of a reference", width), n}
		}
		if n == Ref6 && len(digits) == 5 && number >= 10000 && number <= 65536 {
			add(Address{Space: Coils, Offset: uint16(number - 1)})
		}
		if isRef {
			add(ref)
		}
		if len(readings) == 0 {
			if ref, beyond := beyondEnd(digits, number); beyond {
				return Address{}, fmt.Errorf("%q is out of range: the references of %ss end with %s", typed, ref.Space.Name(), ref.Format(Convention{Notation: Ref6}))
			}
			return Address{}, fmt.Errorf("%q is no reference number: %s has %d digits, led by 0 (coils), 1 (discrete inputs), 3 (input registers) or 4 (holding registers), and counts from 1",
				typed, n, width)
		}
	case Hex:
		switch {
		case isRef && number <= 0xFFFF:
			return Address{}, fmt.Errorf("%q is ambiguous: as a reference it is %s, as a decimal offset its table is not named; write %s or hr:%d", typed, ref, ref, number)
		case isRef:
			add(ref)
		case hex && chosen != "" && number <= 0xFFFF:
			add(Address{Space: chosen, Offset: uint16(number)})
		case !hex && chosen != "" && number > 9 && number <= 0xFFFF:
			as16, err := strconv.ParseUint(digits, 16, 16)
			if err != nil {
				return Address{}, fmt.Errorf("%q: this station's offsets are in hex; write %s:0x%X, if that is meant", typed, chosen, number)
			}
			return Address{}, &Ambiguity{typed, []Address{{Space: chosen, Offset: uint16(as16)}, {Space: chosen, Offset: uint16(number)}}, "does not say whether it is hex", n}
		case chosen != "" && number <= 9:
			add(Address{Space: chosen, Offset: uint16(number)})
		}
	default:
		if isRef {
			add(ref)
		}
		first := uint64(0)
		if n == Number {
			first = 1
		}
		switch {
		case number < first:
			return Address{}, fmt.Errorf("%q: numbers count from 1 in this station's notation", typed)
		case number-first <= 0xFFFF && chosen != "":
			add(Address{Space: chosen, Offset: uint16(number - first)})
		case number-first <= 0xFFFF && isRef:
			return Address{}, fmt.Errorf("%q is ambiguous: as a reference it is %s, as %s it is offset %d of a table not named; write %s or hr:%d",
				typed, ref, article(n), number-first, ref, number-first)
		}
	}
	if len(readings) == 2 {
		return Address{}, &Ambiguity{typed, readings, "is ambiguous", n}
	}
	if len(readings) == 1 {
		if chosen != "" && readings[0].Space != chosen {
			return Address{}, fmt.Errorf("%q contradicts its table: it is a %s (%s), but the table chosen is %s (%s)",
				typed, readings[0].Space.Name(), readings[0], chosen, chosen.Name())
		}
		return readings[0], nil
	}
	if ref, beyond := beyondEnd(digits, number); beyond && !hex {
		return Address{}, fmt.Errorf("%q is out of range: as a reference it would be %s %d, and the last one is %s (65536)", typed, ref.Space.Name(), number%100000, ref.Format(Convention{Notation: Ref6}))
	}
	if number > 0x10000 {
		return Address{}, fmt.Errorf("%q is out of range: offsets go from 0 to 65535", typed)
	}
	if hex && chosen != "" && number <= 0xFFFF {
		return Address{Space: chosen, Offset: uint16(number)}, nil
	}
	return Address{}, fmt.Errorf("%q names no table: write hr:%s for a holding register, ir:, co: or di: for the others", typed, digits)
}

// beyondEnd reports whether digits would be a reference if its table were longer, and gives the last of that table.
func beyondEnd(digits string, number uint64) (last Address, is bool) {
	if len(digits) != 6 || number%100000 <= 0x10000 {
		return Address{}, false
	}
	for _, t := range spaces {
		if t.digit != 0 && t.digit == digits[0] {
			return Address{Space: t.space, Offset: 0xFFFF}, true
		}
	}
	return Address{}, false
}

func article(n Notation) string {
	if n == Number {
		return "a number"
	}
	return "an offset"
}

// unambiguous writes a so that ParseAddress in notation n reads it as a.
func unambiguous(a Address, n Notation) string {
	if back, err := ParseAddress(a.String(), n, ""); err == nil && back == a {
		return a.String()
	}
	return fmt.Sprintf("%s:0x%X", a.Space, a.Offset)
}

// reference reads digits as a five- or six-digit reference number: table digit, then a number from 1.
func reference(digits string, number uint64) (Address, bool) {
	var table, count uint64
	switch len(digits) {
	case 5:
		table, count = number/10000, number%10000
	case 6:
		table, count = number/100000, number%100000
	default:
		return Address{}, false
	}
	if count == 0 || count > 0x10000 {
		return Address{}, false
	}
	for _, t := range spaces {
		if t.digit != 0 && uint64(t.digit-'0') == table {
			return Address{Space: t.space, Offset: uint16(count - 1)}, true
		}
	}
	return Address{}, false
}
