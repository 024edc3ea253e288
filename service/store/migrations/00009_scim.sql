-- +goose Up
CREATE TABLE keys (
  name       TEXT PRIMARY KEY,
  scope      TEXT NOT NULL, -- access.Scope
  source     TEXT NOT NULL, -- the source that it may push to
  digest     BLOB NOT NULL UNIQUE, -- SHA-256 of the key
  created_at TEXT NOT NULL
);
CREATE TABLE scim_resources (
  source_id  INTEGER NOT NULL REFERENCES sources (id),
  id         TEXT NOT NULL,
  kind       TEXT NOT NULL, -- User, Group
  name       TEXT NOT NULL, -- userName or displayName, folded
  resource   TEXT NOT NULL, -- JSON of scim.Resource
  version    INTEGER NOT NULL,
  created_at TEXT NOT NULL,
  changed_at TEXT NOT NULL,
  PRIMARY KEY (source_id, id)
) WITHOUT ROWID;
CREATE UNIQUE INDEX scim_users ON scim_resources (source_id, name) WHERE kind = 'User';
CREATE INDEX scim_kinds ON scim_resources (source_id, kind, created_at, id);
CREATE TABLE scim_members (
  source_id INTEGER NOT NULL,
  group_id  TEXT NOT NULL,
  member    TEXT NOT NULL,
  PRIMARY KEY (source_id, group_id, member)
) WITHOUT ROWID;
CREATE INDEX scim_members_member ON scim_members (source_id, member);

-- +goose Down
SELECT 'this step cannot be taken back: restore a backup';
