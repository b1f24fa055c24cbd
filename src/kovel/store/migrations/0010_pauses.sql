-- a job that waits because the editor said so
ALTER TABLE job ADD COLUMN paused INTEGER NOT NULL DEFAULT 0;
-- how far it was when this try began: what was made before counts, but says nothing of the pace
ALTER TABLE job ADD COLUMN base REAL NOT NULL DEFAULT 0;
