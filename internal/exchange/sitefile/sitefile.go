// Package sitefile reads and writes the portable form of a site.
//
// A site file is YAML, or the same shape in JSON: lists of links, stations and points, each entry with the fields of
// its site type. What it does not say has its default.
package sitefile

import (
	"fmt"
	"strings"

	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
)

// Version is the number a site file carries in its field arithmon.
const Version = 1

// MaxEntries is how many entries a list of a site file may have.
const MaxEntries = 250_000

// Error is every fault of a file.
type Error struct {
	File   string
	Faults document.Faults
}

func (e *Error) Error() string {
	lines := make([]string, len(e.Faults))
	for i, f := range e.Faults {
		place := e.File
		if f.Line > 0 {
			place += fmt.Sprintf(":%d", f.Line)
		}
		f.Line = 0
		lines[i] = strings.TrimPrefix(place+": ", ": ") + f.Error()
	}
	return strings.Join(lines, "\n")
}

// PointEntry is a point as a person writes it: its address in any form that the notation of its station allows.
type PointEntry struct {
	Address  string     `json:"address" doc:"where it lives: hr:9, hr:9.3, co:0x200, or as the station's notation has it: 40010"`
	Table    site.Space `json:"table,omitempty" doc:"the table of an address that does not name one: co, di, ir or hr" enum:"co,di,ir,hr"`
	ReadBack string     `json:"read_back,omitempty" doc:"where a written value is read back from, when that is not its address: ir:9"`
	site.Point
}

// Resolve gives the point with its address as its station's notation means it.
// The station must be known to the draft; when it is not, only canonical addresses are read.
func (p PointEntry) Resolve(d *site.Draft) (site.Point, *site.FieldError) {
	station, _ := d.Station(p.Station)
	p.Point.Address, p.Point.ReadBack = site.Address{}, site.Address{}
	fail := func(field, value string, err error) *site.FieldError {
		return &site.FieldError{Kind: site.KindPoint, Name: p.Tag, Field: field, Value: value, Message: err.Error()}
	}
	var err error
	if p.Address != "" { // its absence is reported with the point's other faults
		if p.Point.Address, err = station.Convention().Parse(p.Address, p.Table); err != nil {
			return p.Point, fail("address", p.Address, err)
		}
	}
	if p.ReadBack != "" {
		if p.Point.ReadBack, err = station.Convention().Parse(p.ReadBack, ""); err != nil {
			return p.Point, fail("read_back", p.ReadBack, err)
		}
	}
	return p.Point, nil
}

// File is a site file that was read, not yet checked against a site.
type File struct {
	name   string
	places map[place]*document.Node
	links  []entry[site.Link]
	// Stations come before points, whose addresses need their notation.
	stations []entry[site.Station]
	points   []entry[PointEntry]
}

type entry[E any] struct {
	value E
	node  *document.Node
}

type place struct {
	kind site.Kind
	name string
}

// Read reads data; name is for messages. Its error is *Error with every fault of form: what the entries mean
// to each other is for Into.
func Read(name string, data []byte) (*File, error) {
	root, err := document.Parse(data)
	if err != nil {
		return nil, &Error{name, err.(document.Faults)}
	}
	fields, faults := root.Fields()
	f := &File{name: name, places: map[place]*document.Node{}}
	var header struct {
		Arithmon int            `json:"arithmon"`
		Links    *document.Node `json:"links"`
		Stations *document.Node `json:"stations"`
		Points   *document.Node `json:"points"`
	}
	if faults == nil {
		faults = root.Decode(&header, header)
		if fields["arithmon"] == nil {
			faults = append(faults, document.Fault{Line: root.Line(), Path: "arithmon", Message: fmt.Sprintf("is missing; a site file begins with arithmon: %d", Version)})
		} else if header.Arithmon != Version {
			faults = append(faults, fields["arithmon"].Fault("version %d is not read by this program; it reads %d", header.Arithmon, Version))
		}
		f.links = entries(header.Links, site.NewLink(), &faults)
		f.stations = entries(header.Stations, site.NewStation(), &faults)
		f.points = entries(header.Points, PointEntry{Point: site.NewPoint()}, &faults)
	}
	if faults != nil {
		return nil, &Error{name, faults}
	}
	return f, nil
}

func entries[E any](node *document.Node, defaults E, faults *document.Faults) []entry[E] {
	if node == nil {
		return nil
	}
	items, wrong := node.Items()
	*faults = append(*faults, wrong...)
	if len(items) > MaxEntries {
		*faults = append(*faults, node.Fault("holds %d entries; a file has at most %d, so make several of it", len(items), MaxEntries))
		return nil
	}
	list := make([]entry[E], len(items))
	for i, item := range items {
		if len(*faults) >= site.MaxFaults {
			*faults = append((*faults)[:site.MaxFaults:site.MaxFaults], document.Fault{Message: fmt.Sprintf("these are the first %d faults; there may be more", site.MaxFaults)})
			return nil
		}
		list[i] = entry[E]{defaults, item}
		*faults = append(*faults, item.Decode(&list[i].value, defaults)...)
	}
	return list
}

// Into puts the file's entries into a draft; with prune it removes what the file does not name.
// Faults wait in the draft; Place finds their lines.
func (f *File) Into(d *site.Draft, s *site.Site, prune bool) {
	for _, e := range f.links {
		f.put(d, e.value, e.node)
	}
	for _, e := range f.stations {
		f.put(d, e.value, e.node)
	}
	for _, e := range f.points {
		p, err := e.value.Resolve(d)
		if err != nil {
			d.Fail(err)
			f.places[place{site.KindPoint, p.Tag}] = e.node
			continue
		}
		f.put(d, p, e.node)
	}
	if !prune {
		return
	}
	for _, tag := range s.Tags() {
		f.prune(d, site.KindPoint, tag)
	}
	for _, st := range s.Stations() {
		f.prune(d, site.KindStation, st.Name)
	}
	for _, l := range s.Links() {
		f.prune(d, site.KindLink, l.Name)
	}
}

func (f *File) put(d *site.Draft, e site.Entity, node *document.Node) {
	at := place{e.Kind(), e.Key()}
	if first, twice := f.places[at]; twice && e.Key() != "" {
		field := "name"
		if e.Kind() == site.KindPoint {
			field = "tag"
		}
		d.Fail(&site.FieldError{Kind: e.Kind(), Name: e.Key(), Field: field, Value: e.Key(),
			Message: fmt.Sprintf("%q is in the file twice, in lines %d and %d", e.Key(), first.Line(), node.Line())})
		return
	}
	f.places[at] = node
	d.Put(e)
}

func (f *File) prune(d *site.Draft, kind site.Kind, name string) {
	if f.places[place{kind, name}] == nil {
		d.Remove(kind, name, true)
	}
}

// Place turns the faults of a draft into an *Error with the lines of the file.
func (f *File) Place(err error) error {
	found, ok := err.(site.Errors)
	if !ok {
		return err
	}
	placed := &Error{File: f.name}
	for _, e := range found {
		fault := document.Fault{Path: e.Field, Value: e.Value, Message: e.Message}
		if node := f.places[place{e.Kind, e.Name}]; node != nil {
			fault.Line = node.Line()
			fault.Path = strings.TrimSuffix(node.Path()+"."+e.Field, ".")
			if at := lineOf(node, e.Field); at > 0 {
				fault.Line = at
			}
		}
		if e.Name != "" {
			fault.Path = strings.TrimSuffix(fmt.Sprintf("%s %s: %s", e.Kind, e.Name, fault.Path), ": ")
		}
		placed.Faults = append(placed.Faults, fault)
	}
	return placed
}

// lineOf finds the line of a field such as scaling.raw within an entry.
func lineOf(node *document.Node, field string) (line int) {
	for part := range strings.SplitSeq(field, ".") {
		fields, _ := node.Fields()
		if node = fields[part]; node == nil {
			return line
		}
		line = node.Line()
	}
	return line
}
