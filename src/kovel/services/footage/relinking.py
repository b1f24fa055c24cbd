"""Recordings whose files are not where they were, found again: by checksum, whatever they are called now; or a
better version."""

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
    """What became of a search: (recording, where it is now); those that are still missing; those replaced, and why
    others not."""

    again: tuple[tuple[str, str], ...] = ()
    missing: tuple[str, ...] = ()
    better: tuple[tuple[str, str], ...] = ()
    left: tuple[str, ...] = ()

    @classmethod
    def of(cls, kept: dict[str, Any]) -> "Found":
        """What a job keeps of it."""
        pairs = {field_name: tuple((str(a), str(b)) for a, b in kept[field_name]) for field_name in ("again", "better")}
        return cls(pairs["again"], tuple(kept["missing"]), pairs["better"], tuple(kept["left"]))

    @property
    def said(self) -> str:
        """What was found, in words."""
        parts = [f"{len(self.again)} found again"] if self.again else []
        parts += [f"{len(self.better)} replaced by a better version"] if self.better else []
        parts += [f"{len(self.missing)} still missing"] if self.missing else []
        return ", ".join(parts) or "nothing was missing"

    @property
    def told(self) -> str:
        """All of it in sentences; of many the first."""
        told_lines = [*(f"{name} is at {Path(at).name} now." for name, at in (*self.again, *self.better)), *self.left]
        more = f" And {len(told_lines) - TOLD} more." if len(told_lines) > TOLD else ""
        return " ".join([f"{self.said[0].upper()}{self.said[1:]}.", *told_lines[:TOLD]]) + more


def offline(data_folder: DataFolder, project: int) -> list[Recording]:
    """The recordings whose files are not where they were, or are other files now (by their size)."""
    return [recording for recording in recordings.of_project(data_folder.db, project) if not there(recording)]


def there(recording: Recording) -> bool:
    """Whether a recording's file is where it was, and the same one: by size and time, and by its checksum where the
    time is another. A large file's is found only before a render (`unsure`): it takes long."""
    try:
        st = Path(recording.path).stat()
    except OSError:
        return False
    if st.st_size != recording.size:
        return False
    if st.st_mtime_ns == recording.changed or not (recording.changed and recording.checksum) or st.st_size > AT_ONCE:
        return True
    return _sum(recording.path, st.st_mtime_ns, st.st_size) == recording.checksum


def unsure(recording: Recording) -> bool:
    """Whether a recording's file has its size but was written since, and is too large to be compared at once."""
    try:
        st = Path(recording.path).stat()
    except OSError:
        return False
    return (
        bool(recording.changed and recording.checksum) and st.st_mtime_ns != recording.changed and st.st_size > AT_ONCE
    )


@lru_cache(1024)
def _sum(path: str, changed: int, size: int) -> str:
    """A file's checksum, found once for as long as it stays as it is."""
    try:
        return checksum(Path(path))
    except OSError:
        return ""


def take_as_it_is(data_folder: DataFolder, recording: int) -> Recording:
    """The file that is at a recording's path now takes its place, if it lasts as long; what was made is made anew."""
    this_recording = recordings.get(data_folder.db, recording)
    if there(this_recording):
        raise Invalid(f"{this_recording.name} is the file that was brought in.")
    clock = projects.get(data_folder.db, this_recording.project).rate
    facts = in_project(call("probe", {"path": str(file_of(data_folder, this_recording))}), clock)
    if why := _differs(this_recording, facts, clock):
        raise Invalid(
            f"What is there now cannot take the place of {this_recording.name}: {why}. "
            "Bring it in as a recording of its own."
        )
    recordings.replace_file(data_folder.db, this_recording.id, this_recording.path, facts)
    shutil.rmtree(data_folder.derived(this_recording.id), ignore_errors=True)  # all of it was made of the other file
    prepare(data_folder, recordings.get(data_folder.db, this_recording.id))
    return this_recording


def search(data_folder: DataFolder, project: int, folder: Path, better: bool = False) -> Job:
    """Queue looking for missing recordings in a folder and all below it: the same file by size and checksum, renamed
    or not. With `better` also files of a recording's name that last as long and begin at the same timecode take its
    place, missing or not."""
    projects.get(data_folder.db, project)
    if any(job.is_open for job in jobs.of_project(data_folder.db, project, "relink")):
        raise Invalid("A folder is being looked through already. Wait for it, or stop it.")
    files = files_in(folder)
    if not files:
        raise Invalid(f"There are no files in {folder.name}.")
    sizes = {recording.size for recording in offline(data_folder, project)}
    sums = [str(path) for path in files if _size(path) in sizes]
    named = _by_name(data_folder, project) if better else {}
    facts = [str(path) for path in files if path.stem.casefold() in named]
    return jobs.add(data_folder.db, project, "relink", {"sums": sums, "facts": facts})


def take_found(data_folder: DataFolder, job: Job, result: dict[str, Any]) -> Found:
    """Give recordings the files that a search has found."""
    project, sums = job.project, result["sums"]
    paths = {Path(sum_path): _size(Path(sum_path)) for sum_path in sums}
    taken = {recording.path for recording in recordings.of_project(data_folder.db, project)}
    again: list[tuple[str, str]] = []
    for recording in offline(data_folder, project):
        fitting = [path for path, size in paths.items() if size == recording.size and str(path) not in taken]
        for path in sorted(fitting, key=lambda p: p.name != Path(recording.path).name):  # most keep their names
            if recording.checksum and sums[str(path)] != recording.checksum:
                continue
            if not recording.checksum and path.name != Path(recording.path).name:
                continue  # it was never read to its end: its name has to say so
            remember(data_folder, path)
            moved_to(data_folder.db, recording.id, str(path), path.stat().st_mtime_ns)
            taken.add(str(path))
            again.append((recording.name, str(path)))
            _made_again(data_folder, recording.id)
            break
    replaced, files_left = _better(data_folder, project, result["facts"], taken)
    return Found(
        tuple(again),
        tuple(recording.name for recording in offline(data_folder, project)),
        tuple(replaced),
        tuple(files_left),
    )


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return -1


def _made_again(data_folder: DataFolder, recording: int) -> None:
    """Go on preparing a recording that could not be."""
    job_now = jobs.latest_of_recordings(data_folder.db, recordings.get(data_folder.db, recording).project).get(
        recording
    )
    if job_now is None or job_now.can_be_tried_again:
        prepare(data_folder, recordings.get(data_folder.db, recording))


def _by_name(data_folder: DataFolder, project: int) -> dict[str, Recording]:
    return {
        name: recording for recording in recordings.of_project(data_folder.db, project) for name in _names(recording)
    }


def _better(
    data_folder: DataFolder, project: int, facts_of: dict[str, Any], taken: set[str]
) -> tuple[list[tuple[str, str]], list[str]]:
    better_files = _by_name(data_folder, project)
    clock = projects.get(data_folder.db, project).rate
    done: list[tuple[str, str]] = []
    files_left: list[str] = []
    for path, told_facts in facts_of.items():
        this_path = Path(path)
        recording = better_files.get(this_path.stem.casefold())
        if recording is None or path in taken:
            continue
        if "unusable" in told_facts:
            files_left.append(told_facts["unusable"])
            continue
        facts = in_project(told_facts, clock)
        if why := _differs(recording, facts, clock):
            files_left.append(f"{this_path.name} does not take the place of {recording.name}: {why}.")
            continue
        remember(data_folder, this_path)
        recordings.replace_file(data_folder.db, recording.id, path, facts)
        shutil.rmtree(data_folder.derived(recording.id), ignore_errors=True)  # all of it was made of the other file
        prepare(data_folder, recordings.get(data_folder.db, recording.id))
        taken.add(path)
        done.append((recording.name, path))
    return done, files_left


def _names(recording: Recording) -> set[str]:
    """What a file of the same recording may be called: as its file, and as that was called before it lay in a
    project's one file."""
    stem = Path(recording.path).stem
    return {stem.casefold(), re.sub(r"^\d+ |, used pictures$", "", stem).casefold()}


def _differs(recording: Recording, facts: dict[str, object], clock: Rate) -> str:
    """Why a file is not the same recording; nothing where it is."""
    frame_rate, frames = Rate(*facts["rate"]), facts["frames"]  # type: ignore[misc]
    if (recording.frames is None) != (frames is None):
        return "one is a still"
    if (
        recording.frames is not None
        and isinstance(frames, int)
        and length_in(frames, frame_rate, clock) != recording.length(clock)
    ):
        return f"it lasts {length_in(frames, frame_rate, clock)} frames, not {recording.length(clock)}"
    if recording.start_timecode and facts["start_timecode"] != recording.start_timecode:
        return f"it begins at {facts['start_timecode'] or 'no timecode'}, not {recording.start_timecode}"
    if recording.picture and not facts["picture"]:
        return "it has no picture"
    if recording.sound and not facts["sound"]:
        return "it has no sound"
    return ""


def _take(data_folder: DataFolder, job: Job, result: dict[str, Any]) -> Outcome:
    files_found = take_found(data_folder, job, result)
    return Outcome(files_found.told, asdict(files_found))


RELINK = JobKind("relink", "compare", 1, _take)
