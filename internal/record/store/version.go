package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/merge"
	"arithmon/internal/core/nearest"
	"arithmon/internal/core/parallel"
	"arithmon/internal/core/site"
	"arithmon/internal/record/database"
)

// Errors of versions.
var (
	ErrNoVersion = errors.New("there is no such version")
	ErrForgotten = errors.New("is older than the history that is kept")
)

// Version is a named state of the site.
type Version struct {
	Name    string
	Change  int64 // the newest change that it has; 0: of an empty site
	Time    time.Time
	Who     string
	Message string
}

// Versions lists the named states, the newest first.
func (s *Store) Versions(ctx context.Context) ([]Version, error) {
	rows, err := s.db.Query(ctx, "SELECT name, change, time, who, message FROM versions ORDER BY change DESC, time DESC")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Version{}
	for rows.Next() {
		var v Version
		var at string
		if err := rows.Scan(&v.Name, &v.Change, &at, &v.Who, &v.Message); err != nil {
			return nil, err
		}
		v.Time = when(at)
		list = append(list, v)
	}
	return list, rows.Err()
}

// MostVersions is how many named states there may be.
const MostVersions = 10_000

// AddVersion names a state of the site: that after a change.
func (s *Store) AddVersion(ctx context.Context, v Version) error {
	if err := CheckVersion(v.Name); err != nil {
		return err
	}
	return s.db.Change(ctx, func(tx *database.Tx) error {
		var n, same int
		if err := tx.Row(ctx, "SELECT count(*), count(*) FILTER (WHERE name = ?) FROM versions", []any{v.Name}, &n, &same); err != nil {
			return err
		}
		if same > 0 {
			return fmt.Errorf("there is a version %q already; choose another name", v.Name)
		}
		if n >= MostVersions {
			return fmt.Errorf("there are %d versions already", n)
		}
		_, err := tx.Exec(ctx, "INSERT INTO versions (name, change, time, who, message) VALUES (?, ?, ?, ?, ?)", v.Name, v.Change, v.Time.UTC().Format(time.RFC3339Nano), v.Who, v.Message)
		return err
	})
}

// maxVersionName is how long the name of a version may be, in bytes.
const maxVersionName = 100

// CheckVersion says why something cannot be the name of a version: it must not pass for a change, a time or now.
func CheckVersion(name string) error {
	if name == "" || len(name) > maxVersionName || name == "now" || strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || strings.ContainsRune("/*?:\\", r) }) {
		return fmt.Errorf("%q is no name of a version: 1 to %d characters without spaces and / \\ : * ?, and not now", name, maxVersionName)
	}
	if _, err := time.ParseDuration(name); err == nil || strings.Trim(name, "0123456789-") == "" {
		return fmt.Errorf("%q passes for a number, a time or a date; begin it with a word", name)
	}
	return nil
}

// Change is the newest change of a state of the site that is named: a version, the number of a change (with those made together with it), a
// time, a duration before now (2h), or now.
func (s *Store) Change(ctx context.Context, named string, now time.Time) (id int64, err error) {
	switch {
	case named == "now" || named == "":
		return s.LatestChange(ctx)
	case strings.Trim(named, "0123456789") == "":
		n, err := strconv.ParseInt(named, 10, 64)
		if err != nil {
			return 0, fmt.Errorf("%w: %s", ErrNoChange, named)
		}
		if n == 0 {
			return 0, nil
		}
		var last sql.NullInt64
		err = s.db.QueryRow(ctx, `SELECT max(id) FROM changes WHERE id >= (SELECT batch FROM changes WHERE id = ?1)
			AND id < coalesce((SELECT min(id) FROM changes WHERE id > ?1 AND batch <> (SELECT batch FROM changes WHERE id = ?1)), ?1 + 1 + (SELECT max(id) FROM changes))`, n).Scan(&last)
		if err == nil && !last.Valid {
			err = fmt.Errorf("%w: %d", ErrNoChange, n)
		}
		return last.Int64, err
	}
	err = s.db.QueryRow(ctx, "SELECT change FROM versions WHERE name = ?", named).Scan(&id)
	if err == nil {
		return id, nil
	}
	if !errors.Is(err, sql.ErrNoRows) {
		return 0, err
	}
	at, ok := moment(named, now)
	if !ok {
		list, err := s.Versions(ctx)
		if err != nil {
			return 0, err
		}
		var names []string
		for _, v := range list {
			names = append(names, v.Name)
		}
		return 0, fmt.Errorf("%w: %q%s; the number of a change, a time (2026-11-28T10:00:00Z, 2h ago as 2h) and now are possible, too", ErrNoVersion, named, nearest.Hint(named, nearest.Names(named, names, 3)))
	}
	err = s.db.QueryRow(ctx, "SELECT id FROM changes WHERE unixepoch(time, 'subsec') <= ? ORDER BY id DESC LIMIT 1", float64(at.UnixNano())/1e9).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil // before the first
	}
	return id, err
}

// moment reads a time, or how long before now it was.
func moment(text string, now time.Time) (time.Time, bool) {
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), true
	}
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04", time.DateOnly} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}

// entityKey names an entity.
type entityKey struct {
	kind site.Kind
	name string
}

// Past is a state that the site had.
type Past struct {
	Change int64 // the newest change that it has
	Site   *site.Site
	now    map[entityKey]string // what its entities are called now, where that is otherwise; "": they are not the same any more
	of     *site.Site           // the site as it is now
}

// Now is what an entity of the past is called now; false when it is not there any more.
func (p Past) Now(kind site.Kind, name string) (string, bool) {
	if n, moved := p.now[entityKey{kind, name}]; moved {
		return n, n != ""
	}
	_, there := p.of.Get(kind, name)
	return name, there
}

// At is the site as it was after a change, 0 for before all. Its error is ErrForgotten when the history does not reach so far.
func (s *Store) At(ctx context.Context, change int64) (Past, error) {
	of := s.Site() // first: what comes between is taken back from it without effect
	p := Past{Change: change, of: of, now: map[entityKey]string{}}
	var oldest sql.NullInt64
	if err := s.db.QueryRow(ctx, "SELECT min(id) FROM changes").Scan(&oldest); err != nil {
		return p, err
	}
	if oldest.Valid && change < oldest.Int64-1 {
		return p, fmt.Errorf("change %d %w, which begins with change %d", change, ErrForgotten, oldest.Int64)
	}
	then := map[entityKey][]byte{} // what differed from now, as it was; nil where there was nothing
	before := int64(0)
	for { // newest first
		n, err := p.reverse(ctx, s, then, &before)
		if err != nil {
			return p, err
		}
		if n < reversedTogether {
			break
		}
	}
	b := of.Build()
	for _, kind := range site.Kinds() {
		if err := putBack(b, kind, then); err != nil {
			return p, err
		}
	}
	p.Site = b.Site()
	return p, nil
}

// reversedTogether is how many changes are read together to be taken back.
const reversedTogether = 10_000

// reverse takes the next recorded changes back, those before a change or, where that is 0, the newest ones, and says how many there were. What an
// entity was is read in the end alone: most of what it was between does not matter.
func (p Past) reverse(ctx context.Context, s *Store, then map[entityKey][]byte, before *int64) (n int, err error) {
	rows, err := s.db.Query(ctx, "SELECT id, kind, action, name, before FROM changes WHERE id > ?1 AND (?2 = 0 OR id < ?2) ORDER BY id DESC LIMIT ?3", p.Change, *before, reversedTogether)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var kind site.Kind
		var action site.Action
		var name string
		var body []byte
		if err := rows.Scan(before, &kind, &action, &name, &body); err != nil {
			return n, err
		}
		n++
		called := "" // now
		if action != site.Remove {
			called, _ = p.Now(kind, name)
			p.now[entityKey{kind, name}] = ""
			then[entityKey{kind, name}] = nil
		}
		if body == nil {
			continue
		}
		was := name
		if action != site.Remove {
			if was, err = keyOf(kind, body); err != nil {
				return n, fmt.Errorf("change %d: %w", *before, err)
			}
		}
		p.now[entityKey{kind, was}] = called
		then[entityKey{kind, was}] = body
	}
	return n, rows.Err()
}

// keyOf is the key of an entity as it is stored.
func keyOf(kind site.Kind, body []byte) (string, error) {
	field := site.KeyField(kind)
	if rest, first := bytes.CutPrefix(body, []byte(`{"`+field+`":"`)); first { // as it is written
		if end := bytes.IndexByte(rest, '"'); end >= 0 && bytes.IndexByte(rest[:end], '\\') < 0 {
			return string(rest[:end]), nil
		}
	}
	e, err := site.Decode(kind, body)
	if err != nil {
		return "", err
	}
	return e.Key(), nil
}

// putBack puts the entities of a kind back as they were.
func putBack(b *site.Builder, kind site.Kind, then map[entityKey][]byte) error {
	var bodies [][]byte
	for k, body := range then {
		switch {
		case k.kind != kind:
		case body == nil:
			b.Remove(kind, k.name)
		default:
			bodies = append(bodies, body)
		}
	}
	list, errs := make([]site.Entity, len(bodies)), make([]error, len(bodies))
	parallel.Parts(len(bodies), decodedTogether, func(from, to int) {
		for i := from; i < to; i++ {
			list[i], errs[i] = site.Decode(kind, bodies[i])
		}
	})
	for i, e := range list {
		if errs[i] != nil {
			return fmt.Errorf("a recorded %s: %w", kind, errs[i])
		}
		b.Put(e, 1)
	}
	return nil
}

// Compare lists what leads from one past state to another.
func Compare(from, to Past) []site.Change {
	back := map[entityKey]string{} // what entities of to are called there, by what they are called now
	for _, kind := range site.Kinds() {
		for _, name := range to.Site.Names(kind) {
			if now, there := to.Now(kind, name); there {
				back[entityKey{kind, now}] = name
			}
		}
	}
	return merge.Sites(from.Site, to.Site, func(kind site.Kind, name string) (string, bool) {
		now, there := from.Now(kind, name)
		if !there {
			return "", false
		}
		other, known := back[entityKey{kind, now}]
		return other, known
	})
}

// compared is what two states of the site differ in.
type compared struct {
	from, to int64
	of       *site.Site // the site as it was when they were compared
	changes  []site.Change
}

// keptCompared is how many comparisons are kept, since they are asked for page by page.
const keptCompared = 2

// Differences lists what leads from the site after one change to that after another. The list is shared, and not to be changed.
func (s *Store) Differences(ctx context.Context, from, to int64) ([]site.Change, error) {
	s.comparing.Lock()
	defer s.comparing.Unlock()
	of := s.Site()
	s.compared = slices.DeleteFunc(s.compared, func(c compared) bool { return c.of != of })
	for _, c := range s.compared {
		if c.from == from && c.to == to {
			return c.changes, nil
		}
	}
	a, err := s.At(ctx, from)
	if err != nil {
		return nil, err
	}
	b, err := s.At(ctx, to)
	if err != nil {
		return nil, err
	}
	changes := Compare(a, b)
	if a.of == of && b.of == of {
		s.compared = append(s.compared, compared{from, to, of, changes})
		s.compared = s.compared[max(0, len(s.compared)-keptCompared):]
	}
	return changes, nil
}

// Restore makes the site what it was: all of it, or the points whose tags fit some patterns, with what these need.
func (s *Store) Restore(ctx context.Context, edit Edit, to Past, only []string) ([]site.Change, *site.Site, error) {
	edit.Back = true
	return s.Modify(ctx, edit, func(d *site.Draft, now *site.Site) {
		wanted := func(kind site.Kind, name string) bool {
			return len(only) == 0 || kind == site.KindPoint && slices.ContainsFunc(only, func(p string) bool { return site.Match(p, name) })
		}
		stays := map[entityKey]bool{} // of what is there now, under the names of now
		var renamed []entityKey
		for _, kind := range site.Kinds() {
			for _, name := range to.Site.Names(kind) {
				if called, there := to.Now(kind, name); there {
					stays[entityKey{kind, called}] = true
					if called != name && (wanted(kind, name) || wanted(kind, called)) {
						renamed = append(renamed, entityKey{kind, name})
					}
				}
			}
		}
		kinds := site.Kinds()
		for _, kind := range slices.Backward(kinds) {
			for _, name := range now.Names(kind) {
				_, left := d.Get(kind, name)
				if _, was := to.Site.Get(kind, name); left && !was && !stays[entityKey{kind, name}] && wanted(kind, name) {
					d.Remove(kind, name, true)
				}
			}
		}
		moves, renamed := to.moves(d, renamed)
		for _, kind := range kinds { // what belongs to something comes after that
			for _, m := range moves[kind] {
				need(d, to.Site, m.New)
			}
			d.ReplaceAll(moves[kind])
		}
		for _, kind := range kinds {
			for _, name := range to.Site.Names(kind) {
				if e, _ := to.Site.Get(kind, name); wanted(kind, name) {
					need(d, to.Site, e)
					put(d, e)
				}
			}
		}
		for _, k := range renamed { // what has their names stays, as what it was
			if called, there := to.Now(k.kind, k.name); there {
				if _, was := to.Site.Get(k.kind, called); !was {
					d.Remove(k.kind, called, true)
				}
			}
		}
	})
}

// moves are the renamings that give entities their names of then, and those entities whose names something has that keeps it.
func (p Past) moves(d *site.Draft, renamed []entityKey) (moves map[site.Kind][]site.Replacement, kept []entityKey) {
	moves = map[site.Kind][]site.Replacement{}
	called := func(k entityKey) string {
		name, _ := p.Now(k.kind, k.name)
		return name
	}
	renamed = slices.DeleteFunc(renamed, func(k entityKey) bool {
		_, there := d.Get(k.kind, called(k))
		return !there
	})
	for again := true; again; { // who keeps a name takes it from another, which keeps its own then
		given := map[entityKey]bool{}
		for _, k := range renamed {
			given[entityKey{k.kind, called(k)}] = true
		}
		again = false
		renamed = slices.DeleteFunc(renamed, func(k entityKey) bool {
			_, taken := d.Get(k.kind, k.name)
			if !taken || given[k] {
				return false
			}
			kept, again = append(kept, k), true
			return true
		})
	}
	for _, k := range renamed {
		e, _ := p.Site.Get(k.kind, k.name)
		moves[k.kind] = append(moves[k.kind], site.Replacement{Old: called(k), New: e})
	}
	return moves, kept
}

// put puts an entity unless it is so already.
func put(d *site.Draft, e site.Entity) {
	if is, there := d.Get(e.Kind(), e.Key()); !there || len(merge.Fields(is, e)) > 0 {
		d.Put(e)
	}
}

// need puts what an entity belongs to, where that is not there any more.
func need(d *site.Draft, from *site.Site, e site.Entity) {
	var kind site.Kind
	var name string
	switch e := e.(type) {
	case site.Point:
		kind, name = site.KindStation, e.Station
	case site.Station:
		kind, name = site.KindLink, e.Link
		if t, was := from.Get(site.KindTemplate, e.Template); was {
			if _, there := d.Get(site.KindTemplate, e.Template); !there {
				d.Put(t)
			}
		}
	}
	if name == "" {
		return
	}
	if owner, was := from.Get(kind, name); was {
		if _, there := d.Get(kind, name); !there {
			need(d, from, owner)
			d.Put(owner)
		}
	}
}

// Earlier is an entity as it was when it had a version that it has no more, with the records of what was changed since, the newest first; nil when
// the history does not say.
func (s *Store) Earlier(ctx context.Context, kind site.Kind, name string, version int64) (site.Entity, []Record, error) {
	held := s.Site()
	steps := held.Version(kind, name) - version
	now, there := held.Get(kind, name)
	if steps <= 0 || !there {
		return nil, nil, nil
	}
	var since []Record
	for before := int64(0); int64(len(since)) < steps; {
		list, err := s.Changes(ctx, kind, name, before, int(min(steps-int64(len(since)), 1000)))
		if err != nil {
			return nil, nil, err
		}
		if len(list) == 0 {
			return nil, nil, nil
		}
		for _, r := range list {
			before = r.ID
			if len(since) == 0 { // it may have been changed again since it was looked at
				if is, err := site.Decode(kind, r.After); err != nil || len(merge.Fields(is, now)) > 0 {
					continue
				}
			}
			since = append(since, r)
			if r.Before == nil { // it was added anew
				return nil, nil, nil
			}
			was, err := site.Decode(kind, r.Before)
			if err != nil {
				return nil, nil, err
			}
			if int64(len(since)) == steps {
				return was, since, nil
			}
			if was.Key() != name {
				name = was.Key()
				break
			}
		}
	}
	return nil, nil, nil
}
