-- +goose Up
-- Keys with which people's browsers fetch their own signature.
CREATE TABLE add_on_keys (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  person     TEXT NOT NULL,        -- mail address, folded
  digest     BLOB NOT NULL UNIQUE, -- SHA-256 of the secret in the key
  created_at TEXT NOT NULL,
  ends_at    TEXT NOT NULL,
  used_at    TEXT NOT NULL,        -- the last day; empty until then
  version    TEXT NOT NULL,        -- of the add-on that used it last
  revoked_at TEXT NOT NULL
);
CREATE INDEX add_on_keys_person ON add_on_keys (person);

-- +goose Down
SELECT 'this step cannot be taken back: restore a backup';
