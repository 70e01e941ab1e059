package rig

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/demo"
	"arithmon/internal/core/site"
	"arithmon/internal/protocol/modbus"
)

func bound(f float64) *float64 { return &f }

// run steps a world of signals and returns what the named one was after each second.
func run(t *testing.T, signals map[string]Signal, name string, seconds int, read func(Signal) float64) []float64 {
	t.Helper()
	w, err := newWorld(signals, 1, read)
	require.NoError(t, err)
	var values []float64
	for range seconds {
		for range 10 {
			w.step(0.1)
		}
		values = append(values, w.now[name])
	}
	return values
}

func TestSignals(t *testing.T) {
	second := site.Duration(time.Second)
	for _, c := range []struct {
		name    string
		signals map[string]Signal
		want    []float64
	}{
		{"constant", map[string]Signal{"x": {Kind: Constant, Value: 3}}, []float64{3, 3}},
		{"ramp", map[string]Signal{"x": {Kind: Ramp, Min: bound(0), Max: bound(8), Period: 4 * second}}, []float64{2, 4, 6, 0, 2}},
		{"sine", map[string]Signal{"x": {Kind: Sine, Min: bound(0), Max: bound(2), Period: 4 * second}}, []float64{2, 1, 0, 1}},
		{"steps", map[string]Signal{"x": {Kind: Steps, Values: []float64{5, 7}, Period: 2 * second}}, []float64{5, 7, 7, 5}},
		{"counter wraps", map[string]Signal{"x": {Kind: Counter, Value: 3, Max: bound(8)}}, []float64{3, 6, 1}},
		{"sum is held", map[string]Signal{"a": {Kind: Constant, Value: 3}, "x": {Kind: Sum, Value: 1, Of: map[string]float64{"a": 2}, Max: bound(6)}}, []float64{6, 6}},
		{"travel", map[string]Signal{"a": {Kind: Constant, Value: 5}, "x": {Kind: Travel, Value: 2, Of: map[string]float64{"a": 1}}}, []float64{2, 4, 5}},
		{"lag reaches 63 % in its time constant", map[string]Signal{"a": {Kind: Constant, Value: 1}, "x": {Kind: Lag, Period: second, Of: map[string]float64{"a": 1}}}, []float64{0.632, 0.865}},
		{"switch has two thresholds", map[string]Signal{"a": {Kind: Steps, Values: []float64{0, 10, 5, 0}, Period: second}, "x": {Kind: Switch, Of: map[string]float64{"a": 1}, Min: bound(2), Max: bound(8)}}, []float64{1, 1, 0, 0}},
		{"input", map[string]Signal{"x": {Kind: Input}}, []float64{42}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := run(t, c.signals, "x", len(c.want), func(Signal) float64 { return 42 })
			assert.InDeltaSlice(t, c.want, got, 0.001)
		})
	}
	walk := map[string]Signal{"x": {Kind: Walk, Value: 5, Min: bound(-1), Max: bound(1)}}
	first := run(t, walk, "x", 100, nil)
	assert.Equal(t, first, run(t, walk, "x", 100, nil), "the same seed walks the same way")
	for _, v := range first {
		assert.True(t, v >= -1 && v <= 1)
	}
}

func TestLoadFaults(t *testing.T) {
	line := "lines: [{name: a, listen: '127.0.0.1:0', stations: [{unit: 1, values: [{at: 'hr:0', signal: x}]}]}]\n"
	for _, c := range []struct{ name, data, want string }{
		{"unknown kind", "rig: 1\nsignals: {x: {kind: wave}}\n" + line, `signals.x: kind "wave" is not known`},
		{"unknown signal", "rig: 1\nsignals: {xx: {kind: constant}}\n" + line, `there is no signal "x"; did you mean xx?`},
		{"circle", "rig: 1\nsignals: {x: {kind: sum, of: {y: 1}}, y: {kind: sum, of: {x: 1}}}\n" + line, "depends on itself"},
		{"no lines", "rig: 1\n", "lines: is empty"},
		{"unknown field", "rig: 1\nlinez: []\n", `line 2: linez: unknown field "linez"; did you mean lines?`},
		{"sine without a period", "rig: 1\nsignals: {x: {kind: sine, min: 0, max: 1}}\n" + line, "a sine needs a period"},
		{"table too large", "rig: 1\nlines: [{name: a, listen: 'x:1', stations: [{unit: 1, tables: {hr: -1}}]}]\n", "tables.hr"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Load("rig.yaml", []byte(c.data))
			assert.ErrorContains(t, err, c.want)
		})
	}
}

func TestTheDemoIsPlausible(t *testing.T) {
	c, err := Load("merrowfen.yaml", demo.Rig)
	require.NoError(t, err)
	w, err := newWorld(c.Signals, c.Seed, func(Signal) float64 { return 0 })
	require.NoError(t, err)
	started := false
	energy := w.now["energy"]
	for range 36000 { // an hour
		w.step(0.1)
		require.True(t, w.now["level"] > 0.5 && w.now["level"] < 4, "level %v", w.now["level"])
		require.True(t, w.now["gate1"] >= 0 && w.now["gate1"] <= 1)
		started = started || w.now["speed1"] > 1400
	}
	assert.True(t, started, "the pump runs at times")
	assert.Greater(t, w.now["energy"], energy+1, "and uses energy")
}

func TestNamesOfPorts(t *testing.T) {
	dir := t.TempDir()
	path, port, other := filepath.Join(dir, "port"), filepath.Join(dir, "pts1"), filepath.Join(dir, "pts2")
	for _, f := range []string{port, other} {
		require.NoError(t, os.WriteFile(f, nil, 0o600))
	}
	require.NoError(t, name(port, path))
	require.NoError(t, name(port, path), "left behind by a run whose port had the same number")
	assert.ErrorContains(t, name(other, path), "is the port of another rig; if none runs, remove that link")
	unname(other, path)
	assert.FileExists(t, path, "only who made it takes it away")
	require.NoError(t, os.Remove(port))
	require.NoError(t, name(other, path), "left behind by a run whose port is gone")
	unname(other, path)
	assert.NoFileExists(t, path)
}

func TestStationKeepsItsTablesApart(t *testing.T) {
	c, err := Load("merrowfen.yaml", demo.Rig)
	require.NoError(t, err)
	at := slices.IndexFunc(c.Lines, func(l Line) bool { return l.Name == "sallow-gate" })
	s := newStation(c.Lines[at].Stations[0])
	s.refresh(map[string]float64{"gate1": 0.25})
	words := make([]uint16, 2)
	require.NoError(t, s.ReadRegisters(modbus.HoldingRegisters, 9, words))
	assert.Equal(t, []uint16{0x0000, 0x3E80}, words, "0.25 as CDAB")
	assert.Equal(t, modbus.IllegalDataAddress, s.ReadRegisters(modbus.HoldingRegisters, 63, words))
	assert.Equal(t, modbus.IllegalDataAddress, s.ReadRegisters(modbus.InputRegisters, 32, words[:1]))
}

func FuzzLoad(f *testing.F) {
	f.Add(demo.Rig)
	f.Add([]byte("rig: 1\nsignals: {x: {kind: sine, min: 0, max: 1, period: 1s}}\nlines: [{name: a, listen: 'h:1', stations: [{unit: 1, values: [{at: 'hr:0', signal: x}]}]}]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if c, err := Load("f", data); err == nil {
			for _, l := range c.Lines {
				for _, s := range l.Stations {
					if l.Protocol == site.DNP3 {
						newFar(s).refresh(time.Now(), map[string]float64{})
					} else {
						newStation(s)
					}
				}
			}
		}
	})
}
