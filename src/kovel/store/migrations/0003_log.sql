ALTER TABLE word ADD COLUMN sure REAL NOT NULL DEFAULT 1;
CREATE TABLE subclip_new (
  id INTEGER PRIMARY KEY,
  recording INTEGER NOT NULL REFERENCES recording(id) ON DELETE CASCADE,
  name TEXT NOT NULL,
  start INTEGER NOT NULL, length INTEGER NOT NULL CHECK (length > 0),  -- project frames on the recording's clock
  note TEXT NOT NULL DEFAULT '', tags TEXT NOT NULL DEFAULT '',
  verdict TEXT NOT NULL DEFAULT 'keep' CHECK (verdict IN ('', 'keep', 'maybe', 'drop')),  -- '': a slice not judged yet
  board REAL,                                   -- place on the storyboard; NULL: not on it
  created TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);
INSERT INTO subclip_new (id, recording, name, start, length, note, tags, verdict, created) SELECT id, recording, name, start, length, note, tags, verdict, created FROM subclip;
DROP TABLE subclip;
ALTER TABLE subclip_new RENAME TO subclip;
CREATE INDEX subclip_recording ON subclip(recording);
CREATE TABLE marker (
  id INTEGER PRIMARY KEY,
  recording INTEGER NOT NULL REFERENCES recording(id) ON DELETE CASCADE,
  frame INTEGER NOT NULL,                       -- project frames on the recording's clock
  name TEXT NOT NULL DEFAULT ''
);
CREATE INDEX marker_recording ON marker(recording);
CREATE TABLE log_step (                         -- what was done in the log, to undo it
  id INTEGER PRIMARY KEY,
  project INTEGER NOT NULL REFERENCES project(id) ON DELETE CASCADE,
  did TEXT NOT NULL,
  change TEXT NOT NULL,                         -- rows before and after, JSON
  undone INTEGER NOT NULL DEFAULT 0,
  at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);
CREATE INDEX log_step_project ON log_step(project, undone);
CREATE TABLE setting (key TEXT PRIMARY KEY, value TEXT NOT NULL);
