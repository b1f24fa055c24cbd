-- What was worked out of what is said: vectors by text, themes with their statements, what was told twice.
CREATE TABLE meaning (
  text TEXT PRIMARY KEY,
  vector BLOB NOT NULL                          -- float16, core.words.meaning.WIDTH of them
) WITHOUT ROWID, STRICT;
CREATE TABLE theme (
  id INTEGER PRIMARY KEY,
  project INTEGER NOT NULL REFERENCES project (id) ON DELETE CASCADE,
  name TEXT NOT NULL,
  own INTEGER NOT NULL DEFAULT 0,               -- the editor named it
  aside INTEGER NOT NULL DEFAULT 0,
  ordinal INTEGER NOT NULL
) STRICT;
CREATE TABLE theme_statement (
  recording INTEGER NOT NULL REFERENCES recording (id) ON DELETE CASCADE,
  start INTEGER NOT NULL,                       -- samples
  end INTEGER NOT NULL,
  theme INTEGER NOT NULL REFERENCES theme (id) ON DELETE CASCADE,
  own INTEGER NOT NULL DEFAULT 0,               -- the editor put it there
  PRIMARY KEY (recording, start)
) WITHOUT ROWID, STRICT;
CREATE TABLE retold (
  project INTEGER NOT NULL REFERENCES project (id) ON DELETE CASCADE,
  a_recording INTEGER NOT NULL,
  a_start INTEGER NOT NULL,
  b_recording INTEGER NOT NULL,
  b_start INTEGER NOT NULL,
  better TEXT NOT NULL CHECK (better IN ('a', 'b', 'apart')),  -- or that they do not tell the same
  PRIMARY KEY (project, a_recording, a_start, b_recording, b_start)
) WITHOUT ROWID, STRICT;
