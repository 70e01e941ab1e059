package probe

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/protocol/modbus"
	"arithmon/internal/protocol/wire"
)

// ScanRequest says where to look.
type ScanRequest struct {
	First    int           // first unit or outstation (default 1)
	Last     int           // last unit (default 247) or outstation (default 255)
	Master   int           // DNP3: link address of this end (default 1)
	Settings bool          // on a serial line: look for its settings first
	Wait     site.Duration // for each response, 20ms to 5s (default 200ms)

	sure int // the unit that showed the line settings, asked again when it does not answer; 0 is none
}

// Check fills in defaults and says what is wrong, for a protocol.
func (r *ScanRequest) Check(p site.Protocol) error {
	last, most := p.Traits().LastUsual, p.Traits().MaxAddress
	if r.Master == 0 {
		r.Master = site.DefaultMaster
	}
	if r.First == 0 {
		r.First = 1
	}
	if r.Last == 0 {
		r.Last = max(last, r.First)
	}
	if r.Wait == 0 {
		r.Wait = site.Duration(200 * time.Millisecond)
	}
	switch {
	case r.First < 0 || r.Last > most || r.First > r.Last:
		return fmt.Errorf("%d to %d: 0 to %d are possible, the lower first", r.First, r.Last, most)
	case r.Master < 0 || r.Master > site.MaxLinkAddress:
		return fmt.Errorf("master %d: 0 to %d are possible", r.Master, site.MaxLinkAddress)
	case time.Duration(r.Wait) < 20*time.Millisecond || time.Duration(r.Wait) > 5*time.Second:
		return fmt.Errorf("wait %s: 20ms to 5s are possible", r.Wait)
	}
	return nil
}

// Progress is how far a scan has got.
type Progress struct {
	Done     int
	Total    int                // may grow and shrink as settings are found
	Now      string             // what is being asked
	Found    *Found             // a unit or outstation that was just found
	Settings *site.LineSettings // the line settings that were just found
	Ended    string             // how it ended, on the last line
}

// Found is a unit, or an outstation.
type Found struct {
	Unit int    // or link address
	Text string // what it says of itself, or how it answers
}

// Scan looks for units on a link, and first for its line settings where that is asked for; known are units that are to be
// tried first. report is told of every step. It ends early with ctx.
func Scan(ctx context.Context, link site.Link, r ScanRequest, known []int, report func(Progress)) error {
	link = link.WithDefaults()
	if link.Transport == site.Dialup {
		return errors.New("a dial-up line has one number a call; probe a station instead")
	}
	if link.Listen != "" {
		return fmt.Errorf("stations call in at %s; there is nothing to look for", link.Listen)
	}
	way := ways[link.Protocol]
	called, scan, try := link.Protocol.Traits().Address, way.scan, way.try
	link.Timeout = r.Wait
	units := r.Last - r.First + 1
	if !r.Settings || link.Serial == nil {
		return scan(ctx, link, r, 0, units, report)
	}
	if len(known) == 0 {
		for u := r.First; u <= min(r.Last, r.First+4); u++ {
			known = append(known, u)
		}
	}
	candidates := site.UsualLineSettings(*link.Serial)
	total, done := len(candidates)*len(known)+units, 0
	for _, s := range candidates {
		link.Serial = &s
		unit, err := try(ctx, link, r, known, func(now string) {
			done++
			report(Progress{Done: done, Total: total, Now: now})
		})
		if err != nil {
			return err
		}
		if unit >= 0 {
			report(Progress{Done: done, Total: done + units, Now: fmt.Sprintf("%s %d answers under %s", called, unit, link.FarEnd()), Settings: &s})
			r.sure = unit
			return scan(ctx, link, r, done, done+units, report)
		}
	}
	return fmt.Errorf("nothing answers under any of %d line settings. Check wiring and power; with more --first and --last, other units are tried", len(candidates))
}

// trySettings asks the known units under one setting and returns the first that answers, -1 when none does.
func trySettings(ctx context.Context, link site.Link, _ ScanRequest, known []int, step func(now string)) (int, error) {
	conn, err := wire.Open(ctx, link)
	if err != nil {
		return -1, err
	}
	defer conn.Close()
	ask := client(conn, link)
	for _, u := range known {
		if ctx.Err() != nil {
			return -1, ctx.Err()
		}
		step(fmt.Sprintf("unit %d at %s", u, link.FarEnd()))
		time.Sleep(modbus.Silence(link.Serial.Baud, link.Serial.Bits()))
		if _, err := ask.Do(byte(u), life, time.Duration(link.Timeout)); alive(err) {
			return u, nil
		}
	}
	return -1, nil
}

// severalUnits is how many units hardly are behind one address without a gap.
const severalUnits = 8

// scanUnits asks every unit once.
func scanUnits(ctx context.Context, link site.Link, r ScanRequest, done, total int, report func(Progress)) error {
	p := &prober{ctx: ctx, link: link, heard: map[int]bool{}}
	conn, err := wire.Open(ctx, link)
	if err != nil {
		return err
	}
	p.conn, p.ask = conn, client(conn, link)
	defer func() { p.conn.Close() }()
	n := 0
	for u := r.First; u <= r.Last; u++ {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if u == 0 && link.Transport.UsesSerialPort() {
			continue // nobody answers a broadcast
		}
		done++
		step := Progress{Done: done, Total: total, Now: fmt.Sprintf("unit %d", u)}
		_, err := p.do(u, life)
		if !alive(err) && u == r.sure {
			_, err = p.do(u, life)
		}
		if alive(err) {
			n++
			p.unit = u
			step.Found = &Found{Unit: u, Text: "answers"}
			if objects := p.objects(); len(objects) > 0 {
				step.Found.Text = strings.Join(objects, ", ")
			} else if err != nil {
				step.Found.Text = "answers: " + err.Error()
			}
		}
		report(step)
	}
	ended := counted(n, "unit")
	if asked := r.Last - r.First + 1; n == asked && n >= severalUnits && !link.Transport.UsesSerialPort() {
		ended += "; every unit that was asked answers, so the device may not look at the unit, and be one"
	}
	report(Progress{Done: total, Total: total, Ended: ended})
	return nil
}

// counted says how many were found.
func counted(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return fmt.Sprintf("%d %s found", n, what)
}
