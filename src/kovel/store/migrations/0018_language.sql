-- The language of a recording (ISO 639-1): what the editor said, and what was found in its sound or its words.
ALTER TABLE recording ADD COLUMN language TEXT NOT NULL DEFAULT '';   -- empty: found by itself
ALTER TABLE recording ADD COLUMN spoken TEXT NOT NULL DEFAULT '';
