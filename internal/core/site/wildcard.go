package site

import (
	"fmt"
	"regexp"
	"strings"
)

// Renaming gives new tags for those of a pattern: what its wildcards stood for stands in the place of those of the new one, in their order.
type Renaming struct {
	from *regexp.Regexp
	to   string
}

// NewRenaming makes a renaming: vantro1/* and pump7/*.
func NewRenaming(from, to string) (Renaming, error) {
	var b strings.Builder
	b.WriteString("(?is)^")
	wild := 0
	for _, r := range from {
		switch r {
		case '*':
			b.WriteString("(.*?)")
			wild++
		case '?':
			b.WriteString("(.)")
			wild++
		default:
			b.WriteString(regexp.QuoteMeta(string(r)))
		}
	}
	b.WriteString("$")
	expression, err := regexp.Compile(b.String())
	if err != nil {
		return Renaming{}, fmt.Errorf("%q: %w", from, err)
	}
	if n := strings.Count(to, "*") + strings.Count(to, "?"); n != wild {
		return Renaming{}, fmt.Errorf("%q has %d wildcards and %q has %d; each stands for what one of the other stood for", from, wild, to, n)
	}
	return Renaming{expression, to}, nil
}

// Tag is the new tag of one; false when it is none of the pattern.
func (r Renaming) Tag(tag string) (string, bool) {
	parts := r.from.FindStringSubmatch(tag)
	if parts == nil {
		return "", false
	}
	var b strings.Builder
	n := 0
	for _, c := range r.to {
		if c == '*' || c == '?' {
			n++
			b.WriteString(parts[n])
			continue
		}
		b.WriteRune(c)
	}
	return b.String(), true
}
