-- +goose Up
-- A profile says by which files its client is installed: what was the way file is a page file.
UPDATE client_profiles SET document = replace(replace(document, 'way: file' || char(10), 'way: page-file' || char(10)), 'way: file}', 'way: page-file}');

-- +goose Down
UPDATE client_profiles SET document = replace(replace(document, 'way: page-file' || char(10), 'way: file' || char(10)), 'way: page-file}', 'way: file}');
