package site

import (
	"fmt"
	"strings"
	"time"
)

// Duration is a time span written with its unit: 20ms, 1s, 1m30s.
type Duration time.Duration

// String writes d without the zero parts that time.Duration shows: 1h rather than 1h0m0s.
func (d Duration) String() string {
	s := time.Duration(d).String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// MarshalText writes d as String does.
func (d Duration) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads 20ms, 1s, 1m30s.
func (d *Duration) UnmarshalText(b []byte) error {
	v, err := time.ParseDuration(string(b))
	if err != nil {
		return fmt.Errorf("%q is no time span: write a number with its unit, such as 250ms, 1s or 5m", b)
	}
	*d = Duration(v)
	return nil
}
