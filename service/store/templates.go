package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"
)

// TemplateVersion is one saved version of a template.
type TemplateVersion struct {
	Template string
	Number   int
	Content  string // template.Version
	Source   string
	Settings string
	Texts    map[string]string // by file
	Note     string
	Author   string
	Created  time.Time
	Pictures map[string][]byte // by file; only where they were asked for
}

// SaveTemplate stores a new version and returns its number. base is the number of the version that
// the change was made from; 0 for a new template. When the template has another latest version,
// nothing is stored and the error is ErrConflict. A negative base saves without asking.
func (s *Store) SaveTemplate(ctx context.Context, v TemplateVersion, base int) (int, error) {
	number := 0
	err := s.inTransaction(ctx, func(tx *sql.Tx) error {
		id, latest, err := latestVersion(ctx, tx, v.Template)
		if errors.Is(err, ErrNotFound) {
			res, err := tx.ExecContext(ctx, `INSERT INTO templates (name, created_at) VALUES (?, ?)`, v.Template, stamp(v.Created))
			if err != nil {
				return err
			}
			if id, err = res.LastInsertId(); err != nil {
				return err
			}
		} else if err != nil {
			return err
		}
		if base >= 0 && base != latest {
			return ErrConflict
		}
		number = latest + 1
		texts, err := json.Marshal(v.Texts)
		if err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, `INSERT INTO template_versions (template_id, number, content, source, settings, texts, note, author, created_at)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, id, number, v.Content, v.Source, v.Settings, string(texts), v.Note, v.Author, stamp(v.Created))
		if err != nil {
			return err
		}
		version, err := res.LastInsertId()
		if err != nil {
			return err
		}
		return savePictures(ctx, tx, version, v.Pictures)
	})
	return number, err
}

func latestVersion(ctx context.Context, tx *sql.Tx, name string) (id int64, number int, err error) {
	err = tx.QueryRowContext(ctx, `SELECT t.id, COALESCE(MAX(v.number), 0) FROM templates t
		LEFT JOIN template_versions v ON v.template_id = t.id WHERE t.name = ? GROUP BY t.id`, name).Scan(&id, &number)
	return id, number, orNotFound(err)
}

func savePictures(ctx context.Context, tx *sql.Tx, version int64, pictures map[string][]byte) error {
	for file, data := range pictures {
		hash, err := saveContent(ctx, tx, data)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO version_pictures (version_id, file, sha256) VALUES (?, ?, ?)`, version, file, hash); err != nil {
			return err
		}
	}
	return nil
}

const versionColumns = `t.name, v.number, v.content, v.source, v.settings, v.texts, v.note, v.author, v.created_at`

func scanVersion(row interface{ Scan(...any) error }) (TemplateVersion, error) {
	var v TemplateVersion
	var created, texts string
	err := row.Scan(&v.Template, &v.Number, &v.Content, &v.Source, &v.Settings, &texts, &v.Note, &v.Author, &created)
	if err != nil {
		return v, orNotFound(err)
	}
	v.Created = parseStamp(created)
	return v, json.Unmarshal([]byte(texts), &v.Texts)
}

// Template returns a version of a template with its pictures; number 0 is the latest.
func (s *Store) Template(ctx context.Context, name string, number int) (TemplateVersion, error) {
	v, err := scanVersion(s.db.QueryRowContext(ctx, `SELECT `+versionColumns+` FROM template_versions v JOIN templates t ON t.id = v.template_id
		WHERE t.name = ? AND (? = 0 OR v.number = ?) ORDER BY v.number DESC LIMIT 1`, name, number, number))
	if err != nil {
		return v, err
	}
	rows, err := s.db.QueryContext(ctx, `SELECT p.file, c.data FROM version_pictures p JOIN picture_contents c ON c.sha256 = p.sha256
		JOIN template_versions v ON v.id = p.version_id JOIN templates t ON t.id = v.template_id WHERE t.name = ? AND v.number = ?`, name, v.Number)
	if err != nil {
		return v, err
	}
	defer rows.Close()
	v.Pictures = map[string][]byte{}
	for rows.Next() {
		var file string
		var data []byte
		if err := rows.Scan(&file, &data); err != nil {
			return v, err
		}
		v.Pictures[file] = data
	}
	return v, rows.Err()
}

// TemplateNames lists the templates by name.
func (s *Store) TemplateNames(ctx context.Context) ([]string, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT name FROM templates ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var names []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return names, rows.Err()
}

// TemplateVersions lists a template's versions, newest first, without source and pictures.
func (s *Store) TemplateVersions(ctx context.Context, name string) ([]TemplateVersion, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT t.name, v.number, v.content, '', '', '{}', v.note, v.author, v.created_at FROM template_versions v
		JOIN templates t ON t.id = v.template_id WHERE t.name = ? ORDER BY v.number DESC`, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []TemplateVersion
	for rows.Next() {
		v, err := scanVersion(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, v)
	}
	if len(list) == 0 && rows.Err() == nil {
		return nil, ErrNotFound
	}
	return list, rows.Err()
}
