"""The demo's upright version, worked out once by what the Picture room does: `picture.py`, run where Kovel can be imported.

Writes footage/picture.json: the settings that frame every piece on its face.
"""
import json
import tempfile
import time
from pathlib import Path

from kovel.demo import project
from kovel.store import jobs, stories
from kovel.work import framing
from kovel.work.folder import Data
from kovel.work.foreman import Foreman

ROWS = project.FOOTAGE / "picture.json"
ROWS.write_text("[]")
data = Data(Path(tempfile.mkdtemp()))
p = project.ensure(data)
f = Foreman(data)
f.start()
while any(j.kind == "prepare" for j in jobs.in_state(data.db, "waiting", "working")):  # pictures are all it takes
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
