package api

import (
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/nearest"
	"arithmon/internal/exchange/pointlist"
	"arithmon/internal/exchange/sheet"
	"arithmon/internal/record/store"
)

// ColumnSet is what the columns of a kind of list hold, kept under a name.
type ColumnSet struct {
	Name    string            `json:"name"`
	Time    time.Time         `json:"time" doc:"when it was kept"`
	Who     string            `json:"who"`
	Columns map[string]string `json:"columns" doc:"the headings of columns, by what they hold: {tag: Signal, address: Reg.}; of one sheet alone {Pumps!tag: Signal}; by its heading, empty for a column of which nothing is to be made"`
}

// KeptColumns is what is to be kept.
type KeptColumns struct {
	Columns map[string]string `json:"columns" doc:"the headings of columns, by what they hold: {tag: Signal, address: Reg.}; of one sheet alone {Pumps!tag: Signal}; by its heading, empty for a column of which nothing is to be made"`
}

func (s *Server) columnSets(c *gin.Context) error {
	list, err := s.store.ColumnSets(c.Request.Context())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, Page[ColumnSet]{Items: each(list, func(c store.ColumnSet) ColumnSet { return ColumnSet(c) })})
	return nil
}

func (s *Server) keepColumns(c *gin.Context) error {
	node, err := parse(c)
	if err != nil {
		return err
	}
	var k, none KeptColumns
	if faults := node.Decode(&k, none); faults != nil {
		return faults
	}
	if len(k.Columns) == 0 || len(name(c)) > 100 || strings.ContainsAny(name(c), "=,") {
		return fail(http.StatusBadRequest, "columns are kept under a name of at most 100 characters without = and comma, and there must be some")
	}
	if err := sheet.Named(k.Columns).Check(pointlist.Meanings()); err != nil {
		return fail(http.StatusBadRequest, "columns: %s", err)
	}
	if err := s.store.KeepColumns(c.Request.Context(), principal(c).Name(), name(c), k.Columns); err != nil {
		return err
	}
	c.JSON(http.StatusOK, k)
	return nil
}

func (s *Server) dropColumns(c *gin.Context) error {
	err := s.store.DropColumns(c.Request.Context(), name(c))
	if errors.Is(err, store.ErrNoColumns) {
		return fail(http.StatusNotFound, "no columns are kept as %q", name(c))
	}
	if err == nil {
		c.Status(http.StatusNoContent)
	}
	return err
}

// columnsOf are the columns that a request names: by hand, tag=Signal,address=C, or the name under which they are kept.
func (s *Server) columnsOf(c *gin.Context, text string) (sheet.Named, error) {
	if text == "" || strings.Contains(text, "=") {
		return namedColumns(text, pointlist.Meanings())
	}
	list, err := s.store.ColumnSets(c.Request.Context())
	if err != nil {
		return nil, err
	}
	var names []string
	for _, set := range list {
		if set.Name == text {
			return set.Columns, nil
		}
		names = append(names, set.Name)
	}
	return nil, fail(http.StatusBadRequest, "columns: %q is neither FIELD=COLUMN, such as tag=Signal, nor a name under which columns are kept%s", text, nearest.Hint(text, names))
}
