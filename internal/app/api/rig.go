package api

import (
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/site"
	"arithmon/internal/rig"
)

// RigState is what is simulated.
type RigState struct {
	Lines []LineState `json:"lines"`
}

// LineState is a line as it is now.
type LineState struct {
	Name      string          `json:"name"`
	Protocol  site.Protocol   `json:"protocol"`
	Transport site.Transport  `json:"transport"`
	Framing   site.Framing    `json:"framing,omitempty"`
	Listen    string          `json:"listen" doc:"host:port or serial port"`
	Cut       bool            `json:"cut" doc:"the line is cut: nothing listens"`
	Stations  []StationState  `json:"stations"`
	Possible  []PossibleFault `json:"possible" doc:"faults that have an effect on its stations"`
}

// StationState is a simulated station as it is now.
type StationState struct {
	Unit   int        `json:"unit" doc:"or address of an outstation"`
	Number string     `json:"number,omitempty"`
	Name   string     `json:"name,omitempty"`
	Faults rig.Faults `json:"faults"`
}

// PossibleFault is a fault that a simulated station can have.
type PossibleFault struct {
	Name    string `json:"name" doc:"the field that sets it"`
	Text    string `json:"text" doc:"what it does"`
	Example string `json:"example,omitempty" doc:"of a value, where it needs one"`
}

// newRigState makes what the API says of a rig.
func newRigState(lines []rig.LineState) RigState {
	state := RigState{make([]LineState, len(lines))}
	for i, l := range lines {
		line := LineState{Name: l.Name, Protocol: l.Protocol, Transport: l.Transport, Framing: l.Framing, Listen: l.Listen, Cut: l.Cut, Stations: make([]StationState, len(l.Stations))}
		for k, s := range l.Stations {
			line.Stations[k] = StationState(s)
		}
		for _, f := range l.Possible {
			line.Possible = append(line.Possible, PossibleFault(f))
		}
		state.Lines[i] = line
	}
	return state
}

// simulated fails when nothing is.
func (s *Server) simulated() error {
	if s.rig == nil {
		return fail(http.StatusNotFound, "this service simulates nothing; arithmon demo does, or arithmon rig FILE")
	}
	return nil
}

func (s *Server) rigState(c *gin.Context) error {
	if err := s.simulated(); err != nil {
		return err
	}
	c.JSON(http.StatusOK, newRigState(s.rig.State()))
	return nil
}

// rigFaults changes the faults of a station: with PATCH those that are named, with PUT all.
func (s *Server) rigFaults(c *gin.Context) error {
	if err := s.simulated(); err != nil {
		return err
	}
	unit, err := strconv.Atoi(c.Param("unit"))
	if err != nil {
		return fail(http.StatusBadRequest, "unit %q is no number", c.Param("unit"))
	}
	f, err := s.rig.Faults(c.Param("line"), unit)
	if err != nil {
		return fail(http.StatusNotFound, "%s", err)
	}
	if c.Request.Method == http.MethodPut {
		f = rig.Faults{}
	}
	node, err := parse(c)
	if err != nil {
		return err
	}
	if faults := node.Decode(&f, rig.Faults{}); faults != nil {
		return faults
	}
	if err := s.rig.SetFaults(c.Param("line"), unit, f); err != nil {
		return fail(http.StatusUnprocessableEntity, "%s", err)
	}
	f.Restart = 0 // done at once
	c.JSON(http.StatusOK, f)
	return nil
}

// line names a line that exists.
func (s *Server) line(c *gin.Context) (string, error) {
	if err := s.simulated(); err != nil {
		return "", err
	}
	if s.rig.Address(c.Param("line")) == "" {
		return "", fail(http.StatusNotFound, "the rig has no line %q", c.Param("line"))
	}
	return c.Param("line"), nil
}

func (s *Server) rigCut(c *gin.Context) error {
	name, err := s.line(c)
	if err != nil {
		return err
	}
	s.rig.Cut(name)
	return s.rigState(c)
}

func (s *Server) rigRestore(c *gin.Context) error {
	name, err := s.line(c)
	if err != nil {
		return err
	}
	if err := s.rig.Restore(name); err != nil {
		return fail(http.StatusConflict, "line %s could not be restored: %s", name, err)
	}
	return s.rigState(c)
}
