-- +goose Up
CREATE TABLE pictures (
  id         INTEGER PRIMARY KEY,
  name       TEXT NOT NULL UNIQUE,
  slices     TEXT NOT NULL DEFAULT '', -- JSON of picture.SliceMap, empty for none
  created_at TEXT NOT NULL
);
CREATE TABLE picture_versions (
  picture_id INTEGER NOT NULL REFERENCES pictures (id),
  number     INTEGER NOT NULL,
  sha256     TEXT NOT NULL REFERENCES picture_contents (sha256),
  facts      TEXT NOT NULL, -- JSON of picture.Facts
  file       TEXT NOT NULL, -- name of the file as it came
  note       TEXT NOT NULL,
  author     TEXT NOT NULL,
  created_at TEXT NOT NULL,
  PRIMARY KEY (picture_id, number)
);
CREATE TABLE picture_alts (
  picture_id INTEGER NOT NULL REFERENCES pictures (id),
  language   TEXT NOT NULL, -- BCP 47
  alt        TEXT NOT NULL,
  PRIMARY KEY (picture_id, language)
);
CREATE TABLE renditions (
  picture_id INTEGER NOT NULL,
  number     INTEGER NOT NULL,
  sha256     TEXT NOT NULL REFERENCES picture_contents (sha256),
  recipe     TEXT NOT NULL, -- JSON of what it was made by
  facts      TEXT NOT NULL,
  difference REAL NOT NULL,
  created_at TEXT NOT NULL,
  PRIMARY KEY (sha256, picture_id, number),
  FOREIGN KEY (picture_id, number) REFERENCES picture_versions (picture_id, number)
);
-- What is hosted stays: a message that was sent shows it for as long as it is kept.
CREATE TABLE hosted_pictures (
  key        TEXT PRIMARY KEY, -- picture.KeyOf
  sha256     TEXT NOT NULL REFERENCES picture_contents (sha256),
  created_at TEXT NOT NULL
);
CREATE TABLE settings (
  name  TEXT PRIMARY KEY,
  value TEXT NOT NULL
);
CREATE TABLE address_checks (
  address  TEXT PRIMARY KEY,
  template TEXT NOT NULL,
  report   TEXT NOT NULL, -- JSON of pictures.Report
  asked_at TEXT NOT NULL
);

-- +goose Down
DROP TABLE address_checks;
DROP TABLE settings;
DROP TABLE hosted_pictures;
DROP TABLE renditions;
DROP TABLE picture_alts;
DROP TABLE picture_versions;
DROP TABLE pictures;
