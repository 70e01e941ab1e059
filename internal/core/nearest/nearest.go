// Package nearest finds the names that are most like one that was mistyped.
package nearest

import (
	"slices"
	"strings"
)

// Names returns at most limit of names that are most like what was typed, best first; none when nothing is close.
func Names(typed string, names []string, limit int) []string {
	type scored struct {
		name     string
		distance int
	}
	target := strings.ToLower(typed)
	reach := max(2, len(target)/3)
	var found []scored
	for _, name := range names {
		lower := strings.ToLower(name)
		d := distance(target, lower, reach)
		if d > reach && len(target) >= 3 && strings.Contains(lower, target) {
			d = reach
		}
		if d <= reach {
			found = append(found, scored{name, d})
		}
	}
	slices.SortStableFunc(found, func(a, b scored) int { return a.distance - b.distance })
	near := []string{}
	for _, f := range found {
		if len(near) < limit && !slices.Contains(near, f.name) {
			near = append(near, f.name)
		}
	}
	return near
}

// distance counts the single-character edits from a to b; it gives up beyond reach.
func distance(a, b string, reach int) int {
	if d := len(a) - len(b); d > reach || -d > reach {
		return reach + 1
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal, best := row[0], i+1
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
			best = min(best, row[j+1])
		}
		if best > reach {
			return reach + 1
		}
	}
	return row[len(b)]
}

// Hint is "; did you mean a or b?" for the nearest names, "" when none is close.
func Hint(typed string, names []string) string {
	if near := Names(typed, names, 3); len(near) > 0 {
		return "; did you mean " + strings.Join(near, " or ") + "?"
	}
	return ""
}
