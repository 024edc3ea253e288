-- +goose Up
CREATE TABLE sources (
  id         INTEGER PRIMARY KEY,
  name       TEXT NOT NULL UNIQUE,
  kind       TEXT NOT NULL, -- people.Kinds
  position   INTEGER NOT NULL, -- where several sources have a value, that of the least position counts
  settings   TEXT NOT NULL, -- JSON of sources.Settings
  mapping    TEXT NOT NULL, -- as source.ReadMapping reads it; blank for none
  state      TEXT NOT NULL, -- JSON of store.SourceState
  created_at TEXT NOT NULL
);
-- The source of what is only known here (people.Kept), and that of files which are imported by hand.
INSERT INTO sources (id, name, kind, position, settings, mapping, state, created_at) VALUES
  (1, 'kept', 'kept', 0, '{}', '', '{}', strftime('%Y-%m-%dT%H:%M:%S.000000000Z', 'now')),
  (2, 'import', 'file', 100, '{}', '', '{}', strftime('%Y-%m-%dT%H:%M:%S.000000000Z', 'now'));

CREATE TABLE people_new (
  id       INTEGER PRIMARY KEY,
  mail     TEXT NOT NULL COLLATE NOCASE,
  vals     TEXT NOT NULL,     -- JSON array in the order of directory.fields: what counts of all sources
  groups   TEXT NOT NULL,     -- JSON array
  matched  TEXT NOT NULL,     -- the value by which records of several sources are one person, folded
  folded   TEXT NOT NULL,     -- all values in small letters, to search in
  blank    TEXT NOT NULL,     -- fields without a value, each between spaces
  revision INTEGER NOT NULL,  -- of the directory when the person changed last
  came_at  TEXT NOT NULL,
  left_at  TEXT NOT NULL      -- blank for who is there
);
INSERT INTO people_new (id, mail, vals, groups, matched, folded, blank, revision, came_at, left_at)
  SELECT p.position + 1, p.mail, p.vals, '[]', lower(p.mail), lower(p.vals), ' ', 0, strftime('%Y-%m-%dT%H:%M:%S.000000000Z', 'now'), ''
  FROM people p;
CREATE TABLE people_taken_back (
  id       INTEGER PRIMARY KEY,
  revision INTEGER NOT NULL
);
CREATE TABLE person_records (
  source_id INTEGER NOT NULL REFERENCES sources (id),
  key       TEXT NOT NULL,    -- what identifies the person at the source
  person_id INTEGER NOT NULL REFERENCES people_new (id),
  record    TEXT NOT NULL,    -- JSON of source.Record
  digest    BLOB NOT NULL,    -- of the record
  gone_at   TEXT NOT NULL,    -- blank while the source has the person
  PRIMARY KEY (source_id, key)
) WITHOUT ROWID;
INSERT INTO person_records (source_id, key, person_id, record, digest, gone_at)
  SELECT 2, lower(p.mail), p.position + 1,
    json_object('values', (SELECT json_group_object(f.value, v.value) FROM json_each(d.fields) f JOIN json_each(p.vals) v ON f.key = v.key
      WHERE v.value <> '')), x'', ''
  FROM people p, directory d;
-- Addresses of photos are made here, and so are kept here.
INSERT INTO person_records (source_id, key, person_id, record, digest, gone_at)
  SELECT 1, CAST(person_id AS TEXT), person_id, json_object('values', json_object('photoAddress', json_extract(record, '$.values.photoAddress'))), x'', ''
  FROM person_records WHERE source_id = 2 AND json_extract(record, '$.values.photoAddress') IS NOT NULL;
UPDATE person_records SET record = json_remove(record, '$.values.photoAddress')
  WHERE source_id = 2 AND json_extract(record, '$.values.photoAddress') IS NOT NULL;
DROP TABLE people;
ALTER TABLE people_new RENAME TO people;
CREATE INDEX people_mail ON people (mail);
CREATE INDEX people_matched ON people (matched);
CREATE INDEX people_revision ON people (revision);
CREATE INDEX people_left ON people (left_at);
CREATE INDEX person_records_person ON person_records (person_id);

CREATE TABLE runs (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  source_id  INTEGER NOT NULL REFERENCES sources (id),
  kind       TEXT NOT NULL, -- import, sync, edit, undo
  state      TEXT NOT NULL, -- planned, held, applied, undone, dropped
  summary    TEXT NOT NULL, -- JSON of store.Summary
  actor_kind TEXT NOT NULL,
  actor      TEXT NOT NULL,
  planned_at TEXT NOT NULL,
  applied_at TEXT NOT NULL,
  ended_at   TEXT NOT NULL, -- when it was undone or dropped
  revision   INTEGER NOT NULL, -- of the directory that it made
  undoes     INTEGER NOT NULL  -- the run that it takes back; 0 for none
);
CREATE INDEX runs_source ON runs (source_id);
CREATE TABLE run_changes (
  run_id    INTEGER NOT NULL REFERENCES runs (id),
  number    INTEGER NOT NULL,
  key       TEXT NOT NULL,
  person_id INTEGER NOT NULL, -- 0 for a person who is new
  mail      TEXT NOT NULL COLLATE NOCASE,
  kind      TEXT NOT NULL, -- new, changed, gone, back
  before    TEXT NOT NULL, -- JSON of source.Record; blank for none
  after     TEXT NOT NULL,
  PRIMARY KEY (run_id, number)
) WITHOUT ROWID;
CREATE INDEX run_changes_person ON run_changes (person_id);

-- +goose Down
SELECT 'this step cannot be taken back: restore a backup';
