"""Whether the recordings of a project are, byte for byte, what was brought in: every file is read, its checksum
compared."""

from typing import Any

from kovel.core.errors import Invalid
from kovel.data_folder import DataFolder
from kovel.jobs.kinds import JobKind, Outcome
from kovel.store import jobs, projects, recordings
from kovel.store.jobs import Job

TOLD = 8  # recordings that are named


def verify(data_folder: DataFolder, project: int) -> Job:
    """Queue reading every recording whose checksum is known. Raises `Invalid` where there is none, or they are being
    read already."""
    projects.get(data_folder.db, project)
    if any(job.is_open for job in jobs.of_project(data_folder.db, project, "verify")):
        raise Invalid("The recordings are being verified already. Wait for it, or stop it.")
    known = [recording for recording in recordings.of_project(data_folder.db, project) if recording.checksum]
    if not known:
        raise Invalid("No recording has a checksum yet: it is taken while a recording is prepared.")
    return jobs.add(data_folder.db, project, "verify", {"sums": [recording.path for recording in known], "facts": []})


def _take(data_folder: DataFolder, job: Job, result: dict[str, Any]) -> Outcome:
    """What differs, in words; a recording that is another one's file by now was not read and is not judged."""
    read, now = result["sums"], recordings.of_project(data_folder.db, job.project)
    judged = [recording for recording in now if recording.checksum and recording.path in read]
    unread = [recording.name for recording in judged if not read[recording.path]]
    changed = [recording.name for recording in judged if read[recording.path] not in ("", recording.checksum)]
    same = len(judged) - len(unread) - len(changed)
    told = [f"{same} recording{'s are' if same != 1 else ' is'}, byte for byte, as brought in."] if same else []
    if changed:
        told.append(f"Another file by now: {_named(changed)}. Put the right ones back, then find them again.")
    if unread:
        told.append(f"Could not be read: {_named(unread)}. Check the disk, or find them again in another folder.")
    return Outcome(" ".join(told), {"same": same, "changed": changed, "unread": unread})


def _named(names: list[str]) -> str:
    more = f" and {len(names) - TOLD} more" if len(names) > TOLD else ""
    return ", ".join(names[:TOLD]) + more


VERIFY = JobKind("verify", "compare", 2, _take)
