package sheet

import (
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"
)

// Cells whose formats tell what their values do not: a number that is shown as 40010 or as 00001, a date, a row that is struck out. Of other formats,
// such as those of percents, thousands and decimals, the value counts.

// style is what the style of cells tells of them.
type style struct {
	struck bool
	date   bool
	digits string // the format of numbers that are shown with leading zeros, or with digits before them; "" for others
}

// stylesOf are the styles of a workbook that tell something, by their numbers.
func stylesOf(f *excelize.File) map[int]style {
	out := map[int]style{}
	if f.Styles == nil || f.Styles.CellXfs == nil {
		return out
	}
	for i := range f.Styles.CellXfs.Xf {
		of, err := f.GetStyle(i)
		if err != nil {
			continue
		}
		s := style{struck: of.Font != nil && of.Font.Strike, date: dates[of.NumFmt]}
		if of.CustomNumFmt != nil {
			s.date, s.digits = dateFormat(*of.CustomNumFmt), digitsFormat(*of.CustomNumFmt)
		}
		if s != (style{}) {
			out[i] = s
		}
	}
	return out
}

// dates are the formats of dates and times that every workbook has (ISO/IEC 29500-1, 18.8.30).
var dates = func() map[int]bool {
	out := map[int]bool{}
	for _, span := range [][2]int{{14, 22}, {27, 36}, {45, 47}, {50, 58}} {
		for n := span[0]; n <= span[1]; n++ {
			out[n] = true
		}
	}
	return out
}()

// formatParts goes through the part of a format for positive numbers: shown gets what is shown as it is, in quotes and behind a stroke, and sign the
// other signs. What is in brackets is a colour or a condition.
func formatParts(format string, shown func(literal string), sign func(r rune)) {
	positive, _, _ := strings.Cut(format, ";")
	for runes := []rune(positive); len(runes) > 0; {
		r := runes[0]
		runes = runes[1:]
		switch {
		case r == '"' || r == '[':
			end := 0
			for end < len(runes) && runes[end] != map[rune]rune{'"': '"', '[': ']'}[r] {
				end++
			}
			if r == '"' {
				shown(string(runes[:end]))
			}
			runes = runes[min(end+1, len(runes)):]
		case r == '\\' && len(runes) > 0:
			shown(string(runes[0]))
			runes = runes[1:]
		default:
			sign(r)
		}
	}
}

// dateFormat reports whether a format is one of dates or times.
func dateFormat(format string) (is bool) {
	general := strings.EqualFold(format, "general")
	formatParts(format, func(string) {}, func(r rune) { is = is || strings.ContainsRune("ymdhsYMDHS", r) })
	return is && !general
}

// digitsFormat gives a format in which whole numbers have leading zeros or digits before them, "" for others.
func digitsFormat(format string) string {
	zeros, places, before, other := 0, 0, false, false
	show := func(text string) {
		before = before || strings.ContainsAny(text, "123456789xX")
		other = other || places > 0 && strings.TrimSpace(text) != ""
	}
	formatParts(format, show, func(r rune) {
		switch {
		case r == '0':
			zeros, places = zeros+1, places+1
		case r == '#':
			places++
		case r >= '1' && r <= '9', r == 'x', r == 'X', r == ' ', r == '-':
			show(string(r))
		default:
			other = true
		}
	})
	if other || places == 0 || zeros < 2 && !before {
		return ""
	}
	return format
}

// inDigits is a whole number as a format of digits shows it: 10 as 40010 in "4"0000.
func inDigits(value, format string) string {
	n, err := strconv.ParseUint(value, 10, 63)
	if err != nil {
		return value
	}
	zeros, before := 0, ""
	formatParts(format, func(text string) { before += text }, func(r rune) {
		switch r {
		case '0':
			zeros++
		case '#':
		default:
			before += string(r)
		}
	})
	digits := strconv.FormatUint(n, 10)
	return strings.TrimSpace(before + strings.Repeat("0", max(0, zeros-len(digits))) + digits)
}

// inDate is a date as it is written here, 2026-01-02, with the time where it has one, to the millisecond; of what is none, the value.
func inDate(value string, from1904 bool) string {
	days, err := strconv.ParseFloat(value, 64)
	if err != nil || !(days >= 0 && days < mostDays) {
		return value
	}
	first := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	if from1904 {
		first = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	at := first.Add(time.Duration(math.Round(days*86_400_000)) * time.Millisecond)
	switch {
	case days < 1:
		return at.Format("15:04:05.999")
	case at.Equal(at.Truncate(24 * time.Hour)):
		return at.Format(time.DateOnly)
	}
	return at.Format("2006-01-02 15:04:05.999")
}

// mostDays are those up to the year 2100, so that what is no date stays a number.
const mostDays = 73_051
