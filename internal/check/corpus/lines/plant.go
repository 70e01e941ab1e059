package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"strconv"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/rig"
)

// fields are those of an entity of a site file.
type fields = map[string]any

// trial is a site beside the devices that it is of, with one mistake at most.
type trial struct {
	rng      *rand.Rand
	devices  rig.Config
	links    []fields
	stations []fields
	points   []fields
	closing  []func()

	codes   []diagnose.Code // of the finding that tells the mistake
	subject string          // of it; "" any
	mends   bool            // its first change of settings makes all points good
	after   func(*rig.Rig)  // done when everything runs; nil: nothing
	ignore  map[string]bool // points that stay bad, whatever is set
}

// line adds a line with some units to the devices, and its link, stations and points to the site.
func (t *trial) line(name string, l rig.Line, units ...int) *rig.Line {
	l.Name = name
	if l.Listen == "" && !l.Transport.UsesSerialPort() {
		l.Listen = "127.0.0.1:0"
	}
	link := fields{"name": name, "protocol": "modbus", "transport": "tcp", "timeout": fmt.Sprintf("%dms", 300+100*t.rng.IntN(6)), "retries": t.rng.IntN(3)}
	if l.Protocol != "" {
		link["protocol"] = string(l.Protocol)
	}
	if l.Transport != "" {
		link["transport"] = string(l.Transport)
	}
	if l.Framing != "" {
		link["framing"] = string(l.Framing)
	}
	for _, unit := range units {
		if l.Protocol == site.DNP3 {
			l.Stations = append(l.Stations, t.outstation(name, unit))
		} else {
			l.Stations = append(l.Stations, t.unit(name, unit))
		}
	}
	t.links = append(t.links, link)
	t.devices.Lines = append(t.devices.Lines, l)
	return &t.devices.Lines[len(t.devices.Lines)-1]
}

// unit makes a device with a random map of registers, and describes it.
func (t *trial) unit(line string, unit int) rig.Station {
	st := rig.Station{Unit: unit, Tables: map[string]int{}}
	name := fmt.Sprintf("%s-%d", line, unit)
	t.stations = append(t.stations, fields{"name": name, "link": line, "unit": unit, "poll": fmt.Sprintf("%dms", 500+250*t.rng.IntN(3))})
	at := 100*unit%900 + t.rng.IntN(20)
	for i := range 3 + t.rng.IntN(6) {
		a := site.Address{Space: site.HoldingRegisters, Offset: uint16(at)}
		v := rig.Value{At: a, Type: codec.TypeUint16, Signal: []string{"slow", "quick", "still"}[t.rng.IntN(3)]}
		if t.rng.IntN(2) == 0 {
			v.Type = codec.TypeFloat32
		}
		at += codec.Layout{Type: v.Type}.Words() + max(0, t.rng.IntN(4)-1)
		st.Values = append(st.Values, v)
		t.points = append(t.points, fields{"tag": fmt.Sprintf("%s/v%d", name, i), "station": name, "address": a.String(), "type": string(v.Type)})
	}
	st.Tables["hr"] = at + 2
	return st
}

// outstation makes a DNP3 outstation, and describes it.
func (t *trial) outstation(line string, address int) rig.Station {
	name := fmt.Sprintf("%s-%d", line, address)
	st := rig.Station{Outstation: address, Master: 1, Unsolicited: t.rng.IntN(2) == 0}
	t.stations = append(t.stations, fields{"name": name, "link": line, "outstation": address, "event_poll": "1s", "unsolicited": st.Unsolicited})
	for i := range 3 + t.rng.IntN(5) {
		kind := []site.Space{site.AnalogInputs, site.BinaryInputs, site.Counters}[t.rng.IntN(3)]
		a := site.Address{Space: kind, Offset: uint16(i)}
		v := rig.Value{At: a, Class: 1 + t.rng.IntN(3)}
		switch kind {
		case site.AnalogInputs:
			v.Signal, v.Deadband = "slow", 1
		case site.BinaryInputs:
			v.Set = codec.BoolValue(t.rng.IntN(2) == 0)
		default:
			v.Set = codec.UintValue(uint64(t.rng.IntN(5000)))
		}
		st.Values = append(st.Values, v)
		t.points = append(t.points, fields{"tag": fmt.Sprintf("%s/v%d", name, i), "station": name, "address": a.String()})
	}
	return st
}

// some are as many different units as are asked for.
func (t *trial) some(n int) []int {
	list := t.rng.Perm(40)[:n]
	for i := range list {
		list[i] += 3
	}
	return list
}

// siteFile is the site, with the places where the devices listen.
func (t *trial) siteFile(r *rig.Rig) []byte {
	for _, l := range t.links {
		name := l["name"].(string)
		if of, ok := l["as"].(string); ok { // the place of another
			name = of
		}
		if l["transport"] == "serial" || l["transport"] == "dialup" {
			serial, _ := l["serial"].(fields)
			if serial == nil {
				serial = fields{}
			}
			if serial["device"] == nil {
				serial["device"] = r.Address(name)
			}
			l["serial"] = serial
		} else if host, port, err := net.SplitHostPort(r.Address(name)); err == nil && l["host"] == nil {
			l["host"] = host
			if l["port"] == nil {
				l["port"], _ = strconv.Atoi(port)
			}
		}
		delete(l, "as")
	}
	b, err := json.Marshal(fields{"arithmon": 1, "links": t.links, "stations": t.stations, "points": t.points})
	if err != nil {
		panic(err) // they are texts and numbers
	}
	return b
}

// newTrial makes devices and a site at random, with a mistake; a kind of -1 has none.
func newTrial(seed uint64, kind int) *trial {
	t := &trial{rng: rand.New(rand.NewPCG(seed, uint64(kind+1))), ignore: map[string]bool{}}
	t.devices = rig.Config{Rig: rig.Version, Seed: int64(seed % (1 << 40)), Signals: map[string]rig.Signal{
		"slow": sine(20, 90, 40*time.Second), "quick": sine(100, 300, 7*time.Second), "still": {Kind: rig.Constant, Value: 42}}}
	if kind < 0 {
		healthy[int(seed)%len(healthy)](t)
		return t
	}
	mistakes[kind].make(t)
	return t
}

func sine(lo, hi float64, period time.Duration) rig.Signal {
	return rig.Signal{Kind: rig.Sine, Min: &lo, Max: &hi, Period: site.Duration(period)}
}
