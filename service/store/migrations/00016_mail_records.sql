-- +goose Up
-- What gateways did with messages. No content of a message is kept.
CREATE TABLE mail_steps (
	id    INTEGER PRIMARY KEY,
	steps TEXT NOT NULL UNIQUE -- what each rule did, as JSON; many messages share one
);
CREATE TABLE mail_records (
	id         INTEGER PRIMARY KEY,
	key        TEXT NOT NULL UNIQUE, -- given by the gateway, so that one that is reported twice is kept once
	time       TEXT NOT NULL,
	gateway    TEXT NOT NULL,
	way        TEXT NOT NULL,
	message_id TEXT NOT NULL COLLATE NOCASE, -- without angle brackets
	queue      TEXT NOT NULL COLLATE NOCASE,
	sender     TEXT NOT NULL COLLATE NOCASE,
	outcome    TEXT NOT NULL,
	failed     INTEGER NOT NULL,
	says       TEXT NOT NULL,
	rule       TEXT NOT NULL,
	size_before INTEGER NOT NULL, -- bytes
	size_after  INTEGER NOT NULL, -- bytes
	place      TEXT NOT NULL,
	unsure     INTEGER NOT NULL,
	bundle     TEXT NOT NULL,
	release_id INTEGER NOT NULL,
	took       REAL NOT NULL, -- milliseconds
	steps_id   INTEGER NOT NULL REFERENCES mail_steps (id)
);
CREATE INDEX mail_records_time ON mail_records (time, id);
CREATE INDEX mail_records_message ON mail_records (message_id);
CREATE INDEX mail_records_queue ON mail_records (queue);
CREATE INDEX mail_records_sender ON mail_records (sender);
CREATE INDEX mail_records_steps ON mail_records (steps_id);
CREATE TABLE mail_recipients (
	record_id INTEGER NOT NULL REFERENCES mail_records (id) ON DELETE CASCADE,
	address   TEXT NOT NULL COLLATE NOCASE,
	PRIMARY KEY (record_id, address)
) WITHOUT ROWID;
CREATE INDEX mail_recipients_address ON mail_recipients (address);
CREATE TABLE gateways (
	name   TEXT PRIMARY KEY,
	report TEXT NOT NULL, -- the last one, as JSON, without records
	seen   TEXT NOT NULL
);

-- +goose Down
SELECT 'this step cannot be taken back: restore a backup';
