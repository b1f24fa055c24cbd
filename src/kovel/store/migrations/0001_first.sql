CREATE TABLE project (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL,
  rate_num INTEGER NOT NULL, rate_den INTEGER NOT NULL,
  width INTEGER NOT NULL, height INTEGER NOT NULL,
  start_frame INTEGER NOT NULL DEFAULT 0,      -- start timecode, in frames
  drop_frame INTEGER NOT NULL DEFAULT 0,
  created TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
  archived INTEGER NOT NULL DEFAULT 0,
  deleted TEXT                                  -- set when deleted; undo clears it
);
CREATE TABLE recording (
  id INTEGER PRIMARY KEY,
  project INTEGER NOT NULL REFERENCES project(id) ON DELETE CASCADE,
  path TEXT NOT NULL,
  name TEXT NOT NULL,
  kind TEXT NOT NULL CHECK (kind IN ('interview', 'b-roll', 'sound', 'music', 'still')),
  roll TEXT NOT NULL DEFAULT '', camera TEXT NOT NULL DEFAULT '', day TEXT NOT NULL DEFAULT '',
  ordinal REAL NOT NULL,
  aside INTEGER NOT NULL DEFAULT 0,             -- set aside: will not be used
  size INTEGER NOT NULL, checksum TEXT NOT NULL DEFAULT '',
  rate_num INTEGER NOT NULL, rate_den INTEGER NOT NULL,
  frames INTEGER,                               -- own frames; NULL for a still
  picture INTEGER NOT NULL, sound INTEGER NOT NULL,
  width INTEGER NOT NULL DEFAULT 0, height INTEGER NOT NULL DEFAULT 0,
  channels INTEGER NOT NULL DEFAULT 0,
  start_timecode TEXT NOT NULL DEFAULT '',
  remarks TEXT NOT NULL DEFAULT '[]',           -- how unusual material is handled, for the editor
  ready INTEGER NOT NULL DEFAULT 0,
  added TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
  UNIQUE (project, path)
);
CREATE TABLE word (
  recording INTEGER NOT NULL REFERENCES recording(id) ON DELETE CASCADE,
  i INTEGER NOT NULL,
  text TEXT NOT NULL, start INTEGER NOT NULL, end INTEGER NOT NULL,  -- 48 kHz samples
  speaker TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (recording, i)
) WITHOUT ROWID;
CREATE TABLE subclip (
  id INTEGER PRIMARY KEY,
  recording INTEGER NOT NULL REFERENCES recording(id) ON DELETE CASCADE,
  name TEXT NOT NULL,
  start INTEGER NOT NULL, length INTEGER NOT NULL CHECK (length > 0),  -- project frames on the recording's clock
  note TEXT NOT NULL DEFAULT '', tags TEXT NOT NULL DEFAULT '',
  verdict TEXT NOT NULL DEFAULT 'keep' CHECK (verdict IN ('keep', 'maybe', 'drop')),
  created TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))
);
CREATE INDEX subclip_recording ON subclip(recording);
CREATE TABLE story (
  id INTEGER PRIMARY KEY,
  project INTEGER NOT NULL REFERENCES project(id) ON DELETE CASCADE,
  name TEXT NOT NULL,
  revision INTEGER NOT NULL DEFAULT 0,
  head INTEGER,                                 -- journal entry that made the present state; NULL before the first
  next_id INTEGER NOT NULL DEFAULT 1,
  locked TEXT NOT NULL DEFAULT '[]'
);
CREATE TABLE piece (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  id INTEGER NOT NULL,
  ordinal INTEGER NOT NULL,
  source INTEGER, start INTEGER NOT NULL, length INTEGER NOT NULL CHECK (length > 0),
  PRIMARY KEY (story, id)
) WITHOUT ROWID;
CREATE TABLE cover (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  id INTEGER NOT NULL,
  loose INTEGER NOT NULL, ordinal INTEGER NOT NULL,
  source INTEGER NOT NULL, start INTEGER NOT NULL, length INTEGER NOT NULL CHECK (length > 0),
  piece INTEGER NOT NULL, moment INTEGER NOT NULL, lane INTEGER NOT NULL CHECK (lane >= 1),
  PRIMARY KEY (story, id)
) WITHOUT ROWID;
CREATE TABLE journal (
  id INTEGER PRIMARY KEY,
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  parent INTEGER REFERENCES journal(id),
  at TEXT NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')),
  command TEXT NOT NULL, params TEXT NOT NULL, did TEXT NOT NULL, notes TEXT NOT NULL, patch TEXT NOT NULL
);
CREATE INDEX journal_story ON journal(story, parent);
CREATE TABLE job (
  id INTEGER PRIMARY KEY,
  project INTEGER NOT NULL REFERENCES project(id) ON DELETE CASCADE,
  recording INTEGER REFERENCES recording(id) ON DELETE CASCADE,
  kind TEXT NOT NULL,
  params TEXT NOT NULL,
  state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'working', 'done', 'failed', 'cancelled')),
  progress REAL NOT NULL DEFAULT 0,
  started REAL, finished REAL,                  -- Unix seconds
  message TEXT NOT NULL DEFAULT '',
  result TEXT
);
CREATE INDEX job_state ON job(state);
