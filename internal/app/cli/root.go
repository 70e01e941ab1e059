// Package cli is the command line: verbs that speak to a running service, and those that start one.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/user"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"arithmon/internal/app/client"
)

// Exit codes.
const (
	exitDone       = 0
	exitFailed     = 1
	exitUsage      = 2
	exitNotFound   = 3
	exitNotGood    = 4 // done, but a reading is not good
	exitNotAllowed = 5
)

// Env is what the command line runs in.
type Env struct {
	Out, Err io.Writer
	In       io.Reader
	Getenv   func(string) string
	Console  fs.FS // the built console
	Version  string
}

// app is one run of the command line.
type app struct {
	Env
	server string
	output string
	said   client.Said   // of every change
	lines  *bufio.Reader // the standard input, when it is read by lines
}

// exitError ends the program with a code and, unless it is empty, a message.
type exitError struct {
	code    int
	message string
}

func (e *exitError) Error() string { return e.message }

// Run runs the command line and returns its exit code.
func Run(ctx context.Context, env Env, args []string) int {
	a := &app{Env: env}
	root := a.root()
	root.SetArgs(joined(root, args))
	root.SetOut(env.Out)
	root.SetErr(env.Err)
	root.SetIn(env.In)
	err := texts(args)
	if err == nil {
		err = root.ExecuteContext(ctx)
	}
	if err == nil {
		return exitDone
	}
	if _, typed, unknown := strings.Cut(err.Error(), "unknown command "); unknown {
		typed, _, _ = strings.Cut(strings.TrimPrefix(typed, `"`), `"`)
		err = commandHint(root, typed)
	}
	code := exitCode(err)
	for line := range strings.SplitSeq(strings.TrimSpace(err.Error()), "\n") {
		if line != "" {
			fmt.Fprintln(env.Err, "arithmon:", line)
		}
	}
	return code
}

func exitCode(err error) int {
	var exit *exitError
	var problem *client.ProblemError
	switch {
	case errors.As(err, &exit):
		return exit.code
	case errors.As(err, &problem) && problem.Status == http.StatusNotFound:
		return exitNotFound
	case errors.As(err, &problem) && (problem.Status == http.StatusForbidden || problem.Status == http.StatusUnauthorized), errors.Is(err, client.ErrCertificate):
		return exitNotAllowed
	}
	return exitFailed
}

// usage is an error of how the command was written.
func usage(format string, args ...any) error {
	return &exitError{exitUsage, fmt.Sprintf(format, args...)}
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "arithmon",
		Short: "A shared point database for Modbus and DNP3 devices, and its live readings",
		Long: `Arithmon keeps a point database for Modbus and DNP3 devices and reads it live.

Start it with "arithmon serve", or with an invented plant to try it on: "arithmon demo".
The other verbs speak to the running service.`,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			switch a.output {
			case "text", "json", "yaml", "csv":
				return nil
			}
			return usage("-o %s: choose text, json, yaml or csv", a.output)
		},
	}
	server := a.Getenv("ARITHMON_SERVER")
	if kept, err := readSignedIn(); server == "" && err == nil {
		server = kept.Current
	}
	if server == "" {
		server = "http://127.0.0.1:7340"
	}
	root.PersistentFlags().StringVar(&a.server, "server", server, "URL of the service (or ARITHMON_SERVER; otherwise where login was last)")
	root.PersistentFlags().StringVar(&a.said.Message, "message", "", "what is said of the change set that the command makes")
	root.PersistentFlags().StringVar(&a.said.Propose, "propose", "", "keep what the command would change as a proposal of this title, instead of changing the site")
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "text", "form of the output: text, json, yaml or csv")
	negative := regexp.MustCompile(`-\.?[0-9]\S*$`)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		if number := negative.FindString(err.Error()); number != "" {
			return usage("%s looks like an option; put the options first, then --, then the rest: %s [options] -- ... %s", number, c.CommandPath(), number)
		}
		return usage("%s%s See %s --help", err, ended(flagHint(c, err)), c.CommandPath())
	})
	root.SetGlobalNormalizationFunc(kebab)
	root.AddCommand(a.serve(), a.demo(), a.rig(), a.version())
	root.AddCommand(a.entities()...)
	root.AddCommand(a.account(), a.token(), a.login(), a.logout(), a.auditVerb())
	root.AddCommand(a.diff(), a.restore(), a.proposal(), a.note(), a.restoreBackup())
	root.AddCommand(a.apply(), a.export(), a.backup(), a.read(), a.write(), a.watch(), a.lens(), a.status(), a.probe(), a.scan(), a.findings(), a.explain(), a.units(), a.events(), a.history(), a.alarm(), a.traffic(), a.ports(), a.changes(), a.undo(), a.writes())
	root.InitDefaultCompletionCmd()
	root.InitDefaultHelpCmd()
	a.completed(root)
	a.helped(root)
	return root
}

// client speaks to the service as the user of this machine.
func (a *app) client() *client.Client {
	kept, err := readSignedIn()
	if err != nil {
		a.warn(err.Error())
	}
	c := client.New(a.server, userName())
	if access := a.access(kept); access != (client.Access{}) {
		c = c.With(access)
	}
	c.Warn, c.Said = a.warn, a.said
	c.Told = func(text string) { fmt.Fprintln(a.Err, "arithmon:", text) }
	return c
}

// userName is what the user of this machine is called.
func userName() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "local"
}

func (a *app) warn(text string) { fmt.Fprintln(a.Err, "arithmon: warning:", text) }

// arguments checks how many there are, in words.
func arguments(least, most int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) < least || most >= 0 && len(args) > most {
			return usage("%s takes %s. See %s --help", c.CommandPath(), what, c.CommandPath())
		}
		return nil
	}
}

func (a *app) version() *cobra.Command {
	c := &cobra.Command{
		Use: "version", Short: "Print the version of the program; name states of the site", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			return a.print(map[string]string{"version": a.Version}, func(t *table) { t.line("arithmon " + a.Version) })
		},
	}
	c.AddCommand(a.versionAdd(), a.versionList())
	return c
}

// readFile reads a file, or the standard input for "-".
func (a *app) readFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(a.In)
	}
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &exitError{exitNotFound, fmt.Sprintf("there is no file %q", name)}
	}
	return data, err
}
