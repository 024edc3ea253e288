package store

import (
	"database/sql"
	"errors"
	"strconv"
	"time"

	"missivum/core/problem"
)

// RulesVersion is a version of the mail rules. A version never changes.
type RulesVersion struct {
	Number   int       `json:"number"`
	Document string    `json:"document"` // YAML or JSON as it was written
	Note     string    `json:"note"`
	Author   string    `json:"author"`
	Created  time.Time `json:"created"`
}

const rulesColumns = `number, document, note, author, created`

func scanRules(row scanner) (v RulesVersion, err error) {
	var created string
	err = row.Scan(&v.Number, &v.Document, &v.Note, &v.Author, &created)
	v.Created = parseStamp(created)
	return v, err
}

// MailRules reads a version of the mail rules; number 0 is the latest. The number is 0 where there are none yet. A version that is not
// there is a problem of the kind NotFound.
func (tx *Tx) MailRules(number int) (RulesVersion, error) {
	v, err := scanRules(tx.row(`SELECT `+rulesColumns+` FROM mail_rules WHERE number = ? OR ? = 0 ORDER BY number DESC LIMIT 1`,
		number, number))
	if errors.Is(err, sql.ErrNoRows) {
		if number == 0 {
			return RulesVersion{}, nil
		}
		return v, problem.New(problem.NotFound, "There is no version %d of the mail rules.", number)
	}
	return v, err
}

// MailRulesVersions lists the versions without their documents, the latest first.
func (tx *Tx) MailRulesVersions() ([]RulesVersion, error) {
	return list(tx, scanRules, `SELECT number, '', note, author, created FROM mail_rules ORDER BY number DESC LIMIT 500`)
}

// SaveMailRules stores a version behind the latest.
func (tx *Tx) SaveMailRules(document, note string) (RulesVersion, error) {
	latest, err := tx.MailRules(0)
	if err != nil {
		return latest, err
	}
	v := RulesVersion{Number: latest.Number + 1, Document: document, Note: note, Author: tx.by.Name, Created: tx.at}
	if _, err := tx.exec(`INSERT INTO mail_rules (`+rulesColumns+`) VALUES (?, ?, ?, ?, ?)`, v.Number, v.Document, v.Note, v.Author,
		stamp(tx.at)); err != nil {
		return v, err
	}
	return v, tx.changedTo(document, "saved", "mail rules", "rules", "version "+strconv.Itoa(v.Number)+": "+note)
}
