// Package service puts store, engine and API together into the program that runs.
package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"syscall"
	"time"

	"arithmon/internal/app/api"
	"arithmon/internal/core/unit"
	"arithmon/internal/live/control"
	dnp3driver "arithmon/internal/live/driver/dnp3"
	modbusdriver "arithmon/internal/live/driver/modbus"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/link"
	"arithmon/internal/record/store"
	"arithmon/internal/rig"
)

// DefaultListen is where the service listens unless told otherwise.
const DefaultListen = "127.0.0.1:7340"

// Options are what a Service needs.
type Options struct {
	Dir     string           // of the database
	Listen  string           // host:port; port 0 takes a free one
	Rig     *rig.Rig         // whose faults can be switched through the service; nil for none
	Console fs.FS            // the built console; nil serves none
	Log     *slog.Logger     // nil discards
	Units   *unit.Dictionary // what values are in plants; nil: the one that is built in
	Version string
}

// Service is a running service.
type Service struct {
	Store   *store.Store
	Engine  *engine.Engine
	Control *control.Controller
	URL     string // of the console

	api    *api.Server
	http   *http.Server
	served chan error

	recording     sync.WaitGroup // of events
	stopRecording func()
	cancel        func() // of requests
}

// drain is how long requests under way may take to end once they were told.
const drain = 400 * time.Millisecond

// Start opens the database, starts the links and listens. The service runs until Stop; Failed tells when it fails.
func Start(ctx context.Context, o Options) (*Service, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	listener, err := Listen(o.Listen)
	if err != nil {
		return nil, err
	}
	s := &Service{served: make(chan error, 1), URL: "http://" + listener.Addr().String()}
	s.Engine = engine.New(engine.Options{Drivers: []link.Driver{modbusdriver.Driver{}, dnp3driver.New()}, Log: o.Log, Units: o.Units})
	if s.Store, err = store.Open(ctx, o.Dir, store.Options{Follow: s.Engine.Apply, Log: o.Log}); err != nil {
		listener.Close()
		return nil, err
	}
	for _, q := range s.Store.Aside() {
		o.Log.Error("a stored record does not fit the site and was put aside; arithmon changes --quarantined lists what was", "kind", q.Kind, "name", q.Name, "why", q.Why)
	}
	s.Control = control.New(s.Engine, s.Store, o.Log)
	last, err := s.Store.LastEvent(ctx)
	if err != nil {
		s.Store.Close()
		listener.Close()
		return nil, err
	}
	s.Engine.Events().Begin(last + 1)
	recording, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stopRecording = stop
	after := s.Engine.Events().Record() // before any device can report, so that nothing is confirmed or left out unrecorded
	s.recording.Go(func() { recordEvents(recording, s.Engine.Events(), after, s.Store, o.Log) })
	s.Engine.Start(context.WithoutCancel(ctx), s.Store.Site())
	s.api = api.New(api.Options{Store: s.Store, Engine: s.Engine, Control: s.Control, Rig: o.Rig, Dir: o.Dir, Console: o.Console, Log: o.Log, Version: o.Version})
	requests, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.cancel = cancel
	s.http = &http.Server{Handler: s.api, BaseContext: func(net.Listener) context.Context { return requests }, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelWarn)}
	go func() { s.served <- s.http.Serve(listener) }()
	return s, nil
}

// Failed gives the error when the service stops by itself.
func (s *Service) Failed() <-chan error { return s.served }

// Stop ends pulses, tells requests to end, lets them and the exchanges under way do so for a moment, and closes the database.
func (s *Service) Stop() error {
	s.Control.EndPulses() // first, so that who waits for one is told
	s.api.CloseLive()
	s.cancel()
	ctx, cancel := context.WithTimeout(context.Background(), drain)
	defer cancel()
	if s.http.Shutdown(ctx) != nil { // some client does not read, or send, to the end
		s.http.Close()
	}
	s.Engine.Stop()
	s.stopRecording()
	s.recording.Wait()
	return s.Store.Close()
}

// Listen opens the address when it is this machine's loopback.
func Listen(address string) (net.Listener, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("listen address %q is not host:port, such as %s", address, DefaultListen)
	}
	ip, err := netip.ParseAddr(host)
	if !strings.EqualFold(host, "localhost") && (err != nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("listen address %q is not this machine's loopback. There are no accounts yet, so the service does not listen to the network; use 127.0.0.1:%s", address, port)
	}
	listener, err := net.Listen("tcp", address)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, fmt.Errorf("%s is taken by another program, perhaps by another Arithmon. Stop that one, or use another port: --listen 127.0.0.1:0 takes a free one", address)
	case errors.Is(err, syscall.EACCES):
		return nil, fmt.Errorf("%s: this user may not listen there; use a port above 1023", address)
	case err != nil:
		return nil, fmt.Errorf("listening on %s: %w", address, err)
	}
	return listener, nil
}
