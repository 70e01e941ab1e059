// Package service puts store, engine and API together into the program that runs.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"arithmon/internal/app/api"
	"arithmon/internal/app/directory"
	"arithmon/internal/core/unit"
	"arithmon/internal/live/alarm"
	"arithmon/internal/live/control"
	dnp3driver "arithmon/internal/live/driver/dnp3"
	modbusdriver "arithmon/internal/live/driver/modbus"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/link"
	"arithmon/internal/live/recent"
	"arithmon/internal/live/recorder"
	"arithmon/internal/record/account"
	"arithmon/internal/record/alarmlog"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/history"
	"arithmon/internal/record/store"
	"arithmon/internal/rig"

	"golang.org/x/net/netutil"
)

// DefaultListen is where the service listens unless told otherwise.
const DefaultListen = "127.0.0.1:7340"

// Options are what a Service needs.
type Options struct {
	Dir     string           // of the database
	Listen  string           // host:port; port 0 takes a free one
	TLS     string           // "self" for a certificate of the service's own, or the files of one: CERT,KEY; "" for none
	Plain   bool             // listen beyond loopback without TLS: whoever is on the network between can read and change everything, passwords included
	Rig     *rig.Rig         // whose faults can be switched through the service; nil for none
	Console fs.FS            // the built console; nil serves none
	Log     *slog.Logger     // nil discards
	Units   *unit.Dictionary // what values are in plants; nil: the one that is built in
	Version string

	Directory *directory.Settings // of the company, through which people sign in; nil for none

	Backups int // for so many days a backup of each is kept; 0 makes none

	KeepHistory time.Duration // how old what is recorded may become; 0: as old as it gets
	MostHistory int64         // bytes that it may take; 0: as many as it takes
}

// Service is a running service.
type Service struct {
	Store       *store.Store
	Engine      *engine.Engine
	Control     *control.Controller
	Accounts    *account.Book
	Audit       *audit.Log
	History     *history.History
	URL         string // of the console
	Fingerprint string // of the certificate; empty without TLS

	recorder atomic.Pointer[recorder.Recorder]
	recent   *recent.Recent
	watching atomic.Pointer[alarm.Book]
	api      *api.Server
	http     *http.Server
	served   chan error

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
	listener, remote, err := listen(o.Listen)
	if err != nil {
		return nil, err
	}
	s := &Service{served: make(chan error, 1), URL: "http://" + called(listener.Addr())}
	if err := s.start(ctx, o, listener, remote); err != nil {
		listener.Close()
		if s.Accounts != nil {
			s.Accounts.Close()
		}
		if s.History != nil {
			s.History.Close()
		}
		if s.Store != nil {
			s.Store.Close()
		}
		return nil, err
	}
	return s, nil
}

// mostConnections is how many connections there may be at once; further ones wait.
const mostConnections = 4000

// mostHeader is how long the header of a request may be, in bytes.
const mostHeader = 64 << 10

func (s *Service) start(ctx context.Context, o Options, listener net.Listener, remote bool) (err error) {
	s.Engine = engine.New(engine.Options{Drivers: []link.Driver{modbusdriver.Driver{}, dnp3driver.New()}, Log: o.Log, Units: o.Units, History: s.recordingEvidence, Counts: s.counts})
	if s.Store, err = store.Open(ctx, o.Dir, store.Options{Follow: s.follow, Log: o.Log}); err != nil {
		return err
	}
	for _, q := range s.Store.Aside() {
		o.Log.Error("a stored record does not fit the site and was put aside; arithmon changes --quarantined lists what was", "kind", q.Kind, "name", q.Name, "why", q.Why)
	}
	if err := s.openHistory(ctx, o); err != nil {
		return err
	}
	s.Control = control.New(s.Engine, s.Store, o.Log)
	last, err := s.Store.LastEvent(ctx)
	if err != nil {
		return err
	}
	s.Audit = audit.Open(s.Store.Database())
	if s.Accounts, err = account.Open(ctx, s.Store.Database(), account.Options{}); err != nil {
		return err
	}
	if err := guarded(o, remote, s.Accounts.Any()); err != nil {
		return err
	}
	if !s.Accounts.Any() {
		o.Log.Info("there are no accounts: everybody on this machine may do everything. arithmon account add NAME --role admin makes the first")
	}
	if o.TLS != "" {
		certificates, err := openCertificates(o.TLS, o.Dir, hostsOf(listener.Addr()), o.Log)
		if err != nil {
			return err
		}
		held, err := certificates.get()
		if err != nil {
			return err
		}
		s.URL, s.Fingerprint = "https://"+strings.TrimPrefix(s.URL, "http://"), Fingerprint(held.Leaf)
		listener = tls.NewListener(netutil.LimitListener(listener, mostConnections), certificates.config())
	} else {
		listener = netutil.LimitListener(listener, mostConnections)
	}
	if err := s.Audit.Add(ctx, audit.Entry{Who: "service", Action: audit.Service, Subject: o.Version, Detail: "started, at " + s.URL}); err != nil {
		return err
	}
	s.Engine.Events().Begin(last + 1)
	recording, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stopRecording = stop
	after := s.Engine.Events().Record() // before any device can report, so that nothing is confirmed or left out unrecorded
	s.recording.Go(func() { recordEvents(recording, s.Engine.Events(), after, s.Store, o.Log) })
	s.recorder.Store(recorder.Start(s.Engine.Tap, s.History, s.Store.Site()))
	s.recent = recent.Start(s.Engine.Tap)
	alarms := alarmlog.Open(s.Store.Database())
	watching, err := alarm.Start(ctx, alarm.Options{Tap: s.Engine.Tap, Log: alarms, Site: s.Store.Site(), Logs: o.Log})
	if err != nil {
		return err
	}
	s.watching.Store(watching)
	s.Engine.Start(context.WithoutCancel(ctx), s.Store.Site())
	var people *directory.Directory
	if o.Directory != nil {
		people = directory.New(o.Directory)
	}
	s.api = api.New(api.Options{Directory: people, Store: s.Store, Engine: s.Engine, Control: s.Control, Accounts: s.Accounts, Audit: s.Audit, History: s.History, Recorder: s.recorder.Load(), Recent: s.recent, Alarms: watching, AlarmLog: alarms, Secure: o.TLS != "", Remote: remote, Rig: o.Rig, Dir: o.Dir, Console: o.Console, Log: o.Log, Version: o.Version})
	s.recording.Go(func() { s.api.Follow(recording) })
	if o.Backups > 0 {
		s.recording.Go(func() { backUp(recording, s.Store.Database(), o.Backups, o.Log) })
	}
	requests, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.cancel = cancel
	s.http = &http.Server{Handler: s.api, BaseContext: func(net.Listener) context.Context { return requests }, ConnContext: api.Connected, ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: mostHeader, IdleTimeout: 2 * time.Minute,
		ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelWarn)}
	go func() { s.served <- s.http.Serve(listener) }()
	return nil
}

// guarded says why a service may not listen to the network: without accounts, or in plain text unless that is said.
func guarded(o Options, remote, accounts bool) error {
	switch {
	case !remote:
		return nil
	case !accounts:
		return fmt.Errorf("listen address %q is not this machine's loopback, and there are no accounts yet. Make the first one before the service listens to the network: arithmon account add NAME --role admin --data %s", o.Listen, o.Dir)
	case o.TLS == "" && !o.Plain:
		return fmt.Errorf("listen address %q is not this machine's loopback, and passwords and values would go over the network for everybody to read and change. Use --tls self, or --tls CERT,KEY; --allow-plain does without", o.Listen)
	}
	return nil
}

// called is how a listener is reached: by its address, or by the machine's name when it listens on all of them.
func called(listening net.Addr) string {
	at, err := netip.ParseAddrPort(listening.String())
	if err != nil || !at.Addr().IsUnspecified() {
		return listening.String()
	}
	name, err := os.Hostname()
	if err != nil || name == "" {
		name = "localhost"
	}
	return net.JoinHostPort(name, strconv.Itoa(int(at.Port())))
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
	s.recorder.Load().Stop()
	s.recent.Stop()
	alarms := s.watching.Load().Stop()
	s.stopRecording()
	s.recording.Wait()
	return errors.Join(alarms, s.History.Close(), s.Accounts.Close(), s.Store.Close())
}

// Listen opens the address when it is this machine's loopback.
func Listen(address string) (net.Listener, error) {
	listener, remote, err := listen(address)
	if err == nil && remote {
		listener.Close()
		return nil, fmt.Errorf("listen address %q is not this machine's loopback, which is all that this listens on; use 127.0.0.1", address)
	}
	return listener, err
}

// listen opens the address, and reports whether it is beyond this machine's loopback.
func listen(address string) (listener net.Listener, remote bool, err error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, false, fmt.Errorf("listen address %q is not host:port, such as %s", address, DefaultListen)
	}
	ip, err := netip.ParseAddr(host)
	if err != nil && host != "" && !strings.EqualFold(host, "localhost") {
		return nil, false, fmt.Errorf("listen address %q: %q is no address; give one of this machine, 0.0.0.0 for all of them, or 127.0.0.1 for itself alone", address, host)
	}
	remote = !strings.EqualFold(host, "localhost") && (err != nil || !ip.IsLoopback())
	listener, err = net.Listen("tcp", address)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		err = fmt.Errorf("%s is taken by another program, perhaps by another Arithmon. Stop that one, or use another port: --listen 127.0.0.1:0 takes a free one", address)
	case errors.Is(err, syscall.EACCES):
		err = fmt.Errorf("%s: this user may not listen there; use a port above 1023", address)
	case err != nil:
		err = fmt.Errorf("listening on %s: %w", address, err)
	}
	return listener, remote, err
}
