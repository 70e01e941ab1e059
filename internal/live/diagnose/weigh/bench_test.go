package weigh_test

import (
	"strconv"
	"testing"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose/weigh"
)

// A healthy station of 50 points, half of them floating-point values, weighed once.
func BenchmarkStation50(b *testing.B) {
	d := newDevice(b, 100)
	for i := range 50 {
		l := codec.Layout{Type: codec.TypeFloat32}
		unit := "bar"
		if i%2 == 1 {
			l.Type, unit = codec.TypeUint16, ""
		}
		d.holds(2*i, l, walk(5+float64(i), 0.2, 0, 100))
		d.point(site.Point{Type: l.Type, Unit: unit}, 2*i)
	}
	var h weigh.History
	b.ReportAllocs()
	for i := range b.N {
		signals := make([]*weigh.Signal, len(d.signals))
		for k, s := range d.signals { // nothing is known of them from before
			fresh := *s
			signals[k] = &fresh
		}
		if sec := uint32(2000 + 20*i); h.Weigh(signals, sec) != nil || h.Faults(signals, sec) != nil {
			b.Fatal("nothing is wrong with it")
		}
	}
}

// Stations of which every value has its words in the wrong order: what it takes grows as the number of their points.
func BenchmarkStationWithWordsInTheWrongOrder(b *testing.B) {
	for _, n := range []int{100, 1000, 4000} {
		b.Run(strconv.Itoa(n), func(b *testing.B) {
			d := newDevice(b, 2*n)
			for i := range n {
				d.holds(2*i, codec.Layout{Type: codec.TypeFloat32, Order: codec.CDAB}, walk(3+float64(i%5), 0.02, 1, 14))
				d.point(site.Point{Type: codec.TypeFloat32, Unit: "bar"}, 2*i)
			}
			for b.Loop() {
				signals := make([]*weigh.Signal, n)
				for k, s := range d.signals {
					fresh := *s
					signals[k] = &fresh
				}
				list := weigh.Station(signals)
				if len(list) != 1 || len(list[0].Points) != n || list[0].Reading.Order != codec.CDAB {
					b.Fatal(len(list), list[0].Reading, len(list[0].Points))
				}
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*n), "µs/point")
		})
	}
}
