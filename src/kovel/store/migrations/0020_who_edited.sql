-- Who made an edit: by their browser (nothing: a program), and what they were called then.
ALTER TABLE journal ADD COLUMN editor TEXT NOT NULL DEFAULT '';
ALTER TABLE journal ADD COLUMN editor_name TEXT NOT NULL DEFAULT '';
