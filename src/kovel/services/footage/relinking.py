"""Recordings whose files are not where they were, found again: by checksum, whatever they are called now; or a better version."""

import re
import shutil
from dataclasses import asdict, dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

from kovel.core.errors import Invalid
from kovel.core.time.rate import Rate, length_in
from kovel.data_folder import DataFolder
from kovel.jobs.kinds import JobKind, Outcome
from kovel.media.child import call
from kovel.media.derive import checksum
from kovel.services.footage.intake import file_of, files_in, in_project, prepare, remember
from kovel.store import jobs, projects, recordings
from kovel.store.archive_rows import moved_to
from kovel.store.jobs import Job
from kovel.store.recordings import Recording

TOLD = 8  # files that are told one by one
AT_ONCE = 300_000_000  # bytes of a file that is compared while somebody waits


@dataclass(frozen=True, slots=True)
class Found:
    """What became of a search: (recording, where it is now); those that are still missing; those replaced, and why others not."""

    again: tuple[tuple[str, str], ...] = ()
    missing: tuple[str, ...] = ()
    better: tuple[tuple[str, str], ...] = ()
    left: tuple[str, ...] = ()

    @classmethod
    def of(cls, kept: dict[str, Any]) -> "Found":
        """What a job keeps of it."""
        pairs = {k: tuple((str(a), str(b)) for a, b in kept[k]) for k in ("again", "better")}
        return cls(pairs["again"], tuple(kept["missing"]), pairs["better"], tuple(kept["left"]))

    @property
    def said(self) -> str:
        parts = [f"{len(self.again)} found again"] if self.again else []
        parts += [f"{len(self.better)} replaced by a better version"] if self.better else []
        parts += [f"{len(self.missing)} still missing"] if self.missing else []
        return ", ".join(parts) or "nothing was missing"

    @property
    def told(self) -> str:
        """All of it in sentences; of many the first."""
        rows = [*(f"{name} is at {Path(at).name} now." for name, at in (*self.again, *self.better)), *self.left]
        more = f" And {len(rows) - TOLD} more." if len(rows) > TOLD else ""
        return " ".join([f"{self.said[0].upper()}{self.said[1:]}.", *rows[:TOLD]]) + more


def offline(data: DataFolder, project: int) -> list[Recording]:
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


def take_as_it_is(data: DataFolder, recording: int) -> Recording:
    """The file that is at a recording's path now takes its place, if it lasts as long; what was made is made anew."""
    r = recordings.get(data.db, recording)
    if there(r):
        raise Invalid(f"{r.name} is the file that was brought in.")
    clock = projects.get(data.db, r.project).rate
    facts = in_project(call("probe", {"path": str(file_of(data, r))}), clock)
    if why := _differs(r, facts, clock):
        raise Invalid(f"What is there now cannot take the place of {r.name}: {why}. Bring it in as a recording of its own.")
    recordings.replace_file(data.db, r.id, r.path, facts)
    shutil.rmtree(data.derived(r.id), ignore_errors=True)  # all of it was made of the other file
    prepare(data, recordings.get(data.db, r.id))
    return r


def search(data: DataFolder, project: int, folder: Path, better: bool = False) -> Job:
    """Queue looking for missing recordings in a folder and all below it: the same file by size and checksum, renamed or not. With
    `better` also files of a recording's name that last as long and begin at the same timecode take its place, missing or not."""
    projects.get(data.db, project)
    if any(j.is_open for j in jobs.of_project(data.db, project, "relink")):
        raise Invalid("A folder is being looked through already. Wait for it, or stop it.")
    files = files_in(folder)
    if not files:
        raise Invalid(f"There are no files in {folder.name}.")
    sizes = {r.size for r in offline(data, project)}
    sums = [str(p) for p in files if _size(p) in sizes]
    named = _by_name(data, project) if better else {}
    facts = [str(p) for p in files if p.stem.casefold() in named]
    return jobs.add(data.db, project, "relink", {"sums": sums, "facts": facts})


def take_found(data: DataFolder, job: Job, result: dict[str, Any]) -> Found:
    """Give recordings the files that a search has found."""
    project, sums = job.project, result["sums"]
    paths = {Path(p): _size(Path(p)) for p in sums}
    taken = {r.path for r in recordings.of_project(data.db, project)}
    again: list[tuple[str, str]] = []
    for r in offline(data, project):
        fitting = [p for p, size in paths.items() if size == r.size and str(p) not in taken]
        for p in sorted(fitting, key=lambda p: p.name != Path(r.path).name):  # most keep their names
            if r.checksum and sums[str(p)] != r.checksum:
                continue
            if not r.checksum and p.name != Path(r.path).name:
                continue  # it was never read to its end: its name has to say so
            remember(data, p)
            moved_to(data.db, r.id, str(p), p.stat().st_mtime_ns)
            taken.add(str(p))
            again.append((r.name, str(p)))
            _made_again(data, r.id)
            break
    replaced, left = _better(data, project, result["facts"], taken)
    return Found(tuple(again), tuple(r.name for r in offline(data, project)), tuple(replaced), tuple(left))


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return -1


def _made_again(data: DataFolder, recording: int) -> None:
    """Go on preparing a recording that could not be."""
    now = jobs.latest_of_recordings(data.db, recordings.get(data.db, recording).project).get(recording)
    if now is None or now.can_be_tried_again:
        prepare(data, recordings.get(data.db, recording))


def _by_name(data: DataFolder, project: int) -> dict[str, Recording]:
    return {name: r for r in recordings.of_project(data.db, project) for name in _names(r)}


def _better(
    data: DataFolder, project: int, facts_of: dict[str, Any], taken: set[str]
) -> tuple[list[tuple[str, str]], list[str]]:
    rows = _by_name(data, project)
    clock = projects.get(data.db, project).rate
    done: list[tuple[str, str]] = []
    left: list[str] = []
    for path, told in facts_of.items():
        p = Path(path)
        r = rows.get(p.stem.casefold())
        if r is None or path in taken:
            continue
        if "unusable" in told:
            left.append(told["unusable"])
            continue
        facts = in_project(told, clock)
        if why := _differs(r, facts, clock):
            left.append(f"{p.name} does not take the place of {r.name}: {why}.")
            continue
        remember(data, p)
        recordings.replace_file(data.db, r.id, path, facts)
        shutil.rmtree(data.derived(r.id), ignore_errors=True)  # all of it was made of the other file
        prepare(data, recordings.get(data.db, r.id))
        taken.add(path)
        done.append((r.name, path))
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


def _take(data: DataFolder, job: Job, result: dict[str, Any]) -> Outcome:
    found = take_found(data, job, result)
    return Outcome(found.told, asdict(found))


RELINK = JobKind("relink", "compare", 1, _take)
