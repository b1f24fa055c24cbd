"""Bringing recordings in: what page and command line share."""

import json
import os
import re
import shutil
from collections.abc import Container
from concurrent.futures import ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path
from typing import Any

from kovel.core.errors import Invalid
from kovel.core.time.rate import Rate, length_in
from kovel.core.time.timecode import format_timecode
from kovel.data_folder import DataFolder, media_facts
from kovel.media.child import call
from kovel.media.derive import checksum
from kovel.media.files import Unusable
from kovel.media.own_pictures import shown_in
from kovel.media.whole_files import keep
from kovel.store import jobs, kept_settings, projects, recordings
from kovel.store.jobs import Job
from kovel.store.recordings import Recording


def allowed(path: str, roots: list[Path]) -> Path:
    """The real path, if it lies in one of the folders Kovel may read; `Invalid` otherwise. Links are followed first."""
    try:
        this_path = Path(path.strip()).expanduser().resolve(strict=True)
    except (OSError, RuntimeError, ValueError):
        raise Invalid(f"There is no file or folder {path.strip()[:200]} on this machine.") from None
    if not any(this_path == path or path in this_path.parents for path in roots):
        names = ", ".join(str(path) for path in roots)
        raise Invalid(
            f"{this_path.name} lies outside the folders Kovel may read ({names}). "
            "Move it there, or start Kovel with --media FOLDER."
        )
    return this_path


def may_open(data_folder: DataFolder, recording: Recording) -> bool:
    """Whether a recording's file lies where Kovel may read: asked wherever one is opened, for a row may come out of
    an archive."""
    if data_folder.roots is None:
        return True
    try:
        path = Path(recording.path).resolve()
    except (OSError, RuntimeError, ValueError):
        return False
    return any(
        path == root or root in path.parents
        for root in (*data_folder.roots, data_folder.root, *_remembered(data_folder))
    )


BROUGHT_IN = "folders of recordings"  # the setting that holds where files were brought in from


def _remembered(data_folder: DataFolder) -> list[Path]:
    return [Path(known_path) for known_path in json.loads(kept_settings.get(data_folder.db, BROUGHT_IN, "[]"))]


def remember(data_folder: DataFolder, path: Path) -> None:
    """A file was brought in from here, by somebody who may: those beside it may be read from now on as well, also by
    a server."""
    folder, known = path.resolve().parent, _remembered(data_folder)
    if not any(folder == path or path in folder.parents for path in known):
        kept_settings.put(data_folder.db, BROUGHT_IN, json.dumps([str(path) for path in (*known, folder)]))


def remember_all(data_folder: DataFolder) -> None:
    """What was brought in before folders were remembered stays readable: asked once, when a server starts."""
    if kept_settings.get(data_folder.db, BROUGHT_IN, ""):
        return
    for path in recordings.all_paths(data_folder.db):
        remember(data_folder, Path(path))
    if not kept_settings.get(data_folder.db, BROUGHT_IN, ""):
        kept_settings.put(data_folder.db, BROUGHT_IN, "[]")


def file_of(data_folder: DataFolder, recording: Recording) -> Path:
    """A recording's file, to be opened; `Invalid` where it lies outside of what Kovel may read."""
    if not may_open(data_folder, recording):
        raise Invalid(
            f"{recording.name}: its file lies outside the folders Kovel may read. "
            "Move it into one of them and find it again in Footage, or start "
            "Kovel with --media FOLDER."
        )
    return Path(recording.path)


def files_in(path: Path) -> list[Path]:
    """A file itself, or the visible files of a folder and of all below it, in the order of their paths. Links that lead
    out of the folder are passed over."""
    if path.is_file():
        return [path]
    files_found = []
    for top, below, names in os.walk(path):
        below[:] = sorted(d for d in below if not d.startswith("."))
        for name in sorted(names):
            this_path = Path(top) / name
            if name.startswith(".") or this_path.suffix.lower() in NO_RECORDINGS or not this_path.is_file():
                continue
            if this_path.is_symlink() and path.resolve() not in this_path.resolve().parents:
                continue
            files_found.append(this_path)
    return files_found


NO_RECORDINGS = (
    ".json",
    ".md",
    ".txt",
    ".part",
    ".xml",
    ".csv",
    ".vtt",
    ".srt",
    ".db",
    ".edl",
    ".otio",
    ".py",
    ".html",
    ".pdf",
    ".thm",
    ".lrv",
)


def bring_in(
    data_folder: DataFolder,
    project: int,
    path: Path,
    *,
    name: str = "",
    kind: str = "",
    roll: str = "",
    camera: str = "",
    day: str = "",
    facts: dict[str, Any] | None = None,
) -> Recording:
    """Probe a file in a child, add it as a recording, queue its preparation. `Unusable` or `Invalid` and nothing is
    added.

    `facts`: what a probe found already in a file that ships with Kovel.
    """
    facts = facts or call("probe", {"path": str(path)})
    return _add(data_folder, project, path, facts, name or path.stem[:120], kind, roll, camera, day)


SAME_FILE = "It is the same file as"


def bring_in_all(
    data_folder: DataFolder, project: int, paths: list[Path], *, kind: str = ""
) -> tuple[list[Recording], list[str]]:
    """Bring in several files in their order, looking at a few at a time; those taken, and why each other one was
    not."""

    def look(path: Path) -> dict[str, Any] | Unusable:
        try:
            facts: dict[str, Any] = call("probe", {"path": str(path)})
            return facts
        except Unusable as error:
            return error

    made_recordings: list[Recording] = []
    refused = [_unnameable(path) for path in paths if not nameable(path)]
    paths = [path for path in paths if nameable(path)]
    with ThreadPoolExecutor(4) as pool:
        for path, facts in zip(paths, pool.map(look, paths), strict=True):
            try:
                if isinstance(facts, Unusable):
                    raise facts
                made_recordings.append(_add(data_folder, project, path, facts, path.stem[:120], kind))
                refused += twice(made_recordings[-1])
            except (Unusable, Invalid) as error:
                refused.append(str(error))
    return made_recordings, refused


def nameable(path: Path) -> bool:
    """Whether a file's name is text: one from another system may be bytes that are none."""
    try:
        str(path).encode("utf-8")
    except UnicodeEncodeError:
        return False
    return True


def _unnameable(path: Path) -> str:
    shown = os.fsencode(path.name).decode("utf-8", "replace")
    return f"{shown} was left out: its name is in a coding of another system. Rename it, then bring it in again."


def twice(recording: Recording) -> list[str]:
    """That a recording just brought in is here already, to be told at once."""
    return [f"{recording.name}: {remark}" for remark in recording.remarks if remark.startswith(SAME_FILE)]


def _add(
    data_folder: DataFolder,
    project: int,
    path: Path,
    facts: dict[str, Any],
    name: str,
    kind: str,
    roll: str = "",
    camera: str = "",
    day: str = "",
) -> Recording:
    if kind and kind not in recordings.RECORDING_KINDS:
        raise Invalid(f"A recording is one of: {', '.join(recordings.RECORDING_KINDS)}.")
    facts = in_project(facts, projects.get(data_folder.db, project).rate)
    there = recordings.of_project(data_folder.db, project)
    twin = next(
        (
            recording
            for recording in there
            if recording.size == facts["size"]
            and recording.path != str(path)
            and _same_file(Path(recording.path), path)
        ),
        None,
    )
    if twin:
        facts = {**facts, "remarks": [*facts["remarks"], f"{SAME_FILE} {twin.name}, which is here already."]}
    remember(data_folder, path)
    with data_folder.db.write():  # several are brought in at once: each gets a name that none of the others has
        taken = {
            recording.name.casefold()
            for recording in recordings.of_project(data_folder.db, project)
            if recording.path != str(path)
        }
        name = apart_from(name, path, taken)
        recording = recordings.add(
            data_folder.db, project, str(path), name, kind or facts["kind"], facts, roll=roll, camera=camera, day=day
        )
    prepare(data_folder, recording, facts.get("own", 0))
    return recording


def in_project(facts: dict[str, Any], frame_rate: Rate) -> dict[str, Any]:
    """What was found in a file as a project of this rate counts it: sound alone in its frames, and interlaced
    pictures by the field where the project runs at the rate of the fields."""
    own_rate = Rate(*facts["rate"])
    if facts.get("began") and not facts["start_timecode"]:
        clock = frame_rate if not facts["picture"] else own_rate
        at = clock.seconds_to_frame(Fraction(*facts["began"]))
        facts = {**facts, "start_timecode": format_timecode(at, clock, False)}
    if not facts["picture"]:
        return {
            **facts,
            "rate": [frame_rate.num, frame_rate.den],
            "frames": max(1, length_in(facts["frames"], own_rate, frame_rate)),
        }
    if facts["interlaced"] and own_rate.fps * 2 == frame_rate.fps:
        return {
            **facts,
            "rate": [frame_rate.num, frame_rate.den],
            "frames": facts["frames"] * 2,
            "remarks": [*facts["remarks"], f"Each field is a picture here, {frame_rate} a second."],
        }
    return facts


def apart_from(name: str, path: Path, taken: Container[str]) -> str:
    """A name that no other recording of the project has: cameras name alike on every card. The folder tells them
    apart, or a number."""
    for key in (name, f"{name} ({path.parent.name})", *(f"{name} {copy_number}" for copy_number in range(2, 10_000))):
        if key[:120].casefold() not in taken:
            return key[:120]
    return name


def _same_file(first_path: Path, second_path: Path) -> bool:
    try:
        return checksum(first_path) == checksum(second_path)
    except OSError:
        return False


def prepare(data_folder: DataFolder, recording: Recording, own: int | None = None, mended: str = "") -> Job:
    """Queue making everything derived from a recording. It can be opened at once, and fills as it is made. `own`:
    frames a group where its own pictures are shown, 0 where a proxy is made (media/own_pictures.py); None: as its
    folder says, or the file itself. `mended`: what was found short of it, if it was whole before."""
    file_of(data_folder, recording)
    known = {
        "rate": [recording.rate.num, recording.rate.den],
        "picture": recording.picture,
        "sound": recording.sound,
        "frames": recording.frames,
    }
    folder = data_folder.derived(recording.id)
    folder.mkdir(parents=True, exist_ok=True)
    heard_channels = list(recording.heard)
    before = media_facts(data_folder, recording.id)
    if before is not None:
        own = before.get("own", 0)
    elif own is None:
        own = _own(recording)
    if before is None or not before["whole"]:
        shown = {"own": own, **shown_in(own)} if own else {}
        keep(folder / "begun.json", {**known, "channels": 1 if recording.channels == 1 else 2, **shown})
    recordings.set_ready(data_folder.db, recording.id)
    params = {
        "path": recording.path,
        "out": str(folder),
        **known,
        "heard": heard_channels,
        "own": own,
        "mended": mended,
    }
    return jobs.add(data_folder.db, recording.project, "prepare", params, recording.id)


def _own(recording: Recording) -> int:
    if not recording.picture or recording.frames is None:
        return 0
    try:
        return int(call("probe", {"path": recording.path})["own"])
    except Unusable:  # preparing it will say so
        return 0


def choose_microphones(data_folder: DataFolder, recording: int, heard: list[int]) -> Recording:
    """Other microphones of a recording are heard from now on: one, or two as left and right. Its sound is made anew;
    its words, subclips and pieces stay."""
    this_recording = recordings.get(data_folder.db, recording)
    if (
        not 1 <= len(heard) <= 2
        or len(set(heard)) < len(heard)
        or not all(0 <= stream_index < len(this_recording.microphones) for stream_index in heard)
    ):
        raise Invalid(
            f"Choose one or two of the {len(this_recording.microphones)} microphones of {this_recording.name}."
        )
    if not Path(this_recording.path).is_file():
        raise Invalid(f"{this_recording.name} is off-line: find its file again, then choose its microphones.")
    if tuple(heard) == this_recording.heard:
        raise Invalid("They are heard already.")
    recordings.set_heard(data_folder.db, recording, heard)
    shutil.rmtree(
        data_folder.derived(recording), ignore_errors=True
    )  # all of it is made again, with the sound that is heard now
    prepare(data_folder, recordings.get(data_folder.db, recording))
    return this_recording


def safe(name: str) -> str:
    """A name that every file system takes."""
    return re.sub(r"[^\w .,()'-]", "_", name)[:80].strip(" .") or "untitled"


def put_under_free_name(part: Path, folder: Path, stem: str, suffix: str) -> Path:
    """Give a file that is whole a name in a folder that nothing has, however many ask for one like it at once; where
    it is now."""
    while True:
        free_place = free_name(folder, stem, suffix)
        try:
            os.close(os.open(free_place, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o644))  # it is taken from here on
        except FileExistsError:
            continue
        os.replace(part, free_place)
        return free_place


def free_name(folder: Path, stem: str, suffix: str = ".mp4", taken: Container[str] = ()) -> Path:
    """stem.mp4, or stem 2.mp4, ... whichever is neither there nor among those `taken`."""
    folder.mkdir(parents=True, exist_ok=True)
    n = 1
    while True:
        path = folder / f"{stem}{'' if n == 1 else f' {n}'}{suffix}"
        if not path.exists() and str(path) not in taken:
            return path
        n += 1
