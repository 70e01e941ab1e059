package api

import (
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/nearest"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
)

// Branch is a part of the tree that tags make with their slashes.
type Branch struct {
	Path   string `json:"path" doc:"what the tags of its points begin with, before a slash; empty for all points"`
	Points int    `json:"points" doc:"how many are below it"`
	Count
}

// Branches are a branch and those below it, by their paths.
type Branches struct {
	Branches []Branch `json:"branches" doc:"the first is the one that was asked for"`
}

// branches says how many points of each branch are good, uncertain and bad.
func (s *Server) branches(c *gin.Context) error {
	under := strings.Trim(c.Query("under"), "/")
	depth := -1
	if text := c.Query("depth"); text != "" {
		depth, _ = strconv.Atoi(text)
	}
	now := s.site(c)
	limited := len(principal(c).Only) > 0
	below := ""
	if under != "" {
		below = under + "/"
	}
	of := map[string]*Branch{}
	count := func(path string, q reading.Quality) {
		b := of[path]
		if b == nil {
			b = &Branch{Path: path}
			of[path] = b
		}
		b.Points++
		switch q {
		case reading.Good:
			b.Good++
		case reading.Uncertain:
			b.Uncertain++
		default:
			b.Bad++
		}
	}
	s.engine.Qualities(func(tag string, q reading.Quality) {
		if limited {
			if _, sees := now.Point(tag); !sees {
				return
			}
		}
		if !strings.HasPrefix(tag, below) {
			return
		}
		count(under, q)
		at := len(below)
		for level := 1; depth < 0 || level <= depth; level++ {
			n := strings.IndexByte(tag[at:], '/')
			if n < 0 {
				return
			}
			at += n + 1
			count(tag[:at-1], q)
		}
	})
	if len(of) == 0 {
		if under != "" {
			return fail(http.StatusNotFound, "no point is below %q%s", under, nearest.Hint(under, paths(now)))
		}
		of[""] = &Branch{}
	}
	list := make([]Branch, 0, len(of))
	for _, b := range of {
		list = append(list, *b)
	}
	slices.SortFunc(list, func(a, b Branch) int { return slices.Compare(strings.Split(a.Path, "/"), strings.Split(b.Path, "/")) })
	c.JSON(http.StatusOK, Branches{list})
	return nil
}

// paths are those of all branches.
func paths(now *site.Site) []string {
	known := map[string]bool{}
	for _, tag := range now.Names(site.KindPoint) {
		for i, c := range tag {
			if c == '/' {
				known[tag[:i]] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(known))
}
