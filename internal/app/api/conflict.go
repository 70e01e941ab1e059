package api

import (
	"encoding/json"
	"fmt"
	"time"

	"arithmon/internal/core/merge"
	"arithmon/internal/core/site"
	"arithmon/internal/record/store"
)

// Conflict is a field, or an entity as a whole, that two people made something different of.
type Conflict struct {
	Kind   site.Kind  `json:"kind" enum:"template,link,station,point,board"`
	Name   string     `json:"name"`
	Field  string     `json:"field,omitempty" doc:"empty: the entity as a whole"`
	Was    any        `json:"was" doc:"what both began with; null for the default, or for nothing"`
	Theirs any        `json:"theirs" doc:"what it is now"`
	Mine   any        `json:"mine" doc:"what it would be"`
	Who    string     `json:"who,omitempty" doc:"who made it what it is now"`
	Time   *time.Time `json:"time,omitempty" doc:"and when"`
}

func newConflict(c merge.Conflict) Conflict {
	return Conflict{Kind: c.Kind, Name: c.Name, Field: c.Field, Was: orNull(c.Was), Theirs: orNull(c.Theirs), Mine: orNull(c.Mine)}
}

// orNull is JSON, null for nothing.
func orNull(text json.RawMessage) any {
	if text == nil {
		return nil
	}
	return text
}

// conflicting says that what somebody saves and what others changed since they looked do not go together without a choice.
type conflicting struct {
	conflicts []merge.Conflict
	since     []store.Record // newest first
}

func (e *conflicting) Error() string {
	c, first := e.conflicts[0], e.told()[0]
	text := fmt.Sprintf("%s %s: %s was changed meanwhile", c.Kind, c.Name, c.Field)
	if first.Who != "" {
		text += fmt.Sprintf(" by %s, from %s to %s; you have %s", first.Who, spoken(c.Was), spoken(c.Theirs), spoken(c.Mine))
	}
	if n := len(e.conflicts); n > 1 {
		text += fmt.Sprintf("; and %d more fields", n-1)
	}
	return text + ". Read it again, choose, and repeat the change"
}

// spoken is the value of a field in a message.
func spoken(value json.RawMessage) string {
	if value == nil {
		return "its default"
	}
	return string(value)
}

// told are the conflicts with who changed what since.
func (e *conflicting) told() []Conflict {
	return each(e.conflicts, func(c merge.Conflict) Conflict {
		out := newConflict(c)
		for _, r := range e.since {
			before, err := site.Decode(r.Kind, r.Before)
			if err != nil {
				continue
			}
			after, err := site.Decode(r.Kind, r.After)
			if err != nil {
				continue
			}
			for _, f := range merge.Fields(before, after) {
				if f.Name == c.Field && out.Who == "" {
					at := r.Time.UTC()
					out.Who, out.Time = r.Who, &at
				}
			}
		}
		return out
	})
}
