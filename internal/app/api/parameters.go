package api

import (
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/nearest"
)

// parameter is one of a route's query.
type parameter struct {
	name, doc string
	is        object // its schema; nil for text
	many      bool   // it may be repeated
}

// The schemas of parameters that are not text.
var (
	truth   = object{"type": "boolean"}
	natural = object{"type": "integer", "minimum": 0}
	instant = object{"type": "string", "format": "date-time"}
)

// count is the schema of a number from 1 to most.
func count(most int) object { return object{"type": "integer", "minimum": 1, "maximum": most} }

// choice is the schema of one of some words.
func choice[T ~string](words ...T) object {
	list := make([]string, len(words))
	for i, w := range words {
		list[i] = string(w)
	}
	return object{"type": "string", "enum": list}
}

// check says what is wrong with a value of the parameter; "" when nothing is.
func (p parameter) check(value string) string {
	switch p.is["type"] {
	case "boolean":
		if _, err := strconv.ParseBool(value); err != nil {
			return "true or false is needed"
		}
	case "integer":
		n, err := strconv.ParseInt(value, 10, 64)
		least, bounded := p.is["minimum"].(int)
		most, ended := p.is["maximum"].(int)
		if err != nil || bounded && n < int64(least) || ended && n > int64(most) {
			if ended {
				return fmt.Sprintf("%d to %d is possible", least, most)
			}
			return fmt.Sprintf("a whole number from %d on is needed", least)
		}
	case "string":
		if words, is := p.is["enum"].([]string); is && !slices.Contains(words, value) {
			return "choose " + strings.Join(words, ", ")
		}
		if p.is["format"] == "date-time" {
			if _, err := time.Parse(time.RFC3339Nano, value); err != nil {
				return "a time as 2026-11-23T08:00:00Z is needed"
			}
		}
	}
	return ""
}

// checkQuery refuses parameters that a route does not have, or not so. One that is empty is as one that is not given.
func (r route) checkQuery(c *gin.Context) error {
	query := c.Request.URL.Query()
	names := make([]string, 0, len(query))
	for name := range query {
		names = append(names, name)
	}
	slices.Sort(names)
	known := make([]string, len(r.query))
	for i, p := range r.query {
		known[i] = p.name
	}
	for _, name := range names {
		i := slices.Index(known, name)
		if i < 0 {
			hint := nearest.Hint(name, known)
			if hint == "" && len(known) > 0 {
				hint = "; it has " + strings.Join(known, ", ")
			}
			return fail(http.StatusBadRequest, "%s %s has no parameter %q%s", r.method, r.path, name, hint)
		}
		p, values := r.query[i], query[name]
		if len(values) > 1 && !p.many {
			return fail(http.StatusBadRequest, "%s is given %d times; it is possible once", name, len(values))
		}
		for _, value := range values {
			if value == "" {
				continue
			}
			if why := p.check(value); why != "" {
				return fail(http.StatusBadRequest, "%s=%s: %s", name, value, why)
			}
		}
	}
	return nil
}

// contents are the media types that a body may have beside that of its route: what programs say of JSON and YAML when they say little.
var contents = []string{"application/json", "application/yaml", "application/x-yaml", "text/yaml", "text/x-yaml", "text/plain", "application/octet-stream", "application/x-www-form-urlencoded"}

// checkContent refuses a body that says of itself that it is something else than the route takes.
func (r route) checkContent(c *gin.Context) error {
	said := c.GetHeader("Content-Type")
	if r.body == nil || said == "" {
		return nil
	}
	is, _, err := mime.ParseMediaType(said)
	if r.body == file {
		if strings.HasPrefix(is, "multipart/") {
			return fail(http.StatusUnsupportedMediaType, "Content-Type %s is a form; send the file itself as the body", is)
		}
		return nil
	}
	if err != nil || !slices.Contains(contents, is) && !strings.HasSuffix(is, "+json") && !strings.HasSuffix(is, "/xml") {
		return fail(http.StatusUnsupportedMediaType, "Content-Type %s is not read here; send JSON or YAML as application/json or application/yaml", said)
	}
	return nil
}
