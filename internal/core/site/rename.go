package site

import (
	"slices"
	"strings"
)

// Names that entities give up and get, in whatever order that has to happen.

// origin is what an entity of the draft is called in the site; nothing for a new one.
func (d *Draft) origin(k key) key {
	if from, is := d.renamed[k]; is {
		return from
	}
	if _, there := d.base.Get(k.kind, k.name); there && !d.given[k] {
		return k
	}
	return key{}
}

// forget forgets that an entity was renamed.
func (d *Draft) forget(k key) {
	delete(d.given, d.renamed[k])
	delete(d.renamed, k)
}

// Replacement is an entity that takes the place of the one of its kind named Old.
type Replacement struct {
	Old string
	New Entity
}

// ReplaceAll is Replace for entities of which some may get a name that another one of them gives up, in whatever order they come.
func (d *Draft) ReplaceAll(list []Replacement) {
	frees := map[key]int{}
	for i, r := range list {
		if r.Old != r.New.Key() {
			frees[key{r.New.Kind(), r.Old}] = i
		}
	}
	list = slices.Clone(list)
	inTurns(len(list), func(i int) (int, bool) {
		other, taken := frees[key{list[i].New.Kind(), list[i].New.Key()}]
		return other, taken && list[i].Old != list[i].New.Key()
	}, func(i int) {
		list[i].Old = d.SetAside(list[i].New.Kind(), list[i].Old)
	}, func(i int) {
		d.Replace(list[i].Old, list[i].New)
	})
}

// inTurns does n things, each after the one that gives up the name that it needs. One of a circle that cannot wait is set aside first.
func inTurns(n int, needs func(i int) (other int, is bool), aside, do func(i int)) {
	state := make([]turn, n)
	var place func(i int)
	place = func(i int) {
		state[i] = underWay
		switch other, is := needs(i); {
		case !is || other == i:
		case state[other] == waits:
			place(other)
		case state[other] == underWay:
			aside(other)
		}
		do(i)
		state[i] = done
	}
	for i := range n {
		if state[i] == waits {
			place(i)
		}
	}
}

// SetAside gives an entity a name that nobody else needs, until it gets another or is removed, and says it.
func (d *Draft) SetAside(kind Kind, name string) string {
	e, there := d.Get(kind, name)
	if !there {
		return name
	}
	aside := waitingName(name)
	d.Replace(name, e.(member).called(aside))
	return aside
}

// inTurn orders changes so that one which gives up a name comes before the one that takes it. Entities that change places, two or more of them in a
// circle, take three steps: the first one waits under a name that is nobody's (Waiting), until its own is free.
func inTurn(list []Change) []Change {
	renames := func(c Change) bool { return c.Before != nil && c.After != nil && c.Before.Key() != c.After.Key() }
	frees := map[key]int{} // the change that gives up a name
	for i, c := range list {
		if renames(c) {
			frees[key{c.Kind(), c.Before.Key()}] = i
		}
	}
	if len(frees) == 0 {
		return list
	}
	list = slices.Clone(list)
	ordered := make([]Change, 0, len(list))
	inTurns(len(list), func(i int) (int, bool) {
		other, taken := frees[key{list[i].Kind(), list[i].subject().Key()}]
		return other, taken && list[i].After != nil
	}, func(i int) {
		beside := list[i].Before.(member).called(waitingName(list[i].Before.Key()))
		ordered = append(ordered, Change{list[i].Before, beside})
		list[i].Before = beside
	}, func(i int) {
		ordered = append(ordered, list[i])
	})
	return ordered
}

// turn is how far one of several renamings is.
type turn uint8

const (
	waits turn = iota
	underWay
	done
)

// waiting ends the names of entities that wait for that of another one. No entity of a site can be called so.
const waiting = "~"

func waitingName(name string) string { return name + waiting }

// Waiting reports whether a name is that of an entity which waits for its own.
func Waiting(name string) bool { return strings.HasSuffix(name, waiting) }

// GaveUp is the name that an entity which waits had before; of another, its own.
func GaveUp(name string) string { return strings.TrimSuffix(name, waiting) }

// Settled is what changes come to, without the steps that only make way for others: each entity once.
func Settled(list []Change) []Change {
	if !slices.ContainsFunc(list, func(c Change) bool { return c.After != nil && Waiting(c.After.Key()) }) {
		return list
	}
	settled, before := make([]Change, 0, len(list)), map[key]Entity{}
	for _, c := range list {
		if c.Before != nil {
			if was, waited := before[key{c.Kind(), c.Before.Key()}]; waited {
				delete(before, key{c.Kind(), c.Before.Key()})
				c.Before = was
			}
		}
		if c.After != nil && Waiting(c.After.Key()) {
			before[key{c.Kind(), c.After.Key()}] = c.Before
			continue
		}
		settled = append(settled, c)
	}
	return settled
}
