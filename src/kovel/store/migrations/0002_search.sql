CREATE TABLE sentence (
  id INTEGER PRIMARY KEY,
  recording INTEGER NOT NULL REFERENCES recording(id) ON DELETE CASCADE,
  start INTEGER NOT NULL, end INTEGER NOT NULL,  -- 48 kHz samples
  speaker TEXT NOT NULL, text TEXT NOT NULL
);
CREATE INDEX sentence_recording ON sentence(recording);
CREATE VIRTUAL TABLE sentence_search USING fts5(text, content = 'sentence', content_rowid = 'id', tokenize = 'unicode61 remove_diacritics 2');
CREATE TRIGGER sentence_added AFTER INSERT ON sentence BEGIN INSERT INTO sentence_search (rowid, text) VALUES (new.id, new.text); END;
CREATE TRIGGER sentence_removed AFTER DELETE ON sentence BEGIN INSERT INTO sentence_search (sentence_search, rowid, text) VALUES ('delete', old.id, old.text); END;
CREATE INDEX word_time ON word(recording, start);
