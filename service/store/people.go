package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"missivum/core/person"
)

// Directory reads all people and the directory's revision, which grows with every change.
func (s *Store) Directory(ctx context.Context) (*person.Directory, int, error) {
	var text string
	var revision int
	err := s.db.QueryRowContext(ctx, `SELECT fields, revision FROM directory WHERE id = 1`).Scan(&text, &revision)
	if errors.Is(err, sql.ErrNoRows) {
		return &person.Directory{Schema: person.NewSchema("mail")}, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	var fields []string
	if err := json.Unmarshal([]byte(text), &fields); err != nil {
		return nil, 0, fmt.Errorf("reading the directory's fields: %w", err)
	}
	d := &person.Directory{Schema: person.NewSchema(fields...)}
	rows, err := s.db.QueryContext(ctx, `SELECT vals FROM people ORDER BY position`)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var vals []byte
		var p person.Person
		if err := rows.Scan(&vals); err != nil {
			return nil, 0, err
		}
		if err := json.Unmarshal(vals, &p.Values); err != nil {
			return nil, 0, fmt.Errorf("reading a person: %w", err)
		}
		d.People = append(d.People, p)
	}
	return d, revision, rows.Err()
}

// Revision returns the directory's revision.
func (s *Store) Revision(ctx context.Context) (int, error) {
	var revision int
	err := s.db.QueryRowContext(ctx, `SELECT revision FROM directory WHERE id = 1`).Scan(&revision)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return revision, err
}

// ReplaceDirectory stores the people in place of those before, if the directory still has the given
// revision; otherwise the error is ErrConflict and nothing changes.
func (s *Store) ReplaceDirectory(ctx context.Context, d *person.Directory, revision int) error {
	fields, err := json.Marshal(d.Schema.Names())
	if err != nil {
		return err
	}
	mail, _, _ := d.Schema.Column("mail")
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		var now int
		err := tx.QueryRowContext(ctx, `SELECT revision FROM directory WHERE id = 1`).Scan(&now)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if now != revision {
			return ErrConflict
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM people`); err != nil {
			return err
		}
		insert, err := tx.PrepareContext(ctx, `INSERT INTO people (position, mail, vals) VALUES (?, ?, ?)`)
		if err != nil {
			return err
		}
		defer insert.Close()
		for i := range d.People {
			vals, err := json.Marshal(d.People[i].Values)
			if err != nil {
				return err
			}
			if _, err := insert.ExecContext(ctx, i, d.People[i].At(mail), vals); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO directory (id, fields, revision) VALUES (1, ?, ?)
			ON CONFLICT (id) DO UPDATE SET fields = excluded.fields, revision = excluded.revision`, fields, revision+1)
		return err
	})
}
