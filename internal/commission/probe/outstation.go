package probe

import (
	"context"
	"errors"
	"fmt"
	"sort"
	"strings"
	"sync"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
	"arithmon/internal/protocol/wire"
)

// Held is a point that an outstation has.
type Held struct {
	Address   site.Address
	Variation string // object group and variation that it is reported with: g30v5
	Class     int    // of its events, where one of them told; 0 where that is not known
	Value     codec.Value
	Flags     []string
	Type      codec.Type // that a point of the site would have
}

// far is an outstation that is being probed. It is its master.Handler.
type far struct {
	channel *master.Channel
	out     *master.Outstation

	mu      sync.Mutex
	held    map[site.Address]*Held
	class   int // of the events that are being read, 0 of present values
	strange map[uint16]bool
}

// Heard is part of master.Handler.
func (f *far) Heard() {}

// Repeated is part of master.Handler.
func (f *far) Repeated() {}

// Keep is part of master.Handler. A probe confirms no events.
func (f *far) Keep() bool { return true }

// Response is part of master.Handler: it lists points.
func (f *far) Response(fragment dnp3.Fragment) {
	f.mu.Lock()
	defer f.mu.Unlock()
	dnp3.Measurements(fragment.Objects, func(m *dnp3.Measurement, _ *dnp3.Objects) { // what is not understood ends the list
		if m == nil || m.Command {
			return
		}
		space := site.Space(m.Kind.Code())
		if space == "" {
			return
		}
		at := site.Address{Space: space, Offset: m.Index}
		h := f.held[at]
		if h == nil && m.Event {
			h = &Held{Address: at}
			f.held[at] = h
		}
		if m.Event {
			h.Class = f.class
			return
		}
		if h == nil {
			h = &Held{Address: at}
			f.held[at] = h
		}
		h.Variation, h.Value = fmt.Sprintf("g%dv%d", m.Group, m.Variation), m.Value
		h.Type = site.Point{Address: at}.WithDefaults().Type
		if m.HasFlags {
			h.Flags = m.Flags.Names(m.Kind)
		}
	})
}

// stranger notes who else speaks on the connection.
func (f *far) stranger(frame dnp3.Frame) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if frame.Control&dnp3.FromMaster == 0 {
		f.strange[frame.Source] = true
	}
}

// others lists who else was heard.
func (f *far) others() (list []int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for a := range f.strange {
		list = append(list, int(a))
	}
	sort.Ints(list)
	return list
}

// outstation is the stages of a DNP3 probe after the connection.
func (p *prober) outstation() []stage {
	return []stage{{"link", p.linkStatus}, {"application", p.application}, {"attributes", p.attributes}, {"points", p.points}}
}

// speak begins to speak DNP3 on the connection.
func (p *prober) speak() {
	p.far = &far{held: map[site.Address]*Held{}, strange: map[uint16]bool{}}
	// Events are not confirmed, so that they stay with the outstation for whoever polls it.
	p.far.channel = master.New(p.conn, master.Options{Timeout: time.Duration(p.link.Timeout), Stranger: p.far.stranger, Unconfirmed: true})
	p.far.out = p.far.channel.Outstation(uint16(p.unit), uint16(p.master), p.far)
	p.far.channel.Start()
}

// reportWait is how long an outstation may wait for the confirmation of a report, which a probe leaves to whoever polls it.
const reportWait = 8 * time.Second

// settle is how long answers to many questions at once may take.
const settle = 500 * time.Millisecond

func (p *prober) linkStatus() (string, error) {
	took, err := p.far.out.Status()
	if err == nil {
		return fmt.Sprintf("outstation %d answers a request for its link status in %.1f ms", p.unit, float64(took)/float64(time.Millisecond)), nil
	}
	if errors.Is(err, master.ErrClosed) || errors.Is(err, master.ErrDamaged) || errors.Is(err, master.ErrGarbage) {
		return "", err
	}
	if !p.link.Transport.UsesSerialPort() { // nobody is disturbed by many short questions there
		var near []uint16
		for a := range uint16(256) {
			near = append(near, a)
		}
		if p.far.channel.Knock(uint16(p.master), append(near, dnp3.SelfAddress)...) == nil {
			p.pause(settle)
		}
	}
	if others := p.far.others(); len(others) > 0 {
		return "", fmt.Errorf("outstation %d does not answer (%w), but %s does; use that address", p.unit, err, strings.Trim(fmt.Sprint(others), "[]"))
	}
	return "", fmt.Errorf("outstation %d does not answer: %w. Check its link address and its master address (this one is %d); a scan looks for addresses", p.unit, err, p.master)
}

// pause waits, or less when the probe is given up.
func (p *prober) pause(d time.Duration) {
	select {
	case <-p.ctx.Done():
	case <-time.After(d):
	}
}

func (p *prober) application() (string, error) {
	delay, err := p.far.out.Delay()
	var refused *master.RefusedError
	switch {
	case err == nil:
		return fmt.Sprintf("its application answers; a message takes %.1f ms one way", float64(delay)/float64(time.Millisecond)), nil
	case errors.As(err, &refused):
		return fmt.Sprintf("its application answers; it indicates %s", refused.IIN), nil
	case errors.Is(err, master.ErrTimeout):
		return "", fmt.Errorf("its data link layer answers, its application does not (%w). Is %d the master address that it was told, and is DNP3 enabled for this port?", err, p.master)
	}
	return "", err
}

func (p *prober) attributes() (string, error) {
	list, err := p.far.out.Attributes()
	if errors.Is(err, master.ErrTimeout) || errors.Is(err, master.ErrClosed) {
		return "", err
	}
	var said []string
	for _, a := range list {
		if a.Text() != "" {
			said = append(said, a.Name()+": "+a.Text())
		}
	}
	if said == nil {
		return "it does not say what it is, as many outstations", nil
	}
	p.says = strings.Join(said, "; ")
	return p.says, nil
}

func (p *prober) points() (string, error) {
	a, err := p.far.out.Read(master.Class0, nil)
	// An outstation that waits for its report to be confirmed answers a read when it has given that up (4.6.2.3).
	for began := time.Now(); errors.Is(err, master.ErrTimeout) && time.Since(began) < reportWait && p.ctx.Err() == nil; {
		a, err = p.far.out.Read(master.Class0, nil)
	}
	if err != nil {
		return "", err
	}
	for class := 1; class <= 3; class++ { // what they tell of the class of points; they are asked for again by whoever polls
		p.far.mu.Lock()
		p.far.class = class
		p.far.mu.Unlock()
		p.far.out.Read(master.Class0<<class, nil) // one that does not answer has told its points already
	}
	p.far.mu.Lock()
	defer p.far.mu.Unlock()
	count := map[site.Space]int{}
	for _, h := range p.far.held {
		if h.Variation != "" {
			p.found = append(p.found, *h)
			count[h.Address.Space]++
		}
	}
	sort.Slice(p.found, func(i, k int) bool {
		x, y := p.found[i].Address, p.found[k].Address
		if x.Space != y.Space {
			return x.Space < y.Space
		}
		return x.Offset < y.Offset
	})
	var said []string
	for _, space := range []site.Space{site.BinaryInputs, site.DoubleBitInputs, site.BinaryOutputs, site.Counters, site.FrozenCounters, site.AnalogInputs, site.AnalogOutputs, site.OctetStrings} {
		if n := count[space]; n > 0 {
			said = append(said, fmt.Sprintf("%d %s", n, space))
		}
	}
	if said == nil {
		return "it reports no points with class 0", nil
	}
	return fmt.Sprintf("%d points: %s; it indicates %s", len(p.found), strings.Join(said, ", "), a.IIN), nil
}

// scanAddresses looks for outstations by their link addresses.
func scanAddresses(ctx context.Context, link site.Link, r ScanRequest, done, total int, report func(Progress)) error {
	conn, err := wire.Open(ctx, link)
	if err != nil {
		return err
	}
	p := &prober{ctx: ctx, link: link, conn: conn, master: r.Master}
	p.speak()
	defer p.far.channel.Close()
	told := map[int]bool{}
	n := 0
	tell := func() {
		for _, a := range p.far.others() {
			if !told[a] {
				told[a] = true
				n++
				report(Progress{Done: done, Total: total, Now: fmt.Sprintf("outstation %d", a), Found: &Found{a, "answers a request for its link status"}})
			}
		}
	}
	// Over a network many are asked at once; on a line one after the other, since responses would meet.
	batch := 64
	if link.Transport.UsesSerialPort() {
		batch = 1
	}
	for first := r.First; first <= r.Last; first += batch {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		var list []uint16
		for a := first; a <= min(r.Last, first+batch-1); a++ {
			list = append(list, uint16(a))
		}
		report(Progress{Done: done, Total: total, Now: fmt.Sprintf("outstations %d to %d", first, int(list[len(list)-1]))})
		if err := p.far.channel.Knock(uint16(r.Master), list...); err != nil {
			return err
		}
		p.pause(time.Duration(r.Wait))
		done += len(list)
		tell()
	}
	p.pause(time.Duration(r.Wait))
	tell()
	report(Progress{Done: total, Total: total, Ended: counted(n, "outstation")})
	return nil
}

// tryAddresses asks the known outstations under one line setting and returns the first that answers, -1 when none does.
func tryAddresses(ctx context.Context, link site.Link, r ScanRequest, known []int, step func(now string)) (int, error) {
	conn, err := wire.Open(ctx, link)
	if err != nil {
		return -1, err
	}
	p := &prober{ctx: ctx, link: link, conn: conn, master: r.Master}
	p.speak()
	defer p.far.channel.Close()
	for _, a := range known {
		if ctx.Err() != nil {
			return -1, ctx.Err()
		}
		step(fmt.Sprintf("outstation %d at %s", a, link.FarEnd()))
		if err := p.far.channel.Knock(uint16(r.Master), uint16(a)); err != nil {
			return -1, err
		}
		p.pause(time.Duration(r.Wait))
		if others := p.far.others(); len(others) > 0 {
			return others[0], nil
		}
	}
	return -1, nil
}
