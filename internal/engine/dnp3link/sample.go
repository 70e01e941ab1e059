package dnp3link

import (
	"fmt"
	"strings"

	"arithmon/internal/codec"
	"arithmon/internal/dnp3"
	"arithmon/internal/engine"
	"arithmon/internal/reading"
)

const good = reading.Good

// text is an object of which only the text is known.
type text = reading.Text

// object is the raw data of a reading.
type object struct {
	group, variation byte
	kind             dnp3.Kind
	flags            dnp3.Flags
	flagged          bool
	value            codec.Value
}

func (o *object) String() string {
	s := fmt.Sprintf("g%dv%d %s", o.group, o.variation, dnp3.ValueText(o.value))
	if !o.flagged {
		return s
	}
	names := o.flags.Names(o.kind)
	if len(names) == 0 {
		names = []string{"no flag set"}
	}
	return fmt.Sprintf("%s, 0x%02X %s", s, byte(o.flags), strings.Join(names, ", "))
}

// sampleOf makes of a measurement a sample of a point.
func sampleOf(m *dnp3.Measurement, slot *engine.Slot) engine.Sample {
	s := engine.Sample{Slot: slot, Value: m.Value, Quality: reading.Good, Event: m.Event,
		Object: &object{m.Group, m.Variation, m.Kind, m.Flags, m.HasFlags, m.Value}}
	if m.HasTime {
		s.SourceTime = m.Time.Go()
	}
	s.Quality, s.Reason = qualityOf(m)
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
