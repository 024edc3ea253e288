-- +goose Up
CREATE TABLE verdicts (
  template TEXT PRIMARY KEY,
  key      TEXT NOT NULL, -- all that it depends on
  state    TEXT NOT NULL  -- JSON of templates.State
);

-- +goose Down
DROP TABLE verdicts;
