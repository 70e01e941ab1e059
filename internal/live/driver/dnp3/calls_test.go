package dnp3

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/live/link"
)

// A station that is to call in is not asked while it has not, and not after it has hung up; both are told as what they are, and no request counts.
func TestAStationThatCallsInAndHangsUp(t *testing.T) {
	address := 10
	st := site.NewStation()
	st.Name, st.Link, st.Outstation = "rtu", "yard", &address
	table, station := link.NewBench(st, []site.Point{site.Point{Tag: "closed", Station: "rtu", Address: site.Address{Space: site.BinaryInputs}}.WithDefaults()})
	h := &hurrying{host: &host{Host: table, notes: map[diagnose.NoteKind]diagnose.Note{}}}
	l := site.NewLink()
	l.Name, l.Protocol, l.Listen, l.Timeout = "yard", site.DNP3, "127.0.0.1:0", site.Duration(250*time.Millisecond)
	l = l.WithDefaults()
	driver := New()
	opened, err := driver.Open(t.Context(), l, h)
	require.NoError(t, err)
	s := opened.(*session)
	defer s.Close()
	s.Follow(station)
	s.Begin()
	jobs := driver.Jobs(l, station)

	out := s.Do(jobs[0])
	assert.True(t, out.Absent)
	assert.Equal(t, reading.LinkDown, out.Reason)
	assert.Empty(t, h.notes, "it may still call in")
	s.waiting = time.Now().Add(-time.Minute)
	require.ErrorIs(t, s.Do(jobs[0]).Err, errNotCalled)
	assert.Contains(t, h.notes[diagnose.NoteNotCalled].Text, "nothing has connected to 127.0.0.1:0 for 1m0s")

	conn, err := net.Dial("tcp", s.listener.Addr().String())
	require.NoError(t, err)
	served := make(chan bool)
	far := &script{says: usual}
	go func() { far.serve(conn); close(served) }()
	require.Eventually(t, func() bool { return s.Do(jobs[0]).Err == nil }, 5*time.Second, time.Millisecond, "it is recognised by what it answers when it is asked for its link status")
	h.mu.Lock()
	assert.Empty(t, h.notes[diagnose.NoteNotCalled].Text)
	h.mu.Unlock()

	conn.Close()
	<-served
	require.Eventually(t, func() bool { return s.Do(jobs[0]).Absent }, 5*time.Second, time.Millisecond)
	s.remotes["rtu"].mu.Lock()
	s.remotes["rtu"].left = time.Now().Add(-time.Minute)
	s.remotes["rtu"].mu.Unlock()
	require.ErrorIs(t, s.Do(jobs[0]).Err, errHungUp)
	_, err = s.Test(station.Station)
	require.ErrorIs(t, err, errHungUp)
	h.mu.Lock()
	defer h.mu.Unlock()
	assert.Contains(t, h.notes[diagnose.NoteNotCalled].Text, "connections that came in to 127.0.0.1:0: 1, the last from 127.0.0.1:")
	assert.EqualValues(t, 1, h.notes[diagnose.NoteNotCalled].Number)
}
