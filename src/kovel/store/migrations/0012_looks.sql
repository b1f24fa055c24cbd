-- Looks saved under a name, for every project of this folder.
CREATE TABLE looks (name TEXT PRIMARY KEY COLLATE NOCASE, settings TEXT NOT NULL);
