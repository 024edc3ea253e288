package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"missivum/core/problem"
	"missivum/core/rule"
)

// MessageRecord is what a gateway did with a message.
type MessageRecord struct {
	ID      int64  `json:"id"`
	Gateway string `json:"gateway"`
	rule.Record
}

// AddMessages keeps records of a gateway; those that are kept already are left out.
func (tx *Tx) AddMessages(name string, records []rule.Record) error {
	tx.aside = true
	for _, r := range records {
		steps, err := json.Marshal(r.Steps)
		if err != nil {
			return err
		}
		if _, err := tx.prepared(`INSERT OR IGNORE INTO mail_steps (steps) VALUES (?)`, string(steps)); err != nil {
			return err
		}
		result, err := tx.prepared(`INSERT OR IGNORE INTO mail_records (key, time, gateway, way, message_id, queue, sender, `+
			`outcome, failed, says, rule,
			size_before, size_after, place, unsure, bundle, release_id, took, steps_id)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, (SELECT id FROM mail_steps WHERE steps = ?))`,
			r.Key, stamp(r.Time), name, r.Way, bare(r.MessageID), r.Queue, r.Sender, r.Outcome, r.Failed, r.Says, r.Rule, r.Before, r.After,
			r.Place, r.Unsure, r.Bundle, r.Release, r.Took, string(steps))
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			if err != nil {
				return err
			}
			continue
		}
		id, err := result.LastInsertId()
		if err != nil {
			return err
		}
		for _, address := range r.Recipients {
			if _, err := tx.prepared(`INSERT OR IGNORE INTO mail_recipients (record_id, address) VALUES (?, ?)`, id, address); err != nil {
				return err
			}
		}
	}
	return nil
}

// bare is a Message-ID without its angle brackets.
func bare(id string) string {
	return strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(id), "<"), ">")
}

// MessageFilter is which records are wanted; blank parts let all through.
type MessageFilter struct {
	Find    string // a Message-ID, the mail server's name for a message, or an address: the beginning is enough
	Outcome string // also failed and unsure
	Rule    string // that applied
	Gateway string
	Since   time.Time
	Until   time.Time // exclusive
	Before  int64     // id of the record behind which the list goes on
}

// where is the filter as a condition.
func (f MessageFilter) where() (string, []any) {
	where, args := []string{"1"}, []any{}
	add := func(condition string, values ...any) { where, args = append(where, condition), append(args, values...) }
	if find := bare(f.Find); find != "" {
		end := find + "\U0010ffff"
		add(`r.id IN (SELECT id FROM mail_records WHERE message_id >= ? AND message_id < ?
			UNION SELECT id FROM mail_records WHERE queue >= ? AND queue < ?
			UNION SELECT id FROM mail_records WHERE sender >= ? AND sender < ?
			UNION SELECT record_id FROM mail_recipients WHERE address >= ? AND address < ?)`, find, end, find, end, find, end, find, end)
	}
	switch f.Outcome {
	case "":
	case "failed":
		add(`r.failed = 1`)
	case "unsure":
		add(`r.unsure = 1`)
	default:
		add(`r.outcome = ?`, f.Outcome)
	}
	if f.Rule != "" {
		add(`instr(',' || r.rule || ',', ?) > 0`, ","+f.Rule+",")
	}
	if f.Gateway != "" {
		add(`r.gateway = ?`, f.Gateway)
	}
	if !f.Since.IsZero() {
		add(`r.time >= ?`, stamp(f.Since))
	}
	if !f.Until.IsZero() {
		add(`r.time < ?`, stamp(f.Until))
	}
	return strings.Join(where, " AND "), args
}

// Messages lists records, the latest first.
func (tx *Tx) Messages(f MessageFilter, limit int) ([]MessageRecord, error) {
	where, args := f.where()
	if f.Before > 0 {
		where += ` AND (r.time, r.id) < (SELECT time, id FROM mail_records WHERE id = ?)`
		args = append(args, f.Before)
	}
	return list(tx, scanMessage, `SELECT `+messageColumns+` WHERE `+where+` ORDER BY r.time DESC, r.id DESC LIMIT ?`,
		append(args, limit)...)
}

// Message reads a record.
func (tx *Tx) Message(id int64) (MessageRecord, error) {
	m, err := scanMessage(tx.row(`SELECT `+messageColumns+` WHERE r.id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		return m, problem.New(problem.NotFound, "There is no record %d, or it is no longer kept.", id)
	}
	return m, err
}

// messageColumns is what scanMessage reads, and where it stands.
const messageColumns = `r.id, r.key, r.time, r.gateway, r.way, r.message_id, r.queue, r.sender, r.outcome, r.failed, r.says, r.rule,
	r.size_before, r.size_after, r.place, r.unsure, r.bundle, r.release_id, r.took, s.steps,
	(SELECT json_group_array(address) FROM mail_recipients WHERE record_id = r.id)
	FROM mail_records r JOIN mail_steps s ON s.id = r.steps_id`

func scanMessage(row scanner) (m MessageRecord, err error) {
	var when, steps, recipients string
	if err = row.Scan(&m.ID, &m.Key, &when, &m.Gateway, &m.Way, &m.MessageID, &m.Queue, &m.Sender, &m.Outcome, &m.Failed, &m.Says, &m.Rule,
		&m.Before, &m.After, &m.Place, &m.Unsure, &m.Bundle, &m.Release, &m.Took, &steps, &recipients); err != nil {
		return m, err
	}
	m.Time = parseStamp(when)
	return m, errors.Join(json.Unmarshal([]byte(steps), &m.Steps), json.Unmarshal([]byte(recipients), &m.Recipients))
}

// MessageCounts is how many records a filter lets through.
type MessageCounts struct {
	Total    int                  `json:"total"`
	Outcomes map[rule.Outcome]int `json:"outcomes"`
	Failed   int                  `json:"failed"`
	Unsure   int                  `json:"unsure"`
}

// CountMessages counts records.
func (tx *Tx) CountMessages(f MessageFilter) (c MessageCounts, err error) {
	where, args := f.where()
	type row struct {
		outcome           rule.Outcome
		n, failed, unsure int
	}
	rows, err := list(tx, func(s scanner) (r row, err error) { return r, s.Scan(&r.outcome, &r.n, &r.failed, &r.unsure) },
		`SELECT r.outcome, count(*), sum(r.failed), sum(r.unsure) FROM mail_records r WHERE `+where+` GROUP BY r.outcome`, args...)
	c.Outcomes = map[rule.Outcome]int{}
	for _, r := range rows {
		c.Outcomes[r.outcome] = r.n
		c.Total, c.Failed, c.Unsure = c.Total+r.n, c.Failed+r.failed, c.Unsure+r.unsure
	}
	return c, err
}

// DropMessages removes records that are older than a time, some at once so that nobody waits long; it says whether there are more.
func (tx *Tx) DropMessages(t time.Time) (more bool, err error) {
	const some = 2_000
	tx.aside = true
	result, err := tx.exec(`DELETE FROM mail_records WHERE id IN (SELECT id FROM mail_records WHERE time < ? ORDER BY time LIMIT ?)`,
		stamp(t), some)
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	if err != nil || n == some {
		return n == some, err
	}
	if _, err := tx.exec(`DELETE FROM gateways WHERE seen < ?`, stamp(t)); err != nil {
		return false, err
	}
	_, err = tx.exec(`DELETE FROM mail_steps WHERE id NOT IN (SELECT steps_id FROM mail_records)`)
	return false, err
}

// Gateway is a gateway as it reported last.
type Gateway struct {
	rule.GatewayReport
	Seen time.Time `json:"seen"`
}

// PutGateway keeps a gateway's report in the place of the one before, without its records.
func (tx *Tx) PutGateway(r rule.GatewayReport) error {
	tx.aside = true
	r.Records = nil
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	_, err = tx.exec(`INSERT INTO gateways (name, report, seen) VALUES (?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET report = excluded.report, seen = excluded.seen`, r.Gateway, string(text), stamp(tx.at))
	return err
}

// Gateways lists the gateways, the one that reported last first.
func (tx *Tx) Gateways() ([]Gateway, error) {
	return list(tx, func(row scanner) (g Gateway, err error) {
		var report, seen string
		if err := row.Scan(&report, &seen); err != nil {
			return g, err
		}
		g.Seen = parseStamp(seen)
		return g, json.Unmarshal([]byte(report), &g.GatewayReport)
	}, `SELECT report, seen FROM gateways ORDER BY seen DESC, name LIMIT 1000`)
}
