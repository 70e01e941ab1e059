package api

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/merge"
	"arithmon/internal/core/site"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/store"
)

// Proposal is changes that were prepared and are not in force.
type Proposal struct {
	ID        int64              `json:"id"`
	Title     string             `json:"title"`
	Who       string             `json:"who"`
	Time      time.Time          `json:"time"`
	State     store.State        `json:"state" enum:"open,taken,dropped"`
	DecidedBy string             `json:"decided_by,omitempty"`
	Decided   *time.Time         `json:"decided,omitempty"`
	Change    int64              `json:"change,omitempty" doc:"the change set that it became"`
	Changes   []EntityDifference `json:"changes,omitempty" doc:"what it changes; of one proposal alone"`
	Conflicts []Conflict         `json:"conflicts,omitempty" doc:"what others changed since, otherwise than it does; of one that is open"`
	Comments  []Comment          `json:"comments,omitempty"`
}

// Comment is what somebody says of a proposal.
type Comment struct {
	Who  string    `json:"who"`
	Time time.Time `json:"time"`
	Text string    `json:"text"`
}

// NewComment is what is to be said of a proposal.
type NewComment struct {
	Text string `json:"text"`
}

// Taking says how a proposal is put into force.
type Taking struct {
	Choose map[string]string `json:"choose,omitempty" doc:"by conflict, such as \"point tern/a unit\": mine for what the proposal has, theirs for what is there"`
	All    string            `json:"all,omitempty" doc:"the same for all conflicts that are not named" enum:"mine,theirs"`
	DryRun bool              `json:"dry_run,omitempty" doc:"true: say what would change"`
}

// proposalRoutes are what is proposed that the site becomes.
func (s *Server) proposalRoutes() []route {
	return []route{
		{"GET", "/api/v1/proposals", viewer, "changes that were prepared, the newest first", append([]parameter{{name: "state", doc: "only these", is: choice("open", "taken", "dropped")}}, paging...), nil, Page[Proposal]{}, 200, s.proposals},
		{"GET", "/api/v1/proposals/:id", viewer, "one proposal, with what it changes and what is said of it", nil, nil, Proposal{}, 200, s.proposal},
		{"POST", "/api/v1/proposals/:id/comments", viewer, "say something of a proposal", nil, NewComment{}, Proposal{}, 201, s.comment},
		{"POST", "/api/v1/proposals/:id/take", engineer, "put a proposal into force, on top of what was changed since", nil, Taking{}, ChangeSummary{}, 200, s.takeProposal},
		{"POST", "/api/v1/proposals/:id/drop", viewer, "drop a proposal: the own one, or any for an engineer", nil, nil, Proposal{}, 200, s.dropProposal},
	}
}

// proposedAs is the number of the proposal that the changes of a request became; 0 when they were made.
func proposedAs(c *gin.Context) int64 {
	n, err := strconv.ParseInt(c.Writer.Header().Get(proposalField), 10, 64)
	if err != nil {
		return 0
	}
	return n
}

// propose keeps changes as a proposal, and says its number.
func (s *Server) propose(c *gin.Context, title string, changes []site.Change) error {
	p, err := s.store.Propose(c.Request.Context(), store.Proposal{Title: title, Who: principal(c).Name(), Time: time.Now(), Changes: changes})
	if err != nil {
		return unless(err, http.StatusUnprocessableEntity)
	}
	c.Header(proposalField, strconv.FormatInt(p.ID, 10))
	return s.enter(c, audit.SiteChange, fmt.Sprint("proposal ", p.ID), "proposed: "+title)
}

func newProposal(p store.Proposal) Proposal {
	return Proposal{ID: p.ID, Title: p.Title, Who: p.Who, Time: p.Time.UTC(), State: p.State, DecidedBy: p.DecideBy, Decided: momentOf(p.Decided), Change: p.Change,
		Changes: each(p.Changes, difference), Comments: each(p.Comments, func(c store.Comment) Comment { return Comment{c.Who, c.Time.UTC(), c.Text} })}
}

func (s *Server) proposals(c *gin.Context) error {
	list, err := s.store.Proposals(c.Request.Context(), store.State(c.Query("state")))
	if err != nil {
		return err
	}
	return give(c, list, newProposal)
}

// proposalID is the number of the proposal that the path names.
func proposalID(c *gin.Context) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return 0, fail(http.StatusBadRequest, "%q is no number of a proposal", c.Param("id"))
	}
	return id, nil
}

func (s *Server) proposal(c *gin.Context) error { return s.giveProposal(c, http.StatusOK) }

// giveProposal answers with the proposal that the path names, with what others changed since otherwise than it does.
func (s *Server) giveProposal(c *gin.Context, status int) error {
	id, err := proposalID(c)
	if err != nil {
		return err
	}
	p, err := s.store.Proposal(c.Request.Context(), id)
	if err != nil {
		return err
	}
	out := newProposal(p)
	if p.State == store.OpenProposal {
		conflicts, err := merge.Into(s.store.Site().Edit(), p.Changes, nil)
		if err != nil {
			return err
		}
		out.Conflicts = each(conflicts, newConflict)
	}
	c.JSON(status, out)
	return nil
}

func (s *Server) comment(c *gin.Context) error {
	id, err := proposalID(c)
	if err != nil {
		return err
	}
	request, err := request[NewComment](c)
	if err != nil {
		return err
	}
	if err := s.store.Remark(c.Request.Context(), id, store.Comment{Who: principal(c).Name(), Time: time.Now(), Text: request.Text}); err != nil {
		return unless(err, http.StatusUnprocessableEntity)
	}
	return s.giveProposal(c, http.StatusCreated)
}

func (s *Server) takeProposal(c *gin.Context) error {
	id, err := proposalID(c)
	if err != nil {
		return err
	}
	request, err := request[Taking](c)
	if err != nil {
		return err
	}
	for of, side := range request.Choose {
		if side != "mine" && side != "theirs" {
			return fail(http.StatusUnprocessableEntity, "choose: %s: %q; mine or theirs is needed", of, side)
		}
	}
	chosen := func(conflict merge.Conflict) (mine, ok bool) {
		of := strings.TrimSpace(fmt.Sprintf("%s %s %s", conflict.Kind, conflict.Name, conflict.Field))
		side := request.Choose[of]
		if side == "" {
			side = request.All
		}
		return side == "mine", side != ""
	}
	changes, left, err := s.store.Take(c.Request.Context(), by(c, store.Edit{DryRun: request.DryRun}), id, chosen)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, summary(c, left, changes, request.DryRun))
	return nil
}

func (s *Server) dropProposal(c *gin.Context) error {
	id, err := proposalID(c)
	if err != nil {
		return err
	}
	p, err := s.store.Proposal(c.Request.Context(), id)
	if err != nil {
		return err
	}
	who := principal(c)
	if p.Who != who.Name() {
		if err := who.May(engineer.role); err != nil {
			return err
		}
	}
	if err := s.store.Drop(c.Request.Context(), id, who.Name()); err != nil {
		return err
	}
	if err := s.enter(c, audit.SiteChange, fmt.Sprint("proposal ", id), "dropped: "+p.Title); err != nil {
		return err
	}
	return s.giveProposal(c, http.StatusOK)
}
