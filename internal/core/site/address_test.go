package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParseAddress(t *testing.T) {
	for _, c := range []struct {
		text     string
		notation Notation
		chosen   Space
		want     string // canonical, or
		fault    string // part of the error
	}{
		{"hr:9", Offset, "", "hr:9", ""},
		{"HR:9", Offset, "", "hr:9", ""},
		{" hr : 9 ", Offset, "", "hr:9", ""},
		{"co:0x200", Offset, "", "co:512", ""},
		{"ir:3100h", Offset, "", "ir:12544", ""},
		{"hr:9.3", Offset, "", "hr:9.3", ""},
		{"hr:9.high", Offset, "", "hr:9.high", ""},
		{"hr:9", Number, "", "hr:9", ""}, // a prefix makes it canonical in every notation
		{"hr:9", Ref5, "", "hr:9", ""},
		{"hr:40010", Offset, "", "hr:40010", ""},
		{"hr:400010", Offset, "", "hr:9", ""}, // too large for an offset: a reference
		{"ai:3", Offset, "", "ai:3", ""},
		{"dbi:0", Offset, "", "dbi:0", ""},

		{"10", Offset, HoldingRegisters, "hr:10", ""},
		{"10", Number, HoldingRegisters, "hr:9", ""},
		{"0x3100", Offset, InputRegisters, "ir:12544", ""},
		{"65536", Number, HoldingRegisters, "hr:65535", ""},
		{"400010", Offset, "", "hr:9", ""},
		{"465536", Ref6, "", "hr:65535", ""},
		{"40010", Ref5, "", "hr:9", ""},
		{"30001", Ref5, "", "ir:0", ""},
		{"10001", Ref5, "", "di:0", ""},
		{"00010", Ref5, "", "co:9", ""},
		{"0x0A", Hex, HoldingRegisters, "hr:10", ""},
		{"hr:10", Hex, "", "hr:10", ""},
		{"hr:0x10", Hex, "", "hr:16", ""},
		{"7", Hex, InputRegisters, "ir:7", ""},
		{"400010", Hex, "", "hr:9", ""},
		{"400010", Ref6, "", "hr:9", ""},
		{"000010", Ref6, "", "co:9", ""},
		{"400010", Ref5, "", "hr:9", ""},
		{"49999", Ref5, "", "hr:9998", ""},
		{"410000", Ref5, "", "hr:9999", ""},
		{"40010.15", Ref5, "", "hr:9.15", ""},
		{"40010", Ref5, HoldingRegisters, "hr:9", ""},

		{"", Offset, "", "", "is empty"},
		{"10", Offset, "", "", "names no table"},
		{"xy:1", Offset, "", "", `"xy" is no table`},
		{"hr:65536", Offset, "", "", "offset 65536 is out of range"},
		{"hr:-1", Offset, "", "", "is no number"},
		{"hr:9.16", Offset, "", "", "0 to 15"},
		{"co:9.1", Offset, "", "", "coil has no parts"},
		{"0", Number, HoldingRegisters, "", "count from 1"},
		{"40000", Ref5, "", "", "no reference number"},
		{"50001", Ref5, "", "", "no reference number"},
		{"465537", Ref6, "", "", "the references of holding registers end with 465536"},
		{"465537", Offset, "", "", "as a reference it would be holding register 65537, and the last one is 465536"},
		{"10", Ref5, "", "", "it may be hr:9 (40010), ir:9 (30010), co:9 (00010) or di:9 (10010)"},
		{"2833", Ref6, "", "", "it may be hr:2832 (402833), ir:2832 (302833), co:2832 (002833) or di:2832 (102833)"},
		{"10", Hex, HoldingRegisters, "", "does not say whether it is hex: it may be hr:16 or hr:10"},
		{"40010", Hex, "", "", "write hr:9 or hr:40010"},
		{"999999", Offset, HoldingRegisters, "", "out of range"},
		{"40010", Offset, HoldingRegisters, "", "hr:9 or hr:40010"},
		{"40010", Offset, "", "", "as a reference it is hr:9, as an offset it is offset 40010"},
		{"40010", Ref6, "", "", "hr:9"},
		{"30001", Ref5, HoldingRegisters, "", "contradicts its table"},
		{"10", Ref5, HoldingRegisters, "", "it may be hr:9 (40010) or hr:10 (40011)"},
		{"ir:40010", Ref5, "", "", "contradicts itself"},
		{"ir:400010", Offset, "", "", "contradicts itself"},
		{"hr:40010", Ref5, "", "", "as a reference it is hr:9, as an offset hr:0x9C4A"},
		{"hr:9", Offset, Coils, "", "but the table chosen is co"},
	} {
		t.Run(string(c.notation)+" "+c.text+" "+string(c.chosen), func(t *testing.T) {
			got, err := ParseAddress(c.text, c.notation, c.chosen)
			if c.fault != "" {
				require.Error(t, err)
				assert.Contains(t, err.Error(), c.fault)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, got.String())
		})
	}
}

func addresses(t *rapid.T) Address {
	a := Address{
		Space:  rapid.SampledFrom([]Space{Coils, DiscreteInputs, InputRegisters, HoldingRegisters, AnalogInputs}).Draw(t, "space"),
		Offset: rapid.Uint16().Draw(t, "offset"),
	}
	if a.Space.Registers() {
		a.Part = Part(rapid.IntRange(0, int(HighByte)).Draw(t, "part"))
	}
	return a
}

func TestWhatIsFormattedInANotationIsReadBackInIt(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := addresses(t)
		n := rapid.SampledFrom(Notations[:]).Draw(t, "notation")
		text := a.Format(Convention{Notation: n})
		got, err := ParseAddress(text, n, "")
		require.NoError(t, err, text)
		assert.Equal(t, a, got, text)
	})
}

func TestAddressMeaning(t *testing.T) {
	a, err := ParseAddress("40010.3", Ref5, "")
	require.NoError(t, err)
	assert.Equal(t, "bit 3 of holding register, offset 9 (0x0009) on the wire, number 10, reference 40010, read by function 3", a.Meaning())
}

func TestParseRange(t *testing.T) {
	for _, c := range []struct {
		text     string
		notation Notation
		want     string
		count    int
		fault    string
	}{
		{"hr:0..9", Offset, "hr:0..9", 10, ""},
		{"hr:0..hr:9", Offset, "hr:0..9", 10, ""},
		{"hr:9", Offset, "hr:9", 1, ""},
		{"ir:0x10..0x1F", Offset, "ir:16..31", 16, ""},
		{"40001..40010", Ref5, "hr:0..9", 10, ""},
		{"hr:0..65535", Offset, "hr:0..65535", 65536, ""},
		{"hr:9..0", Offset, "", 0, "runs backwards"},
		{"hr:1.3..4", Offset, "", 0, "no bits"},
		{"40001..30001", Ref5, "", 0, "one table"},
	} {
		t.Run(c.text, func(t *testing.T) {
			got, err := Convention{Notation: c.notation}.ParseRange(c.text, "")
			if c.fault != "" {
				require.Error(t, err)
				assert.Contains(t, err.Error(), c.fault)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, got.String())
			assert.Equal(t, c.count, got.Count)
		})
	}
}

func FuzzParseAddress(f *testing.F) {
	for _, seed := range []string{"hr:9", "40010.3", "0x3100", "3100h", "co:", ":", "1..", "hr:9.high", "465536"} {
		f.Add(seed, uint8(0), uint8(0))
	}
	f.Fuzz(func(t *testing.T, text string, n, chosen uint8) {
		notation := Notations[int(n)%len(Notations)]
		space := []Space{"", Coils, DiscreteInputs, InputRegisters, HoldingRegisters}[int(chosen)%5]
		a, err := ParseAddress(text, notation, space)
		if err != nil {
			return
		}
		back, err := ParseAddress(a.Format(Convention{Notation: notation}), notation, "")
		if err != nil || back != a {
			t.Fatalf("%q gives %s, which reads back as %s, %v", text, a, back, err)
		}
	})
}
