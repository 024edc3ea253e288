package store

import (
	"fmt"
	"strings"
	"time"
)

// AddOnKey is a key with which a person's browser fetches their own signature.
type AddOnKey struct {
	ID      int64
	Person  string // mail address, folded
	Created time.Time
	Ends    time.Time
	Used    time.Time // the last time, to the day; zero until then
	Version string    // of the add-on that used it last
	Revoked time.Time // zero for not
}

const addOnKeyColumns = `id, person, created_at, ends_at, used_at, version, revoked_at`

func scanAddOnKey(row scanner) (k AddOnKey, err error) {
	var created, ends, used, revoked string
	err = row.Scan(&k.ID, &k.Person, &created, &ends, &used, &k.Version, &revoked)
	k.Created, k.Ends, k.Used, k.Revoked = parseStamp(created), parseStamp(ends), parseStamp(used), parseStamp(revoked)
	return k, err
}

// AddAddOnKey stores a key by the digest of its secret, and gives its id.
func (tx *Tx) AddAddOnKey(person string, digest []byte, ends time.Time) (int64, error) {
	result, err := tx.exec(`INSERT INTO add_on_keys (person, digest, created_at, ends_at, used_at, version, revoked_at)
		VALUES (?, ?, ?, ?, '', '', '')`, person, digest, stamp(tx.at), stamp(ends))
	if err != nil {
		return 0, err
	}
	id, err := result.LastInsertId()
	if err != nil {
		return 0, err
	}
	return id, tx.changed("added", "add-on key", person, fmt.Sprintf("number %d, ends %s", id, ends.Format(time.DateOnly)))
}

// AddOnKey reads a key by its id.
func (tx *Tx) AddOnKey(id int64) (AddOnKey, error) {
	k, err := scanAddOnKey(tx.row(`SELECT `+addOnKeyColumns+` FROM add_on_keys WHERE id = ?`, id))
	return k, missing("add-on key", fmt.Sprint(id), err)
}

// AddOnKeyBy reads a key by its id and the digest of its secret.
func (tx *Tx) AddOnKeyBy(id int64, digest []byte) (AddOnKey, error) {
	k, err := scanAddOnKey(tx.row(`SELECT `+addOnKeyColumns+` FROM add_on_keys WHERE id = ? AND digest = ?`, id, digest))
	return k, missing("add-on key", fmt.Sprint(id), err)
}

// AddOnKeys lists keys of which the address holds a text, the newest first.
func (tx *Tx) AddOnKeys(search string, limit int) ([]AddOnKey, error) {
	return list(tx, scanAddOnKey,
		`SELECT `+addOnKeyColumns+` FROM add_on_keys WHERE person LIKE ? ESCAPE '\' ORDER BY id DESC LIMIT ?`,
		"%"+likeEscaper.Replace(strings.ToLower(search))+"%", limit)
}

// AddOnKeysOf counts the keys of a person that can be used, and gives the oldest of them.
func (tx *Tx) AddOnKeysOf(person string) (n int, oldest int64, err error) {
	err = tx.row(`SELECT count(*), coalesce(min(id), 0) FROM add_on_keys WHERE person = ? AND revoked_at = '' AND ends_at > ?`, person,
		stamp(tx.at)).Scan(&n, &oldest)
	return n, oldest, err
}

// UsedAddOnKey notes that a key was used, and by which version of the add-on; blank for the one of before.
func (tx *Tx) UsedAddOnKey(id int64, version string) error {
	tx.aside = true
	_, err := tx.exec(`UPDATE add_on_keys SET used_at = ?, version = CASE ? WHEN '' THEN version ELSE ? END WHERE id = ?`, stamp(tx.at),
		version,
		version, id)
	return err
}

// RevokeAddOnKey ends a key.
func (tx *Tx) RevokeAddOnKey(id int64) error {
	k, err := tx.AddOnKey(id)
	if err != nil {
		return err
	}
	if _, err := tx.exec(`UPDATE add_on_keys SET revoked_at = ? WHERE id = ? AND revoked_at = ''`, stamp(tx.at), id); err != nil {
		return err
	}
	return tx.changed("revoked", "add-on key", k.Person, fmt.Sprintf("number %d", id))
}

// AddOnKeyCount counts the people who have a key that can be used, and of those the ones whose browser used it since a time.
func (tx *Tx) AddOnKeyCount(since time.Time) (people, used int, err error) {
	err = tx.row(`SELECT count(DISTINCT person), count(DISTINCT CASE WHEN used_at >= ? THEN person END) FROM add_on_keys
		WHERE revoked_at = '' AND ends_at > ?`, stamp(since), stamp(tx.at)).Scan(&people, &used)
	return people, used, err
}
