-- +goose Up
CREATE TABLE audiences (
  name      TEXT PRIMARY KEY,
  title     TEXT NOT NULL,
  condition TEXT NOT NULL, -- JSON of audience.Condition
  saved_at  TEXT NOT NULL
);
CREATE TABLE assignments (
  position  INTEGER PRIMARY KEY, -- from 1; the first line that fits decides
  audience  TEXT NOT NULL,       -- blank for everybody
  situation TEXT NOT NULL,       -- blank for every one
  template  TEXT NOT NULL,       -- blank for no signature
  variant   TEXT NOT NULL,
  note      TEXT NOT NULL
);

-- +goose Down
SELECT 'this step cannot be taken back: restore a backup';
