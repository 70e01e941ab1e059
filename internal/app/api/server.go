// Package api serves the site, its readings and the console over HTTP.
//
// Every route stands in one table (routes.go), from which both the handlers and the OpenAPI document are made.
// The table says of each route who may use it; gate.go finds out who asks. Until there are accounts, the service is for this machine alone: it
// answers only requests whose Host is loopback, and none that a web page from elsewhere makes.
package api

import (
	"cmp"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"path"
	"runtime/debug"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"arithmon/internal/app/directory"
	"arithmon/internal/live/alarm"
	"arithmon/internal/live/control"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/recent"
	"arithmon/internal/live/recorder"
	"arithmon/internal/record/account"
	"arithmon/internal/record/alarmlog"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/history"
	"arithmon/internal/record/store"
	"arithmon/internal/rig"
)

// Options are what a Server needs. With a rig alone it serves that alone.
type Options struct {
	Store     *store.Store
	Engine    *engine.Engine
	Control   *control.Controller
	Accounts  *account.Book
	Audit     *audit.Log
	History   *history.History
	Recorder  *recorder.Recorder
	Recent    *recent.Recent
	Alarms    *alarm.Book
	AlarmLog  *alarmlog.Log
	Directory *directory.Directory // through which people sign in; nil for none
	Rig       *rig.Rig
	Dir       string // where recordings go
	Secure    bool   // it is served over TLS
	Remote    bool   // it listens beyond loopback
	Console   fs.FS  // the built console; nil serves none
	Log       *slog.Logger
	Version   string
}

// Server answers HTTP requests.
type Server struct {
	store      *store.Store
	accounts   *account.Book
	audit      *audit.Log
	kept       *history.History // what was recorded
	recorder   *recorder.Recorder
	recent     *recent.Recent
	alarms     *alarm.Book
	alarmLog   *alarmlog.Log
	directory  *directory.Directory
	gate       *gate
	encodings  encodings
	company    company
	engine     *engine.Engine
	control    *control.Controller
	dir        string
	rig        *rig.Rig // nil when nothing is simulated
	log        *slog.Logger
	version    string
	handler    http.Handler
	closing    chan struct{}
	exposition http.Handler // of the statistics
	origins    *http.CrossOriginProtection
}

// New makes a server.
func New(o Options) *Server {
	gin.SetMode(gin.ReleaseMode)
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Server{store: o.Store, accounts: o.Accounts, audit: o.Audit, kept: o.History, recorder: o.Recorder, recent: o.Recent, alarms: o.Alarms, alarmLog: o.AlarmLog, directory: o.Directory, gate: newGate(o.Accounts, o.Audit, o.Secure, o.Remote), engine: o.Engine, control: o.Control, rig: o.Rig, dir: o.Dir, log: o.Log, version: o.Version, closing: make(chan struct{}), origins: http.NewCrossOriginProtection()}
	router := gin.New()
	if s.engine != nil {
		registry := prometheus.NewRegistry()
		registry.MustRegister(newCollector(s.engine))
		s.exposition = promhttp.HandlerFor(registry, promhttp.HandlerOpts{})
	}
	router.UseRawPath, router.UnescapePathValues = true, true // a / in a tag may come as %2F
	router.HandleMethodNotAllowed = true
	router.RedirectTrailingSlash = false // which would answer before it is looked where a request comes from
	router.Use(gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, crash any) {
		if crash == http.ErrAbortHandler {
			panic(crash) // meant for the server, which ends the connection
		}
		s.log.Error("internal fault", "method", c.Request.Method, "path", c.Request.URL.Path, "fault", crash, "stack", string(debug.Stack()))
		s.abort(c, fail(http.StatusInternalServerError, "the service made a mistake with this request: %v. Whether it was carried out is not certain; look before you repeat it. The service's log has the details", crash))
	}), s.fromHere)
	router.Use(s.logged)
	for _, r := range s.routes() {
		if s.store == nil && !strings.HasPrefix(r.path, "/api/v1/rig") && r.path != "/healthz" {
			continue // a rig alone
		}
		router.Handle(r.method, r.path, func(c *gin.Context) {
			if err := s.gate.admit(c, r); err != nil {
				s.abort(c, err)
				return
			}
			if r.long(c) {
				defer s.gate.while(c)()
			}
			if err := cmp.Or(r.checkQuery(c), r.checkContent(c)); err != nil {
				s.abort(c, err)
			} else if err := r.handle(c); err != nil {
				s.abort(c, err)
			} else if fault := c.Errors.Last(); fault != nil && !c.Writer.Written() { // what was to be answered could not be written as JSON
				s.abort(c, fmt.Errorf("the response could not be encoded: %w", fault.Err))
			}
		})
	}
	router.NoMethod(func(c *gin.Context) {
		s.abort(c, fail(http.StatusMethodNotAllowed, "%s is not possible on %s", c.Request.Method, c.Request.URL.Path))
	})
	router.NoRoute(s.console(o.Console))
	s.handler = router
	return s
}

// logged logs each request, at debug; at info one that was to change something and was refused.
func (s *Server) logged(c *gin.Context) {
	began := time.Now()
	c.Next()
	level := slog.LevelDebug
	if c.Request.Method != http.MethodGet && c.Writer.Status() >= 400 {
		level = slog.LevelInfo // refused
	}
	if !s.log.Enabled(c.Request.Context(), level) {
		return
	}
	s.log.Log(c.Request.Context(), level, "request", "method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(), "took_ms", float64(time.Since(began).Microseconds())/1000, "who", principal(c).Name())
}

// ServeHTTP makes Server an http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.handler.ServeHTTP(w, r) }

// CloseLive ends the WebSockets, which an http.Server does not do by itself when it shuts down.
func (s *Server) CloseLive() { close(s.closing) }

// console serves the built pages; a path that is no file is a page's own and gets the start page.
func (s *Server) console(files fs.FS) gin.HandlerFunc {
	return func(c *gin.Context) {
		p := c.Request.URL.Path
		if strings.HasPrefix(p, "/api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
			s.abort(c, fail(http.StatusNotFound, "there is nothing at %s; /api/v1/openapi.json describes what there is", p))
			return
		}
		if files == nil {
			s.abort(c, fail(http.StatusNotFound, "this program was built without the console"))
			return
		}
		name := strings.TrimPrefix(path.Clean(p), "/")
		if info, err := fs.Stat(files, name); name == "" || err != nil || info.IsDir() {
			name = "index.html"
		}
		if strings.HasPrefix(name, "assets/") {
			c.Header("Cache-Control", "public, max-age=31536000, immutable") // their names carry a hash
		} else {
			c.Header("Cache-Control", "no-cache")
		}
		http.ServeFileFS(c.Writer, c.Request, files, name)
	}
}
