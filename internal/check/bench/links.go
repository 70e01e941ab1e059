package main

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	modbusdriver "arithmon/internal/live/driver/modbus"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/link"
	"arithmon/internal/live/traffic"
	"arithmon/internal/protocol/modbus"
	"arithmon/internal/rig"
)

// build makes a site of links with stations of as many points each.
func build(link func(i int) site.Link, links, stations, points int, poll time.Duration) (*site.Site, error) {
	s := site.New()
	d := s.Edit()
	for i := range links {
		l := link(i)
		l.Name = fmt.Sprintf("link%04d", i)
		d.Add(l)
		for k := range stations {
			st := site.NewStation()
			st.Name, st.Link, st.Unit, st.Poll = fmt.Sprintf("%s-%d", l.Name, k+1), l.Name, k+1, site.Duration(poll)
			d.Add(st)
			for n := range points {
				d.Add(site.Point{Tag: fmt.Sprintf("%s/value%02d", st.Name, n), Station: st.Name, Type: codec.TypeInt16,
					Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(n)}})
			}
		}
	}
	changes, err := d.Changes()
	if err != nil {
		return nil, err
	}
	s = s.With(changes)
	return s, nil
}

// running starts an engine on a site.
func running(s *site.Site) *engine.Engine {
	e := engine.New(engine.Options{Drivers: []link.Driver{modbusdriver.Driver{}}})
	e.Start(context.Background(), s)
	return e
}

// counts are the responses of all stations, by name.
func counts(e *engine.Engine) map[string]uint64 {
	_, stations := e.Status()
	answers := map[string]uint64{}
	for _, st := range stations {
		answers[st.Name] = st.Statistics.Answers
	}
	return answers
}

// answered is how many responses each station gave in a span.
func answered(e *engine.Engine, span time.Duration) (each map[string]uint64, sum uint64) {
	before := counts(e)
	time.Sleep(span)
	each = counts(e)
	for name := range each {
		each[name] -= before[name]
		sum += each[name]
	}
	return each, sum
}

// inFlight compares one request at a time with eight on one socket, to a device that takes 10 ms.
func inFlight() error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	device := modbus.Server{Handle: func(unit byte, pdu []byte) modbus.Reply {
		reply := answer(unit, pdu)
		reply.Delay = 10 * time.Millisecond
		return reply
	}}
	go device.Serve(ctx, listener)
	rate := func(n int) (float64, error) {
		const span = 5 * time.Second
		s, err := build(func(int) site.Link {
			l := site.NewLink()
			l.Host, l.Port, l.InFlight = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port, n
			return l
		}, 1, 16, 1, site.MinPoll)
		if err != nil {
			return 0, err
		}
		e := running(s)
		defer e.Stop()
		time.Sleep(time.Second)
		_, sum := answered(e, span)
		return float64(sum) / span.Seconds(), nil
	}
	one, err := rate(1)
	if err != nil {
		return err
	}
	eight, err := rate(8)
	if err != nil {
		return err
	}
	fmt.Printf("one socket, a device that takes 10 ms: in_flight 8 makes %.1f times the exchanges of in_flight 1 (%.0f and %.0f a second)\n", eight/one, eight, one)
	return nil
}

// bus is a simulated line of 8 stations with 10 registers each, and a link to it.
func bus(poll time.Duration) (*rig.Rig, *engine.Engine, error) {
	line := rig.Line{Name: "bus", Transport: site.Serial, Serial: site.LineSettings{Baud: 9600}}
	for unit := 1; unit <= 8; unit++ {
		line.Stations = append(line.Stations, rig.Station{Unit: unit, Tables: map[string]int{"hr": 10}})
	}
	devices, err := rig.Start(&rig.Config{Rig: rig.Version, Lines: []rig.Line{line}}, rig.Options{})
	if err != nil {
		return nil, nil, err
	}
	s, err := build(func(int) site.Link {
		l := site.NewLink()
		l.Transport, l.Timeout, l.Retries = site.Serial, site.Duration(300*time.Millisecond), 1
		l.Serial = &site.LineSettings{Device: devices.Address("bus"), Baud: 9600}
		return l
	}, 1, 8, 10, poll)
	if err != nil {
		devices.Stop()
		return nil, nil, err
	}
	return devices, running(s), nil
}

// pacedLine compares the time that frames and silences take on a 9600-baud line with the time that passes.
func pacedLine() error {
	const span = 20 * time.Second
	devices, e, err := bus(site.MinPoll)
	if err != nil {
		return err
	}
	defer devices.Stop()
	defer e.Stop()
	time.Sleep(2 * time.Second)
	_, sum := answered(e, span)
	character := site.LineSettings{Baud: 9600, DataBits: 8, Parity: "even", StopBits: 1}.Character()
	exchange := time.Duration(8+5+2*10)*character + 2*modbus.Silence(9600, 11)
	fmt.Printf("a 9600-baud line of 8 stations, polled as fast as it goes: %.1f %% of the time is frames and the silences of the standard (%d exchanges of %s in %s)\n",
		100*float64(sum)*exchange.Seconds()/span.Seconds(), sum, exchange.Round(100*time.Microsecond), span)
	return nil
}

// deadStation compares the polls of seven stations with those they have when the eighth does not answer.
func deadStation() error {
	const span = 40 * time.Second
	devices, e, err := bus(time.Second)
	if err != nil {
		return err
	}
	defer devices.Stop()
	defer e.Stop()
	time.Sleep(2 * time.Second)
	seven := func() uint64 {
		each, sum := answered(e, span)
		return sum - each["link0000-8"]
	}
	alive := seven()
	if err := devices.SetFaults("bus", 8, rig.Faults{Drop: true}); err != nil {
		return err
	}
	dead := seven()
	fmt.Printf("the same line at 1 s with one dead station: the other seven keep %.1f %% of their polls (%d of %d in %s, from the moment it died)\n",
		100*float64(dead)/float64(alive), dead, alive, span)
	return nil
}

// polls runs stations on links of their own at one second.
func polls() error {
	const stations, points, span = 2000, 50, 30 * time.Second
	port, stop, err := elsewhere()
	if err != nil {
		return err
	}
	defer stop()
	before := heap()
	s, err := build(func(int) site.Link {
		l := site.NewLink()
		l.Host, l.Port = "127.0.0.1", port
		return l
	}, stations, 1, points, time.Second)
	if err != nil {
		return err
	}
	e := running(s)
	time.Sleep(6 * time.Second) // connecting is not polling
	start := cpu()
	firstDone, firstLate, _ := polled(e)
	time.Sleep(span)
	used := cpu() - start
	done, late, good := polled(e)
	done, late = done-firstDone, late-firstLate
	total := heap() - before
	e.Stop()
	fmt.Printf("%d stations of %d points at 1 s, each on its own socket, for %s:\n", stations, points, span)
	fmt.Printf("  %.2f %% of the polls due were done, %.2f %% of those within 50 ms of their time; %d of %d points good\n",
		100*float64(done)/(stations*span.Seconds()), 100*(1-float64(late)/float64(done)), good, stations*points)
	fmt.Printf("  %.1f %% of one core, %.0f bytes of heap a point beyond the %d MiB at most of frames that are kept (%.0f with them)\n",
		100*used.Seconds()/span.Seconds(), float64(total-e.Traffic().Size())/(stations*points), traffic.Budget>>20, float64(total)/(stations*points))
	return nil
}

// polled sums the polls of all stations, how many of them were late, and the points that are good.
func polled(e *engine.Engine) (done, late, good uint64) {
	_, status := e.Status()
	for _, st := range status {
		done += st.Statistics.Polls
		late += st.Statistics.LatePolls
		good += uint64(st.Points.Good)
	}
	return done, late, good
}

// elsewhere runs the devices in a process of their own, so that what they cost is not counted.
func elsewhere() (port int, stop func(), err error) {
	self, err := os.Executable()
	if err != nil {
		return 0, nil, err
	}
	devices := exec.Command(self, "devices")
	devices.Stderr = os.Stderr
	stdin, err := devices.StdinPipe()
	if err != nil {
		return 0, nil, err
	}
	stdout, err := devices.StdoutPipe()
	if err != nil {
		return 0, nil, err
	}
	if err := devices.Start(); err != nil {
		return 0, nil, err
	}
	stop = func() {
		stdin.Close()
		devices.Wait()
	}
	line, err := bufio.NewReader(stdout).ReadString('\n')
	if err == nil {
		port, err = strconv.Atoi(strings.TrimSpace(line))
	}
	if err != nil {
		stop()
	}
	return port, stop, err
}

// watching compares the exchanges of a link, as fast as they go, with and without keeping its frames.
func watching() error {
	const rounds = 3 * pairs
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	go (&modbus.Server{Handle: answer}).Serve(ctx, listener)
	s, err := build(func(int) site.Link {
		l := site.NewLink()
		l.Host, l.Port = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
		return l
	}, 1, 1, 50, time.Hour)
	if err != nil {
		return err
	}
	e := running(s)
	defer e.Stop()
	dir, err := os.MkdirTemp("", "bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	ask := func() error {
		_, err := e.ReadAddresses(ctx, "link0000-1", site.Range{Start: site.Address{Space: site.HoldingRegisters}, Count: 50})
		return err
	}
	log, path := e.Traffic(), filepath.Join(dir, "recording")
	ways := []struct{ begin, end func() error }{
		{func() error { log.Pause(true); return nil }, func() error { log.Pause(false); return nil }},
		{func() error { return nil }, func() error { return nil }},
		{func() error { return log.Record(path, "", 1<<30) }, func() error { log.StopRecording(); return os.Remove(path) }},
	}
	var kept, recorded []float64
	for i := range rounds { // in turn, so that what slows the machine slows all, and each of them first as often
		var rates [3]float64
		for k := range ways {
			k = (k + i) % len(ways)
			if err := ways[k].begin(); err != nil {
				return err
			}
			if rates[k], err = rate(ask); err != nil {
				return err
			}
			if err := ways[k].end(); err != nil {
				return err
			}
		}
		kept, recorded = append(kept, rates[1]/rates[0]), append(recorded, rates[2]/rates[0])
	}
	fmt.Printf("what watching costs: %.2f of the exchanges with the frames kept, %.2f with a recording to disk (medians of %d rounds, against none of it)\n", median(kept), median(recorded), rounds)
	return nil
}
