package samples

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"
	_ "time/tzdata" // for machines that have no time zones

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
)

var rows = []Row{
	{"tern/level", time.Date(2026, 11, 28, 10, 0, 0, 250e6, time.UTC), codec.FloatValue(1.25), "1.25", "m", "good", "", ""},
	{"tern/level", time.Date(2026, 11, 28, 10, 0, 1, 0, time.UTC), codec.Value{}, "", "m", "bad", "timeout", ""},
	{"heron/breaker", time.Date(2026, 11, 28, 10, 0, 2, 0, time.UTC), codec.BoolValue(true), "closed", "", "good", "", "2026-11-28T10:00:01.5Z"},
	{"tern/name", time.Date(2026, 11, 28, 10, 0, 3, 0, time.UTC), codec.TextValue("a; \"b\""), "a; \"b\"", "", "uncertain", "stale", ""},
}

// What is written comes back, by our own reader for csv and xlsx, and by the library's for Parquet.
func TestWhatIsWrittenIsRead(t *testing.T) {
	for _, form := range Forms() {
		var b bytes.Buffer
		w, err := NewWriter(&b, form)
		require.NoError(t, err)
		for _, r := range rows {
			require.NoError(t, w.Write(r))
		}
		require.NoError(t, w.Close())
		if form == Parquet {
			path := filepath.Join(t.TempDir(), "x.parquet")
			require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
			list, err := parquet.ReadFile[record](path)
			require.NoError(t, err)
			require.Len(t, list, len(rows))
			assert.Equal(t, rows[0].Time.UnixMilli(), list[0].Time)
			assert.Equal(t, 1.25, *list[0].Value)
			assert.Nil(t, list[1].Value)
			assert.Equal(t, "closed", list[2].Text)
			continue
		}
		list, faults, err := Read(b.Bytes(), "", time.UTC)
		require.NoError(t, err)
		assert.Empty(t, faults, form)
		require.Len(t, list, len(rows), form)
		for i, r := range rows {
			assert.Equal(t, r.Tag, list[i].Tag)
			assert.WithinDuration(t, r.Time, list[i].Time, time.Millisecond, "%s %d", form, i)
			if form == XLSX && r.Value.Kind() == codec.Bool {
				r.Value = codec.FloatValue(1)
			}
			assert.Equal(t, r.Value, list[i].Value)
			assert.Equal(t, r.Quality, list[i].Quality.String())
			assert.Equal(t, r.Reason, string(list[i].Reason))
		}
	}
}

func TestWhatIsWrongWithAFile(t *testing.T) {
	list, faults, err := Read([]byte("Zeitstempel;Wert;quality\n28.11.2026 10:00:05;1,5;\n2026-11-28 11:00;;bad\nyesterday;2;good\n2026-11-28 12:00;;\n2026-11-28 12:00;3;perhaps\n"), "x", time.FixedZone("", 3600))
	require.NoError(t, err)
	assert.Equal(t, Sample{"x", time.Date(2026, 11, 28, 9, 0, 5, 0, time.UTC), codec.FloatValue(1.5), reading.Good, ""}, func() Sample { x := list[0]; x.Time = x.Time.UTC(); return x }())
	assert.Equal(t, reading.Bad, list[1].Quality)
	require.Len(t, faults, 3)
	assert.Equal(t, Fault{"", 4, "Zeitstempel", "yesterday", faults[0].Message}, faults[0])
	assert.Contains(t, faults[0].Message, "is no time")
	assert.Equal(t, 5, faults[1].Row)
	assert.Contains(t, faults[2].Message, "perhaps")

	_, faults, err = Read([]byte("time,value\n2026-11-28,1\n"), "", time.UTC)
	require.NoError(t, err)
	require.Len(t, faults, 1)
	assert.Contains(t, faults[0].Message, "no column tag")
}

// Files of other programs: each with its habits, and what cannot be told is said.
func TestHabitsOfOtherPrograms(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	at := time.Date(2026, 11, 4, 13, 0, 5, 0, time.UTC)
	for name, c := range map[string]struct {
		file  string
		want  []string // tag, time from 2026-11-04 13:00:05 UTC, value, quality
		fault string
	}{
		"a column for each tag":       {"time;tern/a (m);tern/b [bar];\n2026-11-04T13:00:05Z;1,5;2\n2026-11-04T13:00:06Z;;NaN\n", []string{"tern/a 0s 1.5 good", "tern/b 0s 2 good", "tern/b 1s  bad"}, ""},
		"half days":                   {"Timestamp,Point,Value\n\"11/4/2026 2:00:05 PM\",x,7\n", []string{"x 0s 7 good"}, ""},
		"month first, as one shows":   {"time,tag,value\n11/04/2026 14:00:05,x,7\n11/28/2026 14:00:05,x,8\n", []string{"x 0s 7 good", "x 576h0m0s 8 good"}, ""},
		"day first, as one shows":     {"time,tag,value\n04/11/2026 14:00:05,x,7\n28/11/2026 14:00:05,x,8\n", []string{"x 0s 7 good", "x 576h0m0s 8 good"}, ""},
		"which is first is not told":  {"time,tag,value\n04/11/2026 14:00:05,x,7\n", nil, "nothing in the file tells which"},
		"both are first":              {"time,tag,value\n28/11/2026 14:00,x,7\n11/28/2026 14:00,x,7\n", nil, "only have the day first"},
		"seconds":                     {"time,tag,value\n1793797205,x,1\n1793797205.5,x,2\n1793797206000,x,3\n1793797207000000,x,4\n", []string{"x 0s 1 good", "x 500ms 2 good", "x 1s 3 good", "x 2s 4 good"}, ""},
		"thousands":                   {"time,tag,value\n1793797205,x,\"1,234\"\n1793797206,x,\"1,234.5\"\n", []string{"x 0s 1234 good", "x 1s 1234.5 good"}, ""},
		"points between thousands":    {"time;tag;value\n1793797205;x;1.234,5\n", []string{"x 0s 1234.5 good"}, ""},
		"decimal commas":              {"time;tag;value\n1793797205;x;1,234\n", []string{"x 0s 1.234 good"}, ""},
		"too large a number":          {"time,tag,value\n1793797205,x,1e400\n", nil, "is out of range"},
		"a time that nobody measured": {"time,tag,value\n2999-01-01 00:00,x,1\n", nil, "is not between 1900 and 2200"},
		"another heading for values":  {"time,tag,Level\n1793797205,x,1\n", []string{"x 0s 1 good"}, ""},
		"a bad value":                 {"time,tag,value,quality\n1793797205,x,7,bad\n", []string{"x 0s  bad"}, ""},
		"no time":                     {"tag,value\nx,1\n", nil, "there is no column time"},
	} {
		list, faults, err := Read([]byte(c.file), "", berlin)
		require.NoError(t, err, name)
		if c.fault != "" {
			require.NotEmpty(t, faults, name)
			assert.Contains(t, faults[0].Message, c.fault, name)
			continue
		}
		assert.Empty(t, faults, name)
		var got []string
		for _, x := range list {
			got = append(got, fmt.Sprint(x.Tag, " ", x.Time.Sub(at), " ", x.Value, " ", x.Quality))
		}
		assert.Equal(t, c.want, got, name)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("tag,time,value\nx,2026-11-28,1\n"))
	f.Add([]byte("time,a,b (m)\n11/28/2026 2:00 PM,1,\"1,234.5\"\n"))
	f.Add([]byte("\xef\xbb\xbftime;value\n1700000000000;1,5"))
	f.Fuzz(func(t *testing.T, b []byte) {
		list, _, err := Read(b, "x", time.UTC)
		if err == nil {
			for _, x := range list {
				assert.NotEmpty(t, x.Tag)
			}
		}
	})
}
