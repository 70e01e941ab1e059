package api

import (
	"cmp"
	"encoding/json"
	"errors"
	"net/http"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/access"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sitefile"
	"arithmon/internal/live/engine"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/database"
	"arithmon/internal/record/store"
)

// choose lists the names of a kind that fit any pattern of the query, or all, from the one after the cursor on, and the cursor of the
// next page. Of an owner it lists those that belong to it. Without a pattern that fits any it says which names are near.
func choose(c *gin.Context, now *site.Site, kind site.Kind, owner string) (names []string, next string, err error) {
	limit, cursor, err := page(c)
	if err != nil {
		return nil, "", err
	}
	patterns := slices.DeleteFunc(slices.Clone(c.QueryArray(site.KeyField(kind))), func(p string) bool { return p == "" || strings.HasPrefix(p, site.Own) })
	if len(patterns) == 0 && slices.ContainsFunc(c.QueryArray(site.KeyField(kind)), func(p string) bool { return p != "" }) {
		return nil, "", nil // only what no entity is called was asked for
	}
	for _, p := range patterns {
		if _, exact := now.Get(kind, p); !exact && !site.IsPattern(p) {
			return nil, "", notFound(now, kind, p)
		}
	}
	all := now.Names(kind)
	if owner != "" {
		all = now.NamesOf(kind, owner)
	}
	if cursor != "" {
		all = all[sort.SearchStrings(all, cursor+"\x00"):]
	}
	for _, name := range all {
		if len(patterns) > 0 && !slices.ContainsFunc(patterns, func(p string) bool { return site.Match(p, name) }) {
			continue
		}
		if len(names) == limit {
			next = cursorOf(names[limit-1])
			break
		}
		names = append(names, name)
	}
	return names, next, err
}

// ownReadings are those of the service's own points that fit the patterns and may be seen.
func (s *Server) ownReadings(c *gin.Context, patterns []string) (list []Reading) {
	sees := s.seesOwn(c)
	for _, tag := range s.engine.Own() {
		if sees(tag) && slices.ContainsFunc(patterns, func(p string) bool { return site.Match(p, tag) }) {
			if l, ok := s.engine.Reading(tag); ok {
				list = append(list, newReading(l))
			}
		}
	}
	slices.SortFunc(list, func(a, b Reading) int { return cmp.Compare(a.Tag, b.Tag) })
	return list
}

// seesOwn says which of the service's own points somebody may see: those of what they see, and of the whole site who sees it whole.
func (s *Server) seesOwn(c *gin.Context) func(tag string) bool {
	only, now := principal(c).Only, s.site(c)
	return func(tag string) bool {
		of, is := engine.OwnOf(tag)
		if !is || len(only) == 0 {
			return is
		}
		_, link := now.Link(of)
		_, station := now.Station(of)
		return link || station
	}
}

func (s *Server) readings(c *gin.Context) error {
	own := slices.DeleteFunc(slices.Clone(c.QueryArray("tag")), func(p string) bool { return !strings.HasPrefix(p, site.Own) })
	ours := s.ownReadings(c, own)
	for _, p := range own {
		if !site.IsPattern(p) && !slices.ContainsFunc(ours, func(r Reading) bool { return site.Match(p, r.Tag) }) {
			return fail(http.StatusNotFound, "there is no point %q; arithmon read '@*' lists those of the service's own", p)
		}
	}
	if len(own) > 0 && len(own) == len(c.QueryArray("tag")) {
		list, next, err := part(c, ours)
		if err != nil {
			return err
		}
		c.JSON(http.StatusOK, Page[Reading]{Items: list, Next: next})
		return nil
	}
	tags, next, err := choose(c, s.site(c), site.KindPoint, "")
	if err != nil {
		return err
	}
	list := Page[Reading]{Items: make([]Reading, 0, len(tags)), Next: next}
	if c.Query("cursor") == "" {
		list.Items = append(list.Items, ours...)
	}
	for _, tag := range tags {
		if l, ok := s.engine.Reading(tag); ok {
			list.Items = append(list.Items, newReading(l))
		}
	}
	c.JSON(http.StatusOK, list)
	return nil
}

func (s *Server) address(c *gin.Context) error {
	convention := site.Convention{Notation: site.Notation(cmp.Or(c.Query("notation"), string(site.Offset)))}
	if name := c.Query("station"); name != "" {
		st, err := s.station(c, name)
		if err != nil {
			return err
		}
		convention = st.Convention()
	}
	at, err := convention.ParseRange(c.Query("text"), site.Space(c.Query("table")))
	a := at.Start
	var several *site.Ambiguity
	if errors.As(err, &several) {
		err = several.For(codec.Type(c.Query("type")))
	}
	if err != nil {
		return site.Errors{{Kind: site.KindPoint, Field: "address", Value: c.Query("text"), Message: err.Error()}}
	}
	c.JSON(http.StatusOK, AddressMeaning{a.Format(convention), a.String(), a.Meaning(), at.Count})
	return nil
}

// apply takes over a site file.
func (s *Server) apply(c *gin.Context) error {
	dry, err := flag(c, "dry_run")
	if err != nil {
		return err
	}
	prune, err := flag(c, "prune")
	if err != nil {
		return err
	}
	force, err := flag(c, "force")
	if err != nil {
		return err
	}
	templates, err := flag(c, "templates")
	if err != nil {
		return err
	}
	data, err := body(c, document.MaxBytes)
	if err != nil {
		return err
	}
	file, err := sitefile.Read(c.DefaultQuery("file", "site file"), data)
	if err != nil {
		return err
	}
	if templates {
		if err := file.Only(site.KindTemplate); err != nil {
			return fail(http.StatusUnprocessableEntity, "%s", err)
		}
	}
	var changed map[site.Kind]map[string]bool
	if file.Since() > 0 && !force {
		if changed, err = s.store.ChangedSince(c.Request.Context(), file.Since()); err != nil {
			return err
		}
	}
	changes, left, err := s.change(c, store.Edit{DryRun: dry}, func(d *site.Draft, now *site.Site) {
		file.Into(d, now, prune)
		file.Keep(d, now, prune, changed)
	})
	if err != nil {
		return file.Place(err)
	}
	c.JSON(http.StatusOK, summary(c, left, changes, dry))
	return nil
}

func (s *Server) export(c *gin.Context) error {
	since, err := s.store.LatestChange(c.Request.Context()) // first: what comes between is told of twice rather than never
	if err != nil {
		return err
	}
	now := s.site(c)
	o := sitefile.Options{Since: since}
	if patterns := slices.DeleteFunc(slices.Clone(c.QueryArray("only")), func(p string) bool { return p == "" }); len(patterns) > 0 {
		for _, p := range patterns {
			if _, exact := now.Point(p); !exact && !site.IsPattern(p) {
				return notFound(now, site.KindPoint, p)
			}
		}
		o.Keep = sitefile.Only(now, patterns)
	}
	if patterns := slices.DeleteFunc(slices.Clone(c.QueryArray("template")), func(p string) bool { return p == "" }); len(patterns) > 0 {
		for _, p := range patterns {
			if _, exact := now.Get(site.KindTemplate, p); !exact && !site.IsPattern(p) {
				return notFound(now, site.KindTemplate, p)
			}
		}
		o.Since = 0 // they pass to other sites
		o.Keep = func(kind site.Kind, name string) bool {
			return kind == site.KindTemplate && slices.ContainsFunc(patterns, func(p string) bool { return site.Match(p, name) })
		}
	}
	if err := s.enter(c, audit.Export, "site", strings.Join(append(c.QueryArray("only"), c.QueryArray("template")...), ", ")); err != nil {
		return err
	}
	c.Header("Content-Disposition", `attachment; filename="site.yaml"`)
	c.Header("Content-Type", "application/yaml; charset=utf-8")
	err = sitefile.Write(c.Writer, now, o)
	if err != nil && c.Writer.Written() {
		panic(http.ErrAbortHandler) // half a file must not pass for a whole one: the connection ends before its last chunk
	}
	return err
}

// backup answers with a copy of the database, which is made on the service's disk first.
func (s *Server) backup(c *gin.Context) error {
	dir, remove, err := s.store.Database().BackupDir()
	if err != nil {
		return err
	}
	defer remove()
	if err := s.enter(c, audit.Export, "backup", "the whole database"); err != nil {
		return err
	}
	path := filepath.Join(dir, database.FileName)
	if err := s.store.Database().Backup(c.Request.Context(), path); err != nil {
		return err
	}
	c.Header("Content-Type", "application/vnd.sqlite3")
	c.FileAttachment(path, database.FileName)
	return nil
}

func (s *Server) changes(c *gin.Context) error {
	limit, before, err := recordCursor(c)
	if err != nil {
		return err
	}
	list, err := s.store.Changes(c.Request.Context(), site.Kind(c.Query("kind")), c.Query("name"), before, limit)
	if err != nil {
		return err
	}
	only := principal(c).Only
	within := slices.DeleteFunc(slices.Clone(list), func(r store.Record) bool {
		return site.Waiting(r.Name) || len(only) > 0 && !recorded(only, r) // what only makes way for another is none of itself
	})
	out := changePage{Items: each(within, func(r store.Record) Record { return newRecord(settled(r)) })}
	if len(list) == limit {
		out.Next = cursorOf(strconv.FormatInt(list[limit-1].ID, 10))
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// settled is a record with the name that its entity gave up, where that waited for another meanwhile.
func settled(r store.Record) store.Record {
	var fields map[string]json.RawMessage
	var name string
	key := site.KeyField(r.Kind)
	if json.Unmarshal(r.Before, &fields) != nil || json.Unmarshal(fields[key], &name) != nil || !site.Waiting(name) {
		return r
	}
	var err error
	if fields[key], err = json.Marshal(site.GaveUp(name)); err != nil {
		return r
	}
	if before, err := json.Marshal(fields); err == nil {
		r.Before = before
	}
	return r
}

// recorded reports whether a recorded change is of a part of the site.
func recorded(only access.Limits, r store.Record) bool {
	for _, body := range []json.RawMessage{r.Before, r.After} {
		if body == nil {
			continue
		}
		if e, err := site.Decode(r.Kind, body); err != nil || !only.Entity(e) {
			return false
		}
	}
	return true
}

func (s *Server) quarantine(c *gin.Context) error {
	list, err := s.store.Quarantined(c.Request.Context())
	if err != nil {
		return err
	}
	page, next, err := part(c, list)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, Page[Quarantined]{Items: each(page, newQuarantined), Next: next})
	return nil
}

func (s *Server) undo(c *gin.Context) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return fail(http.StatusBadRequest, "%q is no number of a change", c.Param("id"))
	}
	changes, left, err := s.store.Undo(c.Request.Context(), by(c, store.Edit{}), id)
	if err != nil {
		return err
	}
	if undone, err := s.store.Changes(c.Request.Context(), "", "", id+1, 1); err == nil && len(undone) == 1 && undone[0].ID == id {
		s.engine.TookBack(undone[0].Batch)
	}
	c.JSON(http.StatusOK, summary(c, left, changes, false))
	return nil
}

func (s *Server) writes(c *gin.Context) error {
	limit, before, err := recordCursor(c)
	if err != nil {
		return err
	}
	list, err := s.store.Writes(c.Request.Context(), c.Query("tag"), before, limit)
	if err != nil {
		return err
	}
	only := principal(c).Only
	within := slices.DeleteFunc(slices.Clone(list), func(w store.WriteRecord) bool { return !only.Tag(w.Tag, w.Station) })
	out := writePage{Items: each(within, newWriteRecord)}
	if len(list) == limit {
		out.Next = cursorOf(strconv.FormatInt(list[limit-1].ID, 10))
	}
	c.JSON(http.StatusOK, out)
	return nil
}
