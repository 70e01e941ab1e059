package reading

import (
	"fmt"
	"time"
)

// DeviceTime is a time as a device gave it. It is not limited to the years that RFC 3339 has: a DNP3 device may say any time up to the
// year 10889, which is written in the expanded form of ISO 8601 (+010889-08-02T05:31:50.655Z).
type DeviceTime struct{ time.Time }

// expanded is the form of years that RFC 3339 does not have, without the sign and the first digit.
const expanded = "2006-01-02T15:04:05.000Z07:00"

// String writes the time in UTC.
func (t DeviceTime) String() string {
	utc := t.UTC()
	if year := utc.Year(); year > 9999 {
		return fmt.Sprintf("+%06d%s", year, utc.AddDate(2000-year, 0, 0).Format(expanded)[4:])
	}
	return utc.Format(time.RFC3339Nano)
}

// MarshalJSON writes the time as a string.
func (t DeviceTime) MarshalJSON() ([]byte, error) { return []byte(`"` + t.String() + `"`), nil }

// UnmarshalJSON reads what MarshalJSON writes.
func (t *DeviceTime) UnmarshalJSON(b []byte) error {
	var year int
	var rest string
	if n, _ := fmt.Sscanf(string(b), `"+%06d%s`, &year, &rest); n == 2 && len(rest) > 1 {
		at, err := time.Parse(expanded, "2000"+rest[:len(rest)-1])
		t.Time = at.AddDate(year-2000, 0, 0)
		return err
	}
	return t.Time.UnmarshalJSON(b)
}
