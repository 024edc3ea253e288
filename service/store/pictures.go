package store

import (
	"crypto/sha256"
	"encoding/hex"
	"strconv"
	"time"

	"missivum/core/problem"
)

// PictureVersion is one version of a picture in the store.
type PictureVersion struct {
	Picture string
	Number  int
	SHA256  string
	Facts   string // JSON
	File    string // name of the file as it came
	Note    string
	Author  string // name of the principal who saved it
	Created time.Time
}

// Rendition is a file made of a picture's version.
type Rendition struct {
	Picture    string
	Number     int // of the version that it was made of
	SHA256     string
	Key        string // picture.KeyOf; where it is hosted
	Recipe     string // JSON
	Facts      string // JSON
	Difference float64
	Created    time.Time
}

// SavePicture stores a new version with its content and returns its number. A content that is the latest version
// already is not stored again.
func (tx *Tx) SavePicture(v PictureVersion, data []byte) (int, error) {
	if _, err := tx.exec(`INSERT INTO pictures (name, created_at) VALUES (?, ?) ON CONFLICT DO NOTHING`, v.Picture, stamp(tx.at)); err != nil {
		return 0, err
	}
	var id int64
	var number int
	var latest string
	err := tx.row(`SELECT p.id, COALESCE(MAX(v.number), 0), COALESCE((SELECT sha256 FROM picture_versions WHERE `+
		`picture_id = p.id ORDER BY number DESC LIMIT 1), '')
		FROM pictures p LEFT JOIN picture_versions v ON v.picture_id = p.id WHERE p.name = ? GROUP BY p.id`,
		v.Picture).Scan(&id, &number, &latest)
	if err != nil {
		return 0, err
	}
	hash, err := tx.saveContent(data)
	if err != nil || hash == latest {
		return number, err
	}
	number++
	_, err = tx.exec(`INSERT INTO picture_versions (picture_id, number, sha256, facts, file, note, author, `+
		`created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		id, number, hash, v.Facts, v.File, v.Note, tx.by.Name, stamp(tx.at))
	if err != nil {
		return 0, err
	}
	return number, tx.changedTo(data, "saved", "picture", v.Picture, "version "+strconv.Itoa(number))
}

// saveContent stores a picture's bytes once and returns their SHA-256.
func (tx *Tx) saveContent(data []byte) (string, error) {
	sum := sha256.Sum256(data)
	hash := hex.EncodeToString(sum[:])
	_, err := tx.exec(`INSERT INTO picture_contents (sha256, data) VALUES (?, ?) ON CONFLICT DO NOTHING`, hash, data)
	return hash, err
}

// PictureVersions lists the versions of a picture, newest first; of all pictures, by name, for an empty one.
func (tx *Tx) PictureVersions(name string) ([]PictureVersion, error) {
	all, err := list(tx, func(row scanner) (PictureVersion, error) {
		var v PictureVersion
		var created string
		err := row.Scan(&v.Picture, &v.Number, &v.SHA256, &v.Facts, &v.File, &v.Note, &v.Author, &created)
		v.Created = parseStamp(created)
		return v, err
	}, `SELECT p.name, v.number, v.sha256, v.facts, v.file, v.note, v.author, v.created_at FROM picture_versions v
		JOIN pictures p ON p.id = v.picture_id WHERE ? IN ('', p.name) ORDER BY p.name, v.number DESC`, name)
	if err == nil && len(all) == 0 && name != "" {
		err = problem.Missing("picture", name)
	}
	return all, err
}

// PictureContent returns the bytes of a content.
func (tx *Tx) PictureContent(hash string) ([]byte, error) {
	var data []byte
	err := tx.row(`SELECT data FROM picture_contents WHERE sha256 = ?`, hash).Scan(&data)
	return data, missing("picture content", hash, err)
}

// PictureAlts returns a picture's alternative texts by language.
func (tx *Tx) PictureAlts(name string) (map[string]string, error) {
	type entry struct{ language, alt string }
	entries, err := list(tx, func(row scanner) (entry, error) {
		var e entry
		return e, row.Scan(&e.language, &e.alt)
	}, `SELECT a.language, a.alt FROM picture_alts a JOIN pictures p ON p.id = a.picture_id WHERE p.name = ?`, name)
	alts := map[string]string{}
	for _, e := range entries {
		alts[e.language] = e.alt
	}
	return alts, err
}

// PutPictureAlts replaces a picture's alternative texts.
func (tx *Tx) PutPictureAlts(name string, alts map[string]string) error {
	var id int64
	if err := tx.row(`SELECT id FROM pictures WHERE name = ?`, name).Scan(&id); err != nil {
		return missing("picture", name, err)
	}
	if _, err := tx.exec(`DELETE FROM picture_alts WHERE picture_id = ?`, id); err != nil {
		return err
	}
	for language, alt := range alts {
		if _, err := tx.exec(`INSERT INTO picture_alts (picture_id, language, alt) VALUES (?, ?, ?)`, id, language, alt); err != nil {
			return err
		}
	}
	return tx.changedTo(alts, "saved", "alternative texts", name, "")
}

// PictureSlices returns how a picture is cut, as JSON; empty when it is not.
func (tx *Tx) PictureSlices(name string) (string, error) {
	var slices string
	err := tx.row(`SELECT slices FROM pictures WHERE name = ?`, name).Scan(&slices)
	return slices, missing("picture", name, err)
}

// PutPictureSlices stores how a picture is cut.
func (tx *Tx) PutPictureSlices(name, slices string) error {
	if err := tx.execOne("picture", name, `UPDATE pictures SET slices = ? WHERE name = ?`, slices, name); err != nil {
		return err
	}
	return tx.changedTo(slices, "saved", "slices", name, "")
}

// SaveRendition stores a file that was made of a picture's version.
func (tx *Tx) SaveRendition(r Rendition, data []byte) error {
	hash, err := tx.saveContent(data)
	if err != nil {
		return err
	}
	err = tx.execOne("picture", r.Picture,
		`INSERT OR REPLACE INTO renditions (picture_id, number, sha256, key, recipe, facts, difference, created_at)
		SELECT id, ?, ?, ?, ?, ?, ?, ? FROM pictures WHERE name = ?`, r.Number, hash, r.Key, r.Recipe, r.Facts, r.Difference,
		stamp(tx.at), r.Picture)
	if err != nil {
		return err
	}
	return tx.changed("rendered", "picture", r.Picture, r.Key)
}

// Renditions lists what was made of a picture, newest first.
func (tx *Tx) Renditions(name string) ([]Rendition, error) {
	return list(tx, func(row scanner) (Rendition, error) {
		var r Rendition
		var created string
		err := row.Scan(&r.Picture, &r.Number, &r.SHA256, &r.Key, &r.Recipe, &r.Facts, &r.Difference, &created)
		r.Created = parseStamp(created)
		return r, err
	}, `SELECT p.name, r.number, r.sha256, r.key, r.recipe, r.facts, r.difference, r.created_at FROM renditions r
		JOIN pictures p ON p.id = r.picture_id WHERE p.name = ? ORDER BY r.created_at DESC, r.rowid DESC`, name)
}

// HostPicture makes a content reachable by its key. What is hosted already stays.
func (tx *Tx) HostPicture(key string, data []byte) error {
	hash, err := tx.saveContent(data)
	if err != nil {
		return err
	}
	result, err := tx.exec(`INSERT INTO hosted_pictures (key, sha256, created_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING`,
		key, hash, stamp(tx.at))
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return err
	}
	return tx.changed("hosted", "picture file", key, "")
}

// WithdrawPicture makes a hosted content unreachable.
func (tx *Tx) WithdrawPicture(key string) error {
	if err := tx.execOne("hosted picture", key, `DELETE FROM hosted_pictures WHERE key = ?`, key); err != nil {
		return err
	}
	return tx.changed("withdrawn", "picture file", key, "")
}

// HostedPicture returns a hosted content and since when it is hosted.
func (tx *Tx) HostedPicture(key string) ([]byte, time.Time, error) {
	var data []byte
	var created string
	err := tx.row(`SELECT c.data, h.created_at FROM hosted_pictures h JOIN picture_contents c ON c.sha256 = h.sha256 WHERE h.key = ?`,
		key).Scan(&data, &created)
	return data, parseStamp(created), missing("hosted picture", key, err)
}

// HostedKeys lists the keys of all hosted contents.
func (tx *Tx) HostedKeys() ([]string, error) {
	return list(tx, func(row scanner) (string, error) {
		var key string
		return key, row.Scan(&key)
	}, `SELECT key FROM hosted_pictures ORDER BY key`)
}

// AddressCheck is what asking an address brought last.
type AddressCheck struct {
	Address  string
	Template string // empty for an address that was asked by itself
	Report   string // JSON
	Asked    time.Time
}

// PutAddressCheck stores what asking an address brought. It is a measurement and no change of anybody's, so it leaves
// no line in the table of changes.
func (tx *Tx) PutAddressCheck(c AddressCheck) error {
	_, err := tx.exec(`INSERT OR REPLACE INTO address_checks (address, template, report, asked_at) VALUES (?, ?, ?, ?)`,
		c.Address, c.Template, c.Report, stamp(c.Asked))
	return err
}

// AddressChecks lists what asking brought, the newest first.
func (tx *Tx) AddressChecks() ([]AddressCheck, error) {
	return list(tx, func(row scanner) (AddressCheck, error) {
		var c AddressCheck
		var asked string
		err := row.Scan(&c.Address, &c.Template, &c.Report, &asked)
		c.Asked = parseStamp(asked)
		return c, err
	}, `SELECT address, template, report, asked_at FROM address_checks ORDER BY asked_at DESC, address LIMIT 1000`)
}
