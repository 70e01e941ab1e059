package api

import (
	"cmp"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/site"
)

// BoardCopy says what a copy of a board is called, and of which points it is.
type BoardCopy struct {
	Name string          `json:"name" doc:"of the copy"`
	Tags *site.TagChange `json:"tags,omitempty" doc:"what tags begin with, and what they are to begin with instead"`
}

// NewBoard is what a board that is made is called.
type NewBoard struct {
	Name string `json:"name,omitempty" doc:"of the board (default that of the station)"`
}

func (s *Server) boardRoutes() []route {
	return []route{
		{"POST", "/api/v1/boards/:name/copy", changerOfPart, "make a board like another one, with the points of another branch of tags", nil, BoardCopy{}, site.Board{}, 201, s.copyBoard},
		{"POST", "/api/v1/stations/:name/board", changerOfPart, "make a board of a station: a display for each of its points, fitting its type", nil, NewBoard{}, site.Board{}, 201, s.makeBoard},
	}
}

func (s *Server) copyBoard(c *gin.Context) error {
	return copying(s, c, site.KindBoard, BoardCopy{}, func(d *site.Draft, from site.Entity, how BoardCopy) site.Entity {
		made := from.(site.Board).Copied(how.Name, how.Tags)
		d.Add(made)
		return made
	})
}

func (s *Server) makeBoard(c *gin.Context) error {
	return copying(s, c, site.KindStation, NewBoard{}, func(d *site.Draft, from site.Entity, how NewBoard) site.Entity {
		made := site.BoardOf(d.Base(), from.Key(), cmp.Or(how.Name, from.Key()))
		d.Add(made)
		return made
	})
}
