-- +goose Up
CREATE TABLE changes (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  at         TEXT NOT NULL,
  actor_kind TEXT NOT NULL,
  actor      TEXT NOT NULL,
  action     TEXT NOT NULL,
  object     TEXT NOT NULL,
  name       TEXT NOT NULL,
  detail     TEXT NOT NULL
);
-- +goose StatementBegin
CREATE TRIGGER changes_stay BEFORE UPDATE ON changes BEGIN SELECT RAISE(ABORT, 'changes are only added'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER changes_are_kept BEFORE DELETE ON changes BEGIN SELECT RAISE(ABORT, 'changes are only added'); END;
-- +goose StatementEnd

CREATE TABLE jobs (
  id          TEXT PRIMARY KEY,
  kind        TEXT NOT NULL,
  title       TEXT NOT NULL,
  state       TEXT NOT NULL, -- waiting, running, ready, stopped, failed
  total       INTEGER NOT NULL,
  done        INTEGER NOT NULL,
  unit        TEXT NOT NULL,
  message     TEXT NOT NULL,
  input       TEXT NOT NULL, -- JSON
  result      TEXT NOT NULL, -- JSON
  actor_kind  TEXT NOT NULL,
  actor       TEXT NOT NULL,
  created_at  TEXT NOT NULL,
  started_at  TEXT NOT NULL,
  finished_at TEXT NOT NULL
);
CREATE INDEX jobs_created ON jobs (created_at);
INSERT INTO jobs (id, kind, title, state, total, done, unit, message, input, result, actor_kind, actor, created_at, started_at, finished_at)
  SELECT id, 'package', template, state, total, done, 'people', message, '{}', '{}', 'owner', 'owner', created_at, created_at, finished_at FROM packages;

CREATE TABLE packages_new (
  id       TEXT PRIMARY KEY REFERENCES jobs (id) DEFERRABLE INITIALLY DEFERRED,
  template TEXT NOT NULL,
  version  INTEGER NOT NULL,
  content  TEXT NOT NULL,
  files    INTEGER NOT NULL,
  bytes    INTEGER NOT NULL,
  sha256   TEXT NOT NULL
);
INSERT INTO packages_new (id, template, version, content, files, bytes, sha256)
  SELECT id, template, version, content, files, bytes, sha256 FROM packages;
DROP TABLE packages;
ALTER TABLE packages_new RENAME TO packages;

ALTER TABLE renditions ADD COLUMN key TEXT NOT NULL DEFAULT ''; -- picture.KeyOf
UPDATE renditions SET key = COALESCE((SELECT h.key FROM hosted_pictures h WHERE h.sha256 = renditions.sha256), '');

-- Times have a fixed width, so that they sort as text: 2026-01-01T00:00:00.000000000Z.
UPDATE templates SET created_at = substr(created_at, 1, 19) || '.' || substr(replace(substr(created_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE created_at <> '';
UPDATE template_versions SET created_at = substr(created_at, 1, 19) || '.' || substr(replace(substr(created_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE created_at <> '';
UPDATE pictures SET created_at = substr(created_at, 1, 19) || '.' || substr(replace(substr(created_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE created_at <> '';
UPDATE picture_versions SET created_at = substr(created_at, 1, 19) || '.' || substr(replace(substr(created_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE created_at <> '';
UPDATE renditions SET created_at = substr(created_at, 1, 19) || '.' || substr(replace(substr(created_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE created_at <> '';
UPDATE hosted_pictures SET created_at = substr(created_at, 1, 19) || '.' || substr(replace(substr(created_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE created_at <> '';
UPDATE client_profiles SET saved_at = substr(saved_at, 1, 19) || '.' || substr(replace(substr(saved_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE saved_at <> '';
UPDATE address_checks SET asked_at = substr(asked_at, 1, 19) || '.' || substr(replace(substr(asked_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE asked_at <> '';
UPDATE jobs SET created_at = substr(created_at, 1, 19) || '.' || substr(replace(substr(created_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE created_at <> '';
UPDATE jobs SET started_at = substr(started_at, 1, 19) || '.' || substr(replace(substr(started_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE started_at <> '';
UPDATE jobs SET finished_at = substr(finished_at, 1, 19) || '.' || substr(replace(substr(finished_at, 21), 'Z', '') || '000000000', 1, 9) || 'Z' WHERE finished_at <> '';

-- +goose Down
SELECT 'this step cannot be taken back: restore a backup';
