-- Sound channels of a file over all of its tracks, by name; and which one or two of them are heard (as JSON lists).
ALTER TABLE recording ADD COLUMN microphones TEXT NOT NULL DEFAULT '[]';
ALTER TABLE recording ADD COLUMN heard TEXT NOT NULL DEFAULT '[]';   -- empty: the first track as it is
