-- +goose Up
-- A package holds a template's forms, or kits of a way of installing, which may be of a release.
ALTER TABLE packages ADD COLUMN release_id INTEGER NOT NULL DEFAULT 0; -- 0 for none
ALTER TABLE packages ADD COLUMN way TEXT NOT NULL DEFAULT '';         -- blank for all forms
ALTER TABLE packages ADD COLUMN client TEXT NOT NULL DEFAULT '';
ALTER TABLE packages ADD COLUMN audience TEXT NOT NULL DEFAULT '';
ALTER TABLE packages ADD COLUMN person TEXT NOT NULL DEFAULT '';

-- +goose Down
SELECT 'this step cannot be taken back: restore a backup';
