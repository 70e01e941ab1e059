package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
)

// ofBoards are the verbs of boards that others do not have.
func (a *app) ofBoards() []*cobra.Command {
	return []*cobra.Command{a.listBoards(), a.copyBoard(), a.makeBoard()}
}

func (a *app) listBoards() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List all boards", Args: arguments(0, 0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Boards(c.Context())
			if err != nil {
				return err
			}
			return a.print(list, func(t *table) {
				t.header("NAME", "DISPLAYS", "POINTS", "", "DESCRIPTION")
				for _, b := range list {
					locked := ""
					if b.Locked {
						locked = "locked"
					}
					t.row(b.Name, fmt.Sprint(len(b.Displays)), fmt.Sprint(len(b.Points())), locked, b.Description)
				}
			})
		}}
}

func (a *app) copyBoard() *cobra.Command {
	var tags string
	c := &cobra.Command{Use: "copy NAME NEW", Short: "Duplicate one, for another branch of tags if wanted",
		Long: "Duplicate a board. With --tags tern/pump1=tern/pump2 the board of pump 1 becomes one of pump 2.",
		Args: arguments(2, 2, "a name and that of the copy"),
		RunE: func(c *cobra.Command, args []string) error {
			how := api.BoardCopy{Name: args[1]}
			if tags != "" {
				from, to, found := strings.Cut(tags, "=")
				if !found || from == "" {
					return usage("--tags %q: write FROM=TO, such as tern/pump1=tern/pump2", tags)
				}
				how.Tags = &site.TagChange{From: from, To: to}
			}
			b, err := a.client().CopyBoard(c.Context(), args[0], how)
			if err != nil {
				return err
			}
			return a.toldBoard(b)
		}}
	c.Flags().StringVar(&tags, "tags", "", "FROM=TO: with TO in place of FROM where a tag begins with it")
	return c
}

func (a *app) makeBoard() *cobra.Command {
	return &cobra.Command{Use: "make STATION [NAME]", Short: "Make one of a station: a display for each of its points",
		Args: arguments(1, 2, "a station, and a name if it is to have another"),
		RunE: func(c *cobra.Command, args []string) error {
			name := ""
			if len(args) > 1 {
				name = args[1]
			}
			b, err := a.client().MakeBoard(c.Context(), args[0], name)
			if err != nil {
				return err
			}
			return a.toldBoard(b)
		}}
}

// toldBoard says that a board was made.
func (a *app) toldBoard(b site.Board) error {
	return a.print(b, func(t *table) {
		t.line(fmt.Sprintf("board %s has %d displays: %s/boards?board=%s", b.Name, len(b.Displays), strings.TrimSuffix(a.server, "/"), b.Name))
	})
}
