-- +goose Up
CREATE TABLE releases (
  id           INTEGER PRIMARY KEY AUTOINCREMENT, -- a number is never used again
  title        TEXT NOT NULL,
  note         TEXT NOT NULL,
  state        TEXT NOT NULL,    -- release.State
  frozen       TEXT NOT NULL,    -- JSON of release.Frozen
  digest       TEXT NOT NULL,    -- of what is frozen
  people       BLOB,             -- JSON of the people, compressed, where they are frozen
  before       INTEGER NOT NULL, -- the release that was out when this one was made; 0 for none
  examined     TEXT NOT NULL,    -- JSON of []release.Examined
  differences  TEXT NOT NULL,    -- JSON of []release.Difference
  paused       INTEGER NOT NULL DEFAULT 0,
  made_by      TEXT NOT NULL,
  made_at      TEXT NOT NULL,
  approved_by  TEXT NOT NULL DEFAULT '',
  approved_at  TEXT NOT NULL DEFAULT '',
  approval     TEXT NOT NULL DEFAULT '', -- what the approver says
  out_at       TEXT NOT NULL DEFAULT '',
  withdrawn_by TEXT NOT NULL DEFAULT '',
  withdrawn_at TEXT NOT NULL DEFAULT ''
);
-- +goose StatementBegin
CREATE TRIGGER releases_frozen BEFORE UPDATE OF frozen, digest, people, before, made_by, made_at ON releases
BEGIN SELECT RAISE(ABORT, 'what a release freezes is never changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER releases_kept BEFORE DELETE ON releases WHEN OLD.state IN ('out', 'withdrawn')
BEGIN SELECT RAISE(ABORT, 'a release that is or was out is never deleted'); END;
-- +goose StatementEnd
CREATE TABLE waves (
  release_id INTEGER NOT NULL REFERENCES releases (id),
  number     INTEGER NOT NULL, -- from 1
  audience   TEXT NOT NULL,    -- blank for everybody
  start      TEXT NOT NULL,    -- blank: as soon as the wave before allows it
  share      INTEGER NOT NULL, -- percent who must have reported well before the next begins
  opened_at  TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (release_id, number)
) WITHOUT ROWID;
CREATE TABLE wave_samples (
  release_id INTEGER NOT NULL,
  wave       INTEGER NOT NULL,
  at         TEXT NOT NULL,
  good       INTEGER NOT NULL, -- people whose desks have the release
  wrong      INTEGER NOT NULL, -- altered, missing
  silent     INTEGER NOT NULL, -- not heard from since the wave began
  PRIMARY KEY (release_id, wave, at)
) WITHOUT ROWID;
CREATE TABLE desks (
  id          TEXT PRIMARY KEY, -- made at random by the desk
  host        TEXT NOT NULL,
  system      TEXT NOT NULL,
  version     TEXT NOT NULL, -- of the program there
  reported_at TEXT NOT NULL
) WITHOUT ROWID;
CREATE TABLE desk_places (
  desk_id   TEXT NOT NULL REFERENCES desks (id) ON DELETE CASCADE,
  place     TEXT NOT NULL,
  folder    TEXT NOT NULL,
  client    TEXT NOT NULL,
  person    TEXT NOT NULL, -- mail address, folded
  release   TEXT NOT NULL, -- of the kit that was placed
  kit       TEXT NOT NULL, -- digest of its list
  proof     TEXT NOT NULL, -- desk.Proof
  detail    TEXT NOT NULL, -- what is not as placed
  placed_at TEXT NOT NULL,
  PRIMARY KEY (desk_id, place, folder)
) WITHOUT ROWID;
CREATE INDEX desk_places_person ON desk_places (person);
CREATE TABLE counters (
  name TEXT PRIMARY KEY,
  n    INTEGER NOT NULL
) WITHOUT ROWID;

-- +goose Down
SELECT 'this step cannot be taken back: restore a backup';
