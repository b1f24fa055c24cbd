-- A recording may be a voice-over. SQLite has no other way to change a CHECK without making the table anew ("ALTER TABLE",
-- section 7 of its documentation).
PRAGMA writable_schema = ON;
UPDATE sqlite_schema SET sql = replace(sql, '''music'', ''still'')', '''music'', ''still'', ''voice'')')
  WHERE type = 'table' AND name = 'recording';
PRAGMA writable_schema = RESET;
