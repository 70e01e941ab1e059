package api

import (
	"maps"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/live/traffic"
)

// Protocol is what there is to know of a protocol when links, stations and points are described.
type Protocol struct {
	Protocol    site.Protocol    `json:"protocol"`
	Title       string           `json:"title" doc:"as people write it"`
	Port        int              `json:"port" doc:"registered"`
	TLSPort     int              `json:"tls_port" doc:"registered, over TLS"`
	Transports  []site.Transport `json:"transports" doc:"that carry it, the usual one first"`
	Framings    []site.Framing   `json:"framings" doc:"that a link chooses from; none where there is one only"`
	Address     string           `json:"address" doc:"the field of a station that is its link address"`
	MaxAddress  int              `json:"max_address" doc:"of a station"`
	LastUsual   int              `json:"last_usual" doc:"station address up to which devices are usually set"`
	Typed       bool             `json:"typed" doc:"the device's objects tell their type and are reported"`
	Profiles    bool             `json:"profiles" doc:"points can be made of a device profile"`
	Spaces      []Space          `json:"spaces" doc:"that addresses count in"`
	Types       []codec.Type     `json:"types" doc:"data types of its points"`
	LinkFields  []string         `json:"link_fields" doc:"fields of a link that mean something"`
	Fields      []string         `json:"station_fields" doc:"fields of a station"`
	PointFields []string         `json:"point_fields" doc:"fields of a point"`
	Functions   []FunctionName   `json:"functions" doc:"that its frames have"`
	Actions     []Action         `json:"actions" doc:"what a station can be asked to do beside reading and writing"`
}

// Space is a table or a type of points.
type Space struct {
	Space     site.Space `json:"space"`
	Name      string     `json:"name" doc:"of one, in words"`
	Writable  bool       `json:"writable"`
	Registers bool       `json:"registers" doc:"it is made of 16-bit registers"`
}

// FunctionName names a function of a protocol.
type FunctionName struct {
	Code int    `json:"code"`
	Name string `json:"name"`
}

// Protocols are all protocols.
type Protocols struct {
	Items []Protocol `json:"items"`
}

// Action is what a station can be asked to do.
type Action struct {
	Name string `json:"name"`
	Text string `json:"text" doc:"what it does"`
}

func (s *Server) protocols(c *gin.Context) error {
	out := Protocols{Items: []Protocol{}}
	without := func(kind site.Kind, none func(field string) bool) []string {
		return slices.DeleteFunc(document.FieldNames(site.Fresh(kind)), none)
	}
	for _, p := range site.Protocols() {
		t := p.Traits()
		one := Protocol{
			Protocol: p, Title: t.Name, Port: t.Port, TLSPort: t.TLSPort, Transports: t.Transports, Framings: append([]site.Framing{}, t.Framings...), Address: t.Address,
			MaxAddress: t.MaxAddress, LastUsual: t.LastUsual, Typed: t.Typed, Profiles: t.Profiles, Types: t.Types,
			LinkFields:  without(site.KindLink, func(field string) bool { return slices.Contains(t.NoLink, field) }),
			Fields:      without(site.KindStation, p.Foreign),
			PointFields: without(site.KindPoint, func(field string) bool { return slices.Contains(t.NoPoint, field) }),
		}
		for _, s := range t.Spaces {
			one.Spaces = append(one.Spaces, Space{s, s.Name(), s.Output(), s.Registers()})
		}
		functions := traffic.Functions(p)
		for _, code := range slices.Sorted(maps.Keys(functions)) {
			one.Functions = append(one.Functions, FunctionName{code, functions[code]})
		}
		one.Actions = newActions(s.engine.Actions(p))
		out.Items = append(out.Items, one)
	}
	c.JSON(http.StatusOK, out)
	return nil
}

func newActions(actions []link.Action) []Action {
	list := make([]Action, len(actions))
	for i, a := range actions {
		list[i] = Action(a)
	}
	return list
}
