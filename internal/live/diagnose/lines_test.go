package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Where every response of a line is wrong, its settings are to blame only where nothing else tells why.
func TestALineOfWhichEveryResponseIsWrong(t *testing.T) {
	wrong := Counts{Requests: 6, Checksums: 6, Received: 60}
	for _, c := range []struct {
		name    string
		link    func(*Link)
		station func(*Station)
		code    Code
		cause   string
	}{
		{"nothing else is known", nil, nil, LineSettings, "Bytes come back, and every checksum fails: the line settings differ from those of the devices (9600 8E1 here)."},
		{"words", func(l *Link) { l.Words = "login: " }, nil, NotTheProtocol, "What is connected to /dev/ttyX does not speak Modbus."},
		{"a checksum the wrong way round", nil, func(s *Station) { s.Reason = "checksum, and right with its two bytes interchanged: 01 03" }, AnswersMalformed, "The device sends the two bytes of the checksum in the wrong order: the high one first."},
		{"whole frames of another unit", nil, func(s *Station) {
			s.OtherUnit, s.Since = 9, Counts{Requests: 6, Malformed: 6, Foreign: 6, Received: 60}
		}, OtherUnit, "The device answers as unit 9, not as unit 1."},
	} {
		l := link(func(l *Link) {
			serial(l)
			l.Counts, l.Since = wrong, wrong
			if c.link != nil {
				c.link(l)
			}
		})
		s := station("plc", 1, silent(wrong))
		if c.station != nil {
			c.station(&s)
			l.Since.Foreign = s.Since.Foreign
		}
		list := Find(Evidence{Links: []Link{l}, Stations: []Station{s}})
		require.Len(t, list, 1, c.name)
		assert.Equal(t, c.code, list[0].Code, c.name)
		assert.Equal(t, c.cause, list[0].Cause.String(), c.name)
	}
}
