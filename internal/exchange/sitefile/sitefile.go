// Package sitefile reads and writes the portable form of a site.
//
// A site file is YAML, or the same shape in JSON: lists of links, stations and points, each entry with the fields of
// its site type. What it does not say has its default.
package sitefile

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
	"arithmon/internal/core/tie"
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

// File is a site file that was read, not yet checked against a site.
type File struct {
	name  string
	lists map[site.Kind][]*document.Node
	since int64 // number of the newest change that the site had of which it was made; 0 where that is not said
	// places are where entities stand, once Into was called.
	places map[place]*document.Node
}

type place struct {
	kind site.Kind
	name string
}

// Read reads data; name is for messages. Its error is *Error with every fault that keeps the file from being a site file: what its
// entries say is for Into.
func Read(name string, data []byte) (*File, error) {
	root, err := document.Parse(data)
	if err != nil {
		return nil, &Error{name, err.(document.Faults)}
	}
	f := &File{name: name, lists: map[site.Kind][]*document.Node{}}
	fields, faults := root.Fields()
	if faults == nil {
		faults = f.header(root, fields)
	}
	if faults != nil {
		return nil, &Error{name, faults}
	}
	return f, nil
}

// header reads what a site file consists of: its version, and a list of each kind.
func (f *File) header(root *document.Node, fields map[string]*document.Node) (faults document.Faults) {
	kinds := map[string]site.Kind{}
	known := []string{"arithmon", "change"}
	for _, kind := range site.Kinds() {
		kinds[site.Plural(kind)] = kind
		known = append(known, site.Plural(kind))
	}
	var version int
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		node := fields[name]
		kind, is := kinds[name]
		switch {
		case name == "arithmon":
			if wrong := node.DecodeValue(&version); wrong != nil {
				faults = append(faults, wrong...)
			} else if version != Version {
				faults = append(faults, node.Fault("version %d is not read by this program; it reads %d", version, Version))
			}
		case name == "change":
			faults = append(faults, node.DecodeValue(&f.since)...)
		case !is:
			faults = append(faults, document.Unknown(node, name, known))
		case !node.IsNull():
			items, wrong := node.Items()
			if len(items) > MaxEntries {
				wrong = append(wrong, node.Fault("holds %d entries; a file has at most %d, so make several of it", len(items), MaxEntries))
			}
			f.lists[kind] = items
			faults = append(faults, wrong...)
		}
	}
	if fields["arithmon"] == nil {
		faults = append(faults, document.Fault{Line: root.Line(), Path: "arithmon", Message: fmt.Sprintf("is missing; a site file begins with arithmon: %d", Version)})
	}
	return faults
}

// Only takes everything but the entities of a kind out of the file. Its error says that there are none.
func (f *File) Only(kind site.Kind) error {
	if len(f.lists[kind]) == 0 {
		return fmt.Errorf("%s has no %s", f.name, site.Plural(kind))
	}
	f.lists = map[site.Kind][]*document.Node{kind: f.lists[kind]}
	f.since = 0 // it may be of another site
	return nil
}

// Since is the number of the newest change that the site had of which the file was made, 0 where that is not said.
func (f *File) Since() int64 { return f.since }

// Keep adds to a draft the faults of what the file would take back: entities that were changed since it was made, by kind and name, and that it has
// otherwise, has again, or would remove. It is called after Into.
func (f *File) Keep(d *site.Draft, s *site.Site, prune bool, changed map[site.Kind]map[string]bool) {
	for _, kind := range site.Kinds() {
		for name := range changed[kind] {
			is, exists := s.Get(kind, name)
			node := f.places[place{kind, name}]
			after, stays := d.Get(kind, name)
			fault := &site.FieldError{Kind: kind, Name: name}
			switch {
			case node == nil && exists && prune && !stays:
				fault.Message = "was added or changed since this file was made, and is not in it; export it anew, or remove it all the same with --force"
			case node != nil && !exists:
				fault.Message = "was removed or renamed since this file was made; export it anew, or add it again with --force"
			case node != nil && stays && !reflect.DeepEqual(is, after):
				fault.Message = "was changed since this file was made, which has it otherwise; export it anew, or take the change back with --force"
			default:
				continue
			}
			d.Fail(fault)
		}
	}
}

// Into puts the file's entries into a draft; with prune it removes what the file does not name, and what only has another name in it is renamed.
// Faults wait in the draft; Place finds their lines.
func (f *File) Into(d *site.Draft, s *site.Site, prune bool) {
	f.places = map[place]*document.Node{}
	kinds := site.Kinds() // one refers to those before it
	for _, kind := range kinds {
		entries := make([]entry, 0, len(f.lists[kind]))
		for i, e := range form.DecodeEach(kind, f.lists[kind], d, nil) {
			node := f.lists[kind][i]
			if node.IsMap() { // otherwise all that is to say has been said
				entries = append(entries, entry{e, node})
			}
		}
		var was map[string]string
		if prune {
			was = renames(s, d, kind, entries)
		}
		for _, e := range entries {
			f.put(d, e, was[e.entity.Key()])
		}
	}
	if !prune {
		return
	}
	implied := f.implied(d)
	slices.Reverse(kinds)
	for _, kind := range kinds {
		for _, name := range s.Names(kind) {
			if f.places[place{kind, name}] == nil && !(kind == site.KindPoint && implied[name]) {
				d.Remove(kind, name, !site.Referred(kind)) // a station of the file that names a template which is not in it, is a fault
			}
		}
	}
}

// implied are the tags of the points that the stations of the file have from their templates, and that it therefore need not name.
func (f *File) implied(d *site.Draft) map[string]bool {
	tags := map[string]bool{}
	for at := range f.places {
		s, _ := d.Station(at.name)
		if at.kind != site.KindStation || s.Template == "" {
			continue
		}
		for _, tag := range tie.Tags(d, s) {
			tags[tag] = true
		}
	}
	return tags
}

// entry is an entity of a file, and where it stands.
type entry struct {
	entity site.Entity
	node   *document.Node
}

// put puts an entry into a draft, in the place of the entity that was called was; "" for one that has its name.
func (f *File) put(d *site.Draft, of entry, was string) {
	e, node := of.entity, of.node
	at := place{e.Kind(), e.Key()}
	if first, twice := f.places[at]; twice && e.Key() != "" {
		d.Refuse(e, &site.FieldError{Kind: e.Kind(), Name: e.Key(), Field: site.KeyField(e.Kind()), Value: e.Key(),
			Message: fmt.Sprintf("%q is in the file twice, in lines %d and %d", e.Key(), first.Line(), node.Line())})
		return
	}
	f.places[at] = node
	if was != "" {
		d.Replace(was, e)
		return
	}
	d.Put(e)
}

// Place turns the faults of a draft into an *Error with the lines of the file.
func (f *File) Place(err error) error {
	found, ok := err.(site.Errors)
	if !ok {
		return err
	}
	placed := &Error{File: f.name}
	for _, e := range found {
		fault := document.Fault{Path: e.Field, Value: e.Value, Message: e.Message, Line: e.Line}
		if node := f.places[place{e.Kind, e.Name}]; node != nil {
			fault.Path = strings.TrimSuffix(node.Path()+"."+e.Field, ".")
			if at := lineOf(node, e.Field); at > 0 && fault.Line == 0 {
				fault.Line = at
			}
			if fault.Line == 0 {
				fault.Line = node.Line()
			}
		}
		if e.Name != "" {
			fault.Path = strings.TrimSuffix(fmt.Sprintf("%s %s: %s", e.Kind, e.Name, fault.Path), ": ")
		}
		placed.Faults = append(placed.Faults, fault)
	}
	slices.SortStableFunc(placed.Faults, func(a, b document.Fault) int { return cmp.Compare(a.Line, b.Line) })
	return placed
}

// lineOf finds the line of a field such as scaling.raw or points[3].type within an entry.
func lineOf(node *document.Node, field string) (line int) {
	for part := range strings.SplitSeq(strings.ReplaceAll(field, "[", ".["), ".") {
		if at, err := strconv.Atoi(strings.Trim(part, "[]")); err == nil && part[0] == '[' {
			items, _ := node.Items()
			if at >= len(items) {
				return line
			}
			node = items[at]
		} else {
			fields, _ := node.Fields()
			node = fields[part]
		}
		if node == nil {
			return line
		}
		line = node.Line()
	}
	return line
}
