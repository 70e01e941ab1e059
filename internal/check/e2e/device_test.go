package e2e

import (
	"encoding/json"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/rig"
)

func TestAPointWithTheWrongWordOrderIsFoundAndPutRight(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	_, err := p.client.Add(t.Context(), site.KindPoint, map[string]any{"tag": "new/level", "station": "plc", "address": "40010", "type": "float32", "order": "ABCD", "decimals": 1})
	require.NoError(t, err)
	wrong := p.await("new/level", func(r api.Reading) bool { return r.Quality == reading.Good })
	assert.Equal(t, "0.0", wrong.Text, "plausible at a glance, and wrong")

	lens, err := p.client.Lens(t.Context(), "new/level")
	require.NoError(t, err)
	assert.Equal(t, []string{"0x0000", "0x41C8"}, lens.Words[:2])
	var right api.LensRow
	for _, row := range lens.Rows {
		assert.Equal(t, row.Type == codec.TypeFloat32 && row.Order == codec.ABCD, row.Current)
		if row.Type == codec.TypeFloat32 && row.Order == codec.CDAB {
			right = row
		}
	}
	assert.Equal(t, "25.0", right.Text)
	assert.True(t, right.Plausible)

	_, err = p.client.Set(t.Context(), site.KindPoint, "new/level", map[string]any{"order": right.Order})
	require.NoError(t, err)
	r := p.await("new/level", func(r api.Reading) bool { return r.Text == "25.0" })
	assert.Equal(t, reading.Good, r.Quality)
	assert.Equal(t, "0x0000 0x41C8", r.Raw.String())
}

func TestAWriteIsReadBackAndRecorded(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/open-cmd", "good")
	w, err := p.client.Write(t.Context(), api.WriteRequest{Tag: "gate/open-cmd", Value: codec.TextValue("open")})
	require.NoError(t, err)
	assert.Equal(t, "wrote open; reads back open", w.Message)
	assert.Equal(t, codec.BoolValue(false), w.Before)
	assert.Equal(t, codec.BoolValue(true), w.After)
	p.await("gate/open-cmd", func(r api.Reading) bool { return r.Text == "open" })

	w, err = p.client.Write(t.Context(), api.WriteRequest{Tag: "gate/setpoint", Value: codec.FloatValue(42.5)})
	require.NoError(t, err)
	assert.Equal(t, "done", string(w.Outcome), w.Message)
	words, err := p.rig.Registers("gate", 1, 20, 1)
	require.NoError(t, err)
	assert.Equal(t, uint16(425), words[0], "the inverse of its scaling arrived in the device")

	w, err = p.client.Write(t.Context(), api.WriteRequest{Tag: "gate/setpoint", Value: codec.IntValue(101)})
	require.NoError(t, err)
	assert.Equal(t, "refused", string(w.Outcome))

	list, err := p.client.Writes(t.Context(), "", 10)
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, []string{"refused", "done", "done"}, []string{list[0].Outcome, list[1].Outcome, list[2].Outcome})
	assert.Equal(t, "tester", list[1].Who)
	assert.Equal(t, "42.5", list[1].Sent.String())
	assert.Equal(t, "10", list[1].Before.String())
}

func TestABitOfARegisterIsWrittenAndTheRestKept(t *testing.T) {
	t.Parallel()
	for _, way := range []string{"mask", "rewrite"} {
		t.Run(way, func(t *testing.T) {
			p := furnished(t)
			_, err := p.client.Set(t.Context(), site.KindStation, "plc", map[string]any{"partial_write": way})
			require.NoError(t, err)
			_, err = p.client.Add(t.Context(), site.KindPoint, map[string]any{"tag": "bit", "station": "plc", "address": "40021.3", "writable": true})
			require.NoError(t, err)
			w, err := p.client.Write(t.Context(), api.WriteRequest{Tag: "bit", Value: codec.BoolValue(true)})
			require.NoError(t, err)
			assert.Equal(t, "done", string(w.Outcome), w.Message)
			words, err := p.rig.Registers("gate", 1, 20, 1)
			require.NoError(t, err)
			assert.Equal(t, uint16(100|1<<3), words[0])
		})
	}
}

// Reading, changing and writing back one register is one step for all who write, on whatever connection.
func TestBitsOfOneRegisterThatAreWrittenAtOnceAreAllKept(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	_, err := p.client.Set(t.Context(), site.KindStation, "plc", map[string]any{"partial_write": "rewrite"})
	require.NoError(t, err)
	_, err = p.client.Set(t.Context(), site.KindLink, "gate", map[string]any{"connections": 2, "in_flight": 4})
	require.NoError(t, err)
	bits := []string{"3", "8", "11"}
	for _, bit := range bits {
		_, err = p.client.Add(t.Context(), site.KindPoint, map[string]any{"tag": "bit" + bit, "station": "plc", "address": "40021." + bit, "writable": true})
		require.NoError(t, err)
	}
	p.awaitQuality("gate/level", "good")
	for round := range 10 {
		on := round%2 == 0
		var writing sync.WaitGroup
		for _, bit := range bits {
			writing.Go(func() {
				w, err := p.client.Write(t.Context(), api.WriteRequest{Tag: "bit" + bit, Value: codec.BoolValue(on)})
				assert.NoError(t, err)
				assert.Equal(t, "done", string(w.Outcome), w.Message)
			})
		}
		writing.Wait()
		words, err := p.rig.Registers("gate", 1, 20, 1)
		require.NoError(t, err)
		want := uint16(100)
		if on {
			want |= 1<<3 | 1<<8 | 1<<11
		}
		require.Equal(t, want, words[0])
	}
}

func TestWritesThatTheDeviceDoesNotCarryOut(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name    string
		fault   rig.Faults
		outcome string
		message string
	}{
		{"it refuses", rig.Faults{Exception: 3}, "refused", "the device refused: exception 3 (illegal data value)"},
		{"it fails", rig.Faults{Exception: 4}, "unknown", "50 was sent once; exception 4 (server device failure). Read the point before writing again"},
		{"it is silent", rig.Faults{Drop: true}, "refused", "not sent: the station does not answer properly (no response in time)"},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := furnished(t)
			p.awaitQuality("gate/setpoint", "good")
			require.NoError(t, p.rig.SetFaults("gate", 1, c.fault))
			w, err := p.client.Write(t.Context(), api.WriteRequest{Tag: "gate/setpoint", Value: codec.IntValue(50)})
			require.NoError(t, err)
			assert.Equal(t, c.outcome, string(w.Outcome))
			assert.Equal(t, c.message, w.Message)
			words, err := p.rig.Registers("gate", 1, 20, 1)
			require.NoError(t, err)
			assert.Equal(t, uint16(100), words[0], "nothing changed")
		})
	}
}

func TestAStationThatIsCutOffAndComesBack(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	good := p.awaitQuality("gate/level", "good")
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{Drop: true}))
	bad := p.awaitQuality("gate/level", "bad (timeout)")
	assert.Equal(t, "25.0", bad.Text, "the last good value is kept")
	assert.False(t, bad.GoodTime.Before(*good.GoodTime))
	assert.True(t, bad.Time.After(*bad.GoodTime), "and known to be old")
	assert.Equal(t, "the station did not answer in time", bad.Explanation)
	// Two polls of 200 ms each, in which the request and its retry wait for 400 ms, and what a busy machine takes.
	assert.Less(t, bad.Time.Sub(*bad.GoodTime).Seconds(), 5.0)
	require.NoError(t, p.rig.SetFaults("gate", 1, rig.Faults{}))
	p.awaitQuality("gate/level", "good")
}

// Every way in which a device fails: what its point says, that its neighbour on the line is not touched unless the
// line itself is gone, and that it comes back.
func TestFaultsOfDevices(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name      string
		fault     rig.Faults
		cut       bool
		want      string
		neighbour string
	}{
		{"hangs", rig.Faults{Drop: true}, false, "bad (timeout)", "good"},
		{"refuses connections", rig.Faults{}, true, "bad (link-down)", "bad (link-down)"},
		{"closes in the middle of a frame", rig.Faults{Close: true}, false, "bad (link-down)", "good"},
		{"answers garbage", rig.Faults{Garbage: true}, false, "bad (bad-response)", "good"},
		{"answers for another unit", rig.Faults{WrongUnit: true}, false, "bad (bad-response)", "good"},
		{"answers with a register too few", rig.Faults{Short: true}, false, "bad (bad-response)", "good"},
		{"refuses with exception 4", rig.Faults{Exception: 4}, false, "bad (exception-4)", "good"},
		{"is behind a gateway that cannot reach it", rig.Faults{Exception: 11}, false, "bad (exception-11)", "good"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := furnished(t)
			p.awaitQuality("bus/one", "good")
			p.awaitQuality("bus/two", "good")
			if c.cut {
				p.rig.Cut("bus")
			} else {
				require.NoError(t, p.rig.SetFaults("bus", 2, c.fault))
			}
			p.awaitQuality("bus/two", c.want)
			p.awaitQuality("bus/one", c.neighbour)
			h, err := p.client.Health(t.Context())
			require.NoError(t, err)
			assert.Equal(t, "ok", h.Status)
			st, err := p.client.Status(t.Context())
			require.NoError(t, err)
			if c.cut {
				assert.Contains(t, st.Links[0].Reason, "connection refused")
				require.NoError(t, p.rig.Restore("bus"))
			} else {
				require.NoError(t, p.rig.SetFaults("bus", 2, rig.Faults{}))
			}
			p.awaitQuality("bus/two", "good")
		})
	}
}

func TestARefusedAddressAmongGoodNeighbours(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	for tag, address := range map[string]string{"a": "hr:1", "b": "hr:3", "beyond": "hr:5"} { // the unit has hr:0 to hr:3
		_, err := p.client.Add(t.Context(), site.KindPoint, map[string]any{"tag": tag, "station": "one", "address": address})
		require.NoError(t, err)
	}
	refused := p.awaitQuality("beyond", "bad (exception-2)")
	assert.Equal(t, "the device refused: exception 2 (illegal data address)", refused.Explanation)
	p.awaitQuality("a", "good")
	p.awaitQuality("b", "good")
	p.awaitQuality("bus/one", "good")
}

func TestReadingAddressesThatNoPointHas(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	list, err := p.client.ReadRange(t.Context(), "plc", "40010..40012", "", "")
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, "hr:9", list[0].Address)
	assert.Equal(t, "40010", list[0].Shown)
	assert.Equal(t, "0x41C8", list[1].Raw.String())
	_, err = p.client.ReadRange(t.Context(), "plc", "hr:60..61", "", "")
	assert.EqualError(t, err, "the device gave nothing: hr:60..61: exception 2 (illegal data address)")
	_, err = p.client.ReadRange(t.Context(), "plc", "hr:0..9999", "", "")
	assert.ErrorContains(t, err, "at most 2000 are read at once")
}

func TestDoesItAnswer(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	test, err := p.client.Test(t.Context(), site.KindStation, "one")
	require.NoError(t, err)
	assert.True(t, test.Answers)
	assert.Equal(t, "unit 1 answers: hr:0 is 0x000B", test.Message)
	_, err = p.client.Add(t.Context(), site.KindStation, map[string]any{"name": "nobody", "link": "bus", "unit": 9})
	require.NoError(t, err)
	test, err = p.client.Test(t.Context(), site.KindStation, "nobody")
	require.NoError(t, err)
	assert.False(t, test.Answers)
	assert.Equal(t, "no valid response from unit 9: no response in time", test.Message)

	p.rig.Cut("gate")
	_, err = p.client.Add(t.Context(), site.KindLink, map[string]any{"name": "closed", "host": "127.0.0.1", "port": number(t, p.port("gate"))})
	require.NoError(t, err)
	test, err = p.client.Test(t.Context(), site.KindLink, "closed")
	require.NoError(t, err)
	assert.False(t, test.Answers)
	assert.Contains(t, test.Message, "connection refused; the host is there, but nothing listens on that port")
}

func TestValuesThatAreNone(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	_, err := p.client.Add(t.Context(), site.KindPoint, map[string]any{"tag": "bcd", "station": "plc", "address": "40011", "type": "bcd16"})
	require.NoError(t, err)
	r := p.awaitQuality("bcd", "bad (decode)") // 0x41C8
	assert.True(t, r.Value.IsZero(), "never a guess")
	assert.Equal(t, "0x41C8", r.Raw.String())
	b, err := json.Marshal(r)
	require.NoError(t, err)
	assert.Contains(t, string(b), `"value":null`)
}

// A raw code by which a device says that it has no value is no value, in the command line, the API and the site file.
func TestARawCodeForAFailure(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	r := p.run("point", "set", "gate/setpoint", "--invalid", "[0x0064, -1]") // 100, which it holds
	require.Equal(t, 0, r.code, r.err)
	got := p.await("gate/setpoint", func(r api.Reading) bool { return said(r) == "bad (sensor-failure)" })
	assert.Equal(t, "the device gives a raw code that says that it has no value", got.Explanation)
	assert.Contains(t, p.run("export").out, "invalid: [100, -1]")
	wrong := p.run("point", "set", "gate/setpoint", "--invalid", "[70000]")
	assert.NotZero(t, wrong.code)
	assert.Contains(t, wrong.err, "70000 does not fit the 16 bits of int16")
	r = p.run("point", "set", "gate/setpoint", "--invalid", "null")
	require.Equal(t, 0, r.code, r.err)
	p.awaitQuality("gate/setpoint", "good")
}

// Of a range with addresses that the device does not have, what it has is shown, and of the others why not.
func TestARangeWithAHole(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	r := p.run("read", "--station", "plc", "hr:37..42")
	assert.Equal(t, 4, r.code, r.err)
	lines := strings.Split(strings.TrimSpace(r.out), "\n")
	require.Len(t, lines, 7, r.out)
	assert.Contains(t, lines[0], "WHY NOT")
	assert.Regexp(t, `^hr:39 +40040 +0x0000 +0 +0`, lines[3])
	assert.Regexp(t, `^hr:40 +40041 .*the device refused: exception 2 \(illegal data address\)`, lines[4])
	r = p.run("read", "--station", "plc", "hr:38..41", "--type", "uint32", "-o", "json")
	assert.Equal(t, 4, r.code)
	var list []api.RawReading
	require.NoError(t, json.Unmarshal([]byte(r.out), &list))
	require.Len(t, list, 2)
	assert.Empty(t, list[0].Problem)
	assert.Contains(t, list[1].Problem, "hr:40: the device refused")
	assert.True(t, list[1].Value.IsZero(), "half a value is none")
	r = p.run("read", "--station", "plc", "hr:100..120")
	assert.Equal(t, 1, r.code, "nothing of it is there")
	assert.Contains(t, r.err, "illegal data address")
}
