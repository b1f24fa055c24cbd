"""Rows that come from elsewhere (an archive) held to what anything typed here is held to, before they are kept."""

from __future__ import annotations

import json
from pathlib import PurePosixPath

from kovel.core.errors import Invalid
from kovel.core.story.bounds import LONGEST, NUMBER, could_be_cut, held
from kovel.core.time.rate import RATES, Rate
from kovel.core.time.timecode import can_drop
from kovel.store import caption_rows, markers, projects, recordings, stories, subclips, transcripts
from kovel.store.db import Database
from kovel.store.projects import Project
from kovel.store.recordings import Recording

SMALLEST, LARGEST = 16, 16_384  # pixels either way
SLOWEST, FASTEST = 1, 1000  # frames a second of a recording
MOST_CHANNELS = 512
LONGEST_TEXT = 20_000


def hold(db: Database, project: int) -> None:
    """`Invalid`, in words, where a row of a project could not have been made here. To be called in the transaction
    that writes them."""
    if project in [number for number, _ in projects.broken(db)]:
        raise Invalid("its frame rate, size or start is none that a project can have")
    this_project = projects.get(db, project)
    _project(this_project)
    rows = {recording.id: recording for recording in recordings.of_project(db, project)}
    for recording in rows.values():
        _recording(db, recording)
    sources = recordings.sources(db, project)
    for kept in stories.of_project(db, project):
        held(kept.story)
        if not could_be_cut(kept.story, sources):
            raise Invalid(f"the story “{kept.name}” holds ranges or numbers that no story can have")
        caption_rows.edits(db, kept.id)
        caption_rows.brought(db, kept.id)
        for entry in db.read().execute("SELECT patch FROM journal WHERE story = ?", (kept.id,)):
            if not isinstance(json.loads(entry["patch"]), dict):
                raise Invalid(f"the history of “{kept.name}” cannot be read")
    for clip in subclips.of_project(db, project):
        recording = rows[clip.recording]
        total = recording.length(this_project.rate)
        if not (_number(clip.start) and _number(clip.length) and clip.length > 0 and clip.start >= 0):
            raise Invalid(f"a saved range of {recording.name} has no length or place")
        if total is not None and clip.start + clip.length > total:
            raise Invalid(f"a saved range of {recording.name} lies outside of it")


def _number(x: object) -> bool:
    return type(x) is int and abs(x) < NUMBER


def _project(project: Project) -> None:
    if project.rate not in RATES:
        raise Invalid("its frame rate is none that Kovel works in")
    if not (
        _number(project.width)
        and _number(project.height)
        and all(SMALLEST <= n <= LARGEST for n in (project.width, project.height))
    ):
        raise Invalid("its picture has no size that a picture can have")
    if not (_number(project.start_frame) and 0 <= project.start_frame <= LONGEST * project.rate.fps) or (
        project.drop and not can_drop(project.rate)
    ):
        raise Invalid("its start timecode is none")


def _recording(db: Database, recording: Recording) -> None:
    told = f"the recording “{str(recording.name)[:60]}”"
    rate: Rate = recording.rate
    if not (
        _number(rate.num) and _number(rate.den) and rate.num > 0 and rate.den > 0 and SLOWEST <= rate.fps <= FASTEST
    ):
        raise Invalid(f"{told} has no frame rate")
    if recording.frames is not None and not (_number(recording.frames) and 0 < recording.frames <= LONGEST * rate.fps):
        raise Invalid(f"{told} has no length")
    if not (
        _number(recording.channels)
        and 0 <= recording.channels <= MOST_CHANNELS
        and _number(recording.size)
        and recording.size >= 0
    ):
        raise Invalid(f"{told} has no size or no channels that can be")
    if recording.picture and not all(_number(n) and 0 < n <= LARGEST for n in (recording.width, recording.height)):
        raise Invalid(f"{told} has no size of its picture")
    if (
        recording.kind not in recordings.KINDS
        or not isinstance(recording.name, str)
        or not 0 < len(recording.name) <= LONGEST_TEXT
    ):
        raise Invalid(f"{told} has no kind or name")
    if not isinstance(recording.path, str) or not PurePosixPath(recording.path).is_absolute() or "\0" in recording.path:
        raise Invalid(f"{told} has no file")
    for word in transcripts.words(db, recording.id):
        if not (
            isinstance(word.text, str)
            and len(word.text) <= LONGEST_TEXT
            and _number(word.start)
            and _number(word.end)
            and 0 <= word.start < word.end
        ):
            raise Invalid(f"a word of {told} has no place")
    for mark in markers.of_recording(db, recording.id):
        if not _number(mark.frame) or mark.frame < 0:
            raise Invalid(f"a marker of {told} has no place")
