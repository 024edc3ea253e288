package store

import (
	"time"

	"missivum/service/access"
)

// Change is one line of the table of changes: who did what to which thing. Lines are only ever added.
type Change struct {
	ID     int64
	At     time.Time
	By     access.Principal
	Action string // saved, removed, ...
	Object string // kind of thing: template, picture, ...
	Name   string
	Detail string
}

// changed adds a line to the table of changes. Every method that changes data calls it.
func (tx *Tx) changed(action, object, name, detail string) error {
	_, err := tx.exec(`INSERT INTO changes (at, actor_kind, actor, action, object, name, detail) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		stamp(tx.at), tx.by.Kind, tx.by.Name, action, object, name, detail)
	return err
}

// Changes lists the newest changes, newest first. before is the id of the change that the list goes on behind; 0
// begins with the newest.
func (tx *Tx) Changes(before int64, limit int) ([]Change, error) {
	return list(tx, scanChange, `SELECT id, at, actor_kind, actor, action, object, name, detail FROM changes
		WHERE ? = 0 OR id < ? ORDER BY id DESC LIMIT ?`, before, before, limit)
}

// scanChange reads a row of the record of changes.
func scanChange(row scanner) (Change, error) {
	var c Change
	var at string
	err := row.Scan(&c.ID, &at, &c.By.Kind, &c.By.Name, &c.Action, &c.Object, &c.Name, &c.Detail)
	c.At = parseStamp(at)
	return c, err
}
