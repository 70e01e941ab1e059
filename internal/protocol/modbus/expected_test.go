package modbus

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"math/big"
	"net"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/check/e2e/farend"
)

// A device that is slower than the timeout answers one request while the next is under way. Without identifiers the responses look
// alike; none may be taken for another's, and the device is read all the same, with more patience.
func TestALateAnswerIsNotTakenForAnotherBlock(t *testing.T) {
	const timeout = 60 * time.Millisecond
	for _, slow := range []time.Duration{80 * time.Millisecond, 140 * time.Millisecond} {
		t.Run(slow.String(), func(t *testing.T) {
			late := 0
			c := serveAs(t, ClientOptions{Framing: RTU, Watch: func(e Event) {
				if e.Kind == EventLate {
					late++
					assert.Greater(t, e.After, timeout)
				}
			}}, func(_ byte, pdu []byte) Reply {
				answer := []byte{3, 2 * pdu[4]}
				for range pdu[4] {
					answer = append(answer, pdu[1], pdu[2])
				}
				return Reply{PDU: answer, Delay: slow}
			})
			good := 0
			for i := range 6 {
				r := readOne(uint16(100 * (i % 3)))
				r.Spare = 16
				for range 3 { // a request that failed is repeated
					answer, err := c.Exchange(1, r, timeout)
					if err == nil {
						good++
						assert.Equal(t, r.Address, Word(answer.Data, 0))
						assert.Len(t, answer.Data, 2, "what was read along is dropped")
						break
					}
					require.ErrorIs(t, err, ErrTimeout)
				}
			}
			assert.GreaterOrEqual(t, good, 5)
			assert.GreaterOrEqual(t, late, 2, "and that it is too slow is known")
		})
	}
}

// certificate is one for tests.
func certificate(t *testing.T) tls.Certificate {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &key.PublicKey, key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// pair is a connection of a kind, with its far end.
func pair(t *testing.T, kind string) (near, far net.Conn) {
	if kind == "udp" {
		far, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		near, err := net.DialUDP("udp", nil, far.LocalAddr().(*net.UDPAddr))
		require.NoError(t, err)
		far.Close()
		far, err = net.DialUDP("udp", far.LocalAddr().(*net.UDPAddr), near.LocalAddr().(*net.UDPAddr))
		require.NoError(t, err)
		return near, far
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	near, err = net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	far, err = listener.Accept()
	require.NoError(t, err)
	if kind == "tls" {
		server, client := tls.Server(far, &tls.Config{Certificates: []tls.Certificate{certificate(t)}}), tls.Client(near, &tls.Config{InsecureSkipVerify: true})
		done := make(chan error, 1)
		go func() { done <- server.HandshakeContext(context.Background()) }()
		require.NoError(t, client.HandshakeContext(context.Background()))
		require.NoError(t, <-done)
		return client, server
	}
	return near, far
}

// What came before a request cannot be its response, whatever deadline has passed meanwhile, and over whatever transport.
func TestWhatCameBeforeARequestIsDropped(t *testing.T) {
	for _, kind := range []string{"tcp", "tls", "udp"} {
		t.Run(kind, func(t *testing.T) {
			near, far := pair(t, kind)
			defer near.Close()
			defer far.Close()
			var seen []EventKind
			c := NewClient(near, ClientOptions{Framing: RTU, Datagrams: kind == "udp", Watch: func(e Event) { seen = append(seen, e.Kind) }})
			say := func(value byte) {
				_, err := far.Write(farend.Frame("rtu", [2]byte{}, []byte{1, 3, 2, 0, value}))
				require.NoError(t, err)
			}
			answers := func(value byte, times int) {
				b := make([]byte, 64)
				_, err := far.Read(b)
				assert.NoError(t, err)
				for range times {
					say(value)
				}
			}
			go answers(1, 2) // the first one comes twice
			const timeout = 40 * time.Millisecond
			answer, err := c.Exchange(1, readOne(0), timeout)
			require.NoError(t, err)
			require.Equal(t, uint16(1), Word(answer.Data, 0))
			<-time.After(2 * timeout) // the deadline of that exchange passes
			c.expected = expected{}   // so that nothing but the time tells the two apart
			go answers(2, 1)
			answer, err = c.Exchange(1, readOne(100), time.Second)
			require.NoError(t, err)
			assert.Equal(t, uint16(2), Word(answer.Data, 0))
			assert.Equal(t, []EventKind{EventSent, EventAnswer, EventStray, EventSent, EventAnswer}, seen)
		})
	}
}

// A datagram is a frame: a cut one and the next are never joined.
func TestDatagramsAreNeverJoined(t *testing.T) {
	for _, framing := range []string{"mbap", "rtu", "ascii"} {
		t.Run(framing, func(t *testing.T) {
			near, far := pair(t, "udp")
			defer near.Close()
			defer far.Close()
			frame := func(id byte, values ...byte) []byte {
				return farend.Frame(framing, [2]byte{0, id}, append([]byte{1, 3, byte(len(values))}, values...))
			}
			cut := func(b []byte, n int) []byte { return b[:len(b)-n] }
			said := [][]byte{
				cut(frame(1, 0, 1, 0, 2, 0, 3), 4), frame(1, 0, 1, 0, 2, 0, 3), // what follows completes it, were they joined
				append(frame(1, 9, 9, 9, 9, 9, 9), 0),
				frame(1, 0, 7, 0, 8, 0, 9),
			}
			go func() {
				b := make([]byte, 600)
				if _, err := far.Read(b); err == nil {
					for _, s := range said[:1] {
						far.Write(s)
					}
					far.Write(said[2])
					far.Write(said[3])
				}
			}()
			damaged := 0
			c := NewClient(near, ClientOptions{Framing: Framings[framing], Datagrams: true, Watch: func(e Event) {
				if e.Kind == EventDamaged {
					damaged++
				}
			}})
			answer, err := c.Exchange(1, Request{Function: ReadHoldingRegisters, Quantity: 3}, time.Second)
			require.NoError(t, err)
			assert.Equal(t, []uint16{7, 8, 9}, AppendWords(nil, answer.Data))
			assert.Equal(t, 2, damaged)
		})
	}
}

func TestAPipelineTakesADatagramForAFrame(t *testing.T) {
	near, far := pair(t, "udp")
	defer near.Close()
	defer far.Close()
	go func() {
		b := make([]byte, 600)
		if _, err := far.Read(b); err == nil {
			whole := farend.Frame("mbap", [2]byte{0, 1}, []byte{1, 3, 4, 0, 1, 0, 2})
			far.Write(whole[:10])
			far.Write(whole[3:])
			far.Write(farend.Frame("mbap", [2]byte{0, 1}, []byte{1, 3, 4, 0, 7, 0, 8}))
		}
	}()
	p := NewPipeline(near, ClientOptions{Datagrams: true})
	answer, err := p.Exchange(1, Request{Function: ReadHoldingRegisters, Quantity: 2}, time.Second)
	require.NoError(t, err)
	assert.Equal(t, []uint16{7, 8}, AppendWords(nil, answer.Data))
}

// A value whose frame trickles in was true when its first byte came, at the latest.
func TestAReadingHasTheTimeOfItsFirstByte(t *testing.T) {
	for name, open := range map[string]func(net.Conn) asker{
		"client":   func(c net.Conn) asker { return NewClient(c, ClientOptions{}) },
		"pipeline": func(c net.Conn) asker { return NewPipeline(c, ClientOptions{}) },
	} {
		t.Run(name, func(t *testing.T) {
			near, far := pair(t, "tcp")
			defer near.Close()
			defer far.Close()
			first := make(chan time.Time, 1)
			go func() {
				b := make([]byte, 600)
				if _, err := far.Read(b); err == nil {
					for i, c := range farend.Frame("mbap", [2]byte{0, 1}, []byte{1, 3, 2, 0, 1}) {
						far.Write([]byte{c})
						if i == 0 {
							first <- time.Now()
						}
						<-time.After(10 * time.Millisecond)
					}
				}
			}()
			answer, err := open(near).Exchange(1, readOne(0), 5*time.Second)
			require.NoError(t, err)
			assert.WithinDuration(t, <-first, answer.At, 50*time.Millisecond)
			assert.Greater(t, time.Since(answer.At), 60*time.Millisecond)
		})
	}
}

type asker interface {
	Exchange(byte, Request, time.Duration) (Answered, error)
}

func TestExpectedResponses(t *testing.T) {
	now := time.Now()
	const timeout = time.Second
	after := func(d time.Duration) time.Time { return now.Add(d) }
	read := func(at, n, spare uint16) Request {
		return Request{Function: ReadHoldingRegisters, Address: at, Quantity: n, Spare: spare}
	}
	quantity := func(e *expected, r Request, at time.Time) int {
		sent, until := e.choose(1, r, timeout, at)
		if !until.IsZero() {
			return 0
		}
		e.sent(1, r, sent, at)
		return int(sent.Quantity)
	}

	var e expected
	assert.Equal(t, 2, quantity(&e, read(0, 2, 16), now))
	assert.Equal(t, 3, quantity(&e, read(100, 2, 16), now), "another block: another length")
	assert.Equal(t, 4, quantity(&e, read(0, 2, 16), now), "the same again, too")
	assert.Equal(t, 2, quantity(&e, read(0, 2, 16), after(time.Minute)), "after long, any")
	e = expected{}
	for i := range 40 {
		at := after(time.Duration(i) * time.Millisecond)
		a, b := quantity(&e, read(0, 2, 16), at), quantity(&e, read(100, 2, 16), at)
		assert.LessOrEqual(t, max(a, b), 2+easySpare)
		if i > easySpare {
			assert.NotEqual(t, a%2, b%2, "each keeps to its own lengths")
		}
	}

	e = expected{}
	e.failed(1, read(0, 2, 0), now)
	sent, until := e.choose(1, read(100, 2, 0), timeout, after(timeout))
	assert.Equal(t, uint16(2), sent.Quantity)
	assert.Equal(t, after(6*timeout), until, "it cannot be told from what may still come")
	marker, ok := e.marker(1, read(100, 2, 0), now)
	assert.True(t, ok)
	assert.Equal(t, uint16(1), marker.Quantity, "a shorter read can")
	e.answered(1, 10*time.Millisecond, timeout, unlike, now)
	assert.Equal(t, 2, quantity(&e, read(100, 2, 0), after(timeout)), "who answers in order has passed over it")
	_, ok = (&expected{unordered: true}).marker(1, read(100, 2, 0), now)
	assert.False(t, ok, "on a path that changes the order, that says nothing")

	e = expected{}
	e.failed(1, read(0, 2, 0), now)
	assert.True(t, e.doubtful(1, ReadHoldingRegisters))
	assert.False(t, e.doubtful(1, ReadInputRegisters))
	took, late := e.late(Frame{Unit: 1, PDU: []byte{3, 4, 0, 1, 0, 2}}, after(1200*time.Millisecond))
	assert.True(t, late)
	assert.Equal(t, 1200*time.Millisecond, took)
	_, late = e.late(Frame{Unit: 1, PDU: []byte{3, 4, 0, 1, 0, 2}}, after(1300*time.Millisecond))
	assert.False(t, late, "it has come")
	assert.Equal(t, 1800*time.Millisecond, e.patience(1, timeout), "it is waited for longer now")
	for range 3 {
		e.unit(1).silent++
	}
	assert.Equal(t, timeout, e.patience(1, timeout), "but not when it is silent")

	e = expected{}
	a, b, data := read(0, 2, 0), read(100, 2, 0), []byte{0, 1, 0, 2}
	e.sent(1, a, a, now)
	assert.Equal(t, unlike, e.compare(1, a, a, data, now))
	assert.Equal(t, likeOwn, e.compare(1, a, a, data, after(time.Second)), "values that stay may be copies while the unit is not known")
	assert.Equal(t, unlike, e.compare(1, a, a, data, after(time.Second+soon)), "copies come soon")
	assert.Equal(t, likeCopy, e.compare(1, b, b, data, after(time.Second)), "those of others may be copies")
	assert.Equal(t, unlike, e.compare(1, b, b, []byte{0, 1, 0, 3}, after(time.Second)), "what differs is none")
	assert.Equal(t, unlike, e.compare(1, b, b, data, after(time.Hour)), "long ago")
	e.unit(1).once = proven
	assert.Equal(t, unlike, e.compare(1, b, b, data, after(time.Hour+time.Second)), "who answered many requests once each")
	assert.False(t, e.second(Frame{Unit: 1, PDU: []byte{3, 2, 0, 1}}, after(time.Second)), "no such response was asked for")
	assert.True(t, e.second(Frame{Unit: 1, PDU: []byte{3, 4, 0, 1, 0, 2}}, after(time.Second)))
	assert.Equal(t, unlike, e.compare(1, a, a, []byte{9, 9, 9, 9}, after(2*time.Second)))
	assert.Equal(t, likeCopy, e.compare(1, a, a, []byte{9, 9, 9, 9}, after(3*time.Second+soon)), "where responses come twice, its own may be copies, too")
	assert.Zero(t, e.unit(1).once)
	_, ok = e.marker(1, b, after(9*time.Second))
	assert.False(t, ok, "and a second response may come of which the first one was lost")
	assert.True(t, e.second(Frame{Unit: 1, PDU: []byte{3, 4, 7, 7, 7, 7}}, after(7*time.Second)), "it was dropped")
	assert.Equal(t, likeCopy, e.compare(1, a, a, []byte{7, 7, 7, 7}, after(8*time.Second)), "and may come once more")

	e = expected{unordered: true}
	e.failed(1, a, now)
	e.failed(1, a, after(time.Millisecond))
	came := Frame{Unit: 1, PDU: []byte{3, 4, 0, 1, 0, 2}}
	_, late = e.late(came, after(1100*time.Millisecond))
	assert.True(t, late)
	_, late = e.late(came, after(1200*time.Millisecond))
	assert.True(t, late)
	assert.Len(t, e.unit(1).outstanding, 1, "the second one may be a copy, so that one is still to come")
	_, until = e.choose(1, a, timeout, after(1300*time.Millisecond))
	assert.Equal(t, after(time.Millisecond+doubtTimeouts*timeout), until)
	_, until = e.choose(1, a, timeout, after(time.Second+doubtTimeouts*timeout))
	assert.Zero(t, until, "it will not come any more")

	bits := Request{Function: ReadCoils, Address: 0, Quantity: 9, Spare: 32}
	wide, ok := bits.widened(1)
	assert.True(t, ok)
	assert.Equal(t, uint16(24), wide.Quantity, "three bytes")
	_, ok = read(65530, 6, 8).widened(1)
	assert.False(t, ok, "beyond the last address")
	_, ok = read(0, 125, 8).widened(1)
	assert.False(t, ok, "beyond the largest read")
}

// Two single registers with one value look like copies of each other, for ever; that costs a second reading and a short silence, not
// the rate of polls.
func TestEqualValuesAreReadAtTheirRate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		conn := farend.NewConn(false)
		conn.Asked = func(b []byte) {
			id, _ := farend.Request("rtu", b)
			time.AfterFunc(5*time.Millisecond, func() { conn.Say(farend.Frame("rtu", id, []byte{1, 3, 2, 0, 0})) })
		}
		c := NewClient(conn, ClientOptions{Framing: RTU, Gap: 30 * time.Millisecond})
		began := time.Now()
		for range 400 {
			for _, register := range []uint16{10, 20} {
				answer, err := c.Exchange(1, readOne(register), time.Second)
				require.NoError(t, err)
				assert.Equal(t, []byte{0, 0}, answer.Data)
			}
		}
		assert.Less(t, time.Since(began)/800, 50*time.Millisecond)
	})
}
