package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
	"arithmon/internal/protocol/dnp3"
)

// farEnd is a place that is no link of the site, as flags give it.
type farEnd struct {
	protocol        string
	framing, parity string
	baud, stop      int
	timeout         time.Duration
}

func (f *farEnd) flags(c *cobra.Command) {
	c.Flags().StringVar(&f.protocol, "protocol", "modbus", "for HOST[:PORT] or a port: modbus or dnp3")
	c.Flags().StringVar(&f.framing, "framing", "", "for HOST[:PORT] or a port: mbap, rtu or ascii")
	c.Flags().IntVar(&f.baud, "baud", 9600, "for a serial port")
	c.Flags().StringVar(&f.parity, "parity", "even", "for a serial port: none, even or odd")
	c.Flags().IntVar(&f.stop, "stop-bits", 1, "for a serial port")
	c.Flags().DurationVar(&f.timeout, "timeout", time.Second, "for HOST[:PORT] or a port: silence after which nothing comes")
}

// at reads HOST, HOST:PORT or the name of a serial port.
func (f *farEnd) at(text string) *site.Link {
	l := site.NewLink()
	l.Protocol = site.Protocol(f.protocol)
	l.Framing, l.Timeout = site.Framing(f.framing), site.Duration(f.timeout)
	if strings.HasPrefix(text, "/") || strings.HasPrefix(strings.ToUpper(text), "COM") && !strings.Contains(text, ".") {
		l.Transport = site.Serial
		l.Serial = &site.LineSettings{Device: text, Baud: f.baud, Parity: f.parity, StopBits: f.stop}
		return &l
	}
	l.Host = text
	if host, port, err := net.SplitHostPort(text); err == nil {
		if n, err := strconv.Atoi(port); err == nil {
			l.Host, l.Port = host, n
		}
	}
	return &l
}

func (a *app) probe() *cobra.Command {
	var link, add, only string
	var unit, master int
	var list bool
	var far farEnd
	c := &cobra.Command{
		Use:   "probe STATION | probe --link LINK | probe HOST[:PORT] | probe /dev/PORT",
		Short: "Ask a device what it is, stage by stage",
		Long: `Ask a device what it is: name, route, connection, any Modbus answer, this unit, what it says of itself, which tables answer,
and how much it reads at once. Of a DNP3 outstation: its link status, whether its application answers, its attributes, and which
points it has. It says at which stage it stops, and why. Polls of the link pause meanwhile.
With --points the points of an outstation are listed; with --add PREFIX they become points of the station, those that fit --only.`,
		Args: arguments(0, 1, "a station, a host or a serial port, or --link"),
		RunE: func(c *cobra.Command, args []string) error {
			request := api.ProbeRequest{Link: link}
			if c.Flags().Changed("unit") {
				request.Unit = &unit
			}
			if c.Flags().Changed("master") {
				request.Master = &master
			}
			switch {
			case (link != "") == (len(args) == 1):
				return usage("say what to probe: a station, HOST[:PORT], a serial port, or --link")
			case len(args) == 1:
				stations, err := a.client().Stations(c.Context())
				if err != nil {
					return err
				}
				request.At = far.at(args[0])
				for _, st := range stations {
					if st.Name == args[0] {
						request.Station, request.At = st.Name, nil
					}
				}
			}
			stages := []api.Stage{}
			err := a.client().Probe(c.Context(), request, func(s api.Stage) error {
				stages = append(stages, s)
				if a.output == "text" {
					fmt.Fprintf(a.Out, "%s %-15s %s (%.1f ms)\n", map[bool]string{true: "●", false: "✕"}[s.OK], s.Name, s.Text, s.TookMS)
					if len(s.Templates) > 0 {
						fmt.Fprintf(a.Out, "  %-15s for such a device: %s\n", "templates", strings.Join(s.Templates, ", "))
					}
				}
				return nil
			})
			if err != nil {
				return err
			}
			if a.output != "text" {
				if err := a.print(stages, func(t *table) {
					t.header("STAGE", "OK", "TEXT")
					for _, s := range stages {
						t.row(s.Name, strconv.FormatBool(s.OK), s.Text)
					}
				}); err != nil {
					return err
				}
			}
			if len(stages) == 0 || !stages[len(stages)-1].OK {
				return &exitError{code: exitFailed}
			}
			held := fitting(stages[len(stages)-1].Points, only)
			if list && a.output == "text" {
				if err := tellHeld(held).write(a.Out); err != nil {
					return err
				}
			}
			if add == "" {
				return nil
			}
			if request.Station == "" {
				return usage("--add makes points of a station of the site; probe that")
			}
			return a.takeOver(c.Context(), request.Station, add, held)
		}}
	c.Flags().StringVar(&link, "link", "", "a link of the site")
	c.Flags().IntVar(&unit, "unit", 1, "unit, or link address of an outstation, to probe")
	c.Flags().IntVar(&master, "master", site.DefaultMaster, "DNP3: link address of this end")
	c.Flags().BoolVar(&list, "points", false, "list the points of an outstation")
	c.Flags().StringVar(&add, "add", "", "make points of the station of what it has, with this before each tag, such as heron/")
	c.Flags().StringVar(&only, "only", "", "only those addresses, with * for any characters: ai:*")
	far.flags(c)
	return c
}

// fitting are the points whose address fits a pattern.
func fitting(list []api.Held, pattern string) (held []api.Held) {
	for _, h := range list {
		if pattern == "" || site.Match(pattern, h.Address.String()) {
			held = append(held, h)
		}
	}
	return held
}

func tellHeld(held []api.Held) *table {
	t := &table{}
	t.header("ADDRESS", "OBJECT", "CLASS", "VALUE", "FLAGS")
	for _, h := range held {
		class := "-"
		if h.Class > 0 {
			class = strconv.Itoa(h.Class)
		}
		t.row(h.Address.String(), h.Variation, class, dnp3.ValueText(h.Value), strings.Join(h.Flags, ", "))
	}
	return t
}

// takeOver makes points of a station of what it has, all or none. Tags are made of the prefix and the address.
func (a *app) takeOver(ctx context.Context, station, prefix string, held []api.Held) error {
	points := []map[string]any{}
	for _, h := range held {
		points = append(points, map[string]any{"tag": fmt.Sprintf("%s%s%d", prefix, h.Address.Space, h.Address.Offset), "station": station, "address": h.Address.String(), "type": h.Type})
	}
	b, err := json.Marshal(map[string]any{"arithmon": 1, "points": points})
	if err != nil {
		return err
	}
	sum, err := a.client().Apply(ctx, "points of "+station, b, false, false)
	if err != nil {
		return err
	}
	return a.printSummary(sum)
}

func (a *app) scan() *cobra.Command {
	var request api.ScanRequest
	var wait time.Duration
	var add string
	var far farEnd
	c := &cobra.Command{
		Use:   "scan LINK | scan HOST[:PORT] | scan /dev/PORT",
		Short: "Look for units and outstations, and for line settings",
		Long: `Look for units on a link; with --settings, look for baud, parity and stop bits of a serial line first.
Polls of the link pause meanwhile. Ctrl-C ends it. With --add PREFIX every unit that is found becomes a station of the link.`,
		Args: arguments(1, 1, "a link, a host or a serial port"),
		RunE: func(c *cobra.Command, args []string) error {
			links, err := a.client().Links(c.Context())
			if err != nil {
				return err
			}
			request.At = far.at(args[0])
			protocol := request.At.Protocol
			for _, l := range links {
				if l.Name == args[0] {
					request.Link, request.At, protocol = l.Name, nil, l.Protocol
				}
			}
			called := protocol.Traits().Address
			if !c.Flags().Changed("last") {
				request.Last = 0 // as its protocol has it
			}
			if add != "" && request.Link == "" {
				return usage("--add makes stations on a link of the site; add a link first")
			}
			request.Wait = site.Duration(wait)
			var result struct {
				Settings *site.LineSettings `json:"settings,omitempty"`
				Units    []api.Found        `json:"units"`
			}
			result.Units = []api.Found{}
			var ended string
			err = a.client().Scan(c.Context(), request, func(p api.Progress) error {
				if p.Settings != nil {
					result.Settings = p.Settings
				}
				if p.Found != nil {
					result.Units = append(result.Units, *p.Found)
				}
				ended = p.Ended
				if a.output != "text" {
					return nil
				}
				switch {
				case p.Settings != nil:
					fmt.Fprintln(a.Out, p.Now)
				case p.Found != nil:
					fmt.Fprintf(a.Out, "%s %d: %s\n", called, p.Found.Unit, p.Found.Text)
				case p.Done%20 == 0 && p.Ended == "":
					fmt.Fprintf(a.Err, "%d of %d, %s\n", p.Done, p.Total, p.Now)
				}
				return nil
			})
			if err != nil {
				return err
			}
			if a.output != "text" {
				if err := a.print(result, func(t *table) {
					t.header("UNIT", "TEXT")
					for _, f := range result.Units {
						t.row(strconv.Itoa(f.Unit), f.Text)
					}
				}); err != nil {
					return err
				}
			}
			if strings.HasPrefix(ended, "failed") {
				return fmt.Errorf("%s", strings.TrimPrefix(ended, "failed: "))
			}
			if a.output == "text" {
				fmt.Fprintln(a.Out, ended)
			}
			for _, f := range result.Units {
				if add == "" {
					break
				}
				name := fmt.Sprintf("%s%d", add, f.Unit)
				if _, err := a.client().Add(c.Context(), site.KindStation, map[string]any{"name": name, "link": request.Link, called: f.Unit}); err != nil {
					return err
				}
				fmt.Fprintf(a.Err, "station %s is added\n", name)
			}
			return nil
		}}
	c.Flags().IntVar(&request.First, "first", 1, "first unit or outstation")
	c.Flags().IntVar(&request.Last, "last", 247, "last unit (for outstations 255)")
	c.Flags().IntVar(&request.Master, "master", site.DefaultMaster, "DNP3: link address of this end")
	c.Flags().BoolVar(&request.Settings, "settings", false, "look for the settings of a serial line first")
	c.Flags().DurationVar(&wait, "wait", 200*time.Millisecond, "wait for each response")
	c.Flags().StringVar(&add, "add", "", "make a station of every unit found, named with this before its number")
	far.flags(c)
	return c
}
