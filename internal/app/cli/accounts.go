package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/core/access"
	"arithmon/internal/record/account"
	"arithmon/internal/record/audit"
	"arithmon/internal/record/database"
)

// secret reads what nobody should see: from the terminal, without showing it, or a line of the standard input.
func (a *app) secret(what string) (string, error) {
	if f, is := a.In.(*os.File); is && term.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(a.Err, "%s: ", what)
		typed, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.Err)
		return string(typed), err
	}
	return a.line(what)
}

// terminal reports whether a person types.
func (a *app) terminal() bool {
	f, is := a.In.(*os.File)
	return is && term.IsTerminal(int(f.Fd()))
}

// line reads a line of the standard input.
func (a *app) line(what string) (string, error) {
	if a.lines == nil {
		a.lines = bufio.NewReader(a.In)
	}
	text, err := a.lines.ReadString('\n')
	if text == "" && err != nil {
		return "", usage("%s is read from the standard input, which is empty", what)
	}
	return strings.TrimRight(text, "\r\n"), nil
}

// newPassword reads a password that is to be kept, twice where a person types.
func (a *app) newPassword(of string) (string, error) {
	password, err := a.secret("password of " + of)
	if err != nil || !a.terminal() {
		return password, err
	}
	again, err := a.secret("the same again")
	if err == nil && again != password {
		err = errors.New("the two are not the same; nothing was changed")
	}
	return password, err
}

// offline opens the accounts of a service that is stopped.
func offline(ctx context.Context, dir string) (*account.Book, func() error, error) {
	if _, err := os.Stat(filepath.Join(dir, database.FileName)); err != nil {
		if _, err := os.Stat(dir); err != nil {
			return nil, nil, &exitError{exitNotFound, fmt.Sprintf("there is no directory %s; give the one that the service is started with (--data)", dir)}
		}
	}
	db, err := database.Open(ctx, dir)
	if errors.Is(err, database.ErrInUse) {
		return nil, nil, fmt.Errorf("%w; or leave --data out, and the running service does it", err)
	}
	if err != nil {
		return nil, nil, err
	}
	book, err := account.Open(ctx, db, account.Options{})
	if err != nil {
		return nil, nil, errors.Join(err, db.Close())
	}
	return book, func() error { return errors.Join(book.Close(), db.Close()) }, nil
}

// here is who does something on the service's own machine while it is stopped.
func here() access.Principal { return access.Principal{Account: userName(), Role: access.Admin} }

// account are the verbs of accounts.
func (a *app) account() *cobra.Command {
	c := &cobra.Command{
		Use:   "account",
		Short: "Who may use the service, and what they may do",
		Long: `Who may use the service, and what they may do. The roles, each with what those before it may:

  viewer    sees
  operator  writes to points that allow it
  engineer  changes the site, has links, probes, scans and recordings
  admin     has accounts, tokens of others, backups and the audit log

A role can be limited to a part of the site: tags (--only 'tern/*'), or stations with all their points (--only 'station:tern-*').
Until the first account exists, everybody on the service's own machine may do everything, and nobody from elsewhere anything.`,
	}
	c.AddCommand(a.accountList(), a.accountAdd(), a.accountSet(), a.accountRemove(), a.accountSessions())
	return c
}

func (a *app) accountList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List accounts", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Accounts(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("NAME", "ROLE", "ONLY", "SECOND FACTOR", a.timeHead("SIGNED IN"))
				for _, one := range list {
					t.row(one.Name, string(one.Role), strings.Join(one.Only, ", "), yes(one.Factor), a.maybe(one.SignedIn))
				}
				if len(list) == 0 {
					t.line("There are no accounts: everybody on the service's machine may do everything.")
				}
			})
		}}
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

// maybe is a time, or nothing.
func (a *app) maybe(t *time.Time) string {
	if t == nil {
		return ""
	}
	return a.stamp(*t)
}

func (a *app) accountAdd() *cobra.Command {
	var role, data string
	var only []string
	c := &cobra.Command{
		Use:   "add NAME --role ROLE",
		Short: "Make an account",
		Long: `Make an account. Its password is asked for on a terminal, and otherwise is the first line of the standard input: at least 12 characters, and
none of the most common ones. The first account must be an admin; it is made on the service's own machine, or, with --data, while the
service is stopped.`,
		Args: arguments(1, 1, "one name"),
		RunE: func(c *cobra.Command, args []string) error {
			password, err := a.newPassword(args[0])
			if err != nil {
				return err
			}
			if data != "" {
				book, done, err := offline(c.Context(), data)
				if err != nil {
					return err
				}
				if err := errors.Join(book.Add(c.Context(), here(), args[0], password, access.Role(role), only), done()); err != nil {
					return err
				}
			} else if _, err := a.client().AddAccount(c.Context(), api.NewAccount{Name: args[0], Role: access.Role(role), Only: only, Password: password}); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "made account %s, %s\n", args[0], role)
			return nil
		}}
	c.Flags().StringVar(&role, "role", "", "viewer, operator, engineer or admin")
	c.Flags().StringArrayVar(&only, "only", nil, "limit it to tags (tern/*) or stations (station:tern-*); may be repeated")
	c.Flags().StringVar(&data, "data", "", "directory of a service that is stopped")
	return c
}

func (a *app) accountSet() *cobra.Command {
	var role, data string
	var only []string
	var password, noFactor bool
	c := &cobra.Command{
		Use:   "set NAME",
		Short: "Change an account",
		Long: `Change the role of an account, what it is limited to (--only "" for nothing), or its password, which is asked for as when it is made; or take
its second factor away, such as when the telephone was lost. With --data it is done while the service is stopped, also by who forgot the password.`,
		Args: arguments(1, 1, "one name"),
		RunE: func(c *cobra.Command, args []string) error {
			var changes api.AccountChanges
			if c.Flags().Changed("role") {
				r := access.Role(role)
				changes.Role = &r
			}
			if c.Flags().Changed("only") {
				list := slices.DeleteFunc(only, func(p string) bool { return p == "" })
				list = append([]string{}, list...)
				changes.Only = &list
			}
			if noFactor {
				changes.Factor = new(bool)
			}
			if changes == (api.AccountChanges{}) && !password {
				return usage("say what to change: --role, --only, --password or --no-second-factor")
			}
			if password {
				typed, err := a.newPassword(args[0])
				if err != nil {
					return err
				}
				changes.Password = &typed
			}
			if data == "" {
				if _, err := a.client().SetAccount(c.Context(), args[0], changes); err != nil {
					return err
				}
			} else if err := setOffline(c.Context(), data, args[0], changes); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "changed account %s\n", args[0])
			return nil
		}}
	c.Flags().StringVar(&role, "role", "", "viewer, operator, engineer or admin")
	c.Flags().StringArrayVar(&only, "only", nil, `limit it to tags (tern/*) or stations (station:tern-*); may be repeated; "" takes the limits away`)
	c.Flags().BoolVar(&password, "password", false, "give it another password; its sessions end")
	c.Flags().BoolVar(&noFactor, "no-second-factor", false, "take its second factor away")
	c.Flags().StringVar(&data, "data", "", "directory of a service that is stopped")
	return c
}

func setOffline(ctx context.Context, dir, name string, changes api.AccountChanges) error {
	book, done, err := offline(ctx, dir)
	if err != nil {
		return err
	}
	set := account.Changes{Role: changes.Role, Password: changes.Password}
	if changes.Only != nil {
		only := access.Limits(*changes.Only)
		set.Only = &only
	}
	if changes.Factor != nil {
		set.Factor = new(string)
	}
	return errors.Join(book.Set(ctx, here(), name, set, ""), done())
}

func (a *app) accountRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove an account with its tokens and sessions", Args: arguments(1, 1, "one name"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemoveAccount(c.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "removed account %s\n", args[0])
			return nil
		}}
}

func (a *app) accountSessions() *cobra.Command {
	var end int64
	c := &cobra.Command{
		Use: "sessions", Short: "List who is signed in with a browser, and end a session", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			if c.Flags().Changed("end") {
				if err := a.client().EndSession(c.Context(), end); err != nil {
					return err
				}
				fmt.Fprintf(a.Err, "ended session %d\n", end)
				return nil
			}
			list, err := a.client().Sessions(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("ID", "ACCOUNT", "FROM", a.timeHead("BEGAN"), a.timeHead("SEEN"))
				for _, s := range list {
					t.row(strconv.FormatInt(s.ID, 10), s.Account, s.From, a.stamp(s.Began), a.stamp(s.Seen))
				}
			})
		}}
	c.Flags().Int64Var(&end, "end", 0, "end the session of this number")
	return c
}

// token are the verbs of tokens.
func (a *app) token() *cobra.Command {
	c := &cobra.Command{
		Use:   "token",
		Short: "What programs show instead of a password",
		Long: `What programs show instead of a password: Authorization: Bearer TOKEN, or ARITHMON_TOKEN for this command. A token belongs to the account
that made it, may at most what that may, and ends by itself.`,
	}
	list := &cobra.Command{
		Use: "list", Short: "List the own tokens; all for an admin", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Tokens(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("NAME", "ACCOUNT", "ROLE", "ONLY", a.timeHead("ENDS"), a.timeHead("USED"))
				for _, one := range list {
					t.row(one.Name, one.Account, string(one.Role), strings.Join(one.Only, ", "), a.stamp(one.Ends), a.maybe(one.Used))
				}
			})
		}}
	var role string
	var only []string
	var days int
	add := &cobra.Command{
		Use:   "add NAME",
		Short: "Make a token of the own account; it is shown once",
		Long:  `Make a token of the own account, with its role or a lesser one. The token is shown once, on stdout; it cannot be found out later.`,
		Args:  arguments(1, 1, "one name"),
		RunE: func(c *cobra.Command, args []string) error {
			made, err := a.client().AddToken(c.Context(), api.NewToken{Name: args[0], Role: access.Role(role), Only: only, Days: days})
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "made token %s, %s, until %s; it is shown this once:\n", made.Name, made.Role, a.stamp(made.Ends))
			return a.print(made, func(t *table) { t.line(made.Secret) })
		}}
	add.Flags().StringVar(&role, "role", "", "viewer, operator, engineer or admin (default that of the account)")
	add.Flags().StringArrayVar(&only, "only", nil, "limit it to tags (tern/*) or stations (station:tern-*); may be repeated")
	add.Flags().IntVar(&days, "days", account.DefaultDays, "days after which it ends")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "End a token", Args: arguments(1, 1, "one name"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemoveToken(c.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "removed token %s\n", args[0])
			return nil
		}}
	c.AddCommand(list, add, remove)
	return c
}

func (a *app) login() *cobra.Command {
	var name, code, fingerprint string
	var days int
	c := &cobra.Command{
		Use:   "login URL --account NAME",
		Short: "Sign in to a service, for the commands that follow",
		Long: `Sign in to a service. Its password is asked for on a terminal, and otherwise is the first line of the standard input. A token is made and kept
in this user's configuration, where nobody else may read it; commands go to that service from then on, unless --server names another one,
until arithmon logout.

A certificate that this machine does not trust, such as one of the service's own (--tls self), is shown by the fingerprint of its key: compare it
with what the log of the service says when it starts. Later on it must be the same.`,
		Args: arguments(1, 1, "the URL of a service"),
		RunE: func(c *cobra.Command, args []string) error {
			base := strings.TrimSuffix(args[0], "/")
			if u, err := url.Parse(base); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
				return usage("%q is no URL of a service, such as https://plant:7340", args[0])
			}
			if name == "" {
				return usage("say who signs in: --account NAME")
			}
			kept, err := readSignedIn()
			if err != nil {
				return err
			}
			if fingerprint, err = a.trust(c.Context(), base, fingerprint); err != nil {
				return err
			}
			a.server = base
			if u, err := url.Parse(base); err == nil && u.Scheme == "http" && !loopback(u.Hostname()) {
				a.warn("the password goes over the network in plain text, for whoever is between to read; https:// does without that")
			}
			service := client.New(base, userName()).With(client.Access{Fingerprint: fingerprint})
			password, err := a.secret("password of " + name)
			if err != nil {
				return err
			}
			host, _ := os.Hostname()
			token := api.NewToken{Name: tokenName(name, host), Days: days}
			made, err := service.SignIn(c.Context(), name, password, code, token)
			var problem *client.ProblemError
			if errors.As(err, &problem) && problem.Type == api.CodeNeeded && code == "" {
				if code, err = a.secret("code of the second factor"); err != nil {
					return err
				}
				made, err = service.SignIn(c.Context(), name, password, code, token)
			}
			if err != nil {
				return err
			}
			kept.Services[base] = &signature{Account: name, Token: made.Secret, Name: made.Name, Fingerprint: fingerprint}
			kept.Current = base
			if err := kept.write(); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "signed in to %s as %s, %s, until %s\n", base, name, made.Role, a.stamp(made.Ends))
			return nil
		}}
	c.Flags().StringVar(&name, "account", "", "who signs in")
	c.Flags().StringVar(&code, "code", "", "code of the second factor (asked for when it is needed)")
	c.Flags().StringVar(&fingerprint, "fingerprint", "", "sha256:… of the service's certificate; asked for when this machine does not trust it")
	c.Flags().IntVar(&days, "days", account.DefaultDays, "days after which it must be signed in again")
	return c
}

// loopback reports whether a host is this machine.
func loopback(host string) bool {
	ip, err := netip.ParseAddr(host)
	return strings.EqualFold(host, "localhost") || err == nil && ip.IsLoopback()
}

// tokenName names the token of somebody on a machine.
func tokenName(name, host string) string {
	clean := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '.' {
			return r
		}
		return '-'
	}, host)
	return name[:min(len(name), 30)] + "@" + clean[:min(len(clean), 25)]
}

// trust finds out which key the certificate of a service must have: none when this machine trusts it, or else the one that was said or agreed to.
func (a *app) trust(ctx context.Context, base, said string) (string, error) {
	shown, trusted, err := client.Certificate(ctx, base)
	switch {
	case err != nil:
		return "", err
	case said != "" && shown == "":
		return "", fmt.Errorf("%s has no certificate; a fingerprint needs https://", base)
	case said != "" && !strings.EqualFold(said, shown):
		return "", &exitError{exitNotAllowed, fmt.Sprintf("the certificate of %s has the key %s and not %s; nothing was sent. Somebody may be between you and it", base, shown, said)}
	case said != "":
		return shown, nil
	case trusted:
		return "", nil
	case !a.terminal():
		return "", &exitError{exitNotAllowed, fmt.Sprintf("the certificate of %s is not known to this machine; nothing was sent. Compare its key with what the log of the service says when it starts, and give it: --fingerprint %s", base, shown)}
	}
	fmt.Fprintf(a.Err, "The certificate of %s is not known to this machine. Its key is\n  %s\nwhich must be what the log of the service says when it starts. Is it? (yes/no) ", base, shown)
	answer, err := a.line("the answer")
	if err != nil || !strings.EqualFold(strings.TrimSpace(answer), "yes") {
		return "", &exitError{exitNotAllowed, "not signed in; nothing was sent"}
	}
	return shown, nil
}

func (a *app) logout() *cobra.Command {
	return &cobra.Command{
		Use: "logout [URL]", Short: "End what login began", Args: arguments(0, 1, "at most one URL"),
		RunE: func(c *cobra.Command, args []string) error {
			kept, err := readSignedIn()
			if err != nil {
				return err
			}
			base := kept.Current
			if len(args) == 1 {
				base = args[0]
			}
			of := kept.at(base)
			if of == nil {
				return &exitError{exitNotFound, strings.TrimSpace(fmt.Sprintf("not signed in: %s", base))}
			}
			fault := client.New(base, userName()).With(client.Access{Token: of.Token, Fingerprint: of.Fingerprint}).RemoveToken(c.Context(), of.Name)
			maps.DeleteFunc(kept.Services, func(u string, _ *signature) bool { return sameService(u, base) })
			if sameService(kept.Current, base) {
				kept.Current = ""
			}
			if err := kept.write(); err != nil {
				return err
			}
			if fault != nil {
				a.warn(fmt.Sprintf("the token %s was forgotten here, and is not ended there: %s", of.Name, fault))
			}
			fmt.Fprintf(a.Err, "signed out of %s\n", base)
			return nil
		}}
}

func (a *app) auditVerb() *cobra.Command {
	var verify, follow bool
	var who, action, export string
	var limit int
	c := &cobra.Command{
		Use:   "audit",
		Short: "Show what was done and refused, and whether the log of it is whole",
		Long: `Show what was done and refused, newest first: sign-ins, changes of accounts and of the site, writes, recordings, exports. Each entry carries a
hash of itself and of the one before, so that one that was altered or removed is found (--verify). Who keeps the hash of the last entry
elsewhere can tell later that nothing before it was changed, by whoever had the database.`,
		Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			query := url.Values{"limit": {strconv.Itoa(limit)}}
			if who != "" {
				query.Set("who", who)
			}
			if action != "" {
				query.Set("action", action)
			}
			switch {
			case verify:
				return a.verifyAudit(c.Context())
			case export != "":
				return a.exportAudit(c.Context(), export, query)
			case follow:
				return a.client().FollowAudit(c.Context(), query, func(e api.AuditEntry) error {
					if a.output == "json" {
						line, err := json.Marshal(e)
						if err == nil {
							_, err = fmt.Fprintf(a.Out, "%s\n", line)
						}
						return err
					}
					_, err := fmt.Fprintf(a.Out, "%d  %s  %s  %s  %s  %s\n", e.ID, a.stamp(e.Time), e.Who, e.Action, e.Subject, e.Detail)
					return err
				})
			}
			page, err := a.client().Audit(c.Context(), query)
			if err != nil {
				return err
			}
			return a.print(page.Items, func(t *table) {
				t.header("ID", a.timeHead("TIME"), "WHO", "ACTION", "SUBJECT", "DETAIL")
				for _, e := range page.Items {
					t.row(strconv.FormatInt(e.ID, 10), a.stamp(e.Time), e.Who, string(e.Action), e.Subject, e.Detail)
				}
			})
		}}
	words := make([]string, len(audit.Actions()))
	for i, action := range audit.Actions() {
		words[i] = string(action)
	}
	c.Flags().BoolVar(&verify, "verify", false, "look whether entries were altered or removed")
	c.Flags().BoolVar(&follow, "follow", false, "show entries as they come")
	c.Flags().StringVar(&export, "export", "", "write all of it to a file as lines of JSON, - for stdout")
	c.Flags().StringVar(&who, "who", "", "only of this account")
	c.Flags().StringVar(&action, "action", "", "only "+strings.Join(words, ", "))
	c.Flags().IntVar(&limit, "limit", 50, "most lines")
	return c
}

func (a *app) verifyAudit(ctx context.Context) error {
	v, err := a.client().VerifyAudit(ctx)
	if err != nil {
		return err
	}
	if err := a.print(v, func(t *table) {
		if v.Whole {
			t.line(fmt.Sprintf("%d entries, %d to %d, all as they were written. Hash of the last: %s", v.Entries, v.First, v.Last, v.Hash))
		}
		for _, f := range v.Faults {
			t.line(f.Why)
		}
	}); err != nil {
		return err
	}
	if !v.Whole {
		return &exitError{exitFailed, "the audit log is not as it was written"}
	}
	return nil
}

// exportAudit writes the log as lines of JSON, from the oldest entry on.
func (a *app) exportAudit(ctx context.Context, name string, query url.Values) error {
	list, err := a.client().AllAudit(ctx, query)
	if err != nil {
		return err
	}
	slices.Reverse(list)
	to := a.Out
	if name != "-" {
		f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		defer f.Close()
		to = f
	}
	out := bufio.NewWriter(to)
	encoder := json.NewEncoder(out)
	for _, e := range list {
		if err := encoder.Encode(e); err != nil {
			return err
		}
	}
	if err := out.Flush(); err != nil {
		return err
	}
	if name != "-" {
		fmt.Fprintf(a.Err, "wrote %d entries to %s\n", len(list), name)
	}
	return nil
}
