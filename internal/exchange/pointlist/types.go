package pointlist

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/nearest"
	"arithmon/internal/exchange/sheet"
)

// Data types, as manuals and people write them.

// typeNames are data types by what manuals call them, in small letters and without marks and spaces.
var typeNames = map[string]codec.Type{
	"bool": codec.TypeBool, "boolean": codec.TypeBool, "bit": codec.TypeBool, "binary": codec.TypeBool, "digital": codec.TypeBool, "di": codec.TypeBool, "do": codec.TypeBool, "bin": codec.TypeBool,
	"int8": codec.TypeInt8, "sint": codec.TypeInt8, "sint8": codec.TypeInt8, "s8": codec.TypeInt8, "i8": codec.TypeInt8,
	"uint8": codec.TypeUint8, "usint": codec.TypeUint8, "u8": codec.TypeUint8, "byte": codec.TypeUint8, "ubyte": codec.TypeUint8,
	"int16": codec.TypeInt16, "int": codec.TypeInt16, "sint16": codec.TypeInt16, "s16": codec.TypeInt16, "i16": codec.TypeInt16, "short": codec.TypeInt16, "integer": codec.TypeInt16, "signed": codec.TypeInt16,
	"signedint": codec.TypeInt16, "16bitsigned": codec.TypeInt16, "signed16": codec.TypeInt16, "signed16bit": codec.TypeInt16, "int16s": codec.TypeInt16, "16bitint": codec.TypeInt16, "signedshort": codec.TypeInt16, "sword": codec.TypeInt16,
	"hex": codec.TypeUint16, "hex16": codec.TypeUint16, "decimal": codec.TypeUint16, "hex32": codec.TypeUint32, "uint16": codec.TypeUint16, "uint": codec.TypeUint16, "u16": codec.TypeUint16, "word": codec.TypeUint16, "ushort": codec.TypeUint16, "unsigned": codec.TypeUint16, "unsignedint": codec.TypeUint16, "unsigned16": codec.TypeUint16,
	"16bitunsigned": codec.TypeUint16, "unsigned16bit": codec.TypeUint16, "int16u": codec.TypeUint16, "unsignedshort": codec.TypeUint16, "enum": codec.TypeUint16, "enum16": codec.TypeUint16, "enum8": codec.TypeUint16, "enum32": codec.TypeUint32, "enumeration": codec.TypeUint16, "uword": codec.TypeUint16, "16bituint": codec.TypeUint16,
	"int32": codec.TypeInt32, "dint": codec.TypeInt32, "long": codec.TypeInt32, "s32": codec.TypeInt32, "i32": codec.TypeInt32, "sint32": codec.TypeInt32, "longint": codec.TypeInt32, "signed32": codec.TypeInt32, "signedlong": codec.TypeInt32,
	"32bitsigned": codec.TypeInt32, "signed32bit": codec.TypeInt32, "int32s": codec.TypeInt32, "sdword": codec.TypeInt32, "32bitint": codec.TypeInt32,
	"uint32": codec.TypeUint32, "udint": codec.TypeUint32, "u32": codec.TypeUint32, "dword": codec.TypeUint32, "ulong": codec.TypeUint32, "unsigned32": codec.TypeUint32, "unsignedlong": codec.TypeUint32,
	"32bitunsigned": codec.TypeUint32, "unsigned32bit": codec.TypeUint32, "int32u": codec.TypeUint32, "doubleword": codec.TypeUint32, "counter": codec.TypeUint32, "counter32": codec.TypeUint32, "32bituint": codec.TypeUint32,
	"int64": codec.TypeInt64, "lint": codec.TypeInt64, "s64": codec.TypeInt64, "i64": codec.TypeInt64, "signed64": codec.TypeInt64, "longlong": codec.TypeInt64,
	"uint64": codec.TypeUint64, "ulint": codec.TypeUint64, "u64": codec.TypeUint64, "lword": codec.TypeUint64, "qword": codec.TypeUint64, "unsigned64": codec.TypeUint64,
	"float": codec.TypeFloat32, "float32": codec.TypeFloat32, "real": codec.TypeFloat32, "real32": codec.TypeFloat32, "single": codec.TypeFloat32, "ieee754": codec.TypeFloat32, "ieee": codec.TypeFloat32, "f32": codec.TypeFloat32, "r32": codec.TypeFloat32,
	"floatingpoint": codec.TypeFloat32, "32bitfloat": codec.TypeFloat32, "float32bit": codec.TypeFloat32, "ieeefloat": codec.TypeFloat32, "fp32": codec.TypeFloat32,
	"double": codec.TypeFloat64, "float64": codec.TypeFloat64, "lreal": codec.TypeFloat64, "real64": codec.TypeFloat64, "f64": codec.TypeFloat64, "64bitfloat": codec.TypeFloat64, "fp64": codec.TypeFloat64,
	"bcd": codec.TypeBCD16, "bcd16": codec.TypeBCD16, "bcd4": codec.TypeBCD16, "bcd32": codec.TypeBCD32, "bcd8": codec.TypeBCD32,
	"string": codec.TypeString, "ascii": codec.TypeString, "char": codec.TypeString, "text": codec.TypeString, "str": codec.TypeString, "visiblestring": codec.TypeString, "utf8": codec.TypeString,
	"bits": codec.TypeBits, "bitfield": codec.TypeBits, "bitmap": codec.TypeBits, "bitmask": codec.TypeBits, "flags": codec.TypeBits, "bitfield16": codec.TypeBits, "bit16": codec.TypeBits, "bitmap16": codec.TypeBits,
}

// unknownType is the error of a text that is no data type. What it may have been meant for is looked for only where it is told.
type unknownType string

func (u unknownType) Error() string {
	return fmt.Sprintf("%q is no data type that is known: uint16, int16, uint32, int32, float32, float64, bool, string and so on%s", string(u), nearest.Hint(strings.ToLower(string(u)), slices.Sorted(maps.Keys(typeNames))))
}

var (
	textLength = regexp.MustCompile(`^(string|ascii|char|str|text|utf-?8|visible string)\s*[\[(:_ ]?\s*(\d+)\s*[\])]?$`)
	textWords  = regexp.MustCompile(`^(string|ascii|char|str|text)\s*[\[(,]?\s*(\d+)\s*(?:x\s*)?(?:regs?|registers?|words?|register)\.?\s*[\])]?$`)
)

// typeOf reads a data type, with the length of a text and the byte order where they stand beside it. words is how many registers it takes, 0
// where that is not said.
func typeOf(text string, words int) (t codec.Type, length int, order codec.Order, loose string, err error) {
	written := strings.ToLower(strings.TrimSpace(text))
	written, order, loose = cutOrder(written)
	if m := textWords.FindStringSubmatch(written); m != nil {
		length, _ = strconv.Atoi(m[2])
		return codec.TypeString, 2 * length, order, loose, nil
	}
	if m := textLength.FindStringSubmatch(written); m != nil {
		length, _ = strconv.Atoi(m[2]) // too long a one is refused with its field
		return codec.TypeString, length, order, loose, nil
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
		return "", 0, "", "", unknownType(text)
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
	return t, length, order, loose, nil
}

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
	written = sheet.Fold(written)
	words := strings.FieldsFunc(written, func(r rune) bool { return !unicode.IsLetter(r) })
	has := func(parts ...string) bool {
		return slices.ContainsFunc(parts, func(part string) bool {
			return len(part) > shortWord && strings.Contains(written, part) || slices.Contains(words, part)
		})
	}
	unsigned := map[string]codec.Type{"": codec.TypeUint16, "8": codec.TypeUint8, "16": codec.TypeUint16, "32": codec.TypeUint32, "64": codec.TypeUint64}
	signed := map[string]codec.Type{"": codec.TypeInt16, "8": codec.TypeInt8, "16": codec.TypeInt16, "32": codec.TypeInt32, "64": codec.TypeInt64}
	switch {
	case has("float", "real", "ieee", "virgola mobile", "flottant", "virgule", "flotante", "gleitkomma", "fliesskomma", "reel", "komma", "zmiennoprzecinkow", "vlottend", "flyttal", "ponto flutuante"):
		if bits == "64" || has("double", "long") {
			return codec.TypeFloat64, true
		}
		return codec.TypeFloat32, true
	case has("bcd"):
		if bits == "32" {
			return codec.TypeBCD32, true
		}
		return codec.TypeBCD16, true
	case has("string", "ascii", "char", "chaine", "cadena", "stringa", "zeichenkette"):
		return codec.TypeString, true
	case has("unsigned", "uint", "u int", "without sign", "ohne vorzeichen", "vorzeichenlos", "non signe", "sans signe", "sin signo", "senza segno", "sem sinal", "bez znaku", "zonder teken"):
		return unsigned[bits], true
	case has("signed", "int", "with sign", "mit vorzeichen", "signe", "con signo", "con segno", "com sinal", "ze znakiem", "entier", "entero", "intero", "inteiro", "ganzzahl", "geheel", "calkowit"):
		return signed[bits], true
	case has("bool", "boole", "booleen", "booleano", "booleana", "boolesch", "digital", "binary", "binair", "binari", "logique", "logico"):
		return codec.TypeBool, true
	case has("bit") && bits == "":
		return codec.TypeBool, true
	case sizeAlone.MatchString(written):
		return unsigned[bits], true
	}
	return "", false
}

// shortWord is how long a word is at most that counts as a whole word alone: int is in points and prints, too.
const shortWord = 4

// sizeAlone is a type of which its size alone is said: 16 bit.
var sizeAlone = regexp.MustCompile(`^(?:16|32|64)[- ]?bits?(?: (?:value|register|word|data))?s?$`)
