package table

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/core/unit"
	"arithmon/internal/live/diagnose/weigh"
)

// What is kept of the past is what was there, in its order, at first of each look and then further apart; the newest is always recent.
func TestThePastOfABlock(t *testing.T) {
	table, st := New(), site.NewStation()
	st.Name = "a"
	p := site.Point{Tag: "a/x", Station: "a", Type: codec.TypeUint16, Address: site.Address{Space: site.HoldingRegisters, Offset: 11}, Unit: "bar"}
	slot := table.Put(&p, st)
	slots := []*Slot{slot}
	var b Block
	at := time.Unix(1_000_000, 0)
	for look := 1; look <= 300; look++ {
		at = at.Add(time.Second)
		b.Store([]byte{0, 1, byte(look >> 8), byte(look), 0, 3}, false, []Place{{Slot: slot, First: 1, Count: 1}}, at)
		Age(slots, at)
		Age(slots, at.Add(time.Second/2)) // which sees nothing new
		signals := Signals(slots, unit.BuiltIn())
		require.Len(t, signals, 1)
		s := signals[0]
		require.Equal(t, 10, s.Area.First)
		require.Equal(t, 1, s.At)
		require.LessOrEqual(t, len(s.Area.Secs), mostMoments)
		if look <= mostMoments {
			require.Len(t, s.Area.Secs, look, "of each look at first")
		}
		for i, sec := range s.Area.Secs {
			require.Equal(t, []uint16{1, uint16(sec - 1_000_000), 3}, s.Area.Words[i], "what was there then")
			if i > 0 {
				require.Greater(t, sec, s.Area.Secs[i-1])
			}
		}
		last := s.Area.Secs[len(s.Area.Secs)-1]
		require.LessOrEqual(t, uint32(at.Unix())-last, uint32(mostApart))
	}
	s := Signals(slots, unit.BuiltIn())[0]
	assert.GreaterOrEqual(t, s.Area.Secs[len(s.Area.Secs)-1]-s.Area.Secs[0], uint32(mostApart*(mostMoments-3)))

	b.Store([]byte{0, 1, 0, 2, 0, 3, 0, 4}, false, []Place{{Slot: slot, First: 1, Count: 1}}, at.Add(time.Second))
	Age(slots, at.Add(2*time.Second))
	assert.Len(t, Signals(slots, unit.BuiltIn())[0].Area.Secs, 1, "a block of another length begins anew")

	slot.Bad("timeout", at)
	assert.Empty(t, Signals(slots, unit.BuiltIn()), "of what is not read, nothing is weighed")
	assert.Empty(t, Signals(nil, unit.BuiltIn()))
}

// The ends of the registers are those of all responses since the last look, whatever came twice or in another length.
func TestTheEndsOfRegisters(t *testing.T) {
	table, st := New(), site.NewStation()
	st.Name = "a"
	p := site.Point{Tag: "a/x", Station: "a", Type: codec.TypeUint16, Order: codec.BADC, Address: site.Address{Space: site.HoldingRegisters}, Unit: "bar"}
	slot := table.Put(&p, st)
	r := rand.New(rand.NewPCG(7, 8))
	var b Block
	at := time.Unix(1_000_000, 0)
	length, data, first := 3, []byte{}, true
	for range 300 {
		var seen, turned [][]uint16
		for range r.IntN(6) {
			switch r.IntN(10) {
			case 0:
				length, seen, turned, data = length%4+1, nil, nil, nil
			case 1, 2: // the same once more
			default:
				data = nil
			}
			if data == nil {
				for range 2 * length {
					data = append(data, byte(r.IntN(256)))
				}
			}
			at = at.Add(time.Second)
			b.Store(data, false, []Place{{Slot: slot, First: 0, Count: 1}}, at)
			words, other := make([]uint16, length), make([]uint16, length)
			for i := range words {
				words[i], other[i] = uint16(data[2*i])<<8|uint16(data[2*i+1]), uint16(data[2*i+1])<<8|uint16(data[2*i])
			}
			seen, turned = append(seen, words), append(turned, other)
		}
		Age([]*Slot{slot}, at)
		signals := Signals([]*Slot{slot}, unit.BuiltIn())
		if len(seen) == 0 {
			if len(signals) > 0 {
				require.Empty(t, signals[0].Area.Ends, "no response, no ends")
			}
			continue
		}
		for _, c := range []struct {
			seen [][]uint16
			ends []weigh.Ends
		}{{seen, signals[0].Area.Ends}, {turned, signals[0].Area.Turned}} {
			if first { // it is not known yet how the point reads it
				break
			}
			require.Len(t, c.ends, length)
			for i, e := range c.ends {
				var u []uint16
				var n []int16
				for _, words := range c.seen {
					u, n = append(u, words[i]), append(n, int16(words[i]))
				}
				require.Equal(t, weigh.Ends{Least: slices.Min(u), Most: slices.Max(u), Lowest: slices.Min(n), Highest: slices.Max(n)}, e)
			}
		}
		first = false
	}
}
