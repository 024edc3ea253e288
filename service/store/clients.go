package store

// ClientProfiles returns the organisation's own client profiles: the documents by id.
func (tx *Tx) ClientProfiles() (map[string][]byte, error) {
	type entry struct{ id, document string }
	entries, err := list(tx, func(row scanner) (entry, error) {
		var e entry
		return e, row.Scan(&e.id, &e.document)
	}, `SELECT id, document FROM client_profiles`)
	documents := map[string][]byte{}
	for _, e := range entries {
		documents[e.id] = []byte(e.document)
	}
	return documents, err
}

// PutClientProfile stores a client profile's document, new or changed.
func (tx *Tx) PutClientProfile(id, document string) error {
	_, err := tx.exec(`INSERT OR REPLACE INTO client_profiles (id, document, saved_at) VALUES (?, ?, ?)`, id, document, stamp(tx.at))
	if err != nil {
		return err
	}
	return tx.changedTo(document, "saved", "client profile", id, "")
}

// RemoveClientProfile removes a client profile.
func (tx *Tx) RemoveClientProfile(id string) error {
	if err := tx.execOne("client profile of your own", id, `DELETE FROM client_profiles WHERE id = ?`, id); err != nil {
		return err
	}
	return tx.removed("client profile", id, "")
}
