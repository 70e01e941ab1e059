package modbus

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/modbus"
)

// hush is a device that leaves some reads without a word.
type hush struct {
	registerMap
	leaves func(first, count int) bool
}

func (h *hush) Exchange(unit byte, r modbus.Request, timeout time.Duration) (modbus.Answered, error) {
	if h.leaves(int(r.Address), int(r.Quantity)) {
		h.asked++
		return modbus.Answered{}, modbus.ErrTimeout
	}
	return h.registerMap.Exchange(unit, r, timeout)
}

// notes takes down what a session says of its station.
type notes struct {
	link.Host
	list []diagnose.Note
}

func (n *notes) Note(_ string, note diagnose.Note)            { n.list = append(n.list, note) }
func (n *notes) Asked(int, link.Outcome, time.Duration, bool) {}

func hushed(longest int, leaves func(first, count int) bool, points ...site.Point) (*polling, *hush, *notes) {
	h := &hush{registerMap{refuse: holes()}, leaves}
	p := newPolling(&h.registerMap, points...)
	p.session.asker = h
	n := &notes{}
	p.session.host = n
	return p, h, n
}

func TestAReadThatIsTooLongForTheDeviceIsDivided(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		longest := rapid.IntRange(6, 60).Draw(t, "longest")
		count := rapid.IntRange(70, 110).Draw(t, "points")
		gap := rapid.IntRange(1, 2).Draw(t, "step")
		var points []site.Point
		for i := range count {
			points = append(points, site.Point{Tag: fmt.Sprint("p", i), Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(gap * i)}, Type: codec.TypeUint16})
		}
		p, h, n := hushed(longest, func(_, count int) bool { return count > longest }, points...)
		for range 12 {
			p.round(t)
		}
		assert.Len(t, p.good(t), count, "all points are read")
		require.NotEmpty(t, n.list)
		last := n.list[len(n.list)-1]
		assert.Equal(t, diagnose.NoteLongest, last.Kind)
		assert.LessOrEqual(t, int(last.Number), longest)
		assert.Greater(t, int(last.Number), longest-gap)
		before := h.asked
		p.round(t)
		assert.LessOrEqual(t, h.asked-before, 3*(gap*count/longest+2), "and no more is asked than it takes")
	})
}

func TestALostResponseTeachesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var points []site.Point
		for i := range 60 {
			points = append(points, site.Point{Tag: fmt.Sprint("p", i), Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(i)}, Type: codec.TypeUint16})
		}
		lose := 0
		p, h, n := hushed(125, func(int, int) bool { lose--; return lose >= 0 }, points...)
		lose = rapid.IntRange(3, 5).Draw(t, "lost in a row")
		for range 10 {
			p.round(t)
		}
		assert.Len(t, p.good(t), 60)
		assert.Empty(t, n.list)
		before := h.asked
		p.round(t)
		assert.LessOrEqual(t, h.asked-before, 2, "it is asked as before")
	})
}

func TestAnAddressThatIsLeftWithoutAWord(t *testing.T) {
	var points []site.Point
	for i := range 40 {
		points = append(points, site.Point{Tag: fmt.Sprint("p", i), Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(i)}, Type: codec.TypeUint16})
	}
	p, _, n := hushed(125, func(first, count int) bool { return first <= 17 && first+count > 17 }, points...)
	for range 20 {
		p.round(t)
	}
	assert.Len(t, p.good(t), 39, "all but the one that is not answered")
	assert.Empty(t, n.list, "it is no matter of length")
	var _ = table.Slot{}
}
