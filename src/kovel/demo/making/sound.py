"""The sound of the demo's story, worked out once by what the Sound room does: `sound.py`, run where Kovel can be imported.

Writes footage/sound.json (edits, their recordings by file) and footage/tone-maren.flac (room tone).
"""
import json
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

from kovel.core.sound.ducking import Ducking
from kovel.demo import project
from kovel.store import jobs, recordings, stories
from kovel.services.sound import mixing
from kovel.data_folder import DataFolder
from kovel.services.job_kinds import scheduler_for
from kovel.services.tighten.quick_cuts import find

SOUND = project.FOOTAGE / "sound.json"
TONE = project.FOOTAGE / "tone-maren.flac"


def finish(data):
    f = scheduler_for(data)
    f.start()
    while jobs.unfinished(data.db):
        time.sleep(0.1)
    f.stop()


def named(value, files):
    """Recordings by their file instead of by number, wherever an edit names one."""
    if isinstance(value, dict):
        return {k: f"@{files[v]}" if k == "source" else named(v, files) for k, v in value.items()}
    return value


SOUND.write_text("[]")
data = DataFolder(Path(tempfile.mkdtemp()))
pid = project.ensure(data)
for r in recordings.of_project(data.db, pid):
    if Path(r.path).name == TONE.name:
        recordings.remove(data.db, r.id)
finish(data)
sid = stories.current(data.db, pid)
story = lambda: stories.load(data.db, sid).story
done = []


def edit(name, params):
    files = {r.id: Path(r.path).name for r in recordings.of_project(data.db, pid)}
    stories.edit(data.db, sid, None, name, params)
    plain = named(params, files)
    if name == "lay_sounds":
        plain["rows"] = [[f"@{TONE.name}", *row[1:]] for row in params["rows"]]
    done.append([name, plain])


bed = next(r for r in recordings.of_project(data.db, pid) if r.kind == "music")
find(data, bed.id)
finish(data)
edit("insert_space", {"at": story().starts[4], "length": 30})
edit(*mixing.even_voices(data, pid, story())[0])
edit("lay_sound", {"source": bed.id, "at": 12, "start": 0, "end": 500, "kind": "music", "clock_bound": True, "level": -8.0})
music = story().sounds[0].id
edit("set_several", {"rows": [[music, "fade_in", 25], [music, "fade_out", 75]], "did": "Music comes and goes"})
edit(*mixing.fit_music(data, pid, story(), music)[0])
edit(*mixing.duck(data, pid, story(), [], Ducking(-9.0, 6, 6, 10)))
edit(*mixing.lay_room_tone(data, pid, story()))
finish(data)
edit(*mixing.to_target(data, pid, story())[0])
tone = next(r for r in recordings.of_project(data.db, pid) if r.name.startswith(mixing.TONE))
subprocess.run(["ffmpeg", "-y", "-v", "error", "-i", tone.path, "-fflags", "+bitexact", "-compression_level", "12", str(TONE)], check=True)
TONE.with_suffix(".json").write_text('{"kind": "sound", "seconds": 30}\n')
SOUND.write_text(json.dumps(done, separators=(",", ":")) + "\n")
m = mixing.measure(data, pid, story())
print(m.loudness, m.range, m.peak, SOUND.stat().st_size, TONE.stat().st_size)
shutil.rmtree(data.root)
