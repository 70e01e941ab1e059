package diagnose

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"arithmon/internal/core/failure"
	"arithmon/internal/core/site"
)

// What a far end does when nothing is asked tells what it is.
func TestAPlaceThatWasLookedAt(t *testing.T) {
	shut := silent(Counts{Requests: 5, Closed: 5})
	for _, c := range []struct {
		name  string
		place Place
		code  Code
		says  string
	}{
		{"it closes at once", Place{Closed: true, After: 3 * time.Millisecond}, ClosesConnection, "before anything is asked"},
		{"it speaks first", Place{Said: []byte("SSH-2.0-x")}, NotTheProtocol, "does not speak Modbus"},
		{"it takes TLS", Place{TLS: true}, TransportDiffers, "speaks TLS, and the link does not"},
		{"it waits to be asked", Place{}, ClosesConnection, "closes it when it is asked"},
	} {
		t.Run(c.name, func(t *testing.T) {
			l := link(func(l *Link) { l.Since, l.Looked, l.Place = Counts{Requests: 5, Closed: 5}, true, &c.place })
			f := one(t, l, station("a", 1, shut))
			assert.Equal(t, c.code, f.Code)
			assert.Contains(t, f.Cause.String(), c.says)
		})
	}
}

// Two links of the site to one device that takes one connection: the one that has it is named.
func TestAPlaceThatAnotherLinkHas(t *testing.T) {
	holds := link(func(l *Link) { l.Link.Name, l.Worked = "holder", true })
	served := station("b", 2, func(s *Station) { s.Station.Link = "holder" })
	closed := link(func(l *Link) { l.Since, l.Looked, l.Place = Counts{Requests: 5, Closed: 5}, true, &Place{Closed: true} })
	refused := link(func(l *Link) { l.Up, l.Down, l.Failure, l.Failures = false, true, failure.Refused, 3 })
	for code, l := range map[Code]Link{ClosesConnection: closed, ConnectionRefused: refused} {
		list := Find(Evidence{Links: []Link{l, holds}, Stations: []Station{station("a", 1, silent(Counts{Requests: 5, Closed: 5})), served}})
		assert.Equal(t, []Code{code}, codes(list))
		assert.Contains(t, list[0].Cause.String(), "serves link holder")
		assert.Equal(t, []Change{{site.KindStation, "a", map[string]any{"link": "holder"}}}, list[0].Next[0].Changes)
		// Where the unit is there already, no step moves it.
		twin := station("c", 1, func(s *Station) { s.Station.Link = "holder" })
		list = Find(Evidence{Links: []Link{l, holds}, Stations: []Station{station("a", 1, silent(Counts{Requests: 5, Closed: 5})), served, twin}})
		assert.Empty(t, list[0].Next[0].Changes)
	}
}

func TestASerialPortByItsRightName(t *testing.T) {
	l := link(func(l *Link) {
		serial(l)
		l.Up, l.Down, l.Failure, l.Failures, l.Port = false, true, failure.Port, 2, "/dev/ttyx"
	})
	f := one(t, l)
	assert.Equal(t, PortMissing, f.Code)
	assert.Equal(t, map[string]any{"serial": map[string]any{"device": "/dev/ttyx"}}, f.Next[0].Changes[0].Fields)
}

// Requests of another master explain what of damaged, foreign and doubled frames there is.
func TestAnotherMasterOnTheLine(t *testing.T) {
	l := link(func(l *Link) { serial(l); l.Counts = Counts{Answers: 90, Alien: 12, Checksums: 10} })
	odd := func(s *Station) { s.Counts.Stray, s.Counts.Checksums = 6, 5 }
	f := one(t, l, station("a", 1, odd), station("b", 2, odd))
	assert.Equal(t, TwoMasters, f.Code)
	assert.Equal(t, "bus", f.Subject)
}

func TestAUnitThatAnswersInstead(t *testing.T) {
	l := link(func(l *Link) { l.Found = []int{2, 7} })
	f := one(t, l, station("a", 1, silent(Counts{Requests: 9, Timeouts: 9})), station("b", 2, nil))
	assert.Equal(t, UnitSilent, f.Code)
	assert.Equal(t, map[string]any{"unit": 7}, f.Next[0].Changes[0].Fields)
	f = one(t, l, station("a", 1, silent(Counts{Requests: 9, Exceptions: map[int]int{11: 9}})), station("b", 2, nil))
	assert.Equal(t, GatewayTarget, f.Code)
	assert.Equal(t, map[string]any{"unit": 7}, f.Next[0].Changes[0].Fields)
	f = one(t, link(nil), station("a", 5, silent(Counts{Requests: 9, Timeouts: 9})))
	var units []any
	for _, s := range f.Next {
		for _, c := range s.Changes {
			units = append(units, c.Fields["unit"])
		}
	}
	assert.Equal(t, []any{255, 1}, units, "both that are usual")
}
