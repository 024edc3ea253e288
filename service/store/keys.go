package store

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
)

// Key is a key that a program names itself with.
type Key struct {
	Name    string
	Scopes  []access.Scope
	Source  string // the source that it may push to
	Account string // whose it is; blank for a program's
	Created time.Time
	Ends    time.Time // zero for never
	Used    time.Time // within a minute; zero for never
}

// Has reports whether a key is of a scope.
func (k Key) Has(s access.Scope) bool { return slices.Contains(k.Scopes, s) }

const keyColumns = `k.name, k.scopes, k.source, COALESCE(a.name, ''), k.created_at, k.ends_at, k.used_at
	FROM keys k LEFT JOIN accounts a ON a.id = k.account_id`

// scanKey reads a row of keys.
func scanKey(row scanner) (Key, error) {
	var k Key
	var scopes, created, ends, used string
	if err := row.Scan(&k.Name, &scopes, &k.Source, &k.Account, &created, &ends, &used); err != nil {
		return k, err
	}
	k.Created, k.Ends, k.Used = parseStamp(created), parseStamp(ends), parseStamp(used)
	return k, json.Unmarshal([]byte(scopes), &k.Scopes)
}

// accessChanged says that who may do what may be another once the unit of work is stored.
func (tx *Tx) accessChanged() { tx.After(func() { tx.store.accesses.Add(1) }) }

// AddKey stores a key by its digest.
func (tx *Tx) AddKey(k Key, digest []byte) error {
	scopes, err := json.Marshal(k.Scopes)
	if err != nil {
		return err
	}
	var account any
	if k.Account != "" {
		a, err := tx.Account(k.Account)
		if err != nil {
			return err
		}
		account = a.ID
	}
	result, err := tx.exec(`INSERT INTO keys (name, scopes, source, account_id, digest, created_at, ends_at, used_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, '') ON CONFLICT DO NOTHING`, k.Name, string(scopes), k.Source, account, digest, stamp(tx.at), stamp(k.Ends))
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, problem.New(problem.Conflict, "There is a key %q already.", k.Name).In("name"))
	}
	tx.accessChanged()
	var detail []string
	for _, s := range k.Scopes {
		detail = append(detail, string(s))
	}
	for label, value := range map[string]string{"source ": k.Source, "of ": k.Account} {
		if value != "" {
			detail = append(detail, label+value)
		}
	}
	slices.Sort(detail)
	if !k.Ends.IsZero() {
		detail = append(detail, "ends "+k.Ends.Format(time.DateOnly))
	}
	return tx.changedTo(digest, "added", "key", k.Name, strings.Join(detail, ", "))
}

// KeyByDigest reads the key of a digest.
func (tx *Tx) KeyByDigest(digest []byte) (Key, error) {
	k, err := scanKey(tx.row(`SELECT `+keyColumns+` WHERE k.digest = ?`, digest))
	return k, missing("key", "", err)
}

// Key reads the key of a name.
func (tx *Tx) Key(name string) (Key, error) {
	k, err := scanKey(tx.row(`SELECT `+keyColumns+` WHERE k.name = ?`, name))
	return k, missing("key", name, err)
}

// Keys lists the keys by name.
func (tx *Tx) Keys() ([]Key, error) {
	return list(tx, scanKey, `SELECT `+keyColumns+` ORDER BY k.name`)
}

// RemoveKey removes a key.
func (tx *Tx) RemoveKey(name string) error {
	if err := tx.execOne("key", name, `DELETE FROM keys WHERE name = ?`, name); err != nil {
		return err
	}
	tx.accessChanged()
	return tx.removed("key", name, "")
}

// KeysUsed stores when keys were last used. It is no change that the record has.
func (tx *Tx) KeysUsed(used map[string]time.Time) error {
	tx.aside = true
	for name, at := range used {
		if _, err := tx.exec(`UPDATE keys SET used_at = ? WHERE name = ?`, stamp(at), name); err != nil {
			return err
		}
	}
	return nil
}
