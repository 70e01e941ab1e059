package samples

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/codec"
)

// habits are how a file writes what can be read in two ways, as far as its cells tell.
type habits struct {
	zone      *time.Location
	serial    bool // it is a spreadsheet, whose times may be numbers of days
	days      order
	thousands bool // a comma is between thousands, since a point is before decimals
}

// order is which comes first in dates such as 03/04/2026.
type order int

const (
	unknown order = iota
	dayFirst
	monthFirst
	mixed // some can only be the one, and some the other
)

var (
	slashed      = regexp.MustCompile(`^(\d{1,2})/(\d{1,2})/\d{4}\b`)
	halfDays     = regexp.MustCompile(`(?i)\d ?[ap]m$`)
	pointDecimal = regexp.MustCompile(`^[-+]?(\d+|\d{1,3}(,\d{3})+)\.\d+([eE][-+]?\d+)?$`)
	decimalComma = regexp.MustCompile(`^[-+]?\d+,\d+([eE][-+]?\d+)?$`)
	byComma      = regexp.MustCompile(`^[-+]?\d{1,3}(,\d{3})+(\.\d+)?$`)
	byPoint      = regexp.MustCompile(`^[-+]?\d{1,3}(\.\d{3})+,\d+$`)
	numeric      = regexp.MustCompile(`^[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?$`)
)

// seeTime learns from a time how the file writes them.
func (h *habits) seeTime(text string) {
	m := slashed.FindStringSubmatch(text)
	if m == nil {
		return
	}
	first, _ := strconv.Atoi(m[1])
	second, _ := strconv.Atoi(m[2])
	is := unknown
	switch {
	case first > 12:
		is = dayFirst
	case second > 12, halfDays.MatchString(text):
		is = monthFirst
	}
	switch {
	case is == unknown:
	case h.days == unknown || h.days == is:
		h.days = is
	default:
		h.days = mixed
	}
}

// seeValue learns from a value how the file writes numbers.
func (h *habits) seeValue(text string) { h.thousands = h.thousands || pointDecimal.MatchString(text) }

// times are forms of times beside RFC 3339; those without a zone.
var times = []string{"2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02", "02.01.2006 15:04:05", "02.01.2006 15:04", "02.01.2006", "2006/01/02 15:04:05", "2006/01/02 15:04"}

// clocks are what may follow a date with slashes.
var clocks = []string{" 15:04:05", " 15:04", " 3:04:05 PM", " 3:04 PM", " 3:04:05PM", " 3:04PM", ""}

// What a time may be: within what was ever measured, and can be kept.
var (
	earliest = time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC)
	latest   = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC)
)

// time reads a time. Its error says what is wrong with it.
func (h *habits) time(text string) (at time.Time, err error) {
	at, ok := h.when(text)
	switch {
	case !ok && slashed.MatchString(text) && h.days == unknown:
		return at, fmt.Errorf("%q can be read with the day first or the month first, and nothing in the file tells which; write 2026-11-28 14:00:05", text)
	case !ok && slashed.MatchString(text) && h.days == mixed:
		return at, fmt.Errorf("%q: some dates of the file can only have the day first, and some only the month; write 2026-11-28 14:00:05", text)
	case !ok:
		return at, fmt.Errorf("%q is no time; write one such as 2026-11-28T14:00:00Z, \"2026-11-28 14:00:05.5\" or seconds or milliseconds since 1970", text)
	case at.Before(earliest) || !at.Before(latest):
		return at, fmt.Errorf("%q is not between 1900 and 2200", text)
	}
	return at, nil
}

func (h *habits) when(text string) (at time.Time, ok bool) {
	if h.serial {
		if at, ok := serial(text, h.zone); ok {
			return at, true
		}
	}
	if at, ok := sinceEpoch(text); ok {
		return at, true
	}
	for _, form := range []string{time.RFC3339Nano, "2006-01-02 15:04:05Z07:00", "2006-01-02 15:04:05 -0700"} {
		if t, err := time.Parse(form, text); err == nil {
			return t, true
		}
	}
	forms := times
	switch h.days {
	case dayFirst:
		forms = slashForms("2/1/2006")
	case monthFirst:
		forms = slashForms("1/2/2006")
	}
	if !slashed.MatchString(text) {
		forms = times
	}
	for _, form := range forms {
		if t, err := time.ParseInLocation(form, strings.ToUpper(text), h.zone); err == nil {
			return t, true
		}
	}
	return at, false
}

func slashForms(date string) (list []string) {
	for _, c := range clocks {
		list = append(list, date+c)
	}
	return list
}

// sinceEpoch reads seconds since 1970, with a fraction or without, or whole milliseconds, microseconds or nanoseconds, which their size tells
// apart.
func sinceEpoch(text string) (at time.Time, ok bool) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		f, err := strconv.ParseFloat(text, 64)
		if err != nil || !(f >= 1e8 && f < 1e10) {
			return at, false
		}
		return time.UnixMilli(int64(math.Round(f * 1000))), true
	}
	switch {
	case n < 1e8:
		return at, false
	case n < 1e10:
		return time.Unix(n, 0), true
	case n < 1e11:
		return at, false
	case n < 1e14:
		return time.UnixMilli(n), true
	case n < 1e17:
		return time.UnixMicro(n), true
	}
	return time.Unix(0, n), true
}

// serial reads a time as spreadsheets keep it: days since the end of 1899.
func serial(text string, in *time.Location) (at time.Time, ok bool) {
	days, err := strconv.ParseFloat(text, 64)
	if err != nil || !(days > 1 && days < 110_000) {
		return at, false
	}
	at = time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC).Add(time.Duration(math.Round(days*86_400_000)) * time.Millisecond)
	return time.Date(at.Year(), at.Month(), at.Day(), at.Hour(), at.Minute(), at.Second(), at.Nanosecond(), in), at.After(earliest)
}

// none is what stands in a cell for no value.
var none = map[string]bool{"nan": true, "+nan": true, "-nan": true, "inf": true, "+inf": true, "-inf": true, "infinity": true, "-infinity": true, "null": true, "n/a": true, "#n/a": true, "-": true, "--": true}

// value reads a value: a number, true or false, or text; nothing where the cell says that there was none.
func (h *habits) value(text string) (v codec.Value, err error) {
	low := strings.ToLower(text)
	switch {
	case low == "true":
		return codec.BoolValue(true), nil
	case low == "false":
		return codec.BoolValue(false), nil
	case none[low]:
		return v, nil
	}
	number := text
	switch {
	case h.thousands && byComma.MatchString(text):
		number = strings.ReplaceAll(text, ",", "")
	case byPoint.MatchString(text):
		number = strings.Replace(strings.ReplaceAll(text, ".", ""), ",", ".", 1)
	case decimalComma.MatchString(text):
		number = strings.Replace(text, ",", ".", 1)
	}
	if !numeric.MatchString(number) {
		return codec.TextValue(text), nil
	}
	f, err := strconv.ParseFloat(number, 64)
	if err != nil {
		return v, fmt.Errorf("%q is out of range", text)
	}
	return codec.FloatValue(f), nil
}
