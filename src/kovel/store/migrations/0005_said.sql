ALTER TABLE recording ADD COLUMN said INTEGER NOT NULL DEFAULT 0;  -- how often its words were changed
