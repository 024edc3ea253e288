package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
)

// Entry is one entry of the record: who did what to which thing, from where. Entries are only ever added, and pruned from
// the oldest on. Each holds a link, which is a digest of the entry and of the link before it, so that an entry that was
// changed or taken out is noticed by CheckRecord.
type Entry struct {
	ID     int64
	At     time.Time
	By     access.Principal
	Where  string // address that it came from; blank for this machine
	Action string // saved, removed, ...
	Object string // kind of thing: template, picture, ...
	Name   string
	Detail string
	Before string // SHA-256 of what the thing held before, in hexadecimal; blank where there was nothing or it holds nothing
	After  string
	Link   []byte
}

// linkOf is the link of an entry behind another: the SHA-256 of the link before it followed by the entry as a JSON list of
// texts.
func (e Entry) linkOf(before []byte) []byte {
	text, err := json.Marshal([]string{strconv.FormatInt(e.ID, 10), stamp(e.At), string(e.By.Kind), e.By.Name, e.Where, e.Action, e.Object,
		e.Name, e.Detail, e.Before, e.After})
	if err != nil {
		panic(err) // texts can always be written
	}
	sum := sha256.Sum256(append(bytes.Clone(before), text...))
	return sum[:]
}

// changed adds an entry for a change after which the thing holds the same as before, or nothing that has a digest.
func (tx *Tx) changed(action, object, name, detail string) error {
	return tx.enter(Entry{Action: action, Object: object, Name: name, Detail: detail})
}

// changedTo adds an entry for a change after which a thing holds something: bytes, a text, or a value that is written as JSON.
func (tx *Tx) changedTo(content any, action, object, name, detail string) error {
	e := Entry{Action: action, Object: object, Name: name, Detail: detail}
	data, err := contentBytes(content)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(data)
	e.After = hex.EncodeToString(sum[:])
	if e.Before, err = tx.digestOf(object, name); err != nil {
		return err
	}
	if e.Before != e.After {
		if err := tx.fast(putState, object, name, e.After); err != nil {
			return err
		}
		tx.hold(object, name, e.After)
	}
	return tx.enter(e)
}

// digestOf is the digest of what a thing holds now; blank for nothing.
func (tx *Tx) digestOf(object, name string) (digest string, err error) {
	key := [2]string{object, name}
	if digest, ok := tx.held[key]; ok {
		return digest, nil
	}
	if digest, ok := tx.store.states[key]; ok {
		return digest, nil
	}
	err = tx.row(`SELECT digest FROM record_states WHERE object = ? AND name = ?`, object, name).Scan(&digest)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return digest, err
}

// hold remembers a digest until the unit of work is stored.
func (tx *Tx) hold(object, name, digest string) {
	if tx.held == nil {
		tx.held = map[[2]string]string{}
	}
	tx.held[[2]string{object, name}] = digest
}

func contentBytes(content any) ([]byte, error) {
	switch c := content.(type) {
	case []byte:
		return c, nil
	case string:
		return []byte(c), nil
	}
	return json.Marshal(content)
}

// removed adds an entry for a thing that is no more.
func (tx *Tx) removed(object, name, detail string) error {
	e := Entry{Action: "removed", Object: object, Name: name, Detail: detail}
	var err error
	if e.Before, err = tx.digestOf(object, name); err != nil {
		return err
	}
	if _, err := tx.exec(`DELETE FROM record_states WHERE object = ? AND name = ?`, object, name); err != nil {
		return err
	}
	tx.hold(object, name, "")
	return tx.enter(e)
}

// enter adds an entry behind the last.
func (tx *Tx) enter(e Entry) error {
	if !tx.head.known {
		last, link, err := tx.RecordHead()
		if err != nil {
			return err
		}
		tx.head = recordHead{last, link, true}
	}
	e.ID, e.At, e.By, e.Where = tx.head.last+1, tx.at, tx.by, access.Where(tx.ctx)
	e.Link = e.linkOf(tx.head.link)
	tx.head = recordHead{e.ID, e.Link, true}
	return tx.fast(addEntry, e.ID, stamp(e.At), e.By.Kind, e.By.Name, e.Where, e.Action, e.Object, e.Name, e.Detail, e.Before, e.After, e.Link)
}

// The statements that every change runs.
const (
	putState = `INSERT OR REPLACE INTO record_states (object, name, digest) VALUES (?, ?, ?)`
	addEntry = `INSERT INTO record (` + entryColumns + `) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`
)

// fast runs a statement that was prepared once for all units of work.
func (tx *Tx) fast(query string, args ...any) error {
	s := tx.store
	statement := s.prepared[query]
	if statement == nil {
		var err error
		if statement, err = tx.tx.PrepareContext(tx.ctx, query); err != nil {
			return err
		}
		defer statement.Close()
	} else {
		statement = tx.tx.StmtContext(tx.ctx, statement)
	}
	_, err := statement.ExecContext(tx.ctx, args...)
	return err
}

// recordHead is the last entry of the record.
type recordHead struct {
	last  int64
	link  []byte
	known bool
}

// mostStates is how many digests are remembered.
const mostStates = 10_000

// rememberRecord remembers what a unit of work that is stored left. Writes go one after the other, and no other program writes
// while the data folder is locked.
func (s *Store) rememberRecord(tx *Tx) {
	s.head = tx.head
	if s.states == nil || len(s.states) > mostStates {
		s.states = map[[2]string]string{}
	}
	for key, digest := range tx.held {
		s.states[key] = digest
	}
}

// forgetRecord forgets what is remembered.
func (s *Store) forgetRecord() { s.head, s.states = recordHead{}, nil }

// RecordHead is the number and the link of the last entry. Whoever keeps the two elsewhere can show later that the record
// still holds that entry, and all before it, unchanged.
func (tx *Tx) RecordHead() (last int64, link []byte, err error) {
	err = tx.row(`SELECT id, link FROM record ORDER BY id DESC LIMIT 1`).Scan(&last, &link)
	if errors.Is(err, sql.ErrNoRows) {
		return tx.recordPruned()
	}
	return last, link, err
}

// recordPruned is the number and the link of the last entry that was pruned; zero when none was.
func (tx *Tx) recordPruned() (last int64, link []byte, err error) {
	err = tx.row(`SELECT last, link FROM record_pruned ORDER BY last DESC LIMIT 1`).Scan(&last, &link)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil, nil
	}
	return last, link, err
}

// RecordFilter says which entries are listed; what is blank lets every entry through.
type RecordFilter struct {
	Who    string // part of the name of who acted
	Object string // kind of thing
	Name   string // part of the thing's name
	Action string
	Since  time.Time
	Until  time.Time
}

const entryColumns = `id, at, actor_kind, actor, origin, action, object, name, detail, before, after, link`

// Entries lists entries, newest first. before is the number of the entry that the list goes on behind; 0 begins with the newest.
func (tx *Tx) Entries(f RecordFilter, before int64, limit int) ([]Entry, error) {
	until := stamp(f.Until)
	return list(tx, scanEntry, `SELECT `+entryColumns+` FROM record WHERE (?1 = 0 OR id < ?1) AND (?2 = '' OR instr(lower(actor), lower(?2)))
		AND (?3 = '' OR object = ?3) AND (?4 = '' OR instr(lower(name), lower(?4))) AND (?5 = '' OR action = ?5)
		AND at >= ?6 AND (?7 = '' OR at < ?7) ORDER BY id DESC LIMIT ?8`,
		before, f.Who, f.Object, f.Name, f.Action, stamp(f.Since), until, limit)
}

// RecordWords lists the kinds of things and the actions that the record has, to choose from.
func (tx *Tx) RecordWords() (objects, actions []string, err error) {
	if objects, err = list(tx, scanText, `SELECT DISTINCT object FROM record ORDER BY 1`); err != nil {
		return nil, nil, err
	}
	actions, err = list(tx, scanText, `SELECT DISTINCT action FROM record ORDER BY 1`)
	return objects, actions, err
}

// scanEntry reads a row of the record.
func scanEntry(row scanner) (Entry, error) {
	var e Entry
	var at string
	err := row.Scan(&e.ID, &at, &e.By.Kind, &e.By.Name, &e.Where, &e.Action, &e.Object, &e.Name, &e.Detail, &e.Before, &e.After, &e.Link)
	e.At = parseStamp(at)
	return e, err
}

// Checked is what CheckRecord found.
type Checked struct {
	Entries int64 // looked at
	Pruned  int64 // number of the last entry that was pruned; 0 when none was
	Last    int64
	Link    []byte // of the last
	Broken  int64  // number of the first entry that does not follow from the one before it; 0 when all do
}

// CheckRecord goes through the whole record and says whether each entry follows from the one before it. With the number and
// the link of an entry that were kept elsewhere it also says whether that entry is still the same: an error of the kind
// Refused says what is wrong.
func (tx *Tx) CheckRecord(number int64, link []byte) (Checked, error) {
	var c Checked
	var err error
	if c.Pruned, c.Link, err = tx.recordPruned(); err != nil {
		return c, err
	}
	c.Last = c.Pruned
	rows, err := tx.tx.QueryContext(tx.ctx, `SELECT `+entryColumns+` FROM record ORDER BY id`)
	if err != nil {
		return c, err
	}
	defer rows.Close()
	same := number == 0 || number == c.Pruned && bytes.Equal(link, c.Link)
	for rows.Next() {
		e, err := scanEntry(rows)
		if err != nil {
			return c, err
		}
		c.Entries++
		if e.ID != c.Last+1 || !bytes.Equal(e.Link, e.linkOf(c.Link)) {
			c.Broken = e.ID
			return c, problem.New(problem.Refused,
				"The record is not whole: entry %d does not follow from what stands before it. It, or an entry "+
					"before it, was changed or taken out.", e.ID)
		}
		c.Last, c.Link = e.ID, e.Link
		same = same || e.ID == number && bytes.Equal(link, e.Link)
	}
	if err := rows.Err(); err != nil {
		return c, err
	}
	switch {
	case number > 0 && number < c.Pruned:
		return c, problem.New(problem.Refused, "Entry %d was pruned; the record goes on from entry %d.", number, c.Pruned)
	case !same && number > c.Last:
		return c, problem.New(problem.Refused, "The record ends at entry %d; entry %d was taken out.", c.Last, number)
	case !same:
		return c, problem.New(problem.Refused, "Entry %d is not the one whose link was kept: the record was written anew.", number)
	}
	return c, nil
}

// PruneRecord removes the entries that are older than a time, but for the last. What stays goes on from the link of the last
// that was removed.
func (tx *Tx) PruneRecord(older time.Time) (pruned int64, err error) {
	var last int64
	err = tx.row(`SELECT COALESCE((SELECT MIN(id) FROM record WHERE at >= ?), (SELECT MAX(id) FROM record), 1) - 1`, stamp(older)).Scan(&last)
	if err != nil {
		return 0, err
	}
	before, _, err := tx.recordPruned()
	if err != nil || last <= before {
		return 0, err
	}
	if _, err := tx.exec(`INSERT INTO record_pruned (last, link, pruned_at) SELECT id, link, ? FROM record WHERE id = ?`,
		stamp(tx.at), last); err != nil {
		return 0, err
	}
	result, err := tx.exec(`DELETE FROM record WHERE id <= ?`, last)
	if err != nil {
		return 0, err
	}
	if pruned, err = result.RowsAffected(); err != nil {
		return 0, err
	}
	return pruned, tx.changed("pruned", "record", strconv.FormatInt(last, 10), fmt.Sprintf("%d entries", pruned))
}

// linkRecord gives the entries from before there was a chain their links: what they hold from then on is noticed.
func (s *Store) linkRecord(ctx context.Context) error {
	return s.Write(access.With(ctx, access.Itself("record")), func(tx *Tx) error {
		tx.aside = true
		entries, err := list(tx, scanEntry, `SELECT `+entryColumns+` FROM record WHERE link = x'' ORDER BY id`)
		if err != nil {
			return err
		}
		var link []byte // these are the oldest
		for i, e := range entries {
			number := e.ID
			e.ID = int64(i + 1)
			link = e.linkOf(link)
			if _, err := tx.prepared(`UPDATE record SET id = ?, link = ? WHERE id = ?`, e.ID, link, number); err != nil {
				return err
			}
		}
		return nil
	})
}
