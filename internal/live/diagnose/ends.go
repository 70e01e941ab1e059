package diagnose

import (
	"fmt"
	"math"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// endAfter is how many seconds a value stands at an end of its type before that means something.
const endAfter = 10

// typeEnds are the numbers at the ends of a type by which devices say that they have no value; of unsigned types those of the signed one, too,
// since that is what the device may mean.
var typeEnds = map[codec.Type][]float64{
	codec.TypeInt16:  {math.MinInt16, math.MaxInt16},
	codec.TypeUint16: {math.MaxUint16, math.MaxInt16 + 1, math.MaxInt16},
	codec.TypeInt32:  {math.MinInt32, math.MaxInt32},
	codec.TypeUint32: {math.MaxUint32, math.MaxInt32 + 1, math.MaxInt32},
}

// Resting reports whether the value may be at an end of its type, and stands; EndCode tells exactly.
func (m *Movement) Resting(t codec.Type, sec uint32) bool {
	if m.first == 0 || sec-m.moved < endAfter {
		return false
	}
	for _, end := range typeEnds[t] {
		if m.value == float32(end) {
			return true
		}
	}
	return false
}

// EndCode is the raw code of a value of a point that is exactly at an end of its type, "" when it is not. A whole number without a sign is at
// one of its ends now and then when it counts or holds bits, so that it must be measured: have a unit or a scaling.
func EndCode(p site.Point, v codec.Value) string {
	number, ok := v.Float()
	if !ok || len(p.States) > 0 {
		return ""
	}
	unsigned := p.Type == codec.TypeUint16 || p.Type == codec.TypeUint32
	if unsigned && p.Unit == "" && p.Scaling.IsZero() {
		return ""
	}
	for _, end := range typeEnds[p.Type] {
		if raw := p.Scaling.Raw; number != end || raw != nil && (raw[0] == end || raw[1] == end) { // which is the end of its range, then
			continue
		}
		if p.Type == codec.TypeInt16 || p.Type == codec.TypeUint16 {
			return fmt.Sprintf("0x%04X", uint16(int64(end)))
		}
		return fmt.Sprintf("0x%08X", uint32(int64(end)))
	}
	return ""
}

// ended makes the finding of values of a station that stand at the end of their type.
func (f *finder) ended(list []Point) {
	p := list[0]
	kind, subject, cause := site.KindPoint, p.Point.Tag, because("end-of-type", "shown", strings.TrimSpace(p.Shown+" "+p.Point.Unit), "code", p.End)
	if len(list) > 1 {
		kind, subject, cause = site.KindStation, p.Point.Station, because("ends-of-types", "points", len(list))
	}
	var evidence []string
	var next []Step
	for _, p := range list {
		all := []any{}
		for _, c := range p.Point.Invalid {
			all = append(all, int64(c))
		}
		evidence = append(evidence, fmt.Sprintf("%s stands at %s", p.Point.Tag, p.End))
		next = append(next, set(fmt.Sprintf("set invalid: [%s] on %s, so that it is bad (sensor-failure) then", p.End, p.Point.Tag), site.KindPoint, p.Point.Tag, map[string]any{"invalid": append(all, p.End)}))
	}
	f.add(kind, subject, EndOfType, 0.7, cause, abridged(evidence),
		append(next[:min(len(next), someOf)], say("see in the manual which code the device gives for what is not connected or not measured"), say("look at the sensor and its wiring"))...)
}
