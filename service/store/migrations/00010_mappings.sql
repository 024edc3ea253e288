-- +goose Up
CREATE TABLE source_mappings (
  source_id  INTEGER NOT NULL REFERENCES sources (id),
  number     INTEGER NOT NULL,
  mapping    TEXT NOT NULL,
  author     TEXT NOT NULL,
  created_at TEXT NOT NULL,
  PRIMARY KEY (source_id, number)
) WITHOUT ROWID;
INSERT INTO source_mappings (source_id, number, mapping, author, created_at)
  SELECT id, 1, mapping, '', created_at FROM sources WHERE mapping <> '';

-- +goose Down
DROP TABLE source_mappings;
