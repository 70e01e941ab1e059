package pointlist

import (
	"regexp"
	"strings"
)

// What is done to a raw value, written as an expression: (x-500)/10, y = 0.01x, raw/10 - 40. It must be a straight line.

// expression is one that is read from the left, with x for the raw value.
type expression struct {
	text string
	x    float64
	ok   bool
}

// names are what raw values are called in expressions, and lead what may stand before them.
var (
	rawNames  = regexp.MustCompile(`(?i)\b(?:raw(?: ?value)?|value|val|reg(?:ister)?|reading|adc|x)\b`)
	lead      = regexp.MustCompile(`(?i)^\s*(?:y|eng|value|f\(x\))\s*=`)
	beforeRaw = regexp.MustCompile(`(\d)\s*([xX]\b|\()`)
)

// lineOf reads an expression; factor and offset are those of its line. ok is false for what is none.
func lineOf(text string) (factor, offset float64, ok bool) {
	text = strings.NewReplacer("·", "*", "×", "*", "−", "-", "÷", "/", "[", "(", "]", ")").Replace(lead.ReplaceAllString(text, ""))
	text = beforeRaw.ReplaceAllString(text, "$1*$2")
	text = rawNames.ReplaceAllString(text, "x")
	text = strings.ReplaceAll(text, " ", "")
	if !strings.Contains(text, "x") || len(text) < 2 || len(text) > 100 || strings.Trim(text, "x0123456789.,+-*/()") != "" {
		return 0, 0, false
	}
	text = strings.ReplaceAll(text, ",", ".")
	var at [3]float64
	for i := range at {
		e := expression{text: text, x: float64(i * 1000), ok: true}
		at[i] = e.sum(0)
		if !e.ok || e.text != "" {
			return 0, 0, false
		}
	}
	factor, offset = round((at[1]-at[0])/1000), round(at[0])
	if factor == 0 || round((at[2]-at[1])/1000) != factor {
		return 0, 0, false
	}
	return factor, offset, true
}

// next takes a sign off, where it comes.
func (e *expression) next(signs string) byte {
	if e.text == "" || !strings.Contains(signs, e.text[:1]) {
		return 0
	}
	c := e.text[0]
	e.text = e.text[1:]
	return c
}

// deepest is how many brackets may be open.
const deepest = 10

func (e *expression) sum(depth int) float64 {
	v := e.product(depth)
	for {
		switch e.next("+-") {
		case '+':
			v += e.product(depth)
		case '-':
			v -= e.product(depth)
		default:
			return v
		}
	}
}

func (e *expression) product(depth int) float64 {
	v := e.single(depth)
	for {
		switch e.next("*/") {
		case '*':
			v *= e.single(depth)
		case '/':
			by := e.single(depth)
			e.ok = e.ok && by != 0
			v /= by
		default:
			return v
		}
	}
}

func (e *expression) single(depth int) float64 {
	switch e.next("(x-") {
	case '(':
		e.ok = e.ok && depth < deepest
		if !e.ok {
			return 0
		}
		v := e.sum(depth + 1)
		e.ok = e.ok && e.next(")") != 0
		return v
	case 'x':
		return e.x
	case '-':
		e.ok = e.ok && depth < deepest
		if !e.ok {
			return 0
		}
		return -e.single(depth + 1)
	}
	n := len(e.text) - len(strings.TrimLeft(e.text, "0123456789."))
	v, is := number(e.text[:n])
	e.ok = e.ok && is
	e.text = e.text[n:]
	return v
}
