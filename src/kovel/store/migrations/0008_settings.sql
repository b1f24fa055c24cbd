-- Settings stand beside what they belong to, as JSON of what differs from the default (core/story/settings.py).
ALTER TABLE story ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';      -- {"story": {...}, "group 5": {...}}
ALTER TABLE recording ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';  -- in every story of the project
ALTER TABLE piece ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';
ALTER TABLE cover ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';
ALTER TABLE laid_sound ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';
UPDATE piece SET settings = json_object('zoom', zoom) WHERE zoom != 100;
UPDATE cover SET settings = json_set(settings, '$.natural', json('true')) WHERE natural;
UPDATE cover SET settings = json_set(settings, '$.span', span) WHERE span;
UPDATE laid_sound SET settings = json_set(settings, '$.level', level / 10.0) WHERE level;
UPDATE laid_sound SET settings = json_set(settings, '$.fade_in', rise) WHERE rise;
UPDATE laid_sound SET settings = json_set(settings, '$.fade_out', fall) WHERE fall;
ALTER TABLE piece DROP COLUMN zoom;
ALTER TABLE cover DROP COLUMN natural;
ALTER TABLE cover DROP COLUMN span;
ALTER TABLE laid_sound DROP COLUMN level;
ALTER TABLE laid_sound DROP COLUMN rise;
ALTER TABLE laid_sound DROP COLUMN fall;
