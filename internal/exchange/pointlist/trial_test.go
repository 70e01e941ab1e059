package pointlist

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// A trial of lists: points made at random are written down in one of the ways people and manuals do, and read again. What comes back is what was
// written, or the list is refused. TRIAL_LISTS changes how many there are.

// noted is a point of a trial, and what a list says of it.
type noted struct {
	name     string
	address  site.Address
	typ      codec.Type
	length   int
	order    codec.Order
	factor   float64
	raw, eng *[2]float64
	unit     string
	writable bool
	states   []string
}

// typeWords are the types by what lists call them.
var typeWords = map[codec.Type][]string{
	codec.TypeBool:    {"BOOL", "Bit", "boolean"},
	codec.TypeInt16:   {"INT16", "INT", "S16", "Signed 16 bit", "int16", "Entier signé 16 bits", "Short"},
	codec.TypeUint16:  {"UINT16", "WORD", "U16", "Unsigned int", "uint16", "16 bit unsigned", "Ganzzahl ohne Vorzeichen 16"},
	codec.TypeInt32:   {"INT32", "DINT", "S32", "Signed long", "int32", "32 bit signed"},
	codec.TypeUint32:  {"UINT32", "UDINT", "DWORD", "U32", "uint32", "unsigned long", "32 bit unsigned"},
	codec.TypeFloat32: {"FLOAT", "REAL", "Float32", "IEEE 754", "32 bit float", "single"},
	codec.TypeFloat64: {"DOUBLE", "LREAL", "float64"},
	codec.TypeString:  {"STRING", "ASCII", "CHAR"},
}

// inLanguages are headings: tag, address, type, factor, unit, access, description, order, states.
var inLanguages = [][]string{
	{"Tag", "Register", "Data type", "Multiplier", "Unit", "R/W", "Description", "Byte order", "Values"},
	{"Signal", "Modbus address", "Format", "Factor", "Eng. unit", "Access", "Remarks", "Word order", "Enumeration"},
	{"Name", "Adresse", "Datentyp", "Faktor", "Einheit", "Zugriff", "Bemerkung", "Reihenfolge", "Zustände"},
	{"Nom", "Adresse registre", "Type de données", "Facteur", "Unité", "Accès", "Commentaire", "Ordre des mots", "États"},
	{"Nombre", "Dirección", "Tipo de dato", "Multiplicador", "Unidad", "Acceso", "Comentario", "Swap", "Estados"},
}

var orderWords = map[codec.Order][]string{
	codec.ABCD: {"ABCD", "big endian", "high word first", "1234"}, codec.CDAB: {"CDAB", "word swapped", "low word first", "LSW first", "3412"},
	codec.BADC: {"BADC", "byte swapped", "2143"}, codec.DCBA: {"DCBA", "4321"},
}

func pick[T any](r *rand.Rand, of ...T) T { return of[r.IntN(len(of))] }

// someNoted makes points at addresses beside each other, and with gaps, of one table for registers and perhaps one for bits.
func someNoted(r *rand.Rand, zero bool) (list []noted) {
	table := pick(r, site.HoldingRegisters, site.InputRegisters)
	at := r.IntN(300)
	if zero {
		at = 0
	}
	names := []string{"Flow", "Level", "Supply temperature", "Return temperature", "Pump speed", "Power", "Energy total", "Valve position", "Inlet pressure", "Operating hours", "Alarm word", "Mode", "Setpoint", "Serial number"}
	r.Shuffle(len(names), func(i, k int) { names[i], names[k] = names[k], names[i] })
	for _, name := range names[:3+r.IntN(9)] {
		w := noted{name: name, address: site.Address{Space: table, Offset: uint16(at)}, factor: 1}
		w.typ = pick(r, codec.TypeInt16, codec.TypeUint16, codec.TypeUint16, codec.TypeInt32, codec.TypeUint32, codec.TypeFloat32, codec.TypeFloat32, codec.TypeFloat64, codec.TypeString)
		switch w.typ {
		case codec.TypeString:
			w.length = 2 * (1 + r.IntN(10))
		case codec.TypeInt16, codec.TypeUint16, codec.TypeInt32, codec.TypeUint32:
			if w.factor = pick(r, 1, 1, 0.1, 0.01, 0.5, 0.001); r.IntN(8) == 0 {
				w.factor, w.raw, w.eng = 1, &[2]float64{0, 27648}, &[2]float64{0, pick(r, 2.5, 100, 16)}
			}
		}
		if w.typ != codec.TypeString {
			w.unit = pick(r, "", "m³/h", "°C", "bar", "kW", "%", "rpm", "kWh")
		}
		if w.typ == codec.TypeUint16 && w.raw == nil && r.IntN(3) == 0 {
			w.factor, w.unit, w.states = 1, "", pick(r, []string{"off", "on"}, []string{"off", "manual", "automatic"})
		}
		words := (codec.Layout{Type: w.typ, Length: w.length}).Words()
		if words > 1 && w.typ != codec.TypeString {
			w.order = pick(r, "", "", codec.ABCD, codec.CDAB, codec.BADC, codec.DCBA)
		}
		w.writable = table == site.HoldingRegisters && r.IntN(3) == 0
		list = append(list, w)
		at += words + pick(r, 0, 0, 0, 1, 7)
	}
	return list
}

// printed is a list of points, as somebody has written it.
type printed struct {
	rows    [][]string
	above   []string // lines above the headings
	options Options
	file    string // "" where it cannot be written so
}

// print writes points down in one of many ways.
func print(r *rand.Rand, list []noted, zero bool) (p printed) {
	comma := r.IntN(3) == 0
	num := func(f float64) string {
		text := strconv.FormatFloat(f, 'f', -1, 64)
		if comma {
			text = strings.Replace(text, ".", ",", 1)
		}
		return text
	}
	h := inLanguages[r.IntN(len(inLanguages))]
	p.options.Station = "plc"
	// How addresses are written.
	counts := pick(r, "ref5", "ref6", "crossed", "hex", "bare hex", "based 1", "based 0", "canonical", "said")
	if zero && r.IntN(2) == 0 {
		counts = "zero"
	}
	heading, table := h[1], ""
	switch counts {
	case "bare hex":
		heading += " (hex)"
	case "based 1":
		heading += " (1-based)"
	case "based 0":
		heading += " (0-based)"
	case "said":
		p.options.Notation = site.Number
	}
	named := counts != "ref5" && counts != "ref6" && counts != "crossed" && counts != "canonical"
	if named {
		switch space := list[0].address.Space; pick(r, "column", "title", "function") {
		case "column":
			table = map[site.Space]string{site.HoldingRegisters: "Holding register", site.InputRegisters: "Input register"}[space]
		case "function":
			table = map[site.Space]string{site.HoldingRegisters: "3", site.InputRegisters: "4"}[space]
		default:
			p.above = append(p.above, map[site.Space]string{site.HoldingRegisters: "Holding Registers", site.InputRegisters: "Input registers (FC04)"}[space])
		}
	}
	address := func(w noted) string {
		n, digit := int(w.address.Offset), map[site.Space]string{site.HoldingRegisters: "4", site.InputRegisters: "3"}[w.address.Space]
		last := n + (codec.Layout{Type: w.typ, Length: w.length}).Words() - 1
		switch counts {
		case "ref5":
			if text := fmt.Sprintf("%s%04d", digit, n+1); last > n && r.IntN(6) == 0 {
				return fmt.Sprintf("%s-%s%04d", text, digit, last+1)
			} else {
				return text
			}
		case "ref6":
			return fmt.Sprintf("%s%05d", digit, n+1)
		case "crossed":
			return fmt.Sprintf("%sx%04d", digit, n+1)
		case "hex":
			return fmt.Sprintf("0x%04X", n)
		case "bare hex":
			return fmt.Sprintf("%04X", n)
		case "based 1", "said":
			return strconv.Itoa(n + 1)
		case "canonical":
			return w.address.String()
		}
		return strconv.Itoa(n)
	}
	orderIn := pick(r, "type", "column")
	scaled := pick(r, "factor", "divisor", "step", "equation")
	unitIn, sizes, signs := pick(r, "column", "name"), pick(r, "", "", "words", "octets", "bits"), false
	columns := []string{pick(r, "tag", "description"), "address", "type", "factor", "unit", "access"}
	if sizes != "" {
		columns = append(columns, "size")
		if signs = r.IntN(2) == 0; signs {
			columns = append(columns, "signed")
		}
	}
	if table != "" {
		columns = append(columns, "table")
	}
	ranges := false
	for _, w := range list {
		ranges = ranges || w.raw != nil
	}
	if ranges {
		columns = append(columns, "raw min", "raw max", "eng min", "eng max")
	}
	if orderIn == "column" {
		columns = append(columns, "order")
	}
	columns = append(columns, "states")
	if unitIn == "name" {
		columns[4] = "nothing"
	}
	if r.IntN(2) == 0 {
		r.Shuffle(len(columns), func(i, k int) { columns[i], columns[k] = columns[k], columns[i] })
	}
	title := map[string]string{"tag": h[0], "address": heading, "type": h[2], "factor": h[3], "unit": h[4], "access": h[5], "table": pick(r, "Table", "Function code", "Fonction"), "raw min": "Raw min", "raw max": "Raw max", "eng min": "Eng min", "eng max": "Eng max", "order": h[7], "states": h[8], "nothing": "Default",
		"description": h[6], "signed": "Signed", "size": map[string]string{"words": pick(r, "Length", "Registers", "Words"), "octets": pick(r, "Length", "Bytes", "Size (bytes)"), "bits": pick(r, "Size", "Bits", "Länge [Bit]")}[sizes]}
	switch scaled {
	case "divisor":
		title["factor"] = "Divisor"
	case "step", "equation":
		title["factor"] = "Resolution"
	}
	row := func(cell func(column string) string) (cells []string) {
		for _, c := range columns {
			cells = append(cells, cell(c))
		}
		return cells
	}
	p.rows = append(p.rows, row(func(c string) string { return title[c] }))
	for i, w := range list {
		words := (codec.Layout{Type: w.typ, Length: w.length}).Words()
		typ := pick(r, typeWords[w.typ]...)
		if whole, is := general[w.typ]; is && sizes != "" && sizeShows(list) {
			if typ = whole; signs && w.typ != codec.TypeFloat32 {
				typ = "Integer"
			}
		}
		if w.typ == codec.TypeString {
			typ = fmt.Sprintf(pick(r, "%s %d", "%s(%d)", "%s[%d]"), typ, w.length)
		}
		if w.order != "" && orderIn == "type" {
			typ = fmt.Sprintf(pick(r, "%s %s", "%s (%s)"), typ, pick(r, orderWords[w.order][:len(orderWords[w.order])-1]...))
		}
		p.rows = append(p.rows, row(func(c string) string {
			switch c {
			case "size":
				return strconv.Itoa(words * map[string]int{"words": 1, "octets": 2, "bits": 16}[sizes])
			case "signed":
				if w.typ == codec.TypeInt16 || w.typ == codec.TypeInt32 {
					return pick(r, "yes", "signed")
				} else if w.typ == codec.TypeUint16 || w.typ == codec.TypeUint32 {
					return pick(r, "no", "unsigned")
				}
			case "tag", "description":
				if unitIn == "name" && w.unit != "" {
					return w.name + " [" + w.unit + "]"
				}
				return w.name
			case "address":
				return address(w)
			case "type":
				return typ
			case "unit":
				return w.unit
			case "table":
				return table
			case "access":
				return map[bool][]string{true: {"R/W", "RW", "Read/Write", "RW"}, false: {"R", "RO", "Read", "R"}}[w.writable][r.IntN(4)]
			case "factor":
				switch {
				case w.typ == codec.TypeString || w.raw != nil || w.factor == 1 && r.IntN(2) == 0:
					return pick(r, "", "-")
				case scaled == "divisor":
					return num(1 / w.factor)
				case scaled == "step" && w.unit != "":
					return num(w.factor) + " " + w.unit
				case scaled == "equation":
					return "1 = " + num(w.factor)
				}
				return pick(r, "", "x") + num(w.factor)
			case "raw min", "raw max":
				if w.raw != nil {
					return num(w.raw[map[string]int{"raw max": 1}[c]])
				}
			case "eng min", "eng max":
				if w.eng != nil {
					return num(w.eng[map[string]int{"eng max": 1}[c]])
				}
			case "order":
				if w.order != "" {
					return pick(r, orderWords[w.order]...)
				}
			case "states":
				var parts []string
				for n, s := range w.states {
					parts = append(parts, fmt.Sprintf("%d=%s", n, s))
				}
				return strings.Join(parts, "/")
			}
			return ""
		}))
		noise(r, &p, columns, i)
	}
	p.file = p.form(r, comma)
	return p
}

// general are types that a size beside them makes particular.
var general = map[codec.Type]string{codec.TypeInt16: "Signed", codec.TypeInt32: "Signed", codec.TypeUint16: "Unsigned", codec.TypeUint32: "Unsigned", codec.TypeFloat32: "Float"}

// sizeShows reports whether the unit of sizes can be told: a text, or registers that are followed by others at once.
func sizeShows(list []noted) bool {
	for i, w := range list[:len(list)-1] {
		words := (codec.Layout{Type: w.typ, Length: w.length}).Words()
		if int(list[i+1].address.Offset) == int(w.address.Offset)+words {
			return true
		}
	}
	return false
}

// noise adds rows that are no points: what is reserved, the headings again, and what stands at the foot of a page.
func noise(r *rand.Rand, p *printed, columns []string, i int) {
	blank := make([]string, len(columns))
	switch r.IntN(12) {
	case 0:
		for k, c := range columns {
			if c == "tag" || c == "description" {
				blank[k] = pick(r, "Reserved", "spare", "nicht belegt")
			} else if c == "address" {
				blank[k] = p.rows[len(p.rows)-1][k]
			}
		}
		p.rows = append(p.rows, blank)
	case 1:
		if i > 0 {
			p.rows = append(p.rows, p.rows[0])
		}
	case 2:
		blank[0] = pick(r, "* held while the supply fails", "(1) from version 2.0 on", "Page 7 of 12", "Note: see chapter 4")
		p.rows = append(p.rows, blank)
	}
}

// form makes a file of rows.
func (p printed) form(r *rand.Rand, comma bool) string {
	lines := append([]string{}, p.above...)
	switch form := r.IntN(4); {
	case form == 0 && !comma:
		for _, cells := range p.rows {
			lines = append(lines, strings.Join(cells, ","))
		}
	case form == 1:
		for i, cells := range p.rows {
			lines = append(lines, "| "+strings.Join(cells, " | ")+" |")
			if i == 0 {
				lines = append(lines, strings.Repeat("|---", len(cells))+"|")
			}
		}
	case form == 2: // a page
		widths := make([]int, len(p.rows[0]))
		for _, cells := range p.rows {
			for i, c := range cells {
				widths[i] = max(widths[i], len([]rune(c)))
			}
		}
		for _, cells := range p.rows {
			line := ""
			for i, c := range cells {
				line += c + strings.Repeat(" ", widths[i]-len([]rune(c))+3)
			}
			lines = append(lines, line)
		}
	default:
		for _, cells := range p.rows {
			lines = append(lines, strings.Join(cells, ";"))
		}
	}
	return strings.Join(lines, "\n") + "\n"
}

func TestTrialOfLists(t *testing.T) {
	rounds, _ := strconv.Atoi(os.Getenv("TRIAL_LISTS"))
	rounds = max(rounds, 500)
	was := load(t, habits)
	for seed := range uint64(rounds) {
		r := rand.New(rand.NewPCG(seed, 1))
		zero := r.IntN(3) == 0
		list := someNoted(r, zero)
		p := print(r, list, zero)
		p.options.Counts = func(string) site.Notation { return site.Offset }
		b, err := sheet.Read([]byte(p.file))
		require.NoError(t, err, "seed %d\n%s", seed, p.file)
		l, err := Read(b, p.options)
		require.NoError(t, err, "seed %d\n%s", seed, p.file)
		require.Empty(t, l.Faults, "seed %d\n%s", seed, p.file)
		s, _, faults := into(t, was, l)
		require.Empty(t, faults, "seed %d\n%s", seed, p.file)
		require.Len(t, l.Items, len(list), "seed %d\n%s", seed, p.file)
		for i, w := range list {
			got, _ := s.Point(l.Items[i].Tag())
			want := fmt.Sprint(w.address, w.typ, w.length, w.order, round(w.factor), w.raw != nil, w.unit, w.writable, len(w.states))
			factor := 1.0
			if got.Scaling.Factor != nil {
				factor = *got.Scaling.Factor
			}
			is := fmt.Sprint(got.Address, got.Type, got.Length, got.Order, round(factor), got.Scaling.Raw != nil, got.Unit, got.Writable, len(got.States))
			require.Equal(t, want, is, "seed %d, %s:\n%s\n%s", seed, w.name, p.file, strings.Join(l.Notes, "\n"))
		}
	}
}
