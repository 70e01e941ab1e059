package modbus

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"arithmon/internal/check/e2e/farend"
)

// trialReadings is how many readings a trial asks for: TRIAL_READINGS, or few.
func trialReadings(few int) int {
	if n, err := strconv.Atoi(os.Getenv("TRIAL_READINGS")); err == nil {
		return n
	}
	return few
}

// trialSeed is TRIAL_SEED, or one that is always the same.
func trialSeed() uint64 {
	if n, err := strconv.ParseUint(os.Getenv("TRIAL_SEED"), 10, 64); err == nil {
		return n
	}
	return 1
}

// weather is how a path and the device behind it behave.
type weather struct {
	name              string
	delay             func(*rand.Rand) time.Duration // of a response
	lost, twice, cut  float64                        // shares of requests, or of responses
	stall, stallEvery time.Duration
	reorder           bool
	secondAfter       time.Duration // at most, of a response that comes twice
}

func between(lo, hi time.Duration) func(*rand.Rand) time.Duration {
	return func(r *rand.Rand) time.Duration { return lo + time.Duration(r.Int64N(int64(hi-lo)+1)) }
}

// trialTimeout is that of all trials.
const trialTimeout = 400 * time.Millisecond

var weathers = []weather{
	{name: "fast", delay: between(time.Millisecond, 20*time.Millisecond)},
	{name: "always slower than the timeout", delay: between(900*time.Millisecond, 900*time.Millisecond)},
	{name: "at random", delay: between(10*time.Millisecond, 600*time.Millisecond)},
	{name: "a stall now and then", delay: between(5*time.Millisecond, 30*time.Millisecond), stall: 1300 * time.Millisecond, stallEvery: 5 * time.Second},
	{name: "long stalls", delay: between(5*time.Millisecond, 30*time.Millisecond), stall: 3300 * time.Millisecond, stallEvery: 20 * time.Second},
	{name: "losses", delay: between(5*time.Millisecond, 60*time.Millisecond), lost: 0.1},
	{name: "answers twice", delay: between(5*time.Millisecond, 60*time.Millisecond), twice: 0.1, secondAfter: 800 * time.Millisecond},
	{name: "cut frames", delay: between(5*time.Millisecond, 60*time.Millisecond), cut: 0.1},
	{name: "everything", delay: between(5*time.Millisecond, 700*time.Millisecond), lost: 0.05, twice: 0.05, cut: 0.05, stall: 2 * time.Second, stallEvery: 15 * time.Second, secondAfter: 2 * time.Second},
	{name: "another order", delay: between(5*time.Millisecond, 900*time.Millisecond), lost: 0.05, twice: 0.05, reorder: true, secondAfter: 2 * time.Second},
}

// trialDevice answers reads of holding registers with what tells where a value is from and when it was: the address in the high byte,
// and in the low byte the number of the request. It answers in order, unless the weather changes that.
type trialDevice struct {
	mu      sync.Mutex // guards what follows
	framing string
	w       weather
	random  *rand.Rand
	conn    *farend.Conn
	last    int // highest address
	free    time.Time
	stalls  time.Time
	n       int
	at      [256]time.Time // when a number was given
}

func (d *trialDevice) asked(b []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := time.Now()
	id, body := farend.Request(d.framing, b)
	if d.random.Float64() < d.w.lost/2 {
		return
	}
	ready := now.Add(d.w.delay(d.random))
	if d.w.stall > 0 && now.After(d.stalls) {
		d.stalls = now.Add(d.w.stallEvery)
		ready = ready.Add(d.w.stall)
	}
	if !d.w.reorder && ready.Before(d.free) {
		ready = d.free.Add(time.Millisecond)
	}
	d.free = ready
	conn := d.conn
	time.AfterFunc(ready.Sub(now), func() { d.answer(conn, id, body) })
}

// answer reads the registers and says them; what it reads is true now.
func (d *trialDevice) answer(conn *farend.Conn, id [2]byte, body []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	first, count := int(binary.BigEndian.Uint16(body[2:])), int(binary.BigEndian.Uint16(body[4:]))
	say := []byte{body[0], body[1] | 0x80, 2}
	if first+count-1 <= d.last {
		d.n++
		d.at[d.n%256] = time.Now()
		say = []byte{body[0], body[1], byte(2 * count)}
		for i := range count {
			say = append(say, byte(first+i), byte(d.n))
		}
	}
	frame := farend.Frame(d.framing, id, say)
	switch {
	case d.random.Float64() < d.w.lost/2:
		return
	case d.random.Float64() < d.w.cut:
		frame = frame[:1+d.random.IntN(len(frame)-1)]
	}
	conn.Say(frame)
	if d.random.Float64() < d.w.twice {
		time.AfterFunc(time.Duration(d.random.Int64N(int64(d.w.secondAfter))), func() { conn.Say(frame) })
	}
}

// tally is what came of a trial.
type tally struct{ asked, good, failed, put, wrong, old int }

// TestTrialOfReadings: whatever comes late, twice, cut or not at all, no data are taken for those of other addresses or of another time.
func TestTrialOfReadings(t *testing.T) {
	framings := []struct {
		name, framing string
		datagrams     bool
	}{{"rtu, stream", "rtu", false}, {"ascii, stream", "ascii", false}, {"rtu, datagrams", "rtu", true}, {"ascii, datagrams", "ascii", true}, {"mbap, datagrams", "mbap", true}, {"mbap, stream", "mbap", false}}
	each := trialReadings(30_000) / (len(framings) * len(weathers) * 2)
	for _, f := range framings {
		for _, w := range weathers {
			if w.reorder && !f.datagrams { // a stream keeps its order, and a device answers in turn
				continue
			}
			if f.framing == "mbap" && !f.datagrams && w.cut > 0 { // one byte that is missing within a stream is told only by the next response
				w.twice = 0
			}
			for _, spare := range []uint16{mostSpareOfTrial, 0} {
				t.Run(fmt.Sprintf("%s, %s, spare %d", f.name, w.name, spare), func(t *testing.T) {
					synctest.Test(t, func(t *testing.T) {
						got := trialOf(f.framing, f.datagrams, w, spare, each)
						t.Logf("%+v", got)
						require.Zero(t, got.wrong, "data of other addresses")
						require.Zero(t, got.old, "data from before the request")
						if w.name == "fast" {
							require.Equal(t, got.asked, got.good, "what comes in time is never rejected")
						}
						if f.framing != "mbap" || w.name != "always slower than the timeout" { // responses with identifiers are late, and known as such
							require.Greater(t, got.good, got.asked/10)
						}
					})
				})
			}
		}
	}
}

const mostSpareOfTrial = 32

func trialOf(framing string, datagrams bool, w weather, spare uint16, each int) (got tally) {
	d := &trialDevice{framing: framing, w: w, random: rand.New(rand.NewPCG(trialSeed(), uint64(each))), last: 255}
	open := func() *Client {
		d.conn = farend.NewConn(datagrams)
		d.conn.Asked = d.asked
		return NewClient(d.conn, ClientOptions{Framing: Framings[framing], Gap: 30 * time.Millisecond, Datagrams: datagrams})
	}
	c := open()
	blocks := []struct{ first, count uint16 }{{0, 4}, {20, 4}, {40, 4}, {60, 8}, {100, 1}}
	for got.asked < each {
		for _, b := range blocks {
			r := Request{Function: ReadHoldingRegisters, Address: b.first, Quantity: b.count, Spare: spare}
			for range 2 {
				got.asked++
				began := time.Now()
				answer, err := c.Exchange(1, r, trialTimeout)
				var unsettled *UnsettledError
				if errors.As(err, &unsettled) {
					time.Sleep(100 * time.Millisecond)
					got.asked--
					got.put++
					break
				}
				if err != nil {
					if got.failed++; errors.Is(err, ErrClosed) {
						c = open()
					}
					continue
				}
				got.good++
				d.mu.Lock()
				at := d.at[answer.Data[1]]
				d.mu.Unlock()
				wrong, old := false, at.Before(began) || answer.At.Before(at)
				for i := range int(b.count) {
					wrong = wrong || answer.Data[2*i] != byte(int(b.first)+i) || answer.Data[2*i+1] != answer.Data[1]
				}
				if wrong {
					got.wrong++
				} else if old {
					got.old++
				}
				break
			}
		}
		time.Sleep(200 * time.Millisecond)
	}
	time.Sleep(time.Minute) // lets what is on its way come
	return got
}
