-- +goose Up
CREATE TABLE templates (
  id         INTEGER PRIMARY KEY,
  name       TEXT NOT NULL UNIQUE,
  created_at TEXT NOT NULL
);
CREATE TABLE template_versions (
  id          INTEGER PRIMARY KEY,
  template_id INTEGER NOT NULL REFERENCES templates (id),
  number      INTEGER NOT NULL,
  content     TEXT NOT NULL, -- template.Version
  source      TEXT NOT NULL,
  settings    TEXT NOT NULL,
  note        TEXT NOT NULL,
  created_at  TEXT NOT NULL,
  UNIQUE (template_id, number)
);
CREATE TABLE picture_contents (
  sha256 TEXT PRIMARY KEY,
  data   BLOB NOT NULL
);
CREATE TABLE version_pictures (
  version_id INTEGER NOT NULL REFERENCES template_versions (id),
  file       TEXT NOT NULL,
  sha256     TEXT NOT NULL REFERENCES picture_contents (sha256),
  PRIMARY KEY (version_id, file)
);
CREATE TABLE directory (
  id       INTEGER PRIMARY KEY CHECK (id = 1),
  fields   TEXT NOT NULL, -- JSON array of field names
  revision INTEGER NOT NULL
);
CREATE TABLE people (
  position INTEGER PRIMARY KEY,
  mail     TEXT NOT NULL UNIQUE COLLATE NOCASE,
  vals     TEXT NOT NULL -- JSON array in the order of directory.fields
);
CREATE TABLE packages (
  id          TEXT PRIMARY KEY,
  template    TEXT NOT NULL,
  version     INTEGER NOT NULL,
  content     TEXT NOT NULL,
  state       TEXT NOT NULL, -- waiting, running, ready, stopped, failed
  total       INTEGER NOT NULL,
  done        INTEGER NOT NULL,
  files       INTEGER NOT NULL,
  bytes       INTEGER NOT NULL,
  sha256      TEXT NOT NULL,
  message     TEXT NOT NULL,
  created_at  TEXT NOT NULL,
  finished_at TEXT NOT NULL
);
CREATE INDEX packages_created ON packages (created_at);

-- +goose Down
DROP TABLE packages;
DROP TABLE people;
DROP TABLE directory;
DROP TABLE version_pictures;
DROP TABLE picture_contents;
DROP TABLE template_versions;
DROP TABLE templates;
