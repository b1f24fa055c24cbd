"""Recordings whose files are not where they were, found again: by checksum, whatever they are called now; or a better version."""

import re
import shutil
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from kovel.core.time.rate import Rate, length_in
from kovel.media.child import call
from kovel.media.derive import checksum
from kovel.media.files import Unusable
from kovel.store import jobs, projects, recordings
from kovel.store.archive import moved_to
from kovel.store.projects import Invalid
from kovel.store.recordings import Recording
from kovel.work.folder import Data
from kovel.work.intake import files_in, in_project, prepare

AT_ONCE = 300_000_000  # bytes of a file that is compared while somebody waits


@dataclass(frozen=True, slots=True)
class Found:
    """What became of a search: (recording, where it is now); those that are still missing; those replaced, and why others not."""

    again: tuple[tuple[str, str], ...] = ()
    missing: tuple[str, ...] = ()
    better: tuple[tuple[str, str], ...] = ()
    left: tuple[str, ...] = ()

    @property
    def said(self) -> str:
        parts = [f"{len(self.again)} found again"] if self.again else []
        parts += [f"{len(self.better)} replaced by a better version"] if self.better else []
        parts += [f"{len(self.missing)} still missing"] if self.missing else []
        return ", ".join(parts) or "nothing was missing"


def offline(data: Data, project: int) -> list[Recording]:
    """The recordings whose files are not where they were, or are other files now (by their size)."""
    return [r for r in recordings.of_project(data.db, project) if not there(r)]


def there(r: Recording) -> bool:
    """Whether a recording's file is where it was, and the same one: by size and time, and by its checksum where the time is
    another. A large file's is found only before a render (`unsure`): it takes long."""
    try:
        st = Path(r.path).stat()
    except OSError:
        return False
    if st.st_size != r.size:
        return False
    if st.st_mtime_ns == r.changed or not (r.changed and r.checksum) or st.st_size > AT_ONCE:
        return True
    return _sum(r.path, st.st_mtime_ns, st.st_size) == r.checksum


def unsure(r: Recording) -> bool:
    """Whether a recording's file has its size but was written since, and is too large to be compared at once."""
    try:
        st = Path(r.path).stat()
    except OSError:
        return False
    return bool(r.changed and r.checksum) and st.st_mtime_ns != r.changed and st.st_size > AT_ONCE


@lru_cache(1024)
def _sum(path: str, changed: int, size: int) -> str:
    """A file's checksum, found once for as long as it stays as it is."""
    try:
        return checksum(Path(path))
    except OSError:
        return ""


def take_as_it_is(data: Data, recording: int) -> Recording:
    """The file that is at a recording's path now takes its place, if it lasts as long; what was made is made anew."""
    r = recordings.get(data.db, recording)
    if there(r):
        raise Invalid(f"{r.name} is the file that was brought in.")
    clock = projects.get(data.db, r.project).rate
    facts = in_project(call("probe", {"path": r.path}), clock)
    if why := _differs(r, facts, clock):
        raise Invalid(f"What is there now cannot take the place of {r.name}: {why}. Bring it in as a recording of its own.")
    recordings.replace_file(data.db, r.id, r.path, facts)
    shutil.rmtree(data.derived(r.id), ignore_errors=True)  # all of it was made of the other file
    prepare(data, recordings.get(data.db, r.id))
    return r


def relink(data: Data, project: int, folder: Path, better: bool = False) -> Found:
    """Look for missing recordings in a folder and all below it: the same file by size and checksum, renamed or not. With `better`
    also files of a recording's name that last as long and begin at the same timecode take its place, missing or not."""
    projects.get(data.db, project)
    files = files_in(folder)
    if not files:
        raise Invalid(f"There are no files in {folder.name}.")
    missing = offline(data, project)
    sizes: dict[int, list[Path]] = {}
    for p in files:
        sizes.setdefault(p.stat().st_size, []).append(p)
    sums: dict[Path, str] = {}
    taken = {r.path for r in recordings.of_project(data.db, project)}
    again: list[tuple[str, str]] = []
    for r in missing:
        named = sorted(sizes.get(r.size, []), key=lambda p: p.name != Path(r.path).name)  # most keep their names
        for p in named:
            if str(p) in taken:
                continue
            if r.checksum and sums.setdefault(p, checksum(p)) != r.checksum:
                continue
            if not r.checksum and p.name != Path(r.path).name:
                continue  # it was never read to its end: its name has to say so
            moved_to(data.db, r.id, str(p), p.stat().st_mtime_ns)
            taken.add(str(p))
            again.append((r.name, str(p)))
            _made_again(data, r.id)
            break
    replaced, left = _better(data, project, files, taken) if better else ([], [])
    return Found(tuple(again), tuple(r.name for r in offline(data, project)), tuple(replaced), tuple(left))


def _made_again(data: Data, recording: int) -> None:
    """Go on preparing a recording that could not be."""
    now = jobs.latest_of_recordings(data.db, recordings.get(data.db, recording).project).get(recording)
    if now is None or now.state in ("failed", "cancelled"):
        prepare(data, recordings.get(data.db, recording))


def _better(data: Data, project: int, files: list[Path], taken: set[str]) -> tuple[list[tuple[str, str]], list[str]]:
    rows = {name: r for r in recordings.of_project(data.db, project) for name in _names(r)}
    clock = projects.get(data.db, project).rate
    done: list[tuple[str, str]] = []
    left: list[str] = []
    for p in files:
        r = rows.get(p.stem.casefold())
        if r is None or str(p) in taken:
            continue
        try:
            facts = in_project(call("probe", {"path": str(p)}), clock)
        except Unusable as e:
            left.append(str(e))
            continue
        if why := _differs(r, facts, clock):
            left.append(f"{p.name} does not take the place of {r.name}: {why}.")
            continue
        recordings.replace_file(data.db, r.id, str(p), facts)
        shutil.rmtree(data.derived(r.id), ignore_errors=True)  # all of it was made of the other file
        prepare(data, recordings.get(data.db, r.id))
        taken.add(str(p))
        done.append((r.name, str(p)))
    return done, left


def _names(r: Recording) -> set[str]:
    """What a file of the same recording may be called: as its file, and as that was called before it lay in a project's one file."""
    stem = Path(r.path).stem
    return {stem.casefold(), re.sub(r"^\d+ |, used pictures$", "", stem).casefold()}


def _differs(r: Recording, facts: dict[str, object], clock: Rate) -> str:
    """Why a file is not the same recording; nothing where it is."""
    rate, frames = Rate(*facts["rate"]), facts["frames"]  # type: ignore[misc]
    if (r.frames is None) != (frames is None):
        return "one is a still"
    if r.frames is not None and isinstance(frames, int) and length_in(frames, rate, clock) != r.length(clock):
        return f"it lasts {length_in(frames, rate, clock)} frames, not {r.length(clock)}"
    if r.start_timecode and facts["start_timecode"] != r.start_timecode:
        return f"it begins at {facts['start_timecode'] or 'no timecode'}, not {r.start_timecode}"
    if r.picture and not facts["picture"]:
        return "it has no picture"
    if r.sound and not facts["sound"]:
        return "it has no sound"
    return ""
