// Package store keeps the service's records in SQLite. It is the only package that speaks SQL. Start
// with Open; one file for each kind of record.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the database driver
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned for a record that does not exist.
var ErrNotFound = errors.New("not found")

// ErrConflict is returned when a record changed since the caller read it.
var ErrConflict = errors.New("changed meanwhile")

// Store is the service's database.
type Store struct {
	db *sql.DB
}

// Open opens or creates the database file and brings its schema up to date. Foreign keys are
// enforced and the journal is a write-ahead log, so a crash leaves the old state or the new.
func Open(ctx context.Context, file string) (*Store, error) {
	dsn := "file:" + file + "?_pragma=foreign_keys(1)&_pragma=journal_mode(WAL)&_pragma=busy_timeout(10000)&_pragma=synchronous(NORMAL)&_txlock=immediate"
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	s := &Store{db: db}
	if err := s.migrate(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("the database %s cannot be used: %w", file, err)
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, s.db, sub)
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }

// Ready reports whether the database answers.
func (s *Store) Ready(ctx context.Context) error { return s.db.PingContext(ctx) }

// inTransaction runs work in a transaction: all of it happens or nothing.
func (s *Store) inTransaction(ctx context.Context, work func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := work(tx); err != nil {
		return errors.Join(err, ignoreDone(tx.Rollback()))
	}
	return tx.Commit()
}

func ignoreDone(err error) error {
	if errors.Is(err, sql.ErrTxDone) {
		return nil
	}
	return err
}

// orNotFound turns "no rows" into ErrNotFound.
func orNotFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }

func parseStamp(s string) time.Time {
	t, _ := time.Parse(time.RFC3339Nano, s) // blank for what has not happened
	return t
}
