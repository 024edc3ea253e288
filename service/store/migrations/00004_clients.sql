-- +goose Up
CREATE TABLE client_profiles (
  id TEXT PRIMARY KEY,
  document TEXT NOT NULL, -- YAML, as it was written
  saved_at TEXT NOT NULL
);

-- +goose Down
DROP TABLE client_profiles;
