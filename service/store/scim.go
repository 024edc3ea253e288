package store

import (
	"time"

	"missivum/core/problem"
)

// SCIMResource is a resource that was pushed in (RFC 7643).
type SCIMResource struct {
	ID       string
	Kind     string // User, Group
	Name     string // userName or displayName, folded
	Resource string // JSON
	Version  int
	Created  time.Time
	Changed  time.Time
}

const scimColumns = `id, kind, name, resource, version, created_at, changed_at`

// scanSCIM reads a row of resources.
func scanSCIM(row scanner) (SCIMResource, error) {
	var r SCIMResource
	var created, changed string
	err := row.Scan(&r.ID, &r.Kind, &r.Name, &r.Resource, &r.Version, &created, &changed)
	r.Created, r.Changed = parseStamp(created), parseStamp(changed)
	return r, err
}

// SCIM reads a resource of a source.
func (tx *Tx) SCIM(source int64, kind, id string) (SCIMResource, error) {
	r, err := scanSCIM(tx.row(`SELECT `+scimColumns+` FROM scim_resources WHERE source_id = ? AND kind = ? AND id = ?`, source, kind, id))
	return r, missing(kind, id, err)
}

// SCIMNamed lists the resources of a kind with a folded name, of all names for a blank one, in the order in which they came.
func (tx *Tx) SCIMNamed(source int64, kind, name string, each func(SCIMResource) error) error {
	rows, err := tx.tx.QueryContext(tx.ctx, `SELECT `+scimColumns+
		` FROM scim_resources WHERE source_id = ? AND kind = ? AND (? = '' OR name = ?)
		ORDER BY created_at, id`, source, kind, name, name)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		r, err := scanSCIM(rows)
		if err == nil {
			err = each(r)
		}
		if err != nil {
			return err
		}
	}
	return rows.Err()
}

// PutSCIM stores a resource. A user name that another one has is a conflict.
func (tx *Tx) PutSCIM(source int64, r SCIMResource) error {
	if r.Kind == "User" {
		var other string
		err := tx.row(`SELECT id FROM scim_resources WHERE source_id = ? AND kind = 'User' AND name = ? AND id <> ?`, source,
			r.Name, r.ID).Scan(&other)
		if err == nil {
			return problem.New(problem.Conflict, "There is a user with this user name already.").In("userName")
		}
	}
	_, err := tx.exec(`INSERT INTO scim_resources (source_id, id, kind, name, resource, version, created_at, changed_at) `+
		`VALUES (?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (source_id, id) DO UPDATE SET name = excluded.name, resource = excluded.resource, version = excluded.version,
		changed_at = excluded.changed_at`, source, r.ID, r.Kind, r.Name, r.Resource, r.Version, stamp(r.Created), stamp(r.Changed))
	return err
}

// RemoveSCIM removes a resource, and takes it out of all groups.
func (tx *Tx) RemoveSCIM(source int64, r SCIMResource) error {
	for _, query := range []string{`DELETE FROM scim_members WHERE source_id = ?1 AND (group_id = ?2 OR member = ?2)`,
		`DELETE FROM scim_resources WHERE source_id = ?1 AND id = ?2`} {
		if _, err := tx.exec(query, source, r.ID); err != nil {
			return err
		}
	}
	return nil
}

// SCIMMembers lists the ids of the members of a group.
func (tx *Tx) SCIMMembers(source int64, group string) ([]string, error) {
	return list(tx, scanText, `SELECT member FROM scim_members WHERE source_id = ? AND group_id = ? ORDER BY member`, source, group)
}

// SCIMGroupsOf lists the ids of the groups that a person or a group is in.
func (tx *Tx) SCIMGroupsOf(source int64, member string) ([]string, error) {
	return list(tx, scanText, `SELECT group_id FROM scim_members WHERE source_id = ? AND member = ? ORDER BY group_id`, source, member)
}

// scanText reads a text.
func scanText(row scanner) (string, error) {
	var s string
	err := row.Scan(&s)
	return s, err
}

// PutSCIMMembers stores the members of a group in the place of those before.
func (tx *Tx) PutSCIMMembers(source int64, group string, members []string) error {
	if _, err := tx.exec(`DELETE FROM scim_members WHERE source_id = ? AND group_id = ?`, source, group); err != nil {
		return err
	}
	for _, member := range members {
		_, err := tx.prepared(`INSERT OR IGNORE INTO scim_members (source_id, group_id, member) VALUES (?, ?, ?)`, source, group, member)
		if err != nil {
			return err
		}
	}
	return nil
}
