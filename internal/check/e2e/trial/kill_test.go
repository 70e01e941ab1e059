package trial

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/app/api"
	"arithmon/internal/app/client"
	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sitefile"
	"arithmon/internal/live/control"
)

// rounds is how often the service is killed.
func rounds() int {
	if n, err := strconv.Atoi(os.Getenv("TRIAL_ROUNDS")); err == nil {
		return n
	}
	return 3
}

// span is a number that was asked for, and the last one that was acknowledged: what is kept lies between them.
type span struct{ asked, kept int }

// batched is how many points are applied together.
const batched = 50

// ledger is what was asked of the service, and what it acknowledged.
type ledger struct {
	mu      sync.Mutex // guards what follows
	edits   [2]span
	apply   span
	made    map[string]bool // points that were made (true) or removed (false), and it was acknowledged
	sent    uint16
	written map[int64]control.Outcome
	events  map[int64]int // how often each was kept
	last    uint64        // of the events' ids
	counts  killed
}

// killed is what came of the trial.
type killed struct {
	edits, applies, writes, events, again int // acknowledged; events that were kept twice
	lost, halves, untrue, invented, gaps  int
}

// TestTrialKill: killed at random under edits, files, commands and events, the service loses nothing that it acknowledged, and does nothing
// by halves.
func TestTrialKill(t *testing.T) {
	t.Parallel()
	program := filepath.Join(t.TempDir(), "arithmon")
	out, err := exec.Command("go", "build", "-o", program, "arithmon/cmd/arithmon").CombinedOutput()
	require.NoError(t, err, string(out))

	random := rand.New(rand.NewPCG(seed(), 13))
	far := &rtu{random: rand.New(rand.NewPCG(seed(), 14)), given: map[int]bool{}, executed: map[int32]int{}}
	dev := &device{framing: "mbap", random: rand.New(rand.NewPCG(seed(), 15)), holes: map[int]bool{}, limit: 125, held: map[int]uint16{}, executed: map[uint16]int{}, refused: map[uint16]bool{}}
	file := far.site(t, plant(t, dev.listen(t, "tcp")))
	var busy sync.WaitGroup
	defer busy.Wait()
	over, end := context.WithCancel(t.Context())
	defer end()
	busy.Go(func() {
		for over.Err() == nil {
			far.change()
			time.Sleep(2 * time.Millisecond)
		}
	})

	dir := filepath.Join(t.TempDir(), "data")
	l := &ledger{made: map[string]bool{}, written: map[int64]control.Outcome{}, events: map[int64]int{}}
	for round := range rounds() + 1 {
		service, c := begin(t, program, dir)
		if round == 0 {
			_, err := c.Apply(t.Context(), "site.yaml", file, false, false)
			require.NoError(t, err)
		} else {
			l.compare(t, c, far, dev)
		}
		if round == rounds() {
			aside, err := c.Quarantined(t.Context())
			require.NoError(t, err)
			assert.Empty(t, aside)
			require.NoError(t, service.Process.Signal(os.Interrupt))
			require.NoError(t, service.Wait())
			break
		}
		var clients sync.WaitGroup
		ctx, gone := context.WithCancel(t.Context())
		for i := range l.edits {
			clients.Go(func() { l.edit(ctx, c, i, round) })
		}
		clients.Go(func() { l.applying(ctx, c) })
		clients.Go(func() { l.command(ctx, c) })
		time.Sleep(time.Duration(20+random.IntN(700)) * time.Millisecond)
		require.NoError(t, service.Process.Kill())
		_ = service.Wait()
		gone()
		clients.Wait()
	}
	t.Logf("%d rounds: %+v", rounds(), l.counts)
	assert.Positive(t, l.counts.edits)
	assert.Positive(t, l.counts.applies)
	assert.Positive(t, l.counts.writes)
	assert.Positive(t, l.counts.events)
	assert.Zero(t, l.counts.lost, "what was acknowledged and is not there")
	assert.Zero(t, l.counts.halves, "what was carried out in part")
	assert.Zero(t, l.counts.untrue, "records of writes that contradict the device or what was answered")
	assert.Zero(t, l.counts.invented, "events that the device never had")
	assert.Zero(t, l.counts.gaps, "ids of events that are missing")
}

// site adds the outstation and its points to a site, and returns the file of it.
func (o *rtu) site(t *testing.T, s *site.Site) []byte {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	accept(t, listener, o.serve)
	draft := s.Edit()
	l := site.NewLink()
	l.Name, l.Protocol, l.Host, l.Port = "line", site.DNP3, "127.0.0.1", listener.Addr().(*net.TCPAddr).Port
	draft.Add(l)
	st, address := site.NewStation(), 10
	st.Name, st.Link, st.Outstation, st.EventPoll = "rtu", "line", &address, site.Duration(100*time.Millisecond)
	draft.Add(st)
	for i := range inputs {
		draft.Add(site.Point{Tag: fmt.Sprintf("ai%d", i), Station: "rtu", Address: site.Address{Space: site.AnalogInputs, Offset: uint16(i)}, Type: codec.TypeInt32})
	}
	changes, err := draft.Changes()
	require.NoError(t, err)
	s = s.With(changes)
	var file strings.Builder
	require.NoError(t, sitefile.Write(&file, s, sitefile.Options{}))
	return []byte(file.String())
}

// begin starts the service as its user does.
func begin(t *testing.T, program, dir string) (*exec.Cmd, *client.Client) {
	service := exec.Command(program, "serve", "--data", dir, "--listen", "127.0.0.1:0")
	out, err := service.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, service.Start())
	t.Cleanup(func() { service.Process.Kill() })
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return service, client.New(strings.TrimSpace(line), "trial")
}

// edit makes, changes and removes points until the service is gone.
func (l *ledger) edit(ctx context.Context, c *client.Client, who, round int) {
	steady := fmt.Sprintf("edit/%d", who)
	point := func(tag string, n int) map[string]any {
		return map[string]any{"tag": tag, "station": "dev", "address": "hr:1", "type": "uint16", "description": fmt.Sprint(n)}
	}
	for k := 0; ; k++ {
		l.mu.Lock()
		l.edits[who].asked++
		n := l.edits[who].asked
		l.mu.Unlock()
		_, err := c.Set(ctx, site.KindPoint, steady, point(steady, n))
		if err != nil && strings.Contains(err.Error(), "there is no point") {
			_, err = c.Add(ctx, site.KindPoint, point(steady, n))
		}
		if err != nil {
			return
		}
		l.mu.Lock()
		l.edits[who].kept = n
		l.counts.edits++
		l.mu.Unlock()
		tag := fmt.Sprintf("made/%d/%d/%d", who, round, k)
		if _, err := c.Add(ctx, site.KindPoint, point(tag, n)); err != nil {
			return
		}
		l.note(tag, true)
		if k%3 == 0 {
			l.doubt(tag)
			if _, err := c.Remove(ctx, site.KindPoint, tag, false); err != nil {
				return
			}
			l.note(tag, false)
		}
	}
}

// note notes that a point was made, or removed.
func (l *ledger) note(tag string, there bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.made[tag] = there
	l.counts.edits++
}

// doubt notes that a point may be there or not, since its removal is asked for.
func (l *ledger) doubt(tag string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.made, tag)
}

// applying applies files, all of whose points say the same number.
func (l *ledger) applying(ctx context.Context, c *client.Client) {
	for {
		l.mu.Lock()
		l.apply.asked++
		n := l.apply.asked
		l.mu.Unlock()
		var file strings.Builder
		file.WriteString("arithmon: 1\npoints:\n")
		for i := range batched {
			fmt.Fprintf(&file, "  - {tag: batch/%d, station: dev, address: hr:2, type: uint16, description: \"%d\"}\n", i, n)
		}
		if _, err := c.Apply(ctx, "batch.yaml", []byte(file.String()), false, false); err != nil {
			return
		}
		l.mu.Lock()
		l.apply.kept = n
		l.counts.applies++
		l.mu.Unlock()
	}
}

// command writes to the device, each value once.
func (l *ledger) command(ctx context.Context, c *client.Client) {
	for {
		l.mu.Lock()
		l.sent++
		v := int64(l.sent)
		l.mu.Unlock()
		w, err := c.Write(ctx, api.WriteRequest{Tag: fmt.Sprintf("w%d", firstWritable+int(v)%writables), Value: codec.IntValue(v)})
		if err != nil {
			return
		}
		l.mu.Lock()
		l.written[v] = w.Outcome
		l.counts.writes++
		l.mu.Unlock()
	}
}

// compare compares what the service has after a kill with what it acknowledged and what the devices know.
func (l *ledger) compare(t *testing.T, c *client.Client, far *rtu, dev *device) {
	points, err := c.Points(t.Context(), "dev")
	require.NoError(t, err)
	says := map[string]int{}
	for _, p := range points {
		says[p.Tag], _ = strconv.Atoi(p.Description)
	}
	within := func(what string, n int, s span) int {
		if n < s.kept || n > s.asked {
			l.counts.lost++
			t.Errorf("%s says %d; %d was acknowledged and %d asked for", what, n, s.kept, s.asked)
		}
		return n
	}
	for i := range l.edits {
		tag := fmt.Sprintf("edit/%d", i)
		l.edits[i].kept = within(tag, says[tag], l.edits[i])
	}
	for i := range batched {
		if n := says[fmt.Sprintf("batch/%d", i)]; n != says["batch/0"] {
			l.counts.halves++
			t.Errorf("batch/%d says %d and batch/0 %d", i, n, says["batch/0"])
		}
	}
	l.apply.kept = within("the file", says["batch/0"], l.apply)
	for tag, there := range l.made {
		if _, found := says[tag]; found != there {
			l.counts.lost++
			t.Errorf("%s: found %v, acknowledged %v", tag, found, there)
		}
	}
	l.compareWrites(t, c, dev)
	l.compareEvents(t, c, far)
}

func (l *ledger) compareWrites(t *testing.T, c *client.Client, dev *device) {
	list, err := c.Writes(t.Context(), "", 1000)
	require.NoError(t, err)
	dev.mu.Lock()
	defer dev.mu.Unlock()
	recorded := map[int64]control.Outcome{}
	for _, w := range list {
		v, _ := w.Sent.Int()
		outcome := control.Outcome(w.Outcome)
		recorded[v] = outcome
		times := dev.executed[uint16(v)]
		if times > 1 || outcome == control.Done && times == 0 || outcome == control.Refused && times > 0 {
			l.counts.untrue++
			t.Errorf("write of %d is recorded as %s; the device has done it %d times", v, outcome, times)
		}
	}
	least := int64(l.sent) - int64(len(list)) + 5 // of those that the list reaches
	for v, said := range l.written {
		if v > least && recorded[v] != said {
			l.counts.untrue++
			t.Errorf("write of %d was answered with %s and is recorded as %q", v, said, recorded[v])
		}
	}
	for v := range dev.executed {
		if _, there := recorded[int64(v)]; int64(v) > least && !there {
			l.counts.lost++
			t.Errorf("the device was given %d, and there is no record of it", v)
		}
	}
}

func (l *ledger) compareEvents(t *testing.T, c *client.Client, far *rtu) {
	far.mu.Lock()
	confirmed := append([]int{}, far.reported[:len(far.reported)-len(far.buffer)]...)
	far.mu.Unlock()
	for {
		page, err := c.Events(t.Context(), url.Values{"after": {fmt.Sprint(l.last)}, "limit": {"10000"}})
		require.NoError(t, err)
		for _, e := range page.Items {
			if e.ID != l.last+1 {
				l.counts.gaps++
				t.Errorf("event %d comes after %d", e.ID, l.last)
			}
			l.last = e.ID
			v, _ := e.Value.Int()
			if l.events[v]++; l.events[v] > 1 {
				l.counts.again++
			}
			l.counts.events++
			far.mu.Lock()
			if !far.given[int(v)] {
				l.counts.invented++
				t.Errorf("the device never had %d", v)
			}
			far.mu.Unlock()
		}
		if len(page.Items) < 10000 {
			break
		}
	}
	for _, v := range confirmed {
		if l.events[int64(v)] == 0 {
			l.counts.lost++
			t.Errorf("event %d was confirmed and is not kept", v)
		}
	}
}
