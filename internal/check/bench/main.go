// Bench measures speed as ratios, side by side in one run, since machines differ and are noisy. make bench runs it.
package main

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"runtime"
	"slices"
	"syscall"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	modbusdriver "arithmon/internal/live/driver/modbus"
	"arithmon/internal/live/link"
	"arithmon/internal/protocol/modbus"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run() error {
	parts := []func() error{exchangesOfOne, watching, inFlight, pacedLine, deadStation, polls, bufferedBurst, manyOutstations, largeSite, sheet, lists, shared, recorded, followed}
	if len(os.Args) > 1 {
		some := map[string][]func() error{
			"exchanges": {exchangesOfOne}, "watching": {watching}, "lines": {pacedLine, deadStation}, "polls": {polls}, "dnp3": {bufferedBurst, manyOutstations}, "site": {largeSite}, "sheet": {sheet}, "lists": {lists}, "shared": {shared}, "consoles-follow": {manyConsoles}, "editors": {manyEditors}, "permission": {permission}, "history": {recorded}, "history-polls": {recordedPolls}, "history-plot": {recordedPlot}, "boards": {followed},
			"devices": {devices}, "outstations": {reporters}, "consoles": {watchers}, // which others start
		}
		if parts = some[os.Args[1]]; parts == nil {
			return fmt.Errorf("%q is no part; there are exchanges, watching, lines, polls, dnp3, site, sheet, lists, shared, history and boards", os.Args[1])
		}
	}
	for _, f := range parts {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

// exchangesOfOne are those of one station on one socket.
func exchangesOfOne() error {
	fmt.Println("one station, one socket: exchanges as a share of those of a bare TCP echo of the same bytes")
	for _, registers := range []int{10, 50, modbus.MaxReadRegisters} {
		for _, changing := range []bool{false, true} {
			if err := exchanges(registers, changing); err != nil {
				return err
			}
		}
	}
	return nil
}

// answer is what every simulated device answers: registers that count up.
func answer(_ byte, pdu []byte) modbus.Reply {
	n := int(binary.BigEndian.Uint16(pdu[3:]))
	reply := make([]byte, 2+2*n)
	reply[0], reply[1] = pdu[0], byte(2*n)
	for i := range n {
		binary.BigEndian.PutUint16(reply[2+2*i:], uint16(i))
	}
	return modbus.Reply{PDU: reply}
}

// exchanges compares exchanges through a session, from the request to the readings in the live table, with a bare echo
// of as many bytes over TCP by as many goroutines: one that asks and one that answers. The device answers with the same
// values every time, or with others every time.
func exchanges(registers int, changing bool) error {
	requestBytes, answerBytes := 12, 9+2*registers
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	turns, turn := [2]modbus.Reply{answer(1, []byte{3, 0, 0, 0, byte(registers)}), answer(1, []byte{3, 0, 0, 0, byte(registers)})}, 0
	for i := 2; i < len(turns[1].PDU); i++ {
		turns[1].PDU[i] ^= 0xFF
	}
	device := modbus.Server{Handle: func(byte, []byte) modbus.Reply {
		if changing {
			turn ^= 1
		}
		return turns[turn]
	}}
	go device.Serve(ctx, listener)
	echo, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer echo.Close()
	go func() {
		conn, err := echo.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		in, out := make([]byte, requestBytes), make([]byte, answerBytes)
		for {
			if _, err := io.ReadFull(conn, in); err != nil {
				return
			}
			if _, err := conn.Write(out); err != nil {
				return
			}
		}
	}()
	bare, err := net.Dial("tcp", echo.Addr().String())
	if err != nil {
		return err
	}
	defer bare.Close()
	in, out := make([]byte, answerBytes), make([]byte, requestBytes)
	echoOnce := func() error {
		if _, err := bare.Write(out); err != nil {
			return err
		}
		_, err := io.ReadFull(bare, in)
		return err
	}
	exchange, err := session(ctx, listener.Addr().(*net.TCPAddr).Port, registers)
	if err != nil {
		return err
	}
	var ratios, rates []float64
	for range pairs { // in turn, so that what slows the machine slows both
		base, err := rate(echoOnce)
		if err != nil {
			return err
		}
		own, err := rate(exchange)
		if err != nil {
			return err
		}
		ratios, rates = append(ratios, own/base), append(rates, own)
	}
	kind := "all the same"
	if changing {
		kind = "all changing"
	}
	fmt.Printf("  %3d readings, %s: %.2f (median of %d pairs, half of them from %.2f to %.2f); %.0f a second here\n",
		registers, kind, median(ratios), pairs, quantile(ratios, 0.25), quantile(ratios, 0.75), median(rates))
	return nil
}

// session opens a link to a port and returns what does one exchange on it: read, decode, and put into the live table.
func session(ctx context.Context, port, registers int) (func() error, error) {
	l := site.NewLink()
	l.Name, l.Host, l.Port = "link", "127.0.0.1", port
	st := site.NewStation()
	st.Name, st.Link = "station", "link"
	var list []site.Point
	for i := range registers {
		list = append(list, site.Point{Tag: fmt.Sprint(i), Station: "station", Type: codec.TypeInt16, Address: site.Address{Space: site.HoldingRegisters, Offset: uint16(i)}})
	}
	sink, station := link.NewBench(st, list)
	var driver modbusdriver.Driver
	jobs := driver.Jobs(l, station)
	if len(jobs) != 1 {
		return nil, fmt.Errorf("%d requests planned for %d neighbours", len(jobs), registers)
	}
	s, err := driver.Open(ctx, l.WithDefaults(), sink)
	if err != nil {
		return nil, err
	}
	return func() error { return s.Do(jobs[0]).Err }, nil
}

// rate is how often f runs in a second.
func rate(f func() error) (float64, error) {
	const span = 40 * time.Millisecond
	began, n := time.Now(), 0
	for time.Since(began) < span {
		for range 50 {
			if err := f(); err != nil {
				return 0, err
			}
		}
		n += 50
	}
	return float64(n) / time.Since(began).Seconds(), nil
}

// pairs is how many times two things are measured in turn, each for a short span, so that what slows the machine slows
// both.
const pairs = 81

func median(v []float64) float64 { return quantile(v, 0.5) }

func quantile(v []float64, share float64) float64 {
	sorted := slices.Sorted(slices.Values(v))
	return sorted[int(share*float64(len(sorted)-1))]
}

// devices answers on a port that it prints, as a process of its own, so that what it costs is not counted.
func devices() error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	fmt.Println(listener.Addr().(*net.TCPAddr).Port)
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		io.Copy(io.Discard, os.Stdin) // ends with the process that started this one
		cancel()
	}()
	return (&modbus.Server{Handle: answer}).Serve(ctx, listener)
}

func heap() uint64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// cpu is the processor time that this process has used.
func cpu() time.Duration {
	var r syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &r); err != nil {
		return 0
	}
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}
