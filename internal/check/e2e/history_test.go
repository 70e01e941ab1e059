package e2e

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
)

// What was recorded is shown, put together, exported, and imported, by the command line; it follows a point that is renamed.
func TestHistoryOnTheCommandLine(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	ok := func(args ...string) string {
		t.Helper()
		r := p.run(args...)
		require.Equal(t, 0, r.code, "%v: %s", args, r.err)
		return r.out
	}
	recorded := func(tag string, least int) (list []api.Sample) {
		t.Helper()
		require.Eventually(t, func() bool {
			require.NoError(t, json.Unmarshal([]byte(ok("history", tag, "-o", "json")), &list))
			return len(list) >= least
		}, patience, pollEvery)
		return list
	}
	r := p.run("history", "gate/level")
	assert.Equal(t, 0, r.code)
	assert.Contains(t, r.err, "nothing was recorded of gate/level")
	assert.Equal(t, 3, p.run("history", "gate/nothing").code)
	assert.Equal(t, 2, p.run("history", "gate/level", "--from", "now", "--to", "2h").code)
	assert.Equal(t, 2, p.run("history", "gate/level", "--from", "yesterday").code)
	assert.Equal(t, 2, p.run("history", "gate/level", "--as", "mean").code)
	assert.Equal(t, 2, p.run("history", "gate/level", "--every", "1m", "--as", "median").code)
	assert.Contains(t, p.run("point", "set", "gate/level", "--record", "{every: 1ms}").err, "1s to 24h")

	p.await("gate/level", func(r api.Reading) bool { return said(r) == "good" })
	ok("station", "set", "plc", "--record", "true")
	list := recorded("gate/level", 5)
	for _, x := range list {
		assert.Equal(t, "25.0 %", x.Text+" "+x.Unit)
		assert.Equal(t, "good", x.Quality.String())
		assert.WithinDuration(t, time.Now(), x.Time, patience)
	}
	var all []map[string]any
	require.NoError(t, json.Unmarshal([]byte(ok("history", "gate/level", "--every", "1h", "--as", "mean,min,max,last,known", "-o", "json")), &all))
	count := 0.0
	for _, x := range all {
		assert.Equal(t, []any{25.0, 25.0, 25.0, 25.0}, []any{x["mean"], x["min"], x["max"], x["last"]})
		assert.Greater(t, x["known"], 0.0)
		count += x["count"].(float64)
	}
	assert.GreaterOrEqual(t, count, 5.0)
	assert.Contains(t, ok("history", "gate/*", "--every", "1d", "-o", "csv"), "tag,time,mean,min,max,last\ngate/level,")

	ok("point", "set", "gate/level", "--tag", "gate/depth")
	assert.GreaterOrEqual(t, len(recorded("gate/depth", len(list)+3)), len(list)+3, "it goes on under the new tag")
	assert.Equal(t, 3, p.run("history", "gate/level").code)
	ok("point", "remove", "gate/depth")
	require.Eventually(t, func() bool { return strings.Contains(ok("history", "gate/depth"), "bad (not-recorded)") }, patience, pollEvery, "what was recorded of a point that is gone stays")

	dir := t.TempDir()
	for _, form := range []string{"csv", "xlsx", "parquet"} {
		path := filepath.Join(dir, "all."+form)
		assert.Contains(t, ok("history", "export", path, "gate/depth"), "samples written to "+path)
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Positive(t, info.Size())
	}
	assert.Equal(t, 2, p.run("history", "export", "all.pdf").code)
	table, err := os.ReadFile(filepath.Join(dir, "all.csv"))
	require.NoError(t, err)
	elsewhere := file(t, "elsewhere.csv", strings.ReplaceAll(string(table), "gate/depth", "old/depth"))
	out := ok("history", "import", elsewhere)
	assert.Contains(t, out, "of 1 tags")
	rows, err := csv.NewReader(bytes.NewReader(table)).ReadAll()
	require.NoError(t, err)
	column, times := slices.Index(rows[0], "time"), map[string]bool{}
	require.NotEqual(t, -1, column)
	for _, row := range rows[1:] {
		times[row[column]] = true
	}
	// The end of a recording may have the millisecond of its last sample.
	assert.Contains(t, out, fmt.Sprintf("%d added, %d were there already", len(times), len(rows)-1-len(times)))
	assert.Contains(t, ok("history", "import", elsewhere), ": 0 added")
	assert.Contains(t, ok("history", "old/depth"), "imported")
	r = p.run("history", "import", file(t, "wrong.csv", "tag,time,value\nx,never,1\nx y,2026-01-01,2\n"))
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, `line 2: time: "never" is no time`)
	assert.Contains(t, r.err, `"x y" has ' ' in it`)

	assert.Contains(t, ok("history", "state"), "points are recorded")
	month := time.Now().UTC().Format("2006-01")
	assert.Contains(t, p.run("history", "remove", month).err, "is the month that is recorded now")
	assert.Equal(t, 3, p.run("history", "remove", "1999-01").code)
}

// The mean of a day is that of the day where the user is, by how long each value held.
func TestTheMeanOfADay(t *testing.T) {
	p := start(t)
	list := file(t, "tides.csv", "tag,time,value\ntide,2026-10-24T21:00:00Z,1\ntide,2026-10-24T22:00:00Z,2\ntide,2026-10-25T22:30:00Z,52\ntide,2026-10-25T23:00:00Z,3\n")
	require.Equal(t, 0, p.run("history", "import", list).code)
	t.Setenv("TZ", "Europe/Berlin") // of the command line; the clock is set back in the night to the 25th
	days := func(args ...string) string {
		t.Helper()
		r := p.run(append([]string{"history", "tide", "--from", "2026-10-24", "--to", "2026-10-27", "--as", "mean,min,max,last,known,count"}, args...)...)
		require.Equal(t, 0, r.code, r.err)
		return r.out
	}
	assert.Equal(t, "tag,time,mean,min,max,last,known,count\n"+
		"tide,2026-10-23T22:00:00Z,1,1,1,1,0.041667,1\n"+
		"tide,2026-10-24T22:00:00Z,3,2,52,52,1,2\n"+
		"tide,2026-10-25T23:00:00Z,3,3,3,3,0,1\n", days("--every", "1d", "-o", "csv"))
	assert.Contains(t, days("--every", "1d"), "2026-10-25 00:00:00")
	assert.Contains(t, days("--every", "12h", "-o", "csv"), "tide,2026-10-25T11:00:00Z,")
	r := p.run("history", "tide", "--from", "40000d", "--every", "100ms")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "at most 10000000 are looked at")
}

// Between two runs nothing was recorded, and a month that is missing is said as long as nobody says that it is meant to be.
func TestHistoryOverRestarts(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	require.Equal(t, 0, p.run("point", "set", "bus/one", "--record", "true").code)
	old := file(t, "old.csv", "time,value\n2025-03-03 10:00,7\n")
	require.Equal(t, 0, p.run("history", "import", old, "--tag", "bus/one", "--zone", "UTC").code)
	samples := func(from string) (list []api.Sample) {
		require.NoError(t, p.client.Samples(t.Context(), []string{"bus/one"}, from, "now", func(page []api.Sample) error {
			list = append(list, page...)
			return nil
		}))
		return list
	}
	require.Eventually(t, func() bool { return len(samples("1h")) > 3 }, patience, pollEvery)
	p.restart()
	require.Eventually(t, func() bool {
		said := fmt.Sprint(samples("1h"))
		return strings.Contains(said, "not-recorded") && strings.Contains(said, "never-read")
	}, patience, pollEvery)
	assert.Equal(t, "7", samples("1000d")[0].Text)

	require.NoError(t, p.service.Stop())
	require.NoError(t, os.Remove(filepath.Join(p.dir, "history", "2025-03.db")))
	p.serve()
	assert.NotEqual(t, "7", samples("1000d")[0].Text)
	findings := func() string { return p.run("findings", "-o", "json").out }
	require.Eventually(t, func() bool { return strings.Contains(findings(), "history-file") }, patience, pollEvery)
	assert.Contains(t, findings(), "2025-03: it is gone")
	require.Equal(t, 0, p.run("history", "remove", "2025-03").code)
	require.Eventually(t, func() bool { return !strings.Contains(findings(), "history-file") }, patience, pollEvery)
}

// What is drawn is what was recorded: the least and the most of each column, and where nothing is known.
func TestPlots(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	var text strings.Builder
	text.WriteString("time,value,quality\n")
	at := time.Now().UTC().Add(-2 * time.Hour).Truncate(time.Hour)
	for i := range 3600 {
		quality := "good"
		if i >= 1800 && i < 1860 {
			quality = "bad"
		}
		fmt.Fprintf(&text, "%s,%d,%s\n", at.Add(time.Duration(i)*time.Second).Format(time.RFC3339), i%100, quality)
	}
	require.Equal(t, 0, p.run("history", "import", file(t, "x.csv", text.String()), "--tag", "bus/two").code)
	plot, err := p.client.Plot(t.Context(), []string{"bus/*"}, at.Format(time.RFC3339), at.Add(time.Hour).Format(time.RFC3339), "60")
	require.NoError(t, err)
	require.Len(t, plot.Series, 1)
	c := plot.Series[0]
	require.Len(t, c.Times, 60)
	assert.Equal(t, 3600, c.Count)
	for i := range c.Times {
		if i == 30 {
			assert.Equal(t, 60, c.Bad[i])
			continue
		}
		assert.Zero(t, c.Bad[i])
		most, least := 0.0, 99.0
		for n := i * 60; n < i*60+60; n++ {
			most, least = max(most, float64(n%100)), min(least, float64(n%100))
		}
		assert.Equal(t, least, c.Least[i])
		assert.Equal(t, most, c.Most[i])
		assert.Equal(t, float64((i*60+59)%100), c.Last[i])
	}
	_, err = p.client.Plot(t.Context(), nil, "1h", "now", "60")
	assert.ErrorContains(t, err, "tag is missing")
}

// What is recorded, and the limits, are changed as they are given: by the command line, by a list, by a site file.
func TestRecordAndLimitsAreReplaced(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	set := func(args ...string) {
		t.Helper()
		r := p.run(append([]string{"point", "set", "gate/setpoint"}, args...)...)
		require.Equal(t, 0, r.code, r.err)
	}
	shown := func() string { return p.run("point", "show", "gate/setpoint", "-o", "yaml").out }
	set("--record", "{deadband: 0.5, at_least: 10m}", "--limits", "{low: 10, high: 90, deadband: 2}")
	set("--record", "{every: 1m}", "--limits", "{high: 80}")
	assert.Contains(t, shown(), "record:\n  every: 1m\n")
	assert.Contains(t, shown(), "limits:\n  high: 80\n")
	assert.NotContains(t, shown(), "low:")
	list := filepath.Join(t.TempDir(), "list.csv")
	require.Equal(t, 0, p.run("point", "export", list).code)
	table, err := os.ReadFile(list)
	require.NoError(t, err)
	edited := strings.NewReplacer(`"{""every"":""1m""}"`, `{deadband: 2}`, `{""every"":""1m""}`, `{deadband: 2}`, `{"every":"1m"}`, `{deadband: 2}`, `"{""high"":80}"`, `{low: 5}`, `{""high"":80}`, `{low: 5}`).Replace(string(table))
	require.NotEqual(t, string(table), edited)
	r := p.run("point", "import", file(t, "list.csv", edited))
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, shown(), "record:\n  deadband: 2\n")
	assert.Contains(t, shown(), "limits:\n  low: 5\n")
	site := p.run("export").out
	r = p.run("apply", file(t, "site.yaml", site))
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.out, "0 changed")
	set("--record", "true", "--unset", "limits")
	assert.Contains(t, shown(), "record: true\n")
	assert.NotContains(t, shown(), "limits:")
}
