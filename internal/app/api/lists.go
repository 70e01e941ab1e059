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
	patterns := slices.DeleteFunc(c.QueryArray(site.KeyField(kind)), func(p string) bool { return p == "" })
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

func (s *Server) readings(c *gin.Context) error {
	tags, next, err := choose(c, s.site(c), site.KindPoint, "")
	if err != nil {
		return err
	}
	list := Page[Reading]{Items: make([]Reading, 0, len(tags)), Next: next}
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
	if patterns := slices.DeleteFunc(c.QueryArray("only"), func(p string) bool { return p == "" }); len(patterns) > 0 {
		for _, p := range patterns {
			if _, exact := now.Point(p); !exact && !site.IsPattern(p) {
				return notFound(now, site.KindPoint, p)
			}
		}
		o.Keep = sitefile.Only(now, patterns)
	}
	if patterns := slices.DeleteFunc(c.QueryArray("template"), func(p string) bool { return p == "" }); len(patterns) > 0 {
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
	within := slices.DeleteFunc(slices.Clone(list), func(r store.Record) bool { return len(only) > 0 && !recorded(only, r) })
	out := changePage{Items: each(within, newRecord)}
	if len(list) == limit {
		out.Next = cursorOf(strconv.FormatInt(list[limit-1].ID, 10))
	}
	c.JSON(http.StatusOK, out)
	return nil
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
