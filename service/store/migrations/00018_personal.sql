-- +goose Up
-- Links with which people reach the page of their own signature.
CREATE TABLE personal_links (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  person     TEXT NOT NULL,        -- mail address, folded
  digest     BLOB NOT NULL UNIQUE, -- SHA-256 of the secret in the link
  device     BLOB NOT NULL,        -- SHA-256 of the secret of the device that opened it first; empty until then
  created_at TEXT NOT NULL,
  ends_at    TEXT NOT NULL,
  opened_at  TEXT NOT NULL,
  revoked_at TEXT NOT NULL
);
CREATE INDEX personal_links_person ON personal_links (person);
-- What people chose on that page.
CREATE TABLE personal_choices (
  person    TEXT PRIMARY KEY,
  client    TEXT NOT NULL, -- profile
  language  TEXT NOT NULL, -- BCP 47
  chosen_at TEXT NOT NULL
) WITHOUT ROWID;
-- What the page and the add-on know of a signature in a program. What desks know is in desk_places.
CREATE TABLE proofs (
  person    TEXT NOT NULL,
  client    TEXT NOT NULL,
  way       TEXT NOT NULL, -- by which it is known: page or add-on
  situation TEXT NOT NULL,
  release   TEXT NOT NULL,
  state     TEXT NOT NULL, -- core/proof.State
  kinds     TEXT NOT NULL, -- JSON: core/proof.Kind
  kit       TEXT NOT NULL, -- digest of the person's kit for the program at that time
  proved_at TEXT NOT NULL,
  since     TEXT NOT NULL, -- since when the state has been this one
  PRIMARY KEY (person, client, way, situation)
) WITHOUT ROWID;
-- To whom an invitation or a reminder went.
CREATE TABLE invitations (
  person  TEXT NOT NULL,
  kind    TEXT NOT NULL, -- invitation or reminder
  way     TEXT NOT NULL, -- draft or sent
  sent_at TEXT NOT NULL
);
CREATE INDEX invitations_person ON invitations (person, sent_at);
-- What people ask of those who keep their details.
CREATE TABLE detail_requests (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  person     TEXT NOT NULL,
  field      TEXT NOT NULL,
  kind       TEXT NOT NULL, -- change: a value of one's own; wrong: what the directory has is not right
  value      TEXT NOT NULL, -- that is asked for; blank for none
  note       TEXT NOT NULL,
  state      TEXT NOT NULL, -- open, accepted or refused
  asked_at   TEXT NOT NULL,
  decided_at TEXT NOT NULL
);
CREATE INDEX detail_requests_state ON detail_requests (state, id);

-- +goose Down
SELECT 'this step cannot be taken back: restore a backup';
