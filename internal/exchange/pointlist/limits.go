package pointlist

import (
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/core/site"
)

// severities are words that lists have for how urgent an alarm is.
var severities = map[string]int{
	"critical": 1, "urgent": 1, "emergency": 1, "trip": 1, "kritisch": 1, "high": 2, "hoch": 2, "medium": 3, "middle": 3, "normal": 3, "warning": 3, "mittel": 3, "warnung": 3,
	"low": 4, "info": 4, "advisory": 4, "niedrig": 4,
}

// blank reports whether a cell says that there is nothing.
func blank(text string) bool {
	return slices.Contains([]string{"-", "–", "—", "none", "no", "n/a", "nein", "keine", "off"}, strings.ToLower(text))
}

// limits makes the limits of a point of columns of their own; of a list without one, the column limits may hold them all.
func (m *making) limits(plain func(string) (string, bool)) {
	if text, ok := plain("limits"); ok {
		m.cells["limits"] = text
		m.exact("limits")
		return
	}
	limits := map[string]any{}
	put := func(name, column string, value any) {
		limits[name] = value
		m.from("limits."+name, column)
		m.from("limits", column)
	}
	for i, column := range []string{colLowLow, colLow, colHigh, colHighHigh} {
		name := site.AllLimits()[i]
		text, ok := plain(column)
		if !ok || blank(text) {
			continue
		}
		if f, is := number(text); is {
			put(string(name), column, f)
		} else {
			m.fault(column, "%q is no number", text)
		}
	}
	if text, ok := plain(colState); ok && !blank(text) {
		put(string(site.InState), colState, text)
	}
	if len(limits) == 0 {
		return // of what stands beside them, nothing is said without one
	}
	if text, ok := plain(colDeadband); ok && !blank(text) {
		if f, is := number(text); is {
			put("deadband", colDeadband, f)
		} else {
			m.fault(colDeadband, "%q is no number", text)
		}
	}
	if text, ok := plain(colDelay); ok && !blank(text) {
		if period, ok := m.period(colDelay, text); ok {
			put("delay", colDelay, period)
		}
	}
	if text, ok := plain(colSeverity); ok && !blank(text) {
		n, err := strconv.Atoi(strings.TrimPrefix(strings.ToLower(text), "p"))
		if word, is := severities[strings.ToLower(text)]; is {
			n, err = word, nil
		}
		if err != nil {
			m.fault(colSeverity, "%q is no severity: 1, the most urgent, to %d", text, site.MaxSeverity)
		} else {
			put("severity", colSeverity, n)
		}
	}
	m.item.Fields["limits"] = limits
}
