-- Recordings that were taken out wait to be brought back; a file's time tells whether another one lies at its path.
ALTER TABLE recording ADD COLUMN gone TEXT;                       -- when it was taken out
ALTER TABLE recording ADD COLUMN changed INTEGER NOT NULL DEFAULT 0;  -- the file's time in ns when it was read; 0: not known
