package pointlist

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// What cells mean, as manuals and people write them.

// number reads a number with a decimal point or comma, and with or without marks between thousands.
func number(text string) (f float64, ok bool) {
	text = numberMarks.Replace(strings.TrimSpace(text))
	comma, point := strings.LastIndexByte(text, ','), strings.LastIndexByte(text, '.')
	switch {
	case comma >= 0 && point > comma, strings.Count(text, ",") > 1:
		whole := text
		if point > comma {
			whole = text[:point]
		}
		if !grouped.MatchString(whole) {
			return 0, false
		}
		text = strings.ReplaceAll(text, ",", "")
	case comma >= 0:
		if strings.Contains(text, ".") && !grouped.MatchString(strings.ReplaceAll(text[:comma], ".", ",")) {
			return 0, false
		}
		text = strings.Replace(strings.ReplaceAll(text, ".", ""), ",", ".", 1)
	case strings.Count(text, ".") > 1:
		if !grouped.MatchString(strings.ReplaceAll(text, ".", ",")) {
			return 0, false
		}
		text = strings.ReplaceAll(text, ".", "")
	}
	f, err := strconv.ParseFloat(text, 64)
	if err != nil || math.IsNaN(f) || math.IsInf(f, 0) || strings.ContainsAny(text, "xXpP_") {
		return 0, false
	}
	return f, true
}

// What is left out, or written otherwise, of some cells.
var (
	numberMarks = strings.NewReplacer(" ", "", "'", "", "\u2212", "-")
	accessMarks = strings.NewReplacer(" ", "", "-", "", "_", "", "/", "", ",", "", ".", "")
)

// grouped is a whole number with a comma before every three digits.
var grouped = regexp.MustCompile(`^[-+]?\d{1,3}(,\d{3})+$`)

var (
	times   = regexp.MustCompile(`^[x×*·]\s*(.+)$`)
	divided = regexp.MustCompile(`^(?:1\s*)?[/:÷]\s*(.+)$`)
	power   = regexp.MustCompile(`^10\s*\^?\s*([-−]?\d+)$`)
	spans   = regexp.MustCompile(`^\s*([^=→>]+?)\s*(?:=>|->|=|→)\s*(.+?)\s*$`)
	span    = regexp.MustCompile(`^\s*([-+−]?[\d.,' ]+?)\s*(?:\.\.\.?|…|–|to|bis|-|\b÷\b)\s*([-+−]?[\d.,' ]+?)\s*([^\d\s]\S*)?$`)
)

// raised is a power of ten as it is printed: 10⁻¹.
var (
	raised       = regexp.MustCompile(`10[⁻⁺]?[⁰¹²³⁴⁵⁶⁷⁸⁹]+`)
	raisedDigits = strings.NewReplacer("⁻", "-", "⁺", "", "⁰", "0", "¹", "1", "²", "2", "³", "3", "⁴", "4", "⁵", "5", "⁶", "6", "⁷", "7", "⁸", "8", "⁹", "9")
)

// factorOf reads a factor: 0.1, 0,1, x0.1, /100, 1/10, 10^-2, 10⁻².
func factorOf(text string) (f float64, err error) {
	t := strings.TrimSpace(strings.ToLower(text))
	t = raised.ReplaceAllStringFunc(t, func(of string) string { return "10^" + raisedDigits.Replace(strings.TrimPrefix(of, "10")) })
	invert := false
	if m := times.FindStringSubmatch(t); m != nil {
		t = m[1]
	} else if m := divided.FindStringSubmatch(t); m != nil {
		t, invert = m[1], true
	}
	if m := power.FindStringSubmatch(t); m != nil && strings.ContainsAny(t, "^-−") {
		n, _ := strconv.Atoi(strings.ReplaceAll(m[1], "−", "-")) // which it matched
		if n > 30 || n < -30 {
			return 0, fmt.Errorf("%q is beyond all measure", text)
		}
		f = math.Pow10(n)
	} else if v, ok := number(t); ok {
		f = v
	} else {
		return 0, fmt.Errorf("%q is no factor: write 0.1, x0.1, /10, 1/10, or 0..1000 = 0..100", text)
	}
	if f == 0 {
		return 0, fmt.Errorf("%q: a factor of zero leaves nothing of the value", text)
	}
	if invert {
		f = 1 / f
	}
	return round(f), nil
}

// round leaves out what binary fractions add.
func round(f float64) float64 {
	r, _ := strconv.ParseFloat(strconv.FormatFloat(f, 'g', 12, 64), 64)
	return r
}

// spanOf reads a range: 0..100, 0-27648, -40 … 120, 4 to 20 mA.
func spanOf(text string) (out [2]float64, ok bool) {
	m := span.FindStringSubmatch(text)
	if m == nil {
		return out, false
	}
	lo, ok1 := number(strings.ReplaceAll(m[1], "−", "-"))
	hi, ok2 := number(strings.ReplaceAll(m[2], "−", "-"))
	return [2]float64{lo, hi}, ok1 && ok2 && lo != hi
}

// scalingOf reads a cell of a scaling: a factor, or two ranges.
func scalingOf(text string) (map[string]any, error) {
	if m := spans.FindStringSubmatch(text); m != nil {
		raw, ok1 := spanOf(m[1])
		eng, ok2 := spanOf(m[2])
		if ok1 && ok2 {
			return map[string]any{"raw": raw, "eng": eng}, nil
		}
	}
	f, err := factorOf(text)
	if err != nil {
		return nil, err
	}
	if f == 1 {
		return nil, nil
	}
	return map[string]any{"factor": f}, nil
}

// typeNames are data types by what manuals call them, in small letters and without marks and spaces.
var typeNames = map[string]codec.Type{
	"bool": codec.TypeBool, "boolean": codec.TypeBool, "bit": codec.TypeBool, "binary": codec.TypeBool, "digital": codec.TypeBool, "di": codec.TypeBool, "do": codec.TypeBool, "bin": codec.TypeBool,
	"int8": codec.TypeInt8, "sint": codec.TypeInt8, "sint8": codec.TypeInt8, "s8": codec.TypeInt8, "i8": codec.TypeInt8,
	"uint8": codec.TypeUint8, "usint": codec.TypeUint8, "u8": codec.TypeUint8, "byte": codec.TypeUint8, "ubyte": codec.TypeUint8,
	"int16": codec.TypeInt16, "int": codec.TypeInt16, "sint16": codec.TypeInt16, "s16": codec.TypeInt16, "i16": codec.TypeInt16, "short": codec.TypeInt16, "integer": codec.TypeInt16, "signed": codec.TypeInt16,
	"signedint": codec.TypeInt16, "16bitsigned": codec.TypeInt16, "signed16": codec.TypeInt16, "signed16bit": codec.TypeInt16, "int16s": codec.TypeInt16, "16bitint": codec.TypeInt16, "signedshort": codec.TypeInt16, "sword": codec.TypeInt16,
	"uint16": codec.TypeUint16, "uint": codec.TypeUint16, "u16": codec.TypeUint16, "word": codec.TypeUint16, "ushort": codec.TypeUint16, "unsigned": codec.TypeUint16, "unsignedint": codec.TypeUint16, "unsigned16": codec.TypeUint16,
	"16bitunsigned": codec.TypeUint16, "unsigned16bit": codec.TypeUint16, "int16u": codec.TypeUint16, "unsignedshort": codec.TypeUint16, "enum": codec.TypeUint16, "enum16": codec.TypeUint16, "enum8": codec.TypeUint16, "enum32": codec.TypeUint32, "enumeration": codec.TypeUint16, "uword": codec.TypeUint16, "16bituint": codec.TypeUint16,
	"int32": codec.TypeInt32, "dint": codec.TypeInt32, "long": codec.TypeInt32, "s32": codec.TypeInt32, "i32": codec.TypeInt32, "sint32": codec.TypeInt32, "longint": codec.TypeInt32, "signed32": codec.TypeInt32, "signedlong": codec.TypeInt32,
	"32bitsigned": codec.TypeInt32, "signed32bit": codec.TypeInt32, "int32s": codec.TypeInt32, "sdword": codec.TypeInt32, "32bitint": codec.TypeInt32,
	"uint32": codec.TypeUint32, "udint": codec.TypeUint32, "u32": codec.TypeUint32, "dword": codec.TypeUint32, "ulong": codec.TypeUint32, "unsigned32": codec.TypeUint32, "unsignedlong": codec.TypeUint32,
	"32bitunsigned": codec.TypeUint32, "unsigned32bit": codec.TypeUint32, "int32u": codec.TypeUint32, "doubleword": codec.TypeUint32, "counter": codec.TypeUint32, "counter32": codec.TypeUint32, "32bituint": codec.TypeUint32,
	"int64": codec.TypeInt64, "lint": codec.TypeInt64, "s64": codec.TypeInt64, "i64": codec.TypeInt64, "signed64": codec.TypeInt64, "longlong": codec.TypeInt64,
	"uint64": codec.TypeUint64, "ulint": codec.TypeUint64, "u64": codec.TypeUint64, "lword": codec.TypeUint64, "qword": codec.TypeUint64, "unsigned64": codec.TypeUint64,
	"float": codec.TypeFloat32, "float32": codec.TypeFloat32, "real": codec.TypeFloat32, "real32": codec.TypeFloat32, "single": codec.TypeFloat32, "ieee754": codec.TypeFloat32, "ieee": codec.TypeFloat32, "f32": codec.TypeFloat32, "r32": codec.TypeFloat32,
	"floatingpoint": codec.TypeFloat32, "32bitfloat": codec.TypeFloat32, "float32bit": codec.TypeFloat32, "ieeefloat": codec.TypeFloat32, "analog": codec.TypeFloat32, "fp32": codec.TypeFloat32,
	"double": codec.TypeFloat64, "float64": codec.TypeFloat64, "lreal": codec.TypeFloat64, "real64": codec.TypeFloat64, "f64": codec.TypeFloat64, "64bitfloat": codec.TypeFloat64, "fp64": codec.TypeFloat64,
	"bcd": codec.TypeBCD16, "bcd16": codec.TypeBCD16, "bcd4": codec.TypeBCD16, "bcd32": codec.TypeBCD32, "bcd8": codec.TypeBCD32,
	"string": codec.TypeString, "ascii": codec.TypeString, "char": codec.TypeString, "text": codec.TypeString, "str": codec.TypeString, "visiblestring": codec.TypeString, "utf8": codec.TypeString,
	"bits": codec.TypeBits, "bitfield": codec.TypeBits, "bitmap": codec.TypeBits, "bitmask": codec.TypeBits, "flags": codec.TypeBits, "bitfield16": codec.TypeBits, "bit16": codec.TypeBits, "bitmap16": codec.TypeBits,
}

var (
	textLength = regexp.MustCompile(`^(string|ascii|char|str|text|utf-?8|visible string)\s*[\[(:_ ]?\s*(\d+)\s*[\])]?$`)
	textWords  = regexp.MustCompile(`^(string|ascii|char|str|text)\s*[\[(,]?\s*(\d+)\s*(?:x\s*)?(?:regs?|registers?|words?|register)\.?\s*[\])]?$`)
	endFirst   = regexp.MustCompile(`[(\[]?\b(?:le|be|lsw|msw|lsb first|msb first|intel|motorola)\b[)\]]?`)
	orders     = regexp.MustCompile(`(?i)\b(abcd|cdab|badc|dcba)\b`)
)

// typeOf reads a data type, with the length of a text and the byte order where they stand beside it. words is how many registers it takes, 0
// where that is not said.
func typeOf(text string, words int) (t codec.Type, length int, order codec.Order, err error) {
	written := strings.ToLower(strings.TrimSpace(text))
	if m := orders.FindString(written); m != "" {
		order = codec.Order(strings.ToUpper(m))
		written = strings.TrimSpace(orders.ReplaceAllString(written, ""))
	}
	if m := wordsFirst.FindStringSubmatch(written); m != nil {
		order, written = wordOrders[strings.NewReplacer("-", "", " ", "", "/", "", "first", "", "word", "").Replace(m[2])], m[1]
	}
	for _, word := range []string{"word swapped", "swapped", "little endian", "little-endian", "inverse"} {
		if strings.Contains(written, word) {
			order, written = codec.CDAB, strings.TrimSpace(strings.Replace(written, word, "", 1))
		}
	}
	for _, word := range []string{"big endian", "big-endian"} {
		written = strings.TrimSpace(strings.Replace(written, word, "", 1))
	}
	if m := endFirst.FindString(written); m != "" {
		if written = strings.TrimSpace(endFirst.ReplaceAllString(written, "")); m[0] == 'l' || m[0] == 'i' {
			order = codec.CDAB
		}
	}
	if m := textWords.FindStringSubmatch(written); m != nil {
		length, _ = strconv.Atoi(m[2])
		return codec.TypeString, 2 * length, order, nil
	}
	if m := textLength.FindStringSubmatch(written); m != nil {
		length, _ = strconv.Atoi(m[2]) // too long a one is refused with its field
		return codec.TypeString, length, order, nil
	}
	t, known := typeNames[strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return r
		}
		return -1
	}, written)]
	if !known {
		t, known = wordedType(written)
	}
	if !known {
		return "", 0, "", fmt.Errorf("%q is no data type that is known: uint16, int16, uint32, int32, float32, float64, bool, string and so on", text)
	}
	switch { // what its registers make of a general word
	case t == codec.TypeInt16 && words == 2 && !strings.Contains(written, "16"):
		t = codec.TypeInt32
	case t == codec.TypeUint16 && words == 2 && !strings.Contains(written, "16") && !strings.Contains(written, "word"):
		t = codec.TypeUint32
	case t == codec.TypeFloat32 && words == 4 && !strings.Contains(written, "32"):
		t = codec.TypeFloat64
	case t == codec.TypeBCD16 && words == 2:
		t = codec.TypeBCD32
	case (t == codec.TypeInt16 || t == codec.TypeUint16) && words == 4 && !strings.Contains(written, "16"):
		t = map[codec.Type]codec.Type{codec.TypeInt16: codec.TypeInt64, codec.TypeUint16: codec.TypeUint64}[t]
	case t == codec.TypeString && words > 0:
		length = 2 * words
	case t == codec.TypeBits && words > 1:
		length = 16 * words
	}
	return t, length, order, nil
}

// wordsFirst is which word comes first, in brackets behind a type: U32 (HL), float (low word first).
var (
	wordsFirst = regexp.MustCompile(`^(.+?)\s*[(\[]\s*((?:h[-/ ]?l|l[-/ ]?h|high[-/ ]low|low[-/ ]high|high(?: word)? first|low(?: word)? first|msw(?: first)?|lsw(?: first)?))\s*[)\]]$`)
	wordOrders = map[string]codec.Order{"hl": codec.ABCD, "highlow": codec.ABCD, "high": codec.ABCD, "msw": codec.ABCD, "lh": codec.CDAB, "lowhigh": codec.CDAB, "low": codec.CDAB, "lsw": codec.CDAB}
)

var enumerated = regexp.MustCompile(`^(.+?)\s*[(\[{](.*=.*)[)\]}]$`)

// enumeration parts a type from the names of its values, where they stand behind it: ENUM (0=off, 1=on).
func enumeration(text string) (name string, states map[string]any, ok bool) {
	if !strings.Contains(text, "=") {
		return "", nil, false
	}
	m := enumerated.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return "", nil, false
	}
	states, err := statesOf(m[2])
	return m[1], states, err == nil && states != nil
}

var digitsWord = regexp.MustCompile(`\d+`)

// wordedType reads a data type that is said in words: Signed Int32, unsigned integer (16 bit), IEEE floating point 32.
func wordedType(written string) (codec.Type, bool) {
	bits := ""
	for _, n := range digitsWord.FindAllString(written, -1) {
		if n != "8" && n != "16" && n != "32" && n != "64" && n != "754" || bits != "" && n != "754" {
			return "", false
		}
		if n != "754" {
			bits = n
		}
	}
	has := func(words ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(written, w) })
	}
	switch {
	case has("float", "real", "ieee"):
		if bits == "64" || has("double", "long") {
			return codec.TypeFloat64, true
		}
		return codec.TypeFloat32, true
	case has("bcd"):
		if bits == "32" {
			return codec.TypeBCD32, true
		}
		return codec.TypeBCD16, true
	case has("string", "ascii", "char"):
		return codec.TypeString, true
	case has("unsigned", "uint", "u int", "without sign", "ohne vorzeichen"):
		return map[string]codec.Type{"": codec.TypeUint16, "8": codec.TypeUint8, "16": codec.TypeUint16, "32": codec.TypeUint32, "64": codec.TypeUint64}[bits], true
	case has("signed", "int", "with sign", "mit vorzeichen"):
		return map[string]codec.Type{"": codec.TypeInt16, "8": codec.TypeInt8, "16": codec.TypeInt16, "32": codec.TypeInt32, "64": codec.TypeInt64}[bits], true
	case has("bool", "digital", "binary"):
		return codec.TypeBool, true
	case has("bit") && bits == "":
		return codec.TypeBool, true
	}
	return "", false
}

// accessOf reads whether a value may be written.
func accessOf(text string) (writable bool, err error) {
	switch strings.ToLower(accessMarks.Replace(text)) {
	case "r", "ro", "read", "readonly", "lesen", "lesend", "nurlesen", "l", "lecture", "lectura", "lettura", "no", "non", "false", "nein", "0", "input":
		return false, nil
	case "rw", "w", "wo", "wr", "readwrite", "write", "writeonly", "lesenschreiben", "lesenundschreiben", "schreiben", "schreibend", "nurschreiben", "le", "lectureécriture", "lecturaescritura", "letturascrittura", "écriture", "escritura", "scrittura", "oui", "sí", "yes", "true", "ja", "1", "rwp", "output":
		return true, nil
	}
	return false, fmt.Errorf("%q says neither that it may be written nor that it may not: R, RO, R/W, RW", text)
}

var state = regexp.MustCompile(`^\s*(-?\d+|0[xX][0-9a-fA-F]+)\s*(?:=|:|–|-)\s*(.+?)\s*$`)

// statesOf reads the names of values: 0=off, 1=on; 0: off / 1: on.
func statesOf(text string) (map[string]any, error) {
	out := map[string]any{}
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(",;/|\n", r) }) {
		if strings.TrimSpace(part) == "" {
			continue
		}
		m := state.FindStringSubmatch(part)
		if m == nil {
			return nil, fmt.Errorf("%q names no value: write 0=off, 1=on", strings.TrimSpace(part))
		}
		n, err := strconv.ParseInt(m[1], 0, 64)
		if err != nil {
			return nil, fmt.Errorf("%q: %q is no whole number", text, m[1])
		}
		out[strconv.FormatInt(n, 10)] = m[2]
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

// unitOf takes a unit out of its brackets; what stands for none is none.
func unitOf(text string) string {
	text = strings.TrimSpace(strings.Trim(text, "[](){}"))
	switch strings.ToLower(text) {
	case "-", "--", "—", "n/a", "none", "no unit", "1", "/":
		return ""
	}
	return text
}

// tagOf makes an allowed tag of what was written.
func tagOf(text string) string { return sheet.Identifier(text, site.MaxTag) }
