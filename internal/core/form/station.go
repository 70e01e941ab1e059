package form

import (
	"reflect"
	"strconv"

	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
	"arithmon/internal/core/template"
)

// readStation reads a station. What it does not say is as its template has it, when it is made from one.
func readStation(r reader, from, defaults site.Entity) site.Entity {
	tied := from.(site.Station)
	var ofTie struct {
		Name     string            `json:"name"`
		Link     string            `json:"link"`
		Template string            `json:"template"`
		Values   map[string]string `json:"values"`
	}
	ofTie.Name, ofTie.Link, ofTie.Template, ofTie.Values = tied.Name, tied.Link, tied.Template, tied.Values
	for field, into := range map[string]any{"name": &ofTie.Name, "link": &ofTie.Link, "template": &ofTie.Template, "values": &ofTie.Values} {
		if node := r.node.Field(field); node != nil && !node.IsNull() {
			_ = node.DecodeValue(into) // whose faults are found again below
		}
	}
	plain := tied
	plain.Name = ""
	fresh := reflect.DeepEqual(plain, site.NewStation()) // it is described whole
	tied.Name, tied.Link, tied.Template, tied.Values = ofTie.Name, ofTie.Link, ofTie.Template, ofTie.Values
	if e, known := r.draft.Get(site.KindTemplate, tied.Template); known {
		if as, err := StationOf(e.(site.Template), tied); err == nil { // else it is told where the points are made
			defaults = as
			if fresh {
				as.Name = tied.Name
				from = as
			}
		}
	}
	return readPlain[site.Station](r, from, defaults)
}

// usualStation is a station as its template has it, or with the defaults of the site file.
func usualStation(s *site.Site, e site.Entity) site.Entity {
	station := e.(site.Station)
	if t, known := s.Get(site.KindTemplate, station.Template); known {
		if as, err := StationOf(t.(site.Template), station); err == nil {
			return as
		}
	}
	return site.NewStation()
}

// StationOf is a station with the settings that its template has, and otherwise the defaults of the site file: what is its own, such as its name
// and its address, is not there. Its error says what of the template cannot be read with the values of s.
func StationOf(t site.Template, s site.Station) (site.Station, error) {
	as := site.NewStation()
	filled, err := t.Station.Fill(ValuesOf(t, s))
	if err != nil {
		return as, err
	}
	node, err := Node(filled)
	if err != nil {
		return as, err
	}
	if faults := node.Decode(&as, site.NewStation()); faults != nil {
		return as, faults
	}
	return as, nil
}

// ValuesOf are the values of the parameters of a template for a station: its own, and the defaults of those that it does not say. Parameters without
// either are not among them.
func ValuesOf(t site.Template, s site.Station) map[string]string {
	values := map[string]string{"station": s.Name, "link": s.Link, "unit": strconv.Itoa(s.LinkAddress())}
	own := map[string]string{"station": s.Name, "link": s.Link, "unit": values["unit"]}
	for _, p := range t.Parameters {
		if value, said := s.Values[p.Name]; said {
			values[p.Name] = value
		} else if p.Default != "" {
			if text, err := template.Text(p.Default, own); err == nil {
				values[p.Name] = text
			}
		}
	}
	return values
}

// Node is a document of fields.
func Node(fields any) (*document.Node, error) {
	return document.Of(fields)
}
