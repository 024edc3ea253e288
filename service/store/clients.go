package store

import (
	"context"
	"time"
)

// ClientProfiles returns the organisation's own client profiles: the documents by id.
func (s *Store) ClientProfiles(ctx context.Context) (map[string][]byte, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, document FROM client_profiles`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	documents := map[string][]byte{}
	for rows.Next() {
		var id, document string
		if err := rows.Scan(&id, &document); err != nil {
			return nil, err
		}
		documents[id] = []byte(document)
	}
	return documents, rows.Err()
}

// PutClientProfile stores a client profile's document, new or changed.
func (s *Store) PutClientProfile(ctx context.Context, id, document string, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `INSERT OR REPLACE INTO client_profiles (id, document, saved_at) VALUES (?, ?, ?)`, id, document, stamp(at))
	return err
}

// RemoveClientProfile removes a client profile; ErrNotFound when there is none.
func (s *Store) RemoveClientProfile(ctx context.Context, id string) error {
	done, err := s.db.ExecContext(ctx, `DELETE FROM client_profiles WHERE id = ?`, id)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err == nil && n == 0 {
		return ErrNotFound
	}
	return nil
}
