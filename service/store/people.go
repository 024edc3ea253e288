package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"missivum/core/person"
)

// Person is a person of the directory as it is kept.
type Person struct {
	ID       int64
	Mail     string
	Values   []string // what counts of all sources, in the order of the directory's fields
	Groups   []string
	Matched  string // the value by which records of several sources are one person, folded
	Revision int    // of the directory when the person changed last
	Came     time.Time
	Left     time.Time // zero for who is there
}

// Fields lists the directory's fields in the order of the values, with the revision, which grows with every change.
func (tx *Tx) Fields() (fields []string, revision int, err error) {
	var text string
	err = tx.row(`SELECT fields, revision FROM directory WHERE id = 1`).Scan(&text, &revision)
	if errors.Is(err, sql.ErrNoRows) {
		return []string{"mail"}, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	if err := json.Unmarshal([]byte(text), &fields); err != nil {
		return nil, 0, fmt.Errorf("reading the directory's fields: %w", err)
	}
	return fields, revision, nil
}

// PutFields stores the directory's fields, which are only added to, and its next revision.
func (tx *Tx) PutFields(fields []string, revision int) error {
	text, err := json.Marshal(fields)
	if err != nil {
		return err
	}
	_, err = tx.exec(`INSERT INTO directory (id, fields, revision) VALUES (1, ?, ?)
		ON CONFLICT (id) DO UPDATE SET fields = excluded.fields, revision = excluded.revision`, text, revision)
	return err
}

// Revision returns the directory's revision; 0 while there is none.
func (tx *Tx) Revision() (int, error) {
	var revision int
	err := tx.row(`SELECT revision FROM directory WHERE id = 1`).Scan(&revision)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return revision, err
}

// personColumns are what scanPerson reads.
const personColumns = `id, mail, vals, groups, matched, revision, came_at, left_at`

// scanPerson reads a row of people.
func scanPerson(row scanner) (Person, error) {
	var p Person
	var values, groups []byte
	var came, left string
	if err := row.Scan(&p.ID, &p.Mail, &values, &groups, &p.Matched, &p.Revision, &came, &left); err != nil {
		return p, err
	}
	p.Came, p.Left = parseStamp(came), parseStamp(left)
	if len(groups) > 2 { // more than []
		if err := json.Unmarshal(groups, &p.Groups); err != nil {
			return p, err
		}
	}
	return p, json.Unmarshal(values, &p.Values)
}

// EachPerson reads all who are there, in the order in which they came.
func (tx *Tx) EachPerson(each func(Person)) error {
	return tx.eachPerson(each, `SELECT `+personColumns+` FROM people WHERE left_at = '' ORDER BY id`)
}

// EachChanged reads those who changed, came or left since a revision, in the order in which they came.
func (tx *Tx) EachChanged(revision int, each func(Person)) error {
	return tx.eachPerson(each, `SELECT `+personColumns+` FROM people WHERE revision > ? ORDER BY id`, revision)
}

// eachPerson reads people one by one.
func (tx *Tx) eachPerson(each func(Person), query string, args ...any) error {
	rows, err := tx.tx.QueryContext(tx.ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		p, err := scanPerson(rows)
		if err != nil {
			return err
		}
		each(p)
	}
	return rows.Err()
}

// PersonByMail reads the person with a mail address, compared without letter case; one who is there before one who
// left.
func (tx *Tx) PersonByMail(mail string) (Person, error) {
	p, err := scanPerson(tx.row(`SELECT `+personColumns+` FROM people WHERE mail = ? ORDER BY left_at = '' DESC, id LIMIT 1`, mail))
	return p, missing("person with the mail address", mail, err)
}

// PersonByID reads a person.
func (tx *Tx) PersonByID(id int64) (Person, error) {
	p, err := scanPerson(tx.preparedRow(`SELECT `+personColumns+` FROM people WHERE id = ?`, id))
	return p, missing("person", fmt.Sprint(id), err)
}

// MatchedPerson gives the id of the person with a value by which records are matched; 0 for nobody. Who is there comes
// before who left.
func (tx *Tx) MatchedPerson(value string) (id int64, err error) {
	err = tx.preparedRow(`SELECT id FROM people WHERE matched = ? ORDER BY left_at = '' DESC, id LIMIT 1`, value).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return id, err
}

// SameMail lists the addresses that several people have who are there, of those who changed in a revision.
func (tx *Tx) SameMail(revision int) ([]string, error) {
	return list(tx, func(row scanner) (mail string, err error) { return mail, row.Scan(&mail) },
		`SELECT p.mail FROM people p WHERE p.revision = ? AND +p.left_at = '' AND +p.mail <> ''
		AND EXISTS (SELECT 1 FROM people q WHERE q.mail = p.mail AND q.id <> p.id AND +q.left_at = '') LIMIT 5`, revision)
}

// PutPerson stores a person; one without an id is new and gets one. fields are the directory's.
func (tx *Tx) PutPerson(p Person, fields []string) (int64, error) {
	values, err := json.Marshal(p.Values)
	if err != nil {
		return 0, err
	}
	if p.Groups == nil {
		p.Groups = []string{}
	}
	groups, err := json.Marshal(p.Groups)
	if err != nil {
		return 0, err
	}
	blank := " "
	for i, field := range fields {
		if i >= len(p.Values) || person.IsBlank(p.Values[i]) {
			blank += field + " "
		}
	}
	folded := strings.ToLower(strings.Join(p.Values, "\n"))
	if p.ID == 0 {
		result, err := tx.prepared(`INSERT INTO people (mail, vals, groups, matched, folded, blank, revision, came_at, left_at)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, p.Mail, values, groups, p.Matched, folded, blank, p.Revision, stamp(p.Came), stamp(p.Left))
		if err != nil {
			return 0, err
		}
		return result.LastInsertId()
	}
	_, err = tx.prepared(`UPDATE people SET mail = ?, vals = ?, groups = ?, matched = ?, folded = ?, blank = ?, revision = ?, came_at = ?,
		left_at = ? WHERE id = ?`, p.Mail, values, groups, p.Matched, folded, blank, p.Revision, stamp(p.Came), stamp(p.Left), p.ID)
	return p.ID, err
}

// RemovePerson removes a person with all their records.
func (tx *Tx) RemovePerson(id int64) error {
	for _, query := range []string{`DELETE FROM person_records WHERE person_id = ?`, `DELETE FROM people WHERE id = ?`} {
		if _, err := tx.exec(query, id); err != nil {
			return err
		}
	}
	return nil
}

// LeftBefore lists the ids of people who left before a time.
func (tx *Tx) LeftBefore(t time.Time) ([]int64, error) {
	return list(tx, func(row scanner) (id int64, err error) { return id, row.Scan(&id) },
		`SELECT id FROM people WHERE left_at <> '' AND left_at < ? ORDER BY id`, stamp(t))
}

// PeopleFilter says which people are listed.
type PeopleFilter struct {
	Search string  // in their values, letter case aside
	Blank  string  // a field that is blank
	Left   bool    // those who left, instead of those who are there
	Source string  // those whom the source has
	IDs    []int64 // only these; nil for all
}

// where is the filter as a condition.
func (f PeopleFilter) where() (string, []any) {
	where, args := []string{`left_at = ''`}, []any(nil)
	if f.Left {
		where[0] = `left_at <> ''`
	}
	if text := strings.ToLower(strings.TrimSpace(f.Search)); text != "" {
		where, args = append(where, `instr(folded, ?) > 0`), append(args, text)
	}
	if f.Blank != "" {
		where, args = append(where, `instr(blank, ?) > 0`), append(args, " "+f.Blank+" ")
	}
	if f.Source != "" {
		where = append(where, `id IN (SELECT person_id FROM person_records WHERE gone_at = '' AND source_id = `+
			`(SELECT id FROM sources WHERE name = ?))`)
		args = append(args, f.Source)
	}
	if f.IDs != nil {
		where, args = append(where, `id IN (SELECT value FROM json_each(?))`), append(args, listed(f.IDs))
	}
	return strings.Join(where, " AND "), args
}

// listed is numbers as JSON.
func listed(ids []int64) string {
	text, err := json.Marshal(ids)
	if err != nil || ids == nil {
		return "[]"
	}
	return string(text)
}

// People lists a part of the people that a filter lets through, in the order in which they came, and counts all of them.
func (tx *Tx) People(f PeopleFilter, offset, limit int) (people []Person, total int, err error) {
	where, args := f.where()
	if f.Search != "" || f.Blank != "" { // looking through everybody is what takes time: it is done once
		ids, err := list(tx, func(row scanner) (id int64, err error) { return id, row.Scan(&id) },
			`SELECT id FROM people WHERE `+where+` ORDER BY id`,
			args...)
		if err != nil {
			return nil, 0, err
		}
		from := min(offset, len(ids))
		page := ids[from:min(from+limit, len(ids))]
		if people, err = list(tx, scanPerson, `SELECT `+personColumns+` FROM people WHERE id IN (SELECT value FROM json_each(?)) ORDER BY id`,
			listed(page)); err != nil {
			return nil, 0, err
		}
		return people, len(ids), nil
	}
	if err := tx.row(`SELECT COUNT(*) FROM people WHERE `+where, args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	people, err = list(tx, scanPerson, `SELECT `+personColumns+` FROM people WHERE `+where+` ORDER BY id LIMIT ? OFFSET ?`,
		append(args, limit, offset)...)
	return people, total, err
}

// CountPeople counts those who are there, and those who left and are still kept.
func (tx *Tx) CountPeople() (there, left int, err error) {
	err = tx.row(`SELECT (SELECT COUNT(*) FROM people WHERE left_at = ''), (SELECT COUNT(*) FROM people WHERE `+
		`left_at > '')`).Scan(&there, &left)
	return there, left, err
}

// PersonIDs lists the ids of all people who are kept.
func (tx *Tx) PersonIDs() ([]int64, error) {
	return list(tx, func(row scanner) (id int64, err error) { return id, row.Scan(&id) }, `SELECT id FROM people ORDER BY id`)
}

// TakeBack removes a person as if they had never been there; whoever keeps the directory in memory finds out by the
// revision.
func (tx *Tx) TakeBack(id int64, revision int) error {
	if _, err := tx.exec(`INSERT OR REPLACE INTO people_taken_back (id, revision) VALUES (?, ?)`, id, revision); err != nil {
		return err
	}
	return tx.RemovePerson(id)
}

// TakenBack lists the ids of people who were removed since a revision.
func (tx *Tx) TakenBack(revision int) ([]int64, error) {
	return list(tx, func(row scanner) (id int64, err error) { return id, row.Scan(&id) },
		`SELECT id FROM people_taken_back WHERE revision > ?`, revision)
}
