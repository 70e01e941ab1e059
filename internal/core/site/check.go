package site

import (
	"fmt"
	"maps"
	"slices"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/nearest"
)

// What entities have to do with each other: what they belong to, what does not go together, and what of a stored one fits no site.

func (l Link) owner() string { return "" }
func (l Link) called(name string) Entity {
	l.Name = name
	return l
}

func (l Link) ownedBy(string) Entity { return l }
func (l Link) completed() Entity     { return l.WithDefaults() }

func (l Link) check(d *Draft, f *faults) {
	l.validate(f)
	if other := d.samePort(l); other != "" {
		f.add("serial.device", l.Serial.Device, "port %s is used by link %s; two links cannot share a port", l.Serial.Device, other)
	}
	for _, dependent := range d.dependents(key{KindLink, l.Name}) {
		if field, why := dependent.(Station).fits(l); why != "" {
			f.add("transport", l.Transport, "station %s: %s %s", dependent.Key(), field, why)
		}
	}
}

func (l Link) misfit(*Site) string {
	if !l.Protocol.Known() {
		return fmt.Sprintf("its protocol is %q, which is none", l.Protocol)
	}
	return ""
}

func (s Station) owner() string { return s.Link }

func (s Station) called(name string) Entity {
	s.Name = name
	return s
}

func (s Station) ownedBy(link string) Entity {
	s.Link = link
	return s
}

func (s Station) completed() Entity { return s }

func (s Station) check(d *Draft, f *faults) {
	s.validate(f)
	l, ok := d.Get(KindLink, s.Link)
	if ok {
		if field, why := s.fits(l.(Link)); why != "" {
			f.add(field, s.LinkAddress(), "%s", why)
		}
	}
	s.checkTie(d, f)
	d.checkGroups(s, f)
	d.checkLengths(s, f)
	if s.Link == "" {
		f.add("link", "", "is missing; give the name of its link")
	} else if !ok {
		f.add("link", s.Link, "there is no link %q%s", s.Link, d.near(KindLink, s.Link))
	} else if other := d.sameUnit(s); other != "" {
		f.add(s.Speaks().Traits().Address, s.LinkAddress(), "%s on link %s is taken by station %s; two stations of one link cannot share an address", s.Called(), s.Link, other)
	}
}

func (s Station) misfit(now *Site) string {
	l, ok := now.Link(s.Link)
	switch {
	case !ok:
		return fmt.Sprintf("there is no link %q", s.Link)
	case s.Speaks() != l.Protocol:
		return fmt.Sprintf("it is a %s station, and link %s is a %s link", s.Speaks(), l.Name, l.Protocol)
	}
	return ""
}

func (p Point) owner() string { return p.Station }

func (p Point) called(name string) Entity {
	p.Tag = name
	return p
}

func (p Point) ownedBy(station string) Entity {
	p.Station = station
	return p
}

func (p Point) completed() Entity { return p.WithDefaults() }

func (p Point) check(d *Draft, f *faults) {
	p.validate(f)
	if p.Station == "" {
		f.add("station", "", "is missing; give the name of its station")
		return
	}
	s, ok := d.Station(p.Station)
	if !ok {
		f.add("station", p.Station, "there is no station %q%s", p.Station, d.near(KindStation, p.Station))
		return
	}
	if _, known := s.PollGroups[p.PollGroup]; p.PollGroup != "" && !known {
		f.add("poll_group", p.PollGroup, "station %s has no poll group %q%s", s.Name, p.PollGroup, nearest.Hint(p.PollGroup, slices.Sorted(maps.Keys(s.PollGroups))))
	}
	protocol := p.Address.Space.Protocol()
	if protocol == "" {
		return
	}
	if l, _ := d.Get(KindLink, s.Link); l != nil && l.(Link).Protocol != protocol {
		f.add("address", p.Address, "%s is a %s address, but station %s speaks %s", p.Address, protocol, s.Name, l.(Link).Protocol)
	}
	if needs, most := p.tooLong(s); needs > 0 {
		f.add("type", p.Type, "a %s takes %d registers, and station %s allows %d in one read (max_registers)", p.Type, needs, s.Name, most)
	}
}

func (p Point) misfit(now *Site) string {
	s, ok := now.Station(p.Station)
	switch protocol := p.Address.Space.Protocol(); {
	case !ok:
		return fmt.Sprintf("there is no station %q", p.Station)
	case protocol == "":
		return fmt.Sprintf("its address is %q, which is none", p.Address)
	case protocol != s.Speaks():
		return fmt.Sprintf("%s is a %s address, and station %s speaks %s", p.Address, protocol, s.Name, s.Speaks())
	case !slices.Contains(codec.Types[:], p.WithDefaults().Type):
		return fmt.Sprintf("its type is %q, which is none", p.Type)
	}
	return ""
}

// fits says what of a station does not go with its link, and why.
func (s Station) fits(l Link) (field, why string) {
	if !l.Protocol.Known() {
		return "", ""
	}
	return l.Protocol.rules().fits(s, l)
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
	if !l.Transport.UsesSerialPort() || l.Serial == nil || l.Serial.Device == "" {
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
		if ok && name != l.Name && other.Transport.UsesSerialPort() && other.Serial != nil && other.Serial.Device == l.Serial.Device {
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
	names := slices.Clone(d.base.Names(kind))
	for _, k := range d.order {
		if k.kind == kind && d.touched[k] != nil {
			names = append(names, k.name)
		}
	}
	return nearest.Hint(name, names)
}
