package cli

import "time"

// zone names the zone that times are said in.
func zone() string {
	name, _ := time.Now().Zone()
	return name
}

// timeHead is the head of a column of times.
func (a *app) timeHead(what string) string {
	if a.output == "csv" {
		return what
	}
	return what + " (" + zone() + ")"
}

// stamp says a time: for people in their zone, for programs as RFC 3339 in UTC.
func (a *app) stamp(t time.Time) string {
	if a.output == "csv" {
		return t.UTC().Format(time.RFC3339Nano)
	}
	return t.Local().Format(time.DateTime)
}
