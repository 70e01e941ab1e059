// Package access says who may do what: roles, the part of a site that one is limited to, and the principal on whose behalf something is done.
package access

import (
	"fmt"
	"slices"
	"strings"

	"arithmon/internal/core/site"
)

// Role is what somebody may do. Each includes those before it.
type Role string

// The roles.
const (
	Nobody   Role = ""         // who is not signed in
	Viewer   Role = "viewer"   // sees
	Operator Role = "operator" // also writes to points that allow it, and does checkouts
	Engineer Role = "engineer" // also changes the site, and has links, probes, scans and recordings
	Admin    Role = "admin"    // also has accounts, certificates and bridges
)

var roles = []Role{Nobody, Viewer, Operator, Engineer, Admin}

// Roles are those that an account can have, the least first.
func Roles() []Role { return slices.Clone(roles[1:]) }

// Includes reports whether who has role r may do what other may.
func (r Role) Includes(other Role) bool {
	mine, theirs := slices.Index(roles, r), slices.Index(roles, other)
	return theirs >= 0 && mine >= theirs
}

// Lesser is the one of two roles that may do less.
func Lesser(a, b Role) Role {
	if a.Includes(b) {
		return b
	}
	return a
}

// onStations is how a limit begins that names stations.
const onStations = "station:"

// Limits are the part of a site that a role is limited to: tags or patterns of tags (tern/*), and stations with all their points
// (station:tern-*). None at all: the whole site.
type Limits []string

// MaxLimits is how many patterns there may be.
const MaxLimits = 100

// Check says what is wrong with limits.
func (l Limits) Check() error {
	if len(l) > MaxLimits {
		return fmt.Errorf("%d patterns: at most %d are possible; use wildcards", len(l), MaxLimits)
	}
	for _, p := range l {
		name := strings.TrimPrefix(p, onStations)
		if strings.TrimSpace(name) != name || name == "" || strings.Contains(name, ":") || len(name) > site.MaxTag {
			return fmt.Errorf("%q is no tag or pattern such as tern/*, and no stations such as station:tern-*", p)
		}
	}
	return nil
}

// Station reports whether a station belongs to the part, with all its points.
func (l Limits) Station(name string) bool {
	return len(l) == 0 || slices.ContainsFunc(l, func(p string) bool {
		p, is := strings.CutPrefix(p, onStations)
		return is && site.Match(p, name)
	})
}

// Tag reports whether a point of a station belongs to the part.
func (l Limits) Tag(tag, station string) bool {
	return l.Station(station) || slices.ContainsFunc(l, func(p string) bool {
		return !strings.HasPrefix(p, onStations) && site.Match(p, tag)
	})
}

// Entity reports whether an entity belongs to the part. What several parts share, links and templates, belongs to none.
func (l Limits) Entity(e site.Entity) bool {
	switch e := e.(type) {
	case site.Point:
		return l.Tag(e.Tag, e.Station)
	case site.Station:
		return l.Station(e.Name)
	case site.Board: // of points that belong to it by their tags
		return len(e.Points()) > 0 && !slices.ContainsFunc(e.Points(), func(tag string) bool { return !l.Tag(tag, "") })
	}
	return len(l) == 0
}

// Change reports whether a change is one of the part alone, before and after it.
func (l Limits) Change(c site.Change) bool {
	return (c.Before == nil || l.Entity(c.Before)) && (c.After == nil || l.Entity(c.After))
}

// Of is the part of a site: its points and stations, and what these need to be read: the stations of its points, their links and templates.
func (l Limits) Of(now *site.Site) *site.Site {
	if len(l) == 0 {
		return now
	}
	part := site.New().Build()
	take := func(kind site.Kind, name string) {
		if e, there := now.Get(kind, name); there {
			part.Put(e, now.Version(kind, name))
		}
	}
	needed := map[string]bool{} // stations
	for _, name := range now.Names(site.KindStation) {
		if l.Station(name) {
			needed[name] = true
		}
	}
	now.EachPoint("", func(p *site.Point) bool {
		if l.Tag(p.Tag, p.Station) {
			part.Put(*p, now.Version(site.KindPoint, p.Tag))
			needed[p.Station] = true
		}
		return true
	})
	for _, name := range now.Names(site.KindBoard) {
		b, _ := now.Get(site.KindBoard, name)
		if tags := b.(site.Board).Points(); len(tags) > 0 && !slices.ContainsFunc(tags, func(tag string) bool {
			p, _ := now.Point(tag)
			return !l.Tag(tag, p.Station)
		}) {
			take(site.KindBoard, name)
		}
	}
	for name := range needed {
		take(site.KindStation, name)
		st, _ := now.Station(name)
		take(site.KindLink, st.Link)
		take(site.KindTemplate, st.Template)
	}
	return part.Site()
}

// Sees reports whether a station of a site has anything of the part.
func (l Limits) Sees(now *site.Site, station string) bool {
	return l.Station(station) || slices.ContainsFunc(now.SharedPointsOf(station), func(p *site.Point) bool { return l.Tag(p.Tag, station) })
}

// Within reports whether other is no more than l.
func (l Limits) Within(other Limits) bool {
	if len(other) == 0 {
		return true
	}
	return len(l) > 0 && !slices.ContainsFunc(l, func(p string) bool { return !slices.ContainsFunc(other, func(o string) bool { return covers(o, p) }) })
}

// covers reports whether a pattern surely has all that another one has: the same one, or one that ends in a wildcard after what the other begins with.
func covers(pattern, other string) bool {
	if strings.EqualFold(pattern, other) {
		return true
	}
	if strings.HasPrefix(pattern, onStations) != strings.HasPrefix(other, onStations) {
		return false
	}
	start, open := strings.CutSuffix(pattern, "*")
	return open && !site.IsPattern(start) && len(other) >= len(start) && strings.EqualFold(other[:len(start)], start)
}

// Principal is on whose behalf something is done: a person, a program with a token, or a part of the service.
type Principal struct {
	Account string
	Token   string // the name of the token that was shown; empty for a person
	Role    Role
	Only    Limits
	From    string // network address; empty for the service itself
}

// Name is how a principal is recorded.
func (p Principal) Name() string {
	switch {
	case p.Token == "":
		return p.Account
	case strings.HasPrefix(p.Token, p.Account+"@"): // of a command line on some machine
		return p.Token
	}
	return p.Account + " (" + p.Token + ")"
}

// Refusal says that a principal may not do something.
type Refusal struct{ why string }

func (e *Refusal) Error() string { return e.why }

// May is a Refusal when the principal lacks a role.
func (p Principal) May(role Role) error {
	if p.Role.Includes(role) {
		return nil
	}
	return &Refusal{fmt.Sprintf("%s is %s; this needs %s", p.Name(), article(p.Role), article(role))}
}

// Reaches is a Refusal when an entity is beyond what the principal is limited to.
func (p Principal) Reaches(e site.Entity) error {
	if p.Only.Entity(e) {
		return nil
	}
	return &Refusal{fmt.Sprintf("%s is limited to %s; %s %s is not within", p.Name(), strings.Join(p.Only, ", "), e.Kind(), e.Key())}
}

// Permits is a Refusal when one of some changes to a site is beyond what the principal is limited to. A point of their own on a station of which
// they see nothing would be a way to all that this has.
func (p Principal) Permits(now *site.Site, changes []site.Change) error {
	if len(p.Only) == 0 {
		return nil
	}
	seen := map[string]bool{}
	for _, c := range changes {
		if point, is := c.After.(site.Point); is {
			sees, looked := seen[point.Station]
			if !looked {
				sees = p.Only.Sees(now, point.Station)
				seen[point.Station] = sees
			}
			if !sees {
				return &Refusal{fmt.Sprintf("%s is limited to %s; station %s has nothing of that", p.Name(), strings.Join(p.Only, ", "), point.Station)}
			}
		}
		for _, e := range []site.Entity{c.Before, c.After} {
			if e != nil {
				if err := p.Reaches(e); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func article(r Role) string {
	switch r {
	case Nobody:
		return "not signed in"
	case Operator, Engineer, Admin:
		return "an " + string(r)
	}
	return "a " + string(r)
}
