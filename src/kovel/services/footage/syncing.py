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


def _chosen(data: DataFolder, project: int, ids: Sequence[int]) -> list[Recording]:
    rows = {r.id: r for r in recordings.of_project(data.db, project)}
    chosen = [rows[i] for i in dict.fromkeys(ids) if i in rows]
    if len(chosen) < 2:
        raise Invalid("Choose two or more recordings of the same moment.")
    return chosen


def sync_by_timecode(data: DataFolder, project: int, ids: Sequence[int]) -> str:
    """Put recordings on one clock by their start timecodes."""
    chosen = _chosen(data, project, ids)
    rate = projects.get(data.db, project).rate
    without = [r.name for r in chosen if not r.start_timecode]
    if without:
        raise Invalid(f"{without[0]} has no start timecode. Sync by sound instead.")
    try:
        frames = [parse_entry(r.start_timecode, rate, drop=";" in r.start_timecode) for r in chosen]
    except TimeError as e:
        raise Invalid(str(e)) from None
    number = recordings.new_set(data.db)
    places = [by_timecode(frames[0], f, rate) for f in frames]
    recordings.set_sync(
        data.db, [(r.id, Sync(number, int(t * SAMPLE_RATE)), 1.0, "timecode") for r, t in zip(chosen, places, strict=True)]
    )
    far = [r.name for r, t in zip(chosen, places, strict=True) if abs(t) > 12 * 3600]
    return f"{len(chosen)} recordings synced by timecode." + (f" {far[0]} lies hours away from the others." if far else "")


def sync_by_sound(data: DataFolder, project: int, ids: Sequence[int]) -> Job:
    """Queue matching recordings by their sound; the first one's clock is the set's."""
    chosen = _chosen(data, project, ids)
    facts = [media_facts(data, r.id) or {} for r in chosen]
    for r, f in zip(chosen, facts, strict=True):
        if not r.sound or not f.get("sounded"):
            raise Invalid(f"{r.name} has no sound that is ready yet.")
    members = [
        {"out": str(data.derived(r.id)), "channels": f.get("channels", 1), "name": r.name, "id": r.id}
        for r, f in zip(chosen, facts, strict=True)
    ]
    return jobs.add(data.db, project, "sync", {"members": members})


def take_sync(data: DataFolder, job: Job, result: dict[str, Any]) -> str:
    """Keep what the matching found; in words, what could not be matched."""
    found, members = result["members"], job.params["members"]
    good = [(m["id"], f) for m, f in zip(members, found, strict=True) if "unrelated" not in f]
    bad = [f["unrelated"] for f in found if "unrelated" in f]
    if len(good) > 1:
        number = recordings.new_set(data.db)
        rows = [(i, Sync(number, round(f["offset"] * SAMPLE_RATE), f["ppm"]), f["sure"], "sound") for i, f in good]
        recordings.set_sync(data.db, rows)
        for i, f in good:
            decisions.put_match(data.db, i, f["curve"], f["windows"])
    return " ".join(bad)


def nudge(data: DataFolder, recording: int, milliseconds: float = 0, frames: int = 0, rate: Rate | None = None) -> Recording:
    """Move a recording on its set's clock, where the ear says otherwise."""
    r = recordings.get(data.db, recording)
    if r.sync is None:
        raise Invalid(f"{r.name} is in no sync set.")
    by = round(milliseconds * SAMPLE_RATE / 1000)
    if frames:
        by += int(Fraction(frames) / (rate or r.rate).fps * SAMPLE_RATE)
    recordings.set_sync(
        data.db, [(r.id, replace(r.sync, offset=r.sync.offset + by), r.sync_sure, f"{r.sync_how.split(',')[0]}, by hand")]
    )
    return recordings.get(data.db, recording)


def apart(data: DataFolder, recording: int) -> None:
    """Take a recording out of its sync set; a set of one is none."""
    r = recordings.get(data.db, recording)
    rest = [
        x for x in recordings.of_project(data.db, r.project) if x.sync and r.sync and x.sync.set == r.sync.set and x.id != r.id
    ]
    gone = [r, *rest] if len(rest) < 2 else [r]
    recordings.set_sync(data.db, [(x.id, None, 0.0, "") for x in gone])


@dataclass(frozen=True, slots=True)
class Member:
    """A recording of a sync set: when it begins (seconds after the first), its drift (ppm), and how it was matched."""

    r: Recording
    begins: float
    drift: float
    match: Match


def sets(data: DataFolder, project: int) -> list[list[Member]]:
    """Every sync set with its members, in the order they begin."""
    by: dict[int, list[Recording]] = {}
    for r in recordings.of_project(data.db, project):
        if r.sync:
            by.setdefault(r.sync.set, []).append(r)
    out = []
    for _, rows in sorted(by.items()):
        known = sorted(((s, r) for r in rows if (s := r.sync)), key=lambda x: x[0].offset)
        first = known[0][0].offset
        out.append([Member(r, (s.offset - first) / SAMPLE_RATE, s.ppm, decisions.match(data.db, r.id)) for s, r in known])
    return out


def _take(data: DataFolder, job: Job, result: Result) -> Outcome:
    return Outcome(take_sync(data, job, result), result)


SYNC = JobKind("sync", "sync_by_sound", 0.7, _take)
