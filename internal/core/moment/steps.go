package moment

import "time"

const day = 24 * time.Hour

// Steps divide time into stretches of one length. Those that make up a day, and whole days, begin with the day of a zone, which may have 23 or 25
// hours; the rest are counted from 1970 in UTC.
type Steps struct {
	Each time.Duration // more than 0
	In   *time.Location
}

// Begin is when the stretch begins that t is in.
func (s Steps) Begin(t time.Time) time.Time {
	t = t.In(s.In)
	midnight := midnightOf(t, 0)
	switch {
	case s.Each%day == 0: // several days are counted from 1970
		days := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC).Unix() / int64(day/time.Second)
		n := int64(s.Each / day)
		return midnightOf(t, -int(((days%n)+n)%n))
	case day%s.Each != 0:
		each := s.Each.Nanoseconds()
		in := t.UnixNano() % each
		if in < 0 {
			in += each
		}
		return t.Add(-time.Duration(in))
	case s.Each > time.Hour: // by the clock on the wall
		for n := int(day/s.Each) - 1; n > 0; n-- {
			if at := midnight.Add(s.wall(midnight, n)); !at.After(t) {
				return at
			}
		}
		return midnight
	}
	return midnight.Add(t.Sub(midnight) / s.Each * s.Each)
}

// wall is how long after midnight the clock on the wall shows n steps.
func (s Steps) wall(midnight time.Time, n int) time.Duration {
	y, m, d := midnight.Date()
	return time.Date(y, m, d, 0, 0, n*int(s.Each/time.Second), 0, s.In).Sub(midnight)
}

// Next is when the stretch begins that follows the one beginning at t.
func (s Steps) Next(t time.Time) time.Time {
	t = t.In(s.In)
	switch {
	case s.Each%day == 0:
		return midnightOf(t, int(s.Each/day))
	case day%s.Each != 0:
		return t.Add(s.Each)
	}
	midnight, at := midnightOf(t, 0), t.Add(s.Each)
	if s.Each > time.Hour { // by the clock on the wall
		at = midnightOf(t, 1)
		for n := int(day/s.Each) - 1; n > 0; n-- {
			if is := midnight.Add(s.wall(midnight, n)); is.After(t) {
				at = is
			}
		}
	}
	if tomorrow := midnightOf(t, 1); at.After(tomorrow) {
		return tomorrow
	}
	return at
}

// midnightOf is when a day begins, so many days after that of t. Where the clock is put forward at midnight, it is when it then shows.
func midnightOf(t time.Time, days int) time.Time {
	y, m, d := t.Date()
	at := time.Date(y, m, d+days, 0, 0, 0, 0, t.Location())
	if at.Hour() != 0 { // there is no midnight: what the clock showed before it was put forward
		_, before := at.Zone()
		_, after := at.Add(day / 8).Zone()
		at = at.Add(time.Duration(after-before) * time.Second)
	}
	if days > 0 && !at.After(t) { // a day that there was not: the date line was moved
		return midnightOf(t, days+1)
	}
	return at
}
