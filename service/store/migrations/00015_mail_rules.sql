-- +goose Up
CREATE TABLE mail_rules (
	number   INTEGER PRIMARY KEY, -- versions, from 1
	document TEXT NOT NULL,       -- YAML as it was written
	note     TEXT NOT NULL,
	author   TEXT NOT NULL,
	created  TEXT NOT NULL
);

-- +goose Down
DROP TABLE mail_rules;
