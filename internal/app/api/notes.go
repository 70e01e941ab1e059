package api

import (
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/site"
	"arithmon/internal/record/store"
)

// Note is what somebody wrote at a link, a station or a point.
type Note struct {
	ID     int64      `json:"id"`
	Kind   site.Kind  `json:"kind" enum:"template,link,station,point,board"`
	Name   string     `json:"name" doc:"of what it stands at"`
	Text   string     `json:"text"`
	Who    string     `json:"who"`
	Time   time.Time  `json:"time"`
	DoneBy string     `json:"done_by,omitempty" doc:"empty: it is open"`
	Done   *time.Time `json:"done,omitempty" doc:"when"`
}

// NewNote is what is to be written.
type NewNote struct {
	Kind site.Kind `json:"kind" enum:"template,link,station,point,board"`
	Name string    `json:"name"`
	Text string    `json:"text"`
}

// NoteState says whether what a note is about is done.
type NoteState struct {
	Done bool `json:"done"`
}

// togetherRoutes are what people do beside each other.
func (s *Server) togetherRoutes() []route {
	return []route{
		{"GET", "/api/v1/together", viewerOfPart, "WebSocket: who is here, and what is changed; send {\"page\": …, \"editing\": …} to say where you are", nil, nil, TogetherMessage{}, 200, s.presence},
		{"GET", "/api/v1/notes", viewerOfPart, "what people wrote at links, stations and points, the newest first",
			append([]parameter{{name: "kind", doc: "of what they stand at", is: choice(site.Kinds()...)}, {name: "name", doc: "of what they stand at"}, {name: "open", doc: "true: only those that are open", is: truth}}, paging...), nil, Page[Note]{}, 200, s.notes},
		{"POST", "/api/v1/notes", operatorOfPart, "write a note", nil, NewNote{}, Note{}, 201, s.addNote},
		{"PATCH", "/api/v1/notes/:id", operatorOfPart, "say that what a note is about is done, or open again", nil, NoteState{}, Note{}, 200, s.setNote},
		{"DELETE", "/api/v1/notes/:id", operatorOfPart, "remove a note: the own one, or any for an engineer", nil, nil, nil, 204, s.removeNote},
	}
}

func newNote(n store.Note) Note {
	return Note{n.ID, n.Kind, n.Name, n.Text, n.Who, n.Time.UTC(), n.DoneBy, momentOf(n.DoneTime)}
}

func (s *Server) notes(c *gin.Context) error {
	open, err := flag(c, "open")
	if err != nil {
		return err
	}
	list, err := s.store.Notes(c.Request.Context(), site.Kind(c.Query("kind")), c.Query("name"), open)
	if err != nil {
		return err
	}
	if len(principal(c).Only) > 0 {
		now := s.site(c)
		list = slices.DeleteFunc(list, func(n store.Note) bool { _, seen := now.Get(n.Kind, n.Name); return !seen })
	}
	return give(c, list, newNote)
}

func (s *Server) addNote(c *gin.Context) error {
	request, err := request[NewNote](c)
	if err != nil {
		return err
	}
	if !slices.Contains(site.Kinds(), request.Kind) {
		return fail(http.StatusUnprocessableEntity, "kind: %q; choose link, station, point or template", request.Kind)
	}
	if err := s.exists(c, request.Kind, request.Name); err != nil {
		return err
	}
	n, err := s.store.AddNote(c.Request.Context(), store.Note{Kind: request.Kind, Name: request.Name, Text: request.Text, Who: principal(c).Name(), Time: time.Now()})
	if err != nil {
		return unless(err, http.StatusUnprocessableEntity)
	}
	c.JSON(http.StatusCreated, newNote(n))
	return nil
}

// noteOf is the note that the path names, when it may be seen.
func (s *Server) noteOf(c *gin.Context) (store.Note, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return store.Note{}, fail(http.StatusBadRequest, "%q is no number of a note", c.Param("id"))
	}
	n, err := s.store.Note(c.Request.Context(), id)
	if err == nil && len(principal(c).Only) > 0 {
		err = s.exists(c, n.Kind, n.Name)
	}
	return n, err
}

func (s *Server) setNote(c *gin.Context) error {
	n, err := s.noteOf(c)
	if err != nil {
		return err
	}
	request, err := request[NoteState](c)
	if err != nil {
		return err
	}
	who := ""
	if request.Done {
		who = principal(c).Name()
	}
	if err := s.store.CloseNote(c.Request.Context(), n.ID, who, time.Now()); err != nil {
		return err
	}
	if n, err = s.store.Note(c.Request.Context(), n.ID); err != nil {
		return err
	}
	c.JSON(http.StatusOK, newNote(n))
	return nil
}

func (s *Server) removeNote(c *gin.Context) error {
	n, err := s.noteOf(c)
	if err != nil {
		return err
	}
	if who := principal(c); n.Who != who.Name() {
		if err := who.May(engineer.role); err != nil {
			return err
		}
	}
	if err := s.store.RemoveNote(c.Request.Context(), n.ID); err != nil {
		return err
	}
	c.Status(http.StatusNoContent)
	return nil
}
