package site

import (
	"fmt"
	"maps"
	"reflect"
	"slices"

	"arithmon/internal/core/nearest"
)

// Draft is a set of modifications to a site that has not happened yet. Reads through a Draft see what it holds.
type Draft struct {
	base    *Site
	touched map[key]Entity // nil: removed
	order   []key
	renamed map[key]key     // new to old
	below   map[key][]key   // what was put under a link or a station, each once
	filed   map[[2]key]bool // which of them are in below: the upper, the lower
	units   map[string]map[int][]string
	faults  Errors
	more    bool // faults beyond MaxFaults were dropped
}

// MaxFaults is how many faults a draft or a file reports: enough to begin with, whatever the size of what was given.
const MaxFaults = 1000

type key struct {
	kind Kind
	name string
}

// Edit starts a draft. The site must not change until the draft's changes were applied or dropped.
func (s *Site) Edit() *Draft {
	return &Draft{base: s, touched: map[key]Entity{}, renamed: map[key]key{}, below: map[key][]key{}, filed: map[[2]key]bool{}}
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
	switch v := e.(type) {
	case Link:
		e = v.WithDefaults()
	case Point:
		e = v.WithDefaults()
	}
	d.touch(key{e.Kind(), e.Key()}, e)
}

// Fail adds a fault that was found while the draft was made, so that it is reported with those Changes finds.
func (d *Draft) Fail(f *FieldError) {
	if len(d.faults) < MaxFaults { // there are enough to begin with
		d.faults = append(d.faults, f)
	} else {
		d.more = true
	}
}

// Add puts e, which must be new: a taken name or tag is a fault.
func (d *Draft) Add(e Entity) {
	if _, taken := d.Get(e.Kind(), e.Key()); taken {
		d.Fail(&FieldError{e.Kind(), e.Key(), keyField(e.Kind()), e.Key(), fmt.Sprintf("%q is taken by another %s; choose another, or change that one", e.Key(), e.Kind())})
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
	was := key{e.Kind(), old}
	d.touch(was, nil)
	d.Put(e)
	d.renamed[key{e.Kind(), e.Key()}] = was
	for _, dependent := range d.dependents(was) {
		switch t := dependent.(type) {
		case Station:
			t.Link = e.Key()
			d.Put(t)
		case Point:
			t.Station = e.Key()
			d.Put(t)
		}
	}
}

// Remove takes an entity out. What depends on it goes too when cascade is set; otherwise that is a fault.
func (d *Draft) Remove(kind Kind, name string, cascade bool) {
	k := key{kind, name}
	dependents := d.dependents(k)
	if len(dependents) > 0 && !cascade {
		d.Fail(&FieldError{kind, name, "", name, fmt.Sprintf("%s; remove that first, or all together (cascade)", belonging(dependents))})
		return
	}
	for _, dependent := range dependents {
		d.Remove(dependent.Kind(), dependent.Key(), true)
	}
	d.touch(k, nil)
}

// belonging says what depends on an entity.
func belonging(dependents []Entity) string {
	first := dependents[0]
	if len(dependents) == 1 {
		return fmt.Sprintf("%s %s belongs to it", first.Kind(), first.Key())
	}
	return fmt.Sprintf("%d %ss belong to it, %s among them", len(dependents), first.Kind(), first.Key())
}

func (d *Draft) touch(k key, e Entity) {
	if _, again := d.touched[k]; !again {
		d.order = append(d.order, k)
	}
	d.touched[k] = e
	if up := above(e); up != (key{}) && !d.filed[[2]key{up, k}] {
		d.filed[[2]key{up, k}] = true
		d.below[up] = append(d.below[up], k)
	}
}

// above is the link of a station or the station of a point; nothing is above a link.
func above(e Entity) key {
	switch e := e.(type) {
	case Station:
		return key{KindLink, e.Link}
	case Point:
		return key{KindStation, e.Station}
	}
	return key{}
}

// dependents lists the stations of a link or the points of a station, as the draft has them.
func (d *Draft) dependents(of key) []Entity {
	if of.kind == KindPoint {
		return nil
	}
	var list []Entity
	keep := func(e Entity) {
		k := key{e.Kind(), e.Key()}
		if now, touched := d.touched[k]; touched {
			e = now
		}
		if e != nil && above(e) == of {
			list = append(list, e)
		}
	}
	switch of.kind {
	case KindLink:
		for _, s := range d.base.StationsOf(of.name) {
			keep(s)
		}
	case KindStation:
		for _, p := range d.base.PointsOf(of.name) {
			keep(p)
		}
	}
	for _, k := range d.below[of] {
		if e := d.touched[k]; e != nil && above(e) == of {
			if before, existed := d.base.Get(k.kind, k.name); !existed || above(before) != of { // else it was listed above
				list = append(list, e)
			}
		}
	}
	return list
}

func keyField(kind Kind) string {
	if kind == KindPoint {
		return "tag"
	}
	return "name"
}

// Changes checks everything the draft touches and returns what it would modify, links before stations before points,
// removals last and in reverse; nothing when all is as it was. Its error is Errors, with every fault.
func (d *Draft) Changes() ([]Change, error) {
	found, more := slices.Clone(d.faults), d.more
	for _, k := range d.order {
		if more = more || len(found) >= MaxFaults; more {
			break
		}
		if e := d.touched[k]; e != nil {
			f := &faults{entity: e}
			d.check(e, f)
			found = append(found, f.list...)
		}
	}
	if more {
		found = append(found[:min(len(found), MaxFaults)], &FieldError{Message: fmt.Sprintf("these are the first %d faults; there may be more", MaxFaults)})
	}
	if len(found) > 0 {
		return nil, found
	}
	gone := map[key]bool{}
	for _, old := range d.renamed {
		gone[old] = true
	}
	var puts, removals [3][]Change
	rank := map[Kind]int{KindLink: 0, KindStation: 1, KindPoint: 2}
	for _, k := range d.order {
		after := d.touched[k]
		was := k
		if old, ok := d.renamed[k]; ok {
			was = old
		} else if gone[k] && after == nil {
			continue // the other half of a renaming
		}
		before, existed := d.base.Get(was.kind, was.name)
		switch {
		case after == nil && existed:
			removals[rank[k.kind]] = append(removals[rank[k.kind]], Change{Before: before})
		case after != nil && !existed:
			puts[rank[k.kind]] = append(puts[rank[k.kind]], Change{After: after})
		case after != nil && !reflect.DeepEqual(before, after):
			puts[rank[k.kind]] = append(puts[rank[k.kind]], Change{Before: before, After: after})
		}
	}
	return slices.Concat(puts[0], puts[1], puts[2], removals[2], removals[1], removals[0]), nil
}

// check validates one entity by itself and against what it refers to.
func (d *Draft) check(e Entity, f *faults) {
	switch e := e.(type) {
	case Link:
		e.validate(f)
		if other := d.samePort(e); other != "" {
			f.add("serial.device", e.Serial.Device, "port %s is used by link %s; two links cannot share a port", e.Serial.Device, other)
		}
		for _, dependent := range d.dependents(key{KindLink, e.Name}) {
			if field, why := dependent.(Station).fits(e); why != "" {
				f.add("transport", e.Transport, "station %s: %s %s", dependent.Key(), field, why)
			}
		}
	case Station:
		e.validate(f)
		l, ok := d.Get(KindLink, e.Link)
		if ok {
			if field, why := e.fits(l.(Link)); why != "" {
				f.add(field, e.LinkAddress(), "%s", why)
			}
		}
		d.checkGroups(e, f)
		d.checkLengths(e, f)
		if e.Link == "" {
			f.add("link", "", "is missing; give the name of its link")
		} else if !ok {
			f.add("link", e.Link, "there is no link %q%s", e.Link, d.near(KindLink, e.Link))
		} else if other := d.sameUnit(e); other != "" {
			field := "unit"
			if e.Speaks() == DNP3 {
				field = "outstation"
			}
			f.add(field, e.LinkAddress(), "%s on link %s is taken by station %s; two stations of one link cannot share an address", e.Called(), e.Link, other)
		}
	case Point:
		e.validate(f)
		if e.Station == "" {
			f.add("station", "", "is missing; give the name of its station")
		} else if s, ok := d.Station(e.Station); !ok {
			f.add("station", e.Station, "there is no station %q%s", e.Station, d.near(KindStation, e.Station))
		} else {
			if _, known := s.PollGroups[e.PollGroup]; e.PollGroup != "" && !known {
				f.add("poll_group", e.PollGroup, "station %s has no poll group %q%s", s.Name, e.PollGroup, nearest.Hint(e.PollGroup, slices.Sorted(maps.Keys(s.PollGroups))))
			}
			p := e.Address.Space.Protocol()
			if p == "" {
				return
			}
			if l, _ := d.Get(KindLink, s.Link); l != nil && l.(Link).Protocol != p {
				f.add("address", e.Address, "%s is a %s address, but station %s speaks %s", e.Address, p, s.Name, l.(Link).Protocol)
			}
			if needs, most := e.tooLong(s); needs > 0 {
				f.add("type", e.Type, "a %s takes %d registers, and station %s allows %d in one read (max_registers)", e.Type, needs, s.Name, most)
			}
		}
	}
}

// broadcast is why unit 0 is no device of a serial line.
const broadcast = "0 addresses all devices of a serial line, and none of them answers (MODBUS over Serial Line V1.02, 2.2); use 1 to 247, or broadcast: true to write to all at once"

// fits says what of a station does not go with its link, and why.
func (s Station) fits(l Link) (field, why string) {
	switch {
	case l.Protocol == DNP3 && s.Outstation == nil:
		return "outstation", "is missing; a station on a DNP3 link has the link address of its outstation"
	case l.Protocol == Modbus && s.Outstation != nil:
		return "outstation", "belongs to a station on a DNP3 link; on a Modbus link it has a unit"
	case l.Protocol == DNP3:
		return "", ""
	case l.Transport.OnPort() && s.Unit == 0 && !s.Broadcast:
		return "unit", broadcast
	case s.Broadcast && !l.Transport.OnPort():
		return "broadcast", "only a serial line has a broadcast"
	case l.Transport == Dialup && s.Number == "":
		return "number", "is missing; give the telephone number of the station"
	case l.Transport != Dialup && s.Number != "":
		return "number", "belongs to a station on a dialup link"
	}
	return "", ""
}

// checkGroups finds points that a station's poll groups leave without theirs.
func (d *Draft) checkGroups(s Station, f *faults) {
	before, _ := d.base.Station(s.Name)
	if maps.Equal(before.PollGroups, s.PollGroups) {
		return
	}
	for _, e := range d.dependents(key{KindStation, s.Name}) {
		p := e.(Point)
		if _, known := s.PollGroups[p.PollGroup]; !known && p.PollGroup != "" {
			f.add("poll_groups", p.PollGroup, "point %s is in poll group %q, which the station no longer has", p.Tag, p.PollGroup)
			return
		}
	}
}

// tooLong is how many registers a point takes when that is more than its station reads at once, and how many that are; otherwise 0.
func (p Point) tooLong(s Station) (needs, most int) {
	most, _, _ = s.ReadLimits()
	if n := p.Layout(s).Words(); p.Address.Space.Registers() && n > most {
		return n, most
	}
	return 0, most
}

// checkLengths finds points that a station's limit of registers leaves unreadable.
func (d *Draft) checkLengths(s Station, f *faults) {
	before, known := d.base.Station(s.Name)
	most, _, _ := s.ReadLimits()
	if was, _, _ := before.ReadLimits(); known && was <= most {
		return
	}
	for _, e := range d.dependents(key{KindStation, s.Name}) {
		p := e.(Point)
		if needs, most := p.tooLong(s); needs > 0 {
			f.add("max_registers", most, "point %s is a %s, which takes %d registers in one read", p.Tag, p.Type, needs)
			return
		}
	}
}

// samePort returns another link on the same serial port, or "".
func (d *Draft) samePort(l Link) string {
	if !l.Transport.OnPort() || l.Serial == nil || l.Serial.Device == "" {
		return ""
	}
	names := map[string]bool{}
	for _, other := range d.base.Links() {
		names[other.Name] = true
	}
	for _, k := range d.order {
		if k.kind == KindLink {
			names[k.name] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		e, ok := d.Get(KindLink, name)
		other, _ := e.(Link)
		if ok && name != l.Name && other.Transport.OnPort() && other.Serial != nil && other.Serial.Device == l.Serial.Device {
			return name
		}
	}
	return ""
}

// sameUnit returns another station of the same link with the same unit, or "".
func (d *Draft) sameUnit(s Station) string {
	if d.units == nil {
		d.units = map[string]map[int][]string{}
	}
	byUnit, ok := d.units[s.Link]
	if !ok {
		byUnit = map[int][]string{}
		for _, e := range d.dependents(key{KindLink, s.Link}) {
			other := e.(Station)
			byUnit[other.LinkAddress()] = append(byUnit[other.LinkAddress()], other.Name)
		}
		d.units[s.Link] = byUnit
	}
	for _, name := range byUnit[s.LinkAddress()] {
		if other, _ := d.Station(name); name != s.Name && other.Number == s.Number { // behind another number is another line
			return name
		}
	}
	return ""
}

func (d *Draft) near(kind Kind, name string) string {
	var names []string
	switch kind {
	case KindLink:
		for _, l := range d.base.Links() {
			names = append(names, l.Name)
		}
	case KindStation:
		for _, s := range d.base.Stations() {
			names = append(names, s.Name)
		}
	}
	for _, k := range d.order {
		if k.kind == kind && d.touched[k] != nil {
			names = append(names, k.name)
		}
	}
	return nearest.Hint(name, names)
}
