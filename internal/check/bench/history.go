package main

import (
	"context"
	"database/sql"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/reading"
	"arithmon/internal/core/site"
	"arithmon/internal/live/recorder"
	"arithmon/internal/record/history"
	"arithmon/internal/record/history/chunk"
)

// recorded measures the history.
func recorded() error {
	for _, f := range []func() error{recordedSizes, recordedRate, recordedPlot, recordedPolls} {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

// signals are values as plants have them.
func signals() map[string]func() float64 {
	random := rand.New(rand.NewPCG(1, 2))
	level := 1.5
	return map[string]func() float64{
		"steady":   func() float64 { return 12.3 },
		"drifting": func() float64 { level += (random.Float64() - 0.5) * 0.02; return math.Round(level*100) / 100 },
		"noisy":    func() float64 { return float64(float32(50 + random.NormFloat64())) },
	}
}

// sample is a good one.
func sample(at int64, v float64) chunk.Sample {
	return chunk.Sample{Time: at, Source: chunk.NoTime, Value: codec.FloatValue(v), Quality: reading.Good}
}

// temporary is a directory for one measurement.
func temporary() (dir string, remove func(), err error) {
	dir, err = os.MkdirTemp("", "arithmon-bench-")
	return dir, func() { os.RemoveAll(dir) }, err
}

// recordedSizes states bytes a sample on the disk.
func recordedSizes() error {
	const points, samples = 100, 20_000
	fmt.Printf("%d samples of %d points at 10 s, polled with 3 ms of jitter, bytes a sample on the disk:\n", points*samples, points)
	for _, name := range []string{"steady", "drifting", "noisy"} {
		dir, remove, err := temporary()
		if err != nil {
			return err
		}
		defer remove()
		h := history.Open(context.Background(), history.Options{Dir: dir, Late: -1})
		value, jitter := signals()[name], rand.New(rand.NewPCG(3, 4))
		at := time.Now().UnixMilli()
		for i := range samples {
			for p := range points {
				h.Add(fmt.Sprint("p/", p), chunk.Line{}, sample(at+int64(i)*10_000+int64(jitter.NormFloat64()*3), value()))
			}
			if i%300 == 299 {
				if err := h.Flush(context.Background()); err != nil {
					return err
				}
			}
		}
		if err := h.Close(); err != nil {
			return err
		}
		size := folder(filepath.Join(dir, history.Folder))
		each := float64(size) / (points * samples)
		fmt.Printf("  %-9s %.2f, so that a year of 10,000 points at 10 s takes %.0f GB\n", name, each, each*10_000*365*8640/1e9)
	}
	return nil
}

func folder(dir string) (size int64) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if i, err := e.Info(); err == nil {
			size += i.Size()
		}
	}
	return size
}

// recordedRate compares recording with inserting the same samples as plain rows, in the same transactions, with the same driver.
func recordedRate() error {
	const points, rounds = 2000, 1000
	samples := make([][]chunk.Sample, rounds)
	drift, jitter := signals()["drifting"], rand.New(rand.NewPCG(3, 4))
	start := time.Now().UnixMilli()
	for i := range samples {
		for range points {
			samples[i] = append(samples[i], sample(start+int64(i)*1000+int64(jitter.NormFloat64()*3), drift()))
		}
	}
	tags := make([]string, points)
	for i := range tags {
		tags[i] = fmt.Sprint("plant/", i)
	}
	ctx := context.Background()
	rows := func() (took time.Duration, size int64, err error) {
		dir, remove, err := temporary()
		if err != nil {
			return 0, 0, err
		}
		defer remove()
		path := filepath.Join(dir, "rows.db")
		db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
		if err != nil {
			return 0, 0, err
		}
		db.SetMaxOpenConns(1)
		if _, err := db.Exec("CREATE TABLE sample (point INTEGER, time INTEGER, value REAL, quality INTEGER, PRIMARY KEY (point, time)) WITHOUT ROWID"); err != nil {
			return 0, 0, err
		}
		began := time.Now()
		for _, round := range samples {
			tx, err := db.Begin()
			if err != nil {
				return 0, 0, err
			}
			insert, err := tx.Prepare("INSERT OR REPLACE INTO sample VALUES (?, ?, ?, ?)")
			if err != nil {
				return 0, 0, err
			}
			for p, x := range round {
				f, _ := x.Value.Float()
				if _, err := insert.Exec(p, x.Time, f, 2); err != nil {
					return 0, 0, err
				}
			}
			if err := tx.Commit(); err != nil {
				return 0, 0, err
			}
		}
		took = time.Since(began)
		err = db.Close()
		return took, folder(dir), err
	}
	chunks := func() (took time.Duration, size int64, err error) {
		dir, remove, err := temporary()
		if err != nil {
			return 0, 0, err
		}
		defer remove()
		h := history.Open(ctx, history.Options{Dir: dir, Late: -1})
		began := time.Now()
		for _, round := range samples {
			for p, x := range round {
				h.Add(tags[p], chunk.Line{}, x)
			}
			if err := h.Flush(ctx); err != nil {
				return 0, 0, err
			}
		}
		if err := h.Close(); err != nil {
			return 0, 0, err
		}
		took = time.Since(began)
		return took, folder(filepath.Join(dir, history.Folder)), nil
	}
	plain, plainSize, err := rows()
	if err != nil {
		return err
	}
	ours, size, err := chunks()
	if err != nil {
		return err
	}
	fmt.Printf("recording %d points, %d flushes: %.1f times the samples a second of plain rows (wanted 0.8), at %.3f of their bytes (wanted 0.25)\n",
		points, rounds, plain.Seconds()/ours.Seconds(), float64(size)/float64(plainSize))
	return nil
}

// recordedPlot draws ten million samples of one point, and scans as many rows.
func recordedPlot() error {
	const samples = 10_000_000
	dir, remove, err := temporary()
	if err != nil {
		return err
	}
	defer remove()
	ctx := context.Background()
	h := history.Open(ctx, history.Options{Dir: dir, Late: -1})
	defer h.Close()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "rows.db")+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)")
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("CREATE TABLE sample (time INTEGER PRIMARY KEY, value REAL)"); err != nil {
		return err
	}
	drift, jitter := signals()["drifting"], rand.New(rand.NewPCG(3, 4))
	start := time.Now().UnixMilli()
	for i := 0; i < samples; {
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		insert, err := tx.Prepare("INSERT INTO sample VALUES (?, ?)")
		if err != nil {
			return err
		}
		for range samples / 20 {
			x := sample(start+int64(i)*250+int64(jitter.NormFloat64()*3), drift())
			f, _ := x.Value.Float()
			if _, err := insert.Exec(x.Time, f); err != nil {
				return err
			}
			h.Add("p", chunk.Line{}, x)
			i++
		}
		if err := tx.Commit(); err != nil {
			return err
		}
		if err := h.Flush(ctx); err != nil {
			return err
		}
	}
	const columns = 2000
	span := history.Span{From: start, To: start + samples*250}
	each := (span.To - span.From + columns - 1) / columns
	best := time.Hour
	for range 5 {
		began := time.Now()
		if list, err := h.Buckets(ctx, 1, span, each); err != nil || len(list) != columns {
			return fmt.Errorf("%d columns: %w", len(list), err)
		}
		best = min(best, time.Since(began))
	}
	began := time.Now()
	rows, err := db.Query("SELECT (time - ?1) / ?2, min(value), max(value) FROM sample GROUP BY 1", start, each)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
	}
	scan := time.Since(began)
	fmt.Printf("%d samples of one point in %d columns: %s (wanted under 100ms), %.0f times quicker than scanning its rows (wanted 20)\n", samples, columns, best.Round(time.Millisecond), scan.Seconds()/best.Seconds())
	return rows.Err()
}

// recordedPolls polls many stations, without and with all of it recorded.
func recordedPolls() error {
	const stations, points, span = 2000, 50, 30 * time.Second
	port, stop, err := elsewhere()
	if err != nil {
		return err
	}
	defer stop()
	s, err := build(func(int) site.Link {
		l := site.NewLink()
		l.Host, l.Port = "127.0.0.1", port
		return l
	}, stations, 1, points, time.Second)
	if err != nil {
		return err
	}
	dir, remove, err := temporary()
	if err != nil {
		return err
	}
	defer remove()
	h := history.Open(context.Background(), history.Options{Dir: dir})
	e := running(s)
	measure := func(what string) (cores float64) {
		time.Sleep(6 * time.Second)
		used := cpu()
		done, late, _ := polled(e)
		time.Sleep(span)
		cores = (cpu() - used).Seconds() / span.Seconds()
		doneThen, lateThen, _ := polled(e)
		fmt.Printf("  %s: %.2f %% of the polls within 50 ms of their time (wanted 99.5), %.1f %% of one core\n", what, 100*(1-float64(lateThen-late)/float64(doneThen-done)), 100*cores)
		return cores
	}
	fmt.Printf("%d stations of %d points at 1 s, for %s each:\n", stations, points, span)
	without := measure("not recorded")
	all := site.New().Build()
	for _, kind := range site.Kinds() {
		for _, name := range s.Names(kind) {
			entity, _ := s.Get(kind, name)
			if st, is := entity.(site.Station); is {
				st.Record = &site.Sampling{On: true}
				entity = st
			}
			all.Put(entity, 1)
		}
	}
	r := recorder.Start(e.Tap, h, all.Site())
	before := h.Figures().Samples
	with := measure("all recorded")
	f := h.Figures()
	fmt.Printf("  %d samples taken, %d lost; %.2f cores more (wanted under 1)\n", f.Samples-before, f.Lost, with-without)
	e.Stop()
	r.Stop()
	return h.Close()
}
