-- +goose Up
ALTER TABLE template_versions ADD COLUMN texts TEXT NOT NULL DEFAULT '{}'; -- JSON object: text forms by file
ALTER TABLE template_versions ADD COLUMN author TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE template_versions DROP COLUMN author;
ALTER TABLE template_versions DROP COLUMN texts;
