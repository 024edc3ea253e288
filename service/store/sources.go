package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"missivum/core/problem"
	"missivum/core/source"
)

// Kept is the name of the source of what is only known here.
const Kept = "kept"

// Source is where people come from.
type Source struct {
	ID       int64
	Name     string
	Kind     string
	Position int    // where several sources have a value, that of the least position counts
	Settings string // JSON
	Mapping  string // as source.ReadMapping reads it; blank for none
	State    SourceState
	Created  time.Time
}

// content is what the record keeps the digest of.
func (s Source) content() string {
	return strings.Join([]string{s.Kind, strconv.Itoa(s.Position), s.Settings, s.Mapping}, "\n")
}

// SourceState is how a source that is asked on a schedule gets on.
type SourceState struct {
	Tried     time.Time `json:"tried"`
	Succeeded time.Time `json:"succeeded"`
	Next      time.Time `json:"next"`
	Failure   string    `json:"failure"`  // of the last try; blank when it succeeded
	Failures  int       `json:"failures"` // in a row
	Note      string    `json:"note"`
	Paused    bool      `json:"paused"` // it is not asked until it is resumed

	// What the next try begins with.
	Cookie string `json:"cookie"` // how far content synchronisation has come (RFC 4533)
	Groups string `json:"groups"` // digest of the groups
	Tag    string `json:"tag"`    // of the file that was read last
}

const sourceColumns = `id, name, kind, position, settings, mapping, state, created_at`

// scanSource reads a row of sources.
func scanSource(row scanner) (Source, error) {
	var s Source
	var state, created string
	if err := row.Scan(&s.ID, &s.Name, &s.Kind, &s.Position, &s.Settings, &s.Mapping, &state, &created); err != nil {
		return s, err
	}
	s.Created = parseStamp(created)
	return s, json.Unmarshal([]byte(state), &s.State)
}

// Sources lists all sources in the order in which their values count.
func (tx *Tx) Sources() ([]Source, error) {
	return list(tx, scanSource, `SELECT `+sourceColumns+` FROM sources ORDER BY position, id`)
}

// Source reads a source by its name.
func (tx *Tx) Source(name string) (Source, error) {
	s, err := scanSource(tx.row(`SELECT `+sourceColumns+` FROM sources WHERE name = ?`, name))
	return s, missing("source", name, err)
}

// PutSource stores a source; one without an id is new and gets one. Its state stays as it is.
func (tx *Tx) PutSource(s Source) (Source, error) {
	if s.ID == 0 {
		result, err := tx.exec(`INSERT INTO sources (name, kind, position, settings, mapping, state, created_at) VALUES (?, ?, ?, ?, ?, '{}', ?)
			ON CONFLICT DO NOTHING`, s.Name, s.Kind, s.Position, s.Settings, s.Mapping, stamp(tx.at))
		if err != nil {
			return s, err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return s, errors.Join(err, problem.New(problem.Conflict, "There is a source %q already.", s.Name).In("name"))
		}
		if s.ID, err = result.LastInsertId(); err != nil {
			return s, err
		}
		s.Created = tx.at
		if err := tx.keepMapping(s); err != nil {
			return s, err
		}
		return s, tx.changedTo(s.content(), "added", "source", s.Name, s.Kind)
	}
	err := tx.execOne("source", s.Name, `UPDATE sources SET position = ?, settings = ?, mapping = ? WHERE id = ?`,
		s.Position, s.Settings, s.Mapping, s.ID)
	if err != nil {
		return s, err
	}
	if err := tx.keepMapping(s); err != nil {
		return s, err
	}
	return s, tx.changedTo(s.content(), "changed", "source", s.Name, "")
}

// SourceMapping is a version of a source's mapping.
type SourceMapping struct {
	Number  int
	Mapping string
	Author  string
	Created time.Time
}

// keepMapping stores a source's mapping as its next version, unless it is the last one.
func (tx *Tx) keepMapping(s Source) error {
	list, err := tx.SourceMappings(s.ID)
	if err != nil || len(list) > 0 && list[0].Mapping == s.Mapping || len(list) == 0 && s.Mapping == "" {
		return err
	}
	number := 1
	if len(list) > 0 {
		number = list[0].Number + 1
	}
	_, err = tx.exec(`INSERT INTO source_mappings (source_id, number, mapping, author, created_at) VALUES (?, ?, ?, ?, ?)`,
		s.ID, number, s.Mapping, tx.by.Name, stamp(tx.at))
	return err
}

// SourceMappings lists the versions of a source's mapping, newest first.
func (tx *Tx) SourceMappings(source int64) ([]SourceMapping, error) {
	return list(tx, func(row scanner) (SourceMapping, error) {
		var m SourceMapping
		var created string
		err := row.Scan(&m.Number, &m.Mapping, &m.Author, &created)
		m.Created = parseStamp(created)
		return m, err
	}, `SELECT number, mapping, author, created_at FROM source_mappings WHERE source_id = ? ORDER BY number DESC`, source)
}

// PutSourceState stores how a source gets on. failed says whether that is put on record: when it begins to fail, and
// when it is well again.
func (tx *Tx) PutSourceState(s Source, failed string) error {
	state, err := json.Marshal(s.State)
	if err != nil {
		return err
	}
	if err := tx.execOne("source", s.Name, `UPDATE sources SET state = ? WHERE id = ?`, state, s.ID); err != nil {
		return err
	}
	if failed == "" {
		return nil
	}
	return tx.changed(failed, "source", s.Name, s.State.Failure)
}

// RemoveSource removes a source that has no records any more.
func (tx *Tx) RemoveSource(s Source) error {
	for _, query := range []string{`DELETE FROM run_changes WHERE run_id IN (SELECT id FROM runs WHERE source_id = ?)`,
		`DELETE FROM runs WHERE source_id = ?`, `DELETE FROM person_records WHERE source_id = ? AND gone_at <> ''`,
		`DELETE FROM source_mappings WHERE source_id = ?`, `DELETE FROM scim_members WHERE source_id = ?`,
		`DELETE FROM scim_resources WHERE source_id = ?`, `DELETE FROM keys WHERE source = (SELECT name FROM sources WHERE id = ?)`} {
		if _, err := tx.exec(query, s.ID); err != nil {
			return err
		}
	}
	if err := tx.execOne("source", s.Name, `DELETE FROM sources WHERE id = ?`, s.ID); err != nil {
		return err
	}
	return tx.removed("source", s.Name, "")
}

// Record is what a source knows of a person, as it is kept.
type Record struct {
	Source int64
	Key    string
	Person int64
	Record string // JSON of source.Record
	Gone   time.Time
}

// scanRecord reads a row of records.
func scanRecord(row scanner) (Record, error) {
	var r Record
	var gone string
	err := row.Scan(&r.Source, &r.Key, &r.Person, &r.Record, &gone)
	r.Gone = parseStamp(gone)
	return r, err
}

const recordColumns = `source_id, key, person_id, record, gone_at`

// KnownRecord is what a plan needs of a record to know whether anything changed.
type KnownRecord struct {
	Person int64
	Digest [source.DigestSize]byte // all zero where it is not known
	Gone   bool
	Seen   bool // for whoever compares
}

// KnownRecords reads the digests of all records of a source by their keys.
func (tx *Tx) KnownRecords(sourceID int64) (map[string]*KnownRecord, error) {
	rows, err := tx.tx.QueryContext(tx.ctx, `SELECT key, person_id, digest, gone_at <> '' FROM person_records WHERE source_id = ?`, sourceID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	known := map[string]*KnownRecord{}
	var part []KnownRecord // many at once: one for each would be many small pieces of memory
	for rows.Next() {
		var key string
		if len(part) == 0 {
			part = make([]KnownRecord, 1024)
		}
		k := &part[0]
		part = part[1:]
		var digest sql.RawBytes
		if err := rows.Scan(&key, &k.Person, &digest, &k.Gone); err != nil {
			return nil, err
		}
		copy(k.Digest[:], digest)
		known[key] = k
	}
	return known, rows.Err()
}

// Record reads a record by its key at the source; ok is false where there is none.
func (tx *Tx) Record(sourceID int64, key string) (r Record, ok bool, err error) {
	r, err = scanRecord(tx.preparedRow(`SELECT `+recordColumns+` FROM person_records WHERE source_id = ? AND key = ?`, sourceID, key))
	if errors.Is(err, sql.ErrNoRows) {
		return r, false, nil
	}
	return r, err == nil, err
}

// RecordsOf lists a person's records in the order of their sources.
func (tx *Tx) RecordsOf(personID int64) ([]Record, error) {
	return list(tx, scanRecord,
		`SELECT r.source_id, r.key, r.person_id, r.record, r.gone_at FROM person_records r JOIN sources s ON s.id = r.source_id
		WHERE r.person_id = ? ORDER BY s.position, s.id, r.key`, personID)
}

// CountRecords counts the people whom a source has.
func (tx *Tx) CountRecords(sourceID int64) (n int, err error) {
	err = tx.row(`SELECT COUNT(*) FROM person_records WHERE source_id = ? AND gone_at = ''`, sourceID).Scan(&n)
	return n, err
}

// Filled counts for how many people whom a source has it has a value in a field.
func (tx *Tx) Filled(sourceID int64, field string) (n int, err error) {
	path := fmt.Sprintf("$.values.%q", field)
	err = tx.row(`SELECT COUNT(*) FROM person_records WHERE source_id = ? AND gone_at = '' AND json_extract(record, ?) IS NOT NULL`,
		sourceID, path).Scan(&n)
	return n, err
}

// PutRecord stores a record.
func (tx *Tx) PutRecord(r Record, digest [source.DigestSize]byte) error {
	_, err := tx.prepared(`INSERT INTO person_records (source_id, key, person_id, record, digest, gone_at) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (source_id, key) DO UPDATE SET person_id = excluded.person_id, record = excluded.record, digest = excluded.digest,
		gone_at = excluded.gone_at`, r.Source, r.Key, r.Person, r.Record, digest[:], stamp(r.Gone))
	return err
}

// RemoveRecord removes a record.
func (tx *Tx) RemoveRecord(sourceID int64, key string) error {
	_, err := tx.exec(`DELETE FROM person_records WHERE source_id = ? AND key = ?`, sourceID, key)
	return err
}
