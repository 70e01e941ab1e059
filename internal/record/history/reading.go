package history

import (
	"database/sql"
	"sync"
	"time"
)

// readings are the files that are open to be read. One stays open for a while after its last reader has gone, since the next one mostly comes soon.
type readings struct {
	mu   sync.Mutex
	open map[string]*openMonth
}

// openMonth is a month that is open to be read.
type openMonth struct {
	db      *sql.DB
	whole   *sql.Stmt // reads a chunk by its place
	readers int
	free    time.Time // since when nobody reads it
	gone    bool      // it is to be closed with its last reader
}

// idleReading is how long a month stays open that nobody reads.
const idleReading = 20 * time.Second

// month gives a month to be read, until done.
func (r *readings) month(month, path string) (m *openMonth, done func(), err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if m = r.open[month]; m == nil {
		db, err := sql.Open("sqlite", "file:"+path+"?mode=ro&_pragma=busy_timeout(5000)&_pragma=query_only(1)&_pragma=mmap_size(268435456)")
		if err != nil {
			return nil, nil, err
		}
		db.SetMaxOpenConns(4)
		db.SetMaxIdleConns(4)
		whole, err := db.Prepare("SELECT body FROM chunk WHERE place = ?")
		if err != nil {
			db.Close()
			return nil, nil, err
		}
		m = &openMonth{db: db, whole: whole}
		if r.open == nil {
			r.open = map[string]*openMonth{}
		}
		r.open[month] = m
	}
	m.readers++
	return m, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		m.free = time.Now()
		if m.readers--; m.readers == 0 && m.gone {
			m.close()
		}
	}, nil
}

func (m *openMonth) close() {
	m.whole.Close()
	m.db.Close()
}

// drop closes a month, with its last reader, so that the file may go or be another one; with "" those that nobody has read for a while.
func (r *readings) drop(month string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for name, m := range r.open {
		if month == "" && (m.readers > 0 || time.Since(m.free) < idleReading) || month != "" && name != month {
			continue
		}
		delete(r.open, name)
		if m.gone = true; m.readers == 0 {
			m.close()
		}
	}
}

// dropAll closes all months.
func (r *readings) dropAll() {
	r.mu.Lock()
	names := make([]string, 0, len(r.open))
	for name := range r.open {
		names = append(names, name)
	}
	r.mu.Unlock()
	for _, name := range names {
		r.drop(name)
	}
}
