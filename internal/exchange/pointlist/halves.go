package pointlist

import (
	"cmp"
	"regexp"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// Values of two registers that a list has in two rows: Energy (high word), Energy (low word).

// highHalf and lowHalf match the end of a name that says which half it is. High and low alone are limits, or speeds, as often, and do not count.
var (
	highHalf = regexp.MustCompile(`(?i)[\s,;:(\[/_-]*\b(?:(?:high|hi|upper|most significant|ms)[\s_-]*(?:order )?(?:word|reg(?:ister)?|part|half|16(?: ?bits?)?)|msw|hw|hword)\b[)\]]?\s*$`)
	lowHalf  = regexp.MustCompile(`(?i)[\s,;:(\[/_-]*\b(?:(?:low|lo|lower|least significant|ls)[\s_-]*(?:order )?(?:word|reg(?:ister)?|part|half|16(?: ?bits?)?)|lsw|lw|lword)\b[)\]]?\s*$`)
)

// halfWords are the last words of names of halves.
var halfWords = map[string]bool{"msw": true, "lsw": true, "hw": true, "lw": true, "hword": true, "lword": true, "word": true, "reg": true, "register": true, "part": true, "half": true, "16": true, "bit": true, "bits": true, "16bit": true, "16bits": true}

// halfOf gives the name of the whole of which a name is a half; half is 'h' or 'l', 0 for none.
func halfOf(name string) (whole string, half byte) {
	end := strings.ToLower(strings.TrimRight(name, ")] "))
	if i := strings.LastIndexAny(end, " ,;:([/_-"); !halfWords[end[i+1:]] {
		return name, 0 // as of most
	}
	switch {
	case highHalf.MatchString(name):
		return highHalf.ReplaceAllString(name, ""), 'h'
	case lowHalf.MatchString(name):
		return lowHalf.ReplaceAllString(name, ""), 'l'
	}
	return name, 0
}

// wholes are the types that two registers make, by what each of them is said to be.
var wholes = map[any]codec.Type{nil: codec.TypeUint32, string(codec.TypeUint16): codec.TypeUint32, string(codec.TypeInt16): codec.TypeInt32, string(codec.TypeUint32): codec.TypeUint32, string(codec.TypeInt32): codec.TypeInt32, string(codec.TypeFloat32): codec.TypeFloat32}

// joinHalves makes one point of two rows that are the halves of one value, at registers beside each other.
func (r *reader) joinHalves() {
	items := r.list.Items[:0]
	for i := 0; i < len(r.list.Items); i++ {
		item := r.list.Items[i]
		if i+1 < len(r.list.Items) && r.join(&item, r.list.Items[i+1]) {
			i++
		}
		items = append(items, item)
	}
	r.list.Items = items
}

// join makes first the whole of which second is the other half; it reports whether it is.
func (r *reader) join(first *Item, second Item) bool {
	if first.version != 0 || first.was != "" { // as it was exported
		return false
	}
	field := "description"
	if len(first.Made) == 0 || first.From["description"] == "" {
		field = "tag"
	}
	name := func(i Item) string {
		if field == "tag" {
			return cmp.Or(i.cellOf("tag"), text(i.Fields["tag"]))
		}
		return text(i.Fields["description"])
	}
	whole, half := halfOf(name(*first))
	other, otherHalf := halfOf(name(second))
	t := wholes[first.Fields["type"]]
	if half == 0 || otherHalf == 0 || half == otherHalf || whole == "" || !strings.EqualFold(whole, other) || t == "" || first.Fields["type"] != second.Fields["type"] || !follows(first.Fields, second.Fields) {
		return false
	}
	first.Fields["type"] = string(t)
	first.Fields["order"] = string(map[byte]codec.Order{'h': codec.ABCD, 'l': codec.CDAB}[half])
	if field == "description" {
		first.Fields[field] = whole
	}
	tag := tagOf(whole)
	if field == "description" {
		tag = strings.ToLower(tag)
	}
	if tag = r.prefixed(tag, text(first.Fields["station"])); tagOf(whole) != "" && r.tags[tag] == 0 {
		r.tags[tag]++
		first.Fields["tag"], first.Made = tag, "made of two rows, the high and the low word"
	}
	r.once("rows that are the high and the low word of one value become one point of two registers, an unsigned integer where nothing else is said")
	return true
}

// cellOf is what was written for a field.
func (i Item) cellOf(field string) string {
	for _, c := range i.columns {
		if c.Field == field {
			return cell(i.cells, c.At)
		}
	}
	return ""
}

// follows reports whether the second of two points has the register behind that of the first.
func follows(first, second map[string]any) bool {
	for _, notation := range []site.Notation{site.Offset, site.Ref5, site.Ref6} {
		a, err1 := site.ParseAddress(text(first["address"]), notation, "")
		b, err2 := site.ParseAddress(text(second["address"]), notation, "")
		if err1 == nil && err2 == nil {
			return a.Space == b.Space && a.Space.Registers() && a.Part == site.Whole && b.Part == site.Whole && b.Offset == a.Offset+1
		}
	}
	return false
}

func text(v any) string { s, _ := v.(string); return s }
