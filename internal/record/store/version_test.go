package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/merge"
	"arithmon/internal/core/site"
)

// sameSites fails unless two sites have the same entities.
func sameSites(t *testing.T, want, got *site.Site, why string) {
	t.Helper()
	for _, c := range merge.Sites(want, got, nil) {
		t.Errorf("%s: %s %s %s: %v", why, c.Action(), c.Kind(), c.Name(), merge.Fields(c.Before, c.After))
	}
}

// applied is a site after changes, whatever their order.
func applied(s *site.Site, changes []site.Change) *site.Site {
	b := s.Build()
	for _, c := range changes {
		if c.Before != nil {
			b.Remove(c.Kind(), c.Before.Key())
		}
	}
	for _, c := range changes {
		if c.After != nil {
			b.Put(c.After, 1)
		}
	}
	return b.Site()
}

// random makes one random modification of stations and points: added, changed, renamed and removed.
func random(r *rand.Rand, d *site.Draft, now *site.Site) {
	tags, stations := now.Tags(), now.Names(site.KindStation)
	if len(stations) < 2 || r.IntN(12) == 0 {
		st := site.NewStation()
		st.Name, st.Link = fmt.Sprint("st", r.IntN(6)), "gate"
		st.Unit = r.IntN(200) + 1
		if _, taken := now.Station(st.Name); !taken {
			d.Add(st)
		}
		return
	}
	pick := func(list []string) string { return list[r.IntN(len(list))] }
	switch n := r.IntN(10); {
	case n < 4 || len(tags) == 0:
		for range 1 + r.IntN(3) {
			p := site.NewPoint()
			p.Tag, p.Station, p.Address = fmt.Sprint("p/", r.IntN(20)), pick(stations), site.Address{Space: site.HoldingRegisters, Offset: uint16(r.IntN(1000))}
			d.Put(p)
		}
	case n < 6:
		p, _ := now.Point(pick(tags))
		p.Unit = fmt.Sprint("u", r.IntN(5))
		d.Put(p)
	case n < 8:
		if r.IntN(3) == 0 {
			kind := []site.Kind{site.KindPoint, site.KindStation}[r.IntN(2)]
			changePlaces(r, d, now, kind)
			return
		}
		p, _ := now.Point(pick(tags))
		old := p.Tag
		p.Tag = fmt.Sprint("p/", r.IntN(20))
		if _, taken := now.Point(p.Tag); !taken {
			d.Replace(old, p)
		}
	case n == 8:
		gone := pick(tags)
		d.Remove(site.KindPoint, gone, false)
		if p, _ := now.Point(pick(tags)); p.Tag != gone && r.IntN(2) == 0 { // and another gets its name
			old := p.Tag
			p.Tag = gone
			d.Replace(old, p)
		}
	default:
		name := pick(stations)
		if r.IntN(3) == 0 {
			d.Remove(site.KindStation, name, true)
			return
		}
		st, _ := now.Station(name)
		st.Name = fmt.Sprint("st", r.IntN(6))
		if _, taken := now.Station(st.Name); !taken {
			d.Replace(name, st)
		}
	}
}

// changePlaces gives some entities of a kind the names of each other.
func changePlaces(r *rand.Rand, d *site.Draft, now *site.Site, kind site.Kind) {
	names := slices.Clone(now.Names(kind))
	r.Shuffle(len(names), func(i, k int) { names[i], names[k] = names[k], names[i] })
	names = names[:min(len(names), 2+r.IntN(3))]
	var list []site.Replacement
	for i, name := range names {
		to := names[(i+1)%len(names)]
		switch e, _ := now.Get(kind, name); e := e.(type) {
		case site.Point:
			e.Tag = to
			list = append(list, site.Replacement{Old: name, New: e})
		case site.Station:
			e.Name = to
			list = append(list, site.Replacement{Old: name, New: e})
		}
	}
	d.ReplaceAll(list)
}

// Random modifications, and the site kept after each: every state of the past is given as it was, compared as it differs, and restored.
func TestTrialOfThePast(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 2))
	for range 4 {
		s := open(t, t.TempDir())
		_, _, err := s.Modify(t.Context(), Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) { d.Add(link("gate")) })
		require.NoError(t, err)
		states := map[int64]*site.Site{}
		var changes []int64
		step := func(f func(*site.Draft, *site.Site)) {
			_, _, err := s.Modify(t.Context(), Edit{Who: "ann"}, f)
			if err != nil {
				return // what is not consistent changes nothing
			}
			id, err := s.LatestChange(t.Context())
			require.NoError(t, err)
			if states[id] == nil {
				changes = append(changes, id)
			}
			states[id] = s.Site()
		}
		for range 60 {
			step(func(d *site.Draft, now *site.Site) { random(r, d, now) })
		}
		for range 15 { // what is undone is as it was
			before := s.Site()
			changes, _, err := s.Modify(t.Context(), Edit{Who: "ann"}, func(d *site.Draft, now *site.Site) { random(r, d, now) })
			if err != nil || len(changes) == 0 {
				continue
			}
			id, err := s.LatestChange(t.Context())
			require.NoError(t, err)
			_, left, err := s.Undo(t.Context(), Edit{Who: "ann"}, id)
			require.NoError(t, err, "seed %d: %v", seed, changes)
			sameSites(t, before, left, fmt.Sprintf("seed %d: undone", seed))
		}
		for range 12 {
			a, b := changes[r.IntN(len(changes))], changes[r.IntN(len(changes))]
			was, err := s.At(t.Context(), a)
			require.NoError(t, err)
			sameSites(t, states[a], was.Site, fmt.Sprintf("seed %d: after change %d", seed, a))
			to, err := s.At(t.Context(), b)
			require.NoError(t, err)
			leads := Compare(was, to)
			sameSites(t, states[b], applied(states[a], leads), fmt.Sprintf("seed %d: from %d to %d", seed, a, b))
			if a == b {
				assert.Empty(t, leads)
			}
			_, left, err := s.Restore(t.Context(), Edit{Who: "bob"}, to, nil)
			require.NoError(t, err, "seed %d: restoring %d", seed, b)
			sameSites(t, states[b], left, fmt.Sprintf("seed %d: restored %d", seed, b))
			id, err := s.LatestChange(t.Context())
			require.NoError(t, err)
			if states[id] == nil {
				changes = append(changes, id)
			}
			states[id] = left
			step(func(d *site.Draft, now *site.Site) { random(r, d, now) })
		}
	}
}

func TestVersionsAreFoundByWhatTheyAreCalled(t *testing.T) {
	s := open(t, t.TempDir())
	fill(t, s)
	ctx, now := t.Context(), time.Now()
	last, err := s.LatestChange(ctx)
	require.NoError(t, err)
	require.NoError(t, s.AddVersion(ctx, Version{Name: "day-1", Change: last, Time: now, Who: "ann"}))
	assert.ErrorContains(t, s.AddVersion(ctx, Version{Name: "day-1"}), "already")
	for _, wrong := range []string{"", "now", "12", "2h", "2026-11-28", "a b", "a/b", "x*"} {
		assert.Error(t, s.AddVersion(ctx, Version{Name: wrong}), "%q", wrong)
	}
	_, _, err = s.Modify(ctx, Edit{Who: "ann", Message: "as the manual says"}, func(d *site.Draft, now *site.Site) {
		p, _ := now.Point("a/b")
		p.Unit = "kW"
		d.Put(p)
		d.Add(link("two"))
	})
	require.NoError(t, err)
	for text, want := range map[string]int64{"day-1": last, "now": last + 2, fmt.Sprint(last + 1): last + 2, fmt.Sprint(last + 2): last + 2, "1": last, "0": 0, "100000h": 0, "0s": last + 2} {
		got, err := s.Change(ctx, text, time.Now())
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, wrong := range []string{"day-2", "9999", "yesterday"} {
		_, err := s.Change(ctx, wrong, now)
		assert.Error(t, err, wrong)
	}
	records, err := s.Changes(ctx, "", "", 0, 2)
	require.NoError(t, err)
	assert.Equal(t, []string{"", "as the manual says"}, []string{records[0].Message, records[1].Message})

	past, err := s.At(ctx, last)
	require.NoError(t, err)
	_, left, err := s.Restore(ctx, Edit{}, past, []string{"a/*"})
	require.NoError(t, err)
	p, _ := left.Point("a/b")
	assert.Empty(t, p.Unit)
	_, there := left.Link("two")
	assert.True(t, there, "the rest stays")
	_, err = s.db.Writer.Exec("DELETE FROM changes WHERE id <= 2")
	require.NoError(t, err)
	_, err = s.At(ctx, 1)
	assert.ErrorIs(t, err, ErrForgotten)
}

func TestNotesFollowWhatTheyStandAt(t *testing.T) {
	s := open(t, t.TempDir())
	fill(t, s)
	ctx := t.Context()
	n, err := s.AddNote(ctx, Note{Kind: site.KindPoint, Name: "a/b", Text: " cable swapped, check on Monday ", Who: "ann", Time: time.Now()})
	require.NoError(t, err)
	_, _, err = s.Modify(ctx, Edit{}, func(d *site.Draft, now *site.Site) {
		p, _ := now.Point("a/b")
		p.Tag = "a/c"
		d.Replace("a/b", p)
	})
	require.NoError(t, err)
	list, err := s.Notes(ctx, site.KindPoint, "a/c", true)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "cable swapped, check on Monday", list[0].Text)
	require.NoError(t, s.CloseNote(ctx, n.ID, "bob", time.Now()))
	list, err = s.Notes(ctx, "", "", true)
	require.NoError(t, err)
	assert.Empty(t, list)
	done, err := s.Note(ctx, n.ID)
	require.NoError(t, err)
	assert.Equal(t, "bob", done.DoneBy)
	require.NoError(t, s.RemoveNote(ctx, n.ID))
	assert.ErrorIs(t, s.RemoveNote(ctx, n.ID), ErrNoNote)
	_, err = s.AddNote(ctx, Note{Text: "  "})
	assert.Error(t, err)
}

func TestProposals(t *testing.T) {
	s := open(t, t.TempDir())
	fill(t, s)
	ctx := t.Context()
	set := func(field func(*site.Point)) []site.Change {
		changes, _, err := s.Modify(ctx, Edit{DryRun: true}, func(d *site.Draft, now *site.Site) {
			p, _ := now.Point("a/b")
			field(&p)
			d.Put(p)
		})
		require.NoError(t, err)
		return changes
	}
	unit, err := s.Propose(ctx, Proposal{Title: "Phase 2", Who: "bob", Time: time.Now(), Changes: set(func(p *site.Point) { p.Unit = "kW" })})
	require.NoError(t, err)
	words, err := s.Propose(ctx, Proposal{Title: "Words", Who: "bob", Time: time.Now(), Changes: set(func(p *site.Point) { p.Unit, p.Description = "MW", "Power" })})
	require.NoError(t, err)
	require.NoError(t, s.Remark(ctx, unit.ID, Comment{Who: "eve", Time: time.Now(), Text: "why?"}))
	p, _ := s.Site().Point("a/b")
	assert.Empty(t, p.Unit, "nothing is in force")

	var all sync.WaitGroup
	taken := make([]error, 4)
	for i := range taken {
		all.Go(func() { _, _, taken[i] = s.Take(context.Background(), Edit{Who: "ann"}, unit.ID, nil) })
	}
	all.Wait()
	refused := 0
	for _, err := range taken {
		if err != nil {
			assert.ErrorIs(t, err, ErrDecided)
			refused++
		}
	}
	assert.Equal(t, 3, refused, "it is taken once")
	got, err := s.Proposal(ctx, unit.ID)
	require.NoError(t, err)
	assert.Equal(t, TakenProposal, got.State)
	assert.Equal(t, "ann", got.DecideBy)
	assert.Len(t, got.Comments, 1)
	records, err := s.Changes(ctx, "", "", 0, 1)
	require.NoError(t, err)
	assert.Equal(t, got.Change, records[0].ID)
	assert.Contains(t, records[0].Message, "Phase 2")

	_, _, err = s.Take(ctx, Edit{Who: "ann"}, words.ID, nil)
	var conflicting *Conflicting
	require.ErrorAs(t, err, &conflicting)
	require.Len(t, conflicting.Conflicts, 1)
	assert.Equal(t, "unit", conflicting.Conflicts[0].Field)
	_, left, err := s.Take(ctx, Edit{Who: "ann"}, words.ID, merge.Choose(false))
	require.NoError(t, err)
	p, _ = left.Point("a/b")
	assert.Equal(t, "kW", p.Unit)
	assert.Equal(t, "Power", p.Description)
	assert.ErrorIs(t, s.Drop(ctx, words.ID, "ann"), ErrDecided)
	_, err = s.Propose(ctx, Proposal{Title: "x"})
	assert.Error(t, err)
}

func TestAnEarlierVersionOfAnEntity(t *testing.T) {
	s := open(t, t.TempDir())
	fill(t, s)
	ctx := t.Context()
	units := []string{"A", "kA", "MA"}
	for i, unit := range units {
		_, _, err := s.Modify(ctx, Edit{Who: fmt.Sprint("w", i)}, func(d *site.Draft, now *site.Site) {
			name := "a/b"
			if i > 1 {
				name = "a/c"
			}
			p, _ := now.Point(name)
			p.Unit = unit
			if i == 1 {
				p.Tag = "a/c"
			}
			d.Replace(name, p)
		})
		require.NoError(t, err)
	}
	for version, want := range map[int64]string{1: "", 2: "A", 3: "kA"} {
		was, since, err := s.Earlier(ctx, site.KindPoint, "a/c", version)
		require.NoError(t, err)
		require.NotNil(t, was, "%d", version)
		assert.Equal(t, want, was.(site.Point).Unit)
		assert.Len(t, since, int(4-version))
		assert.Equal(t, "w2", since[0].Who)
	}
	was, _, err := s.Earlier(ctx, site.KindPoint, "a/c", 4)
	require.NoError(t, err)
	assert.Nil(t, was)
}

// Differences are those of At and Compare, as often as they are asked for and whatever was changed meanwhile.
func TestDifferencesAreThoseOfNow(t *testing.T) {
	s := open(t, t.TempDir())
	fill(t, s)
	first := s.LastStored()
	unit := func(to string) int64 {
		_, _, err := s.Modify(t.Context(), Edit{Who: "ann"}, func(d *site.Draft, _ *site.Site) {
			p, _ := d.Get(site.KindPoint, "a/b")
			point := p.(site.Point)
			point.Unit = to
			d.Put(point)
		})
		require.NoError(t, err)
		return s.LastStored()
	}
	second := unit("bar")
	for range 2 {
		list, err := s.Differences(t.Context(), first, second)
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Equal(t, "bar", list[0].After.(site.Point).Unit)
	}
	third := unit("kPa")
	for _, to := range []int64{second, third} {
		list, err := s.Differences(t.Context(), first, to)
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Equal(t, map[int64]string{second: "bar", third: "kPa"}[to], list[0].After.(site.Point).Unit)
	}
	list, err := s.Differences(t.Context(), third, first)
	require.NoError(t, err)
	assert.Empty(t, list[0].After.(site.Point).Unit)
	_, err = s.Differences(t.Context(), -1, third)
	assert.ErrorIs(t, err, ErrForgotten)
}
