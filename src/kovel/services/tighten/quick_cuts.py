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
        found_pulse: dict[str, Any] = json.loads((data.derived(recording) / "pulse.json").read_text())
        return found_pulse
    except (OSError, ValueError):
        return None


def find(data_folder: DataFolder, recording: int) -> Job:
    """Queue finding hits and beats, or the job that does it already."""
    this_recording = recordings.get(data_folder.db, recording)
    now = jobs.latest_of_recordings(data_folder.db, this_recording.project, "pulse").get(recording)
    if now and now.is_open:
        return now
    facts = media_facts(data_folder, recording)
    if not this_recording.sound or facts is None:
        raise Invalid(f"{this_recording.name} has no sound that is ready yet.")
    return jobs.add(
        data_folder.db,
        this_recording.project,
        "pulse",
        {"out": str(data_folder.derived(recording)), "channels": facts["channels"]},
        recording,
    )


@dataclass(frozen=True, slots=True)
class Mark:
    """A hit in frames of the project, and whether it is used."""

    sample: int
    frame: int
    strength: float
    on: bool


def marks(data_folder: DataFolder, recording: int, frame_rate: Rate, desk: QuickDesk) -> tuple[list[Mark], list[int]]:
    """Hits at the desk's sensitivity, and the frames each rings."""
    found_pulse = pulse(data_folder, recording) or {"hits": []}
    ring = {hit_row[0]: hit_row[3] for hit_row in found_pulse["hits"]}
    found_hits = at_sensitivity([Hit(*hit_row[:3]) for hit_row in found_pulse["hits"]], desk.sensitivity)
    off = set(desk.off)
    hit_marks = [
        Mark(hit.sample, frame_rate.sample_to_frame(hit.sample), hit.strength, hit.sample not in off)
        for hit in found_hits
    ]
    return hit_marks, [max(1, round(ring[hit.sample] * float(frame_rate.fps))) for hit in found_hits]


def pieces(data_folder: DataFolder, recording: int, frame_rate: Rate, desk: QuickDesk) -> list[Cut]:
    """The quick cut as it stands: frames of the recording, in order."""
    total = recordings.get(data_folder.db, recording).length(frame_rate)
    found_hits, rings = marks(data_folder, recording, frame_rate, desk)
    used = [(mark.frame, ring) for mark, ring in zip(found_hits, rings, strict=True) if mark.on]
    hits = [h for h, _ in used]
    cuts = quick_cut(hits, [n for _, n in used], total, desk.how)
    if desk.music is not None:
        this_beats = beats(data_folder, desk.music)
        if not this_beats.beats:
            look_for_beats(data_folder, desk.music)
        if this_beats.beats:
            first = this_beats.beats[0]
            cuts = on_beats(cuts, hits, [frame_rate.sample_to_frame(beat - first) for beat in this_beats.beats])
    return cuts


def toggle(data_folder: DataFolder, recording: int, sample: int) -> str:
    """Leave a hit out, or take it in again; what was done, in words."""
    with data_folder.db.write():
        desk = decisions.quick(data_folder.db, recording)
        was = sample in desk.off
        desk.off = [off_sample for off_sample in desk.off if off_sample != sample] + ([] if was else [sample])
        decisions.put_quick(data_folder.db, recording, desk)
        return "Hit taken in." if was else "Hit left out."


WITHIN = {"before": (0, 10), "length": (1, 25), "intro": (0, 10_000), "target": (1, 100_000)}  # frames


def set_up(
    data_folder: DataFolder,
    recording: int,
    how: Mapping[str, int | None],
    ring: bool,
    sensitivity: float | None,
    music: int | None,
) -> str:
    """How hits become pieces (`how`: frames of `Quick`, kept `WITHIN` their bounds), whether a piece lasts while its
    hit rings, how plain a hit must be (0 to 1; None: as it was), and the recording whose beats they go to."""
    kept: dict[str, Any] = {
        name: None if value is None else int(within(*WITHIN[name], value)) for name, value in how.items()
    }
    with data_folder.db.write():
        desk = decisions.quick(data_folder.db, recording)
        desk.how = replace(desk.how, ring=ring, **kept)
        desk.sensitivity = desk.sensitivity if sensitivity is None else within(0, 1, sensitivity)
        desk.music = music
        decisions.put_quick(data_folder.db, recording, desk)
        return "Settings changed."


def beats(data_folder: DataFolder, recording: int) -> Beats:
    """The beats of a recording, as the editor corrected them or as they were found."""
    corrected = decisions.beats(data_folder.db, recording)
    if corrected is not None:
        return corrected
    beat = pulse(data_folder, recording)
    return Beats(tuple(beat["beats"]), beat["tempo"], beat["first"], beat["bar"]) if beat else Beats((), 0.0)


def look_for_beats(data_folder: DataFolder, recording: int) -> bool:
    """Have the beats of some music found, if nobody asked for them yet; whether they are coming."""
    if decisions.beats(data_folder.db, recording) is not None or pulse(data_folder, recording) is not None:
        return False
    now = jobs.latest_of_recordings(data_folder.db, recordings.get(data_folder.db, recording).project, "pulse").get(
        recording
    )
    if now is None or now.state == JobState.CANCELLED:
        now = find(data_folder, recording)
    return now.is_open


Correction = Literal["double", "halve", "move", "downbeat", "tap", "found"]


def correct_beats(
    data_folder: DataFolder, recording: int, do: Correction, by: int = 0, taps: Sequence[int] = ()
) -> str:
    """Double, halve, move `by` ms, shift the downbeat, tap (samples), or take all corrections back; what came of it."""
    if do == "found":
        decisions.put_beats(data_folder.db, recording, None)
        return "The beats are as they were found."
    if do == "tap" and not taps:
        raise Invalid("No taps came. Press T on each beat while it plays.")
    with data_folder.db.write():
        this_beats = beats(data_folder, recording)
        match do:
            case "double":
                this_beats = doubled(this_beats)
            case "halve":
                this_beats = halved(this_beats)
            case "move":
                this_beats = moved(this_beats, by * 48)
            case "downbeat":
                this_beats = replace(this_beats, first=(this_beats.first + 1) % this_beats.bar)
            case "tap":
                this_beats = tapped(this_beats, taps)
        if not this_beats.beats:
            raise Invalid("There are no beats to correct. Tap them: T on each beat while it plays.")
        decisions.put_beats(data_folder.db, recording, this_beats)
    return f"{this_beats.tempo:.1f} beats a minute."


def off_beat(cuts: list[Cut], hits: list[int], beat_frames: list[int]) -> list[int]:
    """How many frames each hit of a quick cut lies off its nearest beat."""
    beats_off, t = [], 0
    for cut in cuts:
        if cut.hit is not None and beat_frames:
            at = t + hits[cut.hit] - cut.start
            index = bisect_left(beat_frames, at)
            beats_off.append(min(abs(beat_frame - at) for beat_frame in beat_frames[max(0, index - 1) : index + 1]))
        t += cut.end - cut.start
    return beats_off


def beats_of(data_folder: DataFolder, story: Story) -> list[int]:
    """Story frames on which beats of its music fall, for snapping; none for music nobody looked for beats in."""
    beat_samples: set[int] = set()
    for sound in story.sounds:
        for sample in beats(data_folder, sound.source).beats if sound.kind == "music" else ():
            frame = story.rate.sample_to_frame(sample)
            if sound.start <= frame < sound.end and (at := story.at(sound) + frame - sound.start) < story.length:
                beat_samples.add(at)
    return sorted(beat_samples)


PULSE = JobKind("pulse", "pulse", 3, needs_sound=NeededSound.SOME)
