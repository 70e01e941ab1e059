package codec

import "math"

// Interpretation is a run of words under one type and byte order.
type Interpretation struct {
	Layout Layout
	Value  Value // nothing when Err is set
	Err    error
	// Plausible is false for what a plant hardly ever means: floats that are tiny, huge or impossible, BCD that is none.
	Plausible bool
}

// Interpretations reads words under every numeric type that they are enough for and every order that makes a
// difference to it, for finding the one that a device means.
func Interpretations(words []uint16) []Interpretation {
	types := []Type{TypeUint16, TypeInt16, TypeBCD16, TypeUint32, TypeInt32, TypeFloat32, TypeBCD32, TypeUint64, TypeInt64, TypeFloat64}
	var list []Interpretation
	for _, t := range types {
		orders := Orders[:]
		n := Layout{Type: t}.Words()
		if n > len(words) {
			continue
		}
		if n == 1 {
			orders = []Order{ABCD, BADC}
		}
		for _, order := range orders {
			in := Interpretation{Layout: Layout{Type: t, Order: order}}
			in.Value, in.Err = in.Layout.Decode(words)
			in.Plausible = in.Err == nil && plausible(in.Value)
			list = append(list, in)
		}
	}
	return list
}

func plausible(v Value) bool {
	f, _ := v.Float()
	abs := math.Abs(f)
	if v.Kind() == Float {
		return abs == 0 || abs >= 1e-4 && abs <= 1e8
	}
	return abs <= 1e9
}
