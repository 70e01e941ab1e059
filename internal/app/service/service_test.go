package service

import (
	"bytes"
	"context"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/table"
	"arithmon/internal/record/database"
	"arithmon/internal/record/store"
)

func TestAServiceStartsAndStops(t *testing.T) {
	dir := t.TempDir()
	var log bytes.Buffer
	s, err := Start(t.Context(), Options{Dir: dir, Listen: "127.0.0.1:0", Log: slog.New(slog.NewTextHandler(&log, nil))})
	require.NoError(t, err)
	response, err := http.Get(s.URL + "/healthz")
	require.NoError(t, err)
	response.Body.Close()
	assert.Equal(t, 200, response.StatusCode)
	_, err = Start(t.Context(), Options{Dir: dir, Listen: "127.0.0.1:0"})
	assert.ErrorIs(t, err, database.ErrInUse)
	require.NoError(t, s.Stop())
	_, err = http.Get(s.URL + "/healthz")
	assert.Error(t, err, "it is closed")
	again, err := Start(t.Context(), Options{Dir: dir, Listen: "127.0.0.1:0"})
	require.NoError(t, err, "and gives its directory back")
	require.NoError(t, again.Stop())
}

func TestWhatKeepsAServiceFromStarting(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	dir := t.TempDir()
	_, err = Start(t.Context(), Options{Dir: dir, Listen: taken.Addr().String()})
	assert.ErrorContains(t, err, "is taken")
	_, err = Start(t.Context(), Options{Dir: t.TempDir(), Listen: "0.0.0.0:0"})
	assert.ErrorContains(t, err, "no accounts yet")
	require.NoError(t, os.WriteFile(filepath.Join(dir, database.FileName), []byte("nonsense"), 0o600))
	_, err = Start(t.Context(), Options{Dir: dir, Listen: "127.0.0.1:0"})
	assert.ErrorIs(t, err, database.ErrDamaged)
}

// Events reach the database, in their order, and what waits for that is told.
func TestEventsAreRecorded(t *testing.T) {
	s, err := Start(t.Context(), Options{Dir: t.TempDir(), Listen: "127.0.0.1:0"})
	require.NoError(t, err)
	defer s.Stop()
	_, _, err = s.Store.Modify(context.Background(), store.Edit{Who: "test"}, func(d *site.Draft, _ *site.Site) {
		l := site.NewLink()
		l.Name, l.Host, l.Enabled = "gate", "127.0.0.1", false
		d.Add(l)
		st := site.NewStation()
		st.Name, st.Link = "plc", "gate"
		d.Add(st)
		d.Add(site.Point{Tag: "a", Station: "plc", Address: site.Address{Space: site.HoldingRegisters}})
	})
	require.NoError(t, err)
	slot := s.Engine.Slot("a")
	require.NotNil(t, slot)
	for i := range 1000 {
		s.Engine.Emit([]table.Sample{{Slot: slot, Value: codec.UintValue(uint64(i)), Quality: reading.Good, Event: true}})
	}
	require.True(t, s.Engine.Events().Keep(30*time.Second))
	list, err := s.Store.Events(t.Context(), store.EventFilter{Limit: 2000})
	require.NoError(t, err)
	require.Len(t, list, 1000)
	for i, e := range list {
		assert.Equal(t, uint64(i+1), e.ID)
	}
}
