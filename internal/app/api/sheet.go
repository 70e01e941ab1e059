package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/pointlist"
	"arithmon/internal/exchange/sheet"
	"arithmon/internal/record/store"
)

// SheetEdits are the rows of a sheet that were edited.
type SheetEdits struct {
	Rows   []pointlist.Edit `json:"rows"`
	DryRun bool             `json:"dry_run,omitempty" doc:"true: say what would change, and what is wrong"`
	Force  bool             `json:"force,omitempty" doc:"true: take back what somebody else changed since"`
}

// SheetOutcome is what came of them.
type SheetOutcome struct {
	Applied   bool                  `json:"applied" doc:"whether they were taken over; false with dry_run, and where there is a fault"`
	Proposal  int64                 `json:"proposal,omitempty" doc:"the number of the proposal that they became instead"`
	Added     int                   `json:"added"`
	Changed   int                   `json:"changed"`
	Removed   int                   `json:"removed"`
	Faults    []pointlist.EditFault `json:"faults" doc:"the first 1000"`
	FaultsAll int                   `json:"faults_all" doc:"how many there are"`
}

// mostEdits is how many rows of a sheet are taken at once.
const mostEdits = 100_000

// changeSheet takes over the rows of a sheet, or says what would come of it.
func (s *Server) changeSheet(c *gin.Context) error {
	data, err := body(c, sheet.MostBytes)
	if err != nil {
		return err
	}
	if !utf8.Valid(data) {
		return fail(http.StatusBadRequest, "the request's body is no UTF-8; nothing was changed")
	}
	var edits SheetEdits
	if err := json.Unmarshal(data, &edits); err != nil {
		return fail(http.StatusBadRequest, "the request's body: %s", err)
	}
	if len(edits.Rows) > mostEdits {
		return fail(http.StatusBadRequest, "rows has %d; at most %d are taken at once", len(edits.Rows), mostEdits)
	}
	rows := pointlist.Edits(edits.Rows)
	var faults []pointlist.EditFault
	changes, left, err := s.change(c, store.Edit{DryRun: edits.DryRun}, func(d *site.Draft, now *site.Site) {
		if faults = rows.Into(d, now, edits.Force); len(faults) > 0 {
			d.Fail(&site.FieldError{Message: "sheet"}) // nothing may change; what is wrong is told by row
		}
	})
	var found site.Errors
	if errors.As(err, &found) {
		err = nil
		own := found[:0:0]
		for _, f := range found {
			if f.Kind != "" {
				own = append(own, f)
			}
		}
		faults = append(faults, rows.Place(own, faults)...)
	}
	if err != nil {
		return err
	}
	s.nameWho(c, edits.Rows, faults)
	out := SheetOutcome{Applied: !edits.DryRun && len(faults) == 0, Faults: faults[:min(len(faults), mostFaults)], FaultsAll: len(faults)}
	if out.Proposal = proposedAs(c); out.Proposal != 0 {
		out.Applied = false
	}
	if out.Faults == nil {
		out.Faults = []pointlist.EditFault{}
	}
	sum := summary(c, left, changes, edits.DryRun)
	out.Added, out.Changed, out.Removed = sum.Added, sum.Changed, sum.Removed
	if out.Applied {
		for _, w := range sum.Warnings {
			c.Writer.Header().Add(warningField, w)
		}
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// mostNamed is for how many conflicts it is looked up who the other one is.
const mostNamed = 50

// nameWho says in conflicts who changed the point since.
func (s *Server) nameWho(c *gin.Context, rows []pointlist.Edit, faults []pointlist.EditFault) {
	named := 0
	for i, f := range faults {
		if !f.Conflict || f.Row < 0 || f.Row >= len(rows) || named >= mostNamed {
			continue
		}
		named++
		last, err := s.store.Changes(c.Request.Context(), site.KindPoint, rows[f.Row].Tag, 0, 1)
		if err == nil && len(last) == 1 {
			faults[i].Message = strings.Replace(f.Message, "somebody changed", last[0].Who+" changed", 1)
		}
	}
}
