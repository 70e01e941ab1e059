package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
)

// completeWithin is how long completion waits for the service: who pressed the key waits, too.
const completeWithin = 2 * time.Second

// names gives what may stand in a place, each with what it is behind a tab; nothing when the service does not answer.
type names func(ctx context.Context) []string

// completed gives arguments and flags the names that the service knows.
func (a *app) completed(root *cobra.Command) {
	entities := func(kind site.Kind) names {
		return func(ctx context.Context) (list []string) {
			switch kind {
			case site.KindLink:
				all, _ := a.client().Links(ctx) // without an answer there is nothing to offer
				for _, l := range all {
					list = append(list, l.Name+"\t"+l.Description)
				}
			case site.KindTemplate:
				all, _ := a.client().Templates(ctx)
				for _, t := range all {
					list = append(list, t.Name+"\t"+t.Description)
				}
			case site.KindBoard:
				all, _ := a.client().Boards(ctx)
				for _, b := range all {
					list = append(list, b.Name+"\t"+b.Description)
				}
			case site.KindStation:
				all, _ := a.client().Stations(ctx)
				for _, s := range all {
					list = append(list, s.Name+"\t"+s.Description)
				}
			default:
				all, _ := a.client().Points(ctx, "")
				for _, p := range all {
					list = append(list, p.Tag+"\t"+p.Description)
				}
			}
			return list
		}
	}
	templates, links, stations, tags := entities(site.KindTemplate), entities(site.KindLink), entities(site.KindStation), entities(site.KindPoint)
	any := func(ctx context.Context) []string {
		return append(append(links(ctx), stations(ctx)...), tags(ctx)...)
	}
	words := func(context.Context) (list []string) {
		all := api.NewExplanations()
		for _, r := range all.Reasons {
			list = append(list, string(r.Reason)+"\t"+r.Text)
		}
		for _, f := range all.Findings {
			list = append(list, string(f.Code)+"\t"+f.Text)
		}
		return list
	}
	changes := func(ctx context.Context) (list []string) {
		all, _ := a.client().Changes(ctx, "", "", 30)
		for _, r := range all {
			list = append(list, fmt.Sprintf("%d\t%s %s %s", r.ID, r.Action, r.Kind, r.Name))
		}
		return list
	}
	of := map[string]names{
		"probe": stations, "scan": links, "read": tags, "watch": tags, "write": tags, "lens": tags, "events": tags, "findings": any, "explain": words,
		"undo": changes, "writes": tags, "template own": stations, "template conform": stations,
	}
	for kind, list := range map[site.Kind]names{site.KindTemplate: templates, site.KindLink: links, site.KindStation: stations, site.KindPoint: tags, site.KindBoard: entities(site.KindBoard)} {
		for _, verb := range []string{"list", "show", "set", "remove", "copy", "enable", "disable", "test", "refresh", "ask", "import", "stations"} {
			of[string(kind)+" "+verb] = list
		}
	}
	each(root, func(c *cobra.Command) {
		if list := of[strings.TrimPrefix(c.CommandPath(), "arithmon ")]; list != nil {
			c.ValidArgsFunction = offer(list)
		}
		for flag, list := range map[string]names{"station": stations, "link": links, "template": templates} {
			if c.Flags().Lookup(flag) != nil {
				_ = c.RegisterFlagCompletionFunc(flag, offer(list)) // one that a verb shares with another has it already
			}
		}
	})
	choose(root, "output", "text", "json", "yaml", "csv")
}

// offer makes completion of names that begin with what was typed.
func offer(list names) cobra.CompletionFunc {
	return func(c *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
		ctx, cancel := context.WithTimeout(c.Context(), completeWithin)
		defer cancel()
		var fitting []string
		for _, name := range list(ctx) {
			if strings.HasPrefix(name, typed) {
				fitting = append(fitting, strings.TrimSuffix(name, "\t"))
			}
		}
		return fitting, cobra.ShellCompDirectiveNoFileComp
	}
}
