package pointlist

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/site"
)

// edited takes edits over, as the service does.
func edited(t *testing.T, now *site.Site, l Edits, force bool) (*site.Site, []EditFault) {
	t.Helper()
	d := now.Edit()
	faults := l.Into(d, now, force)
	changes, err := d.Changes()
	if found, is := err.(site.Errors); is {
		faults = append(faults, l.Place(found, faults)...)
	}
	if len(faults) > 0 {
		return now, faults
	}
	return now.With(changes), nil
}

func sheetSite(t testing.TB, points int) *site.Site {
	t.Helper()
	d := site.New().Edit()
	l, s := site.NewLink(), site.NewStation()
	l.Name, l.Host = "gate", "127.0.0.1"
	s.Name, s.Link, s.Notation = "plc", "gate", site.Ref5
	d.Add(l)
	d.Add(s)
	for n := range points {
		d.Add(site.Point{Tag: fmt.Sprintf("a/p%d", n), Station: "plc", Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(2 * n)}, Type: "float32", Unit: "m"})
	}
	changes, err := d.Changes()
	require.NoError(t, err)
	return site.New().With(changes)
}

func TestCellsAsTheyAreTyped(t *testing.T) {
	now := sheetSite(t, 2)
	left, faults := edited(t, now, Edits{
		{Tag: "a/p0", Cells: map[string]string{"scaling": "x0.1", "writable": "yes", "decimals": "2", "unit": "", "range": "0..100", "invalid": "0x8000, 32767"}},
		{Tag: "a/p1", Cells: map[string]string{"tag": "b/mode", "type": "uint16", "states": "0=off, 5=tripped", "address": "40100"}},
		{Cells: map[string]string{"tag": "b/run", "station": "plc", "address": "co:4", "states": "off, on", "description": "Läuft"}},
		{Cells: map[string]string{"tag": "b/level", "station": "plc", "address": "30001-30002", "type": "float32", "scaling": "{raw: [0, 1], eng: [0, 100]}"}},
	}, false)
	require.Empty(t, faults)
	p, _ := left.Point("a/p0")
	assert.Equal(t, 0.1, *p.Scaling.Factor)
	assert.True(t, p.Writable)
	assert.Empty(t, p.Unit)
	assert.Equal(t, &[2]float64{0, 100}, p.Range)
	assert.Len(t, p.Invalid, 2)
	p, _ = left.Point("b/mode")
	assert.Equal(t, site.States{0: "off", 5: "tripped"}, p.States)
	assert.Equal(t, "hr:99", p.Address.String())
	assert.Equal(t, int64(2), left.Version(site.KindPoint, "b/mode"), "a rename, and no other point")
	p, _ = left.Point("b/run")
	assert.Equal(t, site.States{0: "off", 1: "on"}, p.States)
	p, _ = left.Point("b/level")
	assert.Equal(t, "ir:0", p.Address.String())

	// Cells that are given as they are shown change nothing.
	var same Edits
	for _, tag := range left.Names(site.KindPoint) {
		p, _ := left.Point(tag)
		s, _ := left.Station(p.Station)
		cells, err := Cells(p, s, 0)
		require.NoError(t, err)
		e := Edit{Tag: tag, Cells: map[string]string{}}
		for i, field := range Headings()[:len(cells)-2] {
			e.Cells[field] = cells[i]
		}
		same = append(same, e)
	}
	again, faults := edited(t, left, same, false)
	require.Empty(t, faults)
	for _, tag := range left.Names(site.KindPoint) {
		assert.Equal(t, left.Version(site.KindPoint, tag), again.Version(site.KindPoint, tag), tag)
	}
}

func TestFaultsOfASheetHaveTheirCells(t *testing.T) {
	now := sheetSite(t, 3)
	left, faults := edited(t, now, Edits{
		{Tag: "a/p0", Cells: map[string]string{"decimals": "forty", "writable": "perhaps", "type": "int17"}},
		{Tag: "a/p1", Cells: map[string]string{"address": "hr:99999", "scaling": "much"}},
		{Cells: map[string]string{"tag": "a/p2", "station": "plc", "address": "40001"}},
		{Cells: map[string]string{"tag": "new", "station": "pcl", "address": "40001"}},
		{Cells: map[string]string{"station": "plc", "address": "40001"}},
		{Cells: map[string]string{"tag": "twice", "station": "plc", "address": "40001"}},
		{Cells: map[string]string{"tag": "twice", "station": "plc", "address": "40002"}},
		{Cells: map[string]string{"tag": "bare"}},
		{Tag: "a/gone", Cells: map[string]string{"unit": "A"}},
	}, false)
	assert.Same(t, now, left)
	type cell struct {
		row   int
		field string
	}
	found := map[cell]string{}
	for _, f := range faults {
		found[cell{f.Row, f.Field}] = f.Message
	}
	for at, why := range map[cell]string{
		{0, "decimals"}: "number", {0, "writable"}: "neither yes nor no", {1, "address"}: "", {1, "scaling"}: "", {2, "tag"}: "is taken", {3, "station"}: "did you mean plc",
		{4, "tag"}: "is missing", {6, "tag"}: "another row", {7, "station"}: "is missing", {7, "address"}: "is missing", {8, ""}: "was removed or renamed",
	} {
		message, told := found[at]
		if assert.True(t, told, "%v in %v", at, faults) {
			assert.Contains(t, message, why, at)
		}
	}
}

func TestWhatSomebodyElseChanged(t *testing.T) {
	now := sheetSite(t, 2)
	mine := Edits{{Tag: "a/p0", Cells: map[string]string{"unit": "kPa", "decimals": "1"}, Was: map[string]string{"unit": "m", "decimals": ""}}}
	theirs, faults := edited(t, now, Edits{{Tag: "a/p0", Cells: map[string]string{"unit": "bar", "description": "theirs"}}}, false)
	require.Empty(t, faults)
	left, faults := edited(t, theirs, mine, false)
	assert.Same(t, theirs, left)
	require.Len(t, faults, 1)
	assert.True(t, faults[0].Conflict)
	assert.Equal(t, EditFault{Row: 0, Field: "unit", Value: "kPa", Message: `somebody changed this to "bar" since; take that, or save it as it is here`, Conflict: true}, faults[0])
	left, faults = edited(t, theirs, mine, true)
	require.Empty(t, faults)
	p, _ := left.Point("a/p0")
	assert.Equal(t, "kPa", p.Unit)
	assert.Equal(t, "theirs", p.Description, "what was not typed here stays")
}

// Whatever is typed, renamed, removed and added in one go, the site is then what the rows say.
func TestTrialOfSheets(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 11))
		now := sheetSite(t, 12)
		want := map[string]string{} // units by tag
		for _, tag := range now.Names(site.KindPoint) {
			want[tag] = "m"
		}
		var l Edits
		free := []string{"n0", "n1", "n2", "n3", "n4", "n5"}
		held := ""
		give := func() string { // a tag that nobody has, or one that somebody gives up
			i := r.IntN(len(free))
			tag := free[i]
			free = append(free[:i], free[i+1:]...)
			return tag
		}
		for n, i := range r.Perm(12)[:r.IntN(10)+1] {
			tag := fmt.Sprintf("a/p%d", i)
			unit := fmt.Sprintf("u%d", n)
			switch r.IntN(5) {
			case 4: // with the one that did so last, which changes places with it
				if held == "" {
					held = tag
					break
				}
				l = append(l, Edit{Tag: tag, Cells: map[string]string{"tag": held, "unit": unit}}, Edit{Tag: held, Cells: map[string]string{"tag": tag}})
				want[held], want[tag] = unit, want[held]
				held = ""
			case 0:
				l = append(l, Edit{Tag: tag, Remove: true})
				delete(want, tag)
				free = append(free, tag)
			case 1:
				l = append(l, Edit{Tag: tag, Cells: map[string]string{"unit": unit}})
				want[tag] = unit
			case 2:
				to := give()
				l = append(l, Edit{Tag: tag, Cells: map[string]string{"tag": to, "unit": unit}})
				delete(want, tag)
				want[to] = unit
				free = append(free, tag)
			case 3:
				to := give()
				l = append(l, Edit{Cells: map[string]string{"tag": to, "station": "plc", "address": "hr:9", "unit": unit}})
				want[to] = unit
			}
			if len(free) == 0 {
				break
			}
		}
		r.Shuffle(len(l), func(i, k int) { l[i], l[k] = l[k], l[i] })
		left, faults := edited(t, now, l, false)
		require.Empty(t, faults, "seed %d: %+v", seed, l)
		got := map[string]string{}
		for _, p := range left.Points() {
			got[p.Tag] = p.Unit
		}
		assert.Equal(t, want, got, "seed %d: %+v", seed, l)
	}
}

func FuzzTypedCell(f *testing.F) {
	for _, c := range [][2]string{{"scaling", "x0.1"}, {"states", "0=off, 1=on"}, {"range", "0..1"}, {"invalid", "0x8000"}, {"decimals", "1"}, {"unsolicited", "{0: a}"}} {
		f.Add(c[0], c[1])
	}
	now := sheetSite(f, 1)
	f.Fuzz(func(t *testing.T, field, text string) {
		l := Edits{{Tag: "a/p0", Cells: map[string]string{field: text}}}
		d := now.Edit()
		faults := l.Into(d, now, false)
		if _, err := d.Changes(); err != nil {
			faults = append(faults, l.Place(err.(site.Errors), faults)...)
			if len(faults) == 0 {
				t.Fatal("an error without a fault")
			}
		}
		for _, fault := range faults {
			if fault.Message == "" {
				t.Fatal("a fault without words")
			}
		}
	})
}
