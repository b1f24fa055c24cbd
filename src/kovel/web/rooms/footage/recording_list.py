"""The list of a project's recordings: what is shown of each, and what is under way."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NamedTuple

from fastapi import Request

from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder, media_facts
from kovel.services.footage.binning import FIRST, ORDERS, Heap, Shown, chosen, heaps, shown
from kovel.services.footage.disk_space import Out, taken_lately, taken_out
from kovel.services.footage.mending import being_mended
from kovel.services.footage.relinking import there
from kovel.services.footage.syncing import sets
from kovel.services.footage.time_left import preparing_ends
from kovel.services.log.recording_languages import BY_NAME
from kovel.store import bin_rows, jobs, projects, recordings, transcripts
from kovel.store.db import Database
from kovel.store.jobs import Job
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.web.pages import web
from kovel.web.small_frames import Face, face_of

UNENDED = ("waiting", "working", "failed")  # jobs that still stand beside a recording


def _match_line(curve: list[tuple[float, float]]) -> str:
    """How well a sound matches at each offset, as an SVG line 220 wide and 40 high with the best in its middle."""
    if not curve:
        return ""
    middle, top = curve[len(curve) // 2][0], max(1.0, *(y for _, y in curve))
    return " ".join(
        f"{110 + (curve_time - middle) * 36:.1f},{38 - 34 * max(0.0, y) / top:.1f}" for curve_time, y in curve
    )


@dataclass(frozen=True, slots=True)
class RowDrawn:
    """A recording in the list, and what is said of it."""

    r: Recording
    job: Job | None
    face: Face | None
    online: bool
    another: bool  # a file that is not it lies where it was
    lost: bool  # what was made of it is gone
    words: bool
    hearing: Job | None
    hear: list[tuple[str, str, bool]]
    takes: int  # bytes on the disk
    mended: str = ""  # what was found short of it, as long as it is being made again


@dataclass(frozen=True, slots=True)
class Member:
    """A recording of a sync set: how it was matched, and the line that shows how well."""

    r: Recording
    begins: float  # seconds after the first of the set
    drift: float  # parts per million
    line: str  # empty where it was not matched by sound
    agree: str


@dataclass(frozen=True, slots=True)
class FootageView:
    """The recordings of a project, as parts/recordings.html draws them."""

    project: Project
    rows: list[RowDrawn]
    sets: list[list[Member]]
    shown: Shown
    every: int
    found: int
    more: Shown | None
    heaps: list[tuple[str, list[Heap]]]
    bins: list[bin_rows.Bin]
    orders: dict[str, str]
    kinds: tuple[str, ...]
    languages: Sequence[tuple[str, str]]
    busy: bool
    coming: int
    held: int
    left: int | None  # seconds
    silent: int  # interviews without words
    hearing: bool
    syncing: Job | None
    sync_failed: str
    search: Job | None
    looking: str  # what that job does, in words
    missing: int
    out: list[Out]
    frees: int  # bytes, when what is taken out goes for good
    uploads: bool  # whether files go with it


LOOKING = {"relink": "Looking through the folder", "verify": "Reading every file"}


class _Work(NamedTuple):
    """The jobs that the list tells of."""

    making: dict[int, Job]  # the latest of each recording
    hearing: dict[int, Job]
    sync: list[Job]
    coming: list[Job]  # those of `making` that are under way
    to_be_judged: bool  # a sound is listened to: it may turn out to be music
    search: Job | None

    @property
    def is_hearing(self) -> bool:
        """Whether words are being heard."""
        return any(job.is_open for job in self.hearing.values())

    @property
    def syncing(self) -> Job | None:
        """The matching by sound that is under way."""
        return next((job for job in reversed(self.sync) if job.is_open), None)

    @property
    def sync_told(self) -> str:
        """What the last matching said, once it has ended."""
        newest = max(self.sync, key=lambda job: job.id, default=None)
        return newest.message if newest and (newest.is_done or newest.has_failed) else ""

    @property
    def is_busy(self) -> bool:
        """Whether the list will change by itself."""
        searching = self.search is not None and self.search.is_open
        return bool(self.coming or self.is_hearing or self.syncing or self.to_be_judged or searching)


def _work(data_folder: DataFolder, project: int, every: list[Recording]) -> _Work:
    making = jobs.latest_of_recordings(data_folder.db, project)
    listening = jobs.latest_of_recordings(data_folder.db, project, "listen")
    open_ones = {recording for recording, job in listening.items() if job.is_open}
    return _Work(
        making,
        jobs.latest_of_recordings(data_folder.db, project, "transcribe", "align"),
        jobs.of_project(data_folder.db, project, "sync"),
        [job for recording in every if (job := making.get(recording.id)) and job.is_open],
        any(recording.kind == "sound" and recording.id in open_ones for recording in every),
        searching_of(data_folder.db, project),
    )


def _row(
    data_folder: DataFolder, frame_rate: Rate, recording: Recording, work: _Work, have_words: Collection[int]
) -> RowDrawn:
    job, heard_job, online = work.making.get(recording.id), work.hearing.get(recording.id), there(recording)
    return RowDrawn(
        recording,
        job,
        face_of(data_folder, recording, recording.face(frame_rate), frame_rate),
        online,
        not online and Path(recording.path).is_file(),
        job is not None and job.is_done and media_facts(data_folder, recording.id) is None,
        recording.id in have_words,
        heard_job if heard_job and heard_job.state in UNENDED else None,
        microphones(recording),
        taken_lately(data_folder.derived(recording.id)).all,
        being_mended(data_folder, recording.id) if job and job.is_open else "",
    )


def footage(request: Request, project: int) -> FootageView:
    """What of a project's recordings the page asks for."""
    data_folder = web(request).data
    this_project = projects.get(data_folder.db, project)
    every = recordings.of_project(data_folder.db, project)
    have_words = transcripts.has_words(data_folder.db, project)
    work = _work(data_folder, project, every)
    asked_words = {recording for recording, job in work.hearing.items() if job.state in UNENDED}
    silent = (recording for recording in every if recording.id not in have_words and recording.id not in asked_words)
    shown_list = what_is_shown(request)
    recordings_found = chosen(data_folder, project, every, shown_list)
    recordings_out = taken_out(data_folder, project)
    return FootageView(
        project=this_project,
        rows=[
            _row(data_folder, this_project.rate, recording, work, have_words)
            for recording in recordings_found[: shown_list.count]
        ],
        sets=_sets(data_folder, project),
        shown=shown_list,
        every=len(every),
        found=len(recordings_found),
        more=replace(shown_list, count=shown_list.count + FIRST) if len(recordings_found) > shown_list.count else None,
        heaps=heaps(data_folder, project, every),
        bins=bin_rows.of_project(data_folder.db, project),
        orders={key: name for key, (name, _) in ORDERS.items()},
        kinds=recordings.RECORDING_KINDS,
        languages=BY_NAME,
        busy=work.is_busy,
        coming=sum(not job.paused for job in work.coming),
        held=sum(bool(job.paused) for job in work.coming),
        left=preparing_ends(data_folder.db, work.coming),
        silent=sum(speaks(recording) for recording in silent),
        hearing=work.is_hearing,
        syncing=work.syncing,
        sync_failed=work.sync_told,
        search=work.search,
        looking=LOOKING[work.search.kind] if work.search else "",
        missing=sum(not there(recording) for recording in every),
        out=recordings_out,
        frees=sum(taken.frees for taken in recordings_out),
        uploads=any(taken.upload for taken in recordings_out),
    )


def _sets(data_folder: DataFolder, project: int) -> list[list[Member]]:
    return [
        [
            Member(
                member.r,
                member.begins,
                member.drift,
                _match_line(member.match.curve),
                f"{sum(window[2] for window in member.match.windows)} of {len(member.match.windows)}",
            )
            for member in members
        ]
        for members in sets(data_folder, project)
    ]


def microphones(recording: Recording) -> list[tuple[str, str, bool]]:
    """What can be heard of a recording with more than two: (value, names, whether it is heard): each alone, and
    pairs."""
    if len(recording.microphones) < 3:
        return []
    names = [
        f"{index + 1} {name}" if name != str(index + 1) else name for index, name in enumerate(recording.microphones)
    ]
    pairs = [(a, a + 1) for a in range(len(names) - 1)]
    microphone_pairs = [
        (f"{start} {end}", f"{names[start]} · {names[end]}", recording.heard == (start, end)) for start, end in pairs
    ]
    microphone_pairs += [(str(a), names[a], recording.heard == (a,)) for a in range(len(names))]
    return (
        microphone_pairs
        if any(microphone[2] for microphone in microphone_pairs)
        else [
            (
                "",
                "the first track"
                if not recording.heard
                else " · ".join(names[channel_key] for channel_key in recording.heard),
                True,
            ),
            *microphone_pairs,
        ]
    )


def what_is_shown(request: Request) -> Shown:
    """Which recordings the page shows: told by the address where the list is asked for, by a header beside what is
    done to it."""
    asked_query = request.url.query if request.url.path.endswith(("/footage", "/footage/list")) else ""
    return shown(asked_query or request.headers.get("x-shown", ""))


def speaks(recording: Recording) -> bool:
    """Whether somebody is likely to speak in it."""
    return recording.kind == "interview" and recording.sound and recording.ready and not recording.aside


def searching_of(database: Database, project: int) -> Job | None:
    """The newest search for missing files, or reading of all, as long as it runs or what it found is not put away."""
    of_files = [job for kind in LOOKING for job in jobs.of_project(database, project, kind)]
    job = max(of_files, key=lambda j: j.id, default=None)
    return job if job and (job.is_open or job.message) else None
