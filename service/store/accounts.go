package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"missivum/core/problem"
	"missivum/service/access"
)

// Account is a person who signs in.
type Account struct {
	ID         int64
	Name       string // with which the account signs in; large and small letters are the same
	Title      string // how it is shown
	Roles      []access.Role
	Password   string // argon2id in the PHC string format; blank for none
	Factor     string // secret of the second factor; blank for none
	FactorStep int64  // time step of the last code
	Subject    string // issuer and subject at the identity provider; blank for none
	Generation int64  // sessions of another generation have ended
	Created    time.Time
	SignedIn   time.Time // last; zero for never
}

const accountColumns = `id, name, title, roles, password, factor, factor_step, subject, generation, created_at, signed_in_at`

// scanAccount reads a row of accounts.
func scanAccount(row scanner) (Account, error) {
	var a Account
	var roles, created, signedIn string
	err := row.Scan(&a.ID, &a.Name, &a.Title, &roles, &a.Password, &a.Factor, &a.FactorStep, &a.Subject, &a.Generation, &created, &signedIn)
	if err != nil {
		return a, err
	}
	a.Created, a.SignedIn = parseStamp(created), parseStamp(signedIn)
	return a, json.Unmarshal([]byte(roles), &a.Roles)
}

// Accounts lists the accounts by name.
func (tx *Tx) Accounts() ([]Account, error) {
	return list(tx, scanAccount, `SELECT `+accountColumns+` FROM accounts ORDER BY name`)
}

// Account reads the account of a name.
func (tx *Tx) Account(name string) (Account, error) {
	a, err := scanAccount(tx.row(`SELECT `+accountColumns+` FROM accounts WHERE name = ?`, name))
	return a, missing("account", name, err)
}

// AccountOfSubject reads the account of a subject at the identity provider.
func (tx *Tx) AccountOfSubject(subject string) (Account, error) {
	a, err := scanAccount(tx.row(`SELECT `+accountColumns+` FROM accounts WHERE subject = ?`, subject))
	return a, missing("account", subject, err)
}

// AddAccount stores a new account.
func (tx *Tx) AddAccount(a Account) (Account, error) {
	roles, err := json.Marshal(a.Roles)
	if err != nil {
		return a, err
	}
	a.Created, a.Generation = tx.at, 1
	result, err := tx.exec(`INSERT INTO accounts (name, title, roles, password, factor, factor_step, subject, generation, created_at,
			signed_in_at)
		VALUES (?, ?, ?, ?, '', 0, ?, ?, ?, '') ON CONFLICT DO NOTHING`,
		a.Name, a.Title, string(roles), a.Password, a.Subject, a.Generation, stamp(a.Created))
	if err != nil {
		return a, err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return a, errors.Join(err, problem.New(problem.Conflict, "There is an account %q already.", a.Name).In("name"))
	}
	if a.ID, err = result.LastInsertId(); err != nil {
		return a, err
	}
	tx.accessChanged()
	return a, tx.changedTo(a.content(), "added", "account", a.Name, rolesText(a.Roles))
}

// content is what the record keeps the digest of: what the account may do and how it is shown, none of its secrets.
func (a Account) content() any {
	return []any{a.Name, a.Title, a.Roles, a.Subject, a.Password != "", a.Factor != ""}
}

func rolesText(roles []access.Role) string {
	var list []string
	for _, r := range roles {
		list = append(list, string(r))
	}
	return strings.Join(list, ", ")
}

// PutAccount stores a changed account; what says in words what was changed.
func (tx *Tx) PutAccount(a Account, action, what string) error {
	roles, err := json.Marshal(a.Roles)
	if err != nil {
		return err
	}
	err = tx.execOne("account", a.Name, `UPDATE accounts SET title = ?, roles = ?, password = ?, factor = ?, factor_step = ?, subject = ?,
		generation = ? WHERE id = ?`, a.Title, string(roles), a.Password, a.Factor, a.FactorStep, a.Subject, a.Generation, a.ID)
	if err != nil {
		return err
	}
	tx.accessChanged()
	return tx.changedTo(a.content(), action, "account", a.Name, what)
}

// RemoveAccount removes an account with its keys, links and recovery codes.
func (tx *Tx) RemoveAccount(name string) error {
	if err := tx.execOne("account", name, `DELETE FROM accounts WHERE name = ?`, name); err != nil {
		return err
	}
	tx.accessChanged()
	return tx.removed("account", name, "")
}

// AccountSignedIn stores that an account signed in and with which time step of its second factor, 0 for none. Of a step that
// was used, or an earlier one, it reports false: a code is taken once.
func (tx *Tx) AccountSignedIn(id, step int64) (bool, error) {
	result, err := tx.exec(`UPDATE accounts SET signed_in_at = ?1, factor_step = MAX(factor_step, ?2) WHERE id = ?3 `+
		`AND (?2 = 0 OR factor_step < ?2)`,
		stamp(tx.at), step, id)
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	return n > 0, err
}

// PutRecoveryCodes stores the digests of an account's recovery codes in the place of those before.
func (tx *Tx) PutRecoveryCodes(id int64, digests [][]byte) error {
	if _, err := tx.exec(`DELETE FROM recovery_codes WHERE account_id = ?`, id); err != nil {
		return err
	}
	for _, d := range digests {
		if _, err := tx.exec(`INSERT INTO recovery_codes (account_id, digest) VALUES (?, ?)`, id, d); err != nil {
			return err
		}
	}
	return nil
}

// UseRecoveryCode takes a recovery code away; false when the account has none of that digest.
func (tx *Tx) UseRecoveryCode(id int64, digest []byte) (bool, error) {
	result, err := tx.exec(`DELETE FROM recovery_codes WHERE account_id = ? AND digest = ?`, id, digest)
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	return n > 0, err
}

// RecoveryCodes is how many recovery codes an account has left.
func (tx *Tx) RecoveryCodes(id int64) (n int, err error) {
	err = tx.row(`SELECT COUNT(*) FROM recovery_codes WHERE account_id = ?`, id).Scan(&n)
	return n, err
}

// PutAccountLink stores the link with which an account's password is chosen, in the place of earlier ones.
func (tx *Tx) PutAccountLink(a Account, digest []byte, ends time.Time) error {
	if _, err := tx.exec(`DELETE FROM account_links WHERE account_id = ?`, a.ID); err != nil {
		return err
	}
	if _, err := tx.exec(`INSERT INTO account_links (digest, account_id, ends_at) VALUES (?, ?, ?)`, digest, a.ID, stamp(ends)); err != nil {
		return err
	}
	return tx.changed("invited", "account", a.Name, "until "+ends.UTC().Format(time.DateTime))
}

// AccountOfLink reads the account of a link that has not ended.
func (tx *Tx) AccountOfLink(digest []byte) (Account, error) {
	a, err := scanAccount(tx.row(`SELECT `+accountColumns+
		` FROM accounts WHERE id = (SELECT account_id FROM account_links WHERE digest = ? AND ends_at > ?)`,
		digest, stamp(tx.at)))
	return a, missing("link", "", err)
}

// DropAccountLinks removes the links of an account.
func (tx *Tx) DropAccountLinks(id int64) error {
	_, err := tx.exec(`DELETE FROM account_links WHERE account_id = ?`, id)
	return err
}

// Session reads the data of a session that has not ended; false when there is none.
func (tx *Tx) Session(token []byte) (data []byte, ends time.Time, found bool, err error) {
	var text string
	err = tx.row(`SELECT data, ends_at FROM sessions WHERE token = ? AND ends_at > ?`, token, stamp(tx.at)).Scan(&data, &text)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ends, false, nil
	}
	return data, parseStamp(text), err == nil, err
}

// PutSession stores a session. It is no change that the record has: signing in is.
func (tx *Tx) PutSession(token, data []byte, ends time.Time) error {
	tx.aside = true
	_, err := tx.exec(`INSERT OR REPLACE INTO sessions (token, data, ends_at) VALUES (?, ?, ?)`, token, data, stamp(ends))
	return err
}

// RemoveSession removes a session.
func (tx *Tx) RemoveSession(token []byte) error {
	tx.aside = true
	_, err := tx.exec(`DELETE FROM sessions WHERE token = ?`, token)
	return err
}

// DropEnded removes sessions and links that have ended.
func (tx *Tx) DropEnded() error {
	tx.aside = true
	_, err := tx.exec(`DELETE FROM sessions WHERE ends_at <= ?`, stamp(tx.at))
	if err != nil {
		return err
	}
	_, err = tx.exec(`DELETE FROM account_links WHERE ends_at <= ?`, stamp(tx.at))
	return err
}
