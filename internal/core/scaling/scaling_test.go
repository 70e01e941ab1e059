package scaling

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func pair(a, b float64) *[2]float64 { return &[2]float64{a, b} }
func number(f float64) *float64     { return &f }

func TestApply(t *testing.T) {
	live := Scaling{Raw: pair(4, 20), Eng: pair(0, 100)}
	falling := Scaling{Raw: pair(27648, 0), Eng: pair(0, 50)}
	flow := Scaling{Raw: pair(0, 10000), Eng: pair(0, 200), Curve: SquareRoot}
	tank := Scaling{Table: [][2]float64{{0, 0}, {100, 10}, {200, 40}}}
	clamped := Scaling{Raw: pair(4, 20), Eng: pair(0, 100), Clamp: true}
	for _, c := range []struct {
		name    string
		scaling Scaling
		raw     float64
		want    float64
		inRange bool
	}{
		{"none", Scaling{}, 42, 42, true},
		{"two points, low end", live, 4, 0, true},
		{"two points, middle", live, 12, 50, true},
		{"two points, high end", live, 20, 100, true},
		{"two points, below: extrapolated and reported", live, 0, -25, false},
		{"raw running down", falling, 20736, 12.5, true},
		{"factor", Scaling{Factor: number(0.1)}, 235, 23.5, true},
		{"factor and offset", Scaling{Factor: number(0.5), Offset: number(-40)}, 130, 25, true},
		{"offset alone", Scaling{Offset: number(-273)}, 300, 27, true},
		{"square root, a quarter gives half", flow, 2500, 100, true},
		{"square root, below", flow, -1, 0, false},
		{"table, on a pair", tank, 100, 10, true},
		{"table, between", tank, 150, 25, true},
		{"table, beyond", tank, 300, 70, false},
		{"clamped above, still reported", clamped, 21, 100, false},
		{"clamped below, still reported", clamped, 0, 0, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			f, err := c.scaling.Compile()
			require.NoError(t, err)
			got, inRange := f.Apply(c.raw)
			assert.InDelta(t, c.want, got, 1e-9)
			assert.Equal(t, c.inRange, inRange)
		})
	}
}

func TestInverse(t *testing.T) {
	for _, c := range []struct {
		name    string
		scaling Scaling
		eng     float64
		want    float64
		fault   string
	}{
		{"two points", Scaling{Raw: pair(0, 27648), Eng: pair(0, 100)}, 25, 6912, ""},
		{"out of the range", Scaling{Raw: pair(0, 27648), Eng: pair(0, 100)}, 101, 0, "101 is out of the engineering range 0 to 100"},
		{"falling table", Scaling{Table: [][2]float64{{0, 40}, {10, 20}, {30, 0}}}, 10, 20, ""},
		{"table with a hump", Scaling{Table: [][2]float64{{0, 0}, {10, 20}, {30, 0}}}, 10, 0, ErrNoInverse.Error()},
		{"square root", Scaling{Raw: pair(0, 10000), Eng: pair(0, 200), Curve: SquareRoot}, 100, 2500, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			f, err := c.scaling.Compile()
			require.NoError(t, err)
			got, err := f.Inverse(c.eng)
			if c.fault != "" {
				assert.EqualError(t, err, c.fault)
				return
			}
			require.NoError(t, err)
			assert.InDelta(t, c.want, got, 1e-9)
		})
	}
}

func TestCompileReportsEveryFault(t *testing.T) {
	for _, c := range []struct {
		name    string
		scaling Scaling
		want    string
	}{
		{"two forms", Scaling{Raw: pair(0, 1), Eng: pair(0, 1), Factor: number(1)}, ": give one form: raw and eng, or factor and offset, or table"},
		{"raw alone", Scaling{Raw: pair(0, 1)}, "eng: is missing; raw needs it, such as eng: [0, 100]"},
		{"no span, twice", Scaling{Raw: pair(5, 5), Eng: pair(1, 1)}, "raw: [5 5]: the two ends must differ\neng: [1 1]: the two ends must differ"},
		{"factor 0", Scaling{Factor: number(0)}, "factor: 0: a factor is a number other than 0"},
		{"clamp without a range", Scaling{Clamp: true}, "clamp: needs a range: give raw and eng, or a table"},
		{"raw not ascending", Scaling{Table: [][2]float64{{0, 0}, {0, 1}}}, "table: pair 2: raw 0 must be above 0 of the pair before"},
		{"one pair", Scaling{Table: [][2]float64{{0, 0}}}, "table: has 1 pairs; 2 to 1000 are needed"},
		{"curve", Scaling{Curve: "cubic"}, `curve: "cubic": choose linear or square-root`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := c.scaling.Compile()
			assert.EqualError(t, err, c.want)
		})
	}
}

func TestApplyThenInverseGivesTheRawNumberBack(t *testing.T) {
	finite := rapid.Float64Range(-1e6, 1e6)
	rapid.Check(t, func(t *rapid.T) {
		lo := finite.Draw(t, "raw low")
		span := rapid.Float64Range(1, 1e5).Draw(t, "raw span")
		eng := pair(finite.Draw(t, "eng low"), finite.Draw(t, "eng high"))
		if d := eng[1] - eng[0]; d < 1 && d > -1 {
			return
		}
		s := Scaling{Raw: pair(lo, lo+span), Eng: eng}
		if rapid.Bool().Draw(t, "root") {
			s.Curve = SquareRoot
		}
		f, err := s.Compile()
		require.NoError(t, err)
		raw := lo + span*rapid.Float64Range(0.001, 0.999).Draw(t, "share")
		v, inRange := f.Apply(raw)
		require.True(t, inRange)
		back, err := f.Inverse(v)
		require.NoError(t, err)
		assert.InDelta(t, raw, back, span*1e-3)
	})
}

func ExampleFactorOffset() {
	factor, offset := FactorOffset([2]float64{4, 20}, [2]float64{0, 100})
	fmt.Println(factor, offset)
	fmt.Println(TwoPoints(factor, offset, [2]float64{4, 20}))
	// Output:
	// 6.25 -25
	// [0 100]
}
