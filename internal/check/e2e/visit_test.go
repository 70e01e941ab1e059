package e2e

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A device that is no station of the site is read and written at its far end; one that is a station is read through it, and written only as
// its points allow.
func TestADeviceThatIsNoStation(t *testing.T) {
	t.Parallel()
	p := furnished(t)
	p.awaitQuality("gate/level", "good")
	far := p.rig.Address("bus")
	read := p.run("read", far, "--unit", "3", "hr:0..1", "--timeout", "300ms")
	assert.Equal(t, 1, read.code, read.out)
	assert.Contains(t, read.err, "no response")

	gate := p.rig.Address("gate")
	own := p.run("read", gate, "--unit", "1", "hr:30..31", "-o", "json")
	require.Zero(t, own.code, own.err)
	var list []map[string]any
	require.NoError(t, json.Unmarshal([]byte(own.out), &list))
	require.Len(t, list, 2)
	assert.Equal(t, "hr:30", list[0]["address"])
	refused := p.run("write", gate, "--unit", "1", "hr:30", "5")
	assert.Contains(t, refused.err, "is station plc; write to that: arithmon write --station plc")
	assert.Equal(t, 1, refused.code)

	p.run("station", "disable", "plc")
	written := p.run("write", gate, "--unit", "1", "hr:30", "5")
	assert.Contains(t, written.out, "hr:30: done: wrote 5; reads back 5", written.err)
	words, err := p.rig.Registers("gate", 1, 30, 1)
	require.NoError(t, err)
	assert.Equal(t, uint16(5), words[0])
	assert.Contains(t, p.run("read", gate, "--unit", "1", "hr:30", "--type", "uint16").out, "0x0005  5")
	records, err := p.client.Writes(t.Context(), "", 5)
	require.NoError(t, err)
	require.NotEmpty(t, records)
	assert.Equal(t, gate+" unit 1 hr:30 done 5", strings.Join([]string{records[0].Station, records[0].Address, records[0].Outcome, records[0].Tried}, " "))

	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"read", gate, "--unit", "700", "hr:0"}, 1, "700 is out of range: 0 to 255"},
		{[]string{"read", gate, "--unit", "1"}, 2, "say where and which addresses"},
		{[]string{"read", gate, "--unit", "1", "--outstation", "2", "hr:0"}, 2, "give one of"},
		{[]string{"read", "127.0.0.1:1", "--unit", "1", "hr:0"}, 1, "nothing listens on that port"},
		{[]string{"write", gate, "--unit", "1", "ir:0", "5"}, 1, "can only be read"},
	} {
		r := p.run(c.args...)
		assert.Equal(t, c.code, r.code, "%v: %s%s", c.args, r.out, r.err)
		assert.Contains(t, r.out+r.err, c.says, c.args)
	}
}
