package dnp3_test

import (
	"bytes"
	"encoding/hex"
	"hash/crc32"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/protocol/dnp3"
)

func octets(t *testing.T, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	require.NoError(t, err)
	return b
}

// TestClause9_2_5_CRC compares the CRC with the catalogued check value and with a slow reckoning bit by bit.
func TestClause9_2_5_CRC(t *testing.T) {
	assert.Equal(t, uint16(0xEA82), dnp3.CRC([]byte("123456789")))
	slow := func(b []byte) uint16 {
		crc := uint16(0)
		for _, c := range b {
			for bit := range 8 {
				in := uint16(c>>bit) & 1
				if crc&1^in == 1 {
					crc = crc>>1 ^ 0xA6BC
				} else {
					crc >>= 1
				}
			}
		}
		return ^crc
	}
	random := rand.New(rand.NewPCG(1, 2))
	for n := range 70 {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(random.Uint32())
		}
		assert.Equal(t, slow(b), dnp3.CRC(b), "%d octets", n)
	}
}

// TestClause9_2_4_Frame checks frames whose octets are known from the outside: a reset of link states and its acknowledgement.
func TestClause9_2_4_Frame(t *testing.T) {
	reset := dnp3.AppendFrame(nil, dnp3.Frame{Control: dnp3.FromMaster | dnp3.Control(dnp3.ResetLinkStates), Destination: 1, Source: 1024})
	assert.Equal(t, octets(t, "0564 05 C0 0100 0004 E921"), reset)
	for n := range dnp3.MaxUserData + 1 {
		f := dnp3.Frame{Control: 0xC4, Destination: 10, Source: 1, Data: bytes.Repeat([]byte{byte(n)}, n)}
		b := dnp3.AppendFrame(nil, f)
		require.LessOrEqual(t, len(b), dnp3.MaxFrame)
		got, size, err := dnp3.ParseFrame(append(b, 0x05), make([]byte, 0, dnp3.MaxUserData))
		require.NoError(t, err)
		assert.Equal(t, len(b), size)
		assert.Equal(t, f.Destination, got.Destination)
		assert.True(t, bytes.Equal(f.Data, got.Data))
		for cut := range len(b) {
			_, _, err := dnp3.ParseFrame(b[:cut], make([]byte, 0, dnp3.MaxUserData))
			assert.ErrorIs(t, err, dnp3.ErrIncomplete)
		}
	}
}

// all takes every frame of a stream, whatever else is in it.
func all(b []byte) (frames []dnp3.Frame, skipped int) {
	for len(b) > 0 {
		f, n, err := dnp3.ParseFrame(b, make([]byte, 0, dnp3.MaxUserData))
		if err == dnp3.ErrIncomplete {
			return frames, skipped + len(b)
		}
		if err == nil {
			frames = append(frames, f)
		} else {
			skipped += n
		}
		b = b[n:]
	}
	return frames, skipped
}

// TestClause9_2_4_1_1_Resynchronising finds whole frames among garbage, broken ones, and ones that were cut short.
func TestClause9_2_4_1_1_Resynchronising(t *testing.T) {
	frame := func(n int) []byte {
		return dnp3.AppendFrame(nil, dnp3.Frame{Control: 0x44, Destination: 1, Source: 10, Data: bytes.Repeat([]byte{0x5A}, n)})
	}
	broken := frame(40)
	broken[20] ^= 1
	header := frame(40)
	header[5] ^= 4
	var stream []byte
	for _, b := range [][]byte{{1, 2, 0x05}, frame(3), broken, frame(20), header, frame(0), frame(50)[:30], frame(17), {0x05, 0x64, 0x02}, frame(5)} {
		stream = append(stream, b...)
	}
	frames, _ := all(stream)
	var sizes []int
	for _, f := range frames {
		sizes = append(sizes, len(f.Data))
	}
	assert.Equal(t, []int{3, 20, 0, 17, 5}, sizes)
}

func FuzzParseFrame(f *testing.F) {
	f.Add(dnp3.AppendFrame(nil, dnp3.Frame{Control: 0x44, Destination: 1, Source: 10, Data: []byte{0xC0, 0xC1, 0x81, 0, 0}}))
	f.Add([]byte{0x05, 0x64, 0x05, 0xC0, 1, 0, 0, 4, 0xE9, 0x21})
	f.Fuzz(func(t *testing.T, b []byte) {
		frames, skipped := all(b)
		n := skipped
		for _, fr := range frames {
			n += len(dnp3.AppendFrame(nil, fr))
		}
		if n != len(b) {
			t.Fatalf("%d octets accounted for of %d", n, len(b))
		}
	})
}

// TestClause8_2_Transport puts fragments through segments of their own making, in and out of order.
func TestClause8_2_Transport(t *testing.T) {
	fragment := make([]byte, 1000)
	for i := range fragment {
		fragment[i] = byte(i)
	}
	number := byte(62) // so that it goes round
	cut := func(b []byte) (list [][]byte) {
		var s dnp3.Segments
		s.Cut(b)
		for seg := s.Next(&number); seg != nil; seg = s.Next(&number) {
			list = append(list, bytes.Clone(seg))
		}
		return list
	}
	segments := cut(fragment)
	require.Len(t, segments, 5)
	var r dnp3.Reassembly
	feed := func(list ...[]byte) (got []byte, err error) {
		for _, s := range list {
			if got, err = r.Add(s); err != nil {
				return nil, err
			}
		}
		return got, nil
	}
	got, err := feed(segments...)
	require.NoError(t, err)
	assert.Equal(t, fragment, got)

	_, err = feed(segments[0], segments[2])
	assert.ErrorIs(t, err, dnp3.ErrSegmentOrder, "one is missing")
	_, err = feed(segments[3])
	assert.ErrorIs(t, err, dnp3.ErrSegmentOrder, "none has begun")
	got, err = feed(segments[0], segments[1], segments[1], segments[2], segments[3], segments[4])
	require.NoError(t, err)
	assert.Equal(t, fragment, got, "one that came twice is taken once")
	got, err = feed(append([][]byte{segments[0], segments[1]}, cut([]byte{1, 2, 3})...)...)
	require.NoError(t, err)
	assert.Equal(t, []byte{1, 2, 3}, got, "a first segment begins anew")
	r.Limit = 600
	_, err = feed(segments...)
	assert.ErrorIs(t, err, dnp3.ErrTooLong)
	assert.Len(t, cut(nil), 1, "an empty fragment has a segment")
}

func FuzzReassembly(f *testing.F) {
	f.Add([]byte{2, 0x40, 1, 2, 0x81, 2})
	f.Fuzz(func(t *testing.T, b []byte) {
		var r dnp3.Reassembly
		for len(b) > 0 { // the first octet says how long the next segment is
			n := min(int(b[0]), len(b)-1)
			got, _ := r.Add(b[1 : 1+n])
			if len(got) > dnp3.MaxFragment {
				t.Fatal("longer than agreed")
			}
			b = b[1+n:]
		}
	})
}

// BenchmarkCRC is to be compared with BenchmarkCRC32 of the same run: software tables of the standard library.
func BenchmarkCRC(b *testing.B) {
	block := make([]byte, 16)
	b.SetBytes(int64(len(block)))
	for b.Loop() {
		dnp3.CRC(block)
	}
}

func BenchmarkCRC32(b *testing.B) {
	block, table := make([]byte, 16), crc32.MakeTable(crc32.Koopman)
	b.SetBytes(int64(len(block)))
	for b.Loop() {
		crc32.Update(0, table, block)
	}
}

func BenchmarkParseFrame(b *testing.B) {
	frame := dnp3.AppendFrame(nil, dnp3.Frame{Control: 0x44, Destination: 1, Source: 10, Data: make([]byte, dnp3.MaxUserData)})
	room := make([]byte, 0, dnp3.MaxUserData)
	b.SetBytes(int64(len(frame)))
	for b.Loop() {
		if _, _, err := dnp3.ParseFrame(frame, room); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkCRC32OfAFrame(b *testing.B) {
	frame, table := make([]byte, dnp3.MaxFrame), crc32.MakeTable(crc32.Koopman)
	b.SetBytes(int64(len(frame)))
	for b.Loop() {
		crc32.Update(0, table, frame)
	}
}
