package database

import (
	"context"
	"database/sql"
	"strings"
)

// Tx is a transaction that changes something. What it executes is kept prepared for the transactions that follow, so its queries are
// constants.
type Tx struct {
	d    *Database
	tx   *sql.Tx
	here map[string]*sql.Stmt // prepared in or for this transaction
	new  []string             // of those, which are not kept yet
}

// mostPrepared is how many queries are kept prepared.
const mostPrepared = 200

// Begin begins a transaction.
func (d *Database) Begin(ctx context.Context) (*Tx, error) {
	if err := d.Present(); err != nil {
		return nil, err
	}
	tx, err := d.Writer.BeginTx(ctx, nil)
	if err != nil {
		return nil, Named(err)
	}
	return &Tx{d: d, tx: tx, here: map[string]*sql.Stmt{}}, nil
}

// Prepared is a query, prepared. It ends with the transaction.
func (t *Tx) Prepared(ctx context.Context, query string) (*sql.Stmt, error) {
	if stmt := t.here[query]; stmt != nil {
		return stmt, nil
	}
	t.d.mu.Lock()
	kept := t.d.prepared[query]
	t.d.mu.Unlock()
	if kept != nil {
		t.here[query] = t.tx.StmtContext(ctx, kept)
		return t.here[query], nil
	}
	stmt, err := t.tx.PrepareContext(ctx, query)
	if err == nil {
		t.here[query], t.new = stmt, append(t.new, query)
	}
	return stmt, err
}

// Exec changes something.
func (t *Tx) Exec(ctx context.Context, query string, args ...any) (sql.Result, error) {
	stmt, err := t.Prepared(ctx, query)
	if err != nil {
		return nil, err
	}
	return stmt.ExecContext(ctx, args...)
}

// rowsTogether is how many rows one statement inserts at most.
const rowsTogether = 64

// Insertion is a statement that inserts rows.
type Insertion struct {
	columns   int
	one, many string // the statement for one row, and for rowsTogether of them
}

// NewInsertion makes a statement of what stands before VALUES, of how many columns a row has, and of what stands after the rows.
func NewInsertion(into string, columns int, tail string) Insertion {
	row := "(" + strings.Repeat("?, ", columns-1) + "?)"
	text := func(rows int) string {
		return into + " VALUES " + strings.Repeat(row+", ", rows-1) + row + " " + tail
	}
	return Insertion{columns, text(1), text(rowsTogether)}
}

// Together is how many values are inserted at once at most: those of so many rows.
func (i Insertion) Together() int { return rowsTogether * i.columns }

// Insert inserts rows, whose values follow one another.
func (t *Tx) Insert(ctx context.Context, i Insertion, values []any) error {
	for n := i.Together(); len(values) >= n; values = values[n:] {
		if _, err := t.Exec(ctx, i.many, values[:n]...); err != nil {
			return err
		}
	}
	for ; len(values) > 0; values = values[i.columns:] {
		if _, err := t.Exec(ctx, i.one, values[:i.columns]...); err != nil {
			return err
		}
	}
	return nil
}

// Row reads into what a row of one column or more goes into; sql.ErrNoRows when there is none.
func (t *Tx) Row(ctx context.Context, query string, args []any, into ...any) error {
	stmt, err := t.Prepared(ctx, query)
	if err != nil {
		return err
	}
	return stmt.QueryRowContext(ctx, args...).Scan(into...)
}

// Rollback ends the transaction without an effect; after a Commit it does nothing.
func (t *Tx) Rollback() { _ = t.tx.Rollback() }

// keep keeps what was prepared in a transaction that has ended.
func (d *Database) keep(queries []string) {
	for _, query := range queries {
		d.mu.Lock()
		full := len(d.prepared) >= mostPrepared || d.prepared[query] != nil
		d.mu.Unlock()
		if full {
			continue
		}
		stmt, err := d.Writer.Prepare(query)
		if err != nil {
			return // it is prepared again when it is needed
		}
		d.mu.Lock()
		d.prepared[query] = stmt
		d.mu.Unlock()
	}
}

// Commit puts a transaction on the disk. Its error says that this cannot be relied upon.
func (d *Database) Commit(t *Tx) error {
	if err := t.tx.Commit(); err != nil {
		return Named(err)
	}
	d.tell()
	d.keep(t.new)
	if err := d.Present(); err != nil { // it went into a file that nobody may find, so that memory and that may differ
		d.lost.Store(true)
		return err
	}
	return nil
}

// Change runs f in a transaction, which is on the disk when Change returns without an error; with one, nothing was changed.
func (d *Database) Change(ctx context.Context, f func(*Tx) error) error {
	tx, err := d.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback() // without effect once committed
	if err := f(tx); err != nil {
		return Named(err)
	}
	return d.Commit(tx)
}
