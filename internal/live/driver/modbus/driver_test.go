package modbus

import (
	"context"
	"fmt"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/link"
	"arithmon/internal/protocol/modbus"
)

func station(points ...site.Point) (link.Host, link.Station) {
	st := site.NewStation()
	st.Name, st.Link = "st", "link"
	for i := range points {
		points[i].Station = "st"
		points[i].Tag = fmt.Sprint(i)
		points[i] = points[i].WithDefaults()
	}
	return link.NewBench(st, points)
}

func point(space site.Space, offset int, typ codec.Type) site.Point {
	return site.Point{Address: site.Address{Space: space, Offset: uint16(offset)}, Type: typ}
}

func requests(jobs []link.Job) (list []string) {
	for _, j := range jobs {
		r := j.(*job).request
		list = append(list, fmt.Sprintf("%d:%d+%d", r.Function, r.Address, r.Quantity))
	}
	return list
}

func TestJobsPlanOneRequestForNeighboursOfATable(t *testing.T) {
	slow := point(site.HoldingRegisters, 3, codec.TypeUint16)
	slow.Poll = site.Duration(1e10)
	_, st := station(
		point(site.HoldingRegisters, 0, codec.TypeFloat32), point(site.HoldingRegisters, 2, codec.TypeInt16),
		point(site.InputRegisters, 0, codec.TypeInt16), point(site.Coils, 4, ""), point(site.Coils, 200, ""), slow)
	assert.Equal(t, []string{"3:0+3", "4:0+1", "1:4+197", "3:3+1"}, requests(Driver{}.Jobs(site.Link{}, st)), "apart by table and period")
}

func TestWriteRequests(t *testing.T) {
	for _, c := range []struct {
		name   string
		layout codec.Layout
		space  site.Space
		raw    codec.Value
		want   modbus.Request
	}{
		{"coil", codec.Layout{Type: codec.TypeBool}, site.Coils, codec.BoolValue(true), modbus.Request{Function: modbus.WriteSingleCoil, Address: 7, Bits: []bool{true}}},
		{"one register", codec.Layout{Type: codec.TypeInt16}, site.HoldingRegisters, codec.IntValue(-1), modbus.Request{Function: modbus.WriteSingleRegister, Address: 7, Words: []uint16{0xFFFF}}},
		{"two registers", codec.Layout{Type: codec.TypeFloat32, Order: codec.CDAB}, site.HoldingRegisters, codec.FloatValue(25), modbus.Request{Function: modbus.WriteMultipleRegisters, Address: 7, Words: []uint16{0, 0x41C8}}},
		{"a bit keeps the rest", codec.Layout{Type: codec.TypeBool, Bit: 3}, site.HoldingRegisters, codec.BoolValue(true), modbus.Request{Function: modbus.MaskWriteRegister, Address: 7, And: 0xFFF7, Or: 8}},
		{"a high byte keeps the rest", codec.Layout{Type: codec.TypeUint8, High: true}, site.HoldingRegisters, codec.UintValue(0x12), modbus.Request{Function: modbus.MaskWriteRegister, Address: 7, And: 0x00FF, Or: 0x1200}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, _, err := writeRequest(site.Station{}, link.Command{Address: site.Address{Space: c.space, Offset: 7}, Layout: c.layout, Raw: []codec.Value{c.raw}})
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

func TestWriteFunctionsOfAStation(t *testing.T) {
	register, coil := site.Address{Space: site.HoldingRegisters, Offset: 7}, site.Address{Space: site.Coils, Offset: 7}
	function := func(s site.Station, a site.Address, l codec.Layout) (modbus.Function, error) {
		r, _, err := writeRequest(s, link.Command{Address: a, Layout: l, Raw: []codec.Value{codec.IntValue(1)}})
		return r.Function, err
	}
	int16s, int32s, bit := codec.Layout{Type: codec.TypeInt16}, codec.Layout{Type: codec.TypeInt32}, codec.Layout{Type: codec.TypeBool, Bit: 3}
	multiple, single, never := site.Station{ModbusStation: site.ModbusStation{WriteFunction: site.WriteMultiple}}, site.Station{ModbusStation: site.ModbusStation{WriteFunction: site.WriteSingle}}, site.Station{ModbusStation: site.ModbusStation{PartialWrite: site.PartialNever}}
	f, _ := function(multiple, register, int16s)
	assert.Equal(t, modbus.WriteMultipleRegisters, f)
	f, _ = function(multiple, coil, bit)
	assert.Equal(t, modbus.WriteMultipleCoils, f)
	_, err := function(single, register, int32s)
	assert.EqualError(t, err, "int32 takes 2 registers at once, but the station's write_function is single")
	_, err = function(never, register, bit)
	assert.ErrorContains(t, err, "partial_write is never")
}

func TestJobsKeepTheLimitsOfTheStation(t *testing.T) {
	var points []site.Point
	for i := range 30 {
		points = append(points, point(site.HoldingRegisters, 2*i, codec.TypeUint16))
	}
	text := point(site.HoldingRegisters, 60, codec.TypeString)
	text.Length = 4
	_, st := station(append(points, text)...)
	none := 0
	st.MaxRegisters, st.StringsAlone = 20, true
	for _, r := range requests(Driver{}.Jobs(site.Link{}, st)) {
		assert.NotContains(t, r, "+61")
	}
	assert.Contains(t, requests(Driver{}.Jobs(site.Link{}, st)), "3:60+2")
	st.Gap = &none
	assert.Len(t, Driver{}.Jobs(site.Link{}, st), 31, "without gaps each stands alone")
}

// bench runs a session against a device that answers 125 registers.
func bench(b testing.TB) (link.Session, link.Job) {
	pdu := append([]byte{3, 250}, make([]byte, 250)...)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		(&modbus.Server{Handle: func(byte, []byte) modbus.Reply { return modbus.Reply{PDU: pdu} }}).Serve(ctx, listener)
	}()
	l := site.NewLink()
	l.Host, l.Port = "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
	var points []site.Point
	for i := range 125 {
		points = append(points, point(site.HoldingRegisters, i, codec.TypeInt16))
	}
	sink, st := station(points...)
	s, err := Driver{}.Open(ctx, l, sink)
	require.NoError(b, err)
	b.Cleanup(func() {
		s.Close()
		cancel()
		<-done
	})
	return s, Driver{}.Jobs(site.Link{}, st)[0]
}

func BenchmarkExchange(b *testing.B) {
	s, job := bench(b)
	b.ReportAllocs()
	for b.Loop() {
		if out := s.Do(job); out.Err != nil {
			b.Fatal(out.Err)
		}
	}
}

func TestUnchangedRegistersAreReadWithoutAllocating(t *testing.T) {
	s, job := bench(t)
	s.Do(job)
	assert.Less(t, testing.AllocsPerRun(50, func() { s.Do(job) }), 10.0, "for 125 registers, both ends of the connection counted")
}
