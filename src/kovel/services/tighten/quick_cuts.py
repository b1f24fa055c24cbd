"""Quick cuts on sounds: the hits of a take, what the editor chose of them, and the beats of a music bed."""

import json
from bisect import bisect_left
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from kovel.core.errors import Invalid
from kovel.core.sound.beats import Beats, doubled, halved, moved, tapped
from kovel.core.sound.hits import Cut, Hit, at_sensitivity, on_beats, quick_cut
from kovel.core.story.model import Story
from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder, media_facts
from kovel.jobs.kinds import JobKind, NeededSound
from kovel.services.tighten.proposals import within
from kovel.store import decisions, jobs, recordings
from kovel.store.decisions import QuickDesk
from kovel.store.jobs import Job, JobState


def pulse(data: DataFolder, recording: int) -> dict[str, Any] | None:
    """pulse.json of a recording; None while it was not listened to for hits and beats."""
    try:
        found: dict[str, Any] = json.loads((data.derived(recording) / "pulse.json").read_text())
        return found
    except (OSError, ValueError):
        return None


def find(data: DataFolder, recording: int) -> Job:
    """Queue finding hits and beats, or the job that does it already."""
    r = recordings.get(data.db, recording)
    now = jobs.latest_of_recordings(data.db, r.project, "pulse").get(recording)
    if now and now.is_open:
        return now
    facts = media_facts(data, recording)
    if not r.sound or facts is None:
        raise Invalid(f"{r.name} has no sound that is ready yet.")
    return jobs.add(
        data.db, r.project, "pulse", {"out": str(data.derived(recording)), "channels": facts["channels"]}, recording
    )


@dataclass(frozen=True, slots=True)
class Mark:
    """A hit in frames of the project, and whether it is used."""

    sample: int
    frame: int
    strength: float
    on: bool


def marks(data: DataFolder, recording: int, rate: Rate, d: QuickDesk) -> tuple[list[Mark], list[int]]:
    """Hits at the desk's sensitivity, and the frames each rings."""
    found = pulse(data, recording) or {"hits": []}
    ring = {r[0]: r[3] for r in found["hits"]}
    rows = at_sensitivity([Hit(*r[:3]) for r in found["hits"]], d.sensitivity)
    off = set(d.off)
    out = [Mark(h.sample, rate.sample_to_frame(h.sample), h.strength, h.sample not in off) for h in rows]
    return out, [max(1, round(ring[h.sample] * float(rate.fps))) for h in rows]


def pieces(data: DataFolder, recording: int, rate: Rate, d: QuickDesk) -> list[Cut]:
    """The quick cut as it stands: frames of the recording, in order."""
    total = recordings.get(data.db, recording).length(rate)
    rows, rings = marks(data, recording, rate, d)
    used = [(m.frame, n) for m, n in zip(rows, rings, strict=True) if m.on]
    hits = [h for h, _ in used]
    cuts = quick_cut(hits, [n for _, n in used], total, d.how)
    if d.music is not None:
        b = beats(data, d.music)
        if not b.beats:
            look_for_beats(data, d.music)
        if b.beats:
            first = b.beats[0]
            cuts = on_beats(cuts, hits, [rate.sample_to_frame(x - first) for x in b.beats])
    return cuts


def toggle(data: DataFolder, recording: int, sample: int) -> str:
    """Leave a hit out, or take it in again; what was done, in words."""
    with data.db.write():
        d = decisions.quick(data.db, recording)
        was = sample in d.off
        d.off = [x for x in d.off if x != sample] + ([] if was else [sample])
        decisions.put_quick(data.db, recording, d)
        return "Hit taken in." if was else "Hit left out."


WITHIN = {"before": (0, 10), "length": (1, 25), "intro": (0, 10_000), "target": (1, 100_000)}  # frames


def set_up(
    data: DataFolder, recording: int, how: Mapping[str, int | None], ring: bool, sensitivity: float | None, music: int | None
) -> str:
    """How hits become pieces (`how`: frames of `Quick`, kept `WITHIN` their bounds), whether a piece lasts while its hit
    rings, how plain a hit must be (0 to 1; None: as it was), and the recording whose beats they go to."""
    kept: dict[str, Any] = {k: None if v is None else int(within(*WITHIN[k], v)) for k, v in how.items()}
    with data.db.write():
        d = decisions.quick(data.db, recording)
        d.how = replace(d.how, ring=ring, **kept)
        d.sensitivity = d.sensitivity if sensitivity is None else within(0, 1, sensitivity)
        d.music = music
        decisions.put_quick(data.db, recording, d)
        return "Settings changed."


def beats(data: DataFolder, recording: int) -> Beats:
    """The beats of a recording, as the editor corrected them or as they were found."""
    corrected = decisions.beats(data.db, recording)
    if corrected is not None:
        return corrected
    d = pulse(data, recording)
    return Beats(tuple(d["beats"]), d["tempo"], d["first"], d["bar"]) if d else Beats((), 0.0)


def look_for_beats(data: DataFolder, recording: int) -> bool:
    """Have the beats of some music found, if nobody asked for them yet; whether they are coming."""
    if decisions.beats(data.db, recording) is not None or pulse(data, recording) is not None:
        return False
    now = jobs.latest_of_recordings(data.db, recordings.get(data.db, recording).project, "pulse").get(recording)
    if now is None or now.state == JobState.CANCELLED:
        now = find(data, recording)
    return now.is_open


Correction = Literal["double", "halve", "move", "downbeat", "tap", "found"]


def correct_beats(data: DataFolder, recording: int, do: Correction, by: int = 0, taps: Sequence[int] = ()) -> str:
    """Double, halve, move `by` ms, shift the downbeat, tap (samples), or take all corrections back; what came of it."""
    if do == "found":
        decisions.put_beats(data.db, recording, None)
        return "The beats are as they were found."
    if do == "tap" and not taps:
        raise Invalid("No taps came. Press T on each beat while it plays.")
    with data.db.write():
        b = beats(data, recording)
        match do:
            case "double":
                b = doubled(b)
            case "halve":
                b = halved(b)
            case "move":
                b = moved(b, by * 48)
            case "downbeat":
                b = replace(b, first=(b.first + 1) % b.bar)
            case "tap":
                b = tapped(b, taps)
        if not b.beats:
            raise Invalid("There are no beats to correct. Tap them: T on each beat while it plays.")
        decisions.put_beats(data.db, recording, b)
    return f"{b.tempo:.1f} beats a minute."


def off_beat(cuts: list[Cut], hits: list[int], beat_frames: list[int]) -> list[int]:
    """How many frames each hit of a quick cut lies off its nearest beat."""
    out, t = [], 0
    for c in cuts:
        if c.hit is not None and beat_frames:
            at = t + hits[c.hit] - c.start
            i = bisect_left(beat_frames, at)
            out.append(min(abs(b - at) for b in beat_frames[max(0, i - 1) : i + 1]))
        t += c.end - c.start
    return out


def beats_of(data: DataFolder, story: Story) -> list[int]:
    """Story frames on which beats of its music fall, for snapping; none for music nobody looked for beats in."""
    out: set[int] = set()
    for x in story.sounds:
        for sample in beats(data, x.source).beats if x.kind == "music" else ():
            f = story.rate.sample_to_frame(sample)
            if x.start <= f < x.end and (at := story.at(x) + f - x.start) < story.length:
                out.add(at)
    return sorted(out)


PULSE = JobKind("pulse", "pulse", 3, needs_sound=NeededSound.SOME)
