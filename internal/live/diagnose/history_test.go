package diagnose

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsWrongWithTheHistory(t *testing.T) {
	for _, c := range []struct {
		name string
		seen History
		want []Code
	}{
		{"nothing", History{}, nil},
		{"a full disk", History{Fault: "the disk is full", Full: true, For: time.Minute}, []Code{HistoryStopped}},
		{"a disk that is slow", History{Lost: 5, LostAgo: time.Second}, []Code{HistoryBehind}},
		{"one that was", History{Lost: 5, LostAgo: time.Hour}, nil},
		{"a month that is gone", History{Files: []HistoryMonth{{"2026-03", "it is gone"}}}, []Code{HistoryFile}},
	} {
		var codes []Code
		for _, f := range Find(Evidence{History: c.seen}) {
			codes = append(codes, f.Code)
			require.NotEmpty(t, f.Next, c.name)
			assert.Equal(t, "history", f.Subject)
			assert.Equal(t, OfService, f.Kind)
		}
		assert.Equal(t, c.want, codes, c.name)
	}
}
