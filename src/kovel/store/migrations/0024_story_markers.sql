-- Named places of a story, tied to a moment of a piece (piece 0: to the story's clock).
CREATE TABLE story_marker (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  id INTEGER NOT NULL,
  ordinal INTEGER NOT NULL,
  source INTEGER, piece INTEGER NOT NULL, moment INTEGER NOT NULL, name TEXT NOT NULL, shape TEXT NOT NULL,
  PRIMARY KEY (story, id)
) WITHOUT ROWID;
