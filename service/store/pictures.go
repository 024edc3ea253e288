package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"time"
)

// PictureVersion is one version of a picture in the store.
type PictureVersion struct {
	Picture string
	Number  int
	SHA256  string
	Facts   string // JSON
	File    string // name of the file as it came
	Note    string
	Author  string
	Created time.Time
}

// Rendition is a file made of a picture's version.
type Rendition struct {
	Picture    string
	Number     int // of the version that it was made of
	SHA256     string
	Recipe     string // JSON
	Facts      string // JSON
	Difference float64
	Created    time.Time
}

// SavePicture stores a new version with its content and returns its number. A content that is the latest version
// already is not stored again.
func (s *Store) SavePicture(ctx context.Context, v PictureVersion, data []byte) (int, error) {
	number := 0
	err := s.inTransaction(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO pictures (name, created_at) VALUES (?, ?) ON CONFLICT DO NOTHING`, v.Picture, stamp(v.Created)); err != nil {
			return err
		}
		var id int64
		var latest string
		err := tx.QueryRowContext(ctx, `SELECT p.id, COALESCE(MAX(v.number), 0), COALESCE((SELECT sha256 FROM picture_versions WHERE picture_id = p.id ORDER BY number DESC LIMIT 1), '')
			FROM pictures p LEFT JOIN picture_versions v ON v.picture_id = p.id WHERE p.name = ? GROUP BY p.id`, v.Picture).Scan(&id, &number, &latest)
		if err != nil {
			return err
		}
		hash, err := saveContent(ctx, tx, data)
		if err != nil || hash == latest {
			return err
		}
		number++
		_, err = tx.ExecContext(ctx, `INSERT INTO picture_versions (picture_id, number, sha256, facts, file, note, author, created_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			id, number, hash, v.Facts, v.File, v.Note, v.Author, stamp(v.Created))
		return err
	})
	return number, err
}

// saveContent stores a picture's bytes once.
func saveContent(ctx context.Context, tx *sql.Tx, data []byte) (string, error) {
	sum := sha256.Sum256(data)
	hash := hex.EncodeToString(sum[:])
	_, err := tx.ExecContext(ctx, `INSERT INTO picture_contents (sha256, data) VALUES (?, ?) ON CONFLICT DO NOTHING`, hash, data)
	return hash, err
}

// PictureVersions lists the versions of a picture, newest first; of all pictures, by name, for an empty one.
func (s *Store) PictureVersions(ctx context.Context, name string) ([]PictureVersion, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT p.name, v.number, v.sha256, v.facts, v.file, v.note, v.author, v.created_at FROM picture_versions v
		JOIN pictures p ON p.id = v.picture_id WHERE ? IN ('', p.name) ORDER BY p.name, v.number DESC`, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []PictureVersion
	for rows.Next() {
		var v PictureVersion
		var created string
		if err := rows.Scan(&v.Picture, &v.Number, &v.SHA256, &v.Facts, &v.File, &v.Note, &v.Author, &created); err != nil {
			return nil, err
		}
		v.Created = parseStamp(created)
		list = append(list, v)
	}
	if len(list) == 0 && name != "" && rows.Err() == nil {
		return nil, ErrNotFound
	}
	return list, rows.Err()
}

// PictureContent returns the bytes of a content.
func (s *Store) PictureContent(ctx context.Context, hash string) ([]byte, error) {
	var data []byte
	err := s.db.QueryRowContext(ctx, `SELECT data FROM picture_contents WHERE sha256 = ?`, hash).Scan(&data)
	return data, orNotFound(err)
}

// PictureAlts returns a picture's alternative texts by language.
func (s *Store) PictureAlts(ctx context.Context, name string) (map[string]string, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT a.language, a.alt FROM picture_alts a JOIN pictures p ON p.id = a.picture_id WHERE p.name = ?`, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	alts := map[string]string{}
	for rows.Next() {
		var language, alt string
		if err := rows.Scan(&language, &alt); err != nil {
			return nil, err
		}
		alts[language] = alt
	}
	return alts, rows.Err()
}

// PutPictureAlts replaces a picture's alternative texts.
func (s *Store) PutPictureAlts(ctx context.Context, name string, alts map[string]string) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		var id int64
		if err := tx.QueryRowContext(ctx, `SELECT id FROM pictures WHERE name = ?`, name).Scan(&id); err != nil {
			return orNotFound(err)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM picture_alts WHERE picture_id = ?`, id); err != nil {
			return err
		}
		for language, alt := range alts {
			if _, err := tx.ExecContext(ctx, `INSERT INTO picture_alts (picture_id, language, alt) VALUES (?, ?, ?)`, id, language, alt); err != nil {
				return err
			}
		}
		return nil
	})
}

// PictureSlices returns how a picture is cut, as JSON; empty when it is not.
func (s *Store) PictureSlices(ctx context.Context, name string) (string, error) {
	var slices string
	err := s.db.QueryRowContext(ctx, `SELECT slices FROM pictures WHERE name = ?`, name).Scan(&slices)
	return slices, orNotFound(err)
}

// PutPictureSlices stores how a picture is cut.
func (s *Store) PutPictureSlices(ctx context.Context, name, slices string) error {
	res, err := s.db.ExecContext(ctx, `UPDATE pictures SET slices = ? WHERE name = ?`, slices, name)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return ErrNotFound
	}
	return nil
}

// SaveRendition stores a file that was made of a picture's version.
func (s *Store) SaveRendition(ctx context.Context, r Rendition, data []byte) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		hash, err := saveContent(ctx, tx, data)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO renditions (picture_id, number, sha256, recipe, facts, difference, created_at)
			SELECT id, ?, ?, ?, ?, ?, ? FROM pictures WHERE name = ?`, r.Number, hash, r.Recipe, r.Facts, r.Difference, stamp(r.Created), r.Picture)
		return err
	})
}

// Renditions lists what was made of a picture, newest first.
func (s *Store) Renditions(ctx context.Context, name string) ([]Rendition, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT p.name, r.number, r.sha256, r.recipe, r.facts, r.difference, r.created_at FROM renditions r
		JOIN pictures p ON p.id = r.picture_id WHERE p.name = ? ORDER BY r.created_at DESC, r.sha256`, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Rendition
	for rows.Next() {
		var r Rendition
		var created string
		if err := rows.Scan(&r.Picture, &r.Number, &r.SHA256, &r.Recipe, &r.Facts, &r.Difference, &created); err != nil {
			return nil, err
		}
		r.Created = parseStamp(created)
		list = append(list, r)
	}
	return list, rows.Err()
}

// HostPictures makes contents reachable by their keys for good. What is hosted already stays.
func (s *Store) HostPictures(ctx context.Context, contents map[string][]byte, at time.Time) error {
	return s.inTransaction(ctx, func(tx *sql.Tx) error {
		for key, data := range contents {
			hash, err := saveContent(ctx, tx, data)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO hosted_pictures (key, sha256, created_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING`, key, hash, stamp(at)); err != nil {
				return err
			}
		}
		return nil
	})
}

// HostedPicture returns a hosted content and since when it is hosted.
func (s *Store) HostedPicture(ctx context.Context, key string) ([]byte, time.Time, error) {
	var data []byte
	var created string
	err := s.db.QueryRowContext(ctx, `SELECT c.data, h.created_at FROM hosted_pictures h JOIN picture_contents c ON c.sha256 = h.sha256 WHERE h.key = ?`, key).Scan(&data, &created)
	return data, parseStamp(created), orNotFound(err)
}

// Setting returns a setting's value; empty for one that was not set.
func (s *Store) Setting(ctx context.Context, name string) (string, error) {
	var value string
	err := s.db.QueryRowContext(ctx, `SELECT value FROM settings WHERE name = ?`, name).Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return value, err
}

// PutSetting stores a setting.
func (s *Store) PutSetting(ctx context.Context, name, value string) error {
	_, err := s.db.ExecContext(ctx, `INSERT OR REPLACE INTO settings (name, value) VALUES (?, ?)`, name, value)
	return err
}

// AddressCheck is what asking an address brought last.
type AddressCheck struct {
	Address  string
	Template string // empty for an address that was asked by itself
	Report   string // JSON
	Asked    time.Time
}

// PutAddressCheck stores what asking an address brought.
func (s *Store) PutAddressCheck(ctx context.Context, c AddressCheck) error {
	_, err := s.db.ExecContext(ctx, `INSERT OR REPLACE INTO address_checks (address, template, report, asked_at) VALUES (?, ?, ?, ?)`, c.Address, c.Template, c.Report, stamp(c.Asked))
	return err
}

// AddressChecks lists what asking brought, the newest first.
func (s *Store) AddressChecks(ctx context.Context) ([]AddressCheck, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT address, template, report, asked_at FROM address_checks ORDER BY asked_at DESC, address LIMIT 1000`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []AddressCheck
	for rows.Next() {
		var c AddressCheck
		var asked string
		if err := rows.Scan(&c.Address, &c.Template, &c.Report, &asked); err != nil {
			return nil, err
		}
		c.Asked = parseStamp(asked)
		list = append(list, c)
	}
	return list, rows.Err()
}
