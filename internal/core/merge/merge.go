// Package merge puts together what two people made of one entity, field by field, and compares whole sites. It knows entities by the fields that they
// have in JSON. Pure.
package merge

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"arithmon/internal/core/document"
	"arithmon/internal/core/site"
)

// Field is a field in which two states of an entity differ; nil where it is not said, so that it has its default.
type Field struct {
	Name     string
	From, To json.RawMessage
}

// Fields lists the fields in which two entities of a kind differ, in the order in which they are declared.
func Fields(a, b site.Entity) []Field {
	var list []Field
	was, is := fieldsOf(a), fieldsOf(b)
	kind := site.Kind("")
	for _, e := range []site.Entity{a, b} {
		if e != nil {
			kind = e.Kind()
		}
	}
	if kind == "" {
		return nil
	}
	for _, name := range document.FieldNames(site.Fresh(kind)) {
		if !bytes.Equal(was[name], is[name]) {
			list = append(list, Field{name, was[name], is[name]})
		}
	}
	return list
}

func fieldsOf(e site.Entity) map[string]json.RawMessage {
	fields := map[string]json.RawMessage{}
	if e == nil {
		return fields
	}
	if text, err := json.Marshal(e); err == nil {
		_ = json.Unmarshal(text, &fields) // what was just marshalled is an object
	}
	return fields
}

// Conflict is a field, or an entity as a whole, that two people made something different of.
type Conflict struct {
	Kind   site.Kind
	Name   string
	Field  string          // empty: the entity as a whole
	Was    json.RawMessage // what both began with
	Theirs json.RawMessage // what it is now
	Mine   json.RawMessage // what it would be
}

// Chosen says what a conflict comes to: true, what it would be; false, what it is now. ok is false when nothing was chosen.
type Chosen func(c Conflict) (mine, ok bool)

// Choose takes one side of every conflict.
func Choose(mine bool) Chosen { return func(Conflict) (bool, bool) { return mine, true } }

// Entity puts together what was made of an entity: base is what both began with, now what it is, wanted what it is to be. What only one of them
// changed is as that one has it. Conflicts for which nothing was chosen are returned, and are as they are now in the result.
func Entity(base, now, wanted site.Entity, chosen Chosen) (merged site.Entity, conflicts []Conflict, err error) {
	kind := wanted.Kind()
	was, is, to := fieldsOf(base), fieldsOf(now), fieldsOf(wanted)
	merging := maps.Clone(is)
	for _, f := range Fields(base, wanted) {
		switch {
		case bytes.Equal(is[f.Name], to[f.Name]):
			continue
		case !bytes.Equal(is[f.Name], was[f.Name]):
			c := Conflict{kind, now.Key(), f.Name, was[f.Name], is[f.Name], to[f.Name]}
			mine, ok := choose(chosen, c)
			if !ok {
				conflicts = append(conflicts, c)
			}
			if !mine {
				continue
			}
		}
		if value := to[f.Name]; value != nil {
			merging[f.Name] = value
		} else {
			delete(merging, f.Name)
		}
	}
	text, err := json.Marshal(merging)
	if err != nil {
		return nil, nil, err
	}
	if merged, err = site.Decode(kind, text); err != nil {
		return nil, nil, fmt.Errorf("%s %s, put together: %w", kind, now.Key(), err)
	}
	return merged, conflicts, nil
}

func choose(chosen Chosen, c Conflict) (mine, ok bool) {
	if chosen == nil {
		return false, false
	}
	return chosen(c)
}

// Into puts changes into a draft of a site that may have changed since they were made. What only they change is as they say; where somebody else
// changed the same, it is as chosen. Conflicts for which nothing was chosen are returned, and nothing of them is in the draft.
func Into(d *site.Draft, changes []site.Change, chosen Chosen) (conflicts []Conflict, err error) {
	// Names are given up before others get them: by what is removed, where that comes first, and then by what gets others, what it belongs to first.
	kinds := site.Kinds()
	turn := func(c site.Change) int {
		switch {
		case c.Action() == site.Remove && changes[0].Action() == site.Remove:
			return 0
		case c.Action() == site.Modify && c.Before.Key() != c.After.Key():
			return 1 + 2*slices.Index(kinds, c.Kind())
		case c.Action() == site.Modify:
			return 2 + 2*slices.Index(kinds, c.Kind())
		case c.Action() == site.Add:
			return 1 + 2*len(kinds)
		}
		return 2 + 2*len(kinds)
	}
	inTurn := slices.SortedStableFunc(slices.Values(changes), func(a, b site.Change) int { return turn(a) - turn(b) })
	var renames []site.Replacement // of one kind
	for i, c := range inTurn {
		if i > 0 && turn(c) != turn(inTurn[i-1]) {
			d.ReplaceAll(renames)
			renames = nil
		}
		found, err := into(d, c, chosen, &renames)
		if err != nil {
			return nil, err
		}
		conflicts = append(conflicts, found...)
	}
	d.ReplaceAll(renames)
	return conflicts, nil
}

// into puts one change into a draft, or to those in which something gets another name.
func into(d *site.Draft, c site.Change, chosen Chosen, renames *[]site.Replacement) ([]Conflict, error) {
	kind := c.Kind()
	whole := func(name string, now site.Entity, do func()) ([]Conflict, error) {
		conflict := Conflict{Kind: kind, Name: name, Was: text(c.Before), Theirs: text(now), Mine: text(c.After)}
		mine, ok := choose(chosen, conflict)
		if !ok {
			return []Conflict{conflict}, nil
		}
		if mine {
			do()
		}
		return nil, nil
	}
	switch c.Action() {
	case site.Add:
		now, there := d.Get(kind, c.After.Key())
		if !there {
			d.Add(c.After)
		} else if len(Fields(now, c.After)) > 0 {
			return whole(c.After.Key(), now, func() { d.Put(c.After) })
		}
	case site.Remove:
		now, there := d.Get(kind, c.Before.Key())
		if there && len(Fields(now, c.Before)) > 0 {
			return whole(c.Before.Key(), now, func() { d.Remove(kind, c.Before.Key(), true) })
		}
		if there {
			d.Remove(kind, c.Before.Key(), true)
		}
	default:
		now, there := d.Get(kind, c.Before.Key())
		if !there && c.Before.Key() != c.After.Key() {
			if now, there = d.Get(kind, c.After.Key()); there { // renamed likewise meanwhile
				merged, conflicts, err := Entity(c.Before, now, c.After, chosen)
				if err == nil {
					d.Put(merged)
				}
				return conflicts, err
			}
		}
		if !there {
			return whole(c.Before.Key(), nil, func() { d.Add(c.After) })
		}
		merged, conflicts, err := Entity(c.Before, now, c.After, chosen)
		if err != nil {
			return nil, err
		}
		if now.Key() == merged.Key() {
			d.Put(merged)
		} else {
			*renames = append(*renames, site.Replacement{Old: now.Key(), New: merged})
		}
		return conflicts, nil
	}
	return nil, nil
}

// text is an entity as JSON, nil for none.
func text(e site.Entity) json.RawMessage {
	if e == nil {
		return nil
	}
	b, err := json.Marshal(e)
	if err != nil {
		return nil
	}
	return b
}

// Same says what an entity of one site is called in another; false when it is not there.
type Same func(kind site.Kind, name string) (string, bool)

// Sites lists what leads from one site to another, by kind and name. An entity is the same when it is called the same, or when same says so.
func Sites(a, b *site.Site, same Same) []site.Change {
	var list []site.Change
	for _, kind := range site.Kinds() {
		seen := map[string]bool{}
		for _, name := range a.Names(kind) {
			before, _ := a.Get(kind, name)
			to := name
			if same != nil {
				if other, known := same(kind, name); known {
					to = other
				}
			}
			after, there := b.Get(kind, to)
			if there && seen[to] {
				there = false
			}
			if !there {
				list = append(list, site.Change{Before: before})
				continue
			}
			seen[to] = true
			if len(Fields(before, after)) > 0 {
				list = append(list, site.Change{Before: before, After: after})
			}
		}
		for _, name := range b.Names(kind) {
			if !seen[name] {
				after, _ := b.Get(kind, name)
				list = append(list, site.Change{After: after})
			}
		}
	}
	return list
}
