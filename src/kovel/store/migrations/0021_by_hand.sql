-- Whether the editor did something to it is called what it is.
ALTER TABLE theme RENAME COLUMN own TO by_hand;
ALTER TABLE theme_statement RENAME COLUMN own TO by_hand;
