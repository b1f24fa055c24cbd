"""The demo's upright version, worked out once by what the Picture room does: `picture.py`, run where Kovel can be imported.

Writes footage/picture.json: the settings that frame every piece on its face.
"""
import json
import tempfile
import time
from pathlib import Path

from kovel.demo import project
from kovel.store import jobs, stories
from kovel.services.picture import face_framing as framing
from kovel.data_folder import DataFolder
from kovel.services.job_kinds import scheduler_for

ROWS = project.FOOTAGE / "picture.json"
ROWS.write_text("[]")
data = DataFolder(Path(tempfile.mkdtemp()))
p = project.ensure(data)
f = scheduler_for(data)
f.start()
while any(j.kind == "prepare" for j in jobs.unfinished(data.db)):  # pictures are all it takes
    time.sleep(0.1)
f.stop()
sid, did = framing.other_shape(data, p, "9:16")
s = stories.load(data.db, sid).story
rows = [["story", "shape", "9:16"], ["story", "fit", "filled"]]
for x in (*s.pieces, *s.covers):
    for name in ("across", "down"):
        if name in x.settings:
            v = x.settings[name]
            rows.append([x.id, name, [list(m) for m in v] if isinstance(v, tuple) else v])
ROWS.write_text(json.dumps(rows) + "\n")
print(did, len(rows))
