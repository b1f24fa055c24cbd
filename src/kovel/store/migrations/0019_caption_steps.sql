-- Undo of captions, by story: each step keeps what it touched as it was and as it is (JSON; null where there was nothing).
CREATE TABLE caption_step (
  story INTEGER NOT NULL REFERENCES story (id) ON DELETE CASCADE,
  n INTEGER NOT NULL,
  did TEXT NOT NULL,
  recording INTEGER NOT NULL,   -- of the first word of the caption that was typed; 0: the file that stands instead
  sample INTEGER NOT NULL,
  was TEXT NOT NULL,            -- [what its words said, what it says], or [name, cues] of a file
  now TEXT NOT NULL,
  undone INTEGER NOT NULL DEFAULT 0,
  PRIMARY KEY (story, n)
) WITHOUT ROWID, STRICT;
