"""Edits on sounds laid under or over the dialogue: natural sound, effects, music, voice-over."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from kovel.core.story.covers import three_points
from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import (
    Edit,
    beyond,
    check_handles,
    check_range,
    frames_in_words,
    refuse_locked,
    source_of,
)
from kovel.core.story.laid_groups import moved_by
from kovel.core.story.levels_told import HALF
from kovel.core.story.model import SOUNDS, Refused, Sound, Sources, Story, Tether
from kovel.core.story.settings import NONE, SETTINGS, Value
from kovel.core.story.settling import settle
from kovel.core.story.tethers import faded
from kovel.core.time.timecode import stamp as clock

LANE = "sounds"


def free_lane(story: Story, laid: Iterable[Sound], at: int, end: int) -> int:
    """The lowest lane on which nothing is heard in [at, end)."""
    taken = {sound.lane for sound in laid if story.at(sound) < end and at < story.at(sound) + sound.length}
    return next(lane_number for lane_number in range(1, len(taken) + 2) if lane_number not in taken)


@edit(entry("Lay the sound under", "C", also="add music, effect", points="lay sound"))
def lay_sound(
    story: Story,
    sources: Sources,
    source: int,
    *,
    at: int | None = None,
    until: int | None = None,
    start: int | None = None,
    end: int | None = None,
    kind: str = "effect",
    clock_bound: bool = False,
    level: float | None = None,
) -> Edit:
    """Lay a sound by three points. It is tethered to the word under its first sample, or `clock_bound` to the story's
    own time. Music and natural sound start at half amplitude."""
    refuse_locked(story, LANE)
    this_source = source_of(sources, source)
    if not this_source.sound:
        raise Refused(f"{this_source.name} has no sound.")
    if kind not in SOUNDS:
        raise Refused("A sound is natural, effect, music or voice.")
    place, begin, length = three_points(at=at, until=until, start=start, end=end, most=this_source.length(story.rate))
    check_range(sources, story.rate, source, begin, length)
    if not 0 <= place < story.length:
        raise Refused("A sound must begin within the story." if story.length else "Add a soundbite first.")
    loud = level if level is not None else HALF if kind in ("music", "natural") else 0.0
    tether = Tether(0, place) if clock_bound else story.tether_at(place)
    lane = free_lane(story, story.sounds, place, place + length)
    sound = Sound(
        story.next_id, source, begin, length, tether, lane, kind, settings=NONE.with_value("level", at_level(loud))
    )
    return _set(
        story,
        sources,
        sound,
        f"{this_source.name} laid under {clock(place, story.rate)}, {frames_in_words(length)}",
        playhead=place,
    )


def at_level(level: float) -> Value:
    """A level as it is kept, or `Refused`."""
    value = SETTINGS["level"].as_kept(level)
    if value is None:
        raise Refused(f"A level lies between {SETTINGS['level'].between}.")
    return value


def _set(story: Story, sources: Sources, sound: Sound, did: str, playhead: int | None = None) -> Edit:
    draft = replace(
        story,
        sounds=(*(other for other in story.sounds if other.id != sound.id), sound),
        loose_sounds=tuple(other for other in story.loose_sounds if other.id != sound.id),
        next_id=max(story.next_id, sound.id + 1),
    )
    new_story, report = settle(story, draft, sources, did, made=(sound.id,), playhead=playhead)
    over = new_story.at(new_story.sound(sound.id)) + sound.length - new_story.length
    return new_story, report.with_notes([beyond(over, "talk", "heard")] if over > 0 else [])


def _in_place(story: Story, sound: int) -> Sound:
    this_sound = story.sound(sound)
    if this_sound in story.loose_sounds:
        raise Refused("That sound is loose. Lay it under a word first.")
    refuse_locked(story, LANE)
    return this_sound


@edit(
    entry(
        "In edge of the sound: LENGTH",
        "[",
        also="trim",
        typed="delta",
        default="1f",
        sound="sound",
        edge="=in",
        delta="typed",
    ),
    entry(
        "Out edge of the sound: LENGTH",
        "]",
        also="trim",
        typed="delta",
        default="1f",
        sound="sound",
        edge="=out",
        delta="typed",
    ),
)
def trim_sound(story: Story, sources: Sources, sound: int, edge: str, delta: int) -> Edit:
    """Move a sound's in or out edge by `delta` frames; what is heard stays in step with the dialogue."""
    this_sound = _in_place(story, sound)
    source = source_of(sources, this_sound.source)
    if delta == 0:
        raise Refused("The edge is already there.")
    if edge == "out":
        new_sound = replace(this_sound, length=this_sound.length + delta)
    elif edge == "in":
        at = story.at(this_sound) + delta
        if not 0 <= at < story.length:
            raise Refused("A sound must begin within the story.")
        tether = story.tie_like(this_sound, at)
        new_sound = replace(this_sound, start=this_sound.start + delta, length=this_sound.length - delta, tether=tether)
    else:
        raise Refused("An edge is either in or out.")
    if new_sound.length < 1:
        raise Refused(f"That would leave nothing of the sound: it is {frames_in_words(this_sound.length)} long.")
    check_handles(source, story.rate, (this_sound.start, this_sound.end), (new_sound.start, new_sound.end))
    return _set(
        story,
        sources,
        faded(new_sound),
        f"{source.name}: {edge} point {frames_in_words(delta)} {'later' if delta > 0 else 'earlier'}",
    )


@edit(entry("Slip the sound: LENGTH", typed="delta", default="1f", sound="sound", delta="typed"))
def slip_sound(story: Story, sources: Sources, sound: int, delta: int) -> Edit:
    """Show another part of a sound's recording in the same place."""
    this_sound = _in_place(story, sound)
    source = source_of(sources, this_sound.source)
    if delta == 0:
        raise Refused("That moves nothing.")
    new_sound = replace(this_sound, start=this_sound.start + delta)
    check_handles(source, story.rate, (this_sound.start, this_sound.end), (new_sound.start, new_sound.end))
    return _set(story, sources, new_sound, f"{source.name} slipped by {frames_in_words(abs(delta))}")


@edit(entry("Split the sound at the playhead", "S", sound="sound", at="playhead"))
def split_sound(story: Story, sources: Sources, sound: int, at: int) -> Edit:
    """Two sounds of one, to be moved, faded and levelled apart.

    | bed           |   ->   | bed   | bed'  |
            ^ at
    """
    this_sound = _in_place(story, sound)
    part_length = at - story.at(this_sound)
    if not 0 < part_length < this_sound.length:
        raise Refused("The playhead is not inside the sound. Put it where the sound is to be split.")
    if at >= story.length and this_sound.tether.piece:
        raise Refused(
            "There is no word here to keep the second part on: the story ends before. "
            "Split the sound further to the front."
        )
    part_before = replace(this_sound, length=part_length, settings=this_sound.settings.without("fade_out"))
    right = replace(
        this_sound,
        id=story.next_id,
        start=this_sound.start + part_length,
        length=this_sound.length - part_length,
        tether=story.tie_like(this_sound, at),
        settings=this_sound.settings.without("fade_in"),
    )
    split_sounds = tuple(
        split_part
        for other in story.sounds
        for split_part in ((faded(part_before), faded(right)) if other.id == sound else (other,))
    )
    draft = replace(story, sounds=split_sounds, next_id=story.next_id + 1)
    summary = f"{source_of(sources, this_sound.source).name} split at {clock(at, story.rate)}"
    return settle(story, draft, sources, summary, made=(this_sound.id, right.id), playhead=at)


@edit(entry("Repeat the sound behind itself", also="duplicate, loop", sound="sound"))
def repeat_sound(story: Story, sources: Sources, sound: int) -> Edit:
    """Lay a sound once more, behind its end."""
    this_sound = _in_place(story, sound)
    at = story.at(this_sound) + this_sound.length
    if at >= story.length:
        raise Refused("Behind it the story ends: a repeat would not be heard.")
    bound = story.tie_like(this_sound, at)
    new_sound = replace(this_sound, id=story.next_id, tether=bound)
    return _set(
        story,
        sources,
        new_sound,
        f"{source_of(sources, this_sound.source).name} once more from {clock(at, story.rate)}",
        playhead=at,
    )


@edit(
    entry("Sound to the playhead", "M", sound="sound", at="playhead"),
    entry("Sound keeps to the story's clock", sound="sound", at="begin", clock_bound=True),
    entry("Sound keeps to its word", sound="sound", at="begin", clock_bound=False),
)
def move_sound(story: Story, sources: Sources, sound: int, at: int, clock_bound: bool | None = None) -> Edit:
    """Put a sound, with the others of its group, so that it begins at story frame `at`."""
    refuse_locked(story, LANE)
    this_sound = story.sound(sound)
    if not 0 <= at < story.length:
        raise Refused("A sound must begin within the story.")
    moment_now = story.at_of(this_sound.tether)
    draft = story
    if this_sound.group and moment_now not in (None, at):
        draft, _ = moved_by(story, [sound], at - moment_now)
    tie = (
        story.tie_like(this_sound, at) if clock_bound is None else Tether(0, at) if clock_bound else story.tether_at(at)
    )
    draft = replace(
        draft,
        sounds=(*(other for other in draft.sounds if other.id != sound), replace(this_sound, tether=tie)),
        loose_sounds=tuple(other for other in draft.loose_sounds if other.id != sound),
    )
    if (
        sorted(draft.sounds, key=lambda o: o.id) == sorted(story.sounds, key=lambda o: o.id)
        and draft.loose_sounds == story.loose_sounds
    ):
        raise Refused("It is already there.")
    name = source_of(sources, this_sound.source).name
    return settle(story, draft, sources, f"{name} now begins at {clock(at, story.rate)}", made=(sound,), playhead=at)


@edit(entry("Sound keeps to the shot over it", sound="sound"))
def tie_sound(story: Story, sources: Sources, sound: int, cover: int | None = None) -> Edit:
    """Tie a sound to a cover, where it lies: it goes wherever that shot goes, and waits in the tray once the shot is
    gone.

    Without `cover` to the uppermost one over its first frame.
    """
    this_sound = _in_place(story, sound)
    at = story.at(this_sound)
    over = [other for start, end, other in story.spans if start <= at < end and cover in (None, other.id)]
    if not over:
        what = "that shot" if cover is not None else "a cover"
        raise Refused(f"The sound does not begin under {what}. Move it there first, then tie it.")
    this_cover = max(over, key=lambda c: (c.lane, story.at(c)))
    new_sound = replace(this_sound, tether=Tether(this_cover.id, this_cover.start + at - story.at(this_cover)))
    if new_sound == this_sound:
        raise Refused("It is tied to that shot already.")
    return _set(
        story,
        sources,
        new_sound,
        f"{source_of(sources, this_sound.source).name} keeps to {source_of(sources, this_cover.source).name}",
    )


@edit(entry("Take the sound away", "X", also="delete, remove", sound="sound"))
def remove_sound(story: Story, sources: Sources, sound: int) -> Edit:
    """Take a sound away, from its place or from the tray."""
    refuse_locked(story, LANE)
    this_sound = story.sound(sound)
    draft = replace(
        story,
        sounds=tuple(other for other in story.sounds if other.id != sound),
        loose_sounds=tuple(other for other in story.loose_sounds if other.id != sound),
    )
    return settle(
        story,
        draft,
        sources,
        f"{sources[this_sound.source].name if this_sound.source in sources else 'The sound'} taken off",
    )
