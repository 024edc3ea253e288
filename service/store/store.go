// Package store keeps the service's records in SQLite. It is the only package that speaks SQL. What belongs together is
// read in one Store.Read, which sees one state of the data, and changed in one Store.Write, of which all happens or
// nothing. What is kept are methods of Tx, in one file for each kind. Every write names who acts and leaves an entry in
// the record. Start with Open.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/shirou/gopsutil/v4/disk"
	"modernc.org/sqlite" // the database driver
	sqlite3 "modernc.org/sqlite/lib"

	"missivum/core/problem"
	"missivum/service/access"
)

//go:embed migrations/*.sql
var migrations embed.FS

// readers is how many reads go on at once.
const readers = 8

// Store is the service's database.
type Store struct {
	read  *sql.DB
	write *sql.DB // one connection: writes go one after the other
	now   func() time.Time

	folder                     string
	writes, releases, accesses atomic.Int64

	turn     chan struct{}        // holds one while somebody writes
	head     recordHead           // of the record, as it is stored; used within a unit of work that writes only
	states   map[[2]string]string // digests of things by kind and name, as they are stored; so too
	prepared map[string]*sql.Stmt // statements of the record
}

// AccessWrites is how many units of work have changed an account or a key since the store was opened: while it stays, who
// may do what stays.
func (s *Store) AccessWrites() int64 { return s.accesses.Load() }

// ReleaseWrites is how many units of work have changed a release or a wave since the store was opened.
func (s *Store) ReleaseWrites() int64 { return s.releases.Load() }

// Writes is how many units of work have changed something since the store was opened: while it stays, nothing that was read
// is out of date but records of messages and gateways.
func (s *Store) Writes() int64 { return s.writes.Load() }

// Open opens or creates the database file and brings its schema up to date. Foreign keys are enforced, the journal is
// a write-ahead log and a commit waits until the data is on the disk, so a crash leaves the old state or the new, and
// what was acknowledged stays. now is the clock that changes are dated by.
func Open(ctx context.Context, file string, now func() time.Time) (*Store, error) {
	s := &Store{now: now, folder: filepath.Dir(file), turn: make(chan struct{}, 1), prepared: map[string]*sql.Stmt{}}
	var err error
	if s.write, err = sql.Open("sqlite", dsn(file, "journal_mode(WAL)", "synchronous(FULL)")+"&_txlock=immediate"); err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	s.write.SetMaxOpenConns(1)
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("the database %s cannot be used: %w", file, err), s.write.Close())
	}
	for _, query := range []string{putState, addEntry} {
		if s.prepared[query], err = s.write.PrepareContext(ctx, query); err != nil {
			return nil, errors.Join(err, s.write.Close())
		}
	}
	if s.read, err = sql.Open("sqlite", dsn(file, "query_only(1)")+"&_txlock=deferred"); err != nil {
		return nil, errors.Join(fmt.Errorf("opening the database: %w", err), s.write.Close())
	}
	s.read.SetMaxOpenConns(readers)
	s.read.SetMaxIdleConns(readers)
	if err := s.linkRecord(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("linking the record: %w", err), s.Close())
	}
	return s, nil
}

// dsn is the address of a database file with pragmas.
func dsn(file string, pragmas ...string) string {
	query := url.Values{"_pragma": append([]string{"foreign_keys(1)", "busy_timeout(10000)"}, pragmas...)}
	return "file:" + (&url.URL{Path: file}).EscapedPath() + "?" + query.Encode()
}

// migrate brings the schema up to date; each step is a transaction of its own.
func (s *Store) migrate(ctx context.Context) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, s.write, sub)
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// Close closes the database.
func (s *Store) Close() error { return errors.Join(s.read.Close(), s.write.Close()) }

// Ready reports whether the database answers.
func (s *Store) Ready(ctx context.Context) error {
	if usage, err := disk.UsageWithContext(ctx, s.folder); err == nil && usage.Free < leastSpace {
		return ErrFull
	}
	return s.Read(ctx, func(tx *Tx) error {
		var one int
		return tx.row(`SELECT 1`).Scan(&one)
	})
}

// leastSpace is how much of the disk must be free, in bytes.
const leastSpace = 16 << 20

// ErrFull says that the disk has no room left.
var ErrFull error = problem.New(problem.Full, "The disk with the data folder is full. Nothing was changed; make room and try again.")

// Known gives the errors of a full disk, of the system and of SQLite, their kind; others stay what they are.
func Known(err error) error {
	var lite *sqlite.Error
	if outOfSpace(err) || errors.As(err, &lite) && lite.Code()&0xff == sqlite3.SQLITE_FULL {
		return fmt.Errorf("%w (%w)", ErrFull, err)
	}
	return err
}

// Tx is a unit of work: one state of the data to read, or changes that happen together. It must not be used after the
// function that it was given to has returned.
type Tx struct {
	ctx   context.Context
	tx    *sql.Tx
	by    access.Principal // who acts; empty in a read
	at    time.Time
	after []func()
	head  recordHead           // of the record, with this unit of work's entries
	held  map[[2]string]string // digests of things that were changed
	aside bool                 // it changes nothing that is read as a whole and remembered, such as records of messages
	store *Store

	statements map[string]*sql.Stmt // prepared in this unit of work, by their text
}

// By is who acts; the zero principal in a read.
func (tx *Tx) By() access.Principal { return tx.by }

// At is when the unit of work began.
func (tx *Tx) At() time.Time { return tx.at }

// After has a function run once the changes are stored; not at all when they are not.
func (tx *Tx) After(run func()) { tx.after = append(tx.after, run) }

// Context is the context of the unit of work.
func (tx *Tx) Context() context.Context { return tx.ctx }

// Read runs work on one state of the data: what others write meanwhile is not seen.
func (s *Store) Read(ctx context.Context, work func(*Tx) error) error {
	tx, err := s.read.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return err
	}
	err = work(&Tx{ctx: ctx, tx: tx, at: s.now()})
	return errors.Join(err, ignoreDone(tx.Rollback()))
}

// Write runs work that changes data: all of it happens or nothing. It needs a principal in the context
// (access.With), who is recorded with the changes. Writes go one after the other, so what the work reads is not
// changed by others before it is done.
func (s *Store) Write(ctx context.Context, work func(*Tx) error) error {
	by, ok := access.From(ctx)
	if !ok {
		return errors.New("nobody is named who makes this change")
	}
	select {
	case s.turn <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	tx, err := s.writeNow(ctx, by, work)
	if err != nil {
		return err
	}
	for _, run := range tx.after {
		run()
	}
	return nil
}

// writeNow is Write for whose turn it is.
func (s *Store) writeNow(ctx context.Context, by access.Principal, work func(*Tx) error) (*Tx, error) {
	defer func() { <-s.turn }()
	sqlTx, err := s.write.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer sqlTx.Rollback() // a fault of the program takes back what was done; otherwise it is over by then
	tx := &Tx{ctx: ctx, tx: sqlTx, by: by, at: s.now(), store: s, head: s.head}
	if err := work(tx); err != nil {
		return nil, errors.Join(err, ignoreDone(sqlTx.Rollback()))
	}
	err = sqlTx.Commit()
	if !tx.aside {
		s.writes.Add(1) // also when it is not known whether it is stored
	}
	if err != nil {
		s.forgetRecord() // it is not known whether it is stored
		return nil, err
	}
	s.rememberRecord(tx)
	return tx, nil
}

// ignoreDone drops the error of a rollback behind a commit.
func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) {
		return nil
	}
	return err
}

// row asks for one row.
func (tx *Tx) row(query string, args ...any) *sql.Row {
	return tx.tx.QueryRowContext(tx.ctx, query, args...)
}

// exec changes rows.
func (tx *Tx) exec(query string, args ...any) (sql.Result, error) {
	return tx.tx.ExecContext(tx.ctx, query, args...)
}

// prepared is exec for a statement that is repeated many times.
func (tx *Tx) prepared(query string, args ...any) (sql.Result, error) {
	statement, err := tx.statement(query)
	if err != nil {
		return nil, err
	}
	return statement.ExecContext(tx.ctx, args...)
}

// preparedRow is row for a statement that is repeated many times.
func (tx *Tx) preparedRow(query string, args ...any) scanner {
	statement, err := tx.statement(query)
	if err != nil {
		return failed{err}
	}
	return statement.QueryRowContext(tx.ctx, args...)
}

// failed is a row that could not be asked for.
type failed struct{ error }

func (f failed) Scan(...any) error { return f.error }

// statement prepares a statement, once in a unit of work; it is closed with the transaction.
func (tx *Tx) statement(query string) (*sql.Stmt, error) {
	if statement := tx.statements[query]; statement != nil {
		return statement, nil
	}
	statement, err := tx.tx.PrepareContext(tx.ctx, query)
	if err != nil {
		return nil, err
	}
	if tx.statements == nil {
		tx.statements = map[string]*sql.Stmt{}
	}
	tx.statements[query] = statement
	return statement, nil
}

// execOne is exec for a statement that must change a row; otherwise there is no thing of that name.
func (tx *Tx) execOne(what, name, query string, args ...any) error {
	result, err := tx.exec(query, args...)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(problem.Missing(what, name), err)
	}
	return nil
}

// scanner is a row to be read.
type scanner interface{ Scan(...any) error }

// list reads all rows of a query.
func list[T any](tx *Tx, read func(scanner) (T, error), query string, args ...any) ([]T, error) {
	rows, err := tx.tx.QueryContext(tx.ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []T
	for rows.Next() {
		one, err := read(rows)
		if err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, rows.Err()
}

// missing turns "no rows" into a thing that is not there.
func missing(what, name string, err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return problem.Missing(what, name)
	}
	return err
}

// stampForm is how times are written: in UTC and with a fixed width, so that they sort as text.
const stampForm = "2006-01-02T15:04:05.000000000Z"

// stamp writes a time; a zero one is blank.
func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(stampForm)
}

// parseStamp reads a time that stamp wrote.
func parseStamp(s string) time.Time {
	t, _ := time.Parse(stampForm, s) // blank for what has not happened
	return t
}
