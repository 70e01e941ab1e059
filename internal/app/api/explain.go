package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/protocol/modbus"
)

// Explanations say what the words mean that readings and findings carry.
type Explanations struct {
	Reasons  []ReasonMeaning  `json:"reasons" doc:"why a reading is not good"`
	Findings []FindingMeaning `json:"findings" doc:"the codes of findings"`
}

// ReasonMeaning explains a reason of readings.
type ReasonMeaning struct {
	Reason  reading.Reason  `json:"reason"`
	Quality reading.Quality `json:"quality" enum:"good,uncertain,bad"`
	Text    string          `json:"text"`
	Try     string          `json:"try,omitempty" doc:"what to do next"`
}

// FindingMeaning explains a code of findings.
type FindingMeaning struct {
	Code diagnose.Code `json:"code"`
	Kind site.Kind     `json:"kind" doc:"what it is about" enum:"link,station,point"`
	Text string        `json:"text"`
}

// NewExplanations is everything that there is to explain.
func NewExplanations() Explanations {
	var out Explanations
	for _, m := range reading.Catalogue() {
		out.Reasons = append(out.Reasons, ReasonMeaning{m.Reason, m.Quality, m.Text, m.Try})
	}
	for _, code := range modbus.Exceptions() {
		out.Reasons = append(out.Reasons, ReasonMeaning{reading.ExceptionReason(byte(code)), reading.Bad, explain(reading.ExceptionReason(byte(code))), ""})
	}
	for _, m := range diagnose.Catalogue() {
		out.Findings = append(out.Findings, FindingMeaning(m))
	}
	return out
}

func (s *Server) explanations(c *gin.Context) error {
	c.JSON(http.StatusOK, NewExplanations())
	return nil
}
