package api

import (
	"arithmon/internal/commission/probe"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"

	"github.com/gin-gonic/gin"
)

// Stage is one step of a probe.
type Stage struct {
	Name      string   `json:"name" enum:"name,route,connect,modbus,unit,identification,tables,limits,link,application,attributes,points"`
	OK        bool     `json:"ok"`
	Text      string   `json:"text" doc:"what was found, or why it stops here and what to try"`
	TookMS    float64  `json:"took_ms"`
	Points    []Held   `json:"points,omitempty" doc:"what an outstation has, with the stage points"`
	Templates []string `json:"templates,omitempty" doc:"templates for such a device, by what it says of itself"`
}

// Held is a point that an outstation has.
type Held struct {
	Address   site.Address `json:"address"`
	Variation string       `json:"variation" doc:"object group and variation that it is reported with: g30v5"`
	Class     int          `json:"class,omitempty" doc:"of its events, where one of them told; 0 where that is not known"`
	Value     codec.Value  `json:"value"`
	Flags     []string     `json:"flags,omitempty"`
	Type      codec.Type   `json:"type" doc:"that a point of the site would have"`
}

// ScanRequest says where to look for units.
type ScanRequest struct {
	Link     string        `json:"link,omitempty" doc:"of the site"`
	At       *site.Link    `json:"at,omitempty" doc:"a far end that is no link of the site"`
	First    int           `json:"first,omitempty" doc:"first unit or outstation (default 1)"`
	Last     int           `json:"last,omitempty" doc:"last unit (default 247) or outstation (default 255)"`
	Master   int           `json:"master,omitempty" doc:"DNP3: link address of this end (default 1)"`
	Settings bool          `json:"settings,omitempty" doc:"on a serial line: look for its settings first"`
	Wait     site.Duration `json:"wait,omitempty" doc:"for each response, 20ms to 5s (default 200ms)"`
}

// Progress is how far a scan has got.
type Progress struct {
	Done     int                `json:"done"`
	Total    int                `json:"total" doc:"may grow and shrink as settings are found"`
	Now      string             `json:"now" doc:"what is being asked"`
	Found    *Found             `json:"found,omitempty" doc:"a unit or outstation that was just found"`
	Settings *site.LineSettings `json:"settings,omitempty" doc:"the line settings that were just found"`
	Ended    string             `json:"ended,omitempty" doc:"how it ended, on the last line"`
}

// Found is a unit, or an outstation.
type Found struct {
	Unit int    `json:"unit" doc:"or link address"`
	Text string `json:"text" doc:"what it says of itself, or how it answers"`
}

// newStage makes what the API says of a stage of a probe.
func (s *Server) newStage(c *gin.Context, of probe.Stage) Stage {
	out := Stage{Name: of.Name, OK: of.OK, Text: of.Text, TookMS: of.TookMS}
	for _, h := range of.Points {
		out.Points = append(out.Points, Held(h))
	}
	if of.Says != "" {
		out.Templates = s.fitting(c, of.Says)
	}
	return out
}

// newProgress makes what the API says of how far a scan has got.
func newProgress(p probe.Progress) Progress {
	return Progress{p.Done, p.Total, p.Now, (*Found)(p.Found), p.Settings, p.Ended}
}
