package diagnose

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/scaling"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose/weigh"
)

// reads makes signals of float32 points of station a whose registers hold the float32 values of 25, 3 and so on, word by word.
func reads(t *testing.T, n int, order codec.Order) (signals []*weigh.Signal) {
	t.Helper()
	area := &weigh.Area{Space: site.HoldingRegisters}
	for range 8 {
		var words []uint16
		for i := range n + 1 {
			w, err := codec.Layout{Type: codec.TypeFloat32, Order: codec.CDAB}.Encode(codec.FloatValue(25 + float64(i)))
			require.NoError(t, err)
			words = append(words, w...)
		}
		area.Words, area.Secs = append(area.Words, words), append(area.Secs, uint32(len(area.Secs)))
	}
	for i := range n {
		p := &site.Point{Tag: fmt.Sprintf("a/%02d", i), Station: "a", Type: codec.TypeFloat32, Order: order, Unit: "bar", Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(2 * i)}}
		signals = append(signals, &weigh.Signal{Point: p, Layout: p.Layout(site.NewStation()), Inherits: order == "", Area: area, At: 2 * i})
	}
	return signals
}

func misread(t *testing.T, e weigh.Explanation) Finding {
	t.Helper()
	list := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Misread: []weigh.Explanation{e}})
	require.Len(t, list, 1)
	return list[0]
}

// The order that a station gives its points is one cause with one step; orders of their own are one step with a change for each.
func TestStepsOfValuesThatAreReadWrongly(t *testing.T) {
	cdab := weigh.Reading{Order: codec.CDAB}
	f := misread(t, weigh.Explanation{Reading: cdab, Points: reads(t, 2, ""), Certainty: 0.987, Share: 0.98})
	assert.Equal(t, WordOrder, f.Code)
	assert.Equal(t, "a", f.Subject)
	assert.Equal(t, 0.98, f.Certainty)
	assert.Contains(t, f.Cause.String(), "What each of 2 points shows")
	assert.Regexp(t, `^a/01 shows \S+e-\d+ bar, and would show 26 bar$`, f.Evidence[1])
	assert.Equal(t, []Change{{site.KindStation, "a", map[string]any{"order": "CDAB"}}}, f.Next[0].Changes)

	f = misread(t, weigh.Explanation{Reading: cdab, Points: reads(t, 2, codec.ABCD), Certainty: 0.9})
	assert.Equal(t, []Change{{site.KindPoint, "a/00", map[string]any{"order": "CDAB"}}, {site.KindPoint, "a/01", map[string]any{"order": "CDAB"}}}, f.Next[0].Changes)
	assert.Equal(t, "set order: CDAB, on all 2 points", f.Next[0].Text)

	second := weigh.Reading{By: 1}
	f = misread(t, weigh.Explanation{Reading: cdab, Points: reads(t, 1, ""), Certainty: 0.6, Share: 0.6, RunnerUp: &second, Second: 0.35})
	assert.Equal(t, []string{"set order: CDAB", "or set address: hr:1"}, []string{f.Next[0].Text, f.Next[1].Text})
	assert.Contains(t, f.Evidence, "nearly as likely: addresses 1 higher (35 %, beside 60 %)")
	assert.Equal(t, "a/00", f.Subject)

	f = misread(t, weigh.Explanation{Reading: weigh.Reading{By: -1}, Points: reads(t, 9, "")[1:], Certainty: 0.9})
	assert.Equal(t, AddressShifted, f.Code)
	assert.Len(t, f.Next[0].Changes, 8)
	assert.Equal(t, "hr:1", f.Next[0].Changes[0].Fields["address"])
	assert.Equal(t, "and 2 more", f.Evidence[6])

	f = misread(t, weigh.Explanation{Points: reads(t, 2, ""), Certainty: 0.9})
	assert.Equal(t, ValueOdd, f.Code)
	for _, s := range f.Next {
		assert.Empty(t, s.Changes, "nobody knows what mends it")
	}
	f = misread(t, weigh.Explanation{Reading: weigh.Reading{Type: codec.TypeUint32}, Points: reads(t, 1, ""), Certainty: 0.9})
	assert.Equal(t, TypeDiffers, f.Code)
	f = misread(t, weigh.Explanation{Reading: weigh.Reading{Factor: 0.1}, Points: reads(t, 1, ""), Certainty: 0.9})
	assert.Equal(t, ScalingDiffers, f.Code)
	assert.Equal(t, map[string]any{"scaling": map[string]any{"factor": 0.1}}, f.Next[0].Changes[0].Fields)
}

// What is uncertain is not said, nor what follows from something else.
func TestWhatIsNotSaidOfValues(t *testing.T) {
	e := weigh.Explanation{Reading: weigh.Reading{Order: codec.CDAB}, Points: reads(t, 1, ""), Certainty: 0.49}
	evidence := Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Misread: []weigh.Explanation{e}}
	assert.Empty(t, Find(evidence))
	evidence.Misread[0].Certainty = 0.9
	evidence.Points = []Point{{Point: *e.Points[0].Point, Swaps: 1}}
	assert.Empty(t, Find(evidence), "its words change places")
	evidence.Points, evidence.Stations = nil, []Station{station("a", 1, silent(Counts{Requests: 9, Timeouts: 9}))}
	assert.Equal(t, []Code{UnitSilent}, codes(Find(evidence)))
}

// What is the same of a few points is told of each; of many, of their station, and of every kind there is a sentence for that.
func TestTheSameOfManyPointsIsOneFinding(t *testing.T) {
	raw, eng := [2]float64{4000, 20000}, [2]float64{0, 10}
	for kind := weigh.CounterFell; kind <= weigh.Spiking; kind++ { // those after it are of a station anyway
		for _, n := range []int{fewAlike, fewAlike + 3} {
			var faults []weigh.Fault
			for i, s := range reads(t, n+1, codec.CDAB)[1:] {
				s.Point.Scaling = scaling.Scaling{Raw: &raw, Eng: &eng}
				faults = append(faults, weigh.Fault{Failing: kind, Point: s, Other: "a/00", Times: 3, Seconds: 60 + i})
			}
			list := Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Failing: faults})
			if n == fewAlike {
				require.Len(t, list, n)
				for _, f := range list {
					assert.Equal(t, site.KindPoint, f.Kind)
				}
				continue
			}
			require.Len(t, list, 1, "%v", kind)
			f := list[0]
			assert.Equal(t, site.KindStation, f.Kind)
			assert.Equal(t, "a", f.Subject)
			assert.Contains(t, f.Cause.String(), fmt.Sprint(n))
			assert.NotContains(t, f.Cause.String(), "{")
			assert.Contains(t, f.Evidence[0], "a/01")
			assert.Contains(t, f.Evidence[len(f.Evidence)-1], "more")
			assert.NotEmpty(t, f.Next)
		}
	}
}

// A shift of all addresses takes those along that the device refuses, where it answers for them as far beside, and what is refused otherwise is told by
// itself.
func TestAShiftTakesWhatIsRefusedAlong(t *testing.T) {
	refusal := func(from, answers int) Refusal {
		r := Refusal{Code: 2, Table: site.HoldingRegisters, From: from, Count: 2, Points: []At{{fmt.Sprintf("a/at%d", from), site.Address{Space: site.HoldingRegisters, Offset: uint16(from)}}}}
		if answers != 0 {
			r.Instead = []site.Range{{Start: site.Address{Space: site.HoldingRegisters, Offset: uint16(answers)}, Count: 2}}
		}
		return r
	}
	find := func(refused ...Refusal) []Finding {
		return Find(Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, func(s *Station) { s.Refused = refused })},
			Misread: []weigh.Explanation{{Reading: weigh.Reading{By: -1}, Points: reads(t, 3, "")[1:], Certainty: 0.95, Share: 0.9}}})
	}
	list := find(refusal(40, 39), refusal(50, 49))
	require.Equal(t, []Code{AddressShifted}, codes(list))
	assert.Equal(t, "set addresses 1 lower, on all 4 points", list[0].Next[0].Text)
	assert.Len(t, list[0].Next[0].Changes, 4)
	assert.Equal(t, map[string]any{"address": "hr:39"}, list[0].Next[0].Changes[2].Fields)
	assert.Contains(t, list[0].Evidence, "a/at40 has no value: hr:40 is refused, and hr:39 answers")
	list = find(refusal(40, 39), refusal(60, 0))
	assert.ElementsMatch(t, []Code{AddressShifted, AddressRefused}, codes(list))
	for _, x := range find(refusal(60, 0)) {
		if x.Code == AddressShifted {
			assert.Equal(t, "set addresses 1 lower, on all 2 points", x.Next[0].Text)
		}
	}
}

// What happens to a value that is read wrongly comes of that, and is not told beside it.
func TestWhatComesOfAMisreadValue(t *testing.T) {
	signals := reads(t, 1, "")
	fell := []weigh.Fault{{Failing: weigh.CounterFell, Point: signals[0], Before: 4.2e9, After: 7}}
	e := Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Failing: fell}
	assert.Equal(t, []Code{CounterFellBack}, codes(Find(e)))
	e.Misread = []weigh.Explanation{{Reading: weigh.Reading{Order: codec.CDAB}, Points: signals, Certainty: 0.9, Share: 0.9}}
	assert.Equal(t, []Code{WordOrder}, codes(Find(e)))
}

// Not a number is told of its point; of one address in two units, where it may be meant to be is a step.
func TestNotANumberAndASharedAddress(t *testing.T) {
	signals := reads(t, 2, codec.CDAB)
	e := Evidence{Links: []Link{link(nil)}, Stations: []Station{station("a", 1, nil)}, Failing: []weigh.Fault{{Failing: weigh.NoNumber, Point: signals[0]}}}
	list := Find(e)
	require.Equal(t, []Code{NoNumber}, codes(list))
	assert.Equal(t, "a/00", list[0].Subject)
	e.Failing = []weigh.Fault{{Failing: weigh.Shared, Point: signals[0], Other: "a/x", Free: []weigh.Free{{Point: signals[0], By: 2}}}}
	list = Find(e)
	require.Equal(t, []Code{AddressDoubled}, codes(list))
	assert.Equal(t, "set address: hr:2 on a/00, where it would show 26 bar", list[0].Next[0].Text)
	assert.Equal(t, []Change{{site.KindPoint, "a/00", map[string]any{"address": "hr:2"}}}, list[0].Next[0].Changes)
}
