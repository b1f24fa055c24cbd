-- The machine that works on a job, where that is another one than the server's.
ALTER TABLE job ADD COLUMN machine TEXT NOT NULL DEFAULT '';
