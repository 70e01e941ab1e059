package main

import (
	"fmt"
	"net"
	"time"

	"arithmon/internal/core/site"
	"arithmon/internal/live/diagnose"
	"arithmon/internal/rig"
)

// mistake is a kind of mistake.
type mistake struct {
	name string
	slow bool // it shows itself within 90 s
	make func(*trial)
}

func (t *trial) is(subject string, codes ...diagnose.Code) *trial {
	t.codes, t.subject = codes, subject
	return t
}

// mended says that the first step makes all points good.
func (t *trial) mended() { t.mends = true }

// faulty gives a unit of a line faults.
func (t *trial) faulty(line string, unit int, f rig.Faults) {
	t.after = func(r *rig.Rig) {
		if err := r.SetFaults(line, unit, f); err != nil {
			panic(err) // the line and the unit are there
		}
	}
}

// gateway is a line of some units over TCP.
func (t *trial) gateway(l rig.Line) []int {
	units := t.some(2 + t.rng.IntN(3))
	t.line("gate", l, units...)
	return units
}

// one is a device of its own over TCP.
func (t *trial) one(l rig.Line) int {
	unit := t.some(1)[0]
	t.line("gate", l, unit)
	return unit
}

// bus is a serial line of some units.
func (t *trial) bus() []int {
	units := t.some(2 + t.rng.IntN(3))
	t.serial(rig.Line{Strict: true}, units...)
	return units
}

func (t *trial) serial(l rig.Line, units ...int) {
	baud := []int{19200, 38400, 57600}[t.rng.IntN(3)]
	l.Transport, l.Serial = site.Serial, site.LineSettings{Baud: baud}
	t.line("bus", l, units...)
	t.links[len(t.links)-1]["serial"] = fields{"baud": baud}
}

func name(line string, unit int) string { return fmt.Sprintf("%s-%d", line, unit) }

// stationSet changes a station as it is set.
func (t *trial) stationSet(name, field string, value any) {
	for _, s := range t.stations {
		if s["name"] == name {
			s[field] = value
		}
	}
}

// each does something with the points of a station.
func (t *trial) each(station string, f func(p fields, a site.Address)) {
	for _, p := range t.points {
		if p["station"] == station {
			var a site.Address
			if err := a.UnmarshalText([]byte(p["address"].(string))); err != nil {
				panic(err) // it was written by this program
			}
			f(p, a)
		}
	}
}

// device is a fault of a unit beside others.
func device(what string, code diagnose.Code, fault func(*trial) rig.Faults) mistake {
	return mistake{name: what, make: func(t *trial) {
		units := t.gateway(rig.Line{})
		t.faulty("gate", units[0], fault(t))
		t.is(name("gate", units[0]), code)
	}}
}

func fixed(f rig.Faults) func(*trial) rig.Faults { return func(*trial) rig.Faults { return f } }

// onBus is a fault of a unit on a serial line.
func onBus(what string, code diagnose.Code, f rig.Faults) mistake {
	return mistake{name: what, make: func(t *trial) {
		units := t.bus()
		t.faulty("bus", units[0], f)
		t.is(name("bus", units[0]), code)
	}}
}

// onAll gives all units of a line the same faults.
func (t *trial) onAll(line string, units []int, f rig.Faults) {
	t.after = func(r *rig.Rig) {
		for _, u := range units {
			if err := r.SetFaults(line, u, f); err != nil {
				panic(err) // as above
			}
		}
	}
}

var mistakes = []mistake{
	{name: "nothing listens on the port", make: func(t *trial) {
		t.gateway(rig.Line{})
		t.links[0]["port"] = 1
		t.is("gate", diagnose.ConnectionRefused)
	}},
	{name: "a name that is not known", make: func(t *trial) {
		t.gateway(rig.Line{})
		t.links[0]["host"] = "gateway.invalid"
		t.is("gate", diagnose.NameUnresolved)
	}},
	{name: "framing rtu or ascii where mbap is set", make: func(t *trial) {
		t.gateway(rig.Line{Framing: []site.Framing{site.RTU, site.ASCII}[t.rng.IntN(2)]})
		t.links[0]["framing"] = "mbap"
		t.is("gate", diagnose.FramingDiffers).mended()
	}},
	{name: "framing mbap where rtu or ascii is set", make: func(t *trial) {
		t.gateway(rig.Line{Framing: site.MBAP})
		t.links[0]["framing"] = []string{"rtu", "ascii"}[t.rng.IntN(2)]
		t.is("gate", diagnose.FramingDiffers).mended()
	}},
	{name: "TLS where there is none", make: func(t *trial) {
		t.gateway(rig.Line{})
		t.links[0]["transport"] = "tls"
		t.is("gate", diagnose.TransportDiffers).mended()
	}},
	{name: "no TLS where it is wanted", make: func(t *trial) {
		t.gateway(rig.Line{Transport: site.TLS})
		t.links[0]["transport"] = "tcp"
		t.is("gate", diagnose.TransportDiffers)
	}},
	{name: "another program speaks first", make: func(t *trial) {
		t.gateway(rig.Line{})
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			panic(err) // the machine has no network at all
		}
		t.closing = append(t.closing, func() { listener.Close() })
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				fmt.Fprintf(conn, "220 file service ready\r\n")
				go func() {
					conn.Read(make([]byte, 100)) // whatever it is
					fmt.Fprintf(conn, "500 not understood\r\n")
					conn.Close()
				}()
			}
		}()
		t.links[0]["host"], t.links[0]["port"] = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
		t.is("gate", diagnose.NotTheProtocol)
	}},
	{name: "the unit of a single device", make: func(t *trial) {
		unit := []int{1, 255}[t.rng.IntN(2)]
		t.line("gate", rig.Line{}, unit)
		t.stationSet(name("gate", unit), "unit", 5+t.rng.IntN(30))
		t.is(name("gate", unit), diagnose.UnitSilent).mended()
	}},
	{name: "a unit one beside, among others", make: func(t *trial) {
		units := []int{10, 20, 30}
		t.line("gate", rig.Line{}, units...)
		t.stationSet(name("gate", units[1]), "unit", units[1]+1-2*t.rng.IntN(2))
		t.is(name("gate", units[1]), diagnose.UnitSilent).mended()
	}},
	{name: "a unit that is off, among others", make: func(t *trial) {
		units := t.gateway(rig.Line{})
		t.faulty("gate", units[0], rig.Faults{Drop: true})
		t.is(name("gate", units[0]), diagnose.UnitSilent)
	}},
	{name: "a timeout that is too short", make: func(t *trial) {
		unit := t.one(rig.Line{})
		t.links[0]["timeout"] = "200ms"
		t.faulty("gate", unit, rig.Faults{Delay: site.Duration(time.Duration(260+t.rng.IntN(300)) * time.Millisecond)})
		t.is(name("gate", unit), diagnose.TimeoutShort).mended()
	}},
	{name: "the other table, which is refused", make: func(t *trial) {
		units := t.gateway(rig.Line{})
		t.each(name("gate", units[0]), func(p fields, a site.Address) {
			a.Space = site.InputRegisters
			p["address"] = a.String()
		})
		t.is(name("gate", units[0]), diagnose.AddressRefused, diagnose.FunctionRefused).mended()
	}},
	{name: "the other table, which holds nothing", slow: true, make: func(t *trial) {
		units := t.gateway(rig.Line{})
		t.devices.Lines[0].Stations[0].Tables["ir"] = 2000
		t.each(name("gate", units[0]), func(p fields, a site.Address) {
			a.Space = site.InputRegisters
			p["address"] = a.String()
		})
		t.is(name("gate", units[0]), diagnose.TableDiffers).mended()
	}},
	{name: "a point behind the last register", make: func(t *trial) {
		units := t.gateway(rig.Line{})
		n := t.devices.Lines[0].Stations[0].Tables["hr"]
		t.points = append(t.points, fields{"tag": "beyond", "station": name("gate", units[0]), "address": fmt.Sprint("hr:", n)})
		t.is(name("gate", units[0]), diagnose.AddressRefused)
	}},
	{name: "reads that are too long for the device", make: func(t *trial) {
		unit := t.one(rig.Line{})
		st := &t.devices.Lines[0].Stations[0]
		for i := range 40 {
			t.points = append(t.points, fields{"tag": fmt.Sprintf("more/%d", i), "station": name("gate", unit), "address": fmt.Sprint("hr:", st.Tables["hr"]+i)})
		}
		st.Tables["hr"] += 60
		t.faulty("gate", unit, rig.Faults{Longest: 8 + t.rng.IntN(20), LongestEnds: []string{"", "close", "part"}[t.rng.IntN(3)]})
		t.is(name("gate", unit), diagnose.LengthLimit).mended()
	}},
	{name: "a device that takes fewer connections", make: func(t *trial) {
		units := t.gateway(rig.Line{Places: 1})
		t.links[0]["connections"] = 2 + t.rng.IntN(3)
		t.links[0]["timeout"] = "2s"
		t.onAll("gate", units, rig.Faults{Delay: site.Duration(200 * time.Millisecond)})
		for _, s := range t.stations {
			s["poll"] = "500ms"
		}
		t.is("gate", diagnose.ConnectionLimit).mended()
	}},
	{name: "a place that another client has", make: func(t *trial) {
		t.gateway(rig.Line{Places: 1})
		t.after = func(r *rig.Rig) {
			conn, err := net.Dial("tcp", r.Address("gate"))
			if err != nil {
				panic(err) // it has just begun to listen
			}
			t.closing = append(t.closing, func() { conn.Close() })
		}
		t.is("gate", diagnose.ClosesConnection)
	}},
	{name: "two links to a device that takes one connection", make: func(t *trial) {
		t.gateway(rig.Line{Places: 1})
		last := t.stations[len(t.stations)-1]
		second := fields{"name": "second", "as": "gate", "protocol": "modbus", "transport": "tcp", "timeout": "500ms"}
		t.links = append(t.links, second)
		last["link"] = "second"
		t.is("", diagnose.ClosesConnection).mended()
	}},
	{name: "two stations with each other's units", make: func(t *trial) {
		units := []int{1, 5}
		t.line("gate", rig.Line{}, units...)
		t.stationSet("gate-1", "unit", 5)
		t.stationSet("gate-5", "unit", 1)
		// Each has nothing where the other has its values.
		t.devices.Lines[0].Stations[1].Tables["ir"] = t.devices.Lines[0].Stations[1].Tables["hr"]
		delete(t.devices.Lines[0].Stations[1].Tables, "hr")
		for i := range t.devices.Lines[0].Stations[1].Values {
			t.devices.Lines[0].Stations[1].Values[i].At.Space = site.InputRegisters
		}
		t.each("gate-5", func(p fields, a site.Address) {
			a.Space = site.InputRegisters
			p["address"] = a.String()
		})
		t.is("gate", diagnose.Interchanged).mended()
	}},
	{name: "more polls than there is time for", make: func(t *trial) {
		units := t.gateway(rig.Line{})
		t.onAll("gate", units, rig.Faults{Delay: site.Duration(120 * time.Millisecond)})
		t.links[0]["timeout"] = "2s"
		for _, s := range t.stations {
			s["poll"] = []string{"50ms", "100ms"}[t.rng.IntN(2)]
		}
		t.is("gate", diagnose.PollsLate).mended()
	}},
	device("a gateway without a response", diagnose.GatewayTarget, fixed(rig.Faults{Exception: 11})),
	device("a gateway without a path", diagnose.GatewayPath, fixed(rig.Faults{Exception: 10})),
	device("a function that is not there", diagnose.FunctionRefused, fixed(rig.Faults{Exception: 1})),
	device("a device that fails", diagnose.DeviceFailure, fixed(rig.Faults{Exception: 4})),
	device("a device that is busy", diagnose.DeviceBusy, func(t *trial) rig.Faults { return rig.Faults{Exception: 5 + t.rng.IntN(2)} }),
	device("a code of the maker's own", diagnose.ExceptionUnknown, func(t *trial) rig.Faults { return rig.Faults{Exception: 64 + t.rng.IntN(100)} }),
	{name: "responses in another unit's name", make: func(t *trial) {
		units := t.gateway(rig.Line{})
		t.faulty("gate", units[0], rig.Faults{WrongUnit: true})
		t.is(name("gate", units[0]), diagnose.OtherUnit, diagnose.UnitOfAnother) // which may be that of a neighbour
	}},
	device("responses with another identifier", diagnose.IdentifierIgnored, fixed(rig.Faults{Identifier: true})),
	device("two devices of one unit", diagnose.UnitTwice, fixed(rig.Faults{Duplicate: true})),
	{name: "a device that does not hear what comes soon after a response", make: func(t *trial) {
		unit := t.one(rig.Line{})
		t.stationSet(name("gate", unit), "gap", 0)
		for _, at := range []string{"hr:2100", "hr:2500", "hr:2900"} { // of which each is asked for by itself
			t.points = append(t.points, fields{"tag": "far-" + at[3:], "station": name("gate", unit), "address": at})
		}
		t.devices.Lines[0].Stations[0].Tables["hr"] = 3000
		t.faulty("gate", unit, rig.Faults{Rests: site.Duration([]int{80, 150, 250}[t.rng.IntN(3)]) * site.Duration(time.Millisecond)})
		t.is(name("gate", unit), diagnose.PauseShort) // with the pause, there may not be the time for all polls
	}},
	device("responses that are missing at times", diagnose.AnswersMissing, func(t *trial) rig.Faults { return rig.Faults{Drop: true, Some: 3 + t.rng.IntN(3)} }),
	device("responses that end early", diagnose.AnswersMalformed, fixed(rig.Faults{Truncate: true})),
	device("bytes behind responses", diagnose.ExtraBytes, fixed(rig.Faults{Trailing: true})),
	device("a register too few", diagnose.ShortResponse, fixed(rig.Faults{Short: true})),
	{name: "another rate of the line", make: func(t *trial) {
		t.bus()
		own := t.links[0]["serial"].(fields)["baud"].(int)
		for {
			if baud := []int{9600, 19200, 38400, 57600, 115200}[t.rng.IntN(5)]; baud != own {
				t.links[0]["serial"] = fields{"baud": baud}
				break
			}
		}
		t.is("bus", diagnose.LineSettings).mended()
	}},
	{name: "no parity and two stop bits", make: func(t *trial) {
		t.bus()
		t.links[0]["serial"].(fields)["parity"], t.links[0]["serial"].(fields)["stop_bits"] = "none", 2 // a pseudo-terminal keeps no parity
		t.is("bus", diagnose.LineSettings).mended()
	}},
	{name: "framing ascii on a line", make: func(t *trial) {
		units := t.some(2)
		t.serial(rig.Line{Framing: site.ASCII, Strict: true}, units...)
		t.links[0]["framing"] = "rtu"
		t.is("bus", diagnose.FramingDiffers).mended()
	}},
	{name: "a line without a word", make: func(t *trial) {
		units := t.bus()
		t.onAll("bus", units, rig.Faults{Drop: true})
		t.is("bus", diagnose.LineSilent)
	}},
	{name: "noise on a line", make: func(t *trial) {
		units := t.bus()
		t.onAll("bus", units, rig.Faults{Checksum: true, Some: 3 + t.rng.IntN(4)})
		t.is("bus", diagnose.LineNoise)
	}},
	onBus("one device whose frames are damaged", diagnose.UnitDamaged, rig.Faults{Checksum: true}),
	onBus("one device some of whose frames are damaged", diagnose.UnitDamaged, rig.Faults{Checksum: true, Some: 3}),
	onBus("two devices of one unit on a line", diagnose.UnitTwice, rig.Faults{Duplicate: true}),
	onBus("a unit that is off on a line", diagnose.UnitSilent, rig.Faults{Drop: true}),
	{name: "another master on the line", make: func(t *trial) {
		units := t.bus()
		t.faulty("bus", units[0], rig.Faults{TwoMasters: true})
		t.is("bus", diagnose.TwoMasters)
	}},
	{name: "an adapter that echoes", make: func(t *trial) {
		units := t.bus()
		t.onAll("bus", units, rig.Faults{Echo: true})
		t.is("bus", diagnose.Echo).mended()
	}},
	{name: "a port that is not there", make: func(t *trial) {
		t.bus()
		t.links[0]["serial"].(fields)["device"] = "/dev/ttyUSB77"
		t.is("bus", diagnose.PortMissing)
	}},
	{name: "the address of an outstation", make: func(t *trial) {
		address := t.yard()
		t.stationSet(name("yard", address), "outstation", address+60)
		t.is(name("yard", address), diagnose.OtherOutstation, diagnose.OutstationSilent).mended()
	}},
	{name: "the address of the master", make: func(t *trial) {
		address := t.yard()
		t.devices.Lines[0].Stations[0].Master = 3
		t.is(name("yard", address), diagnose.OtherMaster).mended()
	}},
	{name: "the address of the master, of which even the data link layer wants to be sure", make: func(t *trial) {
		address := t.yard()
		t.devices.Lines[0].Stations[0].Master = []int{2, 3, 100}[t.rng.IntN(3)]
		t.faulty("yard", address, rig.Faults{Deaf: true})
		t.is(name("yard", address), diagnose.OtherMaster).mended()
	}},
	atOutstation("an outstation whose link states are to be reset", diagnose.ApplicationSilent, true, rig.Faults{Wants: "reset"}),
	atOutstation("an outstation that wants its data link layer to confirm", diagnose.ApplicationSilent, true, rig.Faults{Wants: "confirm"}),
	atOutstation("an outstation that goes on saying that it restarted", diagnose.DeviceRestarts, false, rig.Faults{Stuck: true}),
	atOutstation("an outstation that answers with other sequence numbers", diagnose.AnswersMalformed, false, rig.Faults{Identifier: true}),
	atOutstation("an outstation that has lost what is behind it", diagnose.PointsFlagged, false, rig.Faults{CommLost: true}),
	{name: "points that an outstation flags", make: func(t *trial) {
		address := t.yard()
		flags := []string{"offline", "restart", "local_forced", "remote_forced"}
		for _, v := range t.devices.Lines[0].Stations[0].Values {
			if v.At.Space == site.AnalogInputs { // which alone have these
				flags = append(flags, "over_range", "reference_error")
				break
			}
		}
		t.faulty("yard", address, rig.Faults{Flag: flags[t.rng.IntN(len(flags))]})
		t.is(name("yard", address), diagnose.PointsFlagged)
	}},
	{name: "a list of points that counts from 1", make: func(t *trial) {
		address := t.yard()
		for _, p := range t.points {
			a := site.Address{}
			if err := a.UnmarshalText([]byte(p["address"].(string))); err != nil {
				panic(err) // it was made here
			}
			a.Offset++
			p["address"] = a.String()
		}
		t.is(name("yard", address), diagnose.PointsMissing).mended()
	}},
	{name: "two outstations that have each other's addresses", make: func(t *trial) {
		a := 5 + t.rng.IntN(50)
		b := a + 1 + t.rng.IntN(5)
		l := t.line("yard", rig.Line{Protocol: site.DNP3}, a, b)
		for i, kind := range []site.Space{site.AnalogInputs, site.Counters} {
			for j := range 3 {
				at := site.Address{Space: kind, Offset: uint16(40 + j)}
				l.Stations[i].Values = append(l.Stations[i].Values, rig.Value{At: at, Signal: "still"})
				t.points = append(t.points, fields{"tag": fmt.Sprintf("own%d-%d", i, j), "station": name("yard", []int{a, b}[i]), "address": at.String()})
			}
		}
		t.stationSet(name("yard", a), "outstation", b)
		t.stationSet(name("yard", b), "outstation", a)
		t.is("yard", diagnose.Interchanged).mended()
	}},
	{name: "a link of Modbus to an outstation", make: func(t *trial) {
		t.yard()
		t.links[0]["protocol"] = "modbus"
		for _, s := range t.stations {
			delete(s, "outstation")
			delete(s, "integrity_poll")
			delete(s, "event_poll")
			delete(s, "unsolicited")
			s["unit"] = 1
		}
		for i, p := range t.points {
			p["address"] = fmt.Sprintf("hr:%d", i)
		}
		t.is("yard", diagnose.NotTheProtocol)
	}},
	{name: "points of another kind in an outstation", make: func(t *trial) {
		address := 5 + t.rng.IntN(50)
		l := t.line("yard", rig.Line{Protocol: site.DNP3}, address)
		l.Stations[0].Values = append(l.Stations[0].Values, rig.Value{At: site.Address{Space: site.AnalogOutputs, Offset: 30}, Signal: "still"})
		t.points = append(t.points, fields{"tag": "limit", "station": name("yard", address), "address": "ai:30"})
		t.is(name("yard", address), diagnose.PointsMissing).mended()
	}},
	{name: "a clock that is off by an hour", make: func(t *trial) {
		address := t.yard()
		t.faulty("yard", address, rig.Faults{Clock: site.Duration(time.Hour)})
		t.is(name("yard", address), diagnose.ClockWrong)
	}},
	{name: "another master at an outstation", make: func(t *trial) {
		address := t.yard()
		t.faulty("yard", address, rig.Faults{TwoMasters: true})
		t.is(name("yard", address), diagnose.TwoMasters)
	}},
	{name: "an outstation whose application is silent", make: func(t *trial) {
		address := t.yard()
		t.faulty("yard", address, rig.Faults{LinkOnly: true})
		t.is(name("yard", address), diagnose.ApplicationSilent)
	}},
	{name: "an outstation without event classes", make: func(t *trial) {
		address := t.yard()
		t.faulty("yard", address, rig.Faults{NoEvents: true})
		t.is(name("yard", address), diagnose.ClassRefused)
	}},
	{name: "an outstation in local control", make: func(t *trial) {
		address := t.yard()
		t.faulty("yard", address, rig.Faults{Local: true})
		t.is(name("yard", address), diagnose.LocalControl)
	}},
	{name: "a damaged way to an outstation", make: func(t *trial) {
		address := t.yard()
		t.faulty("yard", address, rig.Faults{Checksum: true})
		t.is(name("yard", address), diagnose.FramesDamaged)
	}},
	{name: "a factor missing in an outstation", make: func(t *trial) {
		address := 5 + t.rng.IntN(50)
		l := t.line("yard", rig.Line{Protocol: site.DNP3}, address)
		factor := []float64{100, 1000}[t.rng.IntN(2)]
		l.Stations[0].Values = append(l.Stations[0].Values, rig.Value{At: site.Address{Space: site.AnalogInputs, Offset: 30}, Signal: "quick", Factor: &factor, Class: 2, Deadband: factor})
		t.points = append(t.points, fields{"tag": "flow", "station": name("yard", address), "address": "ai:30", "unit": "m³/h", "range": []int{0, 400}})
		t.is("flow", diagnose.ScalingDiffers).mended()
	}},
	called("a number that is busy", rig.Faults{Call: "busy"}),
	called("a number at which nobody answers", rig.Faults{Call: "no_answer"}),
	called("a number at which no modem answers", rig.Faults{Call: "no_carrier"}),
	{name: "a digit of a number", make: func(t *trial) {
		station := t.dialled()
		t.stationSet(station, "number", "5550199")
		t.is(station, diagnose.CallFails)
	}},
	{name: "a line without a modem where one is set", make: func(t *trial) {
		units := t.bus()
		t.links[0]["transport"] = "dialup"
		for _, u := range units {
			t.stationSet(name("bus", u), "number", "5550100")
		}
		t.is("bus", diagnose.NoModem)
	}},
}

// yard is an outstation of its own.
func (t *trial) yard() (address int) {
	address = 5 + t.rng.IntN(50)
	t.line("yard", rig.Line{Protocol: site.DNP3}, address)
	return address
}

// atOutstation is a fault of an outstation, which a setting may mend.
func atOutstation(what string, code diagnose.Code, mends bool, f rig.Faults) mistake {
	return mistake{name: what, make: func(t *trial) {
		address := t.yard()
		t.faulty("yard", address, f)
		if t.is(name("yard", address), code); mends {
			t.mended()
		}
	}}
}

// called is a fault of the calls to a number.
func called(what string, f rig.Faults) mistake {
	return mistake{name: what, make: func(t *trial) {
		station := t.dialled()
		t.faulty("phone", t.devices.Lines[0].Stations[0].Unit, f)
		t.is(station, diagnose.CallFails)
	}}
}

// dialled is a line over a modem, with two stations at numbers of their own, and gives the first one.
func (t *trial) dialled() (station string) {
	units := t.some(2)
	l := t.line("phone", rig.Line{Transport: site.Dialup, Connect: site.Duration(100 * time.Millisecond), Serial: site.LineSettings{Baud: 57600}}, units...)
	link := t.links[len(t.links)-1]
	link["serial"] = fields{"baud": 57600}
	link["modem"] = fields{"idle": "1s", "redial": "2s", "guard": "900ms"}
	for i, u := range units {
		l.Stations[i].Number = fmt.Sprint(5550100 + i)
		t.stationSet(name("phone", u), "number", l.Stations[i].Number)
		t.stationSet(name("phone", u), "poll", "4s")
	}
	return name("phone", units[0])
}

// healthy are sites on which nothing is wrong.
var healthy = []func(*trial){
	func(t *trial) { t.gateway(rig.Line{}) },
	func(t *trial) { t.gateway(rig.Line{Framing: site.RTU}) },
	func(t *trial) { t.bus() },
	func(t *trial) { t.line("yard", rig.Line{Protocol: site.DNP3}, 10) },
	func(t *trial) { // slow, and yet in time
		units := t.gateway(rig.Line{})
		t.links[0]["timeout"] = "1s"
		t.onAll("gate", units, rig.Faults{Delay: site.Duration(60 * time.Millisecond)})
	},
	func(t *trial) { // some responses get lost
		units := t.gateway(rig.Line{})
		t.onAll("gate", units, rig.Faults{Drop: true, Some: 60})
	},
	func(t *trial) { t.dialled() },
	func(t *trial) { // restarted now and then
		units := t.gateway(rig.Line{})
		t.onAll("gate", units, rig.Faults{Close: true, Some: 2000})
	},
}
