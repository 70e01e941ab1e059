package cli

import (
	"bytes"
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/traffic"
)

// captured is an app whose output is kept.
func captured(form string) (*app, *bytes.Buffer) {
	var out bytes.Buffer
	return &app{Env: Env{Out: &out, Err: &out}, output: form}, &out
}

func TestFormsOfOutput(t *testing.T) {
	data := []map[string]any{{"name": "gate", "port": 502}, {"name": "a, b", "port": 1}}
	fill := func(t *table) {
		t.header("NAME", "PORT")
		t.row("gate", "502")
		t.row("a, b", "1")
	}
	for form, want := range map[string]string{
		"text": "NAME  PORT\ngate  502\na, b  1\n",
		"csv":  "NAME,PORT\ngate,502\n\"a, b\",1\n",
		"json": "[\n  {\n    \"name\": \"gate\",\n    \"port\": 502\n  },\n  {\n    \"name\": \"a, b\",\n    \"port\": 1\n  }\n]\n",
		"yaml": "- name: gate\n  port: 502\n- name: a, b\n  port: 1\n",
	} {
		a, out := captured(form)
		require.NoError(t, a.print(data, fill))
		assert.Equal(t, want, out.String(), form)
	}
}

func TestATableFitsATerminal(t *testing.T) {
	long := strings.TrimSpace(strings.Repeat("very ", 30)) + " long, and " + strings.Repeat("x", 100)
	rows := [][]string{{"NAME", "REASON"}, {"gate", long}, {"bus", ""}}
	var said []string
	for _, row := range fit(rows, width) {
		assert.LessOrEqual(t, 6+len([]rune(row[1])), width)
		if said = append(said, row[1]); len(said) > 2 && row[1] != "" {
			assert.Empty(t, row[0], "it goes on below")
		}
	}
	assert.Equal(t, strings.ReplaceAll("REASON"+long, " ", ""), strings.ReplaceAll(strings.Join(said, ""), " ", ""), "nothing is lost")
	assert.Equal(t, rows, fit(rows, 0))
	for _, row := range fit(rows, 1) {
		assert.LessOrEqual(t, len([]rune(row[1])), leastColumn)
	}
	a, out := captured("text")
	require.NoError(t, a.print(nil, func(tb *table) {
		tb.header("NAME", "REASON")
		tb.row("gate", long)
	}))
	assert.Contains(t, out.String(), long, "a file takes any width")
}

func at(seconds int) *time.Time {
	t := time.Date(2026, 1, 1, 0, 0, seconds, 0, time.UTC)
	return &t
}

func TestCellsOfAReading(t *testing.T) {
	now := *at(30)
	for _, c := range []struct {
		name string
		r    api.Reading
		want []string
	}{
		{"good", api.Reading{Tag: "a", Text: "25.0", Unit: "%", Quality: reading.Good, GoodTime: at(29), Raw: reading.Raw{Words: []uint16{7}}}, []string{"a", "25.0 %", "● good", "1.0 s", "0x0007"}},
		{"uncertain", api.Reading{Tag: "a", Text: "-1", Quality: reading.Uncertain, Reason: reading.RawRange, GoodTime: at(30)}, []string{"a", "-1", "◐ uncertain (raw-range)", "0.0 s", ""}},
		{"bad with its last good value", api.Reading{Tag: "a", Text: "25.0", Unit: "%", Quality: reading.Bad, Reason: reading.Timeout, GoodTime: at(0)}, []string{"a", "(25.0 %)", "✕ bad (timeout)", "30.0 s", ""}},
		{"never read", api.Reading{Tag: "a", Quality: reading.Bad, Reason: reading.NeverRead}, []string{"a", "", "✕ bad (never-read)", "never", ""}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, cells(c.r, now)) })
	}
	assert.Equal(t, "2 min", age(at(0), at(0).Add(125*time.Second)))
	assert.Equal(t, "50 h", age(at(0), at(0).Add(50*time.Hour)))
}

func TestScreenShowsWhatFits(t *testing.T) {
	known := map[string]api.Reading{}
	for _, tag := range []string{"c", "a", "b", "d"} {
		known[tag] = api.Reading{Tag: tag, Text: "1", Quality: reading.Good, GoodTime: at(0), Raw: reading.Raw{Words: make([]uint16, 20)}}
	}
	var out bytes.Buffer
	screen(&out, known, 60, 7)
	lines := strings.Split(out.String(), "\n")
	assert.Contains(t, lines[0], "● 4 good   ◐ 0 uncertain   ✕ 0 bad")
	assert.True(t, strings.HasPrefix(lines[3], "a"), "by tag")
	assert.Contains(t, out.String(), "… and 2 more; narrow the pattern to see them")
	for _, line := range lines[2:5] {
		assert.LessOrEqual(t, len([]rune(strings.TrimSuffix(line, "\x1b[K"))), 60)
	}
}

func TestRepeatGoesOnAfterAFailure(t *testing.T) {
	a, out := captured("json")
	ctx, cancel := context.WithCancel(context.Background())
	times := 0
	require.NoError(t, a.repeat(ctx, time.Millisecond, func() error {
		if times++; times == 3 {
			cancel()
		}
		return errors.New("no response in time")
	}))
	assert.Equal(t, 3, times)
	assert.Equal(t, 2, strings.Count(out.String(), "no response in time"))
	assert.Error(t, a.repeat(context.Background(), time.Millisecond, func() error { return usage("wrong") }))
	assert.Error(t, a.repeat(context.Background(), 0, func() error { return errors.New("once") }))
}

func TestLensCells(t *testing.T) {
	rows := []api.LensRow{
		{Type: codec.TypeFloat32, Order: codec.ABCD, Text: "25", Plausible: true, Current: true},
		{Type: codec.TypeFloat32, Order: codec.CDAB, Text: "0.0000000000000000000001"},
		{Type: codec.TypeBCD32, Order: codec.ABCD, Problem: "not BCD"},
		{Type: codec.TypeInt16, Order: codec.ABCD, Text: "7", Plausible: true},
	}
	assert.Equal(t, "[25]", lensCell(rows, codec.TypeFloat32, codec.ABCD))
	assert.Equal(t, "~1e-22", lensCell(rows, codec.TypeFloat32, codec.CDAB))
	assert.Equal(t, "no value", lensCell(rows, codec.TypeBCD32, codec.ABCD))
	assert.Equal(t, "7", lensCell(rows, codec.TypeInt16, codec.ABCD))
	assert.Empty(t, lensCell(rows, codec.TypeInt16, codec.CDAB))
}

func TestFieldsAreWrittenAsInASiteFile(t *testing.T) {
	a, _ := captured("text")
	point := a.entity(site.KindPoint)
	add, _, err := point.Find([]string{"add"})
	require.NoError(t, err)
	require.NoError(t, add.ParseFlags([]string{"--address", "40010", "--scaling", "{raw: [0, 1], eng: [0, 100]}", "--decimals", "1", "--states", "{0: off, 5: on}", "--writable", "true", "--description", "123"}))
	list := fields{{"address", true}, {"scaling", false}, {"decimals", false}, {"states", false}, {"writable", false}, {"description", true}}
	got, err := list.given(add)
	require.NoError(t, err)
	assert.Equal(t, map[string]any{
		"address": "40010", "decimals": 1, "writable": true, "description": "123",
		"scaling": map[string]any{"raw": []any{0, 1}, "eng": []any{0, 100}}, "states": map[string]any{"0": "off", "5": "on"},
	}, got, "text stays text, the rest is read")
	require.NoError(t, add.ParseFlags([]string{"--scaling", "{raw: ["}))
	_, err = list.given(add)
	assert.ErrorContains(t, err, "is not written as in a site file")
	assert.Equal(t, exitUsage, exitCode(err))
}

func TestArrowsOfFrames(t *testing.T) {
	for kind, want := range map[traffic.Kind]string{traffic.Sent: "→", traffic.Answer: "←", traffic.Report: "←", traffic.Late: "✕ late", traffic.Timeout: "✕ timeout"} {
		assert.Equal(t, want, arrow(kind))
	}
}
