ALTER TABLE project ADD COLUMN story INTEGER;       -- the story that is open; NULL: the first one
ALTER TABLE story ADD COLUMN muted TEXT NOT NULL DEFAULT '[]';
ALTER TABLE story ADD COLUMN soloed TEXT NOT NULL DEFAULT '[]';
ALTER TABLE story ADD COLUMN target INTEGER NOT NULL DEFAULT 0;  -- frames; 0: none
ALTER TABLE piece ADD COLUMN card TEXT;             -- JSON [colour, text]
ALTER TABLE piece ADD COLUMN take TEXT NOT NULL DEFAULT 'both';
ALTER TABLE piece ADD COLUMN zoom INTEGER NOT NULL DEFAULT 100;
ALTER TABLE piece ADD COLUMN grp INTEGER NOT NULL DEFAULT 0;
ALTER TABLE cover ADD COLUMN natural INTEGER NOT NULL DEFAULT 0;
ALTER TABLE cover ADD COLUMN span INTEGER NOT NULL DEFAULT 0;
CREATE TABLE laid_sound (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  id INTEGER NOT NULL,
  loose INTEGER NOT NULL, ordinal INTEGER NOT NULL,
  source INTEGER NOT NULL, start INTEGER NOT NULL, length INTEGER NOT NULL CHECK (length > 0),
  piece INTEGER NOT NULL, moment INTEGER NOT NULL, lane INTEGER NOT NULL CHECK (lane >= 1),
  kind TEXT NOT NULL, level INTEGER NOT NULL, rise INTEGER NOT NULL, fall INTEGER NOT NULL, grp INTEGER NOT NULL,
  PRIMARY KEY (story, id)
) WITHOUT ROWID;
CREATE TABLE seam (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  ordinal INTEGER NOT NULL,
  left_piece INTEGER NOT NULL, right_piece INTEGER NOT NULL,  -- 0: the story's beginning or end
  split INTEGER NOT NULL, blend TEXT NOT NULL, length INTEGER NOT NULL, cross INTEGER NOT NULL,
  PRIMARY KEY (story, left_piece, right_piece)
) WITHOUT ROWID;
CREATE TABLE section (
  story INTEGER NOT NULL REFERENCES story(id) ON DELETE CASCADE,
  id INTEGER NOT NULL,
  ordinal INTEGER NOT NULL,
  piece INTEGER NOT NULL, heading TEXT NOT NULL, target INTEGER NOT NULL,
  PRIMARY KEY (story, id)
) WITHOUT ROWID;
ALTER TABLE recording ADD COLUMN sync_set INTEGER;         -- recordings of one moment share a number
ALTER TABLE recording ADD COLUMN sync_offset INTEGER NOT NULL DEFAULT 0;  -- 48 kHz samples on the set's clock at which it starts
ALTER TABLE recording ADD COLUMN sync_ppm REAL NOT NULL DEFAULT 0;        -- how much faster its clock runs than the set's
ALTER TABLE recording ADD COLUMN sync_sure REAL NOT NULL DEFAULT 0;
ALTER TABLE recording ADD COLUMN sync_how TEXT NOT NULL DEFAULT '';
