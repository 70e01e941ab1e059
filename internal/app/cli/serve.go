package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"arithmon/demo"
	"arithmon/internal/app/directory"
	"arithmon/internal/app/service"
	"arithmon/internal/core/form"
	"arithmon/internal/core/moment"
	"arithmon/internal/core/site"
	"arithmon/internal/core/unit"
	"arithmon/internal/exchange/sitefile"
	"arithmon/internal/record/store"
	"arithmon/internal/rig"
)

func (a *app) serve() *cobra.Command {
	var dir, listen, units, people, keep, most string
	var options service.Options
	var noBackups bool
	var logs logging
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Long: `Run the service: keep the point database in a directory, read its points, and answer on loopback.
The first line on stdout is the console's URL, printed once the service answers. Ends with Ctrl-C.

For others on the network, make an account (arithmon account add NAME --role admin --data DIR), and give --listen 0.0.0.0:7340 --tls self.`,
		Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			options.Dir, options.Listen = dir, listen
			if people != "" {
				settings, err := directory.Read(people)
				if err != nil {
					return err
				}
				options.Directory = settings
			}
			var err error
			if keep != "" {
				if options.KeepHistory, err = moment.Span(keep); err != nil {
					return usage("--keep-history %s", err)
				}
			}
			if most != "" {
				if options.MostHistory, err = size(most); err != nil {
					return err
				}
			}
			if !noBackups {
				options.Backups = keptBackups
			}
			if units != "" {
				own, err := a.readUnits(units)
				if err != nil {
					return err
				}
				options.Units = unit.BuiltIn().With(own)
			}
			s, err := a.start(c.Context(), options, logs)
			if err != nil {
				return err
			}
			fmt.Fprintln(a.Out, s.URL)
			return a.untilEnd(c.Context(), s)
		}}
	c.Flags().StringVar(&dir, "data", dataDir(), "directory of the database; made when it is missing")
	c.Flags().StringVar(&listen, "listen", service.DefaultListen, "address and port; port 0 takes a free one. Beyond loopback it needs an account and --tls")
	c.Flags().StringVar(&options.TLS, "tls", "", "self: with a certificate of its own; or CERT,KEY: with that of these files, which may be\nreplaced while it runs")
	c.Flags().BoolVar(&options.Plain, "allow-plain", false, "listen beyond loopback without TLS: whoever is on the network between reads passwords and values,\nand can change both")
	c.Flags().StringVar(&units, "units", "", "YAML file of units and what their values are in plants, which comes before the\ndictionary that is built in (arithmon units shows that)")
	c.Flags().StringVar(&people, "directory", "", "YAML file that says through which company directory (OpenID Connect) people sign in, too, and which\nrole its groups have")
	c.Flags().BoolVar(&noBackups, "no-backups", false, fmt.Sprintf("make no backup each day; otherwise those of the last %d days are kept in the data directory", keptBackups))
	c.Flags().StringVar(&keep, "keep-history", "", "remove a month of the history when it ended so long ago, such as 400d (default: keep all)")
	c.Flags().StringVar(&most, "most-history", "", "remove the oldest of the history when it takes more, such as 20GB (default: no limit)")
	logs.flags(c, "info")
	return c
}

// size reads a size: 500MB, 20GB, 2TB, or a number of bytes.
func size(text string) (int64, error) {
	number, factor := text, 1.0
	for i, unit := range []string{"KB", "MB", "GB", "TB"} {
		if digits, ok := strings.CutSuffix(strings.ToUpper(strings.Replace(text, "iB", "B", 1)), unit); ok {
			number, factor = strings.TrimSpace(digits), math.Pow(1000, float64(i+1))
		}
	}
	f, err := strconv.ParseFloat(number, 64)
	if err != nil || !(f*factor >= 1e6 && f*factor <= 1e18) {
		return 0, usage("%q is no size: write one such as 500MB or 20GB", text)
	}
	return int64(f * factor), nil
}

// keptBackups is for how many days the backup of each is kept.
const keptBackups = 14

// dataDir is where the database is unless told otherwise.
func dataDir() string {
	home, err := os.UserConfigDir()
	if err != nil {
		home = "."
	}
	return filepath.Join(home, "arithmon")
}

// readUnits reads a dictionary of units.
func (a *app) readUnits(name string) (*unit.Dictionary, error) {
	data, err := a.readFile(name)
	if err != nil {
		return nil, err
	}
	d, err := unit.Read(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return d, nil
}

// units shows the dictionary that is built in.
func (a *app) units() *cobra.Command {
	return &cobra.Command{
		Use:   "units",
		Short: "Show what values with a unit are in plants",
		Long: `Show the dictionary of units, as YAML: what values with a unit are in plants, which findings take as evidence and nothing is refused by.
One of your own in the same form, with some units or all, is given to arithmon serve --units FILE.`,
		Args: arguments(0, 0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			_, err := a.Out.Write(unit.Source())
			return err
		}}
}

// logging are the flags that say what is logged on stderr, and how.
type logging struct{ level, format string }

func (l *logging) flags(c *cobra.Command, level string) {
	c.Flags().StringVar(&l.level, "log-level", level, "least level that is logged: debug, info, warn or error")
	c.Flags().StringVar(&l.format, "log-format", "text", "form of the log on stderr: text or json")
}

// logger is the logger that the flags describe.
func (l *logging) logger(to io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(l.level)); err != nil || strings.ContainsAny(l.level, "+-") {
		return nil, usage("--log-level %s: choose debug, info, warn or error", l.level)
	}
	options := &slog.HandlerOptions{Level: level}
	switch l.format {
	case "text":
		return slog.New(slog.NewTextHandler(to, options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(to, options)), nil
	}
	return nil, usage("--log-format %s: choose text or json", l.format)
}

func (a *app) start(ctx context.Context, o service.Options, logs logging) (*service.Service, error) {
	log, err := logs.logger(a.Err)
	if err != nil {
		return nil, err
	}
	o.Console, o.Log, o.Version = a.Console, log, a.Version
	return service.Start(ctx, o)
}

// untilEnd waits for the end of the service or of ctx.
func (a *app) untilEnd(ctx context.Context, s *service.Service) error {
	var failed error
	select {
	case failed = <-s.Failed():
	case <-ctx.Done():
		fmt.Fprintln(a.Err, "arithmon: stopping")
	}
	if err := s.Stop(); failed == nil {
		return err
	}
	return failed
}

func (a *app) demo() *cobra.Command {
	var dir, listen string
	var logs logging
	c := &cobra.Command{
		Use:   "demo",
		Short: "Run the service with an invented plant and its devices",
		Long: `Run the service with the site of Merrowfen, an invented drainage district, and simulate its devices.
The first line on stdout is the console's URL. The database is thrown away at the end unless --data is given.`,
		Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			if dir == "" {
				temporary, err := os.MkdirTemp("", "arithmon-demo-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(temporary)
				dir = temporary
			}
			config, err := rig.Load("merrowfen.yaml", demo.Rig)
			if err != nil {
				return err
			}
			devices, err := rig.Start(config, rig.Options{AnyPort: true})
			if err != nil {
				return err
			}
			defer devices.Stop()
			s, err := a.start(c.Context(), service.Options{Dir: dir, Listen: listen, Rig: devices}, logs)
			if err != nil {
				return err
			}
			if err := a.furnish(c.Context(), s, config, devices); err != nil {
				s.Stop()
				return err
			}
			fmt.Fprintln(a.Out, s.URL)
			fmt.Fprintf(a.Err, "arithmon: Merrowfen runs. Open %s, or try: arithmon watch 'sallow/*' --server %s\n", s.URL, s.URL)
			return a.untilEnd(c.Context(), s)
		}}
	c.Flags().StringVar(&dir, "data", "", "directory of the database, to keep it")
	c.Flags().StringVar(&listen, "listen", service.DefaultListen, "loopback address and port; port 0 takes a free one")
	logs.flags(c, "warn")
	return c
}

// furnish gives an empty service the site of the demo, with links to where its devices listen; one that has links already, those.
func (a *app) furnish(ctx context.Context, s *service.Service, config *rig.Config, devices *rig.Rig) error {
	fill := func(d *site.Draft, now *site.Site) {
		for _, line := range config.Lines {
			if l, there := now.Link(line.Name); there {
				node, err := form.Node(where(line, devices.Address(line.Name)))
				if err != nil {
					d.Fail(&site.FieldError{Kind: site.KindLink, Name: line.Name, Message: err.Error()})
					continue
				}
				d.Put(form.Decode(site.KindLink, node, d, l))
			}
		}
	}
	if len(s.Store.Site().Links()) == 0 {
		content, err := furnished(demo.Site, config, devices)
		if err != nil {
			return err
		}
		file, err := sitefile.Read("site.yaml", content)
		if err != nil {
			return err
		}
		fill = func(d *site.Draft, now *site.Site) { file.Into(d, now, false) }
	}
	if _, _, err := s.Store.Modify(ctx, store.Edit{Who: "demo"}, fill); err != nil {
		return fmt.Errorf("the site of the demo: %w", err)
	}
	return nil
}

// furnished is a site file with its links to where the devices listen, before anything is asked of where they would by themselves:
// another demo may have that.
func furnished(file []byte, config *rig.Config, devices *rig.Rig) ([]byte, error) {
	var content map[string]any
	if err := yaml.Unmarshal(file, &content); err != nil {
		return nil, err
	}
	links, _ := content["links"].([]any)
	for _, l := range links {
		link, _ := l.(map[string]any)
		for _, line := range config.Lines {
			if line.Name != link["name"] {
				continue
			}
			fields, err := json.Marshal(where(line, devices.Address(line.Name))) // as JSON names them
			if err != nil {
				return nil, err
			}
			if err := json.Unmarshal(fields, &link); err != nil {
				return nil, err
			}
			maps.DeleteFunc(link, func(_ string, v any) bool { return v == nil })
		}
	}
	return yaml.Marshal(content)
}

// where gives a link the address on which its simulated line listens: a port of the network or a serial one.
func where(line rig.Line, address string) map[string]any {
	host, port, err := net.SplitHostPort(address)
	if n, numeric := strconv.Atoi(port); err == nil && numeric == nil {
		fields := map[string]any{"transport": site.TCP, "framing": line.Framing, "host": host, "port": n, "serial": nil}
		if line.Transport != site.Serial {
			fields["transport"] = line.Transport
		}
		if len(line.Protocol.Traits().Framings) == 0 {
			delete(fields, "framing")
		}
		return fields
	}
	serial := line.Serial
	serial.Device = address
	return map[string]any{"serial": serial}
}
