package cli

import (
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// groups are the verbs in the order of the job.
var groups = []struct {
	id, title string
	verbs     []string
}{
	{"start", "Start a service:", []string{"serve", "demo", "rig"}},
	{"path", "Prove the path, find devices:", []string{"ports", "probe", "scan"}},
	{"plant", "Describe the plant:", []string{"link", "station", "point", "template", "board", "apply", "export"}},
	{"values", "Look at values, write them:", []string{"read", "watch", "write", "lens", "events", "history", "alarm"}},
	{"causes", "Find out what is wrong:", []string{"status", "findings", "traffic", "explain", "units"}},
	{"people", "Who may do what:", []string{"account", "token", "login", "logout", "audit"}},
	{"record", "What was done, and taking it back:", []string{"changes", "undo", "diff", "restore", "version", "proposal", "note", "writes", "backup", "restore-backup"}},
}

// examples are commands that can be typed as they stand, on the demo; each verb has one at least.
var examples = map[string]string{
	"serve":             "arithmon serve --data plant\narithmon serve --data plant --listen 127.0.0.1:0",
	"demo":              "arithmon demo",
	"rig":               "arithmon rig devices.yaml",
	"rig show":          "arithmon rig show",
	"rig fault":         "arithmon rig fault tern-bus 2 drop\narithmon rig fault sallow-gate 1 delay=700ms",
	"rig clear":         "arithmon rig clear tern-bus 2",
	"rig cut":           "arithmon rig cut tern-bus",
	"rig restore":       "arithmon rig restore tern-bus",
	"account":           "arithmon account list",
	"account list":      "arithmon account list",
	"account add":       "arithmon account add ann --role admin --data plant\narithmon account add bob --role operator --only 'tern/*'",
	"account set":       "arithmon account set bob --role engineer --only ''\narithmon account set ann --password --data plant",
	"account remove":    "arithmon account remove bob",
	"account sessions":  "arithmon account sessions\narithmon account sessions --end 12",
	"token":             "arithmon token list",
	"token list":        "arithmon token list",
	"token add":         "arithmon token add night-report --role viewer --days 30",
	"token remove":      "arithmon token remove night-report",
	"login":             "arithmon login https://plant:7340 --account ann",
	"logout":            "arithmon logout",
	"audit":             "arithmon audit --verify\narithmon audit --action write --limit 20\narithmon audit --export audit.jsonl",
	"changes show":      "arithmon changes show 12",
	"diff":              "arithmon diff commissioning-day-1\narithmon diff 2h now --only 'tern/*'\narithmon diff now site.yaml",
	"version":           "arithmon version",
	"version add":       "arithmon version add commissioning-day-1 --message 'as handed over'",
	"version list":      "arithmon version list",
	"restore":           "arithmon restore commissioning-day-1 --dry-run\narithmon restore 2h --only 'tern/*'",
	"proposal":          "arithmon proposal list",
	"proposal list":     "arithmon proposal list --state all",
	"proposal show":     "arithmon proposal show 3",
	"proposal take":     "arithmon proposal take 3 --dry-run\narithmon proposal take 3 --all mine",
	"proposal drop":     "arithmon proposal drop 3",
	"proposal comment":  "arithmon proposal comment 3 'the range is wrong'",
	"note":              "arithmon note list",
	"note list":         "arithmon note list\narithmon note list station tern-drive1 --all",
	"note add":          "arithmon note add station tern-drive1 'cable swapped, check on Monday'",
	"note done":         "arithmon note done 4",
	"note remove":       "arithmon note remove 4",
	"board":             "arithmon board list",
	"board list":        "arithmon board list",
	"board show":        "arithmon board show sluice -o yaml",
	"board add":         "arithmon board add pumps --displays '[{show: gauge, tag: tern/pump1/current, x: 0, y: 0, w: 5, h: 5}]'",
	"board set":         "arithmon board set sluice --locked true",
	"board remove":      "arithmon board remove spare",
	"board copy":        "arithmon board copy pump1 pump2 --tags tern/pump1=tern/pump2",
	"board make":        "arithmon board make tern-drive1 pump1",
	"alarm":             "arithmon alarms\narithmon alarms --follow --for 10s\narithmon alarm 'tern/*' --state all",
	"alarm list":        "arithmon alarm list --state shelved",
	"alarm history":     "arithmon alarm history 'tern/*' --from 1d",
	"alarm ack":         "arithmon alarm ack tern/basin/level --note 'pump is on its way'\narithmon alarm ack '*'",
	"alarm shelve":      "arithmon alarm shelve tern/basin/level --limit low --for 2h --note 'basin is being cleaned'",
	"alarm unshelve":    "arithmon alarm unshelve tern/basin/level",
	"history":           "arithmon history tern/basin/level --from 2h\narithmon history 'tern/*' --from 1d --every 1h --as mean,min,max",
	"history export":    "arithmon history export levels.xlsx 'tern/basin/*' --from 1d\narithmon history export all.parquet --from 2026-11-01 --to 2026-12-01",
	"history import":    "arithmon history import readings.csv --tag tern/basin/level --dry-run",
	"history state":     "arithmon history state",
	"history remove":    "arithmon history remove 2024-03",
	"restore-backup":    "arithmon restore-backup plant.db --data plant",
	"ports":             "arithmon ports",
	"probe":             "arithmon probe sallow-plc\narithmon probe 192.0.2.7 --unit 1",
	"scan":              "arithmon scan tern-bus --last 20\narithmon scan tern-bus --settings",
	"link":              "arithmon link list",
	"link list":         "arithmon link list",
	"link show":         "arithmon link show sallow-gate",
	"link add":          "arithmon link add gate --host 192.0.2.7\narithmon link add bus --transport serial --serial '{device: /dev/ttyUSB0, baud: 19200}'",
	"link set":          "arithmon link set tern-bus --timeout 500ms\narithmon link set tern-bus --serial '{rts: toggle}'",
	"link remove":       "arithmon link remove spare --cascade",
	"link copy":         "arithmon link copy sallow-gate spare",
	"link enable":       "arithmon link enable spare",
	"link disable":      "arithmon link disable spare",
	"link test":         "arithmon link test sallow-gate",
	"station":           "arithmon station list",
	"station list":      "arithmon station list",
	"station show":      "arithmon station show sallow-plc",
	"station add":       "arithmon station add plc --link gate --unit 1 --notation ref5\narithmon station add drive4 --template drive-one --link tern-bus --unit 4 --values '{tag: tern/pump4}'\narithmon station add rtu --link line --outstation 10 --unsolicited",
	"station set":       "arithmon station set tern-drive1 --poll 500ms\narithmon station set heron-rtu --unsolicited=false",
	"station remove":    "arithmon station remove spare --cascade",
	"station copy":      "arithmon station copy tern-drive1 drive4 --unit 4 --tags tern/pump1=tern/pump4",
	"station enable":    "arithmon station enable drive4",
	"station disable":   "arithmon station disable drive4",
	"station test":      "arithmon station test tern-drive1",
	"station refresh":   "arithmon station refresh tern-drive1",
	"station ask":       "arithmon station ask heron-rtu set-time",
	"station import":    "arithmon station import drives.csv --template drive-one --dry-run\narithmon station import heron-rtu profile.xml --dry-run",
	"point":             "arithmon point list",
	"point list":        "arithmon point list\narithmon point list 'tern/*' --station tern-drive1",
	"point tree":        "arithmon point tree\narithmon point tree tern --depth 1",
	"point show":        "arithmon point show sallow/gate1/position",
	"point add":         "arithmon point add tern/pump4/speed --station drive4 --address 40010 --type uint16 --unit 1/min",
	"point set":         "arithmon point set tern/pump1/current --scaling '{factor: 0.1}' --decimals 1",
	"point remove":      "arithmon point remove tern/pump4/speed",
	"template":          "arithmon template list",
	"template list":     "arithmon template list",
	"template show":     "arithmon template show drive-one",
	"template add":      "arithmon template add meter --parameters '[{name: tag}]' --points '[{tag: \"{tag}/flow\", address: \"hr:0\", type: float32}]'",
	"template set":      "arithmon template set drive-one --station '{order: CDAB, poll: 2s}' --dry-run",
	"template remove":   "arithmon template remove meter",
	"template make":     "arithmon template make drive-one --station tern-drive1 --identifies '*Drive one*'",
	"template stations": "arithmon template stations drive-one",
	"template own":      "arithmon template own tern-drive1",
	"template conform":  "arithmon template conform tern-drive1 --dry-run",
	"template import":   "arithmon template import drives.yaml --dry-run",
	"template export":   "arithmon template export drives.yaml",
	"apply":             "arithmon apply plant.yaml --dry-run\narithmon apply plant.yaml",
	"export":            "arithmon export plant.yaml",
	"read":              "arithmon read 'tern/*'\narithmon read tern/\narithmon read --station sallow-plc hr:0..9\narithmon read 192.0.2.7 --unit 1 hr:0..9 --every 1s",
	"watch":             "arithmon watch 'sallow/*'",
	"write":             "arithmon write sallow/gate1/open-cmd open\narithmon write --station sallow-plc hr:20..22 1 2 3",
	"lens":              "arithmon lens sallow/gate1/torque",
	"events":            "arithmon events 'heron/*' --last 20\narithmon events --follow",
	"status":            "arithmon status\narithmon status --figures",
	"findings":          "arithmon findings\narithmon findings tern-bus",
	"findings apply":    "arithmon findings apply word-order tern-meter",
	"traffic":           "arithmon traffic --station sallow-plc --fields\narithmon traffic --follow --wrong",
	"traffic export":    "arithmon traffic export frames.pcapng",
	"traffic record":    "arithmon traffic record --limit 50",
	"traffic recording": "arithmon traffic recording",
	"traffic stop":      "arithmon traffic stop",
	"explain":           "arithmon explain timeout\narithmon explain word-order",
	"units":             "arithmon units",
	"changes":           "arithmon changes\narithmon changes point sallow/gate1/position",
	"undo":              "arithmon undo 17",
	"writes":            "arithmon writes\narithmon writes sallow/gate1/open-cmd",
	"backup":            "arithmon backup plant-backup.db",
	"completion":        "arithmon completion bash > ~/.local/share/bash-completion/completions/arithmon",
}

// helped gives a command and those below it their group, their example and the template of their help.
func (a *app) helped(root *cobra.Command) {
	for _, g := range groups {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title})
		for _, verb := range g.verbs {
			c, _, err := root.Find([]string{verb})
			if err != nil {
				continue // a test finds it
			}
			c.GroupID = g.id
		}
	}
	columns := columnsOf(a.Out)
	if columns == 0 || columns > widestHelp {
		columns = width
	}
	each(root, func(c *cobra.Command) {
		c.Flags().SortFlags = false
		if text := examples[strings.TrimPrefix(c.CommandPath(), "arithmon ")]; text != "" && c.Example == "" {
			c.Example = "  " + strings.ReplaceAll(text, "\n", "\n  ")
		}
		c.Long = wrapped(c.Long, columns)
	})
	cobra.AddTemplateFunc("flagUsages", func(f *pflag.FlagSet) string { return strings.TrimRight(f.FlagUsagesWrapped(columns), " \n") })
	cobra.AddTemplateFunc("forms", func(c *cobra.Command) string { // one below the other
		return strings.ReplaceAll(c.UseLine(), " | ", "\n  "+strings.TrimSuffix(c.CommandPath(), c.Name()))
	})
	cobra.AddTemplateFunc("inGroup", func(c *cobra.Command, id string) (list []*cobra.Command) {
		for _, g := range groups {
			for _, verb := range g.verbs {
				for _, sub := range c.Commands() {
					if g.id == id && sub.GroupID == id && sub.Name() == verb {
						list = append(list, sub)
					}
				}
			}
		}
		return list
	})
	root.SetUsageTemplate(usageTemplate)
}

// widestHelp is how wide help is at most: longer lines are hard to read.
const widestHelp = 100

func each(c *cobra.Command, f func(*cobra.Command)) {
	f(c)
	for _, sub := range c.Commands() {
		each(sub, f)
	}
}

// listed is a line of a list: what something is called, a gap, and what it is.
var listed = regexp.MustCompile(`^( +\S+ {2,})(\S.*)$`)

// wrapped breaks the lines of a text that are wider than so many columns; what a line of a list says goes on below itself.
func wrapped(text string, columns int) string {
	var out []string
	for line := range strings.SplitSeq(text, "\n") {
		before, rest := "", line
		if m := listed.FindStringSubmatch(line); m != nil {
			before, rest = m[1], m[2]
		}
		indent := utf8.RuneCountInString(before)
		for i, part := range broken(rest, max(leastColumn, columns-indent)) {
			if i > 0 {
				before = strings.Repeat(" ", indent)
			}
			out = append(out, before+part)
		}
	}
	return strings.Join(out, "\n")
}

const usageTemplate = `Usage:{{if .Runnable}}
  {{forms .}}{{end}}{{if .HasAvailableSubCommands}}
  {{.CommandPath}} VERB{{end}}{{if .HasAvailableSubCommands}}{{$cmds := .Commands}}{{if eq (len .Groups) 0}}

Verbs:{{range $cmds}}{{if .IsAvailableCommand}}
  {{rpad .Name .NamePadding}} {{.Short}}{{end}}{{end}}{{else}}{{$root := .}}{{range $group := .Groups}}

{{.Title}}{{range (inGroup $root .ID)}}
  {{rpad .Name .NamePadding}} {{.Short}}{{end}}{{end}}

Besides:{{range $cmds}}{{if (and (eq .GroupID "") .IsAvailableCommand)}}
  {{rpad .Name .NamePadding}} {{.Short}}{{end}}{{end}}{{end}}{{end}}{{if .HasExample}}

Examples:
{{.Example}}{{end}}{{if .HasAvailableLocalFlags}}

Options:
{{flagUsages .LocalFlags}}{{end}}{{if .HasAvailableInheritedFlags}}

Options of every verb:
{{flagUsages .InheritedFlags}}{{end}}{{if .HasAvailableSubCommands}}

See "{{.CommandPath}} VERB --help" for one of them.{{end}}
`
