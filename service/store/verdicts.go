package store

import (
	"database/sql"
	"errors"
)

// Verdict reads what the checks found in a template, if that was worked out for the same key; blank where it was not.
func (tx *Tx) Verdict(template, key string) (state string, err error) {
	err = tx.row(`SELECT state FROM verdicts WHERE template = ? AND key = ?`, template, key).Scan(&state)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return state, err
}

// PutVerdict stores what the checks found in a template, in the place of what they found before. It is worked out of what is
// on record already, and so leaves no line there.
func (tx *Tx) PutVerdict(template, key, state string) error {
	_, err := tx.exec(`INSERT OR REPLACE INTO verdicts (template, key, state) VALUES (?, ?, ?)`, template, key, state)
	return err
}
