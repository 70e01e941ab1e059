package pointlist

import (
	"regexp"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/exchange/sheet"
)

// Orders of octets and words, as manuals and people write them.

// orderPhrases are what an order is called, the more particular first. A loose one is called so for one order more.
var orderPhrases = []struct {
	phrase *regexp.Regexp
	order  codec.Order
	loose  bool
}{
	{regexp.MustCompile(`\babcd\b`), codec.ABCD, false},
	{regexp.MustCompile(`\bcdab\b`), codec.CDAB, false},
	{regexp.MustCompile(`\bbadc\b`), codec.BADC, false},
	{regexp.MustCompile(`\bdcba\b`), codec.DCBA, false},
	{regexp.MustCompile(`\b(?:little[- ]?endian|le)[ ,-]*\(?(?:with )?bytes?[- ]?swap(?:ped)?\)?`), codec.CDAB, false},
	{regexp.MustCompile(`\b(?:big[- ]?endian|be)[ ,-]*\(?(?:with )?bytes?[- ]?swap(?:ped)?\)?`), codec.BADC, false},
	{regexp.MustCompile(`\b(?:bytes?[- ]?(?:and|&|\+|/)[- ]?words?|words?[- ]?(?:and|&|\+|/)[- ]?bytes?)[- ]?(?:swap(?:ped)?|reversed|inverted|exchanged)?`), codec.DCBA, false},
	{regexp.MustCompile(`\bwords?[- ]?(?:swap(?:ped)?|reversed|inverted|exchanged)|\bswapped words?|\bwortweise getauscht`), codec.CDAB, false},
	{regexp.MustCompile(`\bbytes?[- ]?(?:swap(?:ped)?|reversed|inverted|exchanged)|\bswapped bytes?`), codec.BADC, false},
	{regexp.MustCompile(`\b(?:low|lo|lsw|least significant)[- ]?(?:word)?[-/, ]*(?:first|high|hi|msw)\b(?: word)?|\blsw\b|[(\[]\s*l[-/ ]?h\s*[)\]]|^l[-/ ]?h$`), codec.CDAB, false},
	{regexp.MustCompile(`\b(?:high|hi|msw|most significant)[- ]?(?:word)?[-/, ]*(?:first|low|lo|lsw)\b(?: word)?|\bmsw\b|[(\[]\s*h[-/ ]?l\s*[)\]]|^h[-/ ]?l$`), codec.ABCD, false},
	{regexp.MustCompile(`\b(?:little[- ]?endian|le|intel|lsb first)\b`), codec.CDAB, true},
	{regexp.MustCompile(`\b(?:big[- ]?endian|be|motorola|msb first)\b`), codec.ABCD, false},
	{regexp.MustCompile(`\b(?:swapped|swap|inverse)\b`), codec.CDAB, true},
}

// emptied is what is left of brackets and commas when a phrase is taken out of them.
var emptied = regexp.MustCompile(`[(\[{]\s*[)\]}]|[\s,;:/-]+$`)

// cutOrder takes an order out of a text in small letters; "" where it names none. loose is what was said where that may mean another one, too.
func cutOrder(written string) (rest string, order codec.Order, loose string) {
	for _, p := range orderPhrases {
		at := p.phrase.FindStringIndex(written)
		if at == nil {
			continue
		}
		said := written[at[0]:at[1]]
		rest = strings.TrimSpace(written[:at[0]] + " " + written[at[1]:])
		if p.loose {
			loose = said
		}
		return strings.TrimSpace(emptied.ReplaceAllString(strings.TrimSpace(emptied.ReplaceAllString(rest, "")), "")), p.order, loose
	}
	return written, "", ""
}

// orderNames are what a column of orders says beside what stands behind a type: the places of octets, from 1 and from 0, and what is exchanged.
var orderNames = map[string]codec.Order{
	"1234": codec.ABCD, "3412": codec.CDAB, "2143": codec.BADC, "4321": codec.DCBA, "0123": codec.ABCD, "2301": codec.CDAB, "1032": codec.BADC, "3210": codec.DCBA,
	"word": codec.CDAB, "words": codec.CDAB, "wort": codec.CDAB, "byte": codec.BADC, "bytes": codec.BADC, "both": codec.DCBA, "big": codec.ABCD, "high": codec.ABCD, "low": codec.CDAB,
}

// orderOf reads a cell of orders; "" for one that says that nothing is exchanged. loose is what was said where it may mean another order, too.
func orderOf(text string) (order codec.Order, loose string, ok bool) {
	written := strings.ToLower(strings.TrimSpace(text))
	if digits := placeMarks.Replace(written); orderNames[digits] != "" {
		return orderNames[digits], "", true
	}
	switch written {
	case "-", "no", "none", "nein", "0", "not swapped", "normal", "default", "n/a", "false", "n":
		return "", "", true
	case "little", "yes", "y", "true", "1", "ja", "x", "oui", "si", "sí": // swapped
		return codec.CDAB, written, true
	}
	rest, order, loose := cutOrder(written)
	if order == "" || rest != "" && len(rest) > 20 {
		return "", "", false
	}
	return order, loose, true
}

var placeMarks = strings.NewReplacer(" ", "", "-", "", ",", "", ".", "", "[", "", "]", "", "(", "", ")", "", "_", "")

// orderSentence is a sentence of the order of registers, above or below a table.
var orderSentence = regexp.MustCompile(`(?i)\b(?:word|register|byte)s?\b.*\b(?:first|swapped|order|endian)|\b(?:low|high)[- ](?:word|register)s? first|\bendian\b|\b(?:abcd|cdab|badc|dcba)\b`)

// orderSaid is the order that a sentence beside a table says, if any; it is noted.
func (r *reader) orderSaid(g sheet.Grid) codec.Order {
	for _, row := range g.Rows {
		sentence := strings.Join(row.Cells, " ")
		if !alone(row) || len(sentence) > 300 || !orderSentence.MatchString(sentence) {
			continue
		}
		written := strings.NewReplacer("register", "word", "value", "").Replace(strings.ToLower(sentence))
		if _, order, loose := cutOrder(written); order != "" {
			r.once("row %d, %q: values of several registers are %s", row.Number, sentence, order)
			if loose != "" {
				r.once("%q is read as CDAB, the low word first; if the bytes within each word are swapped, too, it is DCBA", loose)
				r.loosely = true
			}
			return order
		}
	}
	return ""
}

// looseOrder tells once of an order that is called by a name that another one has, too.
func (m *making) looseOrder(said string) {
	if said == "" || m.loosely {
		return
	}
	m.loosely = true
	m.once("%q is read as CDAB, the low word first; if the bytes within each word are swapped, too, it is DCBA", said)
}

// orderRemark is a remark on the order of a value, beside it.
var orderRemark = regexp.MustCompile(`(?i)\b(?:word|byte)s?[- ]?(?:swap|order)|\bswapped (?:word|byte)|\b(?:low|high)[- ](?:word|register)s? first|\b(?:little|big)[- ]endian|\b(?:abcd|cdab|badc|dcba)\b`)

// wordOrder gives values of several registers the order that a sentence says, or their own description.
func (m *making) wordOrder() {
	defer m.remarkedOrder()
	t := codec.Type(text(m.item.Fields["type"]))
	if m.order != "" && len(m.headings.exact) == 0 && m.item.Fields["order"] == nil && t != "" && t != codec.TypeString && (codec.Layout{Type: t}).Words() > 1 {
		m.item.Fields["order"] = string(m.order)
	}
}

// remarkedOrder gives a value of several registers the order that its description says, where nothing else does.
func (m *making) remarkedOrder() {
	remark := m.cells["description"]
	t := codec.Type(text(m.item.Fields["type"]))
	if len(m.headings.exact) > 0 || m.cells["order"] != "" || t == codec.TypeString || (codec.Layout{Type: t}).Words() < 2 {
		return
	}
	if m.halved != "" && m.item.Fields["order"] == nil {
		m.item.Fields["order"] = string(m.halved)
		m.from("order", "address")
	}
	if m.order == "" && m.item.Fields["order"] != nil { // of its type
		return
	}
	if !orderRemark.MatchString(remark) {
		return
	}
	if _, order, loose := cutOrder(strings.ToLower(remark)); order != "" {
		m.item.Fields["order"] = string(order)
		m.from("order", "description")
		m.guess("order")
		m.once("row %d, %q: the order %s is taken from the description", m.item.Row, remark, order)
		m.looseOrder(loose)
	}
}
