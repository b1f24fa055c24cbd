"""Room on the disk: what Kovel has made takes so much; over a budget the pictures that were looked at least go first.

proxy.mp4, pieces     go, and are made again piece by piece when somebody looks
sound, waveform,
levels, small frames  stay: the recording opens, is read and cut as before
"""

from __future__ import annotations

import contextlib
import json
import shutil
import time
from dataclasses import dataclass
from functools import lru_cache, partial
from pathlib import Path

from kovel.core.errors import Invalid
from kovel.data_folder import DataFolder, looked_at
from kovel.jobs.kinds import Chore
from kovel.media.whole_files import keep
from kovel.store import jobs, kept_settings, recordings

GB = 1_000_000_000
JUST_NOW = 600.0  # seconds: what was looked at since stays
PICTURES = ("proxy.mp4", "proxy.idx", "picture.json")


@dataclass(frozen=True, slots=True)
class Taken:
    """Bytes a recording's folder takes, and how many of them could be made again when asked for."""

    all: int
    pictures: int


def taken(folder: Path) -> Taken:
    whole = pictures = 0
    with contextlib.suppress(OSError):
        for path in folder.rglob("*"):
            with contextlib.suppress(OSError):
                n = path.stat().st_size if path.is_file() else 0
                whole += n
                pictures += n if path.name in PICTURES or path.parent.name == "pieces" else 0
    return Taken(whole, pictures)


@lru_cache(4096)
def _lately(folder: Path, when: int) -> Taken:
    return taken(folder)


def taken_lately(folder: Path) -> Taken:
    """As it was some seconds ago: for lists, which are drawn often."""
    return _lately(folder, int(time.monotonic() // 20))


def of_recordings(data_folder: DataFolder) -> dict[int, Taken]:
    """What each recording's folder takes."""
    return {int(path.name): taken(path) for path in (data_folder.root / "derived").glob("*") if path.name.isdecimal()}


def of_project(data_folder: DataFolder, project: int) -> int:
    """Bytes a project takes: what was made of its recordings, its uploads, its renders."""
    bytes_made = sum(
        taken_lately(data_folder.derived(recording.id)).all
        for recording in recordings.of_project(data_folder.db, project)
    )
    return bytes_made + taken_lately(data_folder.uploads(project)).all + taken_lately(data_folder.renders(project)).all


@dataclass(frozen=True, slots=True)
class Out:
    """A recording that was taken out, and what its going for good would free: what was made of it, and its upload if
    it was one."""

    id: int
    name: str
    frees: int
    upload: str


def taken_out(data_folder: DataFolder, project: int) -> list[Out]:
    this_recordings_out = recordings.taken_out(data_folder.db, project)
    kept = {recording.path for recording in recordings.of_project(data_folder.db, project)}
    recordings_out = []
    for recording in this_recordings_out:
        upload = (
            recording.path
            if Path(recording.path).parent == data_folder.uploads(project) and recording.path not in kept
            else ""
        )
        recordings_out.append(
            Out(
                recording.id,
                recording.name,
                taken_lately(data_folder.derived(recording.id)).all + (recording.size if upload else 0),
                upload,
            )
        )
    return recordings_out


def empty(data_folder: DataFolder, project: int) -> int:
    """What was taken out goes for good: rows, what was made, uploads. Bytes freed. Files elsewhere are never
    touched."""
    recordings_out = taken_out(data_folder, project)
    recordings.forget(data_folder.db, [recording_out.id for recording_out in recordings_out])
    for recording_out in recordings_out:
        shutil.rmtree(data_folder.derived(recording_out.id), ignore_errors=True)
        if recording_out.upload:
            Path(recording_out.upload).unlink(missing_ok=True)
    return sum(recording_out.frees for recording_out in recordings_out)


def budget(data_folder: DataFolder) -> float | None:
    """Bytes that what is made may take; None for as much as there is."""
    text = kept_settings.get(data_folder.db, "budget")
    return float(text) * GB if text else None


def set_budget(data_folder: DataFolder, text: str) -> float | None:
    """`12`, `12 GB` or nothing: what is made is kept under that."""
    text = text.strip().upper().removesuffix("GB").replace(",", ".").strip()
    try:
        gb = float(text) if text else None
    except ValueError:
        gb = -1.0
    if gb is not None and not 0.1 <= gb <= 1_000_000:
        raise Invalid("Type how many GB, 0.1 or more; or nothing, for as much as there is.")
    kept_settings.put(data_folder.db, "budget", "" if gb is None else f"{gb:g}")
    return gb


def free(data_folder: DataFolder) -> int:
    return shutil.disk_usage(data_folder.root).free


def throw_pictures_away(data_folder: DataFolder, recording: int) -> int:
    """The pictures of a recording go; it stays open to work on, and they are made again as somebody looks. Bytes
    freed."""
    folder = data_folder.derived(recording)
    before = taken(folder).pictures
    whole = folder / "media.json"
    if whole.exists():
        facts = json.loads(whole.read_text())
        if facts["frames"] is None or not facts["picture"] or facts.get("own"):
            return 0
        keep(
            folder / "begun.json",
            {
                **{fact_name: facts[fact_name] for fact_name in ("rate", "picture", "sound", "frames")},
                "channels": facts.get("channels", 1),
            },
        )
        if facts["sound"]:
            keep(folder / "sound.json", {fact_name: facts[fact_name] for fact_name in ("samples", "channels")})
        keep(folder / "look.json", {"small": facts["small"]} if facts.get("small") else {})
        whole.unlink()
    for name in PICTURES:
        (folder / name).unlink(missing_ok=True)
    shutil.rmtree(folder / "pieces", ignore_errors=True)
    return before - taken(folder).pictures


def make_room(data_folder: DataFolder) -> int:
    """Hold what is made to the budget, and let go of what belongs to no recording any more; bytes freed."""
    derived = data_folder.root / "derived"
    known = recordings.all_ids(data_folder.db)
    freed = 0
    for path in derived.glob("*"):
        if path.name.isdecimal() and int(path.name) not in known:
            freed += taken(path).all
            shutil.rmtree(path, ignore_errors=True)
    most = budget(data_folder)
    if most is None:
        return freed
    have = of_recordings(data_folder)
    total = sum(t.all for t in have.values())
    looked = looked_at(data_folder)
    busy = {job.recording for job in jobs.unfinished(data_folder.db)}
    time_now = time.time()
    for recording_id in sorted(have, key=lambda i: looked.get(i, 0.0)):
        if total <= most:
            break
        if (
            recording_id in busy
            or time_now - looked.get(recording_id, 0.0) < JUST_NOW
            or not have[recording_id].pictures
        ):
            continue
        gone = throw_pictures_away(data_folder, recording_id)
        total -= gone
        freed += gone
    return freed


DISK_WATCHED = Chore(30, lambda data: partial(make_room, data))
