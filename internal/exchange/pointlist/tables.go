package pointlist

import (
	"cmp"
	"fmt"
	"regexp"
	"strings"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// Which table, or which kind of DNP3 point, an address is of, as manuals say it: in a column beside, or in a title above.

// tableNames are tables by what manuals call them.
var tableNames = map[string]site.Space{
	"co": site.Coils, "coil": site.Coils, "coils": site.Coils, "0x": site.Coils, "0xxxx": site.Coils, "do": site.Coils, "01": site.Coils, "1": site.Coils, "fc01": site.Coils, "fc1": site.Coils, "5": site.Coils, "05": site.Coils, "15": site.Coils,
	"di": site.DiscreteInputs, "discrete input": site.DiscreteInputs, "discrete inputs": site.DiscreteInputs, "input status": site.DiscreteInputs, "1x": site.DiscreteInputs, "1xxxx": site.DiscreteInputs, "02": site.DiscreteInputs, "2": site.DiscreteInputs,
	"fc02": site.DiscreteInputs, "fc2": site.DiscreteInputs, "discrete": site.DiscreteInputs,
	"ir": site.InputRegisters, "input register": site.InputRegisters, "input registers": site.InputRegisters, "input": site.InputRegisters, "3x": site.InputRegisters, "3xxxx": site.InputRegisters, "04": site.InputRegisters, "4": site.InputRegisters,
	"fc04": site.InputRegisters, "fc4": site.InputRegisters, "ai": site.InputRegisters,
	"hr": site.HoldingRegisters, "holding register": site.HoldingRegisters, "holding registers": site.HoldingRegisters, "holding": site.HoldingRegisters, "4x": site.HoldingRegisters, "4xxxx": site.HoldingRegisters, "03": site.HoldingRegisters,
	"3": site.HoldingRegisters, "fc03": site.HoldingRegisters, "fc3": site.HoldingRegisters, "06": site.HoldingRegisters, "6": site.HoldingRegisters, "16": site.HoldingRegisters, "ao": site.HoldingRegisters,
}

// tableOf reads a table, or the function that reads it; of several functions, such as 3/6, the first.
func tableOf(text string) (site.Space, error) {
	written := strings.ToLower(strings.Join(strings.Fields(text), " "))
	if s, ok := tableNames[written]; ok {
		return s, nil
	}
	first := strings.FieldsFunc(strings.TrimSpace(strings.TrimPrefix(strings.TrimPrefix(written, "fc"), "function")), func(r rune) bool { return strings.ContainsRune("/,;+& ", r) })
	if len(first) > 0 {
		if s, ok := tableNames[first[0]]; ok {
			return s, nil
		}
	}
	if m := function.FindStringSubmatch(written); m != nil {
		if s, ok := tableNames[m[1]]; ok {
			return s, nil
		}
	}
	if s := tableIn(written); s != "" {
		return s, nil
	}
	return "", fmt.Errorf("%q is no table and no function that reads one: coil, discrete input, input register, holding register, or 1 to 4", text)
}

// function is the first function of those that are named: R: 0x03 W: 0x06.
var function = regexp.MustCompile(`^(?:r|rd|read|reading|fc|fct|func|function|f)?\W*(?:0x)?0*([1-9]\d?)(?:\D|$)`)

var group = regexp.MustCompile(`^(?:g|group|gruppe|obj|object|objekt)?\s*(\d{1,3})(?:\s*(?:v|var|variation|/)\s*\d{1,3})?$`)

// kindWithGroup is a short name with the group behind it: AI (30).
var kindWithGroup = regexp.MustCompile(`^([a-z]+)\s*[(\[/-]\s*(?:g|grp|group|obj|object)?\.?\s*\d{1,3}[^)\]]*[)\]]?$`)

// groups are the kinds of DNP3 points by the groups of their static, event and command objects (IEEE 1815-2012, annex A).
var groups = map[string]site.Space{
	"1": site.BinaryInputs, "2": site.BinaryInputs, "3": site.DoubleBitInputs, "4": site.DoubleBitInputs, "10": site.BinaryOutputs, "11": site.BinaryOutputs, "12": site.BinaryOutputs,
	"20": site.Counters, "22": site.Counters, "21": site.FrozenCounters, "23": site.FrozenCounters, "30": site.AnalogInputs, "32": site.AnalogInputs,
	"40": site.AnalogOutputs, "41": site.AnalogOutputs, "42": site.AnalogOutputs, "110": site.OctetStrings, "111": site.OctetStrings,
}

// kinds are the kinds of DNP3 points by their short names.
var kinds = map[string]site.Space{
	"bi": site.BinaryInputs, "di": site.BinaryInputs, "dbi": site.DoubleBitInputs, "dbbi": site.DoubleBitInputs, "bo": site.BinaryOutputs, "do": site.BinaryOutputs, "bos": site.BinaryOutputs, "crob": site.BinaryOutputs,
	"ctr": site.Counters, "ct": site.Counters, "ci": site.Counters, "cnt": site.Counters, "fctr": site.FrozenCounters, "fc": site.FrozenCounters, "ai": site.AnalogInputs, "ao": site.AnalogOutputs, "aos": site.AnalogOutputs, "os": site.OctetStrings,
}

// kindOf reads the kind of a DNP3 point: its name, or the group of its objects.
func kindOf(text string) (site.Space, error) {
	written := strings.ToLower(strings.Join(strings.Fields(text), " "))
	if s, ok := kinds[written]; ok {
		return s, nil
	}
	if m := kindWithGroup.FindStringSubmatch(written); m != nil && kinds[m[1]] != "" {
		return kinds[m[1]], nil
	}
	if m := group.FindStringSubmatch(written); m != nil {
		if s, ok := groups[m[1]]; ok {
			return s, nil
		}
	}
	if s := kindIn(written); s != "" {
		return s, nil
	}
	return "", fmt.Errorf("%q is no kind of DNP3 point: binary input, double-bit input, binary output, counter, frozen counter, analog input, analog output, octet string, or a group", text)
}

// kindIn finds the kind of a DNP3 point that a text in small letters names; "" for none, or for half of one.
func kindIn(written string) site.Space {
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(written, w) {
				return true
			}
		}
		return false
	}
	in, out := has("input", "eingang", "eingänge"), has("output", "ausgang", "ausgänge")
	switch {
	case in == out && has("frozen"):
		return site.FrozenCounters
	case in == out && has("counter", "zähler"):
		return site.Counters
	case in == out && has("octet string"):
		return site.OctetStrings
	case in == out:
		return ""
	case has("double"):
		return map[bool]site.Space{true: site.DoubleBitInputs}[in]
	case has("analog"):
		return map[bool]site.Space{true: site.AnalogInputs, false: site.AnalogOutputs}[in]
	case has("binary", "digital", "binär"):
		return map[bool]site.Space{true: site.BinaryInputs, false: site.BinaryOutputs}[in]
	}
	return ""
}

// tableIn finds the Modbus table that a text in small letters names; "" for none, or several.
func tableIn(written string) (found site.Space) {
	for _, t := range titles {
		if strings.Contains(written, t.word) {
			if found != "" {
				return ""
			}
			found = t.space
		}
	}
	return found
}

// titles are words by which a title names a table.
var titles = []struct {
	word  string
	space site.Space
}{
	{"holding", site.HoldingRegisters}, {"halteregister", site.HoldingRegisters}, {"input reg", site.InputRegisters}, {"eingangsreg", site.InputRegisters},
	{"discrete input", site.DiscreteInputs}, {"input status", site.DiscreteInputs}, {"coil", site.Coils},
}

// plural is in titles of tables, which are of many.
var plural = regexp.MustCompile(`registers|(?:input|output|counter|binary|analog|coil)s? (?:data )?points?\b|halteregister|eingangsregister|coils|inputs|input status|outputs|counters|strings|eingänge|ausgänge|zähler`)

// title notes which table the rows below are of, where a row is a title that names one: Input Registers (FC04), Analog Inputs.
func (r *reader) title(row sheet.Row) {
	written := ""
	for _, text := range row.Cells {
		if text != "" && written != "" {
			return // no title
		}
		written = cmp.Or(written, text)
	}
	r.titled(written, row.Number)
}

// sectioned is a title with the number of its section: 3.3 Input registers.
var sectioned = regexp.MustCompile(`^\d{1,2}(?:\.\d{1,2})+\.?\s+\pL`)

// byFunction is a title that says with which function the rows below are read: Measurements (Function code 04), FC 3.
var byFunction = regexp.MustCompile(`(?i)\b(?:(?:modbus )?function ?codes?|fct?|funktionscode|code (?:de )?fonction|código de función|codice funzione)\s*[:=]?\s*(?:0x)?(0?[1-4])\b`)

// titled notes what a title names; row is 0 for the name of a sheet.
func (r *reader) titled(written string, row int) {
	lower := strings.ToLower(written)
	if len(written) > 100 {
		return // what goes on from the row before may speak of a coil, too
	}
	if plural.MatchString(lower) || row == 0 {
		r.section(site.Modbus, cmp.Or(tableIn(lower), map[bool]site.Space{true: tableNames[lower]}[row == 0]), row, written)
		r.section(site.DNP3, kindIn(lower), row, written)
	}
	if m := byFunction.FindStringSubmatch(written); m != nil && tableIn(lower) == "" {
		r.section(site.Modbus, tableNames[strings.TrimLeft(m[1], "0")], row, written)
	}
}

func (r *reader) section(of site.Protocol, s site.Space, row int, written string) {
	if s == "" || r.sections[of] == s {
		return
	}
	if r.sections == nil {
		r.sections = map[site.Protocol]site.Space{}
	}
	r.sections[of] = s
	if r.options.protocol(r.ofTable) == of {
		if row == 0 {
			r.once("sheet %s: addresses that name no table are of that one, %s", written, s)
		} else {
			r.note("row %d, %q: addresses below that name no table are of that one, %s", row, written, s)
		}
	}
}
