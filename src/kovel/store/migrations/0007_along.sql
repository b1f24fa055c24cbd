-- lanes that go along with inserts and takes
ALTER TABLE story ADD COLUMN along TEXT NOT NULL DEFAULT '[]';
