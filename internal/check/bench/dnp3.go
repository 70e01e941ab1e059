package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	dnp3driver "arithmon/internal/live/driver/dnp3"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/outstation"
)

// bufferedEvents is how many events one outstation has to give.
const bufferedEvents = 50_000

// requestFrame and confirmFrame are the sizes of a request for all events and of a confirmation, on the wire.
const (
	requestFrame = 10 + 1 + 2 + 9 + 2
	confirmFrame = 10 + 1 + 2 + 2
)

// responses are the frames of each fragment with which an outstation gives its events to a request of a sequence number.
func responses(seq byte) (list [][]byte) {
	points := make([]outstation.Point, 1000)
	for i := range points {
		points[i] = outstation.Point{Kind: dnp3.AnalogInput, Index: uint16(i), Class: 1}
	}
	o := outstation.New(outstation.Config{Address: 10, Master: 1, Buffer: bufferedEvents}, points)
	now := time.Now()
	for i := range bufferedEvents {
		o.Set(now.Add(time.Duration(i)*time.Millisecond), dnp3.AnalogInput, uint16(i%len(points)), codec.FloatValue(float64(1+i)), dnp3.Online)
	}
	o.Receive(now, 1, false, []byte{0xC0, byte(dnp3.FuncWrite), 80, 1, 0, 7, 7, 0}) // it has not just restarted
	ask := dnp3.Fragment{Control: 0xC0 | dnp3.AppControl(seq), Function: dnp3.FuncRead, Objects: []byte{60, 2, 6, 60, 3, 6, 60, 4, 6}}
	number := byte(0)
	for sent := o.Receive(now, 1, false, dnp3.AppendFragment(nil, ask)); len(sent) > 0; {
		var segments dnp3.Segments
		segments.Cut(sent[0].Fragment)
		var frames []byte
		for s := segments.Next(&number); s != nil; s = segments.Next(&number) {
			frames = dnp3.AppendFrame(frames, dnp3.Frame{Control: 0x44, Destination: 1, Source: 10, Data: s})
		}
		list = append(list, frames)
		sent = o.Receive(now, 1, false, []byte{0xC0 | sent[0].Fragment[0]&0x0F, 0})
	}
	return list
}

// replay answers every request for events with the same ones, a fragment for each confirmation, and every other request with an
// empty response.
func replay(conn net.Conn, canned [16][][]byte) {
	b, confirmation := make([]byte, 0, 4096), make([]byte, confirmFrame)
	frame := func() (f dnp3.Frame, err error) {
		for {
			f, n, err := dnp3.ParseFrame(b, make([]byte, 0, dnp3.MaxUserData))
			if !errors.Is(err, dnp3.ErrIncomplete) {
				b = b[n:]
				return f, err
			}
			b = append(make([]byte, 0, 4096), b...)
			n, err = conn.Read(b[len(b):cap(b)])
			if err != nil {
				return f, err
			}
			b = b[:len(b)+n]
		}
	}
	for {
		f, err := frame()
		if err != nil {
			return
		}
		if len(f.Data) < 3 {
			continue
		}
		seq := f.Data[1] & 0x0F
		if dnp3.Function(f.Data[2]) != dnp3.FuncRead || len(f.Data) != 12 {
			conn.Write(dnp3.AppendFrame(nil, dnp3.Frame{Control: 0x44, Destination: 1, Source: 10, Data: []byte{0xC0, 0xC0 | seq, byte(dnp3.FuncResponse), 0, 0}}))
			continue
		}
		for _, fragment := range canned[seq] {
			if _, err := conn.Write(fragment); err != nil {
				return
			}
			if _, err := io.ReadFull(conn, confirmation); err != nil {
				return
			}
		}
	}
}

// counting takes what a session emits, and looks whether it is whole and in order.
type counting struct {
	link.Host
	n     int
	wrong int
}

func (c *counting) Emit(samples []table.Sample) {
	for i := range samples {
		if f, _ := samples[i].Value.Float(); samples[i].Event {
			if c.n++; f != float64(c.n) {
				c.wrong++
			}
		}
	}
	c.Host.Emit(samples)
}

// bufferedBurst compares fetching events with a bare TCP pipe that carries the same bytes in as many turns.
func bufferedBurst() error {
	var canned [16][][]byte
	for seq := range canned {
		canned[seq] = responses(byte(seq))
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go replay(conn, canned)
		}
	}()
	pipe, err := barePipe(canned[0])
	if err != nil {
		return err
	}
	l := site.NewLink()
	l.Name, l.Protocol, l.Host, l.Port = "link", site.DNP3, "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
	st := site.NewStation()
	address := 10
	st.Name, st.Link, st.Outstation = "station", "link", &address
	var list []site.Point
	for i := range 1000 {
		list = append(list, site.Point{Tag: fmt.Sprint(i), Station: "station", Address: site.Address{Space: site.AnalogInputs, Offset: uint16(i)}}.WithDefaults())
	}
	table, station := link.NewBench(st, list)
	host := &counting{Host: table}
	driver := dnp3driver.New()
	jobs := driver.Jobs(l, station)
	s, err := driver.Open(context.Background(), l.WithDefaults(), host)
	if err != nil {
		return err
	}
	defer s.Close()
	s.(link.Reporter).Follow(station)
	s.(link.Reporter).Begin()
	if out := s.Do(jobs[0]); out.Err != nil {
		return out.Err
	}
	var ratios, rates []float64
	for range 15 {
		bare, err := pipe()
		if err != nil {
			return err
		}
		host.n = 0
		began := time.Now()
		if out := s.Do(jobs[1]); out.Err != nil {
			return out.Err
		}
		own := time.Since(began)
		if host.n != bufferedEvents || host.wrong > 0 {
			return fmt.Errorf("%d events of %d, %d out of order", host.n, bufferedEvents, host.wrong)
		}
		ratios, rates = append(ratios, bare.Seconds()/own.Seconds()), append(rates, bufferedEvents/own.Seconds())
	}
	fmt.Printf("one outstation, %d buffered events in %d fragments, all in order, in the live table: %.2f of the rate of a bare TCP pipe with as many turns (median of %d pairs); %.0f events a second here\n",
		bufferedEvents, len(canned[0]), median(ratios), len(ratios), median(rates))
	return nil
}

// barePipe gives what takes the same bytes over TCP in the same turns and nothing more.
func barePipe(fragments [][]byte) (func() (time.Duration, error), error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	go func() {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		in := make([]byte, requestFrame)
		for {
			if _, err := io.ReadFull(conn, in); err != nil {
				return
			}
			for _, f := range fragments {
				if _, err := conn.Write(f); err != nil {
					return
				}
				if _, err := io.ReadFull(conn, in[:confirmFrame]); err != nil {
					return
				}
			}
		}
	}()
	conn, err := net.Dial("tcp", listener.Addr().String())
	if err != nil {
		return nil, err
	}
	out, in := make([]byte, requestFrame), make([]byte, 8192)
	return func() (time.Duration, error) {
		began := time.Now()
		if _, err := conn.Write(out); err != nil {
			return 0, err
		}
		for _, f := range fragments {
			if _, err := io.ReadFull(conn, in[:len(f)]); err != nil {
				return 0, err
			}
			if _, err := conn.Write(out[:confirmFrame]); err != nil {
				return 0, err
			}
		}
		return time.Since(began), nil
	}, nil
}

// What many outstations are.
const (
	outstations      = 500
	pointsOfEach     = 100
	eventsEach       = 10 // a second
	outstationsSpan  = 20 * time.Second
	outstationPoints = outstations * pointsOfEach
)

// reporters are outstations on ports of their own that report by themselves, as a process of its own. It prints the ports, begins
// at a line on its input, ends at another, and prints how many events there were.
func reporters() error {
	type one struct {
		o *outstation.Outstation
		n int
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var going sync.Mutex
	run, total := false, 0
	for range outstations {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		fmt.Println(listener.Addr().(*net.TCPAddr).Port)
		points := make([]outstation.Point, pointsOfEach)
		for k := range points {
			points[k] = outstation.Point{Kind: dnp3.AnalogInput, Index: uint16(k), Class: 2}
		}
		it := &one{o: outstation.New(outstation.Config{Address: 10, Master: 1, Unsolicited: true, HoldTime: time.Millisecond}, points)}
		var mu sync.Mutex
		line := &outstation.Line{Outstations: []*outstation.Outstation{it.o}, Lock: &mu, Every: time.Second / eventsEach, Before: func(now time.Time) {
			going.Lock()
			defer going.Unlock()
			if run && now.UnixNano()/int64(time.Second/eventsEach) != int64(it.n) {
				it.n = int(now.UnixNano() / int64(time.Second/eventsEach))
				total++
				it.o.Set(now, dnp3.AnalogInput, uint16(it.n%pointsOfEach), codec.FloatValue(float64(it.n)), dnp3.Online)
			}
		}}
		go line.Listen(ctx, listener)
	}
	in := bufio.NewScanner(os.Stdin)
	for _, on := range []bool{true, false} {
		if !in.Scan() {
			return nil
		}
		going.Lock()
		run = on
		if !on {
			fmt.Println(total)
		}
		going.Unlock()
	}
	in.Scan()
	return nil
}

// follower takes every event, as a recorder does, and looks whether those of a point are in order.
type follower struct {
	cancel context.CancelFunc
	done   chan struct{}
	n      atomic.Int64
	wrong  int // read after count has reached its end
}

func follow(events *table.Events) *follower {
	ctx, cancel := context.WithCancel(context.Background())
	f := &follower{cancel: cancel, done: make(chan struct{})}
	go func() {
		defer close(f.done)
		last := map[string]time.Time{}
		var list []table.Event
		for id := uint64(0); ; {
			select {
			case <-ctx.Done():
				return
			case <-events.More(id):
			}
			var lost uint64
			list, lost = events.After(list[:0], id, 4096)
			f.wrong += int(lost)
			for _, e := range list {
				if id = e.ID; e.SourceTime.Before(last[e.Point.Station]) {
					f.wrong++
				}
				last[e.Point.Station] = e.SourceTime
			}
			f.n.Add(int64(len(list)))
		}
	}()
	return f
}

func (f *follower) count() int { return int(f.n.Load()) }

func (f *follower) end() {
	f.cancel()
	<-f.done
}

// manyOutstations watches outstations that report by themselves.
func manyOutstations() error {
	far := exec.Command(os.Args[0], "outstations")
	stdin, err := far.StdinPipe()
	if err != nil {
		return err
	}
	stdout, err := far.StdoutPipe()
	if err != nil {
		return err
	}
	far.Stderr = os.Stderr
	if err := far.Start(); err != nil {
		return err
	}
	defer far.Wait()
	defer stdin.Close()
	lines := bufio.NewScanner(stdout)
	s := site.New()
	d := s.Edit()
	address := 10
	for i := range outstations {
		if !lines.Scan() {
			return errors.New("the outstations did not start")
		}
		port, err := strconv.Atoi(strings.TrimSpace(lines.Text()))
		if err != nil {
			return err
		}
		l, st := site.NewLink(), site.NewStation()
		l.Name, l.Protocol, l.Host, l.Port, l.Timeout = fmt.Sprintf("link%03d", i), site.DNP3, "127.0.0.1", port, site.Duration(5*time.Second)
		st.Name, st.Link, st.Outstation, st.Unsolicited, st.EventPoll = fmt.Sprintf("rtu%03d", i), l.Name, &address, true, site.Duration(30*time.Second)
		d.Add(l)
		d.Add(st)
		for k := range pointsOfEach {
			d.Add(site.Point{Tag: fmt.Sprintf("%s/value%02d", st.Name, k), Station: st.Name, Address: site.Address{Space: site.AnalogInputs, Offset: uint16(k)}})
		}
	}
	changes, err := d.Changes()
	if err != nil {
		return err
	}
	s = s.With(changes)
	bare := heap()
	e := engine.New(engine.Options{Drivers: []link.Driver{dnp3driver.New()}})
	follower := follow(e.Events())
	defer follower.end()
	e.Start(context.Background(), s)
	defer e.Stop()
	for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		up := 0
		_, stations := e.Status()
		for _, st := range stations {
			up += st.Points.Good
		}
		if up == outstationPoints {
			break
		}
		if time.Since(began) > time.Minute {
			return fmt.Errorf("%d of %d points came up within a minute", up, outstationPoints)
		}
	}
	fmt.Fprintln(stdin, "go")
	used, began := cpu(), time.Now()
	time.Sleep(outstationsSpan)
	used, span := cpu()-used, time.Since(began)
	fmt.Fprintln(stdin, "stop")
	if !lines.Scan() {
		return errors.New("the outstations ended")
	}
	total, err := strconv.Atoi(strings.TrimSpace(lines.Text()))
	if err != nil {
		return err
	}
	for began := time.Now(); follower.count() < total && time.Since(began) < 10*time.Second; {
		time.Sleep(20 * time.Millisecond)
	}
	runtime.GC()
	fmt.Printf("%d outstations on TCP of %d points, %d events a second each: %d of %d events came, %d out of order, with %.0f %% of one core, and %.1f MB of heap, of which the newest %d events take a part\n",
		outstations, pointsOfEach, eventsEach, follower.count(), total, follower.wrong, 100*used.Seconds()/span.Seconds(), float64(heap()-bare)/1e6, table.MaxEvents)
	return nil
}
