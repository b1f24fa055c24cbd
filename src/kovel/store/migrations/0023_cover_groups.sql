-- Covers and titles can be grouped, as pieces and sounds are. What is set on a clip stays the last column of its row.
ALTER TABLE cover RENAME COLUMN settings TO settings_before;
ALTER TABLE cover ADD COLUMN grp INTEGER NOT NULL DEFAULT 0;
ALTER TABLE cover ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';
UPDATE cover SET settings = settings_before;
ALTER TABLE cover DROP COLUMN settings_before;
