package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
)

// Quarantined is a record that did not fit the site when it was loaded. It is kept as it was, and the rest runs.
type Quarantined struct {
	Time time.Time `json:"time"`
	Kind site.Kind `json:"kind" enum:"link,station,point"`
	Name string    `json:"name"`
	Body string    `json:"body" doc:"as it was stored"`
	Why  string    `json:"why" doc:"why it does not fit, in words"`
}

// unfit says why an entity that was stored under a name cannot be part of the site; "" when it can.
func unfit(now *site.Site, name string, e site.Entity) string {
	if e.Key() != name {
		return fmt.Sprintf("it is stored as %q and calls itself %q", name, e.Key())
	}
	switch e := e.(type) {
	case site.Link:
		if e.Protocol != site.Modbus && e.Protocol != site.DNP3 {
			return fmt.Sprintf("its protocol is %q, which is none", e.Protocol)
		}
	case site.Station:
		l, ok := now.Link(e.Link)
		if !ok {
			return fmt.Sprintf("there is no link %q", e.Link)
		}
		if e.Speaks() != l.Protocol {
			return fmt.Sprintf("it is a %s station, and link %s is a %s link", e.Speaks(), l.Name, l.Protocol)
		}
	case site.Point:
		st, ok := now.Station(e.Station)
		if !ok {
			return fmt.Sprintf("there is no station %q", e.Station)
		}
		if p := e.Address.Space.Protocol(); p == "" {
			return fmt.Sprintf("its address is %q, which is none", e.Address)
		} else if p != st.Speaks() {
			return fmt.Sprintf("%s is a %s address, and station %s speaks %s", e.Address, p, st.Name, st.Speaks())
		}
		if !slices.Contains(codec.Types[:], e.WithDefaults().Type) {
			return fmt.Sprintf("its type is %q, which is none", e.Type)
		}
	}
	return ""
}

// quarantine puts records aside in one transaction.
func (s *Store) quarantine(ctx context.Context, list []Quarantined) error {
	if len(list) == 0 {
		return nil
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // without effect once committed
	// Points go before their stations, stations before their links.
	for _, q := range slices.Backward(list) {
		if _, err := tx.ExecContext(ctx, "INSERT INTO quarantine (time, kind, name, body, why) VALUES (?, ?, ?, ?, ?)", q.Time.Format(time.RFC3339Nano), q.Kind, q.Name, q.Body, q.Why); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM "+tableOf[q.Kind]+" WHERE "+keyColumn[q.Kind]+" = ?", q.Name); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Quarantined lists what was put aside, newest first.
func (s *Store) Quarantined(ctx context.Context) ([]Quarantined, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT time, kind, name, body, why FROM quarantine ORDER BY id DESC")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list := []Quarantined{}
	for rows.Next() {
		var q Quarantined
		var at string
		if err := rows.Scan(&at, &q.Kind, &q.Name, &q.Body, &q.Why); err != nil {
			return nil, err
		}
		q.Time = when(at)
		list = append(list, q)
	}
	return list, rows.Err()
}

// when reads a time as it is stored; the zero time of one that is damaged, which hides nothing else.
func when(text string) time.Time {
	at, _ := time.Parse(time.RFC3339Nano, text)
	return at
}
