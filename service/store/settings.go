package store

import (
	"database/sql"
	"encoding/json"
	"errors"
)

// Setting reads a setting into a value; one that was not set leaves it as it is.
func (tx *Tx) Setting(name string, into any) error {
	var value string
	err := tx.row(`SELECT value FROM settings WHERE name = ?`, name).Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal([]byte(value), into)
}

// PutSetting stores a setting.
func (tx *Tx) PutSetting(name string, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	if _, err := tx.exec(`INSERT OR REPLACE INTO settings (name, value) VALUES (?, ?)`, name, string(text)); err != nil {
		return err
	}
	return tx.changedTo(text, "saved", "settings", name, string(text))
}
