package site

import (
	"fmt"
	"regexp"
	"strings"
)

// Range is a run of addresses in one space, read or written together: hr:0..9.
type Range struct {
	Start Address
	Count int // 1 to 65536
}

func (r Range) String() string {
	if r.Count == 1 {
		return r.Start.String()
	}
	return fmt.Sprintf("%s..%d", r.Start, int(r.Start.Offset)+r.Count-1)
}

// printedRange is a range as manuals print it: 40010-40011.
var printedRange = regexp.MustCompile(`^\s*([0-9][0-9A-Fa-fxXhH,]*)\s*[-\x{2013}]\s*([0-9][0-9A-Fa-fxXhH,]*)\s*$`)

// ParseRange reads hr:0..9, hr:0x10..0x1F, 40001..40010, 40001-40010 as manuals print it, or a single address. Both ends are read in the
// convention; the table of the first holds for both.
func (c Convention) ParseRange(text string, chosen Space) (Range, error) {
	first, last, found := strings.Cut(strings.TrimSpace(text), "..")
	if ends := printedRange.FindStringSubmatch(text); ends != nil {
		first, last, found = ends[1], ends[2], true
	}
	start, err := c.Parse(first, chosen)
	if err != nil {
		return Range{}, err
	}
	if !found {
		return Range{start, 1}, nil
	}
	if start.Part != Whole {
		return Range{}, fmt.Errorf("%q: a range has no bits or bytes", text)
	}
	if prefix, _, ok := cutSpace(first); ok && !strings.Contains(last, ":") {
		last = string(prefix) + ":" + last
	}
	end, err := c.Parse(last, chosen)
	if err != nil {
		return Range{}, err
	}
	if end.Space != start.Space || end.Part != Whole {
		return Range{}, fmt.Errorf("%q: both ends must be whole addresses of one table", text)
	}
	if end.Offset < start.Offset {
		return Range{}, fmt.Errorf("%q runs backwards: write the lower address first", text)
	}
	return Range{start, int(end.Offset) - int(start.Offset) + 1}, nil
}
