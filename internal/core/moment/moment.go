// Package moment reads moments as people write them.
package moment

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Days and weeks are spans that time.ParseDuration does not know.
var long = regexp.MustCompile(`^(\d+(?:\.\d+)?)(d|w)$`)

// Span reads a span of time: 90s, 15m, 2h, 1h30m, 7d, 2w.
func Span(text string) (time.Duration, error) {
	if m := long.FindStringSubmatch(text); m != nil {
		n, _ := strconv.ParseFloat(m[1], 64) // digits
		hours := n * map[string]float64{"d": 24, "w": 168}[m[2]]
		if hours > 1e6 {
			return 0, fmt.Errorf("%q is longer than anything was recorded", text)
		}
		return time.Duration(hours * float64(time.Hour)), nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 {
		return 0, fmt.Errorf("%q is no span of time: write one such as 90s, 15m, 2h or 7d", text)
	}
	return d, nil
}

// forms are those in which a moment is written, the most exact first.
var forms = []string{time.RFC3339Nano, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02T15:04", "2006-01-02 15:04", time.DateOnly}

// Parse reads a moment: now, a span before now (2h, 7d), 2026-11-28, 2026-11-28 14:00, or RFC 3339. What does not say its zone is in that of in.
func Parse(text string, now time.Time, in *time.Location) (time.Time, error) {
	text = strings.TrimSpace(text)
	if text == "now" {
		return now, nil
	}
	for _, form := range forms {
		if t, err := time.ParseInLocation(form, text, in); err == nil {
			return t, nil
		}
	}
	if d, err := Span(text); err == nil {
		return now.Add(-d), nil
	}
	return time.Time{}, fmt.Errorf("%q is no moment: write a span before now, such as 2h or 7d, or a time such as 2026-11-28, \"2026-11-28 14:00\" or 2026-11-28T14:00:00Z", text)
}
