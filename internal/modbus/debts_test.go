package modbus

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A device that is slower than the timeout answers one request while the next is under way. Without identifiers the answers look
// alike; none may be taken for another's.
func TestALateAnswerIsNotTakenForAnotherBlock(t *testing.T) {
	const timeout = 400 * time.Millisecond
	for _, slow := range []time.Duration{530 * time.Millisecond, 690 * time.Millisecond} {
		t.Run(slow.String(), func(t *testing.T) {
			t.Parallel()
			late := 0
			c := serveAs(t, ClientOptions{Framing: RTU, Watch: func(e Event) {
				if e.Kind == EventLate {
					late++
					assert.Greater(t, e.After, timeout)
				}
			}}, func(_ byte, pdu []byte) Reply {
				return Reply{PDU: []byte{3, 2, pdu[1], pdu[2]}, Delay: slow}
			})
			good := 0
			for i := range 4 {
				at := uint16(100 * (i % 3))
				for range 2 { // a request that failed is repeated
					data, err := c.Do(1, readOne(at), timeout)
					if err == nil {
						good++
						assert.Equal(t, at, Word(data, 0))
						break
					}
					require.ErrorIs(t, err, ErrTimeout)
				}
			}
			assert.GreaterOrEqual(t, good, 2)
			assert.GreaterOrEqual(t, late, 2, "and that it is too slow is known")
		})
	}
}

// Of a unit that is known to answer fast, a request that got lost leaves no debt.
func TestALostRequestIsNotWaitedFor(t *testing.T) {
	n := 0
	c := serveAs(t, ClientOptions{Framing: RTU}, func(_ byte, pdu []byte) Reply {
		if n++; n == 5 {
			return Reply{}
		}
		return Reply{PDU: []byte{3, 2, pdu[1], pdu[2]}}
	})
	for i := range 4 {
		_, err := c.Do(1, readOne(uint16(i)), time.Second)
		require.NoError(t, err)
	}
	c.debts.paces[1] = pace{usual: time.Hour} // whatever the machine does meanwhile, what comes next is as usual
	_, err := c.Do(1, readOne(9), 30*time.Millisecond)
	require.ErrorIs(t, err, ErrTimeout)
	require.Len(t, c.debts.owed, 1)
	_, err = c.Do(1, readOne(9), time.Second)
	require.NoError(t, err)
	assert.Empty(t, c.debts.owed)
	assert.Zero(t, c.Counters.Late.Load())
	answer, err := c.Exchange(1, readOne(3), time.Second)
	require.NoError(t, err)
	assert.Zero(t, answer.Took, "nothing was waited for before")
}

func TestDebts(t *testing.T) {
	now := time.Now()
	ms := func(n int) time.Time { return now.Add(time.Duration(n) * time.Millisecond) }
	read := func(f Function, at, n uint16) Request { return Request{Function: f, Address: at, Quantity: n} }
	a, b, c := read(ReadHoldingRegisters, 0, 2), read(ReadHoldingRegisters, 100, 2), read(ReadHoldingRegisters, 0, 3)
	answer := Frame{Unit: 1, PDU: []byte{3, 4, 0, 1, 0, 2}}

	var d debts
	assert.Zero(t, d.until(1, b), "nothing is owed")
	d.miss(1, a, now, time.Second)
	assert.Equal(t, ms(2000), d.until(1, b))
	assert.Zero(t, d.until(2, b), "by another unit")
	assert.Zero(t, d.until(1, a), "the same request takes either answer")
	assert.Zero(t, d.until(1, c), "an answer of another length is told from it")
	assert.Zero(t, d.until(1, read(ReadInputRegisters, 0, 2)), "or of another function")
	_, late := d.late(Frame{Unit: 1, PDU: []byte{3, 2, 0, 1}}, ms(1200))
	assert.False(t, late, "that does not answer it")
	after, late := d.late(answer, ms(1200))
	assert.True(t, late)
	assert.Equal(t, 1200*time.Millisecond, after)
	_, late = d.late(answer, ms(1300))
	assert.False(t, late, "it is paid")
	d.miss(1, a, now, time.Second)
	_, late = d.late(Frame{Unit: 1, PDU: []byte{0x83, 2}}, ms(1200))
	assert.True(t, late, "a refusal pays, too")
	d.miss(1, a, now, time.Second)
	_, late = d.late(answer, ms(10_000))
	assert.False(t, late, "too long ago")

	d = debts{}
	whose, _ := d.answered(1, b, now, ms(30))
	assert.Equal(t, ours, whose)
	d.miss(1, a, ms(100), time.Second)
	whose, _ = d.answered(1, b, ms(1100), ms(1130))
	assert.Equal(t, ours, whose, "as fast as usual: it is the one to this request")
	assert.Empty(t, d.owed)
	d.miss(1, a, ms(2000), time.Second)
	whose, after = d.answered(1, a, ms(3000), ms(3400))
	assert.Equal(t, again, whose, "far slower than usual")
	assert.Equal(t, 1400*time.Millisecond, after)
	assert.Equal(t, ms(3400+2*1400), d.until(1, b), "then the one to this request is owed")
	whose, after = d.answered(1, b, ms(7000), ms(7900))
	assert.Equal(t, another, whose, "though it is not waited for any more, it may be that one")
	assert.Equal(t, 4500*time.Millisecond, after, "since it answered last")
	whose, _ = d.answered(1, b, ms(7000), ms(8000))
	assert.Equal(t, ours, whose)

	d = debts{} // two that are owed come one after the other
	d.miss(1, a, now, time.Second)
	d.miss(1, a, ms(1000), time.Second)
	_, late = d.late(answer, ms(2500))
	assert.True(t, late)
	assert.Equal(t, ms(7500), d.until(1, b), "as slowly as the first")
	_, late = d.late(answer, ms(5000))
	assert.True(t, late)
	assert.Empty(t, d.owed)
	for i := range 2 * mostDebts {
		d.miss(1, a, ms(5000+i), time.Second)
	}
	assert.Len(t, d.owed[1], mostDebts)

	bits := read(ReadCoils, 0, 9)
	assert.True(t, bits.alike(read(ReadCoils, 50, 16)), "both have two bytes")
	assert.False(t, bits.alike(read(ReadCoils, 50, 17)))
	assert.False(t, Request{Function: WriteSingleRegister}.alike(Request{Function: WriteSingleRegister}), "an answer to a write says to which")
}
