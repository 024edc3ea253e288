package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"missivum/core/problem"
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
	Author   string // name of the principal who saved it
	Created  time.Time
	Pictures map[string][]byte // by file; only where they were asked for
}

// SaveTemplate stores a new version and returns it with its number, author and time. base is the number of the
// version that the change was made from; 0 for a new template. With another latest version it is a conflict. A
// negative base saves whatever the latest is.
func (tx *Tx) SaveTemplate(v TemplateVersion, base int) (TemplateVersion, error) {
	id, latest, err := tx.latestVersion(v.Template)
	if errors.Is(err, sql.ErrNoRows) {
		id, err = tx.insert(`INSERT INTO templates (name, created_at) VALUES (?, ?)`, v.Template, stamp(tx.at))
	}
	if err != nil {
		return v, err
	}
	if base >= 0 && base != latest {
		return v, problem.New(problem.Conflict,
			"The template %s was changed meanwhile: version %d is the latest. Load it anew; nothing was saved.", v.Template, latest)
	}
	v.Number, v.Author, v.Created = latest+1, tx.by.Name, tx.at
	texts, err := json.Marshal(v.Texts)
	if err != nil {
		return v, err
	}
	version, err := tx.insert(`INSERT INTO template_versions (template_id, number, content, source, settings, texts, note, author, created_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, id, v.Number, v.Content, v.Source, v.Settings, string(texts), v.Note, v.Author, stamp(tx.at))
	if err != nil {
		return v, err
	}
	for file, data := range v.Pictures {
		hash, err := tx.saveContent(data)
		if err != nil {
			return v, err
		}
		if _, err := tx.exec(`INSERT INTO version_pictures (version_id, file, sha256) VALUES (?, ?, ?)`, version, file, hash); err != nil {
			return v, err
		}
	}
	return v, tx.changedTo(v.Content, "saved", "template", v.Template, "version "+strconv.Itoa(v.Number)+": "+v.Note)
}

// insert adds a row and gives its id.
func (tx *Tx) insert(query string, args ...any) (int64, error) {
	result, err := tx.exec(query, args...)
	if err != nil {
		return 0, err
	}
	return result.LastInsertId()
}

// latestVersion finds the version that a save follows.
func (tx *Tx) latestVersion(name string) (id int64, number int, err error) {
	err = tx.row(`SELECT t.id, COALESCE(MAX(v.number), 0) FROM templates t
		LEFT JOIN template_versions v ON v.template_id = t.id WHERE t.name = ? GROUP BY t.id`, name).Scan(&id, &number)
	return id, number, err
}

const versionColumns = `t.name, v.number, v.content, v.source, v.settings, v.texts, v.note, v.author, v.created_at`

// scanVersion reads a row of versions, without its parts.
func scanVersion(row scanner) (TemplateVersion, error) {
	var v TemplateVersion
	var created, texts string
	err := row.Scan(&v.Template, &v.Number, &v.Content, &v.Source, &v.Settings, &texts, &v.Note, &v.Author, &created)
	if err != nil {
		return v, err
	}
	v.Created = parseStamp(created)
	return v, json.Unmarshal([]byte(texts), &v.Texts)
}

// Template returns a version of a template with its pictures; number 0 is the latest.
func (tx *Tx) Template(name string, number int) (TemplateVersion, error) {
	v, err := scanVersion(tx.row(`SELECT `+versionColumns+` FROM template_versions v JOIN templates t ON t.id = v.template_id
		WHERE t.name = ? AND (? = 0 OR v.number = ?) ORDER BY v.number DESC LIMIT 1`, name, number, number))
	if err != nil {
		return v, missingVersion(name, number, err)
	}
	type file struct {
		name string
		data []byte
	}
	files, err := list(tx, func(row scanner) (file, error) {
		var f file
		return f, row.Scan(&f.name, &f.data)
	}, `SELECT p.file, c.data FROM version_pictures p JOIN picture_contents c ON c.sha256 = p.sha256
		JOIN template_versions v ON v.id = p.version_id JOIN templates t ON t.id = v.template_id WHERE t.name = ? AND v.number = ?`,
		name, v.Number)
	v.Pictures = map[string][]byte{}
	for _, f := range files {
		v.Pictures[f.name] = f.data
	}
	return v, err
}

// missingVersion says that a template, or its version, is not there.
func missingVersion(name string, number int, err error) error {
	if number > 0 && errors.Is(err, sql.ErrNoRows) {
		return problem.New(problem.NotFound, "There is no version %d of a template %q.", number, name)
	}
	return missing("template", name, err)
}

// TemplateNames lists the templates by name.
func (tx *Tx) TemplateNames() ([]string, error) {
	return list(tx, func(row scanner) (string, error) {
		var name string
		return name, row.Scan(&name)
	}, `SELECT name FROM templates ORDER BY name`)
}

// LatestVersions lists the latest version of every template by name, without pictures.
func (tx *Tx) LatestVersions() ([]TemplateVersion, error) {
	return list(tx, scanVersion, `SELECT `+versionColumns+` FROM template_versions v JOIN templates t ON t.id = v.template_id
		WHERE v.number = (SELECT MAX(number) FROM template_versions WHERE template_id = t.id) ORDER BY t.name`)
}

// TemplateVersions lists a template's versions, newest first, without source and pictures.
func (tx *Tx) TemplateVersions(name string) ([]TemplateVersion, error) {
	all, err := list(tx, scanVersion,
		`SELECT t.name, v.number, v.content, '', '', '{}', v.note, v.author, v.created_at FROM template_versions v
		JOIN templates t ON t.id = v.template_id WHERE t.name = ? ORDER BY v.number DESC`, name)
	if err == nil && len(all) == 0 {
		err = problem.Missing("template", name)
	}
	return all, err
}
