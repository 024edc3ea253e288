package store

import "time"

// Desk is a desk that reported.
type Desk struct {
	ID       string
	Host     string
	System   string
	Version  string
	Reported time.Time
}

// DeskPlace is what a desk reports of one of its places.
type DeskPlace struct {
	Desk     string
	Place    string
	Folder   string
	Client   string
	Person   string // mail address, folded
	Release  string
	Kit      string
	Proof    string
	Detail   string
	Placed   time.Time
	Host     string    // of the desk
	Reported time.Time // of the desk
}

// PutDesk stores a desk's report in the place of the one before.
func (tx *Tx) PutDesk(d Desk, places []DeskPlace) error {
	_, err := tx.exec(`INSERT INTO desks (id, host, system, version, reported_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET host = excluded.host, system = excluded.system, version = excluded.version, `+
		`reported_at = excluded.reported_at`,
		d.ID, d.Host, d.System, d.Version, stamp(tx.at))
	if err != nil {
		return err
	}
	if _, err := tx.exec(`DELETE FROM desk_places WHERE desk_id = ?`, d.ID); err != nil {
		return err
	}
	for _, p := range places {
		if _, err := tx.prepared(`INSERT OR REPLACE INTO desk_places (desk_id, place, folder, client, person, release, kit, `+
			`proof, detail, placed_at)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, d.ID, p.Place, p.Folder, p.Client, p.Person, p.Release, p.Kit, p.Proof,
			p.Detail, stamp(p.Placed)); err != nil {
			return err
		}
	}
	return nil
}

// DeskPlaces lists all that desks reported, by person.
func (tx *Tx) DeskPlaces() ([]DeskPlace, error) {
	return list(tx, func(row scanner) (p DeskPlace, err error) {
		var placed, reported string
		err = row.Scan(&p.Desk, &p.Place, &p.Folder, &p.Client, &p.Person, &p.Release, &p.Kit, &p.Proof, &p.Detail, &placed, &p.Host, &reported)
		p.Placed, p.Reported = parseStamp(placed), parseStamp(reported)
		return p, err
	}, `SELECT p.desk_id, p.place, p.folder, p.client, p.person, p.release, p.kit, p.proof, p.detail, p.placed_at, d.host, d.reported_at
		FROM desk_places p JOIN desks d ON d.id = p.desk_id ORDER BY p.person, p.client, p.desk_id`)
}

// DeskCount is how many desks have reported.
func (tx *Tx) DeskCount() (n int, err error) {
	err = tx.row(`SELECT count(*) FROM desks`).Scan(&n)
	return n, err
}

// RemoveDesk forgets a desk, which is no longer there.
func (tx *Tx) RemoveDesk(id string) error {
	if err := tx.execOne("desk", id, `DELETE FROM desks WHERE id = ?`, id); err != nil {
		return err
	}
	return tx.removed("desk", id, "")
}
