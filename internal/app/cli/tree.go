package cli

import (
	"slices"
	"strings"
	"time"

	"arithmon/internal/app/api"
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
