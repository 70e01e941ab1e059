package cli

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"arithmon/internal/app/api"

	"github.com/spf13/cobra"
)

// folder reports whether an argument names what is below a part of tags, as tern/ does, and gives the pattern of that.
func folder(arg string) (pattern string, is bool) {
	if below, is := strings.CutSuffix(arg, "/"); is && below != "" {
		return below + "/*", true
	}
	return arg, false
}

// patterns are arguments with folders as patterns; tree says whether there are any.
func patterns(args []string) (list []string, tree bool) {
	for _, arg := range args {
		p, is := folder(arg)
		list, tree = append(list, p), tree || is
	}
	return list, tree
}

// tellTree lays readings out as the tree that their tags are.
func tellTree(t *table, list []api.Reading, now time.Time) {
	t.header(readingHead...)
	var open []string // the folders that the row before is in
	for _, r := range list {
		parts := strings.Split(r.Tag, "/")
		folders, name := parts[:len(parts)-1], parts[len(parts)-1]
		same := 0
		for same < min(len(open), len(folders)) && open[same] == folders[same] {
			same++
		}
		for i := same; i < len(folders); i++ {
			row := make([]string, len(readingHead))
			row[0] = strings.Repeat("  ", i) + folders[i] + "/"
			t.row(row...)
		}
		open = slices.Clone(folders)
		row := cells(r, now)
		row[0] = strings.Repeat("  ", len(folders)) + name
		t.row(row...)
	}
}

// pointTree counts qualities by the branches of tags.
func (a *app) pointTree() *cobra.Command {
	var depth int
	c := &cobra.Command{Use: "tree [BRANCH]", Short: "Count good, uncertain and bad by branches of tags", Args: arguments(0, 1, "a branch, such as tern/pump1"),
		RunE: func(c *cobra.Command, args []string) error {
			if depth < 0 {
				return usage("--depth %d: 0 for all levels, or how many", depth)
			}
			under := strings.Trim(strings.Join(args, ""), "/")
			list, err := a.client().Branches(c.Context(), under, depth)
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("BRANCH", "POINTS", "GOOD", "UNCERTAIN", "BAD")
				for _, b := range list {
					if a.output == "csv" {
						t.row(b.Path, strconv.Itoa(b.Points), strconv.Itoa(b.Good), strconv.Itoa(b.Uncertain), strconv.Itoa(b.Bad))
						continue
					}
					t.row(branchName(under, b.Path), strconv.Itoa(b.Points), strconv.Itoa(b.Good), some(b.Uncertain), some(b.Bad))
				}
			})
		}}
	c.Flags().IntVar(&depth, "depth", 0, "levels below the branch; 0 for all")
	return c
}

// branchName is a branch as it stands in the tree of another.
func branchName(under, path string) string {
	if path == under {
		if path == "" {
			return "all points"
		}
		return path + "/"
	}
	level := strings.Count(strings.TrimPrefix(path, under), "/")
	if under == "" {
		level++
	}
	return strings.Repeat("  ", level) + path[strings.LastIndexByte(path, '/')+1:] + "/"
}

// some is a number that is to be seen where there is one.
func some(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}
