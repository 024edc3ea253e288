package store

import (
	"context"
	"time"
)

// Package is the record of a package.
type Package struct {
	ID       string
	Template string
	Version  int
	Content  string
	State    string
	Total    int // people
	Done     int // people
	Files    int
	Bytes    int64
	SHA256   string
	Message  string // why it failed or stopped
	Created  time.Time
	Finished time.Time // zero while it is not
}

const packageColumns = `id, template, version, content, state, total, done, files, bytes, sha256, message, created_at, finished_at`

// PutPackage stores a package's record, new or changed.
func (s *Store) PutPackage(ctx context.Context, p Package) error {
	finished := ""
	if !p.Finished.IsZero() {
		finished = stamp(p.Finished)
	}
	_, err := s.db.ExecContext(ctx, `INSERT OR REPLACE INTO packages (`+packageColumns+`) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		p.ID, p.Template, p.Version, p.Content, p.State, p.Total, p.Done, p.Files, p.Bytes, p.SHA256, p.Message, stamp(p.Created), finished)
	return err
}

func scanPackage(row interface{ Scan(...any) error }) (Package, error) {
	var p Package
	var created, finished string
	err := row.Scan(&p.ID, &p.Template, &p.Version, &p.Content, &p.State, &p.Total, &p.Done, &p.Files, &p.Bytes, &p.SHA256, &p.Message, &created, &finished)
	p.Created, p.Finished = parseStamp(created), parseStamp(finished)
	return p, orNotFound(err)
}

// Package returns one package's record.
func (s *Store) Package(ctx context.Context, id string) (Package, error) {
	return scanPackage(s.db.QueryRowContext(ctx, `SELECT `+packageColumns+` FROM packages WHERE id = ?`, id))
}

// Packages lists the packages, newest first.
func (s *Store) Packages(ctx context.Context) ([]Package, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT `+packageColumns+` FROM packages ORDER BY created_at DESC, id`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Package
	for rows.Next() {
		p, err := scanPackage(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, p)
	}
	return list, rows.Err()
}

// DeletePackage removes a package's record.
func (s *Store) DeletePackage(ctx context.Context, id string) error {
	res, err := s.db.ExecContext(ctx, `DELETE FROM packages WHERE id = ?`, id)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return ErrNotFound
	}
	return nil
}
