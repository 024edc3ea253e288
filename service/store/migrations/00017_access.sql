-- +goose Up
CREATE TABLE accounts (
  id            INTEGER PRIMARY KEY,
  name          TEXT NOT NULL UNIQUE COLLATE NOCASE, -- with which it signs in
  title         TEXT NOT NULL,    -- how it is shown
  roles         TEXT NOT NULL,    -- JSON: access.Role
  password      TEXT NOT NULL,    -- argon2id in the PHC string format; blank for none
  factor        TEXT NOT NULL,    -- secret of the second factor; blank for none
  factor_step   INTEGER NOT NULL, -- time step of the last code: none is taken twice
  subject       TEXT NOT NULL,    -- issuer and subject at the identity provider; blank for none
  generation    INTEGER NOT NULL, -- sessions of another generation have ended
  created_at    TEXT NOT NULL,
  signed_in_at  TEXT NOT NULL
);
CREATE UNIQUE INDEX accounts_subject ON accounts (subject) WHERE subject <> '';
CREATE TABLE recovery_codes (
  account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
  digest     BLOB NOT NULL, -- SHA-256
  PRIMARY KEY (account_id, digest)
) WITHOUT ROWID;
CREATE TABLE account_links (
  digest     BLOB PRIMARY KEY, -- SHA-256 of the secret in a link with which a password is chosen
  account_id INTEGER NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
  ends_at    TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE sessions (
  token   BLOB PRIMARY KEY, -- SHA-256 of the cookie
  data    BLOB NOT NULL,
  ends_at TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE keys_new (
  name       TEXT PRIMARY KEY,
  scopes     TEXT NOT NULL,    -- JSON: access.Scope
  source     TEXT NOT NULL,    -- the source that it may push to
  account_id INTEGER REFERENCES accounts (id) ON DELETE CASCADE, -- whose it is; NULL for a program's
  digest     BLOB NOT NULL UNIQUE, -- SHA-256 of the key
  created_at TEXT NOT NULL,
  ends_at    TEXT NOT NULL, -- blank for none
  used_at    TEXT NOT NULL
);
INSERT INTO keys_new (name, scopes, source, account_id, digest, created_at, ends_at, used_at)
  SELECT name, json_array(scope), source, NULL, digest, created_at, '', '' FROM keys;
DROP TABLE keys;
ALTER TABLE keys_new RENAME TO keys;

-- The record: each entry holds the digest of itself and of the entry before it.
CREATE TABLE record (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  at         TEXT NOT NULL,
  actor_kind TEXT NOT NULL,
  actor      TEXT NOT NULL,
  origin     TEXT NOT NULL, -- address; blank for this machine
  action     TEXT NOT NULL,
  object     TEXT NOT NULL,
  name       TEXT NOT NULL,
  detail     TEXT NOT NULL,
  before     TEXT NOT NULL, -- SHA-256 of the thing's content before and after; blank where there is none
  after      TEXT NOT NULL,
  link       BLOB NOT NULL  -- empty for entries from before there was a chain, until the service has linked them
);
INSERT INTO record (id, at, actor_kind, actor, origin, action, object, name, detail, before, after, link)
  SELECT id, at, actor_kind, actor, '', action, object, name, detail, '', '', x'' FROM changes ORDER BY id;
DROP TABLE changes;
-- +goose StatementBegin
CREATE TRIGGER record_stays BEFORE UPDATE ON record WHEN OLD.link <> x'' BEGIN SELECT RAISE(ABORT, 'entries of the record do not change'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER record_is_kept BEFORE DELETE ON record WHEN OLD.id > (SELECT COALESCE(MAX(last), 0) FROM record_pruned)
  BEGIN SELECT RAISE(ABORT, 'entries of the record are only pruned'); END;
-- +goose StatementEnd
-- Up to which entry the record was pruned, and the link that the rest goes on from.
CREATE TABLE record_pruned (
  last      INTEGER PRIMARY KEY,
  link      BLOB NOT NULL,
  pruned_at TEXT NOT NULL
);
-- The digest of what each thing holds now.
CREATE TABLE record_states (
  object TEXT NOT NULL,
  name   TEXT NOT NULL,
  digest TEXT NOT NULL,
  PRIMARY KEY (object, name)
) WITHOUT ROWID;

-- +goose Down
SELECT 'this step cannot be taken back: restore a backup';
