package chunk

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
)

// Whatever is put into a chunk comes out of it as it was, also when the chunk was put away in between.
func TestWhatGoesInComesOut(t *testing.T) {
	line := Line{100. / 27648, -20}
	rapid.Check(t, func(t *rapid.T) {
		values := []*rapid.Generator[codec.Value]{
			rapid.Map(rapid.Int64(), codec.IntValue),
			rapid.Map(rapid.Uint64(), codec.UintValue),
			rapid.Map(rapid.Bool(), codec.BoolValue),
			rapid.Map(rapid.Float64(), codec.FloatValue),
			rapid.Map(rapid.Float32(), func(f float32) codec.Value { return codec.FloatValue(float64(f)) }),
			rapid.Map(rapid.IntRange(-1e6, 1e6), func(n int) codec.Value { return codec.FloatValue(float64(n) / 100) }),
			rapid.Map(rapid.IntRange(-1e6, 1e6), func(n int) codec.Value { return codec.FloatValue(float64(n) * 0.1) }),
			rapid.Map(rapid.IntRange(0, 32767), func(n int) codec.Value { return codec.FloatValue(line.at(int64(n))) }),
			rapid.Map(rapid.StringN(0, 20, 60), codec.TextValue),
			rapid.Just(codec.Value{}), rapid.Just(codec.FloatValue(math.Copysign(0, -1))),
		}
		mostly := values[rapid.IntRange(0, len(values)-1).Draw(t, "kind")]
		var samples []Sample
		a, at := &Appender{Line: line}, int64(1.7e12)
		for range rapid.IntRange(1, 60).Draw(t, "samples") {
			x := Sample{Source: NoTime, Value: mostly.Draw(t, "value"), Quality: reading.Good}
			at += rapid.OneOf(rapid.Int64Range(990, 1010), rapid.Int64Range(-1e13, 1e13), rapid.Just(int64(0))).Draw(t, "step")
			x.Time = at
			switch rapid.IntRange(0, 9).Draw(t, "other") {
			case 0:
				x.Value = rapid.OneOf(values...).Draw(t, "another kind")
			case 1:
				x.Quality, x.Reason = reading.Bad, reading.Reason(rapid.SampledFrom([]string{"timeout", "exception-2", ""}).Draw(t, "reason"))
			case 2:
				x.Source = rapid.Int64Range(0, 1<<48-1).Draw(t, "source")
			case 3:
				a.Line = Line{rapid.Float64Range(-10, 10).Draw(t, "factor"), 1}
			case 4:
				again, err := Resume(a.Bytes())
				require.NoError(t, err)
				require.Equal(t, summaryText(a.Summary()), summaryText(again.Summary()))
				again.Line = a.Line
				a = again
			}
			samples = append(samples, x)
			a.Add(x)
		}
		got, err := All(a.Bytes())
		require.NoError(t, err)
		require.Equal(t, samples, got)
	})
}

// summaryText compares where a number may be none.
func summaryText(s Summary) [6]uint64 {
	return [6]uint64{uint64(s.Count), uint64(s.Good), uint64(s.Bad), math.Float64bits(s.Least), math.Float64bits(s.Most), math.Float64bits(s.Sum)}
}

func TestTheSummaryIsThatOfTheSamples(t *testing.T) {
	a := &Appender{}
	good := func(at int64, v float64) Sample {
		return Sample{Time: at, Source: NoTime, Value: codec.FloatValue(v), Quality: reading.Good}
	}
	for _, x := range []Sample{good(1000, 4), good(2000, -2.5), good(1500, 9),
		{Time: 3000, Source: NoTime, Value: codec.FloatValue(1e9), Quality: reading.Bad, Reason: reading.Timeout},
		{Time: 3500, Source: NoTime, Value: codec.FloatValue(5), Quality: reading.Uncertain, Reason: reading.Stale},
		{Time: 4000, Source: NoTime, Value: codec.TextValue("no number"), Quality: reading.Good},
	} {
		a.Add(x)
	}
	s := a.Summary()
	assert.True(t, math.IsNaN(s.Latest), "the last one is no number")
	s.Latest, s.Kind = 0, 0
	assert.Equal(t, Summary{Count: 6, First: 1000, Last: 4000, Good: 4, Bad: 1, Least: -2.5, Most: 9, Sum: 15.5}, s)
}

// A chunk that was damaged is an error and not a panic, and gives no more samples than it has bytes.
func FuzzRead(f *testing.F) {
	a := &Appender{Line: Line{0.25, 3}}
	for i := range 40 {
		a.Add(Sample{Time: int64(i) * 1000, Source: NoTime, Value: codec.FloatValue(float64(i) / 10), Quality: reading.Good})
	}
	a.Add(Sample{Time: 5, Source: 7, Value: codec.TextValue("text"), Quality: reading.Bad, Reason: reading.Timeout})
	f.Add(a.Bytes())
	f.Add([]byte{0xFF})
	f.Add([]byte{record | newValue, 0x80, 0x80})
	f.Fuzz(func(t *testing.T, b []byte) {
		list, err := All(b)
		assert.LessOrEqual(t, len(list), len(b))
		if err != nil {
			assert.ErrorIs(t, err, ErrDamaged)
			return
		}
		again := &Appender{}
		for _, x := range list {
			again.Add(x)
		}
		back, err := All(again.Bytes())
		assert.NoError(t, err)
		assert.Equal(t, len(list), len(back))
	})
}

// BenchmarkSize states bytes a sample, and how long adding and reading take.
func BenchmarkSize(b *testing.B) {
	random := rand.New(rand.NewPCG(1, 2))
	level := 1.5
	for name, value := range map[string]func(i int) float64{
		"steady":        func(int) float64 { return 12.3 },
		"drifting":      func(int) float64 { level += (random.Float64() - 0.5) * 0.02; return math.Round(level*100) / 100 },
		"noisy tenths":  func(int) float64 { return math.Round(500+200*random.NormFloat64()) * 0.1 },
		"noisy scaled":  func(int) float64 { return 100. / 27648 * float64(random.IntN(27648)) },
		"noisy float32": func(int) float64 { return float64(float32(50 + random.NormFloat64())) },
		"noisy float64": func(int) float64 { return 50 + random.NormFloat64() },
	} {
		b.Run(name, func(b *testing.B) {
			samples := make([]Sample, 4096)
			at := int64(1.7e12)
			for i := range samples {
				at += 1000 + int64(random.NormFloat64()*3)
				samples[i] = Sample{Time: at, Source: NoTime, Value: codec.FloatValue(value(i)), Quality: reading.Good}
			}
			var a *Appender
			b.Run("add", func(b *testing.B) {
				for b.Loop() {
					a = &Appender{Line: Line{100. / 27648, 0}}
					for _, x := range samples {
						a.Add(x)
					}
				}
				b.ReportMetric(float64(len(a.Bytes()))/float64(len(samples)), "B/sample")
				b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(samples)), "ns/sample")
			})
			b.Run("read", func(b *testing.B) {
				for b.Loop() {
					for r := Read(a.Bytes()); r.Next(); {
					}
				}
				b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(samples)), "ns/sample")
			})
		})
	}
}
