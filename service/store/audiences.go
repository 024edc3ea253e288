package store

import (
	"encoding/json"

	"missivum/core/audience"
)

// Audiences lists all audiences by name.
func (tx *Tx) Audiences() ([]audience.Audience, error) {
	return list(tx, func(row scanner) (a audience.Audience, err error) {
		var condition string
		if err := row.Scan(&a.Name, &a.Title, &condition); err != nil {
			return a, err
		}
		return a, json.Unmarshal([]byte(condition), &a.Condition)
	}, `SELECT name, title, condition FROM audiences ORDER BY name`)
}

// PutAudience stores an audience.
func (tx *Tx) PutAudience(a audience.Audience) error {
	condition, err := json.Marshal(a.Condition)
	if err != nil {
		return err
	}
	_, err = tx.exec(`INSERT INTO audiences (name, title, condition, saved_at) VALUES (?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET title = excluded.title, condition = excluded.condition, saved_at = excluded.saved_at`,
		a.Name, a.Title, condition, stamp(tx.at))
	if err != nil {
		return err
	}
	return tx.changedTo(condition, "saved", "audience", a.Name, string(condition))
}

// RemoveAudience removes an audience.
func (tx *Tx) RemoveAudience(name string) error {
	if err := tx.execOne("audience", name, `DELETE FROM audiences WHERE name = ?`, name); err != nil {
		return err
	}
	return tx.removed("audience", name, "")
}

// Assignments lists the assignments in their order.
func (tx *Tx) Assignments() ([]audience.Assignment, error) {
	return list(tx, func(row scanner) (a audience.Assignment, err error) {
		return a, row.Scan(&a.Audience, &a.Situation, &a.Template, &a.Variant, &a.Note)
	}, `SELECT audience, situation, template, variant, note FROM assignments ORDER BY position`)
}

// PutAssignments stores the assignments in the place of those before.
func (tx *Tx) PutAssignments(lines []audience.Assignment) error {
	if _, err := tx.exec(`DELETE FROM assignments`); err != nil {
		return err
	}
	for i, a := range lines {
		_, err := tx.exec(`INSERT INTO assignments (position, audience, situation, template, variant, note) VALUES (?, ?, ?, ?, ?, ?)`,
			i+1, a.Audience, a.Situation, a.Template, a.Variant, a.Note)
		if err != nil {
			return err
		}
	}
	text, err := json.Marshal(lines)
	if err != nil {
		return err
	}
	return tx.changedTo(text, "saved", "assignments", "all", string(text))
}
