-- the last number given to a row of a table: one that was taken away is never given again
CREATE TABLE issued (kind TEXT PRIMARY KEY, last INTEGER NOT NULL) WITHOUT ROWID;
INSERT INTO issued SELECT 'recording', max(
  (SELECT coalesce(max(id), 0) FROM recording), (SELECT coalesce(max(source), 0) FROM piece),
  (SELECT coalesce(max(source), 0) FROM cover), (SELECT coalesce(max(source), 0) FROM laid_sound));
-- which try at a job is under way: the answer of an earlier one counts no more
ALTER TABLE job ADD COLUMN attempt INTEGER NOT NULL DEFAULT 0;
-- each desk of Tighten before a change, for undo
CREATE TABLE desk_step (recording INTEGER NOT NULL, n INTEGER NOT NULL, value TEXT NOT NULL, PRIMARY KEY (recording, n)) WITHOUT ROWID;
