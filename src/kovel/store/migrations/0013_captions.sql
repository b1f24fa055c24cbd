-- Captions: what the editor changed in those that follow the words, and a file of them that stands instead.
CREATE TABLE caption_edit (
  story INTEGER NOT NULL REFERENCES story (id) ON DELETE CASCADE,
  recording INTEGER NOT NULL,
  sample INTEGER NOT NULL,
  was TEXT NOT NULL,
  text TEXT NOT NULL,
  PRIMARY KEY (story, recording, sample)
) WITHOUT ROWID, STRICT;
CREATE TABLE caption_file (
  story INTEGER PRIMARY KEY REFERENCES story (id) ON DELETE CASCADE,
  name TEXT NOT NULL,
  cues TEXT NOT NULL
) STRICT;
