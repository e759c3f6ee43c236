package store

import (
	"context"
	"database/sql"
	"errors"

	"gorm.io/gorm"
)

// writer is the one connection of a file that writes, as the pool of a gorm.DB.
// What runs on it stays prepared, in transactions and between them, BEGIN and
// COMMIT included: database/sql prepares those anew each time and uses no
// statement of a pool in a transaction without a copy of it, which cost a small
// commit as much as its rows.
//
// One transaction, or one statement outside of any, runs at a time; others wait
// for their turn.
type writer struct {
	pool *sql.DB // of this connection alone
	conn *sql.Conn
	turn chan struct{} // holds a token while somebody writes

	prepared map[string]*sql.Stmt // whose turn it is has them
}

// maxPrepared is how many statements stay prepared; a file has one to two hundred.
// Others run as well, and are prepared anew each time. None makes room for another:
// a statement takes the rows with it that are still read.
const maxPrepared = 400

func newWriter(pool *sql.DB) (*writer, error) {
	conn, err := pool.Conn(context.Background())
	if err != nil {
		return nil, err
	}
	return &writer{pool: pool, conn: conn, turn: make(chan struct{}, 1), prepared: map[string]*sql.Stmt{}}, nil
}

// take waits for the turn.
func (w *writer) take(ctx context.Context) error {
	select {
	case w.turn <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (w *writer) pass() { <-w.turn }

// statement returns a statement ready to run; nil where there are too many.
func (w *writer) statement(ctx context.Context, query string) (*sql.Stmt, error) {
	if s := w.prepared[query]; s != nil || len(w.prepared) >= maxPrepared {
		return s, nil
	}
	s, err := w.conn.PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	w.prepared[query] = s
	return s, nil
}

func (w *writer) exec(ctx context.Context, query string, args []any) (sql.Result, error) {
	s, err := w.statement(ctx, query)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return w.conn.ExecContext(ctx, query, args...)
	}
	return s.ExecContext(ctx, args...)
}

// PrepareContext implements gorm.ConnPool.
func (w *writer) PrepareContext(ctx context.Context, query string) (*sql.Stmt, error) {
	return w.conn.PrepareContext(ctx, query)
}

// ExecContext implements gorm.ConnPool.
func (w *writer) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if err := w.take(ctx); err != nil {
		return nil, err
	}
	defer w.pass()
	return w.exec(ctx, query, args)
}

// QueryContext implements gorm.ConnPool. Its rows may be read while others have
// their turn, so its statement is its own.
func (w *writer) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if err := w.take(ctx); err != nil {
		return nil, err
	}
	defer w.pass()
	return w.conn.QueryContext(ctx, query, args...)
}

// QueryRowContext implements gorm.ConnPool. A turn that does not come is the
// error of the row.
func (w *writer) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	if w.take(ctx) == nil {
		defer w.pass()
	}
	return w.conn.QueryRowContext(ctx, query, args...)
}

// GetDBConn implements gorm.GetDBConnector. The pool has this one connection, so
// nothing but closing may be asked of it.
func (w *writer) GetDBConn() (*sql.DB, error) { return w.pool, nil }

// BeginTx implements gorm.ConnPoolBeginner.
func (w *writer) BeginTx(ctx context.Context, _ *sql.TxOptions) (gorm.ConnPool, error) {
	if err := w.take(ctx); err != nil {
		return nil, err
	}
	// At once and not with the first statement that writes: one that has read
	// cannot always write then. And whatever becomes of ctx: a BEGIN that is broken
	// off may have begun.
	if _, err := w.exec(context.Background(), "BEGIN IMMEDIATE", nil); err != nil {
		w.pass()
		return nil, err
	}
	return &writing{w: w}, nil
}

func (w *writer) close() error {
	w.take(context.Background())
	defer w.pass()
	for _, s := range w.prepared {
		s.Close()
	}
	err := w.conn.Close()
	if errors.Is(err, sql.ErrConnDone) {
		return nil // closed before
	}
	if also := w.pool.Close(); err == nil {
		err = also
	}
	return err
}

// writing is a transaction of a writer, which has the turn until its end. A
// statement that returns rows must not run again before they are closed.
type writing struct {
	w    *writer
	over bool
}

// PrepareContext implements gorm.ConnPool.
func (x *writing) PrepareContext(ctx context.Context, query string) (*sql.Stmt, error) {
	return x.w.PrepareContext(ctx, query)
}

// ExecContext implements gorm.ConnPool.
func (x *writing) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if x.over {
		return nil, sql.ErrTxDone
	}
	return x.w.exec(ctx, query, args)
}

// QueryContext implements gorm.ConnPool.
func (x *writing) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if x.over {
		return nil, sql.ErrTxDone
	}
	s, err := x.w.statement(ctx, query)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return x.w.conn.QueryContext(ctx, query, args...)
	}
	return s.QueryContext(ctx, args...)
}

// QueryRowContext implements gorm.ConnPool.
func (x *writing) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	if s, err := x.w.statement(ctx, query); err == nil && s != nil {
		return s.QueryRowContext(ctx, args...)
	}
	return x.w.conn.QueryRowContext(ctx, query, args...) // which says what is wrong with it
}

// Commit implements gorm.TxCommitter. Where it fails, nothing of the transaction
// is kept.
func (x *writing) Commit() error {
	if x.over {
		return sql.ErrTxDone
	}
	_, err := x.w.exec(context.Background(), "COMMIT", nil)
	if err != nil {
		// SQLite may have rolled back by itself, or not; afterwards it has.
		x.w.exec(context.Background(), "ROLLBACK", nil)
	}
	x.end()
	return err
}

// Rollback implements gorm.TxCommitter. SQLite rolls back by itself where a disk
// is full, and says then that there is no transaction.
func (x *writing) Rollback() error {
	if x.over {
		return sql.ErrTxDone
	}
	x.w.exec(context.Background(), "ROLLBACK", nil)
	x.end()
	return nil
}

func (x *writing) end() {
	x.over = true
	x.w.pass()
}
