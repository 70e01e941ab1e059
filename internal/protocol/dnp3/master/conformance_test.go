package master_test

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/check/e2e/farend"
	"arithmon/internal/core/codec"
	"arithmon/internal/protocol/dnp3"
	"arithmon/internal/protocol/dnp3/master"
)

// What a master must send, octet by octet, and what it makes of the response. The sequence number of requests is left out.
func TestConformanceRequests(t *testing.T) {
	output := func(o dnp3.Output) master.Command { return master.Command{Index: 3, Output: &o} }
	analog := func(variation byte, v codec.Value, index uint16) master.Command {
		return master.Command{Index: index, Analog: &dnp3.AnalogCommand{Variation: variation, Value: v}}
	}
	command := func(c master.Command, m master.Mode) func(*master.Outstation) error {
		return func(o *master.Outstation) error { _, err := o.Command(c, m); return err }
	}
	read := func(c master.Classes) func(*master.Outstation) error {
		return func(o *master.Outstation) error { _, err := o.Read(c, nil); return err }
	}
	type exchange struct{ request, answer string }
	for _, c := range []struct {
		clause, name string
		do           func(*master.Outstation) error
		exchanges    []exchange
		err          string
	}{
		{"4.4.2", "read class 1", read(master.Class1), []exchange{{"C0 01 3C 02 06", "00 00"}}, ""},
		{"4.4.2", "read class 2", read(master.Class2), []exchange{{"C0 01 3C 03 06", "00 00"}}, ""},
		{"4.4.2", "read class 3", read(master.Class3), []exchange{{"C0 01 3C 04 06", "00 00"}}, ""},
		{"4.4.2", "read class 0", read(master.Class0), []exchange{{"C0 01 3C 01 06", "00 00"}}, ""},
		{"4.4.2", "an integrity poll reads events before present values", read(master.Class0 | master.Events), []exchange{{"C0 01 3C 02 06 3C 03 06 3C 04 06 3C 01 06", "00 00"}}, ""},
		{"4.2.2.6", "a read that is refused: IIN2.1", read(master.Class3), []exchange{{"C0 01 3C 04 06", "00 02"}}, "refuses read: object unknown"},
		{"4.2.2.6", "IIN2.0", read(master.Class3), []exchange{{"C0 01 3C 04 06", "00 01"}}, "refuses read: function not supported"},
		{"4.2.2.6", "IIN2.2", read(master.Class3), []exchange{{"C0 01 3C 04 06", "00 04"}}, "refuses read: parameter error"},
		{"4.4.6.1", "enable unsolicited responses", func(o *master.Outstation) error { _, err := o.Unsolicited(true, master.Events); return err },
			[]exchange{{"C0 14 3C 02 06 3C 03 06 3C 04 06", "00 00"}}, ""},
		{"4.4.6.1", "of one class", func(o *master.Outstation) error {
			_, err := o.Unsolicited(true, master.Class2|master.Class0)
			return err
		},
			[]exchange{{"C0 14 3C 03 06", "00 00"}}, ""},
		{"4.4.6.2", "disable unsolicited responses", func(o *master.Outstation) error { _, err := o.Unsolicited(false, master.Events); return err },
			[]exchange{{"C0 15 3C 02 06 3C 03 06 3C 04 06", "00 00"}}, ""},
		{"4.4.6.6", "clear the restart indication", func(o *master.Outstation) error { _, err := o.ClearRestart(); return err },
			[]exchange{{"C0 02 50 01 00 07 07 00", "00 00"}}, ""},
		{"10.3.2", "delay measurement: 12 ms", func(o *master.Outstation) error {
			d, err := o.Delay()
			if err == nil && d > time.Second {
				err = errors.New("too long")
			}
			return err
		}, []exchange{{"C0 17", "00 00 34 02 07 01 0C 00"}}, ""},
		{"10.3.2", "delay measurement without its object", func(o *master.Outstation) error { _, err := o.Delay(); return err }, []exchange{{"C0 17", "00 00"}}, "no time delay"},
		{"10.3.2", "delay measurement with a size before its object", func(o *master.Outstation) error { _, err := o.Delay(); return err },
			[]exchange{{"C0 17", "00 00 34 02 5B 01 02 00 0C 00"}}, "no time delay"},
		{"4.4.8", "freeze all counters", func(o *master.Outstation) error {
			_, err := o.Ask(dnp3.FuncFreeze, []byte{20, 0, 6}, nil)
			return err
		}, []exchange{{"C0 07 14 00 06", "00 00"}}, ""},
		{"4.4.6.5", "assign class 2 to binary input 5", func(o *master.Outstation) error { return o.AssignClass(2, 1, 5) },
			[]exchange{{"C0 16 3C 03 06 01 00 00 05 05", "00 00"}}, ""},
		{"4.4.6.5", "and to binary input 300", func(o *master.Outstation) error { return o.AssignClass(1, 1, 300) },
			[]exchange{{"C0 16 3C 02 06 01 00 01 2C 01 2C 01", "00 00"}}, ""},
		{"4.4.6.5", "refused", func(o *master.Outstation) error { return o.AssignClass(0, 1, 5) }, []exchange{{"C0 16 3C 01 06 01 00 00 05 05", "00 01"}}, "refuses assign class"},
		{"A.34", "write a deadband of 2.5", func(o *master.Outstation) error { return o.WriteDeadband(7, 2.5) }, []exchange{{"C0 02 22 03 00 07 07 00 00 20 40", "00 00"}}, ""},
		{"10.3", "read the clock", func(o *master.Outstation) error {
			theirs, _, err := o.Clock()
			if err == nil && theirs != 0x0100 {
				err = fmt.Errorf("%d", theirs)
			}
			return err
		}, []exchange{{"C0 01 32 01 07 01", "00 00 32 01 07 01 00 01 00 00 00 00"}}, ""},
		{"10.3", "a clock of the year 10889", func(o *master.Outstation) error {
			theirs, _, err := o.Clock()
			if err == nil && theirs.Go().Year() != 10889 {
				err = fmt.Errorf("%s", theirs.Go())
			}
			return err
		}, []exchange{{"C0 01 32 01 07 01", "00 00 32 01 07 01 FF FF FF FF FF FF"}}, ""},
		{"10.3", "a clock with a size before it", func(o *master.Outstation) error { _, _, err := o.Clock(); return err },
			[]exchange{{"C0 01 32 01 07 01", "00 00 32 01 5B 01 06 00 00 01 00 00 00 00"}}, "does not say its time"},
		{"A.2", "device attributes", func(o *master.Outstation) error {
			list, err := o.Attributes()
			if err == nil && (len(list) != 2 || list[0].Text() != "AB" || list[1].Text() != "7") {
				err = fmt.Errorf("%v", list)
			}
			return err
		}, []exchange{{"C0 01 00 FE 00 00 00", "00 00 00 FC 00 00 00 01 02 41 42 00 D5 00 00 00 02 01 07"}}, ""},
		{"4.4.3", "select and operate: latch on", command(output(dnp3.Output{Code: dnp3.LatchOn, Count: 1}), master.SelectOperate), []exchange{
			{"C0 03 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00", "00 00 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00"},
			{"C0 04 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00", "00 00 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00"}}, ""},
		{"A.8", "pulse on for 500 ms", command(output(dnp3.Output{Code: dnp3.PulseOn, Count: 1, On: 500}), master.Direct), []exchange{
			{"C0 05 0C 01 17 01 03 01 01 F4 01 00 00 00 00 00 00 00", "00 00 0C 01 17 01 03 01 01 F4 01 00 00 00 00 00 00 00"}}, ""},
		{"A.8", "trip", command(output(dnp3.Output{Code: dnp3.Trip | dnp3.PulseOn, Count: 1, On: 500}), master.Direct), []exchange{
			{"C0 05 0C 01 17 01 03 81 01 F4 01 00 00 00 00 00 00 00", "00 00 0C 01 17 01 03 81 01 F4 01 00 00 00 00 00 00 00"}}, ""},
		{"4.4.3", "the select is answered with another code", command(output(dnp3.Output{Code: dnp3.LatchOn, Count: 1}), master.SelectOperate), []exchange{
			{"C0 03 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00", "00 00 0C 01 17 01 03 04 01 00 00 00 00 00 00 00 00 00"}}, "repeats something else"},
		{"A.8", "status 4: not supported", command(output(dnp3.Output{Code: dnp3.LatchOn, Count: 1}), master.SelectOperate), []exchange{
			{"C0 03 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00", "00 00 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 04"}}, "not supported"},
		{"A.8", "status 1 of the operate: timeout", command(output(dnp3.Output{Code: dnp3.LatchOn, Count: 1}), master.SelectOperate), []exchange{
			{"C0 03 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00", "00 00 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00"},
			{"C0 04 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00", "00 00 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 01"}}, "operate: "},
		{"4.2.2.6", "IIN2.4 to the operate: it executes already", command(output(dnp3.Output{Code: dnp3.LatchOn, Count: 1}), master.SelectOperate), []exchange{
			{"C0 03 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00", "00 00 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00"},
			{"C0 04 0C 01 17 01 03 03 01 00 00 00 00 00 00 00 00 00", "00 10"}}, "refuses operate: already executing"},
		{"A.41", "int32", command(analog(1, codec.IntValue(-2), 1), master.Direct), []exchange{
			{"C0 05 29 01 17 01 01 FE FF FF FF 00", "00 00 29 01 17 01 01 FE FF FF FF 00"}}, ""},
		{"A.41", "int16", command(analog(2, codec.IntValue(258), 1), master.Direct), []exchange{{"C0 05 29 02 17 01 01 02 01 00", "00 00 29 02 17 01 01 02 01 00"}}, ""},
		{"A.41", "binary32", command(analog(3, codec.FloatValue(1.5), 1), master.Direct), []exchange{
			{"C0 05 29 03 17 01 01 00 00 C0 3F 00", "00 00 29 03 17 01 01 00 00 C0 3F 00"}}, ""},
		{"A.41", "binary64, index 300", command(analog(4, codec.FloatValue(1.5), 300), master.Direct), []exchange{
			{"C0 05 29 04 28 01 00 2C 01 00 00 00 00 00 00 F8 3F 00", "00 00 29 04 28 01 00 2C 01 00 00 00 00 00 00 F8 3F 00"}}, ""},
		{"A.41", "a value beyond int16 is not sent", command(analog(2, codec.IntValue(40000), 1), master.Direct), nil, "beyond what g41v2 takes"},
		{"4.4.3", "direct operate, no acknowledgement", command(output(dnp3.Output{Code: dnp3.LatchOff, Count: 1}), master.DirectUnanswered), []exchange{
			{"C0 06 0C 01 17 01 03 04 01 00 00 00 00 00 00 00 00 00", ""}}, ""},
	} {
		t.Run(c.clause+" "+c.name, func(t *testing.T) {
			t.Parallel()
			f := meet(t, master.Options{Timeout: 5 * time.Second})
			done := make(chan error, 1)
			go func() { done <- c.do(f.Outstation) }()
			for _, x := range c.exchanges {
				if seq := f.expect(x.request); x.answer != "" {
					f.answer(0xC0, seq, x.answer)
				}
			}
			err := <-done
			if c.err == "" {
				assert.NoError(t, err)
			} else {
				assert.ErrorContains(t, err, c.err)
			}
		})
	}
}

// What a master makes of objects, each variation of annex A that it reads.
func TestConformanceObjects(t *testing.T) {
	for _, c := range []struct {
		clause, objects string
		want            []string
	}{
		{"A.1 g1v1", "01 01 00 03 0C 05 02", []string{"binary input 3 true", "binary input 4 false", "binary input 5 true", "binary input 6 false", "binary input 7 false", "binary input 8 false", "binary input 9 false", "binary input 10 false", "binary input 11 false", "binary input 12 true"}},
		{"A.1 g1v2", "01 02 00 05 06 81 01", []string{"binary input 5 true 0x81", "binary input 6 false 0x01"}},
		{"A.1 g1v2, 16-bit range", "01 02 01 2C 01 2C 01 81", []string{"binary input 300 true 0x81"}},
		{"A.1 g1v2, index 8", "01 02 17 02 09 81 03 01", []string{"binary input 9 true 0x81", "binary input 3 false 0x01"}},
		{"A.1 g1v2, index 16", "01 02 28 01 00 2C 01 81", []string{"binary input 300 true 0x81"}},
		{"A.2 g2v1", "02 01 17 01 04 81", []string{"binary input 4 true 0x81 event"}},
		{"A.2 g2v2", "02 02 28 01 00 04 00 01 E8 03 00 00 00 00", []string{"binary input 4 false 0x01 event at 1000"}},
		{"A.2 g2v3 after g51v1", "33 01 07 01 E8 03 00 00 00 00 02 03 17 02 04 81 0A 00 05 01 14 00", []string{"binary input 4 true 0x81 event at 1010", "binary input 5 false 0x01 event at 1020"}},
		{"A.2 g2v3 after g51v2", "33 02 07 01 E8 03 00 00 00 00 02 03 17 01 04 81 0A 00", []string{"binary input 4 true 0x81 event at 1010 unsynchronised"}},
		{"A.2 g2v3 without a common time", "02 03 17 01 04 81 0A 00", []string{"binary input 4 true 0x81 event"}},
		{"A.3 g3v1", "03 01 00 00 03 E4", []string{"double-bit input 0 0", "double-bit input 1 1", "double-bit input 2 2", "double-bit input 3 3"}},
		{"A.3 g3v2", "03 02 00 07 07 81", []string{"double-bit input 7 2 0x81"}},
		{"A.4 g4v1", "04 01 17 01 07 41", []string{"double-bit input 7 1 0x41 event"}},
		{"A.4 g4v2", "04 02 17 01 07 41 E8 03 00 00 00 00", []string{"double-bit input 7 1 0x41 event at 1000"}},
		{"A.6 g10v1", "0A 01 00 00 01 02", []string{"binary output 0 false", "binary output 1 true"}},
		{"A.6 g10v2", "0A 02 00 02 02 81", []string{"binary output 2 true 0x81"}},
		{"A.7 g11v1", "0B 01 17 01 02 01", []string{"binary output 2 false 0x01 event"}},
		{"A.7 g11v2", "0B 02 17 01 02 81 01 00 00 00 00 00", []string{"binary output 2 true 0x81 event at 1"}},
		{"A.9 g13v1: a command is no change", "0D 01 17 01 02 81", []string{"binary output 2 true command " + dnp3.Status(1).String() + " event"}},
		{"A.10 g20v1", "14 01 00 01 01 01 04 03 02 01", []string{"counter 1 16909060 0x01"}},
		{"A.10 g20v2", "14 02 00 01 01 01 02 01", []string{"counter 1 258 0x01"}},
		{"A.10 g20v5", "14 05 00 01 01 FF FF FF FF", []string{"counter 1 4294967295"}},
		{"A.10 g20v6", "14 06 00 01 01 FF FF", []string{"counter 1 65535"}},
		{"A.11 g21v1", "15 01 00 01 01 01 04 00 00 00", []string{"frozen counter 1 4 0x01"}},
		{"A.11 g21v5", "15 05 00 01 01 01 04 00 00 00 E8 03 00 00 00 00", []string{"frozen counter 1 4 0x01 at 1000"}},
		{"A.11 g21v6", "15 06 00 01 01 01 04 00 E8 03 00 00 00 00", []string{"frozen counter 1 4 0x01 at 1000"}},
		{"A.11 g21v9", "15 09 00 01 01 04 00 00 00", []string{"frozen counter 1 4"}},
		{"A.11 g21v10", "15 0A 00 01 01 04 00", []string{"frozen counter 1 4"}},
		{"A.12 g22v1", "16 01 17 01 01 41 04 00 00 00", []string{"counter 1 4 0x41 event"}},
		{"A.12 g22v2", "16 02 17 01 01 01 04 00", []string{"counter 1 4 0x01 event"}},
		{"A.12 g22v5", "16 05 17 01 01 01 04 00 00 00 01 00 00 00 00 00", []string{"counter 1 4 0x01 event at 1"}},
		{"A.13 g23v1", "17 01 17 01 01 01 04 00 00 00", []string{"frozen counter 1 4 0x01 event"}},
		{"A.14 g30v1", "1E 01 00 00 00 01 FE FF FF FF", []string{"analog input 0 -2 0x01"}},
		{"A.14 g30v2", "1E 02 00 00 00 21 00 80", []string{"analog input 0 -32768 0x21"}},
		{"A.14 g30v3", "1E 03 00 00 00 FF FF FF 7F", []string{"analog input 0 2147483647"}},
		{"A.14 g30v4", "1E 04 00 00 01 01 00 FF FF", []string{"analog input 0 1", "analog input 1 -1"}},
		{"A.14 g30v5", "1E 05 00 00 00 01 00 00 C0 3F", []string{"analog input 0 1.5 0x01"}},
		{"A.14 g30v5, not a number", "1E 05 00 00 00 01 00 00 C0 7F", []string{"analog input 0 not a number 0x01"}},
		{"A.14 g30v6", "1E 06 00 00 00 01 00 00 00 00 00 00 F8 3F", []string{"analog input 0 1.5 0x01"}},
		{"A.15 g31v1", "1F 01 00 00 00 01 05 00 00 00", []string{"frozen analog input 0 5 0x01"}},
		{"A.16 g32v1", "20 01 17 01 00 01 05 00 00 00", []string{"analog input 0 5 0x01 event"}},
		{"A.16 g32v2", "20 02 17 01 00 01 05 00", []string{"analog input 0 5 0x01 event"}},
		{"A.16 g32v3", "20 03 17 01 00 01 05 00 00 00 02 00 00 00 00 00", []string{"analog input 0 5 0x01 event at 2"}},
		{"A.16 g32v4", "20 04 17 01 00 01 05 00 02 00 00 00 00 00", []string{"analog input 0 5 0x01 event at 2"}},
		{"A.16 g32v5", "20 05 17 01 00 01 00 00 C0 3F", []string{"analog input 0 1.5 0x01 event"}},
		{"A.16 g32v6", "20 06 17 01 00 01 00 00 00 00 00 00 F8 3F", []string{"analog input 0 1.5 0x01 event"}},
		{"A.16 g32v7", "20 07 17 01 00 01 00 00 C0 3F 02 00 00 00 00 00", []string{"analog input 0 1.5 0x01 event at 2"}},
		{"A.16 g32v8", "20 08 17 01 00 01 00 00 00 00 00 00 F8 3F 02 00 00 00 00 00", []string{"analog input 0 1.5 0x01 event at 2"}},
		{"A.17 g33v1", "21 01 17 01 00 01 05 00 00 00", []string{"frozen analog input 0 5 0x01 event"}},
		{"A.19 g40v1", "28 01 00 03 03 01 05 00 00 00", []string{"analog output 3 5 0x01"}},
		{"A.19 g40v2", "28 02 00 03 03 01 05 00", []string{"analog output 3 5 0x01"}},
		{"A.19 g40v3", "28 03 00 03 03 01 00 00 C0 3F", []string{"analog output 3 1.5 0x01"}},
		{"A.19 g40v4", "28 04 00 03 03 01 00 00 00 00 00 00 F8 3F", []string{"analog output 3 1.5 0x01"}},
		{"A.21 g42v1", "2A 01 17 01 03 01 05 00 00 00", []string{"analog output 3 5 0x01 event"}},
		{"A.21 g42v7", "2A 07 17 01 03 01 00 00 C0 3F 02 00 00 00 00 00", []string{"analog output 3 1.5 0x01 event at 2"}},
		{"A.40 g110v3", "6E 03 00 02 02 41 42 00", []string{`octet string 2 AB`}},
		{"A.41 g111v2", "6F 02 17 01 02 41 42", []string{`octet string 2 AB event`}},
		{"a delta counter is passed over", "14 03 00 00 00 01 05 00 00 00 01 02 00 05 05 81", []string{"binary input 5 true 0x81"}},
		{"a BCD object is passed over", "65 01 00 00 00 12 34 01 02 00 05 05 81", []string{"binary input 5 true 0x81"}},
		{"a virtual terminal is passed over", "71 02 17 01 00 41 42 01 02 00 05 05 81", []string{"binary input 5 true 0x81"}},
		{"security statistics are passed over", "79 01 00 00 00 00 01 00 00 00 00 01 01 02 00 05 05 81", []string{"binary input 5 true 0x81"}},
		{"4.2.2.7.3 objects with sizes are refused, what follows is read", "1E 01 5B 01 01 00 01 01 02 00 05 05 81", []string{"binary input 5 true 0x81", "fault: objects with a size instead of an index: g30v1"}},
		{"4.2.2.7.3 events with sizes", "02 02 5B 01 03 00 61 62 63", []string{"fault: objects with a size instead of an index: g2v2"}},
		{"4.2.2.7.3 octet strings with sizes", "6E 04 5B 01 02 00 61 62", []string{"fault: objects with a size instead of an index: g110v4"}},
		{"a range that ends before it starts", "01 02 00 06 05 81", []string{"fault: a range that ends before it starts: g1v2 6 to 5"}},
		{"an object that ends too early", "1E 01 00 00 00 01 05", []string{"fault: the fragment ends too early"}},
		{"an unknown object", "63 01 00 00 00 01", []string{"fault: unknown object g99v1"}},
		{"an unknown qualifier", "01 02 99 01 05 81", []string{"fault: unknown qualifier 0x99 of g1v2"}},
		{"no objects", "", []string{"nothing, none"}},
	} {
		t.Run(c.clause, func(t *testing.T) {
			t.Parallel()
			f := meet(t, master.Options{Timeout: 5 * time.Second})
			done := make(chan error, 1)
			go func() { _, err := f.Read(master.Class0, nil); done <- err }()
			f.answer(0xC0, f.expect("C0 01 3C 01 06"), "00 00 "+c.objects)
			require.NoError(t, <-done)
			assert.Equal(t, c.want, f.take())
		})
	}
}

func TestConformanceFragments(t *testing.T) {
	start := func(t *testing.T) (*far, byte, chan error) {
		f := meet(t, master.Options{Timeout: 300 * time.Millisecond})
		done := make(chan error, 1)
		go func() { _, err := f.Read(master.Class1, nil); done <- err }()
		return f, f.expect("C0 01 3C 02 06"), done
	}
	const event, one = "02 01 17 01 04 81", "binary input 4 true 0x81 event"
	t.Run("4.2.2.2 a response that wants it is confirmed, after it was taken", func(t *testing.T) {
		f, seq, done := start(t)
		f.answer(0xE0, seq, "00 00 "+event)
		f.confirmed(0xC0 | seq)
		require.NoError(t, <-done)
		assert.Equal(t, []string{one}, f.take())
	})
	t.Run("4.2.2.2 two fragments, each confirmed, with numbers that follow", func(t *testing.T) {
		f, seq, done := start(t)
		f.answer(0xA0, seq, "00 00 "+event)
		f.confirmed(0xC0 | seq)
		f.answer(0x60, (seq+1)&15, "00 00 "+event)
		f.confirmed(0xC0 | (seq+1)&15)
		require.NoError(t, <-done)
		assert.Equal(t, []string{one, one}, f.take())
	})
	for name, wrong := range map[string]func(f *far, seq byte){
		"4.2.2.2 another sequence number":          func(f *far, seq byte) { f.answer(0xC0, (seq+3)&15, "00 00 "+event) },
		"4.2.2.4 a response with UNS":              func(f *far, seq byte) { f.answer(0xD0, seq, "00 00 "+event) },
		"4.2.2.2 a fragment that is not the first": func(f *far, seq byte) { f.answer(0x40, seq, "00 00 "+event) },
		"4.2.2.5 a request":                        func(f *far, seq byte) { f.fragment(fmt.Sprintf("%02X 01 3C 02 06", 0xC0|seq)) },
		"4.2.2.6 a response without indications":   func(f *far, seq byte) { f.fragment(fmt.Sprintf("%02X 81", 0xC0|seq)) },
		"9.2.4 a frame whose data have a wrong CRC": func(f *far, seq byte) {
			frame := farFrame(0x44, append([]byte{0xC0, 0xC0 | seq, 0x81, 0, 0}, octets(f.t, event)...))
			frame[len(frame)-1] ^= 1
			f.say(frame)
		},
		"9.2.4 a frame from another outstation": func(f *far, seq byte) {
			f.say(farend.DNP3Frame(0x44, 1, 11, append([]byte{0xC0, 0xC0 | seq, 0x81, 0, 0}, octets(f.t, event)...)))
		},
		"9.2.4 a frame to another master": func(f *far, seq byte) {
			f.say(farend.DNP3Frame(0x44, 2, 10, append([]byte{0xC0, 0xC0 | seq, 0x81, 0, 0}, octets(f.t, event)...)))
		},
		"9.2.4 a frame with DIR set": func(f *far, seq byte) {
			f.say(farFrame(0xC4, append([]byte{0xC0, 0xC0 | seq, 0x81, 0, 0}, octets(f.t, event)...)))
		},
		"8.2.2 a segment that is not the first": func(f *far, seq byte) {
			f.say(farFrame(0x44, append([]byte{0x80, 0xC0 | seq, 0x81, 0, 0}, octets(f.t, event)...)))
		},
		"9.2.6 confirmed user data before a reset": func(f *far, seq byte) {
			f.say(farFrame(0x73, append([]byte{0xC0, 0xC0 | seq, 0x81, 0, 0}, octets(f.t, event)...)))
		},
	} {
		t.Run(name+" is not taken", func(t *testing.T) {
			t.Parallel()
			f, seq, done := start(t)
			wrong(f, seq)
			assert.ErrorIs(t, <-done, master.ErrTimeout)
			assert.Empty(t, f.take())
		})
	}
	t.Run("8.2.3 a fragment in three segments, one of which comes twice", func(t *testing.T) {
		f, seq, done := start(t)
		f.say(farFrame(0x44, []byte{0x45, 0xC0 | seq, 0x81}))
		f.say(farFrame(0x44, []byte{0x06, 0, 0}))
		f.say(farFrame(0x44, []byte{0x06, 0, 0}))
		f.say(farFrame(0x44, append([]byte{0x87}, octets(t, event)...)))
		require.NoError(t, <-done)
		assert.Equal(t, []string{one}, f.take())
	})
	t.Run("9.2.4.1.1 octets of no frame before one are passed over", func(t *testing.T) {
		f, seq, done := start(t)
		f.say([]byte{0x05, 0x05, 0x64, 0x00, 0x13})
		f.answer(0xC0, seq, "00 00 "+event)
		require.NoError(t, <-done)
		assert.Equal(t, []string{one}, f.take())
	})
	t.Run("4.2.2.2 events that could not be kept are not confirmed, values are", func(t *testing.T) {
		f, seq, done := start(t)
		f.mu.Lock()
		f.full = true
		f.mu.Unlock()
		f.answer(0xE0, seq, "00 00 "+event)
		require.NoError(t, <-done)
		go func() { _, err := f.Read(master.Class0, nil); done <- err }()
		seq = f.expect("C0 01 3C 01 06") // and no confirmation before it
		f.answer(0xE0, seq, "00 00 01 02 00 04 04 81")
		f.confirmed(0xC0 | seq)
		require.NoError(t, <-done)
	})
	t.Run("a fragment with what is not understood is not confirmed", func(t *testing.T) {
		f, seq, done := start(t)
		f.answer(0xE0, seq, "00 00 "+event+" 63 01 17 01 00")
		require.NoError(t, <-done)
		assert.Equal(t, []string{one, "fault: unknown object g99v1"}, f.take())
		go f.Status()
		control, _ := f.heard()
		assert.Equal(t, byte(0xC9), control, "a request for link status, and no confirmation before it")
	})
}

func TestConformanceUnsolicited(t *testing.T) {
	const report = "02 01 17 01 04 81"
	t.Run("4.6.2.4 it is confirmed with its own number and UNS", func(t *testing.T) {
		f := meet(t, master.Options{})
		f.fragment("F5 82 00 00 " + report)
		f.confirmed(0xD5)
		f.until(func() bool { return len(f.got) == 1 })
	})
	t.Run("4.6.2.4 the same again is confirmed again and not taken", func(t *testing.T) {
		f := meet(t, master.Options{})
		for range 2 {
			f.fragment("F5 82 00 00 " + report)
			f.confirmed(0xD5)
		}
		f.until(func() bool { return f.repeated == 1 })
		assert.Len(t, f.take(), 1)
	})
	t.Run("5.1.1.1.1 one without objects after a restart is taken each time", func(t *testing.T) {
		f := meet(t, master.Options{})
		for range 2 {
			f.fragment("F0 82 80 00")
			f.confirmed(0xD0)
		}
		f.until(func() bool { return len(f.got) == 2 })
		assert.Equal(t, []string{"nothing, restarted", "nothing, restarted"}, f.take())
	})
	for name, hex := range map[string]string{
		"4.2.2.4 without UNS":   "E5 82 00 00 " + report,
		"4.2.2.4 not the first": "75 82 00 00 " + report,
		"4.2.2.4 not the last":  "B5 82 00 00 " + report,
		"without indications":   "F5 82 00",
	} {
		t.Run(name+" is not taken", func(t *testing.T) {
			t.Parallel()
			f := meet(t, master.Options{})
			f.fragment(hex)
			go f.Status()
			control, _ := f.heard()
			assert.Equal(t, byte(0xC9), control, "nothing is confirmed")
			assert.Empty(t, f.take())
		})
	}
}

func TestConformanceDataLink(t *testing.T) {
	asking := func(f *far, do func() error) chan error {
		done := make(chan error, 1)
		go func() { done <- do() }()
		return done
	}
	status := func(f *far) func() error { return func() error { _, err := f.Status(); return err } }
	t.Run("9.2.6 link status", func(t *testing.T) {
		f := meet(t, master.Options{})
		done := asking(f, status(f))
		control, data := f.heard()
		assert.Equal(t, byte(0xC9), control)
		assert.Empty(t, data)
		f.say(farFrame(0x0B, nil))
		assert.NoError(t, <-done)
	})
	for name, control := range map[string]byte{"ack": 0x00, "nack": 0x01} {
		t.Run("9.2.6 "+name+" does not answer a request for link status", func(t *testing.T) {
			t.Parallel()
			f := meet(t, master.Options{Timeout: 200 * time.Millisecond})
			done := asking(f, status(f))
			f.heard()
			f.say(farFrame(control, nil))
			assert.ErrorIs(t, <-done, master.ErrTimeout)
		})
	}
	t.Run("9.2.6 link status does not acknowledge a reset", func(t *testing.T) {
		f := meet(t, master.Options{Timeout: 200 * time.Millisecond})
		done := asking(f, f.Reset)
		control, _ := f.heard()
		assert.Equal(t, byte(0xC0), control)
		f.say(farFrame(0x0B, nil))
		assert.ErrorIs(t, <-done, master.ErrTimeout)
	})
	t.Run("9.2.6 confirmed user data: reset, then with a frame count bit that changes", func(t *testing.T) {
		f := meet(t, master.Options{Timeout: 2 * time.Second})
		f.Confirmed = true
		for i, want := range []byte{0xF3, 0xD3, 0xF3} {
			done := asking(f, func() error { _, err := f.Read(master.Class1, nil); return err })
			if i == 0 {
				control, _ := f.heard()
				assert.Equal(t, byte(0xC0), control, "reset of link states")
				f.say(farFrame(0x00, nil))
			}
			control, data := f.heard()
			assert.Equal(t, want, control)
			f.say(farFrame(0x00, nil))
			f.answer(0xC0, data[1]&15, "00 00")
			require.NoError(t, <-done)
		}
	})
	t.Run("9.2.6 a frame that is not acknowledged is sent again with the same count", func(t *testing.T) {
		f := meet(t, master.Options{Timeout: 200 * time.Millisecond, Retries: 1})
		f.Confirmed = true
		done := asking(f, func() error { _, err := f.Read(master.Class1, nil); return err })
		f.heard()
		f.say(farFrame(0x00, nil))
		first, one := f.heard()
		second, other := f.heard()
		assert.Equal(t, first, second)
		assert.Equal(t, one, other)
		f.say(farFrame(0x00, nil))
		f.answer(0xC0, one[1]&15, "00 00")
		assert.NoError(t, <-done)
	})
	t.Run("9.2.4.1.3 with DFC set no user data are sent until the status says otherwise", func(t *testing.T) {
		f := meet(t, master.Options{Timeout: 400 * time.Millisecond, Retries: 3})
		done := asking(f, status(f))
		f.heard()
		f.say(farFrame(0x1B, nil))
		require.NoError(t, <-done)
		done = asking(f, func() error { _, err := f.Read(master.Class1, nil); return err })
		control, _ := f.heard()
		assert.Equal(t, byte(0xC9), control, "it asks for the status first")
		f.say(farFrame(0x1B, nil))
		control, _ = f.heard()
		assert.Equal(t, byte(0xC9), control, "and again")
		f.say(farFrame(0x0B, nil))
		f.answer(0xC0, f.expect("C0 01 3C 02 06"), "00 00")
		assert.NoError(t, <-done)
	})
	t.Run("9.2.4.1.3 with DFC set for long", func(t *testing.T) {
		f := meet(t, master.Options{Timeout: 200 * time.Millisecond})
		done := asking(f, status(f))
		f.heard()
		f.say(farFrame(0x1B, nil))
		require.NoError(t, <-done)
		done = asking(f, func() error { _, err := f.Read(master.Class1, nil); return err })
		for range 3 {
			f.heard()
			f.say(farFrame(0x1B, nil))
		}
		assert.ErrorIs(t, <-done, master.ErrBusy)
	})
	for _, c := range []struct {
		name        string
		given, want []byte // control octets
	}{
		{"a request for link status is answered", []byte{0x49}, []byte{0x8B}},
		{"a reset is acknowledged", []byte{0x40}, []byte{0x80}},
		{"a test before a reset is refused", []byte{0x72}, []byte{0x81}},
		{"a test after a reset", []byte{0x40, 0x72}, []byte{0x80, 0x80}},
		{"a test that comes again is acknowledged again, and the count stays", []byte{0x40, 0x72, 0x72, 0x52}, []byte{0x80, 0x80, 0x80, 0x80}},
		{"confirmed user data before a reset are refused", []byte{0x73}, []byte{0x81}},
		{"confirmed user data after a reset", []byte{0x40, 0x73}, []byte{0x80, 0x80}},
		{"an obsolete function is not supported", []byte{0x41}, []byte{0x8F}},
	} {
		t.Run("9.2.6 "+c.name, func(t *testing.T) {
			t.Parallel()
			f := meet(t, master.Options{})
			for i, control := range c.given {
				var data []byte
				if control&0x0F == 3 {
					data = append([]byte{0xC0}, octets(t, "F5 82 00 00 02 01 17 01 04 81")...)
				}
				f.say(farFrame(control, data))
				got, _ := f.heard()
				assert.Equal(t, c.want[i], got)
			}
		})
	}
	t.Run("9.2.6 confirmed user data that come again are acknowledged and taken once", func(t *testing.T) {
		f := meet(t, master.Options{})
		f.say(farFrame(0x40, nil))
		f.heard()
		frame := farFrame(0x73, append([]byte{0xC0}, octets(t, "D5 82 00 00 02 01 17 01 04 81")...))
		for range 2 {
			f.say(frame)
			control, _ := f.heard()
			assert.Equal(t, byte(0x80), control)
		}
		f.until(func() bool { return len(f.got) == 1 })
		assert.Zero(t, f.repeated)
	})
}

// IEEE 1815-2012, 10.3.3: the time that is written is the one at which the last octet of the request before it was sent.
func TestConformanceTimeOnANetwork(t *testing.T) {
	f := meet(t, master.Options{Timeout: 5 * time.Second})
	done := make(chan error, 1)
	go func() { done <- f.SetTimeLAN() }()
	seq := f.expect("C0 18")
	sent := time.Now()
	<-time.After(150 * time.Millisecond) // the outstation takes its time, which must not count
	f.answer(0xC0, seq, "10 00")
	_, data := f.heard()
	require.Len(t, data, 1+2+4+6)
	assert.Equal(t, octets(t, "02 32 03 07 01"), data[2:7])
	var ms int64
	for i, c := range data[7:] {
		ms |= int64(c) << (8 * i)
	}
	assert.InDelta(t, float64(sent.UnixMilli()), float64(ms), 60)
	f.answer(0xC0, data[1]&15, "10 00")
	require.NoError(t, <-done)
}

// 10.3.2: the delay is from first octet to first octet, less what the outstation says it took, halved; it is added to the time at which
// the request begins to be sent.
func TestConformanceTimeOnALine(t *testing.T) {
	f := meet(t, master.Options{Timeout: 5 * time.Second})
	done := make(chan error, 1)
	go func() { _, err := f.SetTimeSerial(); done <- err }()
	seq := f.expect("C0 17")
	<-time.After(200 * time.Millisecond)
	frame := farFrame(0x44, append([]byte{0xC0, 0xC0 | seq, 0x81, 0x10, 0}, octets(t, "34 02 07 01 14 00")...)) // 20 ms within
	f.say(frame[:1])
	<-time.After(150 * time.Millisecond) // how long the frame takes is no part of the delay
	f.say(frame[1:])
	_, data := f.heard()
	now := time.Now()
	require.Len(t, data, 1+2+4+6)
	assert.Equal(t, octets(t, "02 32 01 07 01"), data[2:7])
	var ms int64
	for i, c := range data[7:] {
		ms |= int64(c) << (8 * i)
	}
	assert.InDelta(t, float64(now.UnixMilli()+90), float64(ms), 60, "half of 200 ms less 20 ms")
	f.answer(0xC0, data[1]&15, "00 00")
	require.NoError(t, <-done)
}

// A panic in the handler ends its channel and nothing else.
func TestAPanicEndsItsChannelAlone(t *testing.T) {
	f := meet(t, master.Options{Timeout: 5 * time.Second})
	done := make(chan error, 1)
	go func() {
		_, err := f.Read(master.Class0, func(dnp3.Fragment) { panic("a fault") })
		done <- err
	}()
	f.answer(0xC0, f.expect("C0 01 3C 01 06"), "00 00")
	assert.ErrorIs(t, <-done, master.ErrClosed)
}
