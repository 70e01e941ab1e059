package cli

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// many reports whether several points may be meant.
func many(tags []string, where string) bool {
	return len(tags) > 1 || where != "" || site.IsPattern(tags[0])
}

// whereOf reads conditions: type=float32 station=plc.
func whereOf(text string) (map[string]string, error) {
	where := map[string]string{}
	for _, part := range strings.Fields(text) {
		field, value, ok := strings.Cut(part, "=")
		if !ok || field == "" {
			return nil, usage("--where: %q is not FIELD=VALUE, such as type=float32", part)
		}
		where[strings.ReplaceAll(field, "-", "_")] = value
	}
	return where, nil
}

// setMany lets set take patterns and conditions, too; all points are changed in one modification.
func (a *app) setMany(set *cobra.Command, fields fields, unset *[]string) {
	one := set.RunE
	set.Use, set.Args = "set TAG|PATTERN...", arguments(1, 1000, "tags or patterns")
	where := set.Flags().String("where", "", "only those that have: 'type=float32 station=plc'")
	dry := set.Flags().Bool("dry-run", false, "say what would change, and change nothing")
	set.RunE = func(c *cobra.Command, args []string) error {
		if !many(args, *where) && !*dry {
			return one(c, args)
		}
		values, err := fields.given(c)
		if err != nil {
			return err
		}
		for _, name := range *unset {
			values[strings.ReplaceAll(name, "-", "_")] = nil
		}
		if c.Flags().Lookup("tag").Changed {
			return usage("--tag renames one point; arithmon point rename 'old/*' 'new/*' renames many")
		}
		if len(values) == 0 {
			return usage("nothing to change: give a field, such as --unit. See %s --help", c.CommandPath())
		}
		conditions, err := whereOf(*where)
		if err != nil {
			return err
		}
		sum, err := a.client().ChangePoints(c.Context(), api.Together{Tags: args, Where: conditions, Set: values, DryRun: *dry})
		if err != nil {
			return fields.named(err, "tag")
		}
		return a.printSummary(sum)
	}
}

// removeMany lets remove take patterns and conditions, too.
func (a *app) removeMany(remove *cobra.Command) {
	remove.Use = "remove TAG|PATTERN..."
	where := remove.Flags().String("where", "", "only those that have: 'type=float32 station=plc'")
	dry := remove.Flags().Bool("dry-run", false, "say what would change, and change nothing")
	remove.RunE = func(c *cobra.Command, args []string) error {
		conditions, err := whereOf(*where)
		if err != nil {
			return err
		}
		sum, err := a.client().ChangePoints(c.Context(), api.Together{Tags: args, Where: conditions, Remove: true, DryRun: *dry})
		if err != nil {
			return err
		}
		return a.printSummary(sum)
	}
}

// renamePoints renames the points of a pattern; who refers to them follows, and their history stays theirs.
func (a *app) renamePoints() *cobra.Command {
	var where string
	var dry bool
	c := &cobra.Command{
		Use:     "rename TAG|PATTERN NEW",
		Short:   "Rename points",
		Long:    "Rename points. A wildcard of NEW stands for what that of the pattern stood for. They stay the same points: their history goes on.",
		Example: "  arithmon point rename 'tern/basin/*' 'tern/pool/*' --dry-run",
		Args:    arguments(2, 2, "a tag or pattern, and the new one"),
		RunE: func(c *cobra.Command, args []string) error {
			conditions, err := whereOf(where)
			if err != nil {
				return err
			}
			sum, err := a.client().ChangePoints(c.Context(), api.Together{Tags: args[:1], Where: conditions, Rename: args[1], DryRun: dry})
			if err != nil {
				return err
			}
			return a.printSummary(sum)
		}}
	c.Flags().StringVar(&where, "where", "", "only those that have: 'type=float32 station=plc'")
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would change, and change nothing")
	return c
}

var (
	braces = regexp.MustCompile(`\{([^{}]*)\}`)
	series = regexp.MustCompile(`^(\d+)\.\.(\d+)$`)
	onward = regexp.MustCompile(`\{(0[xX][0-9a-fA-F]+|\d+)\.\.\}`)
)

// mostSeries is how many points a series has at most.
const mostSeries = 10_000

// expand gives the texts of a series: tank{1..8}, {north,south}/level. Numbers have as many digits as the first of them, where that begins with 0.
func expand(text string) (list []string, err error) {
	m := braces.FindStringSubmatchIndex(text)
	if m == nil {
		return []string{text}, nil
	}
	inner := text[m[2]:m[3]]
	values := strings.Split(inner, ",")
	if s := series.FindStringSubmatch(inner); s != nil {
		from, err1 := strconv.Atoi(s[1])
		to, err2 := strconv.Atoi(s[2])
		if err1 != nil || err2 != nil || to < from || to-from >= mostSeries {
			return nil, usage("%q: a series counts up, and has at most %d members", text, mostSeries)
		}
		values = nil
		width := 0
		if strings.HasPrefix(s[1], "0") && len(s[1]) > 1 {
			width = len(s[1])
		}
		for n := from; n <= to; n++ {
			values = append(values, fmt.Sprintf("%0*d", width, n))
		}
	} else if len(values) < 2 {
		return nil, usage("%q: {%s} is no series; write {1..8} or {north,south}", text, inner)
	}
	for _, v := range values {
		more, err := expand(text[:m[0]] + v + text[m[1]:])
		if err != nil {
			return nil, err
		}
		if list = append(list, more...); len(list) > mostSeries {
			return nil, usage("%q has more than %d members", text, mostSeries)
		}
	}
	return list, nil
}

// addSeries lets add make a series of points in one modification: tags that count, addresses that go on by the width of the type.
func (a *app) addSeries(add *cobra.Command, fields fields) {
	one := add.RunE
	step := add.Flags().Int("step", 0, "of a series: how far addresses go on (default the width of the type)")
	dry := add.Flags().Bool("dry-run", false, "say what would be added, and add nothing")
	add.Long = `Add a point, or a series of them: in the tag, {1..8} counts and {north,south} takes one after the other; in the address, {0..} goes on
by the width of the type, or by --step.`
	add.RunE = func(c *cobra.Command, args []string) error {
		if series := strings.ContainsAny(args[0], "{}"); !series && *step != 0 {
			return usage("--step is of a series; %q has no {1..8} in it", args[0])
		} else if !series && !*dry {
			return one(c, args)
		}
		tags, err := expand(args[0])
		if err != nil {
			return err
		}
		values, err := fields.given(c)
		if err != nil {
			return err
		}
		address, _ := values["address"].(string)
		m := onward.FindStringSubmatchIndex(address)
		if m == nil && len(tags) > 1 {
			return usage("--address: a series goes on from a number in braces: 'hr:{0..}'")
		}
		by := *step
		if by == 0 {
			by = widthOf(values)
		}
		var list []map[string]any
		for i, tag := range tags {
			point := map[string]any{}
			for k, v := range values {
				if text, ok := v.(string); ok && k != "address" {
					v = strings.ReplaceAll(text, "{n}", strconv.Itoa(i+1))
				}
				point[k] = v
			}
			point["tag"] = tag
			if m != nil {
				number := address[m[2]:m[3]]
				from, err := strconv.ParseInt(number, 0, 32)
				if err != nil {
					from, err = strconv.ParseInt(number, 10, 32) // 08
				}
				if err != nil {
					return usage("--address: %q is no number that a series goes on from", number)
				}
				next := strconv.FormatInt(from+int64(i*by), 10)
				if strings.HasPrefix(strings.ToLower(number), "0x") {
					next = fmt.Sprintf("0x%X", from+int64(i*by))
				}
				point["address"] = address[:m[0]] + next + address[m[1]:]
			}
			list = append(list, point)
		}
		together := api.Together{DryRun: *dry}
		for _, point := range list {
			together.Add = append(together.Add, point)
		}
		sum, err := a.client().ChangePoints(c.Context(), together)
		if err != nil {
			return fields.named(err, "tag")
		}
		return a.printSummary(sum)
	}
}

// widthOf is how many addresses the next point of a series is away.
func widthOf(values map[string]any) int {
	l := codec.Layout{}
	if t, ok := values["type"].(string); ok {
		l.Type = codec.Type(t)
	}
	if n, ok := values["length"].(int64); ok {
		l.Length = int(n)
	}
	return max(1, l.Words())
}
