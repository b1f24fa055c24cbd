"""Rows that come from elsewhere (an archive) held to what anything typed here is held to, before they are kept."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import PurePosixPath

from kovel.core.errors import Invalid
from kovel.core.story.bounds import LONGEST, NUMBER, could_be_cut, held
from kovel.core.story.model import Sources
from kovel.core.time.rate import RATES
from kovel.core.time.timecode import can_drop
from kovel.store import caption_rows, markers, projects, recordings, stories, subclips, transcripts
from kovel.store.db import Database
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.store.stories import Kept

SMALLEST, LARGEST = 16, 16_384  # pixels either way
SLOWEST, FASTEST = 1, 1000  # frames a second of a recording
MOST_CHANNELS = 512
LONGEST_TEXT = 20_000


def hold(database: Database, project: int) -> None:
    """`Invalid`, in words, where a row of a project could not have been made here. To be called in the transaction
    that writes them."""
    if project in [number for number, _ in projects.broken(database)]:
        raise Invalid("its frame rate, size or start is none that a project can have")
    this_project = projects.get(database, project)
    _project(this_project)
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(database, project)}
    for recording in recordings_by_id.values():
        _recording(database, recording)
    sources = recordings.sources(database, project)
    for kept in stories.of_project(database, project):
        _story(database, kept, sources)
    for clip in subclips.of_project(database, project):
        recording = recordings_by_id[clip.recording]
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


def _story(database: Database, kept_story: Kept, sources: Sources) -> None:
    held(kept_story.story)
    if not could_be_cut(kept_story.story, sources):
        raise Invalid(f"the story “{kept_story.name}” holds ranges or numbers that no story can have")
    caption_rows.edits(database, kept_story.id)
    caption_rows.brought(database, kept_story.id)
    for entry in database.read().execute("SELECT patch FROM journal WHERE story = ?", (kept_story.id,)):
        if not isinstance(json.loads(entry["patch"]), dict):
            raise Invalid(f"the history of “{kept_story.name}” cannot be read")


def _recording(database: Database, recording: Recording) -> None:
    told_name = f"the recording “{str(recording.name)[:60]}”"
    for what, holds in HELD.items():
        if not holds(recording):
            raise Invalid(f"{told_name} has {what}")
    for word in transcripts.words(database, recording.id):
        timed = _number(word.start) and _number(word.end) and 0 <= word.start < word.end
        if not (timed and isinstance(word.text, str) and len(word.text) <= LONGEST_TEXT):
            raise Invalid(f"a word of {told_name} has no place")
    for mark in markers.of_recording(database, recording.id):
        if not _number(mark.frame) or mark.frame < 0:
            raise Invalid(f"a marker of {told_name} has no place")


def _has_rate(recording: Recording) -> bool:
    """A frame rate between the slowest and the fastest."""
    frame_rate = recording.rate
    whole = _number(frame_rate.num) and _number(frame_rate.den) and frame_rate.num > 0 and frame_rate.den > 0
    return whole and SLOWEST <= frame_rate.fps <= FASTEST


def _has_length(recording: Recording) -> bool:
    """A number of frames, or none (a still)."""
    if recording.frames is None:
        return True
    return _number(recording.frames) and 0 < recording.frames <= LONGEST * recording.rate.fps


def _has_size(recording: Recording) -> bool:
    """Channels and bytes that can be."""
    channels, size = recording.channels, recording.size
    return _number(channels) and 0 <= channels <= MOST_CHANNELS and _number(size) and size >= 0


def _has_picture_size(recording: Recording) -> bool:
    """Width and height, where there is a picture."""
    sides = (recording.width, recording.height)
    return not recording.picture or all(_number(side) and 0 < side <= LARGEST for side in sides)


def _has_name(recording: Recording) -> bool:
    """A kind, and a name of a length."""
    named = isinstance(recording.name, str) and 0 < len(recording.name) <= LONGEST_TEXT
    return named and recording.kind in recordings.RECORDING_KINDS


def _has_file(recording: Recording) -> bool:
    """An absolute path."""
    path = recording.path
    return isinstance(path, str) and PurePosixPath(path).is_absolute() and "\0" not in path


HELD: dict[str, Callable[[Recording], bool]] = {  # what is said of a recording for which it does not hold
    "no frame rate": _has_rate,
    "no length": _has_length,
    "no size or no channels that can be": _has_size,
    "no size of its picture": _has_picture_size,
    "no kind or name": _has_name,
    "no file": _has_file,
}
