"""Recordings that count as whole held against what was stated of them; what is short is made again, and the editor
is told."""

from __future__ import annotations

import sys
import threading
from collections.abc import Iterator
from functools import partial
from typing import Any

from kovel.core.errors import Invalid, Missing, Told
from kovel.data_folder import DataFolder, media_facts
from kovel.jobs.kinds import Chore
from kovel.media.wholeness import shortcomings, take_apart
from kovel.services.footage.intake import prepare
from kovel.store import jobs, recordings
from kovel.store.db import in_words
from kovel.store.jobs import Job
from kovel.store.recordings import Recording


class Short(Told):
    """What was promised to a page is not all there: it is being made again."""

    status = 503  # for now, as RFC 9110 has it


_one_at_a_time = threading.Lock()  # pages ask for many seconds of a sound at once


def mend(data_folder: DataFolder, recording: int) -> str:
    """What was short of a recording that counts as whole, in a sentence; it is being prepared again now. Empty where
    all is there."""
    folder = data_folder.derived(recording)
    if not shortcomings(folder):
        return ""
    with _one_at_a_time:
        lacking_parts = take_apart(folder)
        if not lacking_parts:  # somebody else has seen to it meanwhile
            return ""
        this_recording = recordings.get(data_folder.db, recording)
        return _said(this_recording, prepare(data_folder, this_recording, mended=lacking_parts))


def whole_sound_of(data_folder: DataFolder, recording: int, then: str) -> dict[str, Any]:
    """What is known of a recording whose sound is all there; `Invalid` where it is not: it is made first. `then`:
    what is to be done once it is there, as "Render"."""
    this_recording = recordings.get(data_folder.db, recording)
    if told_mended := mend(data_folder, recording):
        raise Invalid(f"{told_mended} {then} when it is there.")
    facts = media_facts(data_folder, recording)
    if facts is None or not facts["sounded"]:
        raise Invalid(f"The sound of {this_recording.name} is still being made. {then} when it is there.")
    return facts


def being_mended(data_folder: DataFolder, recording: int) -> str:
    """What was found short of a recording and is being made again now, in a sentence; empty where nothing is."""
    this_recording = recordings.get(data_folder.db, recording)
    job = jobs.latest_of_recordings(data_folder.db, this_recording.project).get(recording)
    if job is None or not job.is_open:
        return ""
    return _said(this_recording, job)


def _said(recording: Recording, job: Job) -> str:
    short = job.params.get("mended", "")
    return f"{recording.name} is being prepared again: {short}." if short else ""


def mend_all(data_folder: DataFolder) -> list[str]:
    """Every recording of every project held against what was stated of it, as a server does when it starts: by sizes
    and headers alone. What was mended, a sentence each."""
    told_lines = []
    for recording in _prepared(data_folder):
        try:
            told_lines.append(mend(data_folder, recording))
        except (
            Told,
            ValueError,
            KeyError,
            TypeError,
            ArithmeticError,
            OSError,
        ) as error:  # one that is damaged keeps no other from it
            told_lines.append(f"Recording {recording} could not be looked through ({error}).")
    return [told_line for told_line in told_lines if told_line]


def _prepared(data_folder: DataFolder) -> Iterator[int]:
    """Recordings whose folder says that all of it is made, and that nobody works on."""
    busy = {job.recording for job in jobs.unfinished(data_folder.db) if job.kind == "prepare"}
    for recording in sorted(recordings.all_ids(data_folder.db)):
        if recording not in busy and (data_folder.derived(recording) / "media.json").exists():
            try:
                recordings.get(data_folder.db, recording)
            except Missing:  # taken out of its project
                continue
            yield recording


def _mend_what_is_short(data_folder: DataFolder) -> None:
    """What an earlier version, or a disk, has left short is found and made again before anybody works with it."""
    try:
        for told_line in mend_all(data_folder):
            print(f"kovel: {told_line}", file=sys.stderr)
    except Exception as error:  # it is tried again by whoever opens the recording
        print(f"kovel: recordings could not be looked through ({in_words(error) or error})", file=sys.stderr)


MENDED_FIRST = Chore(None, lambda data: partial(_mend_what_is_short, data))
