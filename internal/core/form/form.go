// Package form says how entities stand in documents: a site file, the body of a request, what the command line was given.
package form

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/document"
	"arithmon/internal/core/parallel"
	"arithmon/internal/core/site"
)

// Form is how the entities of a kind stand in a document.
type Form struct {
	shape any
	// always lists the fields that are written even where they have their default, so that a file can be read without knowing the
	// defaults.
	always []string
	read   func(r reader, from, defaults site.Entity) site.Entity
	usual  func(s *site.Site, e site.Entity) site.Entity
	texts  func(s *site.Site, e site.Entity) map[string]string
}

// forms are those of every kind. A kind of entity is one entry here.
var forms = map[site.Kind]Form{
	site.KindTemplate: {shape: site.Template{}, always: []string{"name"}, read: readPlain[site.Template]},
	site.KindLink:     {shape: site.Link{}, always: []string{"name", "protocol", "transport"}, read: readLink, usual: usualLink},
	site.KindStation:  {shape: site.Station{}, always: []string{"name", "link", "unit", "notation"}, read: readStation, usual: usualStation},
	site.KindBoard:    {shape: site.Board{}, always: []string{"name"}, read: readPlain[site.Board]},
	site.KindPoint:    {shape: PointEntry{}, always: []string{"tag", "station", "address", "type"}, read: readPoint, texts: pointTexts},
}

// Of is the form of a kind.
func Of(kind site.Kind) Form { return forms[kind] }

// Shape is a struct with the fields that a document may have of an entity of a kind.
func Shape(kind site.Kind) any { return forms[kind].shape }

// Written reports whether a field is written whatever its value.
func (f Form) Written(field string) bool { return slices.Contains(f.always, field) }

// Usual is the entity whose fields need not be written when e, of a site, has them.
func (f Form) Usual(s *site.Site, e site.Entity) site.Entity {
	if f.usual == nil {
		return site.Fresh(e.Kind())
	}
	return f.usual(s, e)
}

// Texts are the fields that are written in the notation of a station.
func (f Form) Texts(s *site.Site, e site.Entity) map[string]string {
	if f.texts == nil {
		return nil
	}
	return f.texts(s, e)
}

// Decode gives the entity that from becomes by what node says; null gives a field its default. Every fault waits in the draft, whose
// stations decide how addresses are meant.
func Decode(kind site.Kind, node *document.Node, d *site.Draft, from site.Entity) site.Entity {
	var told findings
	e := forms[kind].read(reader{node, d, kind, &told}, from, site.Fresh(kind))
	told.tell(d)
	return e
}

// decodedTogether is how many entities are worth a goroutine.
const decodedTogether = 512

// DecodeEach is Decode of every node, on all processors, into what onto gives for it: a new entity where onto is nil. Nothing else may use the
// draft meanwhile.
func DecodeEach(kind site.Kind, nodes []*document.Node, d *site.Draft, onto func(i int) site.Entity) []site.Entity {
	if onto == nil {
		onto = func(int) site.Entity { return site.Fresh(kind) }
	}
	list, told := make([]site.Entity, len(nodes)), make([]findings, len(nodes))
	parallel.Parts(len(nodes), decodedTogether, func(from, to int) {
		for i := from; i < to; i++ {
			list[i] = forms[kind].read(reader{nodes[i], d, kind, &told[i]}, onto(i), site.Fresh(kind))
		}
	})
	for _, t := range told {
		t.tell(d)
	}
	return list
}

// findings are what is to be told to a draft.
type findings []func(*site.Draft)

func (f findings) tell(d *site.Draft) {
	for _, one := range f {
		one(d)
	}
}

// reader reads one node for one draft.
type reader struct {
	node  *document.Node
	draft *site.Draft // is asked; others ask it meanwhile
	kind  site.Kind
	told  *findings
}

func (r reader) refuse(e *site.FieldError) {
	*r.told = append(*r.told, func(d *site.Draft) { d.Fail(e) })
}

func (r reader) judged(name, field string) {
	*r.told = append(*r.told, func(d *site.Draft) { d.Judged(r.kind, name, field) })
}

// has reports whether the node has a field.
func (r reader) has(field string) bool { return r.node.Field(field) != nil }

// fail adds faults of form to the draft, as those of the entity of a name.
func (r reader) fail(name string, faults document.Faults) {
	for _, f := range faults {
		path := strings.TrimPrefix(strings.TrimPrefix(f.Path, r.node.Path()), ".") // within the entity
		r.refuse(&site.FieldError{Kind: r.kind, Name: name, Field: path, Value: f.Value, Message: f.Message, Line: f.Line})
	}
}

// readPlain reads an entity whose fields stand in a document as they are.
func readPlain[E site.Entity](r reader, from, defaults site.Entity) site.Entity {
	e := from.(E)
	faults := r.node.Decode(&e, defaults)
	r.fail(e.Key(), faults)
	return e
}

// readLink reads a link. What only followed from its transport or protocol before follows the new one.
func readLink(r reader, from, defaults site.Entity) site.Entity {
	was := from.(site.Link)
	l := readPlain[site.Link](r, from, defaults).(site.Link)
	if l.Transport == was.Transport && l.Protocol == was.Protocol {
		return l
	}
	implied := site.Link{Protocol: was.Protocol, Transport: was.Transport}.WithDefaults()
	if !r.has("framing") && l.Framing == implied.Framing {
		l.Framing = ""
	}
	if !r.has("port") && l.Port == implied.Port {
		l.Port = 0
	}
	return l
}

func usualLink(_ *site.Site, e site.Entity) site.Entity {
	l := e.(site.Link)
	implied := site.NewLink()
	implied.Transport, implied.Protocol = l.Transport, l.Protocol
	port := implied.Port
	implied = implied.WithDefaults()
	implied.Port = port // which is written even where it has its default, since people look for it
	return implied
}

// PointEntry is a point as a person writes it: its address in any form that the notation of its station allows.
type PointEntry struct {
	Address  string     `json:"address" doc:"where it lives: hr:9, hr:9.3, co:0x200, or as the station's notation has it: 40010"`
	Table    site.Space `json:"table,omitempty" doc:"the table of an address that does not name one: co, di, ir or hr" enum:"co,di,ir,hr"`
	ReadBack string     `json:"read_back,omitempty" doc:"where a written value is read back from, when that is not its address: ir:9"`
	site.Point
}

// readPoint reads a point, whose address is meant in the notation of its station.
func readPoint(r reader, from, defaults site.Entity) site.Entity {
	was := from.(site.Point)
	entry := PointEntry{Point: was}
	faults := r.node.Decode(&entry, PointEntry{Point: defaults.(site.Point)})
	p := entry.Point
	r.fail(p.Tag, faults)
	station, known := r.draft.Station(p.Station)
	address := func(field, text string, table site.Space, before site.Address) (a site.Address, count int) {
		switch {
		case !r.has(field):
			return before, 0 // which stays, even at a station of another notation
		case text == "":
			return site.Address{}, 0 // its absence is reported with the other faults
		}
		at, err := station.Convention().ParseRange(text, table)
		var several *site.Ambiguity
		if errors.As(err, &several) {
			err = several.For(p.Type)
		}
		switch {
		case err == nil:
		case !known && p.Station != "": // what it means is known when its station is
			r.judged(p.Tag, field)
		default:
			r.refuse(&site.FieldError{Kind: r.kind, Name: p.Tag, Field: field, Value: text, Message: err.Error()})
		}
		return at.Start, at.Count
	}
	var count int
	p.Address, count = address("address", entry.Address, entry.Table, was.Address)
	p.ReadBack, _ = address("read_back", entry.ReadBack, "", was.ReadBack)
	if implied := (site.Point{Address: was.Address}).WithDefaults().Type; !r.has("type") && r.has("address") && was.Type == implied {
		p.Type = "" // it followed from the old address and follows from the new one; a type that was chosen stays
	}
	if count > 1 {
		p = r.spanning(p, entry.Address, count)
	}
	return p
}

// spanning is a point whose address was given as a range, which must be as long as its value is.
func (r reader) spanning(p site.Point, typed string, count int) site.Point {
	fail := func(field, format string, args ...any) {
		r.refuse(&site.FieldError{Kind: r.kind, Name: p.Tag, Field: field, Value: typed, Message: fmt.Sprintf("%q names %d addresses", typed, count) + fmt.Sprintf(format, args...)})
	}
	if p.Type == codec.TypeString && p.Length == 0 {
		p.Length = 2 * count
	}
	switch words := p.Layout(site.Station{}).Words(); {
	case !p.Address.Space.Registers():
		fail("address", ", and a point is one %s", p.Address.Space.Name())
	case p.Type == "":
		var fitting []string
		for _, t := range codec.Types {
			if (codec.Layout{Type: t}).Words() == count && t != codec.TypeString {
				fitting = append(fitting, string(t))
			}
		}
		if len(fitting) == 0 {
			fitting = []string{string(codec.TypeString)}
		}
		fail("type", "; give a type of that size: %s", strings.Join(fitting, ", "))
	case words > 0 && words != count:
		fail("address", ", and %s takes %d", p.Type, words)
	}
	return p
}

func pointTexts(s *site.Site, e site.Entity) map[string]string {
	p := e.(site.Point)
	station, _ := s.Station(p.Station)
	address := p.Address.Format(station.Convention())
	if address[0] == '0' && p.Address.Offset < 9999 {
		address = p.Address.Format(site.Convention{Bits: station.Bits}) // leading zeros do not survive every program a file passes through
	}
	return map[string]string{"address": address, "read_back": p.ReadBack.Format(station.Convention())}
}
