package pointlist

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestLinesAsExpressions(t *testing.T) {
	for text, want := range map[string][2]float64{
		"(x-500)/10": {0.1, -50}, "x/100": {0.01, 0}, "x*0.5": {0.5, 0}, "y=0.01x": {0.01, 0}, "raw/10-40": {0.1, -40}, "0.1*RAW+5": {0.1, 5}, "Value × 0,1": {0.1, 0}, "x": {1, 0},
		"(raw value - 32) * 5 / 9": {round(5.0 / 9), round(-32 * 5.0 / 9)}, "-x": {-1, 0}, "2(x+1)": {2, 2}, "y = (x − 4000) / 16000 * 100": {0.00625, -25},
	} {
		factor, offset, ok := lineOf(text)
		if text == "x" {
			assert.False(t, ok, "nothing is done")
			continue
		}
		assert.True(t, ok, text)
		assert.InDelta(t, want[0], factor, 1e-9, text)
		assert.InDelta(t, want[1], offset, 1e-9, text)
	}
	for _, text := range []string{"", "0.1", "x*x", "1/x", "x/0", "((x)", "x)", "x+", "sqrt(x)", "x^2", "max", "exp", "x-x", strings.Repeat("(", 50) + "x", strings.Repeat("-", 90) + "x"} {
		_, _, ok := lineOf(text)
		assert.False(t, ok, text)
	}
}

// Lines that are written at random are read as what they are.
func TestTrialOfExpressions(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 3))
	for range 2000 {
		a, b := float64(1+r.IntN(999))/100, float64(r.IntN(2000)-1000)/10
		forms := []string{"%gx+(%g)", "(%g)*x + (%g)", "x*%g+(%g)", "y = %g * raw - (-(%g))", "(%g*(x))+(%g)", "%g(x)+(%g)"}
		text := fmt.Sprintf(forms[r.IntN(len(forms))], a, b)
		factor, offset, ok := lineOf(text)
		if !ok || math.Abs(factor-a) > 1e-9 || math.Abs(offset-b) > 1e-6 {
			t.Fatalf("%s: %g, %g, %t", text, factor, offset, ok)
		}
	}
}

func FuzzLineOf(f *testing.F) {
	f.Add("(x-500)/10")
	f.Fuzz(func(t *testing.T, text string) {
		if factor, offset, ok := lineOf(text); ok && (factor == 0 || math.IsNaN(factor) || math.IsInf(factor, 0) || math.IsNaN(offset) || math.IsInf(offset, 0)) {
			t.Fatal(factor, offset)
		}
	})
}
