package api

import (
	"errors"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/modbus"
)

// tableSample is one raw reading.
type tableSample = table.Sample

// mostHoleReads is how many requests are made at most for one range that a device refuses as a whole.
const mostHoleReads = 40

// readAround reads a range, and where the device refuses some of its addresses, what can be read of it; the others are samples that say why.
// A range of which nothing can be read is an error.
func readAround(what site.Range, ask func(site.Range) ([]tableSample, error)) ([]tableSample, error) {
	left := mostHoleReads
	var read func(site.Range) ([]table.Sample, error)
	read = func(part site.Range) ([]table.Sample, error) {
		left--
		samples, err := ask(part)
		var refused modbus.Exception
		if err == nil || !errors.As(err, &refused) || refused != modbus.IllegalDataAddress && refused != modbus.IllegalDataValue {
			return samples, err
		}
		if part.Count == 1 || left < 2 {
			reason := reading.ExceptionReason(byte(refused))
			if part.Count > 1 { // refused together, which says nothing of each
				reason = reading.NeverRead
			}
			samples := make([]table.Sample, part.Count)
			for i := range samples {
				at := part.Start
				at.Offset += uint16(i)
				samples[i] = table.Sample{Address: at, Quality: reading.Bad, Reason: reason}
			}
			return samples, nil
		}
		half := part.Count / 2
		rest := part
		part.Count, rest.Count = half, rest.Count-half
		rest.Start.Offset += uint16(half)
		first, err := read(part)
		if err != nil {
			return nil, err
		}
		second, err := read(rest)
		return append(first, second...), err
	}
	samples, err := read(what)
	for _, sample := range samples {
		if sample.Quality != reading.Bad {
			return samples, err
		}
	}
	if err == nil && len(samples) > 0 { // nothing of it is there: as the device says of the whole
		samples, err = ask(what)
	}
	return samples, err
}
