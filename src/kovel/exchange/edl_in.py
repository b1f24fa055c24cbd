"""Edit decision lists in: what is heard on A is the dialogue, what is seen beside it lies over it as covers."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from itertools import pairwise
from typing import Any

from kovel.core.story.model import Card, Story
from kovel.core.time.rate import Rate, first_frame_showing
from kovel.core.time.timecode import TimeError, parse_entry
from kovel.exchange.uses import ABSENT, Taken, Use, built, found
from kovel.store.projects import Project
from kovel.store.recordings import Recording


def _place(
    fields: Sequence[str], line: int, project: Project, shift: int, left_out: list[str]
) -> tuple[int, int] | None:
    """Story frames [a, b) that an event takes; None where it has none that can be taken, which is said in
    `left_out`."""
    try:
        at, end = (
            parse_entry(fields[field_index], project.rate, drop=project.drop) - project.start_frame - shift
            for field_index in (8, 9)
        )
    except TimeError as error:
        left_out.append(f"Line {line}: {error}")
        return None
    if end <= at or at < 0:
        left_out.append(f"Line {line}: it lies before the story’s start, {project.start_timecode}, or is empty.")
        return None
    return at, end


def from_edl(told: dict[str, Any], project: Project, recordings: dict[int, Recording]) -> Taken:
    """A story of the events of an edit decision list (exchange/sent_files.py): what is heard on A is the dialogue,
    what is seen beside it covers. A list that begins at another hour than the story is moved to its start, and says
    so."""
    frame_rate, left_out = project.rate, []  # type: Rate, list[str]
    name = told["name"] or "Edit list"
    seen: list[Use] = []
    heard_uses: list[Use] = []
    shift = _shift(told["events"], project, left_out)
    for event_number, fields, notes in told["events"]:
        matched_fields = ["", *fields]
        place = _place(matched_fields, event_number, project, shift, left_out)
        event_use = (
            _event(matched_fields, event_number, notes, *place, frame_rate, recordings, left_out) if place else None
        )
        if event_use is None:
            continue
        if matched_fields[4].startswith(("W", "K")):
            left_out.append(
                f"Line {event_number}: a {'wipe' if matched_fields[4].startswith('W') else 'key'} became a cut."
            )
        if "V" in matched_fields[3].upper() or matched_fields[3].upper() == "B":
            seen.append(replace(event_use, blend=int(matched_fields[5] or 0) if matched_fields[4] == "D" else 0))
        if matched_fields[3].upper().startswith(("A", "B")) or "A" in matched_fields[3].upper():
            heard_uses.append(replace(event_use, blend=0))
    return Taken(name, _of_events(frame_rate, seen, heard_uses, recordings, left_out), left_out)


def _shift(events: list[Any], project: Project, left_out: list[str]) -> int:
    """Frames by which a list lies elsewhere than the story: where all of it begins before the story does, or an hour
    and more after."""
    begins = []
    for _, fields, _ in events:
        try:
            begins.append(parse_entry(fields[7], project.rate, drop=project.drop) - project.start_frame)
        except TimeError:
            continue
    first = min(begins, default=0)
    if 0 <= first < 3600 * project.rate.fps:
        return 0
    left_out.append(
        f"The list begins at {project.timecode(first)}, the story at {project.start_timecode}: everything was moved "
        "to the story’s start."
    )
    return first


def _event(
    m: list[str],
    i: int,
    notes: list[str],
    at: int,
    end: int,
    frame_rate: Rate,
    recordings: dict[int, Recording],
    left_out: list[str],
) -> Use | None:
    if m[2].upper() == "BL":
        return Use(at, end, None, card=Card())
    pairs = (note.lstrip("* ").partition(":") for note in notes if note.startswith("*"))
    event_facts = {name: value.strip() for name, _, value in pairs}
    names = [event_facts.get(name, "") for name in ("SOURCE FILE", "FROM CLIP NAME", "TO CLIP NAME")]
    try:  # to tell those of one name apart, a second is near enough
        about = frame_rate.frame_to_seconds(parse_entry(m[6], frame_rate))
    except TimeError:
        about = None
    recording = found(recordings, (*names, m[2]), about, "" if any(names) else m[2])
    if recording is None:
        left_out.append(f"Line {i}: {names[0] or names[1] or m[2]} {ABSENT}.")
        return None
    try:
        own_start = parse_entry(m[6], recording.rate, drop=recording.drops or ";" in m[6]) - recording.first
    except TimeError as error:
        left_out.append(f"Line {i}: {error}")
        return None
    left_out += [f"Line {i}: “{note[:60]}” is not taken." for note in notes if not note.startswith(("*", "M2", "FCM"))]
    first = first_frame_showing(own_start, frame_rate, recording.rate)
    return Use(at, end, recording.id, first, _speed(notes, recording.rate))


def _speed(notes: list[str], own: Rate) -> Fraction:
    """How fast an event runs by its last M2 line, which says frames a second; a usual rate where it is near one."""
    speed = Fraction(1)
    for words in (note.split() for note in notes if note.startswith("M2")):
        if len(words) < 3:
            continue
        try:
            fps = Fraction(words[2]).limit_denominator(1000)
        except ValueError:
            continue
        near_rate = Rate.nearest(abs(fps)) if fps else own
        exact = near_rate.fps if abs(near_rate.fps - abs(fps)) < Fraction(1, 20) else abs(fps)
        speed = exact / own.fps * (-1 if fps < 0 else 1)
    return speed


def _heard_for(use: Use, heard: list[Use]) -> int:
    """For how many frames of it something is heard."""
    return sum(min(use.end, other.end) - max(use.at, other.at) for other in _met(use, heard))


def _of_events(
    frame_rate: Rate, seen: list[Use], heard: list[Use], recordings: dict[int, Recording], left_out: list[str]
) -> Story:
    """What is heard, or seen alone, makes the pieces; what is seen beside it lies over them."""
    length = max((clip_use.end for clip_use in (*seen, *heard)), default=0)
    seen, heard = sorted(seen, key=lambda u: u.at), sorted(heard, key=lambda u: u.at)
    alone = [
        clip_use for clip_use in seen if not clip_use.card and _heard_for(clip_use, heard) < clip_use.end - clip_use.at
    ]
    black = [clip_use for clip_use in seen if clip_use.card]
    edges = sorted(
        {0, length, *(use_edge for clip_use in (*heard, *alone, *black) for use_edge in (clip_use.at, clip_use.end))}
    )
    base_uses: list[Use] = []
    for begin, end in pairwise(edges):
        slot = Use(begin, end, None)
        use = next(iter([*_met(slot, heard), *_met(slot, alone)]), None)
        if use is not None:
            start = use.start + round((begin - use.at) * use.speed)
            base_uses.append(
                replace(use, at=begin, end=end, start=start, unseen=bool(_met(slot, black)) and use in heard)
            )
    upper = [clip_use for clip_use in seen if not clip_use.card and not _shown(clip_use, base_uses)]
    blends = {clip_use.at: clip_use.blend for clip_use in seen if clip_use.blend}
    base_uses = [replace(clip_use, blend=blends.get(clip_use.at, 0)) for clip_use in base_uses]
    return built(frame_rate, base_uses, [upper] if upper else [], [heard], recordings, left_out)


def _met(use: Use, uses: list[Use]) -> list[Use]:
    """The rows, in order and one after the other, that reach into the time of a use."""
    index = bisect_right(uses, use.at, key=lambda x: x.end)
    met_clips = []
    while index < len(uses) and uses[index].at < use.end:
        met_clips.append(uses[index])
        index += 1
    return met_clips


def _shown(use: Use, base: list[Use]) -> bool:
    """Whether a picture is that of the pieces under it for all of its time."""
    met = _met(use, base)
    whole = sum(min(use.end, other.end) - max(use.at, other.at) for other in met) == use.end - use.at
    return whole and all(use.speed == other.speed and use.in_step(other) for other in met)
