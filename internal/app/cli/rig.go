package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"arithmon/internal/app/api"
	"arithmon/internal/app/service"
	"arithmon/internal/core/document"
	"arithmon/internal/rig"
)

func (a *app) rig() *cobra.Command {
	var listen string
	c := &cobra.Command{
		Use:   "rig FILE",
		Short: "Simulate devices of a rig file, and their faults",
		Long: `Simulate devices: listen where the rig file says and answer as its stations. Ends with Ctrl-C.
With --listen, the other verbs switch faults while it runs; those of the demo they switch without it.`,
		Args: arguments(1, 1, "one rig file, or a verb"),
		RunE: func(c *cobra.Command, args []string) error {
			data, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			config, err := rig.Load(args[0], data)
			if err != nil {
				return err
			}
			devices, err := rig.Start(config, rig.Options{})
			if err != nil {
				return err
			}
			defer devices.Stop()
			for _, line := range config.Lines {
				fmt.Fprintf(a.Out, "%s %s\n", line.Name, devices.Address(line.Name))
			}
			if listen == "" {
				<-c.Context().Done()
				return nil
			}
			return a.control(c.Context(), devices, listen)
		}}
	c.Flags().StringVar(&listen, "listen", "", "loopback address and port on which faults are switched; port 0 takes a free one")
	c.AddCommand(a.rigShow(), a.rigFault(), a.rigClear(), a.rigLine("cut", "Cut a line: nothing listens there any more", false), a.rigLine("restore", "Restore a line that was cut", true))
	return c
}

// control lets faults be switched until ctx ends.
func (a *app) control(ctx context.Context, devices *rig.Rig, listen string) error {
	listener, err := service.Listen(listen)
	if err != nil {
		return err
	}
	server := &http.Server{Handler: api.New(api.Options{Rig: devices, Version: a.Version}), ReadHeaderTimeout: 10 * time.Second}
	defer context.AfterFunc(ctx, func() { server.Close() })()
	fmt.Fprintf(a.Out, "faults are switched with arithmon rig fault ... --server http://%s\n", listener.Addr())
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func (a *app) rigShow() *cobra.Command {
	return &cobra.Command{Use: "show", Short: "Show the simulated lines and devices with their faults", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			state, err := a.client().Rig(c.Context())
			if err != nil {
				return err
			}
			return a.print(state, func(t *table) {
				t.header("LINE", "UNIT", "NAME", "LISTENS ON", "FAULTS")
				for _, l := range state.Lines {
					at := l.Listen
					if l.Cut {
						at += " (cut)"
					}
					for _, s := range l.Stations {
						t.row(l.Name, strconv.Itoa(s.Unit), s.Name, at, spoken(s.Faults))
					}
				}
			})
		}}
}

// spoken says faults as they are written on the command line.
func spoken(f rig.Faults) string {
	b, err := json.Marshal(f)
	var fields map[string]any
	if err != nil || json.Unmarshal(b, &fields) != nil {
		return ""
	}
	var words []string
	for _, name := range document.FieldNames(f) {
		switch v := fields[name].(type) {
		case nil:
		case bool:
			words = append(words, name)
		case map[string]any:
			words = append(words, fmt.Sprintf("%s={every: %v, for: %v}", name, v["every"], v["for"]))
		default:
			words = append(words, fmt.Sprintf("%s=%v", name, v))
		}
	}
	return strings.Join(words, " ")
}

func (a *app) rigFault() *cobra.Command {
	var b strings.Builder
	for _, f := range faultFields() {
		fmt.Fprintf(&b, "\n  %-17s %s", f[0], f[1])
	}
	return &cobra.Command{Use: "fault LINE UNIT FAULT[=VALUE]...", Short: "Switch faults of a simulated device on or off",
		Long: "Switch faults of a simulated device: NAME switches one on, NAME=VALUE sets it, NAME=off takes it away.\n" +
			"UNIT is its unit identifier, or its address where the line speaks DNP3.\nFaults:" + b.String(),
		Args: arguments(3, -1, "a line, a unit and at least one fault"),
		RunE: func(c *cobra.Command, args []string) error {
			unit, err := strconv.Atoi(args[1])
			if err != nil {
				return usage("unit %q is no number", args[1])
			}
			fields := map[string]any{}
			for _, arg := range args[2:] {
				name, text, given := strings.Cut(arg, "=")
				var value any = true
				if given {
					if err := yaml.Unmarshal([]byte(text), &value); err != nil {
						return usage("%s: %q is not written as in a rig file", name, text)
					}
				}
				if text == "off" || value == false {
					value = nil
				}
				fields[name] = jsonable(value)
			}
			f, err := a.client().SetFaults(c.Context(), args[0], unit, fields, false)
			if err != nil {
				return err
			}
			return a.print(f, func(t *table) { t.line(fmt.Sprintf("%s %d: %s", args[0], unit, orNone(spoken(f)))) })
		}}
}

func orNone(s string) string {
	if s == "" {
		return "no faults"
	}
	return s
}

// faultFields are the names and descriptions of the faults.
func faultFields() (list [][2]string) {
	docs := documented(rig.Faults{})
	for _, name := range document.FieldNames(rig.Faults{}) {
		list = append(list, [2]string{name, docs[name]})
	}
	return list
}

func (a *app) rigClear() *cobra.Command {
	return &cobra.Command{Use: "clear [LINE [UNIT]]", Short: "Take all faults away", Args: arguments(0, 2, "a line and a unit at most"),
		RunE: func(c *cobra.Command, args []string) error {
			state, err := a.client().Rig(c.Context())
			if err != nil {
				return err
			}
			found := false
			for _, l := range state.Lines {
				if len(args) > 0 && l.Name != args[0] {
					continue
				}
				for _, s := range l.Stations {
					if len(args) > 1 && strconv.Itoa(s.Unit) != args[1] {
						continue
					}
					found = true
					if _, err := a.client().SetFaults(c.Context(), l.Name, s.Unit, map[string]any{}, true); err != nil {
						return err
					}
				}
				if l.Cut {
					if err := a.client().CutLine(c.Context(), l.Name, true); err != nil {
						return err
					}
				}
			}
			if !found {
				return &exitError{exitNotFound, fmt.Sprintf("the rig has no %s; arithmon rig show lists what there is", strings.Join(args, " unit "))}
			}
			return nil
		}}
}

func (a *app) rigLine(verb, short string, restore bool) *cobra.Command {
	return &cobra.Command{Use: verb + " LINE", Short: short, Args: arguments(1, 1, "one line"),
		RunE: func(c *cobra.Command, args []string) error { return a.client().CutLine(c.Context(), args[0], restore) }}
}
