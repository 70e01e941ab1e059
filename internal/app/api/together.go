package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
	"arithmon/internal/record/store"
)

// Together changes many points in one modification, which one undo takes back.
type Together struct {
	Tags   []string          `json:"tags,omitempty" doc:"tags or patterns of the points"`
	Where  map[string]string `json:"where,omitempty" doc:"fields that they have, too: {type: float32, station: plc}"`
	Set    anything          `json:"set,omitempty" doc:"fields to change; null gives the default"`
	Rename string            `json:"rename,omitempty" doc:"new tag; a wildcard stands for what that of the pattern stood for: pump7/*"`
	Remove bool              `json:"remove,omitempty" doc:"true: remove them"`
	Add    []anything        `json:"add,omitempty" doc:"points to add, as a site file has them; with these alone"`
	DryRun bool              `json:"dry_run,omitempty" doc:"true: say what would change, and change nothing"`
}

// mostTogether is how many points are added in one request.
const mostTogether = 10_000

// changeTogether changes many points at once.
func (s *Server) changeTogether(c *gin.Context) error {
	data, err := body(c, document.MaxBytes)
	if err != nil {
		return err
	}
	var t Together
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.UseNumber()
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&t); err != nil {
		return fail(http.StatusBadRequest, "the request's body: %s", err)
	}
	asked := 0
	for _, is := range []bool{len(t.Set) > 0, t.Rename != "", t.Remove, len(t.Add) > 0} {
		if is {
			asked++
		}
	}
	switch {
	case asked != 1:
		return fail(http.StatusBadRequest, "one of set, rename, remove and add is needed, and one alone")
	case len(t.Add) > mostTogether:
		return fail(http.StatusBadRequest, "add has %d points; at most %d are added at once", len(t.Add), mostTogether)
	case len(t.Add) == 0 && len(t.Tags) == 0:
		return fail(http.StatusBadRequest, "tags is missing: tags or patterns; * stands for all points")
	case t.Rename != "" && len(t.Tags) != 1:
		return fail(http.StatusBadRequest, "rename takes one tag or pattern in tags, not %d", len(t.Tags))
	}
	return s.changing(c, store.Edit{DryRun: t.DryRun}, t.into)
}

// into puts what is asked into a draft.
func (t Together) into(d *site.Draft, now *site.Site) error {
	for _, fields := range t.Add {
		node, err := form.Node(fields)
		if err != nil {
			return err
		}
		d.Add(form.Decode(site.KindPoint, node, d, site.Fresh(site.KindPoint)))
	}
	if len(t.Add) > 0 {
		return nil
	}
	tags, err := t.chosen(now)
	if err != nil {
		return err
	}
	switch {
	case t.Remove:
		for _, tag := range tags {
			d.Remove(site.KindPoint, tag, false)
		}
	case t.Rename != "":
		r, err := site.NewRenaming(t.Tags[0], t.Rename)
		if err != nil {
			return fail(http.StatusBadRequest, "%s", err)
		}
		var list []site.Replacement
		for _, tag := range tags {
			p, _ := now.Point(tag)
			if p.Tag, _ = r.Tag(tag); p.Tag != tag {
				list = append(list, site.Replacement{Old: tag, New: p})
			}
		}
		d.ReplaceAll(list)
	default:
		node, err := form.Node(t.Set)
		if err != nil {
			return err
		}
		for _, tag := range tags {
			p, _ := now.Point(tag)
			d.Replace(tag, form.Decode(site.KindPoint, node, d, p))
		}
	}
	return nil
}

// chosen are the tags of the points that are meant, of which there must be one.
func (t Together) chosen(now *site.Site) (tags []string, err error) {
	known := map[string][]int{}
	for _, f := range document.FieldsOf(reflect.TypeFor[site.Point]()) {
		known[f.Name] = f.Index
	}
	for field := range t.Where {
		if known[field] == nil {
			return nil, fail(http.StatusBadRequest, "where: a point has no field %q", field)
		}
	}
	for _, p := range t.Tags {
		if _, exact := now.Point(p); !exact && !site.IsPattern(p) {
			return nil, notFound(now, site.KindPoint, p)
		}
	}
	for _, tag := range now.Names(site.KindPoint) {
		p, _ := now.Point(tag)
		if !slices.ContainsFunc(t.Tags, func(pattern string) bool { return site.Match(pattern, tag) }) {
			continue
		}
		fits := true
		for field, value := range t.Where {
			fits = fits && strings.EqualFold(textOf(reflect.ValueOf(p).FieldByIndex(known[field])), value)
		}
		if fits {
			tags = append(tags, tag)
		}
	}
	if len(tags) == 0 {
		where := ""
		for field, value := range t.Where {
			where += fmt.Sprintf(" %s=%s", field, value)
		}
		return nil, fail(http.StatusNotFound, "no point is %s%s", strings.Join(t.Tags, " or "), where)
	}
	return tags, nil
}

// textOf is a field as a person writes it: a text without its quotation marks, "" for one that has its default.
func textOf(v reflect.Value) string {
	b, err := json.Marshal(v.Interface())
	if err != nil || string(b) == "null" {
		return ""
	}
	var text string
	if json.Unmarshal(b, &text) == nil {
		return text
	}
	return string(b)
}
