package engine

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/access"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/control"
	"arithmon/internal/record/store"
)

// memory are records of writes that are kept in memory.
type memory struct {
	refuse error
	begun  []store.WriteRecord
}

func (m *memory) BeginWrite(_ context.Context, w store.WriteRecord) (int64, error) {
	if m.refuse != nil {
		return 0, m.refuse
	}
	m.begun = append(m.begun, w)
	return int64(len(m.begun)), nil
}

func (*memory) EndWrite(context.Context, int64, store.WriteRecord) error { return nil }

func (*memory) Later(int64, store.WriteRecord) {}

// write writes a value by a controller of its own.
func write(e *Engine, tag string, v codec.Value) (control.Write, error) {
	return control.New(e, &memory{}, nil).Write(context.Background(), access.Principal{Account: "tester", Role: access.Engineer}, tag, v)
}

func TestWritesGoAheadOfPolls(t *testing.T) {
	p := newPlant()
	p.roundTrip = 600 * time.Millisecond
	run(t, build(t, 5, nil), p, func(t *testing.T, e *Engine) {
		time.Sleep(5 * time.Second) // five stations at 0.6 s: polls are always waiting
		began := len(p.order())
		var kept memory
		w, err := control.New(e, &kept, nil).Write(context.Background(), access.Principal{Account: "ann", Role: access.Engineer}, "st3/value", codec.TextValue("12"))
		require.NoError(t, err)
		assert.Equal(t, control.Done, w.Outcome)
		assert.Equal(t, codec.IntValue(12), p.written())
		require.Len(t, kept.begun, 1)
		assert.Equal(t, "ann", kept.begun[0].Who)
		assert.Equal(t, codec.IntValue(12), kept.begun[0].Sent, "recorded before it was sent")
		since := p.order()[began:]
		assert.Contains(t, since[:min(2, len(since))], "write", "after at most the exchange under way")
	})
}

func TestWritesThatAreRefused(t *testing.T) {
	p := newPlant()
	s := build(t, 1, nil)
	d := s.Edit()
	d.Add(site.Point{Tag: "fixed", Station: "st1", Address: site.Address{Space: site.HoldingRegisters, Offset: 3}})
	s = apply(t, nil, s, d)
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(time.Second)
		kept := memory{refuse: errors.New("disk full")} // what is refused is not recorded as sent
		c := control.New(e, &kept, nil)
		w, err := c.Write(context.Background(), access.Principal{Role: access.Engineer}, "fixed", codec.IntValue(1))
		require.NoError(t, err)
		assert.Equal(t, control.Refused, w.Outcome)
		assert.True(t, w.NotAllowed)
		w, err = c.Write(context.Background(), access.Principal{Role: access.Engineer}, "st1/value", codec.IntValue(70000))
		require.NoError(t, err)
		assert.Equal(t, control.Refused, w.Outcome)
		assert.Contains(t, w.Message, "70000 is out of the range of uint16 (0 to 65535)")
		_, err = c.Write(context.Background(), access.Principal{Role: access.Engineer}, "nothing", codec.IntValue(1))
		assert.ErrorIs(t, err, control.ErrNoPoint)
		_, err = c.Write(context.Background(), access.Principal{Role: access.Engineer}, "st1/value", codec.IntValue(1))
		assert.EqualError(t, err, "not sent, since it could not be recorded: disk full")
		assert.True(t, p.written().IsZero(), "what cannot be recorded is not sent")
	})
}

func TestCommandsToALinkThatIsDownOrDisabledSaySo(t *testing.T) {
	p := newPlant()
	p.refuse = errors.New("connection refused")
	s := build(t, 1, nil)
	run(t, s, p, func(t *testing.T, e *Engine) {
		time.Sleep(3 * time.Second)
		w, err := write(e, "st1/value", codec.IntValue(1))
		require.NoError(t, err)
		assert.Equal(t, control.Refused, w.Outcome)
		assert.Contains(t, w.Message, "link bus of station st1 is down: connection refused")
		_, err = e.ReadAddresses(context.Background(), "st1", site.Range{Start: site.Address{Space: site.Coils}, Count: 1})
		assert.ErrorContains(t, err, "is down")
		test, err := e.TestStation(context.Background(), "st1")
		require.NoError(t, err)
		assert.False(t, test.Answers)
		_, err = e.TestStation(context.Background(), "st9")
		assert.ErrorIs(t, err, ErrNoStation)

		d := s.Edit()
		l, _ := s.Link("bus")
		l.Enabled = false
		d.Put(l)
		s = apply(t, e, s, d)
		w, err = write(e, "st1/value", codec.IntValue(1))
		require.NoError(t, err)
		assert.Contains(t, w.Message, "link bus is disabled; enable it first")
	})
}
