package dnp3

import (
	"fmt"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/dnp3"
)

const good = reading.Good

// teller puts the objects of readings into words.
type teller struct{}

// objectOf is the raw data of a measurement.
func objectOf(m *dnp3.Measurement) reading.Object {
	if m.Kind == dnp3.OctetString {
		return reading.Text(fmt.Sprintf("g%dv%d %s", m.Group, m.Variation, m.Value))
	}
	flagged := byte(0)
	if m.HasFlags {
		flagged = 1
	}
	return reading.Object{By: teller{}, Bits: m.Value.Bits(), Meta: [6]byte{m.Group, m.Variation, byte(m.Kind), byte(m.Flags), flagged, byte(m.Value.Kind())}}
}

// Tell is part of reading.Teller.
func (teller) Tell(o reading.Object) string {
	s := fmt.Sprintf("g%dv%d %s", o.Meta[0], o.Meta[1], dnp3.ValueText(codec.FromBits(codec.Kind(o.Meta[5]), o.Bits)))
	if o.Meta[4] == 0 {
		return s
	}
	names := dnp3.Flags(o.Meta[3]).Names(dnp3.Kind(o.Meta[2]))
	if len(names) == 0 {
		names = []string{"no flag set"}
	}
	return fmt.Sprintf("%s, 0x%02X %s", s, o.Meta[3], strings.Join(names, ", "))
}

// fill makes of a measurement a sample of a point that is yet to be said.
func fill(s *table.Sample, m *dnp3.Measurement) {
	s.Value, s.Event, s.Object, s.SourceTime = m.Value, m.Event, objectOf(m), time.Time{}
	if m.HasTime {
		s.SourceTime = m.Time.Go()
	}
	s.Quality, s.Reason = qualityOf(m)
}

// sampleOf makes of a measurement a sample of no point.
func sampleOf(m *dnp3.Measurement) (s table.Sample) {
	fill(&s, m)
	return s
}

// qualityOf is what flags and time make of a measurement (IEEE 1815-2012, 11.6); the worst of several counts.
func qualityOf(m *dnp3.Measurement) (reading.Quality, reading.Reason) {
	analog := m.Kind == dnp3.AnalogInput || m.Kind == dnp3.FrozenAnalog || m.Kind == dnp3.AnalogOutput
	counter := m.Kind == dnp3.Counter || m.Kind == dnp3.FrozenCounter
	input := m.Kind == dnp3.BinaryInput || m.Kind == dnp3.DoubleBitInput
	f := m.Flags
	if m.HasFlags {
		switch {
		case f&dnp3.CommLost != 0:
			return reading.Bad, reading.CommLost
		case f&dnp3.Online == 0:
			return reading.Bad, reading.Offline
		}
	}
	if m.Value.IsZero() {
		return reading.Bad, reading.Decode
	}
	if m.HasFlags {
		switch {
		case f&dnp3.Restart != 0:
			return reading.Uncertain, reading.Restarted
		case f&(dnp3.RemoteForced|dnp3.LocalForced) != 0:
			return reading.Uncertain, reading.Forced
		case input && f&dnp3.Chatter != 0:
			return reading.Uncertain, reading.Chatter
		case analog && f&dnp3.OverRange != 0:
			return reading.Uncertain, reading.RawRange
		case analog && f&dnp3.ReferenceError != 0:
			return reading.Uncertain, reading.ReferenceError
		case counter && f&dnp3.Discontinuity != 0:
			return reading.Uncertain, reading.Discontinuity
		}
	}
	if m.HasTime && m.Unsynchronised {
		return reading.Uncertain, reading.TimeUnsynchronised
	}
	return reading.Good, ""
}
