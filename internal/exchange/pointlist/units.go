package pointlist

import (
	"fmt"
	"math"
	"regexp"
	"strings"
	"sync"

	"arithmon/internal/core/unit"
)

// Units that stand elsewhere than in a column of their own.

// units are those of which is known what plants have.
var units = sync.OnceValue(unit.BuiltIn)

// further are units of which it is not, and which are some all the same.
var further = func() map[string]bool {
	of := map[string]bool{}
	for _, u := range strings.Fields("s sec ms us µs min days km m2 m² km² ha cm2 l L ml cl hl g mg lb oz VA MVA var VAr Var kvarh VAh kVAh ppb Ohm ohm Ω kΩ MΩ mΩ N kN J kJ MJ GJ lx lm cd dB dBA dBm deg rad mrad W/m2 W/m² kWh/m2 kWh/m² " +
		"gal gpm GPM ft ft/s inH2O inHg mmHg mmH2O kp/cm2 at atm BTU kBTU MBTU hp PS tr/min U/min imp Imp pulses counts mm/h mg/m3 mg/m³ µg/m³ ug/m3 g/l g/kg kg/m3 kg/m³ kJ/kg mm2 nF µF mH H/s Nl/min Nm3/h Nm³/h SCFM CFM cfm degC degF") {
		of[u] = true
	}
	return of
}()

// isUnit reports whether a text is known for a unit.
func isUnit(u string) bool { return u != "" && (further[u] || units().Find(u).Known()) }

// unitWords are units that are written out, in small letters.
var unitWords = map[string]string{
	"volt": "V", "volts": "V", "amp": "A", "amps": "A", "ampere": "A", "amperes": "A", "watt": "W", "watts": "W", "kilowatt": "kW", "kilowatts": "kW", "kilowatt hour": "kWh", "kilowatt hours": "kWh", "kilowatt-hours": "kWh", "kwh": "kWh",
	"hertz": "Hz", "hz": "Hz", "percent": "%", "per cent": "%", "prozent": "%", "celsius": "°C", "degree celsius": "°C", "degrees celsius": "°C", "deg c": "°C", "deg. c": "°C", "degc": "°C", "°c": "°C", "grad c": "°C",
	"fahrenheit": "°F", "degrees fahrenheit": "°F", "deg f": "°F", "degf": "°F", "kelvin": "K", "second": "s", "seconds": "s", "sekunden": "s", "minute": "min", "minutes": "min", "minuten": "min", "hour": "h", "hours": "h", "stunden": "h", "hrs": "h", "heures": "h", "horas": "h",
	"meter": "m", "meters": "m", "metres": "m", "litre": "l", "litres": "l", "liter": "l", "liters": "l", "cubic metres": "m³", "cubic meters": "m³", "pascal": "Pa", "ohms": "Ω", "kva": "kVA", "kvar": "kvar", "kvars": "kvar", "mbar": "mbar", "bars": "bar",
}

var (
	bracketed = regexp.MustCompile(`\s*\[([^\[\]]{1,16})\]\s*$`)
	rounded   = regexp.MustCompile(`\s*\(([^()]{1,16})\)\s*$`)
)

// temperatures are words of what is measured in °C or °F, for which some write C and F.
var temperatures = regexp.MustCompile(`(?i)temp|tmp|heat|cool|warm|kühl|heiz`)

// currents are words of what is measured in A, which in brackets names a phase or a pump as often.
var currents = regexp.MustCompile(`(?i)current|strom|courant|corriente|corrente|ampere`)

// phase reports whether what looks like a unit names a phase, or one of several, in a text.
func phase(u, text string) bool {
	return len(u) == 1 && strings.Contains("ABCLNRST", u) && (u != "A" || !currents.MatchString(text))
}

// unitWithin takes the unit that stands in brackets behind a name or a description, where no column has units: Running hours [h], Pressure (0.1 bar).
func (m *making) unitWithin(plain func(string) (string, bool)) {
	if m.item.From["unit"] != "" || m.item.Fields["unit"] != nil {
		return
	}
	for _, column := range []string{"tag", "description"} {
		text, ok := plain(column)
		if !ok || !strings.HasSuffix(text, "]") && !strings.HasSuffix(text, ")") {
			continue
		}
		found, round := bracketed.FindStringSubmatchIndex(text), false
		if found == nil {
			found, round = rounded.FindStringSubmatchIndex(text), true
		}
		if found == nil {
			continue
		}
		within := text[found[2]:found[3]]
		s, u, err := stepped(within)
		if u == "" || err != nil || !isUnit(u) || round && phase(within, text) {
			continue
		}
		m.item.Fields["unit"] = u
		m.from("unit", column)
		if s != nil && m.item.Fields["scaling"] == nil && m.item.From[colFactor] == "" {
			m.item.Fields["scaling"] = s
			m.from("scaling", column)
		}
		if column == "tag" {
			m.cells["tag"] = text[:found[0]]
		}
		return
	}
}

// told is the scaling that a description tells of, and notes its unit where the row has none: in 0.1 °C; Flow, l/s x10; in tenths.
func (m *making) told(plain func(string) (string, bool)) map[string]any {
	for _, column := range []string{"description", "tag"} {
		text, ok := plain(column)
		if !ok {
			continue
		}
		s, u := toldStep(text)
		if column == "description" && s == nil && u == "" && m.cells["tag"] != "" { // a remark that is a unit or a step alone: 0.1 W
			if step, of, err := stepped(text); err == nil && (of == "" || isUnit(of) && (step != nil || len(of) > 1 || strings.Contains("VW", of))) && !tagged.MatchString(text) {
				s, u = step, of
			}
		}
		if s == nil && u == "" {
			continue
		}
		if u != "" && m.item.Fields["unit"] == nil && m.cells["unit"] == "" {
			m.item.Fields["unit"] = u
			m.from("unit", column)
		}
		if s != nil {
			m.from("scaling", column)
			m.inSteps(s)
		}
		return s
	}
	return nil
}

var (
	factorAlone = regexp.MustCompile(`^(?:[x×*]\s*[\d.,]+|(?:1\s*)?/\s*\d+)$`)
	timesAlone  = regexp.MustCompile(`^[x×*]\s*(10|100|1000|10000)$`)
	stepTold    = regexp.MustCompile(`(?i)\b(?:in|en|unit:?|einheit:?|step:?|resolution:?)\s+((?:0[.,]0*1|1\s*/\s*10+)\s*(?:[^\s\d.,;:()]\S*)?|(?:tenths?|hundredths?|thousandths?)(?:\s+of\s+(?:an?\s+)?(\S+))?)\s*(?:[,.;(].*)?$`)
	timesTold   = regexp.MustCompile(`(?i)(?:^|[\s,(])(?:([^\s\d,()]{1,8})\s*)?[x×*]\s*(10|100|1000|10000)\)?$`)
	unitTold    = regexp.MustCompile(`(?i)\bin\s+([^\s\d,;:()]{1,8})$`)
	tenths      = map[byte]float64{'t': 0.1, 'h': 0.01, 'T': 0.1, 'H': 0.01}
)

// toldStep is the scaling of a text, and its unit.
func toldStep(text string) (s map[string]any, u string) {
	if !strings.ContainsAny(text, "x×*/0123456789") && !strings.Contains(text, " in ") && !strings.Contains(text, " en ") {
		return nil, ""
	}
	known := func(u string) string {
		if u = unitOf(u); isUnit(u) {
			return u
		}
		return ""
	}
	if m := timesAlone.FindStringSubmatch(text); m != nil { // the device has multiplied it
		by, _ := number(m[1])
		return map[string]any{"factor": round(1 / by)}, ""
	}
	if factorAlone.MatchString(text) { // x 0.01
		s, _ = scalingOf(text)
		return s, ""
	}
	if m := stepTold.FindStringSubmatch(text); m != nil {
		if factor := tenths[m[1][0]]; factor != 0 {
			if strings.HasPrefix(strings.ToLower(m[1]), "th") {
				factor = 0.001
			}
			return map[string]any{"factor": factor}, known(m[2])
		}
		if s, u, err := stepped(m[1]); err == nil {
			return s, known(u)
		}
	}
	if m := timesTold.FindStringSubmatch(text); m != nil { // the device has multiplied it
		by, _ := number(m[2])
		return map[string]any{"factor": round(1 / by)}, known(m[1])
	}
	if m := unitTold.FindStringSubmatch(text); m != nil {
		return nil, known(m[1])
	}
	return nil, ""
}

var stepOf = regexp.MustCompile(`^([x×*]?\s*\d[\d.,/^-]*)\s*([^\d\s.,/].*)$`)

// decimalsTold is a number of decimals that are left out: 3 decimals.
var decimalsTold = regexp.MustCompile(`(?i)^(\d)\s*(?:decimals?|decimal places|dp|nachkommastellen)$`)

// tagged is a text that may be a number and nothing else, which is no step.
var tagged = regexp.MustCompile(`^[-+]?\d+(?:[.,]\d+)?$`)

// perBit is a step of one count, with an offset behind it: 0.03125 °C/bit, -273 °C offset.
var perBit = regexp.MustCompile(`(?i)^(\d[\d.,]*)\s*([^\d\s.,/]\S*?)?\s*(?:/|per)\s*(?:bit|digit|count|lsb)\b(?:\s*gain)?(?:\s*[,;]\s*(?:offset\s*)?([-+−]?\d[\d.,]*)\s*\S*\s*(?:offset)?)?$`)

// equation is a step as counts and what they stand for: 1 = 0.1 rpm, 100 = 1 A, 1 bit = 0.5 %.
var equation = regexp.MustCompile(`(?i)^(\d[\d.,' ]*?)\s*(?:bits?|digits?|counts?|lsb|inc)?\s*(?:=|≙|→|->|:)\s*([-−]?\d[\d.,' ]*?)\s*([^\d\s.,].*)?$`)

// stepped reads a scaling with the unit that stands in it, if any: 0.1 °C, 1 = 0.1 rpm, 0.05 °C/bit.
func stepped(text string) (s map[string]any, u string, err error) {
	text = strings.TrimSpace(text)
	if m := equation.FindStringSubmatch(text); m != nil {
		raw, ok1 := number(m[1])
		eng, ok2 := number(strings.ReplaceAll(m[2], "−", "-"))
		if ok1 && ok2 && raw > 0 && raw == float64(int64(raw)) && eng != 0 {
			return factored(round(eng / raw)), unitOf(m[3]), nil
		}
	}
	if m := decimalsTold.FindStringSubmatch(text); m != nil {
		return factored(round(math.Pow10(-int(m[1][0] - '0')))), "", nil
	}
	if m := perBit.FindStringSubmatch(text); m != nil {
		if by, ok := number(m[1]); ok && by != 0 {
			s = factored(by)
			if m[3] != "" {
				offset, ok := number(strings.ReplaceAll(m[3], "−", "-"))
				if !ok {
					return nil, "", fmt.Errorf("%q is no factor with an offset", text)
				}
				if s == nil {
					s = map[string]any{}
				}
				s["offset"] = offset
			}
			return s, unitOf(m[2]), nil
		}
	}
	if s, err = scalingOf(text); err == nil {
		return s, "", nil
	}
	if parts := stepOf.FindStringSubmatch(text); parts != nil {
		if u := unitOf(parts[2]); isUnit(u) {
			if s, wrong := scalingOf(parts[1]); wrong == nil {
				return s, u, nil
			}
		}
	}
	if u := unitOf(text); isUnit(u) {
		return nil, u, nil
	}
	if factor, offset, ok := lineOf(text); ok {
		s = map[string]any{"factor": factor}
		if offset != 0 {
			s["offset"] = offset
		}
		return s, "", nil
	}
	return nil, "", err
}

// factored is a scaling by a factor; nil for 1.
func factored(by float64) map[string]any {
	if by == 1 {
		return nil
	}
	return map[string]any{"factor": by}
}

// step reads a cell of a factor, and notes the unit in it where the row has none.
func (m *making) step(text string) (map[string]any, error) {
	s, err := m.known.scaling(text)
	if err == nil {
		return s, nil
	}
	s, u, wrong := stepped(text)
	if wrong != nil || s == nil && !equation.MatchString(text) && !stepOf.MatchString(text) {
		return nil, err
	}
	if u != "" && m.item.Fields["unit"] == nil && (m.cells["unit"] == "" || isUnit(u) && unitOf(m.cells["unit"]) != u) { // of two, that in which the step is
		m.item.Fields["unit"] = u
		m.from("unit", colFactor)
	}
	return s, nil
}

// unit takes over a cell of units, and the step in it: 0.1 V.
func (m *making) unit(text string) {
	u := unitOf(text)
	if (u == "C" || u == "F" || strings.HasSuffix(u, " C") || strings.HasSuffix(u, " F")) && temperatures.MatchString(m.cells["tag"]+" "+m.cells["description"]) {
		u = u[:len(u)-1] + "°" + u[len(u)-1:]
	}
	if u != "" && u[0] >= '0' && u[0] <= '9' && m.item.Fields["scaling"] == nil && m.item.From[colFactor] == "" {
		if s, of, err := stepped(u); err == nil && of != "" {
			if u = of; s != nil {
				m.item.Fields["scaling"] = s
				m.from("scaling", "unit")
				m.inSteps(s)
			}
		}
	}
	if u != "" && (m.item.Fields["unit"] == nil || m.item.From["unit"] != m.item.From[colFactor] || m.item.From[colFactor] == "") {
		m.item.Fields["unit"] = u
	}
}

// inSteps notes that values of the row are given in steps of a scaling, since its unit is one of them: 50..300 in 0.1 °C.
func (m *making) inSteps(s map[string]any) { m.steps, _ = s["factor"].(float64) }

// unitBeside takes the unit that stands behind a range, where the row has none: -40..120 °C.
func (m *making) unitBeside(column, text string) {
	if both := spans.FindStringSubmatch(text); both != nil {
		text = both[2]
	}
	parts := span.FindStringSubmatch(text)
	if parts == nil {
		return
	}
	if u := unitOf(parts[3]); u != "" && m.item.Fields["unit"] == nil {
		m.item.Fields["unit"] = u
		m.from("unit", column)
	}
}
