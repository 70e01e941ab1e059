// Package chunk packs the samples of one point: in the order in which they came, each with its times, value, quality and reason.
//
// A chunk is a run of records. The first byte of a record says what follows; what it leaves out is as it was before:
//
//	0ddddddd            the time, by how much more or less it grew than last time: -64 to 63 ms. Everything else is as before
//	10dddddd delta      the time likewise, -32 to 31 ms, and how much a whole number grew, as a signed varint
//	110sssvv ...        what else is new, one after the other: see record
//
// A number is kept as the whole number that it is a multiple of, where that gives it back exactly: 12.3 as 123 tenths, and what was scaled
// from a raw number as that raw number. Others are kept as the bits in which they differ from the one before. Nothing is rounded but times,
// which are whole milliseconds.
package chunk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/bits"
	"strconv"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
)

// Sample is what was recorded of a point at one moment.
type Sample struct {
	Time    int64       // in milliseconds since 1970: the moment that it stands for
	Source  int64       // the device's own time, likewise; NoTime where it has none
	Value   codec.Value // of a bad reading the last good one; nothing when there was none
	Quality reading.Quality
	Reason  reading.Reason
}

// NoTime is the Source of a sample without a time of the device.
const NoTime = math.MinInt64

// At is the moment that the sample stands for.
func (s Sample) At() time.Time { return time.UnixMilli(s.Time).UTC() }

// Summary is what a chunk holds, all together.
type Summary struct {
	Count       int        // of samples
	First, Last int64      // the least and the most time
	Good        int        // samples that are not bad and have a number
	Bad         int        // samples that are bad
	Least, Most float64    // of the good ones; NaN when there is none
	Sum         float64    // of the good ones
	Latest      float64    // the number of the last sample, if it is good
	Kind        codec.Kind // of that one
	Ordered     bool       // no sample is earlier than the one before
}

// add takes in a sample.
func (s *Summary) add(x *Sample) {
	if s.Count == 0 {
		*s = Summary{First: x.Time, Last: x.Time, Least: math.NaN(), Most: math.NaN(), Latest: math.NaN(), Ordered: true}
	}
	s.Count++
	s.Ordered = s.Ordered && x.Time >= s.Last
	s.First, s.Last = min(s.First, x.Time), max(s.Last, x.Time)
	f, number := x.Value.Float()
	if x.Quality == reading.Bad {
		s.Bad++
		s.Latest = math.NaN()
		return
	}
	if s.Latest, s.Kind = math.NaN(), x.Value.Kind(); !number {
		return
	}
	s.Latest = f
	if s.Good++; s.Good == 1 {
		s.Least, s.Most, s.Sum = f, f, f
		return
	}
	s.Least, s.Most, s.Sum = min(s.Least, f), max(s.Most, f), s.Sum+f
}

// form says how a value stands in a chunk.
type form byte

// The forms. Those from whole on are whole numbers with something that is done to them.
const (
	nothing form = iota
	text
	bits64   // of a number: the bits in which it differs from the last one
	bits32   // of a number that is one of 32 bits
	wide     // an unsigned number above the signed ones
	truth    // a boolean: 0 or 1
	signed   // a signed number
	unsigned // an unsigned number
	linear   // times a factor, and an offset added
	tenths   // divided by a power of ten
)

// last is the last form that there is.
const lastForm = tenths + maxPlaces

// maxPlaces is how many decimal places are tried.
const maxPlaces = 9

var powers = [maxPlaces + 1]float64{1, 10, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9}

// Line is how a value comes from a raw number: times a factor, and an offset added. It makes chunks smaller, and changes nothing else.
type Line struct{ Factor, Offset float64 }

func (l Line) at(n int64) float64 { return float64(float64(n)*l.Factor) + l.Offset } // converted, so that it is the same on every machine

// state is what the next record refers to.
type state struct {
	sample Sample
	step   int64 // by which the time grew
	form   form
	number int64  // of a form that is a whole number
	bits   uint64 // of one that is not
	line   Line
}

func (s *state) plain(n int64) codec.Value {
	switch s.form {
	case truth:
		return codec.BoolValue(n != 0)
	case signed:
		return codec.IntValue(n)
	case unsigned:
		return codec.UintValue(uint64(n))
	case linear:
		return codec.FloatValue(s.line.at(n))
	}
	return codec.FloatValue(float64(n) / powers[s.form-tenths])
}

// The largest whole number that a number is taken to be a multiple of.
const exact = 1 << 53

// whole finds the whole number that v is in a form; false when it is none.
func (s *state) whole(f form, v codec.Value) (n int64, ok bool) {
	switch f {
	case truth:
		return int64(v.Bits()), v.Kind() == codec.Bool
	case signed:
		return int64(v.Bits()), v.Kind() == codec.Int
	case unsigned:
		return int64(v.Bits()), v.Kind() == codec.Uint && v.Bits() <= math.MaxInt64
	}
	if v.Kind() != codec.Float {
		return 0, false
	}
	x, _ := v.Float()
	if f == linear {
		if s.line.Factor == 0 {
			return 0, false
		}
		x = (x - s.line.Offset) / s.line.Factor
	} else {
		x *= powers[f-tenths]
	}
	if x = math.Round(x); !(math.Abs(x) < exact) {
		return 0, false
	}
	n = int64(x)
	var back float64
	if f == linear {
		back = s.line.at(n)
	} else {
		back = float64(n) / powers[f-tenths]
	}
	return n, math.Float64bits(back) == v.Bits()
}

// fits finds a form for v, the one before first.
func (s *state) fits(v codec.Value, line Line) (f form, n int64) {
	switch v.Kind() {
	case codec.None:
		return nothing, 0
	case codec.Text:
		return text, 0
	}
	if s.form >= truth {
		if n, ok := s.whole(s.form, v); ok {
			return s.form, n
		}
	}
	if v.Kind() != codec.Float {
		for f := truth; f <= unsigned; f++ {
			if n, ok := s.whole(f, v); ok {
				return f, n
			}
		}
		return wide, 0
	}
	for f := tenths; f <= tenths+3; f++ { // what people and most devices count in
		if n, ok := s.whole(f, v); ok {
			return f, n
		}
	}
	if line.Factor != 0 {
		try := state{line: line}
		if n, ok := try.whole(linear, v); ok {
			s.line, s.form = line, nothing // another line is another form
			return linear, n
		}
	}
	x, _ := v.Float()
	if s.form == bits32 && float64(float32(x)) == x {
		return bits32, 0
	}
	for f := tenths + 4; f <= lastForm; f++ {
		if n, ok := s.whole(f, v); ok {
			return f, n
		}
	}
	if float64(float32(x)) == x {
		return bits32, 0
	}
	return bits64, 0
}

// What is new in a record of the third kind, in the low bits of its first byte.
const (
	record     = 0xC0
	newSource  = 1 << iota >> 1 // the device's time, or that it has none any more
	newValue                    // of the same form
	newForm                     // and a value
	newQuality                  // and a reason
	newStep                     // more than fits into a byte
)

// MaxText is how long a text, or a reason, may be in a chunk, in bytes; longer ones are cut.
const MaxText = 1000

// Appender makes a chunk. The zero Appender, with a Line or without, begins one.
type Appender struct {
	Line Line // of the values that come next

	bytes   []byte
	summary Summary
	last    state
}

// Bytes is the chunk so far. What it holds stays as it is when more is added.
func (a *Appender) Bytes() []byte { return a.bytes }

// Summary is what the chunk holds.
func (a *Appender) Summary() Summary { return a.summary }

// Last is the sample that was added last.
func (a *Appender) Last() Sample { return a.last.sample }

// Add adds a sample.
func (a *Appender) Add(x Sample) {
	x.Value, x.Reason = cut(x.Value), reading.Reason(cutText(string(x.Reason)))
	if a.summary.Count == 0 {
		a.last.sample.Source = NoTime
	}
	s := &a.last
	step := x.Time - s.sample.Time
	grew := step - s.step
	f, n := s.form, s.number
	same := x.Value == s.sample.Value && a.summary.Count > 0
	if !same {
		f, n = s.fits(x.Value, a.Line)
	}
	plain := x.Quality == s.sample.Quality && x.Reason == s.sample.Reason && x.Source == s.sample.Source
	switch {
	case plain && same && grew >= -64 && grew <= 63:
		a.bytes = append(a.bytes, byte(grew)&0x7F)
	case plain && f == s.form && f >= truth && grew >= -32 && grew <= 31:
		a.bytes = binary.AppendVarint(append(a.bytes, 0x80|byte(grew)&0x3F), n-s.number)
	default:
		a.record(&x, grew, f, n, same)
	}
	s.step, s.form, s.number, s.sample = step, f, n, x
	a.summary.add(&x)
}

func (a *Appender) record(x *Sample, grew int64, f form, n int64, same bool) {
	s, at := &a.last, len(a.bytes)
	b := append(a.bytes, record)
	if grew != 0 {
		b[at] |= newStep
		b = binary.AppendVarint(b, grew)
	}
	if x.Source != s.sample.Source {
		b[at] |= newSource
		if x.Source == NoTime {
			b = append(b, 0)
		} else { // from the time that it stands for, since one often follows from the other
			b = binary.AppendVarint(append(b, 1), x.Source-x.Time)
		}
	}
	if x.Quality != s.sample.Quality || x.Reason != s.sample.Reason {
		b[at] |= newQuality
		b = appendText(append(b, byte(x.Quality)), string(x.Reason))
	}
	if !same {
		if f != s.form {
			b[at] |= newForm
			b = append(b, byte(f))
			if s.number, s.bits = 0, 0; f == linear {
				b = binary.LittleEndian.AppendUint64(b, math.Float64bits(s.line.Factor))
				b = binary.LittleEndian.AppendUint64(b, math.Float64bits(s.line.Offset))
			}
		} else {
			b[at] |= newValue
		}
		switch {
		case f == text:
			b = appendText(b, x.Value.Text())
		case f == bits64:
			b = appendBits(b, x.Value.Bits()^s.bits)
			s.bits = x.Value.Bits()
		case f == bits32:
			v, _ := x.Value.Float()
			is := uint64(math.Float32bits(float32(v)))
			b = appendBits(b, is^s.bits)
			s.bits = is
		case f == wide:
			b = binary.LittleEndian.AppendUint64(b, x.Value.Bits())
		case f >= truth:
			b = binary.AppendVarint(b, n-s.number)
		}
	}
	a.bytes = b
}

// appendBits appends bits without the zero bytes at their ends: how many there are at the low end in the upper half of a byte, how many follow in the lower.
func appendBits(b []byte, x uint64) []byte {
	if x == 0 {
		return append(b, 0)
	}
	low := bits.TrailingZeros64(x) / 8
	n := 8 - bits.LeadingZeros64(x)/8 - low
	b = append(b, byte(low<<4|n))
	for i := low; i < low+n; i++ {
		b = append(b, byte(x>>(8*i)))
	}
	return b
}

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

func cut(v codec.Value) codec.Value {
	if v.Kind() == codec.Text && len(v.Text()) > MaxText {
		return codec.TextValue(cutText(v.Text()))
	}
	return v
}

// cutText cuts what is too long, at the end of a character.
func cutText(s string) string {
	if len(s) <= MaxText {
		return s
	}
	end := MaxText
	for end > 0 && s[end]&0xC0 == 0x80 {
		end--
	}
	return s[:end]
}

// ErrDamaged says that bytes are no chunk.
var ErrDamaged = errors.New("damaged chunk")

// Reader reads the samples of a chunk, in the order in which they were added.
type Reader struct {
	bytes []byte
	at    int
	n     int
	last  state
	words string // the text that was read last, which is often there again
	err   error
}

// Read begins to read a chunk.
func Read(chunk []byte) *Reader {
	r := &Reader{bytes: chunk}
	r.last.sample.Source = NoTime
	return r
}

// Err is why Next ended before the end of the chunk; nil at its end.
func (r *Reader) Err() error { return r.err }

// Offset is how many bytes were read.
func (r *Reader) Offset() int { return r.at }

// Sample is the one that Next has come to; it changes at the next call.
func (r *Reader) Sample() *Sample { return &r.last.sample }

// Next goes to the next sample; it is false at the end, and where the chunk is damaged.
func (r *Reader) Next() bool {
	if r.at >= len(r.bytes) || r.err != nil {
		return false
	}
	s, b := &r.last, r.bytes[r.at]
	r.at++
	r.n++
	switch {
	case b&0x80 == 0:
		s.step += int64(int8(b<<1)) >> 1
		s.sample.Time += s.step
	case b&0x40 == 0:
		s.step += int64(int8(b<<2)) >> 2
		s.sample.Time += s.step
		if s.form < truth {
			r.fail("a number grows that is none")
			return false
		}
		s.number += r.varint()
		s.sample.Value = s.plain(s.number)
	case b&0x20 == 0:
		r.record(b)
	default:
		r.fail("unknown record")
	}
	return r.err == nil
}

func (r *Reader) fail(why string) {
	if r.err == nil {
		r.err = fmt.Errorf("%w: sample %s, byte %d: %s", ErrDamaged, strconv.Itoa(r.n), r.at, why)
	}
}

func (r *Reader) record(b byte) {
	s := &r.last
	if b&newStep != 0 {
		s.step += r.varint()
	}
	s.sample.Time += s.step
	if b&newSource != 0 {
		if s.sample.Source = NoTime; r.byte() != 0 {
			s.sample.Source = s.sample.Time + r.varint()
		}
	}
	if b&newQuality != 0 {
		q := r.byte()
		if q > byte(reading.Good) {
			r.fail("no quality")
			return
		}
		s.sample.Quality, s.sample.Reason = reading.Quality(q), reading.Reason(r.text())
	}
	if b&newForm != 0 {
		s.form, s.number, s.bits = form(r.byte()), 0, 0
		if s.form > lastForm {
			r.fail("unknown form")
			return
		}
		if s.form == linear {
			s.line = Line{math.Float64frombits(r.word()), math.Float64frombits(r.word())}
		}
	} else if b&newValue == 0 {
		return
	}
	switch f := s.form; {
	case f == nothing:
		s.sample.Value = codec.Value{}
	case f == text:
		s.sample.Value = codec.TextValue(r.text())
	case f == bits64:
		s.bits ^= r.xor()
		s.sample.Value = codec.FloatValue(math.Float64frombits(s.bits))
	case f == bits32:
		s.bits ^= r.xor()
		s.sample.Value = codec.FloatValue(float64(math.Float32frombits(uint32(s.bits))))
	case f == wide:
		s.sample.Value = codec.UintValue(r.word())
	default:
		s.number += r.varint()
		s.sample.Value = s.plain(s.number)
	}
}

func (r *Reader) byte() byte {
	if r.at >= len(r.bytes) {
		r.fail("ends early")
		return 0
	}
	r.at++
	return r.bytes[r.at-1]
}

func (r *Reader) varint() int64 {
	if r.at < len(r.bytes) && r.bytes[r.at] < 0x80 { // most are small
		u := int64(r.bytes[r.at])
		r.at++
		return u>>1 ^ -(u & 1)
	}
	n, size := binary.Varint(r.bytes[r.at:])
	if size <= 0 {
		r.fail("no number")
		return 0
	}
	r.at += size
	return n
}

func (r *Reader) word() uint64 {
	if len(r.bytes)-r.at < 8 {
		r.fail("ends early")
		return 0
	}
	r.at += 8
	return binary.LittleEndian.Uint64(r.bytes[r.at-8:])
}

func (r *Reader) xor() (x uint64) {
	b := r.byte()
	low, n := int(b>>4), int(b&0xF)
	if low+n > 8 {
		r.fail("too many bits")
		return 0
	}
	for i := low; i < low+n; i++ {
		x |= uint64(r.byte()) << (8 * i)
	}
	return x
}

func (r *Reader) text() string {
	n, size := binary.Uvarint(r.bytes[r.at:])
	if size <= 0 || n > MaxText || int(n) > len(r.bytes)-r.at-size {
		r.fail("text that is too long")
		return ""
	}
	r.at += size
	s := r.bytes[r.at : r.at+int(n)]
	r.at += int(n)
	if r.words != string(s) { // compared without a copy
		r.words = string(s)
	}
	return r.words
}

// Resume is an Appender that goes on after the samples of a chunk; its error says where the chunk is damaged.
func Resume(chunk []byte) (*Appender, error) {
	r := Read(chunk)
	a := &Appender{bytes: append([]byte(nil), chunk...)}
	for r.Next() {
		a.summary.add(r.Sample())
	}
	a.last = r.last
	return a, r.err
}

// All lists the samples of a chunk; its error says where the chunk is damaged.
func All(chunk []byte) (list []Sample, err error) {
	r := Read(chunk)
	for r.Next() {
		list = append(list, *r.Sample())
	}
	return list, r.err
}
