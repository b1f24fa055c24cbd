-- What the editor decided about a recording, in tables of its own (it lay as JSON among the settings).
CREATE TABLE tighten (
  recording INTEGER PRIMARY KEY REFERENCES recording(id) ON DELETE CASCADE,
  shortest REAL NOT NULL, before REAL NOT NULL, after REAL NOT NULL, island REAL NOT NULL,  -- seconds
  threshold REAL                                                                           -- dBFS; NULL: found
);
CREATE TABLE tighten_kind_off (
  recording INTEGER NOT NULL REFERENCES tighten(recording) ON DELETE CASCADE, kind TEXT NOT NULL, PRIMARY KEY (recording, kind)
) WITHOUT ROWID;
CREATE TABLE tighten_decision (
  recording INTEGER NOT NULL REFERENCES tighten(recording) ON DELETE CASCADE,
  key TEXT NOT NULL,                  -- what the proposal stands for
  taken INTEGER,                      -- 1 taken out, 0 left in, NULL as its kind
  start INTEGER, end INTEGER,         -- frames, where its edges were moved
  PRIMARY KEY (recording, key)
) WITHOUT ROWID;
CREATE TABLE tighten_protected (
  recording INTEGER NOT NULL REFERENCES tighten(recording) ON DELETE CASCADE,
  start INTEGER NOT NULL, end INTEGER NOT NULL, PRIMARY KEY (recording, start, end)
) WITHOUT ROWID;
CREATE TABLE quick_cut (
  recording INTEGER PRIMARY KEY REFERENCES recording(id) ON DELETE CASCADE,
  before INTEGER NOT NULL, length INTEGER NOT NULL, ring INTEGER NOT NULL, most INTEGER NOT NULL, intro INTEGER NOT NULL, target INTEGER,
  sensitivity REAL NOT NULL,
  music INTEGER REFERENCES recording(id) ON DELETE SET NULL
);
CREATE TABLE hit_off (
  recording INTEGER NOT NULL REFERENCES quick_cut(recording) ON DELETE CASCADE, sample INTEGER NOT NULL, PRIMARY KEY (recording, sample)
) WITHOUT ROWID;
CREATE TABLE beats_corrected (
  recording INTEGER PRIMARY KEY REFERENCES recording(id) ON DELETE CASCADE,
  tempo REAL NOT NULL, first INTEGER NOT NULL, bar INTEGER NOT NULL
);
CREATE TABLE beat (
  recording INTEGER NOT NULL REFERENCES beats_corrected(recording) ON DELETE CASCADE, sample INTEGER NOT NULL, PRIMARY KEY (recording, sample)
) WITHOUT ROWID;
CREATE TABLE sync_match (                  -- how a recording was matched by sound, for its picture
  recording INTEGER PRIMARY KEY REFERENCES recording(id) ON DELETE CASCADE,
  curve TEXT NOT NULL, windows TEXT NOT NULL  -- JSON lists of numbers
);
INSERT INTO tighten SELECT r.id, json_extract(s.value, '$.settings.shortest'), json_extract(s.value, '$.settings.before'),
  json_extract(s.value, '$.settings.after'), coalesce(json_extract(s.value, '$.settings.island'), 0.08),
  json_extract(s.value, '$.settings.threshold')
  FROM setting s JOIN recording r ON s.key = printf('tighten %d', r.id) WHERE json_valid(s.value);
INSERT OR IGNORE INTO tighten_kind_off SELECT r.recording, k.value
  FROM tighten r JOIN setting s ON s.key = printf('tighten %d', r.recording), json_each(s.value, '$.kinds_off') k;
INSERT OR IGNORE INTO tighten_decision (recording, key, taken) SELECT r.recording, k.value, 0
  FROM tighten r JOIN setting s ON s.key = printf('tighten %d', r.recording), json_each(s.value, '$.off') k;
INSERT OR IGNORE INTO tighten_decision (recording, key, taken) SELECT r.recording, k.value, 1
  FROM tighten r JOIN setting s ON s.key = printf('tighten %d', r.recording), json_each(s.value, '$.on') k;
INSERT INTO tighten_decision (recording, key, start, end)
  SELECT r.recording, m.key, json_extract(m.value, '$[0]'), json_extract(m.value, '$[1]')
  FROM tighten r JOIN setting s ON s.key = printf('tighten %d', r.recording), json_each(s.value, '$.moved') m WHERE true
  ON CONFLICT (recording, key) DO UPDATE SET start = excluded.start, end = excluded.end;
INSERT OR IGNORE INTO tighten_protected SELECT r.recording, json_extract(p.value, '$[0]'), json_extract(p.value, '$[1]')
  FROM tighten r JOIN setting s ON s.key = printf('tighten %d', r.recording), json_each(s.value, '$.protected') p;
INSERT INTO quick_cut SELECT r.id, json_extract(s.value, '$.how.before'), json_extract(s.value, '$.how.length'),
  json_extract(s.value, '$.how.ring'), json_extract(s.value, '$.how.most'), json_extract(s.value, '$.how.intro'),
  json_extract(s.value, '$.how.target'), json_extract(s.value, '$.sensitivity'),
  (SELECT m.id FROM recording m WHERE m.id = json_extract(s.value, '$.music'))
  FROM setting s JOIN recording r ON s.key = printf('hits %d', r.id) WHERE json_valid(s.value);
INSERT OR IGNORE INTO hit_off SELECT r.recording, k.value
  FROM quick_cut r JOIN setting s ON s.key = printf('hits %d', r.recording), json_each(s.value, '$.off') k;
INSERT INTO beats_corrected SELECT r.id, json_extract(s.value, '$.tempo'), json_extract(s.value, '$.first'), json_extract(s.value, '$.bar')
  FROM setting s JOIN recording r ON s.key = printf('beats %d', r.id)
  WHERE json_valid(s.value) AND json_extract(s.value, '$.tempo') IS NOT NULL;
INSERT OR IGNORE INTO beat SELECT r.recording, k.value
  FROM beats_corrected r JOIN setting s ON s.key = printf('beats %d', r.recording), json_each(s.value, '$.beats') k;
INSERT INTO sync_match SELECT r.id, json_extract(s.value, '$.curve'), json_extract(s.value, '$.windows')
  FROM setting s JOIN recording r ON s.key = printf('sync %d', r.id) WHERE json_valid(s.value);
DELETE FROM setting WHERE key GLOB 'tighten *' OR key GLOB 'hits *' OR key GLOB 'beats *' OR key GLOB 'sync *';
