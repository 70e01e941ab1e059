// Package template holds what a kind of device has in common: texts with parameters in braces, as in {tag}/current or hr:{base+9}, and what comes
// of them when the parameters have values.
package template

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// A text may hold expressions in braces: a parameter, {tag}, or whole numbers and parameters with + - and *, {base+9}, {n*100+40001}. Braces
// that are meant as such are doubled: {{ and }}.

// piece is a part of a text: plain, or an expression.
type piece struct {
	plain string
	terms []term // nil for a plain one
}

// term is a product with its sign.
type term struct {
	minus   bool
	factors []string // numbers and names
}

// alone is the name of an expression that is one parameter and nothing else; "" for any other.
func (p piece) alone() string {
	if len(p.terms) == 1 && !p.terms[0].minus && len(p.terms[0].factors) == 1 && !isNumber(p.terms[0].factors[0]) {
		return p.terms[0].factors[0]
	}
	return ""
}

func isNumber(s string) bool { return s != "" && s[0] >= '0' && s[0] <= '9' }

// parse takes a text apart.
func parse(text string) (pieces []piece, err error) {
	var plain strings.Builder
	flush := func() {
		if plain.Len() > 0 {
			pieces = append(pieces, piece{plain: plain.String()})
			plain.Reset()
		}
	}
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case (c == '{' || c == '}') && i+1 < len(text) && text[i+1] == c:
			plain.WriteByte(c)
			i++
		case c == '}':
			return nil, fmt.Errorf("%q has a } without a { before it; a brace that is meant as such is doubled: }}", text)
		case c == '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 {
				return nil, fmt.Errorf("%q has a { that does not end; a brace that is meant as such is doubled: {{", text)
			}
			flush()
			terms, err := expression(text[i+1 : i+end])
			if err != nil {
				return nil, err
			}
			pieces = append(pieces, piece{terms: terms})
			i += end
		default:
			plain.WriteByte(c)
		}
	}
	flush()
	return pieces, nil
}

// expression reads what stands in braces.
func expression(text string) (terms []term, err error) {
	wrong := fmt.Errorf("{%s} is no expression: write a parameter, {tag}, or numbers and parameters with + - and *, {base+9}", text)
	minus, rest := false, strings.TrimSpace(text)
	for {
		end := strings.IndexAny(rest, "+-")
		product := rest
		if end >= 0 {
			product = rest[:end]
		}
		t := term{minus: minus}
		for f := range strings.SplitSeq(product, "*") {
			f = strings.TrimSpace(f)
			if !validName(f) && !validNumber(f) {
				return nil, wrong
			}
			t.factors = append(t.factors, f)
		}
		terms = append(terms, t)
		if end < 0 {
			return terms, nil
		}
		minus, rest = rest[end] == '-', rest[end+1:]
	}
}

func validNumber(s string) bool {
	_, err := strconv.ParseInt(s, 0, 64)
	return err == nil && isNumber(s)
}

// validName reports whether s can be the name of a parameter: letters, digits and _, beginning with a letter.
func validName(s string) bool {
	for i, c := range s {
		letter := 'a' <= c|0x20 && c|0x20 <= 'z' && c < 0x80
		if !letter && (i == 0 || c != '_' && (c < '0' || c > '9')) {
			return false
		}
	}
	return s != ""
}

// names lists the parameters that a text has, each once.
func names(pieces []piece) (list []string) {
	for _, p := range pieces {
		for _, t := range p.terms {
			for _, f := range t.factors {
				if !isNumber(f) && !slices.Contains(list, f) {
					list = append(list, f)
				}
			}
		}
	}
	return list
}

// Text is what a text becomes with the values of its parameters.
func Text(text string, values map[string]string) (string, error) {
	pieces, err := parse(text)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for _, p := range pieces {
		if p.terms == nil {
			b.WriteString(p.plain)
			continue
		}
		if name := p.alone(); name != "" {
			value, known := values[name]
			if !known {
				return "", fmt.Errorf("%q: there is no parameter %q", text, name)
			}
			b.WriteString(value)
			continue
		}
		sum, err := add(p.terms, values)
		if err != nil {
			return "", fmt.Errorf("%q: %w", text, err)
		}
		b.WriteString(strconv.FormatInt(sum, 10))
	}
	return b.String(), nil
}

var errRange = errors.New("the result is too large")

// add is the value of an expression.
func add(terms []term, values map[string]string) (sum int64, err error) {
	for _, t := range terms {
		product := int64(1)
		for _, f := range t.factors {
			text := f
			if !isNumber(f) {
				var known bool
				if text, known = values[f]; !known {
					return 0, fmt.Errorf("there is no parameter %q", f)
				}
			}
			n, err := strconv.ParseInt(text, 0, 64)
			if err != nil {
				return 0, fmt.Errorf("one counts with %s, and %q is no whole number", f, text)
			}
			if n != 0 && (product > math.MaxInt32 || product < math.MinInt32 || n > math.MaxInt32 || n < math.MinInt32) {
				return 0, errRange
			}
			product *= n
		}
		if t.minus {
			product = -product
		}
		if sum += product; sum > 1<<53 || sum < -(1<<53) {
			return 0, errRange
		}
	}
	return sum, nil
}
