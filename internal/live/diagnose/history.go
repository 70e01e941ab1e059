package diagnose

import (
	"fmt"
	"time"
)

// History is the evidence about the recording of readings.
type History struct {
	Fault   string // why nothing can be written; empty where it can
	Full    bool   // the disk is
	For     time.Duration
	Waiting int   // bytes that are kept in memory meanwhile
	Lost    int64 // samples since the start
	LostAgo time.Duration
	Files   []HistoryMonth // those of which something cannot be read
}

// HistoryMonth is the file of a month with what is wrong with it.
type HistoryMonth struct{ Month, Fault string }

// recentLoss is how long samples that were lost are a finding.
const recentLoss = 15 * time.Minute

// history finds what is wrong with the recording of readings.
func (f *finder) history(h History) {
	lost := fmt.Sprintf("%d samples were lost since the service started", h.Lost)
	switch {
	case h.Fault != "":
		next := []Step{say("look at the disk and at the mode of the data directory; recording goes on by itself once it can be written")}
		if h.Full {
			next = []Step{say("free some space; recording goes on by itself"), say("let the history take less: arithmon serve --most-history, or remove a month: arithmon history remove MONTH")}
		}
		f.add(OfService, "history", HistoryStopped, 0.99, because("history-stopped"),
			[]string{h.Fault, fmt.Sprintf("for %s; %d KiB wait in memory", h.For.Round(time.Second), h.Waiting>>10), lost}, next...)
	case h.Lost > 0 && h.LostAgo < recentLoss:
		f.add(OfService, "history", HistoryBehind, 0.99, because("history-behind"), []string{lost, fmt.Sprintf("the last %s ago", h.LostAgo.Round(time.Second))},
			say("record less: give points a deadband, or a period (record: {every: 1m})"), say("put the data directory on a faster disk"))
	}
	if len(h.Files) == 0 {
		return
	}
	var evidence []string
	for _, m := range h.Files {
		evidence = append(evidence, m.Month+": "+m.Fault)
	}
	f.add(OfService, "history", HistoryFile, 0.99, because("history-file", "count", len(h.Files)), evidence,
		say("put the file back from a copy and start the service again"), say("a month that is meant to be gone is taken off the list: arithmon history remove MONTH"))
}
