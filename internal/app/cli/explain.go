package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"arithmon/internal/app/api"
	"arithmon/internal/core/nearest"
)

func (a *app) explain() *cobra.Command {
	return &cobra.Command{
		Use:   "explain [WORD]...",
		Short: "Say what a reason or the code of a finding means",
		Long: `Say what the reasons of readings (timeout, stale, exception-2) and the codes of findings (unit-silent, word-order) mean.
Without a word, all of them. It needs no service.`,
		Args: arguments(0, -1, "reasons or codes"),
		RunE: func(_ *cobra.Command, words []string) error {
			all := api.NewExplanations()
			var known []string
			for _, r := range all.Reasons {
				known = append(known, string(r.Reason))
			}
			for _, f := range all.Findings {
				known = append(known, string(f.Code))
			}
			for _, word := range words {
				if !slices.Contains(known, word) {
					return &exitError{exitNotFound, fmt.Sprintf("%q is neither a reason nor the code of a finding%s", word, nearest.Hint(word, known))}
				}
			}
			wanted := func(word string) bool { return len(words) == 0 || slices.Contains(words, word) }
			all.Reasons = slices.DeleteFunc(all.Reasons, func(r api.ReasonMeaning) bool { return !wanted(string(r.Reason)) })
			all.Findings = slices.DeleteFunc(all.Findings, func(f api.FindingMeaning) bool { return !wanted(string(f.Code)) })
			return a.print(all, func(t *table) {
				if a.output == "csv" {
					t.header("WORD", "OF", "MEANING", "TRY")
					for _, r := range all.Reasons {
						t.row(string(r.Reason), r.Quality.String(), r.Text, r.Try)
					}
					for _, f := range all.Findings {
						t.row(string(f.Code), string(f.Kind), f.Text, "")
					}
					return
				}
				for _, r := range all.Reasons {
					t.line(fmt.Sprintf("%s (%s): %s", r.Reason, r.Quality, r.Text))
					if r.Try != "" {
						t.line("    " + r.Try)
					}
				}
				for _, f := range all.Findings {
					t.line(fmt.Sprintf("%s (finding of a %s): %s", f.Code, f.Kind, f.Text))
				}
			})
		}}
}
