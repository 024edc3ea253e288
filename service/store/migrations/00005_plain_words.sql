-- +goose Up
-- Stored documents use the words of the program: stage for hop, render for draw, delivery for travel, background for ground, dropped for lost.
UPDATE client_profiles SET document = replace(replace(replace(document, 'hop: draw', 'stage: render'), 'hop:', 'stage:'), 'drawn:', 'rendered:');
UPDATE client_profiles SET document = replace(document, 'as: lost', 'as: dropped');
UPDATE template_versions SET settings = replace(settings, char(10) || '  travel:', char(10) || '  delivery:');
UPDATE template_versions SET settings = replace(replace(settings, '{travel:', '{delivery:'), ', travel:', ', delivery:');
UPDATE renditions SET recipe = replace(recipe, '"ground":', '"background":');

-- +goose Down
UPDATE client_profiles SET document = replace(document, 'as: dropped', 'as: lost');
UPDATE renditions SET recipe = replace(recipe, '"background":', '"ground":');
UPDATE template_versions SET settings = replace(replace(settings, '{delivery:', '{travel:'), ', delivery:', ', travel:');
UPDATE template_versions SET settings = replace(settings, char(10) || '  delivery:', char(10) || '  travel:');
UPDATE client_profiles SET document = replace(replace(replace(document, 'stage: render', 'hop: draw'), 'stage:', 'hop:'), 'rendered:', 'drawn:');
