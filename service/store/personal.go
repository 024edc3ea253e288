package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"missivum/core/problem"
)

// PersonalLink is a link with which a person reaches the page of their own signature.
type PersonalLink struct {
	ID      int64
	Person  string // mail address, folded
	Device  []byte // SHA-256 of the secret of the device that opened it first; empty until then
	Created time.Time
	Ends    time.Time
	Opened  time.Time // zero until then
	Revoked time.Time // zero for not
}

const personalLinkColumns = `id, person, device, created_at, ends_at, opened_at, revoked_at`

func scanPersonalLink(row scanner) (l PersonalLink, err error) {
	var created, ends, opened, revoked string
	err = row.Scan(&l.ID, &l.Person, &l.Device, &created, &ends, &opened, &revoked)
	l.Created, l.Ends, l.Opened, l.Revoked = parseStamp(created), parseStamp(ends), parseStamp(opened), parseStamp(revoked)
	return l, err
}

// AddPersonalLink stores a link by the digest of its secret, and gives its id.
func (tx *Tx) AddPersonalLink(person string, digest []byte, ends time.Time) (int64, error) {
	result, err := tx.exec(`INSERT INTO personal_links (person, digest, device, created_at, ends_at, opened_at, revoked_at)
		VALUES (?, ?, x'', ?, ?, '', '')`, person, digest, stamp(tx.at), stamp(ends))
	if err != nil {
		return 0, err
	}
	id, err := result.LastInsertId()
	if err != nil {
		return 0, err
	}
	return id, tx.changed("added", "personal link", person, fmt.Sprintf("number %d, ends %s", id, ends.Format(time.DateOnly)))
}

// PersonalLink reads a link by its id.
func (tx *Tx) PersonalLink(id int64) (PersonalLink, error) {
	l, err := scanPersonalLink(tx.row(`SELECT `+personalLinkColumns+` FROM personal_links WHERE id = ?`, id))
	return l, missing("personal link", fmt.Sprint(id), err)
}

// PersonalLinkBy reads a link by its id and the digest of its secret.
func (tx *Tx) PersonalLinkBy(id int64, digest []byte) (PersonalLink, error) {
	l, err := scanPersonalLink(tx.row(`SELECT `+personalLinkColumns+` FROM personal_links WHERE id = ? AND digest = ?`, id, digest))
	return l, missing("personal link", fmt.Sprint(id), err)
}

// PersonalLinks lists links of which the address holds a text, the newest first.
func (tx *Tx) PersonalLinks(search string, limit int) ([]PersonalLink, error) {
	return list(
		tx,
		scanPersonalLink,
		`SELECT `+personalLinkColumns+` FROM personal_links WHERE person LIKE ? ESCAPE '\' ORDER BY id DESC LIMIT ?`,
		"%"+likeEscaper.Replace(strings.ToLower(search))+"%",
		limit,
	)
}

var likeEscaper = strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`)

// OpenPersonalLink binds a link to the device that opens it first; false when one did before.
func (tx *Tx) OpenPersonalLink(l PersonalLink, device []byte) (bool, error) {
	result, err := tx.exec(`UPDATE personal_links SET device = ?, opened_at = ? WHERE id = ? AND device = x''`, device, stamp(tx.at), l.ID)
	if err != nil {
		return false, err
	}
	n, err := result.RowsAffected()
	if err != nil || n == 0 {
		return false, err
	}
	return true, tx.changed("opened", "personal link", l.Person, fmt.Sprintf("number %d", l.ID))
}

// RevokePersonalLink ends a link.
func (tx *Tx) RevokePersonalLink(id int64) error {
	l, err := tx.PersonalLink(id)
	if err != nil {
		return err
	}
	if _, err := tx.exec(`UPDATE personal_links SET revoked_at = ? WHERE id = ? AND revoked_at = ''`, stamp(tx.at), id); err != nil {
		return err
	}
	return tx.changed("revoked", "personal link", l.Person, fmt.Sprintf("number %d", id))
}

// RevokePersonalLinks ends all links of a person.
func (tx *Tx) RevokePersonalLinks(person string) error {
	result, err := tx.exec(`UPDATE personal_links SET revoked_at = ? WHERE person = ? AND revoked_at = ''`, stamp(tx.at), person)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return err
	}
	return tx.changed("revoked", "personal link", person, "all")
}

// PersonalChoice is what somebody chose on the page of their signature.
type PersonalChoice struct {
	Client   string // profile; blank for none yet
	Language string // BCP 47; blank for that of the browser
}

// PersonalChoice reads what somebody chose.
func (tx *Tx) PersonalChoice(person string) (c PersonalChoice, err error) {
	err = tx.row(`SELECT client, language FROM personal_choices WHERE person = ?`, person).Scan(&c.Client, &c.Language)
	return c, noRows(err)
}

// PutPersonalChoice stores what somebody chose.
func (tx *Tx) PutPersonalChoice(person string, c PersonalChoice) error {
	if _, err := tx.exec(`INSERT OR REPLACE INTO personal_choices (person, client, language, chosen_at) VALUES (?, ?, ?, ?)`, person, c.Client,
		c.Language, stamp(tx.at)); err != nil {
		return err
	}
	return tx.changed("chose", "mail program", person, c.Client)
}

// PersonalClients counts who chose which program.
func (tx *Tx) PersonalClients() (map[string]int, error) {
	type count struct {
		client string
		n      int
	}
	counts := map[string]int{}
	rows, err := list(tx, func(row scanner) (c count, err error) { return c, row.Scan(&c.client, &c.n) },
		`SELECT client, count(*) FROM personal_choices WHERE client <> '' GROUP BY client`)
	for _, c := range rows {
		counts[c.client] = c.n
	}
	return counts, err
}

// Proof is what the page or the add-on knows of a person's signature in a program.
type Proof struct {
	Person    string    `json:"person"`
	Client    string    `json:"client"`
	Way       string    `json:"way"` // page or add-on
	Situation string    `json:"situation"`
	Release   string    `json:"release"`
	State     string    `json:"state"`
	Kinds     []string  `json:"kinds"`
	Kit       string    `json:"kit"` // digest of the person's kit for the program at that time
	At        time.Time `json:"at"`
	Since     time.Time `json:"since"`
}

func scanProof(row scanner) (p Proof, err error) {
	var kinds, at, since string
	if err = row.Scan(&p.Person, &p.Client, &p.Way, &p.Situation, &p.Release, &p.State, &kinds, &p.Kit, &at, &since); err != nil {
		return p, err
	}
	p.At, p.Since = parseStamp(at), parseStamp(since)
	return p, json.Unmarshal([]byte(kinds), &p.Kinds)
}

// PutProof stores what is known now.
func (tx *Tx) PutProof(p Proof) error {
	tx.aside = true
	kinds, err := json.Marshal(append([]string{}, p.Kinds...))
	if err != nil {
		return err
	}
	_, err = tx.exec(`INSERT INTO proofs (person, client, way, situation, release, state, kinds, kit, proved_at, since)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (person, client, way, situation) DO UPDATE SET release = excluded.release, state = excluded.state, kinds = excluded.kinds,
			kit = excluded.kit, proved_at = excluded.proved_at,
			since = CASE WHEN proofs.state = excluded.state AND proofs.release = excluded.release THEN proofs.since ELSE excluded.since END`,
		p.Person, p.Client, p.Way, p.Situation, p.Release, p.State, string(kinds), p.Kit, stamp(tx.at), stamp(tx.at))
	return err
}

const proofColumns = `person, client, way, situation, release, state, kinds, kit, proved_at, since`

// Proofs lists all proofs by person.
func (tx *Tx) Proofs() ([]Proof, error) {
	return list(tx, scanProof, `SELECT `+proofColumns+` FROM proofs ORDER BY person, client, way, situation`)
}

// ProofsOf lists the proofs of a person.
func (tx *Tx) ProofsOf(person string) ([]Proof, error) {
	return list(tx, scanProof, `SELECT `+proofColumns+` FROM proofs WHERE person = ? ORDER BY client, way, situation`, person)
}

// AddInvitation stores that an invitation or a reminder went to a person.
func (tx *Tx) AddInvitation(person, kind, way string) error {
	if _, err := tx.exec(`INSERT INTO invitations (person, kind, way, sent_at) VALUES (?, ?, ?, ?)`, person, kind, way,
		stamp(tx.at)); err != nil {
		return err
	}
	return tx.changed("invited", "person", person, kind+", "+way)
}

// Invited says when each person was written to last.
func (tx *Tx) Invited() (map[string]time.Time, error) {
	type last struct{ person, at string }
	rows, err := list(tx, func(row scanner) (l last, err error) { return l, row.Scan(&l.person, &l.at) },
		`SELECT person, max(sent_at) FROM invitations GROUP BY person`)
	by := map[string]time.Time{}
	for _, l := range rows {
		by[l.person] = parseStamp(l.at)
	}
	return by, err
}

// DetailRequest is what a person asks of those who keep their details.
type DetailRequest struct {
	ID      int64     `json:"id"`
	Person  string    `json:"person"`
	Field   string    `json:"field"`
	Kind    string    `json:"kind"` // change or wrong
	Value   string    `json:"value"`
	Note    string    `json:"note"`
	State   string    `json:"state"` // open, accepted or refused
	Asked   time.Time `json:"asked"`
	Decided time.Time `json:"decided,omitzero"`
}

const requestColumns = `id, person, field, kind, value, note, state, asked_at, decided_at`

func scanRequest(row scanner) (r DetailRequest, err error) {
	var asked, decided string
	err = row.Scan(&r.ID, &r.Person, &r.Field, &r.Kind, &r.Value, &r.Note, &r.State, &asked, &decided)
	r.Asked, r.Decided = parseStamp(asked), parseStamp(decided)
	return r, err
}

// AddDetailRequest stores a request in the place of an open one of the same person, field and kind.
func (tx *Tx) AddDetailRequest(r DetailRequest) error {
	if _, err := tx.exec(`DELETE FROM detail_requests WHERE person = ? AND field = ? AND kind = ? AND state = 'open'`, r.Person, r.Field,
		r.Kind); err != nil {
		return err
	}
	if _, err := tx.exec(`INSERT INTO detail_requests (person, field, kind, value, note, state, asked_at, decided_at)
		VALUES (?, ?, ?, ?, ?, 'open', ?, '')`, r.Person, r.Field, r.Kind, r.Value, r.Note, stamp(tx.at)); err != nil {
		return err
	}
	return tx.changed("asked", "detail", r.Person, r.Field+": "+r.Kind)
}

// DetailRequests lists the requests in a state, the oldest first.
func (tx *Tx) DetailRequests(state string, limit int) ([]DetailRequest, error) {
	return list(tx, scanRequest, `SELECT `+requestColumns+` FROM detail_requests WHERE state = ? ORDER BY id LIMIT ?`, state, limit)
}

// DetailRequestsOf lists what a person asked, the newest first.
func (tx *Tx) DetailRequestsOf(person string) ([]DetailRequest, error) {
	return list(tx, scanRequest, `SELECT `+requestColumns+` FROM detail_requests WHERE person = ? ORDER BY id DESC LIMIT 50`, person)
}

// DecideDetailRequest accepts or refuses a request that is open.
func (tx *Tx) DecideDetailRequest(id int64, state string) (r DetailRequest, err error) {
	r, err = scanRequest(tx.row(`SELECT `+requestColumns+` FROM detail_requests WHERE id = ?`, id))
	if err := missing("request", fmt.Sprint(id), err); err != nil {
		return r, err
	}
	if r.State != "open" {
		return r, problem.New(problem.Conflict, "This request was %s already.", r.State)
	}
	if _, err := tx.exec(`UPDATE detail_requests SET state = ?, decided_at = ? WHERE id = ?`, state, stamp(tx.at), id); err != nil {
		return r, err
	}
	r.State, r.Decided = state, tx.at
	return r, tx.changed(state, "detail", r.Person, r.Field+": "+r.Value)
}

// noRows turns the error of no row into none.
func noRows(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	return err
}
