package weigh

import (
	"fmt"
	"strconv"
	"strings"
)

// String says what a reading changes: order: CDAB, address one further on.
func (r Reading) String() string { return r.words("") }

// On says what a reading changes of a signal, with its address.
func (r Reading) On(s *Signal) string {
	a := s.Point.Address
	a.Offset = uint16(int(a.Offset) + r.By)
	return r.words(a.String())
}

func (r Reading) words(address string) string {
	var list []string
	if r.Type != "" {
		list = append(list, "type: "+string(r.Type))
	}
	if r.SignBit {
		list = append(list, "sign and magnitude")
	}
	if r.Order != "" {
		list = append(list, "order: "+string(r.Order))
	}
	switch {
	case r.By != 0 && address != "":
		list = append(list, "address: "+address)
	case r.By > 0:
		list = append(list, fmt.Sprintf("addresses %d higher", r.By))
	case r.By < 0:
		list = append(list, fmt.Sprintf("addresses %d lower", -r.By))
	}
	switch {
	case r.Factor != 0:
		list = append(list, fmt.Sprintf("a scaling with %s times the factor", number(r.Factor)))
	case r.Raw != nil:
		list = append(list, fmt.Sprintf("a scaling with raw: [%s, %s]", number(r.Raw[0]), number(r.Raw[1])))
	case r.Offset != 0:
		list = append(list, fmt.Sprintf("a scaling with an offset of %s", number(r.Offset)))
	case r.Convert == FromFahrenheit:
		list = append(list, "a scaling from °F to °C")
	case r.Convert == ToFahrenheit:
		list = append(list, "a scaling from °C to °F")
	}
	return strings.Join(list, ", ")
}

func number(f float64) string { return strconv.FormatFloat(f, 'g', -1, 64) }

// Scaling is the scaling that gives a reading, as a site file has it; nil when that of the point stays.
func (r Reading) Scaling(s *Signal) map[string]any {
	if !r.scaling() {
		return nil
	}
	if r.Raw != nil {
		lo, hi := s.ends()
		return map[string]any{"raw": []any{r.Raw[0], r.Raw[1]}, "eng": []any{lo, hi}}
	}
	at := func(raw float64) float64 { return s.engineering(r, raw) }
	if p := s.Point.Scaling; p.Raw != nil { // which a factor or an offset makes another one
		if r.Factor != 0 {
			return map[string]any{"raw": []any{round(p.Raw[0] / r.Factor), round(p.Raw[1] / r.Factor)}, "eng": []any{p.Eng[0], p.Eng[1]}}
		}
		return map[string]any{"raw": []any{p.Raw[0], p.Raw[1]}, "eng": []any{round(at(p.Raw[0])), round(at(p.Raw[1]))}}
	}
	out := map[string]any{}
	if f := round(at(1) - at(0)); f != 1 {
		out["factor"] = f
	}
	if o := round(at(0)); o != 0 {
		out["offset"] = o
	}
	if len(out) == 0 {
		out["factor"] = 1.0
	}
	return out
}

// round leaves out what binary fractions add behind the twelfth digit.
func round(f float64) float64 {
	r, _ := strconv.ParseFloat(strconv.FormatFloat(f, 'g', 12, 64), 64)
	return r
}
