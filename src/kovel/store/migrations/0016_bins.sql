-- Bins of the editor's own, a recording in as many as they like; the frame that stands for a recording.
CREATE TABLE bin (
  id INTEGER PRIMARY KEY,
  project INTEGER NOT NULL REFERENCES project (id) ON DELETE CASCADE,
  name TEXT NOT NULL
) STRICT;
CREATE TABLE bin_recording (
  bin INTEGER NOT NULL REFERENCES bin (id) ON DELETE CASCADE,
  recording INTEGER NOT NULL REFERENCES recording (id) ON DELETE CASCADE,
  PRIMARY KEY (bin, recording)
) WITHOUT ROWID, STRICT;
ALTER TABLE recording ADD COLUMN poster INTEGER;  -- frame of the project's clock; NULL: one is chosen
