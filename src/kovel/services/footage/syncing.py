"""Sync sets: recordings of one moment put on one clock, by timecode, by sound, or by hand."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

from kovel.core.errors import Invalid
from kovel.core.story.model import Sync
from kovel.core.story.sync import by_timecode
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.core.time.timecode import TimeError, parse_entry
from kovel.data_folder import DataFolder, media_facts
from kovel.jobs.kinds import JobKind, Outcome, Result
from kovel.store import decisions, jobs, projects, recordings
from kovel.store.decisions import Match
from kovel.store.jobs import Job
from kovel.store.recordings import Recording


def _chosen(data_folder: DataFolder, project: int, ids: Sequence[int]) -> list[Recording]:
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}
    chosen = [recordings_by_id[recording_id] for recording_id in dict.fromkeys(ids) if recording_id in recordings_by_id]
    if len(chosen) < 2:
        raise Invalid("Choose two or more recordings of the same moment.")
    return chosen


def sync_by_timecode(data_folder: DataFolder, project: int, ids: Sequence[int]) -> str:
    """Put recordings on one clock by their start timecodes."""
    chosen = _chosen(data_folder, project, ids)
    frame_rate = projects.get(data_folder.db, project).rate
    without = [recording.name for recording in chosen if not recording.start_timecode]
    if without:
        raise Invalid(f"{without[0]} has no start timecode. Sync by sound instead.")
    try:
        frames = [
            parse_entry(recording.start_timecode, frame_rate, drop=";" in recording.start_timecode)
            for recording in chosen
        ]
    except TimeError as error:
        raise Invalid(str(error)) from None
    number = recordings.new_set(data_folder.db)
    places = [by_timecode(frames[0], frame, frame_rate) for frame in frames]
    recordings.set_sync(
        data_folder.db,
        [
            (recording.id, Sync(number, int(place * SAMPLE_RATE)), 1.0, "timecode")
            for recording, place in zip(chosen, places, strict=True)
        ],
    )
    far = [recording.name for recording, place in zip(chosen, places, strict=True) if abs(place) > 12 * 3600]
    return f"{len(chosen)} recordings synced by timecode." + (
        f" {far[0]} lies hours away from the others." if far else ""
    )


def sync_by_sound(data: DataFolder, project: int, ids: Sequence[int]) -> Job:
    """Queue matching recordings by their sound; the first one's clock is the set's."""
    chosen = _chosen(data, project, ids)
    facts = [media_facts(data, recording.id) or {} for recording in chosen]
    for recording, fact in zip(chosen, facts, strict=True):
        if not recording.sound or not fact.get("sounded"):
            raise Invalid(f"{recording.name} has no sound that is ready yet.")
    members = [
        {
            "out": str(data.derived(recording.id)),
            "channels": fact.get("channels", 1),
            "name": recording.name,
            "id": recording.id,
        }
        for recording, fact in zip(chosen, facts, strict=True)
    ]
    return jobs.add(data.db, project, "sync", {"members": members})


def take_sync(data_folder: DataFolder, job: Job, result: dict[str, Any]) -> str:
    """Keep what the matching found; in words, what could not be matched."""
    found_sync, members = result["members"], job.params["members"]
    good = [
        (member["id"], found_offset)
        for member, found_offset in zip(members, found_sync, strict=True)
        if "unrelated" not in found_offset
    ]
    bad = [found_offset["unrelated"] for found_offset in found_sync if "unrelated" in found_offset]
    if len(good) > 1:
        number = recordings.new_set(data_folder.db)
        sync_rows = [
            (
                recording_id,
                Sync(number, round(found_offset["offset"] * SAMPLE_RATE), found_offset["ppm"]),
                found_offset["sure"],
                "sound",
            )
            for recording_id, found_offset in good
        ]
        recordings.set_sync(data_folder.db, sync_rows)
        for recording_id, found_offset in good:
            decisions.put_match(data_folder.db, recording_id, found_offset["curve"], found_offset["windows"])
    return " ".join(bad)


def nudge(
    data_folder: DataFolder, recording: int, milliseconds: float = 0, frames: int = 0, rate: Rate | None = None
) -> Recording:
    """Move a recording on its set's clock, where the ear says otherwise."""
    this_recording = recordings.get(data_folder.db, recording)
    if this_recording.sync is None:
        raise Invalid(f"{this_recording.name} is in no sync set.")
    by = round(milliseconds * SAMPLE_RATE / 1000)
    if frames:
        by += int(Fraction(frames) / (rate or this_recording.rate).fps * SAMPLE_RATE)
    recordings.set_sync(
        data_folder.db,
        [
            (
                this_recording.id,
                replace(this_recording.sync, offset=this_recording.sync.offset + by),
                this_recording.sync_sure,
                f"{this_recording.sync_how.split(',')[0]}, by hand",
            )
        ],
    )
    return recordings.get(data_folder.db, recording)


def apart(data_folder: DataFolder, recording: int) -> None:
    """Take a recording out of its sync set; a set of one is none."""
    this_recording = recordings.get(data_folder.db, recording)
    other_recordings = [
        recording
        for recording in recordings.of_project(data_folder.db, this_recording.project)
        if recording.sync
        and this_recording.sync
        and recording.sync.set == this_recording.sync.set
        and recording.id != this_recording.id
    ]
    gone = [this_recording, *other_recordings] if len(other_recordings) < 2 else [this_recording]
    recordings.set_sync(data_folder.db, [(recording.id, None, 0.0, "") for recording in gone])


@dataclass(frozen=True, slots=True)
class Member:
    """A recording of a sync set: when it begins (seconds after the first), its drift (ppm), and how it was matched."""

    r: Recording
    begins: float
    drift: float
    match: Match


def sets(data_folder: DataFolder, project: int) -> list[list[Member]]:
    """Every sync set with its members, in the order they begin."""
    by: dict[int, list[Recording]] = {}
    for recording in recordings.of_project(data_folder.db, project):
        if recording.sync:
            by.setdefault(recording.sync.set, []).append(recording)
    sync_sets = []
    for _, recordings_of_set in sorted(by.items()):
        known = sorted(
            ((sync, recording) for recording in recordings_of_set if (sync := recording.sync)),
            key=lambda x: x[0].offset,
        )
        first = known[0][0].offset
        sync_sets.append(
            [
                Member(
                    recording,
                    (sync.offset - first) / SAMPLE_RATE,
                    sync.ppm,
                    decisions.match(data_folder.db, recording.id),
                )
                for sync, recording in known
            ]
        )
    return sync_sets


def _take(data_folder: DataFolder, job: Job, result: Result) -> Outcome:
    return Outcome(take_sync(data_folder, job, result), result)


SYNC = JobKind("sync", "sync_by_sound", 0.7, _take)
