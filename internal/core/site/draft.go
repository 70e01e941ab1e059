package site

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// Draft is a set of modifications to a site that has not happened yet. Reads through a Draft see what it holds.
type Draft struct {
	base    *Site
	touched map[key]Entity // nil: removed
	order   []key
	orderOf [kindCount][]key // the same, of each kind
	renamed map[key]key      // new to old
	given   map[key]bool     // old: who had that name has another now
	unsaid  map[key]bool     // that only follow others
	below   map[key][]key    // what was put under a link or a station, each once
	filed   map[[2]key]bool  // which of them are in below: the upper, the lower
	units   map[string]map[int][]string
	faults  Errors
	judged  map[field]bool // whose faults are in faults already, or follow from others
	refused []Entity       // that were not put, and whose other faults are reported all the same
	more    bool           // faults beyond MaxFaults were dropped
}

// MaxFaults is how many faults a draft or a file reports: enough to begin with, whatever the size of what was given.
const MaxFaults = 1000

type key struct {
	kind Kind
	name string
}

// field is a field of an entity, without what is within it.
type field struct {
	key
	name string
}

func fieldOf(f *FieldError) field {
	name, _, _ := strings.Cut(f.Field, ".")
	return field{key{f.Kind, f.Name}, name}
}

// Edit starts a draft of modifications to s.
func (s *Site) Edit() *Draft {
	return &Draft{base: s, touched: map[key]Entity{}, renamed: map[key]key{}, given: map[key]bool{}, unsaid: map[key]bool{}, below: map[key][]key{}, filed: map[[2]key]bool{}, judged: map[field]bool{}}
}

// Get returns an entity as the draft has it.
func (d *Draft) Get(kind Kind, name string) (Entity, bool) {
	if e, ok := d.touched[key{kind, name}]; ok {
		return e, e != nil
	}
	return d.base.Get(kind, name)
}

// Station returns a station as the draft has it.
func (d *Draft) Station(name string) (Station, bool) {
	e, ok := d.Get(KindStation, name)
	s, _ := e.(Station)
	return s, ok
}

// Put adds e, or replaces the entity of its kind and key.
func (d *Draft) Put(e Entity) {
	e = e.(member).completed()
	d.touch(key{e.Kind(), e.Key()}, e)
}

// Fail adds a fault that was found while the draft was made, so that it is reported with those Changes finds. Changes finds no other one
// in the same field.
func (d *Draft) Fail(f *FieldError) {
	d.Judged(f.Kind, f.Name, f.Field)
	if len(d.faults) < MaxFaults { // there are enough to begin with
		d.faults = append(d.faults, f)
	} else {
		d.more = true
	}
}

// Faults are those that were found while the draft was made.
func (d *Draft) Faults() Errors { return slices.Clone(d.faults) }

// Judged says that Changes need not look at a field: what is wrong with it follows from another fault.
func (d *Draft) Judged(kind Kind, name, of string) {
	if of != "" {
		d.judged[fieldOf(&FieldError{Kind: kind, Name: name, Field: of})] = true
	}
}

// Refuse adds a fault of an entity that is not to be put, so that its other faults are reported with it.
func (d *Draft) Refuse(e Entity, f *FieldError) {
	d.Fail(f)
	d.refused = append(d.refused, e.(member).completed())
}

// Add puts e, which must be new: a taken name or tag is a fault.
func (d *Draft) Add(e Entity) {
	if _, taken := d.Get(e.Kind(), e.Key()); taken {
		d.Refuse(e, &FieldError{Kind: e.Kind(), Name: e.Key(), Field: KeyField(e.Kind()), Value: e.Key(),
			Message: fmt.Sprintf("%q is taken by another %s; choose another, or change that one", e.Key(), e.Kind())})
		return
	}
	d.Put(e)
}

// Replace puts e in place of the entity named old. When the key differs it is renamed and what refers to it follows.
func (d *Draft) Replace(old string, e Entity) {
	if old == e.Key() {
		d.Put(e)
		return
	}
	if _, taken := d.Get(e.Kind(), e.Key()); taken {
		d.Add(e) // reports it
		return
	}
	was, is := key{e.Kind(), old}, key{e.Kind(), e.Key()}
	from := d.origin(was)
	d.forget(was)
	d.touch(was, nil)
	d.Put(e)
	if from != is && from != (key{}) { // else it has the name of before again, or is new
		d.renamed[is], d.given[from] = from, true
	}
	for _, dependent := range d.dependents(was) {
		d.Follow(dependent.(member).ownedBy(e.Key()))
	}
	for _, r := range d.Referring(e.Kind(), old) {
		d.Follow(r.(referrer).referring(e.Kind(), old, e.Key()))
	}
}

// Follow puts an entity that follows another one, about which nothing was said itself.
func (d *Draft) Follow(e Entity) {
	said := d.Said(e.Kind(), e.Key())
	d.Put(e)
	d.unsaid[key{e.Kind(), e.Key()}] = !said
}

// Said reports whether the draft was told about an entity, to put or to remove it; not when that only followed from something else.
func (d *Draft) Said(kind Kind, name string) bool {
	k := key{kind, name}
	_, touched := d.touched[k]
	return touched && !d.unsaid[k]
}

// Touched lists the names of the entities of a kind that the draft changes, in the order in which it came to them.
func (d *Draft) Touched(kind Kind) (names []string) {
	for _, k := range d.orderOf[rank(kind)] {
		names = append(names, k.name)
	}
	return names
}

// Before is what an entity of the draft was in the site, under the name that it had there; false for a new one.
func (d *Draft) Before(kind Kind, name string) (Entity, bool) {
	k := key{kind, name}
	if old, renamed := d.renamed[k]; renamed {
		k = old
	}
	return d.base.Get(k.kind, k.name)
}

// Base is the site that the draft modifies.
func (d *Draft) Base() *Site { return d.base }

// Referring lists the entities that refer to one, as the draft has them.
func (d *Draft) Referring(kind Kind, name string) (list []Entity) {
	to := key{kind, name}
	keep := func(e Entity) {
		if r, is := e.(referrer); is && slices.Contains(r.refers(), to) {
			list = append(list, e)
		}
	}
	for i, of := range registered {
		if of.refers != kind {
			continue
		}
		for _, other := range d.base.shelves[i].names() {
			if _, touched := d.touched[key{of.kind, other}]; !touched {
				e, _, _ := d.base.shelves[i].get(other)
				keep(e)
			}
		}
		for _, k := range d.orderOf[i] {
			keep(d.touched[k])
		}
	}
	return list
}

// Remove takes an entity out. What depends on it goes too when cascade is set, and what refers to it does so no more; otherwise that is a fault.
func (d *Draft) Remove(kind Kind, name string, cascade bool) {
	k := key{kind, name}
	dependents := d.dependents(k)
	if len(dependents) > 0 && !cascade {
		d.Fail(&FieldError{Kind: kind, Name: name, Value: name, Message: fmt.Sprintf("%s; remove that first, or all together (cascade)", belonging(dependents))})
		return
	}
	referring := slices.DeleteFunc(d.Referring(kind, name), func(e Entity) bool { return registered[rank(e.Kind())].loose })
	if len(referring) > 0 && !cascade {
		d.Fail(&FieldError{Kind: kind, Name: name, Value: name, Message: fmt.Sprintf("%s; give that another one first, or let it stand alone (cascade)", naming(referring))})
		return
	}
	for _, r := range referring {
		d.Follow(r.(referrer).referring(kind, name, ""))
	}
	for _, dependent := range dependents {
		d.Remove(dependent.Kind(), dependent.Key(), true)
	}
	d.forget(k) // it is the one of before that goes, whatever it was called meanwhile
	d.touch(k, nil)
}

// Dependents lists the entities that belong to e, as the draft has them.
func (d *Draft) Dependents(e Entity) []Entity { return d.dependents(key{e.Kind(), e.Key()}) }

// belonging says what depends on an entity.
func belonging(dependents []Entity) string {
	first := dependents[0]
	if len(dependents) == 1 {
		return fmt.Sprintf("%s %s belongs to it", first.Kind(), first.Key())
	}
	return fmt.Sprintf("%d %ss belong to it, %s among them", len(dependents), first.Kind(), first.Key())
}

// naming says what refers to an entity.
func naming(referring []Entity) string {
	first := referring[0]
	if len(referring) == 1 {
		return fmt.Sprintf("%s %s names it", first.Kind(), first.Key())
	}
	return fmt.Sprintf("%d %ss name it, %s among them", len(referring), first.Kind(), first.Key())
}

func (d *Draft) touch(k key, e Entity) {
	delete(d.unsaid, k)
	if _, again := d.touched[k]; !again {
		d.order = append(d.order, k)
		d.orderOf[rank(k.kind)] = append(d.orderOf[rank(k.kind)], k)
	}
	d.touched[k] = e
	if up := owner(e); up != (key{}) && !d.filed[[2]key{up, k}] {
		d.filed[[2]key{up, k}] = true
		d.below[up] = append(d.below[up], k)
	}
}

// dependents lists the stations of a link or the points of a station, as the draft has them.
func (d *Draft) dependents(of key) []Entity {
	var list []Entity
	keep := func(e Entity) {
		k := key{e.Kind(), e.Key()}
		if now, touched := d.touched[k]; touched {
			e = now
		}
		if e != nil && owner(e) == of {
			list = append(list, e)
		}
	}
	place, ok := owned(of.kind)
	if !ok {
		return nil
	}
	d.base.shelves[place].ownedBy(of.name, func(e Entity) bool {
		keep(e)
		return true
	})
	for _, k := range d.below[of] {
		if e := d.touched[k]; e != nil && owner(e) == of {
			if before, existed := d.base.Get(k.kind, k.name); !existed || owner(before) != of { // else it was listed above
				list = append(list, e)
			}
		}
	}
	return list
}

// Changes checks everything the draft touches and returns what it would modify, in the order of Kinds, a name given up before somebody else gets
// it, removals last and in reverse, or first where one gives up a name that another gets; nothing when all is as it was. Its error is Errors, with every fault.
func (d *Draft) Changes() ([]Change, error) {
	found, more := slices.Clone(d.faults), d.more
	check := func(e Entity) {
		if more = more || len(found) >= MaxFaults; more || e == nil {
			return
		}
		f := &faults{entity: e}
		e.(member).check(d, f)
		for _, fault := range f.list {
			if !d.judged[fieldOf(fault)] {
				found = append(found, fault)
			}
		}
	}
	for _, e := range d.refused {
		check(e)
	}
	for _, k := range d.order {
		check(d.touched[k])
	}
	if more {
		found = append(found[:min(len(found), MaxFaults)], &FieldError{Message: fmt.Sprintf("these are the first %d faults; there may be more", MaxFaults)})
	}
	if len(found) > 0 {
		return nil, found
	}
	var puts, removals [kindCount][]Change
	names, freed := map[key]bool{}, false // names that are given, and whether one is that of what is removed
	for _, k := range d.order {
		after := d.touched[k]
		was := k
		if old, ok := d.renamed[k]; ok {
			was = old
		} else if d.given[k] && after == nil {
			continue // the other half of a renaming
		}
		if had, there := d.base.Get(k.kind, k.name); there && was != k && !d.given[k] {
			removals[rank(k.kind)] = append(removals[rank(k.kind)], Change{Before: had})
		}
		before, existed := d.base.Get(was.kind, was.name)
		if d.given[k] && was == k { // the one that had this name goes on under another
			existed = false
		}
		switch {
		case after == nil && existed:
			removals[rank(k.kind)] = append(removals[rank(k.kind)], Change{Before: before})
		case after != nil && !existed:
			names[k] = true
			puts[rank(k.kind)] = append(puts[rank(k.kind)], Change{After: after})
		case after != nil && !reflect.DeepEqual(before, after):
			names[k] = was != k
			puts[rank(k.kind)] = append(puts[rank(k.kind)], Change{Before: before, After: after})
		}
	}
	for i := range puts {
		puts[i] = inTurn(puts[i])
	}
	slices.Reverse(removals[:])
	changed, removed := slices.Concat(puts[:]...), slices.Concat(removals[:]...)
	for _, c := range removed {
		freed = freed || names[key{c.Kind(), c.Before.Key()}]
	}
	if freed {
		return append(removed, changed...), nil
	}
	return append(changed, removed...), nil
}
