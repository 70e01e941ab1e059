package store

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
)

// BenchmarkAdd50000 puts a site of 50,000 points, as it comes of a site file, on the disk and into force.
func BenchmarkAdd50000(b *testing.B) {
	points := make([]site.Point, 50000)
	for i := range points {
		points[i] = site.Point{Tag: fmt.Sprintf("plant/area%02d/point%05d", i%40, i), Station: "plc", Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(i)},
			Unit: "%", Description: fmt.Sprint("Point ", i)}
	}
	for b.Loop() {
		b.StopTimer()
		s, err := Open(context.Background(), b.TempDir(), Options{})
		require.NoError(b, err)
		b.StartTimer()
		_, _, err = s.Modify(context.Background(), Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) {
			d.Add(link("gate"))
			st := site.NewStation()
			st.Name, st.Link = "plc", "gate"
			d.Add(st)
			for _, p := range points {
				d.Add(p)
			}
		})
		require.NoError(b, err)
		b.StopTimer()
		require.NoError(b, s.Close())
		b.StartTimer()
	}
}
