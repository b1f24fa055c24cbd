"""Edits that lay several sounds in one: music fitted by bars, room tone under spaces, bites spread along the music.

music  [intro A B ][ E F end]      parts of one recording in a group, joined on the beat at equal power
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from kovel.core.story.edit_offers import edit
from kovel.core.story.edit_rules import DIALOGUE, Edit, check_range, frames_in_words, refuse_locked, source_of
from kovel.core.story.model import Piece, Refused, Sound, Sources, Story
from kovel.core.story.settings import NONE, SETTINGS, Values
from kovel.core.story.settling import settle
from kovel.core.story.sound_edits import LANE, at_level, free_lane
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import stamp as clock

OVER = 2  # frames that two parts of fitted music lie over each other
MOST = 500


def parts_of(story: Story, sound: Sound) -> list[Sound]:
    """A sound with the other parts of its recording that music was fitted by, in order of their beginnings."""
    grouped_sounds = [
        other
        for other in story.sounds
        if sound.group and other.group == sound.group and other.source == sound.source and other.kind == sound.kind
    ]
    return sorted(grouped_sounds, key=story.at) if grouped_sounds else [sound]


def _faded(values: Values, length: int, first: Sound | None, last: Sound | None) -> Values:
    """A part's settings with what goes over into its neighbours; at the music's beginning and end the fades that it
    had there (`first`, `last`: the parts that stood there)."""
    into = _kept(values, first, "fade_in", length) if first else values.with_value("fade_in", OVER)
    return _kept(into, last, "fade_out", length) if last else into.with_value("fade_out", OVER)


def _seams_in_words(count: int) -> str:
    return f", {count} seam{'s' if count > 1 else ''}" if count else ""


def _sound_in_place(story: Story, sound: int) -> Sound:
    this_sound = story.sound(sound)
    if this_sound in story.loose_sounds:
        raise Refused("That sound is loose. Lay it under a word first.")
    return this_sound


def _refuse_ranges(ranges: Sequence[Sequence[int]]) -> None:
    if not 0 < len(ranges) <= MOST or any(len(span) != 2 or not 0 <= span[0] < span[1] for span in ranges):
        raise Refused("Music is fitted by ranges of samples, each with its beginning and its end.")


@edit()
def fit_music(story: Story, sources: Sources, sound: int, ranges: list[list[int]], at: int, until: int) -> Edit:
    """Put music (with its parts, if it was fitted before) in parts so that it ends at story frame `until`.

    `ranges` are samples [a, b) of its recording that follow each other; each part begins on the sample its beat
    needs, by a slip of less than a frame. It begins at `at`, or a little earlier or later, so that its end is to the
    frame.
    """
    refuse_locked(story, LANE)
    this_sound = _sound_in_place(story, sound)
    source, frame_rate = source_of(sources, this_sound.source), story.rate
    _refuse_ranges(ranges)
    old_parts = parts_of(story, this_sound)
    total = sum(end - start for start, end in ranges)
    end = frame_rate.frame_to_sample(until)
    begin = end - total  # in samples of the story: it ends where it is to end
    first = frame_rate.sample_to_frame(begin)
    if begin < 0 or not 0 <= first < min(until, story.length):
        raise Refused("It would begin before the story does.")
    is_in_parts = len(ranges) > 1
    group = this_sound.group if len(old_parts) > 1 else free_group(story)
    own_values = _without_fades(old_parts[0].settings)
    sounds: list[Sound] = []
    done, number = 0, story.next_id
    for index, (a, b) in enumerate(ranges):
        is_last = index == len(ranges) - 1
        t0, t1 = begin + done, begin + done + b - a  # where it lies in the story, in samples
        f0 = frame_rate.sample_to_frame(t0) - (OVER // 2 if index else 0)
        f1 = until if is_last else frame_rate.sample_to_frame(t1) + OVER // 2
        exact = a + frame_rate.frame_to_sample(f0) - t0  # the sample of the recording heard at the part's first frame
        start, length, values = _part(sources, frame_rate, this_sound.source, exact, f1 - f0, own_values)
        values = _faded(values, length, None if index else old_parts[0], old_parts[-1] if is_last else None)
        first_part = replace(
            this_sound, start=start, length=length, tether=story.tie_like(this_sound, f0), settings=values
        )
        is_new = index >= len(old_parts)
        sounds.append(
            replace(first_part, id=number if is_new else old_parts[index].id, group=group if is_in_parts else 0)
        )
        number += is_new
        done += b - a
    gone = {sound.id for sound in old_parts}
    draft = replace(story, sounds=(*(sound for sound in story.sounds if sound.id not in gone), *sounds), next_id=number)
    summary = f"{source.name} ends with the pictures at {clock(until, frame_rate)}{_seams_in_words(len(ranges) - 1)}"
    new_story, report = settle(story, draft, sources, summary, made=tuple(sound.id for sound in sounds), playhead=first)
    return new_story, report.with_notes(_fit_notes(first - at, old_parts))


def free_group(story: Story) -> int:
    """A number that no group has."""
    return 1 + max((clip.group for clip in story.clips), default=0)


def _without_fades(values: Values) -> Values:
    """The settings that all parts of a bed share: without fades, ducking and slip, at the level it begins with."""
    own_values = values.without("fade_in").without("fade_out").without("duck").without("slip")
    if isinstance(own_values["level"], tuple):
        own_values = own_values.without("level").with_value("level", at_level(own_values["level"][0][1]))
    return own_values


def _part(
    sources: Sources, frame_rate: Rate, source: int, exact: int, room: int, own_values: Values
) -> tuple[int, int, Values]:
    """One part of a bed that begins on the sample `exact`: (its first frame, its length, its settings with the slip).

    Raises `Refused` where it is too short to go on from another.
    """
    start = frame_rate.sample_to_frame(max(0, exact))
    length = min(room, (source_of(sources, source).length(frame_rate) or 0) - start)
    if length < 2 * OVER:
        raise Refused("A part of it would be too short to go on from another.")
    check_range(sources, frame_rate, source, start, length)
    return start, length, own_values.with_value("slip", exact - frame_rate.frame_to_sample(start))


def _fit_notes(moved: int, old_sounds: Sequence[Sound]) -> list[str]:
    """What an editor should know of music that was fitted: where it begins now, and what went with its old parts."""
    notes = []
    if moved:
        way = "later" if moved > 0 else "earlier"
        notes.append(f"It begins {frames_in_words(abs(moved))} {way}, so that its last bar ends there.")
    if any("duck" in sound.settings for sound in old_sounds):
        notes.append("Its ducking went with the old parts: duck it again.")
    if any(isinstance(sound.settings["level"], tuple) for sound in old_sounds):
        notes.append("Its level line went with them; it is as loud as it began.")
    return notes


def _kept(values: Values, old_sound: Sound, name: str, length: int) -> Values:
    return values.with_value(name, min(old_sound.settings[name], length // 2))


@edit()
def lay_sounds(story: Story, sources: Sources, rows: list[list[Any]], did: str = "") -> Edit:
    """Lay several sounds in one edit, each as [recording, start, length, at, kind, settings]; `at` is a story frame,
    and each is tethered to what lies there."""
    refuse_locked(story, LANE)
    if not 0 < len(rows) <= MOST:
        raise Refused("There is nothing to lay.")
    made_sounds: list[Sound] = []
    for index, sound_row in enumerate(rows):
        if (
            len(sound_row) != 6
            or not all(isinstance(v, int) for v in sound_row[:4])
            or sound_row[4] not in ("natural", "effect", "music", "voice")
        ):
            raise Refused(
                "A sound to lay is a recording, its in point, its length, where it begins, its kind and what is set "
                "on it."
            )
        source, start, length, at, kind, settings = sound_row
        this_source = source_of(sources, source)
        if not this_source.sound:
            raise Refused(f"{this_source.name} has no sound.")
        check_range(sources, story.rate, source, start, length)
        if not 0 <= at < story.length:
            raise Refused("A sound must begin within the story.")
        if not isinstance(settings, dict) or set(settings) - set(SETTINGS):
            raise Refused("There is a setting among them that does not exist.")
        try:
            values = Values.from_json(settings)
        except ValueError as error:
            raise Refused(f"{error}.") from None
        lane = free_lane(story, [*story.sounds, *made_sounds], at, at + length)
        made_sounds.append(
            Sound(story.next_id + index, source, start, length, story.tether_at(at), lane, kind, 0, values or NONE)
        )
    draft = replace(story, sounds=(*story.sounds, *made_sounds), next_id=story.next_id + len(made_sounds))
    return settle(
        story,
        draft,
        sources,
        did[:200] or f"{len(made_sounds)} sounds laid",
        made=tuple(sound.id for sound in made_sounds),
    )


@edit()
def spread_along(story: Story, sources: Sources, marks: list[int], bars: int = 1) -> Edit:
    """Bites along music on the story's clock: each begins on the next of the marks (bars, in story frames) that leaves
    so many between it and the one before, with spaces between.

    marks   |    |    |    |    |    |
    before  [A ][B    ][C ]
    after   [A ].[B    ]...[C ]
    """
    refuse_locked(story, DIALOGUE)
    places = sorted(set(marks))
    bites = [piece for piece in story.pieces if piece.source is not None or piece.card is not None]
    if len(bites) < 2:
        raise Refused("There are no two bites to spread along the music.")
    if not places or bars < 1:
        raise Refused("There are no bars to spread the bites along.")
    pieces: list[Piece] = [bites[0]]
    next_id, end = story.next_id, bites[0].length
    spaces = [piece for piece in story.pieces if piece.source is None and piece.card is None]
    for piece in bites[1:]:
        index = bisect_left(places, end) + bars - 1
        if index >= len(places):
            raise Refused("The music is too short for all the bites: fit it longer, or leave fewer bars between them.")
        gap = places[index] - end
        if gap:
            space = spaces.pop(0) if spaces else Piece(next_id, None, 0, 1)
            next_id += space.id == next_id
            pieces.append(replace(space, start=0, length=gap))
        pieces.append(piece)
        end += gap + piece.length
    if tuple(pieces) == story.pieces:
        raise Refused("They lie like that already.")
    new_story = replace(story, pieces=tuple(pieces), next_id=next_id)
    settled_story, report = settle(
        story, new_story, sources, f"{len(bites)} bites along the music, each on a bar", playhead=0
    )
    ducked = any("duck" in sound.settings for sound in story.sounds)
    return settled_story, report.with_notes(["What is ducked lies as it did: duck it again."] if ducked else [])
