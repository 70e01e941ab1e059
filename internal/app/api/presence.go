package api

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"

	"arithmon/internal/core/access"
	"arithmon/internal/core/site"
	"arithmon/internal/record/store"
)

// Person is somebody who looks at the service.
type Person struct {
	ID      int64      `json:"id" doc:"of the page that is open"`
	Name    string     `json:"name"`
	Page    string     `json:"page" doc:"which page they are on"`
	Editing *EntityRef `json:"editing,omitempty" doc:"what they edit"`
	Since   time.Time  `json:"since"`
	Here    bool       `json:"here,omitempty" doc:"it is the one that asks"`
}

// EntityRef names an entity.
type EntityRef struct {
	Kind site.Kind `json:"kind" enum:"template,link,station,point,board"`
	Name string    `json:"name"`
}

// Whereabouts is what a page says of where somebody is.
type Whereabouts struct {
	Page    string     `json:"page"`
	Editing *EntityRef `json:"editing,omitempty"`
}

// ChangedTogether is a change set that somebody finished.
type ChangedTogether struct {
	ID      int64        `json:"id"`
	Who     string       `json:"who"`
	Time    time.Time    `json:"time"`
	Changes []ChangeLine `json:"changes" doc:"the first of them"`
	Count   int          `json:"count"`
}

// TogetherMessage says who is here, or what was changed.
type TogetherMessage struct {
	People  []Person          `json:"people,omitempty" doc:"everybody who is here now"`
	Changed []ChangedTogether `json:"changed,omitempty" doc:"change sets that were finished since the last message"`
	Alarms  bool              `json:"alarms,omitempty" doc:"true: something happened to alarms since the last message"`
}

// Bounds of what is told.
const (
	maxWhere      = 300
	toldOfSet     = 200 // changes of one set
	mostPeople    = 500
	tellAgain     = 5 * time.Second        // after what was changed could not be read
	presenceEvery = 100 * time.Millisecond // what happens within is told together
)

// company is everybody who is here, and what is changed meanwhile.
type company struct {
	mu     sync.Mutex
	last   int64
	people map[*guest]Person
}

// guest is one page that is open.
type guest struct {
	who     access.Principal
	news    chan struct{} // has one when there is something to tell
	pending []toldSet
	moved   bool // somebody came, went, or is elsewhere
}

// toldSet is a change set with what it changes, for those who may see it.
type toldSet struct {
	set     ChangedTogether
	records []store.Record
}

// join lets a page be seen by the others.
func (k *company) join(who access.Principal) *guest {
	g := &guest{who: who, news: make(chan struct{}, 1), moved: true}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.people == nil {
		k.people = map[*guest]Person{}
	}
	k.last++
	k.people[g] = Person{ID: k.last, Name: who.Name(), Since: time.Now().UTC()}
	k.stir()
	return g
}

func (k *company) leave(g *guest) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.people, g)
	k.stir()
}

// is says where somebody is.
func (k *company) is(g *guest, at Whereabouts) {
	k.mu.Lock()
	defer k.mu.Unlock()
	p := k.people[g]
	p.Page, p.Editing = at.Page[:min(len(at.Page), maxWhere)], at.Editing
	if p.Editing != nil && (len(p.Editing.Name) > maxWhere || !slices.Contains(site.Kinds(), p.Editing.Kind)) {
		p.Editing = nil
	}
	k.people[g] = p
	k.stir()
}

// stir has everybody look again. The lock is held.
func (k *company) stir() {
	for g := range k.people {
		g.moved = true
		wake(g)
	}
}

func wake(g *guest) {
	select {
	case g.news <- struct{}{}:
	default:
	}
}

// changed tells everybody of change sets.
func (k *company) changed(list []toldSet) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for g := range k.people {
		g.pending = append(g.pending, list...)
		wake(g)
	}
}

// tell is what a guest is to be told, as far as they may see it.
func (k *company) tell(g *guest, now *site.Site) (m TogetherMessage) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if g.moved {
		g.moved = false
		m.People = make([]Person, 0, len(k.people))
		for other, p := range k.people {
			p.Here = other == g
			if p.Editing != nil && len(g.who.Only) > 0 {
				if e, there := now.Get(p.Editing.Kind, p.Editing.Name); !there || !g.who.Only.Entity(e) {
					p.Editing = nil
				}
			}
			m.People = append(m.People, p)
		}
		slices.SortFunc(m.People, func(a, b Person) int { return int(a.ID - b.ID) })
		m.People = m.People[:min(len(m.People), mostPeople)]
	}
	for _, t := range g.pending {
		set := t.set
		set.Changes = []ChangeLine{}
		for _, r := range t.records {
			if site.Waiting(r.Name) || len(g.who.Only) > 0 && !recorded(g.who.Only, r) {
				continue
			}
			set.Changes = append(set.Changes, ChangeLine{Action: r.Action, Kind: r.Kind, Name: r.Name})
		}
		if len(set.Changes) > 0 || set.Count > len(t.records) { // the rest may be theirs, too
			m.Changed = append(m.Changed, set)
		}
	}
	g.pending = nil
	return m
}

// presence shows somebody to the others, and the others to them, and tells of what is changed.
func (s *Server) presence(c *gin.Context) error {
	g := s.company.join(principal(c))
	defer s.company.leave(g)
	conn, ctx, end, ok, err := socket(c, "who is here is followed over a WebSocket (RFC 6455)", func(data []byte) error {
		var at Whereabouts
		if err := json.Unmarshal(data, &at); err != nil {
			return errors.New("send {\"page\": …}")
		}
		s.company.is(g, at)
		return nil
	})
	if !ok {
		return err
	}
	defer end()
	alarms := s.alarms.Changed()
	for {
		var m TogetherMessage
		select {
		case <-ctx.Done():
			return nil
		case <-s.closing:
			conn.Close(websocket.StatusGoingAway, "the service ends")
			return nil
		case <-g.news:
			m = s.company.tell(g, s.store.Site())
		case <-alarms:
			alarms, m.Alarms = s.alarms.Changed(), true
		}
		if m.People == nil && m.Changed == nil && !m.Alarms {
			continue
		}
		data, err := json.Marshal(m)
		if err != nil {
			return nil
		}
		writing, done := context.WithTimeout(ctx, 30*time.Second)
		err = conn.Write(writing, websocket.MessageText, data)
		done()
		if err != nil {
			return nil
		}
		select { // what comes at once is told together
		case <-ctx.Done():
		case <-s.closing:
		case <-time.After(presenceEvery):
		}
	}
}

// Follow tells those who are here of what is changed, until ctx ends.
func (s *Server) Follow(ctx context.Context) {
	db := s.store.Database()
	last, err := s.store.LatestChange(ctx)
	for {
		if err != nil { // a disk that fails may do so for a while
			if ctx.Err() == nil {
				s.log.Error("what is changed is not told to those who are here; it is tried again", "error", err)
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(tellAgain):
			}
			err = nil
		}
		more := db.Committed()
		var list []store.ChangeSet
		if list, last, err = s.store.SetsAfter(ctx, last, toldOfSet); err != nil {
			continue
		}
		sets := make([]toldSet, len(list))
		for i, set := range list {
			sets[i] = toldSet{ChangedTogether{ID: set.ID, Who: set.Who, Time: set.Time, Count: set.Count}, set.First}
		}
		if len(sets) > 0 {
			s.company.changed(sets)
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-more:
		}
	}
}
