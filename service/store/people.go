package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"

	"missivum/core/person"
	"missivum/core/problem"
)

// Directory reads all people and the directory's revision, which grows with every change.
func (tx *Tx) Directory() (*person.Directory, int, error) {
	var text string
	var revision int
	err := tx.row(`SELECT fields, revision FROM directory WHERE id = 1`).Scan(&text, &revision)
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
	d.People, err = list(tx, func(row scanner) (person.Person, error) {
		var vals []byte
		var p person.Person
		if err := row.Scan(&vals); err != nil {
			return p, err
		}
		return p, json.Unmarshal(vals, &p.Values)
	}, `SELECT vals FROM people ORDER BY position`)
	return d, revision, err
}

// Revision returns the directory's revision; 0 while there is none.
func (tx *Tx) Revision() (int, error) {
	var revision int
	err := tx.row(`SELECT revision FROM directory WHERE id = 1`).Scan(&revision)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return revision, err
}

// ReplaceDirectory stores the people in place of those before, if the directory still has the given revision;
// otherwise it is a conflict. detail says what changes, for the table of changes.
func (tx *Tx) ReplaceDirectory(d *person.Directory, revision int, detail string) error {
	fields, err := json.Marshal(d.Schema.Names())
	if err != nil {
		return err
	}
	now, err := tx.Revision()
	if err != nil {
		return err
	}
	if now != revision {
		return problem.New(problem.Conflict, "The directory was changed meanwhile. Look again; nothing was imported.")
	}
	if _, err := tx.exec(`DELETE FROM people`); err != nil {
		return err
	}
	if err := tx.insertPeople(d); err != nil {
		return err
	}
	_, err = tx.exec(`INSERT INTO directory (id, fields, revision) VALUES (1, ?, ?)
		ON CONFLICT (id) DO UPDATE SET fields = excluded.fields, revision = excluded.revision`, fields, revision+1)
	if err != nil {
		return err
	}
	return tx.changed("imported", "directory", strconv.Itoa(revision+1), detail)
}

// insertPeople writes the whole directory in its order.
func (tx *Tx) insertPeople(d *person.Directory) error {
	mail, _, _ := d.Schema.Column("mail")
	insert, err := tx.tx.PrepareContext(tx.ctx, `INSERT INTO people (position, mail, vals) VALUES (?, ?, ?)`)
	if err != nil {
		return err
	}
	defer insert.Close()
	for i := range d.People {
		vals, err := json.Marshal(d.People[i].Values)
		if err != nil {
			return err
		}
		if _, err := insert.ExecContext(tx.ctx, i, d.People[i].At(mail), vals); err != nil {
			return err
		}
	}
	return nil
}
