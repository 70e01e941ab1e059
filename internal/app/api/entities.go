package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/merge"
	"arithmon/internal/core/nearest"
	"arithmon/internal/core/site"
	"arithmon/internal/record/store"
)

// shown says how the API gives the entities of a kind.
type shown struct {
	one, page any    // what a route answers with: an entity, and a page of them
	path      string // of one, below that of all
	view      func(now *site.Site, e site.Entity) any
}

// whole shows an entity as it is.
func whole[E site.Entity](path string) shown {
	var none E
	return shown{one: none, page: Page[E]{}, path: path, view: func(_ *site.Site, e site.Entity) any { return e }}
}

// kinds are all kinds of entity as the API gives them. A kind is one entry here.
var kinds = map[site.Kind]shown{
	site.KindTemplate: whole[site.Template]("/:name"),
	site.KindLink:     whole[site.Link]("/:name"),
	site.KindBoard:    whole[site.Board]("/:name"),
	site.KindStation:  whole[site.Station]("/:name"),
	site.KindPoint: {one: Point{}, page: Page[Point]{}, path: "/*name", view: func(now *site.Site, e site.Entity) any { // a tag may hold slashes
		p := e.(site.Point)
		station, _ := now.Station(p.Station)
		return newPoint(p, station)
	}},
}

// entityRoutes are the routes that every kind of entity has.
func (s *Server) entityRoutes(kind site.Kind) []route {
	as, key, word, all := kinds[kind], site.KeyField(kind), string(kind), site.Plural(kind)
	path := "/api/v1/" + all
	one, in := path+as.path, form.Shape(kind)
	query := []parameter{{name: key, doc: key + " or pattern, * for any characters; may be repeated", many: true}}
	if owner := site.OwnerOf(kind); owner != "" {
		query = append(query, parameter{name: string(owner), doc: "name of the " + string(owner) + " that they belong to"})
	}
	var removing []parameter
	switch {
	case site.Owned(kind):
		removing = []parameter{{name: "cascade", doc: "true: also what belongs to it", is: truth}}
	case site.Referred(kind):
		removing = []parameter{{name: "cascade", doc: "true: also when others name it, which stand alone then", is: truth}}
	}
	return []route{
		{"GET", path, viewerOfPart, all + " by " + key, append(query, paging...), nil, as.page, 200, s.list(kind)},
		{"POST", path, changerOfPart, "add a " + word, nil, in, as.one, 201, s.add(kind)},
		{"GET", one, viewerOfPart, "one " + word, nil, nil, as.one, 200, s.show(kind)},
		{"PUT", one, changerOfPart, "replace a " + word + ", or add it", nil, in, as.one, 200, s.put(kind)},
		{"PATCH", one, changerOfPart, "change some fields of a " + word + "; null gives the default", nil, in, as.one, 200, s.patch(kind)},
		{"DELETE", one, changerOfPart, "remove a " + word, removing, nil, ChangeSummary{}, 200, s.remove(kind)},
	}
}

// list answers with a page of the entities of a kind that the query asks for.
func (s *Server) list(kind site.Kind) func(*gin.Context) error {
	return func(c *gin.Context) error {
		now := s.site(c)
		owner := ""
		if of := site.OwnerOf(kind); of != "" {
			owner = c.Query(string(of))
		}
		names, next, err := choose(c, now, kind, owner)
		if err != nil {
			return err
		}
		list := Page[any]{Items: make([]any, len(names)), Next: next}
		for i, name := range names {
			e, _ := now.Get(kind, name)
			list.Items[i] = kinds[kind].view(now, e)
		}
		c.JSON(http.StatusOK, list)
		return nil
	}
}

// answer answers with an entity of a site and its version; false when it is not there.
func answer(c *gin.Context, status int, now *site.Site, kind site.Kind, name string) bool {
	e, ok := now.Get(kind, name)
	if ok {
		c.Header("ETag", strconv.Quote(strconv.FormatInt(now.Version(kind, name), 10)))
		c.JSON(status, kinds[kind].view(now, e))
	}
	return ok
}

func (s *Server) missing(c *gin.Context, kind site.Kind, name string) error {
	e := &statusError{status: http.StatusNotFound, near: near(s.site(c), kind, name)}
	e.detail = fmt.Sprintf("there is no %s %q", kind, name)
	if len(e.near) > 0 {
		e.detail += "; did you mean " + strings.Join(e.near, " or ") + "?"
	}
	return e
}

func (s *Server) show(kind site.Kind) func(*gin.Context) error {
	return func(c *gin.Context) error {
		if !answer(c, http.StatusOK, s.site(c), kind, name(c)) {
			return s.missing(c, kind, name(c))
		}
		return nil
	}
}

// modify runs an edit and answers with the entity it leaves.
func (s *Server) modify(c *gin.Context, edit store.Edit, status int, f func(*site.Draft, *site.Site) (site.Entity, error)) error {
	var e site.Entity
	var fault error
	changes, left, err := s.change(c, edit, func(d *site.Draft, now *site.Site) {
		if e, fault = f(d, now); fault != nil {
			d.Fail(&site.FieldError{Message: fault.Error()}) // nothing may change
		}
	})
	if fault != nil {
		return fault
	}
	if err != nil {
		return err
	}
	for _, w := range left.Warnings(changes) {
		c.Writer.Header().Add(warningField, w.Error())
	}
	answer(c, status, left, e.Kind(), e.Key())
	return nil
}

// expected reads If-Match.
func expected(c *gin.Context, kind site.Kind) (store.Edit, error) {
	edit := store.Edit{ExpectKind: kind, ExpectName: name(c)}
	match := strings.Trim(strings.TrimPrefix(c.GetHeader("If-Match"), "W/"), `"`)
	if match == "" || match == "*" {
		return edit, nil
	}
	v, err := strconv.ParseInt(match, 10, 64)
	if err != nil || v < 1 {
		return edit, fail(http.StatusBadRequest, "If-Match: %q is no version that this service gave as ETag", match)
	}
	edit.Expect = v
	return edit, nil
}

func (s *Server) add(kind site.Kind) func(*gin.Context) error {
	return func(c *gin.Context) error {
		node, err := parse(c)
		if err != nil {
			return err
		}
		return s.modify(c, store.Edit{}, http.StatusCreated, func(d *site.Draft, _ *site.Site) (site.Entity, error) {
			e := form.Decode(kind, node, d, site.Fresh(kind))
			d.Add(e)
			return e, nil
		})
	}
}

// put replaces an entity with what the document says, or adds it.
func (s *Server) put(kind site.Kind) func(*gin.Context) error {
	return s.replace(kind, func(node *document.Node, d *site.Draft, _ *site.Site, name string) (site.Entity, error) {
		return form.Decode(kind, node, d, site.Named(kind, name)), nil // as the path calls it, unless the document says otherwise
	})
}

// patch changes the fields of an entity that the document names.
func (s *Server) patch(kind site.Kind) func(*gin.Context) error {
	return s.replace(kind, func(node *document.Node, d *site.Draft, now *site.Site, name string) (site.Entity, error) {
		from, ok := now.Get(kind, name)
		if !ok {
			return nil, notFound(now, kind, name)
		}
		return form.Decode(kind, node, d, from), nil
	})
}

// replace puts what decode makes of the request in the place of the entity that the path names.
func (s *Server) replace(kind site.Kind, decode func(*document.Node, *site.Draft, *site.Site, string) (site.Entity, error)) func(*gin.Context) error {
	return func(c *gin.Context) error {
		node, err := parse(c)
		if err != nil {
			return err
		}
		edit, err := expected(c, kind)
		if err != nil {
			return err
		}
		if edit.Expect != 0 {
			if now := s.store.Site(); now.Version(kind, name(c)) != edit.Expect {
				if merged, err := s.together(c, node, edit, decode); merged || err != nil {
					return err
				}
			}
		}
		return s.modify(c, edit, http.StatusOK, func(d *site.Draft, now *site.Site) (site.Entity, error) {
			e, err := decode(node, d, now, name(c))
			if err != nil {
				return nil, err
			}
			if _, exists := now.Get(kind, name(c)); exists {
				d.Replace(name(c), e)
			} else if e.Key() != name(c) {
				return nil, fail(http.StatusUnprocessableEntity, "the path names %q, the document %q", name(c), e.Key())
			} else {
				d.Add(e)
			}
			return e, nil
		})
	}
}

// together puts what a request makes of an entity as it was when its sender looked at it together with what others changed since. It does
// nothing when it is not known how it was then.
func (s *Server) together(c *gin.Context, node *document.Node, edit store.Edit, decode func(*document.Node, *site.Draft, *site.Site, string) (site.Entity, error)) (done bool, err error) {
	kind := edit.ExpectKind
	base, since, err := s.store.Earlier(c.Request.Context(), kind, name(c), edit.Expect)
	if err != nil || base == nil {
		return false, err
	}
	err = s.modify(c, store.Edit{}, http.StatusOK, func(d *site.Draft, now *site.Site) (site.Entity, error) {
		is, there := now.Get(kind, name(c))
		if !there {
			return nil, notFound(now, kind, name(c))
		}
		then := now.Build()
		then.Remove(kind, is.Key())
		then.Put(base, edit.Expect)
		wanted, err := decode(node, d, then.Site(), base.Key())
		if err != nil {
			return nil, err
		}
		merged, found, err := merge.Entity(base, is, wanted, nil)
		if err != nil {
			return nil, err
		}
		if len(found) > 0 {
			return nil, &conflicting{found, since}
		}
		d.Replace(is.Key(), merged)
		return merged, nil
	})
	if err == nil {
		c.Header(mergedField, url.QueryEscape(whoChanged(base, since)))
	}
	return true, err
}

// whoChanged says who changed what of an entity since it was as it was.
func whoChanged(base site.Entity, since []store.Record) string {
	var list []string
	for _, r := range slices.Backward(since) {
		after, err := site.Decode(r.Kind, r.After)
		if err != nil {
			continue
		}
		for _, f := range merge.Fields(base, after) {
			list = append(list, r.Who+" changed "+f.Name)
		}
		base = after
	}
	return strings.Join(list, ", ")
}

// copying duplicates an entity with what the request says of the copy.
func copying[T any](s *Server, c *gin.Context, kind site.Kind, request T, duplicate func(*site.Draft, site.Entity, T) site.Entity) error {
	node, err := parse(c)
	if err != nil {
		return err
	}
	var none T
	if faults := node.Decode(&request, none); faults != nil {
		return faults
	}
	return s.modify(c, store.Edit{}, http.StatusCreated, func(d *site.Draft, now *site.Site) (site.Entity, error) {
		from, ok := now.Get(kind, name(c))
		if !ok {
			return nil, notFound(now, kind, name(c))
		}
		return duplicate(d, from, request), nil
	})
}

func (s *Server) copyLink(c *gin.Context) error {
	return copying(s, c, site.KindLink, Copy{}, func(d *site.Draft, from site.Entity, copy Copy) site.Entity {
		return d.CopyLink(from.(site.Link), copy.Name)
	})
}

func (s *Server) copyStation(c *gin.Context) error {
	return copying(s, c, site.KindStation, site.StationCopy{}, func(d *site.Draft, from site.Entity, copy site.StationCopy) site.Entity {
		return d.CopyStation(from.(site.Station), copy)
	})
}

func (s *Server) remove(kind site.Kind) func(*gin.Context) error {
	return func(c *gin.Context) error {
		all, err := flag(c, "cascade")
		if err != nil {
			return err
		}
		edit, err := expected(c, kind)
		if err != nil {
			return err
		}
		exists := true
		changes, left, err := s.change(c, edit, func(d *site.Draft, now *site.Site) {
			if _, exists = now.Get(kind, name(c)); exists {
				d.Remove(kind, name(c), all)
			}
		})
		var inUse site.Errors
		switch {
		case !exists:
			return s.missing(c, kind, name(c))
		case errors.As(err, &inUse):
			return fail(http.StatusConflict, "%s", inUse)
		case err != nil:
			return err
		}
		c.JSON(http.StatusOK, summary(c, left, changes, false))
		return nil
	}
}

// summary says what changes do that left a site.
func summary(c *gin.Context, now *site.Site, changes []site.Change, dry bool) ChangeSummary {
	sum := ChangeSummary{DryRun: dry, Proposal: proposedAs(c), Changes: []ChangeLine{}}
	for _, c := range changes {
		line := ChangeLine{Action: c.Action(), Kind: c.Kind(), Name: c.Name()}
		switch line.Action {
		case site.Add:
			sum.Added++
		case site.Remove:
			sum.Removed++
		default:
			sum.Changed++
			line.Fields = differing(c.Before, c.After)
		}
		sum.Changes = append(sum.Changes, line)
	}
	for _, w := range now.Warnings(changes) {
		sum.Warnings = append(sum.Warnings, w.Error())
	}
	return sum
}

// differing lists the fields in which two entities of a kind differ.
func differing(a, b site.Entity) []string {
	var fields []string
	am, bm := fieldsOf(a), fieldsOf(b)
	for _, name := range order(a.Kind()) {
		if string(am[name]) != string(bm[name]) {
			fields = append(fields, name)
		}
	}
	return fields
}

func fieldsOf(e site.Entity) map[string]json.RawMessage {
	var m map[string]json.RawMessage
	if b, err := json.Marshal(e); err == nil {
		_ = json.Unmarshal(b, &m) // what was just marshalled is an object
	}
	return m
}
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
