package api

import (
	"net/http"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/document"
	"arithmon/internal/core/nearest"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sitefile"
	"arithmon/internal/record/store"
)

func near(now *site.Site, kind site.Kind, name string) []string {
	return nearest.Names(name, now.Names(kind), 3)
}

// notFound is missing for callers that already look at the site.
func notFound(now *site.Site, kind site.Kind, name string) error {
	e := fail(http.StatusNotFound, "there is no %s %q%s", kind, name, nearest.Hint(name, near(now, kind, name))).(*statusError)
	e.near = near(now, kind, name)
	return e
}

// known is an error unless one of some kinds has a name.
func known(now *site.Site, name string, kinds ...site.Kind) error {
	var hints, words []string
	for _, kind := range kinds {
		if lineage(now, kind, name) != nil {
			return nil
		}
		hints, words = append(hints, near(now, kind, name)...), append(words, string(kind))
	}
	what := words[len(words)-1]
	if len(words) > 1 {
		what = strings.Join(words[:len(words)-1], ", ") + " or " + what
	}
	return fail(http.StatusNotFound, "there is no %s %q%s", what, name, nearest.Hint(name, hints))
}

// order lists the fields of a kind of entity as they are declared.
func order(kind site.Kind) []string { return document.FieldNames(site.Fresh(kind)) }

func (s *Server) listLinks(c *gin.Context) error {
	c.JSON(http.StatusOK, Page[site.Link]{Items: s.store.Site().Links()})
	return nil
}

func (s *Server) listStations(c *gin.Context) error {
	c.JSON(http.StatusOK, Page[site.Station]{Items: s.store.Site().Stations()})
	return nil
}

// tags lists the tags that fit any pattern, or all, from the one after cursor on, and the cursor of the next page.
// Without a pattern that fits any tag it says which tags are near.
func tags(c *gin.Context, now *site.Site, patterns []string, station string) (tags []string, next string, err error) {
	limit, cursor, err := page(c)
	if err != nil {
		return nil, "", err
	}
	for _, p := range patterns {
		if _, exact := now.Point(p); !exact && !site.IsPattern(p) {
			return nil, "", notFound(now, site.KindPoint, p)
		}
	}
	var all []string
	if station == "" {
		all = now.Tags()
	} else {
		for _, p := range now.SharedPointsOf(station) {
			all = append(all, p.Tag)
		}
	}
	if cursor != "" {
		all = all[sort.SearchStrings(all, cursor+"\x00"):]
	}
	for _, tag := range all {
		if len(patterns) > 0 && !slices.ContainsFunc(patterns, func(p string) bool { return site.Match(p, tag) }) {
			continue
		}
		if len(tags) == limit {
			next = tags[limit-1]
			break
		}
		tags = append(tags, tag)
	}
	return tags, next, err
}

func (s *Server) listPoints(c *gin.Context) error {
	now := s.store.Site()
	tags, next, err := tags(c, now, c.QueryArray("tag"), c.Query("station"))
	if err != nil {
		return err
	}
	list := Page[Point]{Items: make([]Point, 0, len(tags)), Next: next}
	for _, tag := range tags {
		p, _ := now.Point(tag)
		st, _ := now.Station(p.Station)
		list.Items = append(list.Items, newPoint(p, st))
	}
	c.JSON(http.StatusOK, list)
	return nil
}

func (s *Server) readings(c *gin.Context) error {
	tags, next, err := tags(c, s.store.Site(), c.QueryArray("tag"), "")
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
	notation := site.Notation(c.DefaultQuery("notation", string(site.Offset)))
	if !slices.Contains(site.Notations[:], notation) {
		return fail(http.StatusBadRequest, "notation=%s: choose offset, number, ref5 or ref6", notation)
	}
	convention := site.Convention{Notation: notation}
	if name := c.Query("station"); name != "" {
		st, err := s.station(name)
		if err != nil {
			return err
		}
		convention = st.Convention()
	}
	a, err := convention.Parse(c.Query("text"), site.Space(c.Query("table")))
	if err != nil {
		return site.Errors{{Kind: site.KindPoint, Field: "address", Value: c.Query("text"), Message: err.Error()}}
	}
	c.JSON(http.StatusOK, AddressMeaning{a.Format(convention), a.String(), a.Meaning()})
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
	data, err := body(c, document.MaxBytes)
	if err != nil {
		return err
	}
	file, err := sitefile.Read(c.DefaultQuery("file", "site file"), data)
	if err != nil {
		return err
	}
	changes, left, err := s.store.Modify(c.Request.Context(), store.Edit{Who: who(c), DryRun: dry}, func(d *site.Draft, now *site.Site) {
		file.Into(d, now, prune)
	})
	if err != nil {
		return file.Place(err)
	}
	c.JSON(http.StatusOK, summary(left, changes, dry))
	return nil
}

func (s *Server) export(c *gin.Context) error {
	c.Header("Content-Disposition", `attachment; filename="site.yaml"`)
	c.Header("Content-Type", "application/yaml; charset=utf-8")
	err := sitefile.Write(c.Writer, s.store.Site())
	if err != nil && c.Writer.Written() {
		panic(http.ErrAbortHandler) // half a file must not pass for a whole one: the connection ends before its last chunk
	}
	return err
}

// backup answers with a copy of the database, which is made on the service's disk first.
func (s *Server) backup(c *gin.Context) error {
	dir, remove, err := s.store.BackupDir()
	if err != nil {
		return err
	}
	defer remove()
	path := filepath.Join(dir, store.FileName)
	if err := s.store.Backup(c.Request.Context(), path); err != nil {
		return err
	}
	c.Header("Content-Type", "application/vnd.sqlite3")
	c.FileAttachment(path, store.FileName)
	return nil
}

// recordCursor reads the cursor of a list of records, an id.
func recordCursor(c *gin.Context) (limit int, before int64, err error) {
	limit, cursor, err := page(c)
	if err != nil || cursor == "" {
		return limit, 0, err
	}
	if before, err = strconv.ParseInt(cursor, 10, 64); err != nil || before < 1 {
		return 0, 0, fail(http.StatusBadRequest, "cursor=%s: that is none this service gave", cursor)
	}
	return limit, before, nil
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
	out := changePage{Items: each(list, newRecord)}
	if len(list) == limit {
		out.Next = strconv.FormatInt(list[limit-1].ID, 10)
	}
	c.JSON(http.StatusOK, out)
	return nil
}

func (s *Server) quarantine(c *gin.Context) error {
	list, err := s.store.Quarantined(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, Page[Quarantined]{Items: each(list, newQuarantined)})
	return nil
}

func (s *Server) undo(c *gin.Context) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return fail(http.StatusBadRequest, "%q is no number of a change", c.Param("id"))
	}
	changes, left, err := s.store.Undo(c.Request.Context(), who(c), id)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, summary(left, changes, false))
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
	out := writePage{Items: each(list, newWriteRecord)}
	if len(list) == limit {
		out.Next = strconv.FormatInt(list[limit-1].ID, 10)
	}
	c.JSON(http.StatusOK, out)
	return nil
}
