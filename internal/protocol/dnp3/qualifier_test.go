package dnp3_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/protocol/dnp3"
)

// bodies follow every object header: nothing, little, much, and sizes that do not fit.
var bodies = [][]byte{
	nil, {0}, {1}, {1, 0}, {1, 0, 0}, {1, 1, 0, 0xFF}, {1, 3, 0, 'a', 'b', 'c'}, {1, 2, 0, 'a', 'b'}, {2, 0, 1, 0, 0xFF, 0xFF, 9}, {0, 0, 0, 0, 1, 2, 3, 4, 5, 6, 7, 8},
	{0xFF, 0xFF, 0xFF, 0xFF, 0xFF}, {0, 0, 0xFF, 0xFF, 1}, {5, 0, 4, 0}, {1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0},
}

// Whatever qualifier stands with whatever object, a fragment is read to its end or refused.
func TestEveryQualifierWithEveryObject(t *testing.T) {
	used := map[byte]bool{0: true, 1: true, 6: true, 7: true, 8: true, 0x17: true, 0x28: true, 0x5B: true}
	for group := range 126 {
		for _, variation := range []byte{0, 1, 2, 3, 5, 7, 15, 254} {
			for q := range 256 {
				some := bodies
				if !used[byte(q)] {
					some = bodies[5:7]
				}
				for _, body := range some {
					objects := append([]byte{byte(group), variation, byte(q)}, body...)
					n := 0
					dnp3.Measurements(objects, func(m *dnp3.Measurement, other *dnp3.Objects) {
						if n++; m == nil && other == nil {
							t.Fatalf("% X: nothing", objects)
						}
					})
					if n > 1<<16 {
						t.Fatalf("% X: %d measurements", objects, n)
					}
				}
			}
		}
	}
}

func FuzzQualifiers(f *testing.F) {
	f.Add(byte(30), byte(1), byte(0x5B), []byte{1, 1, 0, 1})
	f.Add(byte(2), byte(2), byte(0x5B), []byte{1, 3, 0, 'a', 'b', 'c'})
	f.Add(byte(0), byte(254), byte(0x5B), []byte{1, 2, 0, 1, 0})
	f.Fuzz(func(t *testing.T, group, variation, qualifier byte, body []byte) {
		objects := append([]byte{group, variation, qualifier}, body...)
		dnp3.Measurements(objects, func(*dnp3.Measurement, *dnp3.Objects) {})
		fragment := append([]byte{0xC0, 129, 0, 0}, objects...)
		frame := dnp3.AppendFrame(nil, dnp3.Frame{Control: 0x44, Destination: 1, Source: 10, Data: append([]byte{0xC0}, fragment[:min(len(fragment), 249)]...)})
		new(dnp3.Dissector).Dissect(frame)
	})
}

// Objects that come with a size before each have no index, so that their points are not known; what follows is read.
func TestObjectsWithSizesAreRefused(t *testing.T) {
	for name, objects := range map[string][]byte{
		"too short":        {30, 1, 0x5B, 1, 1, 0, 1},
		"too long":         {2, 2, 0x5B, 1, 3, 0, 'a', 'b', 'c'},
		"as long as it is": {30, 2, 0x5B, 1, 3, 0, 1, 0, 7},
		"text":             {110, 4, 0x5B, 1, 2, 0, 'a', 'b'},
		"packed binaries":  {1, 1, 0x5B, 1, 1, 0, 0xFF},
	} {
		t.Run(name, func(t *testing.T) {
			var got []uint16
			err := dnp3.Measurements(append(objects, 1, 2, 0, 5, 5, 0x81), func(m *dnp3.Measurement, _ *dnp3.Objects) {
				if m != nil {
					got = append(got, m.Index)
				}
			})
			assert.ErrorIs(t, err, dnp3.ErrSize)
			assert.Equal(t, []uint16{5}, got)
		})
	}
}

// What is not read is passed over by its known length, so that what follows in the fragment is.
func TestKnownObjectsThatAreNotReadArePassedOver(t *testing.T) {
	for _, c := range []struct {
		group, variation byte
		octets           int
	}{
		{20, 3, 5}, {20, 4, 3}, {20, 7, 4}, {20, 8, 2}, {21, 3, 5}, {21, 4, 3}, {21, 7, 11}, {21, 8, 9}, {21, 11, 4}, {21, 12, 2},
		{22, 3, 5}, {22, 4, 3}, {22, 7, 11}, {22, 8, 9}, {23, 3, 5}, {23, 4, 3}, {23, 7, 11}, {23, 8, 9},
		{101, 1, 2}, {101, 2, 4}, {101, 3, 8}, {102, 1, 1}, {112, 5, 5}, {113, 0, 0}, {113, 9, 9}, {121, 1, 7}, {122, 1, 7}, {122, 2, 13},
	} {
		objects := []byte{c.group, c.variation, 0x17, 2}
		for range 2 {
			objects = append(objects, 3)
			objects = append(objects, make([]byte, c.octets)...)
		}
		n := 0
		err := dnp3.Measurements(append(objects, 1, 2, 0, 5, 5, 0x81), func(m *dnp3.Measurement, _ *dnp3.Objects) {
			if m != nil {
				n++
				require.Equal(t, uint16(5), m.Index)
			}
		})
		require.NoError(t, err, "g%dv%d", c.group, c.variation)
		assert.Equal(t, 1, n, "g%dv%d", c.group, c.variation)
		assert.False(t, dnp3.Known(c.group, c.variation) && c.group < 100, "nothing asks for them")
	}
	err := dnp3.Measurements([]byte{99, 1, 0x17, 1, 3, 0}, func(*dnp3.Measurement, *dnp3.Objects) {})
	assert.True(t, errors.Is(err, dnp3.ErrObject), "of an unknown one the length is not known")
}

// IEEE 1815-2012, 8.2.3: a segment that comes again with the same octets is dropped; one with its number and other octets ends the
// series.
func TestClause8_2_3_RepeatedSegments(t *testing.T) {
	first, second, last := []byte{0x41, 'a'}, []byte{0x02, 'b'}, []byte{0x83, 'c'}
	var r dnp3.Reassembly
	add := func(b []byte) ([]byte, error) { return r.Add(b) }
	for _, b := range [][]byte{first, second, second} {
		fragment, err := add(b)
		require.NoError(t, err)
		require.Nil(t, fragment)
	}
	fragment, err := add(last)
	require.NoError(t, err)
	assert.Equal(t, "abc", string(fragment))
	add(first)
	add(second)
	_, err = add([]byte{0x02, 'x'})
	assert.ErrorIs(t, err, dnp3.ErrSegmentOrder)
	_, err = add(last)
	assert.ErrorIs(t, err, dnp3.ErrSegmentOrder, "nothing of the series is kept")
}
