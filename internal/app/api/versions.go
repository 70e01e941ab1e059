package api

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/document"
	"arithmon/internal/core/merge"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sitefile"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/store"
)

// FieldDifference is a field in which two states of an entity differ.
type FieldDifference struct {
	Field string `json:"field"`
	From  any    `json:"from" doc:"null for the default"`
	To    any    `json:"to"`
}

// EntityDifference is an entity that differs between two states of the site.
type EntityDifference struct {
	Action site.Action       `json:"action" enum:"add,change,remove"`
	Kind   site.Kind         `json:"kind" enum:"template,link,station,point,board"`
	Name   string            `json:"name"`
	Was    string            `json:"was,omitempty" doc:"what it was called before, where that is otherwise"`
	Fields []FieldDifference `json:"fields"`
}

// ChangeSet is changes that were made together.
type ChangeSet struct {
	ID      int64              `json:"id" doc:"of the first of its changes"`
	Last    int64              `json:"last" doc:"of the last of them"`
	Time    time.Time          `json:"time"`
	Who     string             `json:"who"`
	Message string             `json:"message,omitempty"`
	Changes []EntityDifference `json:"changes"`
}

// State is a state that the site had.
type State struct {
	Named  string `json:"named" doc:"as it was asked for"`
	Change int64  `json:"change" doc:"the newest change that it has; 0: of an empty site"`
}

// Comparison is in what two states of the site differ.
type Comparison struct {
	From  State              `json:"from"`
	To    State              `json:"to"`
	Items []EntityDifference `json:"items"`
	Next  string             `json:"next,omitempty"`
}

// Version is a named state of the site.
type Version struct {
	Name    string    `json:"name"`
	Change  int64     `json:"change" doc:"the newest change that it has"`
	Time    time.Time `json:"time" doc:"when it was named"`
	Who     string    `json:"who"`
	Message string    `json:"message,omitempty"`
}

// NewVersion names a state of the site.
type NewVersion struct {
	Name    string `json:"name"`
	At      string `json:"at,omitempty" doc:"the state: the number of a change, a time, or now (default)"`
	Message string `json:"message,omitempty"`
}

// Restoring says what the site is to be again.
type Restoring struct {
	To     string   `json:"to" doc:"a version, the number of a change, or a time"`
	Only   []string `json:"only,omitempty" doc:"tags or patterns: these points alone, with what they need"`
	DryRun bool     `json:"dry_run,omitempty" doc:"true: say what would change"`
}

var stateDoc = "a version, the number of a change, a time (2026-11-28T10:00:00Z), how long ago (2h), or now"

// versionRoutes are what the site was.
func (s *Server) versionRoutes() []route {
	only := parameter{name: "only", doc: "tag or pattern: these points alone; may be repeated", many: true}
	return []route{
		{"GET", "/api/v1/changes/:id", viewerOfPart, "changes that were made together, field by field", nil, nil, ChangeSet{}, 200, s.changeSet},
		{"GET", "/api/v1/diff", viewerOfPart, "in what two states of the site differ, field by field", append([]parameter{{name: "from", doc: stateDoc}, {name: "to", doc: stateDoc + " (default)"}, only}, paging...), nil, Comparison{}, 200, s.diff},
		{"POST", "/api/v1/diff", viewerOfPart, "in what a site file differs from a state of the site", append([]parameter{{name: "from", doc: stateDoc + " (default)"}, only}, paging...), media("application/yaml"), Comparison{}, 200, s.diffFile},
		{"GET", "/api/v1/versions", viewerOfPart, "named states of the site, the newest first", paging, nil, Page[Version]{}, 200, s.versions},
		{"POST", "/api/v1/versions", engineer, "name a state of the site", nil, NewVersion{}, Version{}, 201, s.addVersion},
		{"POST", "/api/v1/restore", changerOfPart, "make the site, or some points, what they were; it is a change as any other", nil, Restoring{}, ChangeSummary{}, 200, s.restore},
	}
}

// difference is what the API says of a change.
func difference(c site.Change) EntityDifference {
	d := EntityDifference{Action: c.Action(), Kind: c.Kind(), Name: c.Name(), Fields: []FieldDifference{}}
	if c.Before != nil && c.Before.Key() != d.Name {
		d.Was = c.Before.Key()
	}
	for _, f := range merge.Fields(c.Before, c.After) {
		d.Fields = append(d.Fields, FieldDifference{f.Name, orNull(f.From), orNull(f.To)})
	}
	return d
}

// within are the changes that somebody who is limited to a part may see, and that are of points that were asked for.
func within(c *gin.Context, list []site.Change) []site.Change {
	limits := principal(c).Only
	only := slices.DeleteFunc(slices.Clone(c.QueryArray("only")), func(p string) bool { return p == "" })
	return slices.DeleteFunc(list, func(change site.Change) bool {
		fits := len(only) == 0
		for _, e := range []site.Entity{change.Before, change.After} {
			if e != nil && e.Kind() == site.KindPoint && slices.ContainsFunc(only, func(p string) bool { return site.Match(p, e.Key()) }) {
				fits = true
			}
		}
		return !fits || !limits.Change(change)
	})
}

func (s *Server) changeSet(c *gin.Context) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return fail(http.StatusBadRequest, "%q is no number of a change", c.Param("id"))
	}
	list, err := s.store.Together(c.Request.Context(), id)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return fmt.Errorf("%w: %d", store.ErrNoChange, id)
	}
	first := list[0]
	out := ChangeSet{ID: first.ID, Last: list[len(list)-1].ID, Time: first.Time, Who: first.Who, Message: first.Message, Changes: []EntityDifference{}}
	var changes []site.Change
	for _, r := range list {
		change, err := r.Change()
		if err != nil {
			return fmt.Errorf("change %d: %w", r.ID, err)
		}
		changes = append(changes, change)
	}
	changes = within(c, site.Settled(changes))
	if len(changes) == 0 {
		return fmt.Errorf("%w: %d", store.ErrNoChange, id)
	}
	out.Changes = each(changes, difference)
	c.JSON(http.StatusOK, out)
	return nil
}

// state finds a state of the site that is named.
func (s *Server) state(c *gin.Context, named string) (State, error) {
	id, err := s.store.Change(c.Request.Context(), named, time.Now())
	return State{cmp.Or(named, "now"), id}, err
}

// compare answers with a page of what two states differ in.
func compare(c *gin.Context, from, to State, changes []site.Change) error {
	page, next, err := part(c, within(c, slices.Clone(changes)))
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, Comparison{from, to, each(page, difference), next})
	return nil
}

func (s *Server) diff(c *gin.Context) error {
	if c.Query("from") == "" {
		return fail(http.StatusBadRequest, "from is missing: %s", stateDoc)
	}
	from, err := s.state(c, c.Query("from"))
	if err != nil {
		return err
	}
	to, err := s.state(c, c.Query("to"))
	if err != nil {
		return err
	}
	changes, err := s.store.Differences(c.Request.Context(), from.Change, to.Change)
	if err != nil {
		return err
	}
	return compare(c, from, to, changes)
}

func (s *Server) diffFile(c *gin.Context) error {
	data, err := body(c, document.MaxBytes)
	if err != nil {
		return err
	}
	from, err := s.state(c, c.Query("from"))
	if err != nil {
		return err
	}
	past, err := s.store.At(c.Request.Context(), from.Change)
	if err != nil {
		return err
	}
	file, err := sitefile.Read("site file", data)
	if err != nil {
		return err
	}
	empty := site.New()
	d := empty.Edit()
	file.Into(d, empty, false)
	changes, err := d.Changes()
	if err != nil {
		return file.Place(err)
	}
	return compare(c, from, State{Named: "file"}, merge.Sites(past.Site, empty.With(changes), nil))
}

func newVersion(v store.Version) Version { return Version(v) }

func (s *Server) versions(c *gin.Context) error {
	list, err := s.store.Versions(c.Request.Context())
	if err != nil {
		return err
	}
	return give(c, list, newVersion)
}

func (s *Server) addVersion(c *gin.Context) error {
	request, err := request[NewVersion](c)
	if err != nil {
		return err
	}
	at, err := s.store.Change(c.Request.Context(), request.At, time.Now())
	if err != nil {
		return err
	}
	if request.Message == "" {
		request.Message = header(c, messageField)
	}
	if len(request.Message) > maxMessage {
		return fail(http.StatusUnprocessableEntity, "the message has %d bytes; at most %d are kept", len(request.Message), maxMessage)
	}
	v := store.Version{Name: request.Name, Change: at, Time: time.Now().UTC(), Who: principal(c).Name(), Message: request.Message}
	if err := s.store.AddVersion(c.Request.Context(), v); err != nil {
		return unless(err, http.StatusUnprocessableEntity)
	}
	if err := s.enter(c, audit.SiteChange, "version "+v.Name, fmt.Sprintf("names the site after change %d", v.Change)); err != nil {
		return err
	}
	c.JSON(http.StatusCreated, newVersion(v))
	return nil
}

// unless gives an error a status, unless it has one of its own.
func unless(err error, status int) error {
	if problem(err).Status == http.StatusInternalServerError {
		return fail(status, "%s", err)
	}
	return err
}

func (s *Server) restore(c *gin.Context) error {
	request, err := request[Restoring](c)
	if err != nil {
		return err
	}
	if request.To == "" {
		return fail(http.StatusUnprocessableEntity, "to is missing: %s", stateDoc)
	}
	state, err := s.state(c, request.To)
	if err != nil {
		return err
	}
	to, err := s.store.At(c.Request.Context(), state.Change)
	if err != nil {
		return err
	}
	title := header(c, proposeField)
	edit := by(c, store.Edit{DryRun: request.DryRun || title != ""})
	if edit.Message == "" {
		edit.Message = strings.TrimSpace(fmt.Sprintf("restored %s %s", state.Named, strings.Join(request.Only, ", ")))
	}
	changes, left, err := s.store.Restore(c.Request.Context(), edit, to, request.Only)
	if err != nil {
		return err
	}
	if title != "" && !request.DryRun && len(changes) > 0 {
		if err := s.propose(c, title, changes); err != nil {
			return err
		}
	}
	c.JSON(http.StatusOK, summary(c, left, changes, request.DryRun))
	return nil
}
