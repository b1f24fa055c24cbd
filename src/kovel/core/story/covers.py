"""Edits on covers: picture over running dialogue. The dialogue line is never touched by any of these."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import (
    Edit,
    beyond,
    capitalised,
    check_handles,
    check_range,
    frames_in_words,
    lane_key,
    name_of,
    refuse_locked,
    source_of,
)
from kovel.core.story.laid_groups import moved_by
from kovel.core.story.model import TITLE, Cover, Piece, Refused, Report, Source, Sources, Story, Tether, with_setting
from kovel.core.story.settings import NONE, PACE, Between, HeardAs
from kovel.core.story.settling import settle
from kovel.core.story.tethers import cut_short
from kovel.core.time.timecode import stamp as clock

TOLD = {
    "pitch kept": "Its sound is made at that speed, its pitch kept.",
    "with the speed": "Its sound follows the speed, higher or lower.",
    "not heard": "It runs at another speed than it was shot at, and its sound is not heard there.",
}


def told_of_pace(story: Story, sources: Sources, clip: Piece | Cover) -> list[str]:
    """What retiming makes of the frames and the sound of something, in words; nothing where it runs as it was shot."""
    told_of_clip = told_of_sound(story, sources, clip)
    clock = clip.clock
    held = clock.held is not None or (isinstance(clip, Cover) and clip.span == 1)
    slowest = min(clock.ramp.speeds) if clock.ramp else Fraction(0) if held else clock.speed
    source = sources.get(clip.source) if clip.source is not None else None
    if source is not None and 0 < slowest * source.rate.fps < story.rate.fps and slowest < 1:
        how = "repeated" if story.value(clip, "between", sources) == Between.REPEATED else "blended into each other"
        told_of_clip.append(f"It is slower than it has frames for: they are {how}.")
    return told_of_clip


def told_of_sound(story: Story, sources: Sources, clip: Piece | Cover) -> list[str]:
    """What becomes of the sound of something retimed, in words; nothing where it has none, or runs as it was shot."""
    source = sources.get(clip.source) if clip.source is not None else None
    if source is None or not source.sound or clip.as_shot:
        return []
    if clip.take == "picture" if isinstance(clip, Piece) else not story.value(clip, "natural", sources):
        return []
    return ["A frame that is held has no sound."] if clip.clock.held is not None else [TOLD[heard_as(clip)]]


def heard_as(clip: Piece | Cover) -> str:
    """What becomes of the sound of something retimed: as it is set, else a piece keeps its pitch and a cover is
    silent."""
    asked_way = HeardAs(clip.settings["heard"]) if clip.settings else HeardAs.AS_A_RULE
    if asked_way != HeardAs.AS_A_RULE:
        return asked_way
    return HeardAs.PITCH_KEPT if isinstance(clip, Piece) else HeardAs.NOT_HEARD


def voiced(story: Story, sources: Sources, cover: Cover) -> Cover:
    """A cover that is retimed while its own sound is on: it goes on being heard, its pitch kept, unless something
    else is set."""
    unset = cover.source != TITLE and not cover.as_shot and "heard" not in cover.settings
    return (
        with_setting(cover, "heard", str(HeardAs.PITCH_KEPT))
        if unset and story.value(cover, "natural", sources)
        else cover
    )


def free_lane(story: Story, at: int, end: int, *, without: int | None = None) -> int:
    """The lowest lane on which [at, end) would be seen: above everything it meets."""
    return 1 + max(
        (cover.lane for start, until, cover in story.spans if start < end and until > at and cover.id != without),
        default=0,
    )


def three_points(
    *, at: int | None, until: int | None, start: int | None, end: int | None, most: int | None
) -> tuple[int, int, int]:
    """Three of four marks -> (story in, source in, length); all times in story frames.

    at/until are the story's in and out, start/end the shot's. The missing one follows from the others: with the
    shot's in missing the edit is back-timed from both outs. `most` is the shot's whole length (None for a still).
    Common practice, no source.

    story   ....[at        until]....
    shot        [start       end]
    """
    if at is None and until is None:
        raise Refused("Set an in or an out point in the story: the cover needs a place.")
    if start is None and end is None:
        start = 0
    if at is not None and until is not None:
        length = until - at
    elif start is None:
        raise Refused("Set an in point in the shot, or an out point in the story.")
    else:
        last = end if end is not None else most
        if last is None:
            raise Refused("A still has no length of its own: set an out point in the story.")
        length = last - start
    source = start if start is not None else (end or 0) - length
    if length <= 0:
        raise Refused("In and out are at the same place: the range is empty. Set the out point after the in point.")
    return (at if at is not None else (until or 0) - length), source, length


def _span_to_fit(story: Story, sources: Sources, source: Source, start: int, end: int, length: int) -> int:
    """How much of a shot goes into `length` story frames; 0 where it is as long as that, or is a still."""
    span = end - start
    check_range(sources, story.rate, source.id, start, span)
    check_speed(length, span)
    return 0 if span == length or source.frames is None else span


@edit(
    entry("Cover", "C", also="overlay, b-roll, cutaway, lay over", points="lay"),
    entry(
        "Cover fitted to the marks: retimed",
        source="source",
        at="range start",
        until="range end",
        start="start",
        end="end",
        fit=True,
    ),
)
def lay_cover(
    story: Story,
    sources: Sources,
    source: int,
    *,
    at: int | None = None,
    until: int | None = None,
    start: int | None = None,
    end: int | None = None,
    lane: int | None = None,
    natural: bool = False,
    fit: bool = False,
) -> Edit:
    """Lay a shot over the dialogue by three points, picture only; it is tethered to the word under its first frame.

    With `fit` all four marks count: the shot between start and end is retimed to fill the place (400 % speed makes a
    quarter of the length, common practice).
    """
    this_source = source_of(sources, source)
    if not this_source.picture:
        raise Refused(f"{this_source.name} has no picture to cover with.")
    if fit:
        if at is None or until is None or start is None or end is None:
            raise Refused("To fit a shot to its place, all four marks are needed: in and out of both.")
        story_in, source_in, length = at, start, until - at
        span = _span_to_fit(story, sources, this_source, start, end, length)
    else:
        most = this_source.length(story.rate)
        story_in, source_in, length = three_points(at=at, until=until, start=start, end=end, most=most)
        span = 0
    check_range(sources, story.rate, source, source_in, span or length)
    if not story.length:
        raise Refused("Add a soundbite first: a cover lies over dialogue.")
    if not 0 <= story_in < story.length:
        raise Refused("A cover must begin over the story.")
    if natural and not this_source.sound:
        raise Refused(f"{this_source.name} has no sound of its own.")
    seen = free_lane(story, story_in, story_in + length)
    lane = seen if lane is None else lane
    if lane < 1:
        raise Refused("Cover lanes are counted from 1.")
    refuse_locked(story, lane_key(lane))
    next_id = story.next_id
    own_values = NONE.with_value("natural", natural).with_value("span", span)
    cover = Cover(next_id, source, source_in, length, story.tether_at(story_in), lane, settings=own_values)
    summary = f"{this_source.name} laid over {clock(story_in, story.rate)}, {frames_in_words(length)}"
    return _set(story, sources, cover, summary, playhead=story_in)


@edit(entry("Cover with all that is picked up", "C", points="lay", ranges="ranges"))
def lay_several(story: Story, sources: Sources, at: int, ranges: list[list[int]], lane: int | None = None) -> Edit:
    """Lay ranges [source, start, length] one after the other over the dialogue from `at` on, picture only: one edit.

    dialogue  | A           | B      |
    cover        [one)[two──)[three)
                 ^ at
    """
    if not ranges or any(len(span) != 3 for span in ranges):
        raise Refused("There is nothing to lay. Choose something first.")
    laid_ids: list[int] = []
    notes: list[str] = []
    new_story, place = story, at
    for source, start, length in ranges:
        if place >= story.length:
            raise Refused(
                f"The {frames_in_words(sum(span[2] for span in ranges))} of them do not all begin over the story."
            )
        new_story, report = lay_cover(
            new_story, sources, source, at=place, until=place + length, start=start, lane=lane
        )
        laid_ids += report.made
        notes += [note for note in report.notes if note not in notes]
        place += length
    summary = f"{len(ranges)} shots laid over {clock(at, story.rate)}, {frames_in_words(place - at)}"
    return new_story, Report(summary, tuple(notes), tuple(laid_ids), playhead=at)


def unpaced(cover: Cover) -> Cover:
    """At the speed it was shot at."""
    own_values = cover.settings
    for name in PACE:
        own_values = own_values.without(name)
    return replace(cover, settings=own_values)


def check_speed(length: int, span: int) -> None:
    if length < 1 or span < 1:
        raise Refused("In and out are at the same place: the range is empty. Set the out point after the in point.")
    if not length <= span * 10 or not span <= length * 10:
        raise Refused(f"That would run at {100 * span // length} %. A shot is retimed to between 10 and 1000 %.")


def _past_end(story: Story, cover: int) -> list[str]:
    this_cover = story.cover(cover)
    over = story.at(this_cover) + this_cover.length - story.length
    return [beyond(over, "dialogue", "seen")] if over > 0 else []


def _in_place(story: Story, cover: int) -> Cover:
    this_cover = story.cover(cover)
    if this_cover in story.loose:
        raise Refused("That cover is loose. Lay it over a word first.")
    refuse_locked(story, lane_key(this_cover.lane))
    return this_cover


def _set(story: Story, sources: Sources, cover: Cover, did: str, playhead: int | None = None) -> Edit:
    """A cover put in place of the one with its id, or added."""
    draft = replace(
        story,
        covers=(*(other for other in story.covers if other.id != cover.id), cover),
        loose=tuple(other for other in story.loose if other.id != cover.id),
        next_id=max(story.next_id, cover.id + 1),
    )
    new_story, report = settle(story, draft, sources, did, made=(cover.id,), playhead=playhead)
    return new_story, report.with_notes(_past_end(new_story, cover.id))


@edit(
    entry(
        "In edge of the cover: LENGTH",
        "[",
        also="trim",
        typed="delta",
        default="1f",
        cover="cover",
        edge="=in",
        delta="typed",
    ),
    entry(
        "Out edge of the cover: LENGTH",
        "]",
        also="trim",
        typed="delta",
        default="1f",
        cover="cover",
        edge="=out",
        delta="typed",
    ),
)
def trim_cover(story: Story, sources: Sources, cover: int, edge: str, delta: int) -> Edit:
    """Move a cover's in or out edge by `delta` frames; its picture stays in step with the dialogue under it.

    in +2:   [cccccc]  ->  ..[cccc]     starts on a later word, two frames later in the shot
    """
    this_cover = _in_place(story, cover)
    source = source_of(sources, this_cover.source)
    if delta == 0:
        raise Refused("The edge is already there.")
    if edge not in ("in", "out"):
        raise Refused("An edge is either in or out.")
    first, length = (delta, this_cover.length - delta) if edge == "in" else (0, this_cover.length + delta)
    at = story.at(this_cover) + first
    if not 0 <= at < story.length:
        raise Refused("A cover must begin over the story.")
    if length < 1:
        raise Refused(f"That would leave nothing of the cover: it is {frames_in_words(this_cover.length)} long.")
    new_cover = cut_short(this_cover, sources, first, length)
    new_cover = replace(new_cover, tether=story.tether_at(at)) if first else new_cover
    check_handles(source, story.rate, (this_cover.start, this_cover.end), (new_cover.start, new_cover.end))
    how = "later" if delta > 0 else "earlier"
    return _set(story, sources, new_cover, f"{source.name}: {edge} point {frames_in_words(delta)} {how}")


@edit(entry("Slip the cover: LENGTH", typed="delta", default="1f", cover="cover", delta="typed"))
def slip_cover(story: Story, sources: Sources, cover: int, delta: int) -> Edit:
    """Show another part of the shot in the same place. Positive: later material."""
    this_cover = _in_place(story, cover)
    source = source_of(sources, this_cover.source)
    if delta == 0:
        raise Refused("It is already there.")
    new_cover = replace(this_cover, start=this_cover.start + delta)
    check_handles(source, story.rate, (this_cover.start, this_cover.end), (new_cover.start, new_cover.end))
    return _set(
        story,
        sources,
        new_cover,
        f"{source.name} slipped {frames_in_words(delta)} {'later' if delta > 0 else 'earlier'}",
    )


@edit(entry("Replace the cover with what is picked up", cover="cover", source="source", start="start"))
def replace_cover(
    story: Story, sources: Sources, cover: int, source: int, start: int | None = None, end: int | None = None
) -> Edit:
    """Another shot in a cover's place, from `start` on, or back-timed to `end`."""
    this_cover = _in_place(story, cover)
    this_source = source_of(sources, source)
    if not this_source.picture:
        raise Refused(f"{this_source.name} has no picture to cover with.")
    begin = start if start is not None else end - this_cover.length if end is not None else 0
    check_range(sources, story.rate, source, begin, this_cover.length)
    new_cover = unpaced(replace(this_cover, source=source, start=begin))
    new_cover = with_setting(new_cover, "natural", new_cover.settings["natural"] and this_source.sound)
    was = sources[this_cover.source].name if this_cover.source in sources else "the cover"
    tied = (
        replace(sound, tether=Tether(this_cover.id, sound.tether.moment + begin - this_cover.start))
        if sound.tether.piece == this_cover.id
        else sound
        for sound in story.sounds
    )
    story = replace(story, sounds=tuple(tied))  # what is tied to it stays where it is heard
    return _set(story, sources, new_cover, f"{this_source.name} in place of {was}", playhead=story.at(this_cover))


@edit(
    entry(
        "Retime the cover: show LENGTH of the shot",
        also="slow motion, time stretch, fit to fill",
        typed="length",
        cover="cover",
        span="typed",
    )
)
def retime_cover(story: Story, sources: Sources, cover: int, span: int) -> Edit:
    """Show `span` frames of the shot, from its in point on, in the cover's place; its own length again: normal
    speed."""
    this_cover = _in_place(story, cover)
    source = source_of(sources, this_cover.source)
    if source.frames is None:
        raise Refused(f"{source.name} is a still: it has no speed.")
    check_speed(this_cover.length, span)
    check_range(sources, story.rate, this_cover.source, this_cover.start, span)
    new_cover = with_setting(unpaced(this_cover), "span", 0 if span == this_cover.length else span)
    new_cover = voiced(story, sources, with_setting(new_cover, "backwards", this_cover.settings["backwards"]))
    if new_cover == this_cover:
        raise Refused("It runs at that speed already.")
    settled_story, report = _set(
        story,
        sources,
        new_cover,
        f"{source.name} at {round(100 * span / this_cover.length)} %",
        playhead=story.at(this_cover),
    )
    return settled_story, report.with_notes(told_of_pace(story, sources, new_cover))


@edit(
    entry("Cover from the tray to the playhead", "M", cover="loose cover", at="playhead"),
    entry("Cover to the playhead", "M", cover="cover", at="playhead"),
    entry("Cover one lane up", cover="cover", at="begin", lane="lane above"),
)
def move_cover(story: Story, sources: Sources, cover: int, at: int, lane: int | None = None) -> Edit:
    """Put a cover, loose or in place, so that it begins at story frame `at`; it is tethered to the word there."""
    this_cover = story.cover(cover)
    loose = this_cover in story.loose
    if not loose:
        refuse_locked(story, lane_key(this_cover.lane))
    if not 0 <= at < story.length:
        raise Refused("A cover must begin over the story.")
    to = lane or (free_lane(story, at, at + this_cover.length, without=cover) if loose else this_cover.lane)
    if to < 1:
        raise Refused("Cover lanes are counted from 1.")
    refuse_locked(story, lane_key(to))
    tether: Tether = story.tether_at(at)
    if not loose and tether == this_cover.tether and to == this_cover.lane:
        raise Refused("It is already there.")
    summary = f"{source_of(sources, this_cover.source).name} now begins at {clock(at, story.rate)}"
    if this_cover.group and not loose and tether != this_cover.tether:  # the others of its group go as far
        story_moved, moved = moved_by(story, [cover], at - story.at(this_cover))
        draft = story_moved.with_items({cover: replace(this_cover, tether=tether, lane=to)})
        made = (cover, *(other for other in moved if other != cover))
        return settle(story, draft, sources, summary, made=made, playhead=at)
    return _set(story, sources, replace(this_cover, tether=tether, lane=to), summary, playhead=at)


@edit(entry("Take the cover off", "X", also="delete, remove", cover="cover"))
def remove_cover(story: Story, sources: Sources, cover: int) -> Edit:
    """Take a cover away, from its place or from the tray."""
    this_cover = story.cover(cover)
    if this_cover not in story.loose:
        refuse_locked(story, lane_key(this_cover.lane))
    name = (
        capitalised(name_of(sources, this_cover))
        if this_cover.source in sources or this_cover.source == TITLE
        else "The cover"
    )
    draft = replace(
        story,
        covers=tuple(other for other in story.covers if other.id != cover),
        loose=tuple(other for other in story.loose if other.id != cover),
    )
    return settle(story, draft, sources, f"{name} taken off")


@edit(
    entry("Fill the marked stretch with the shot", at="range start", until="range end", source="source", start="start")
)
def fill_space(story: Story, sources: Sources, at: int, until: int, source: int, start: int) -> Edit:
    """Overwrite a marked stretch with a shot's picture from its in point on; dialogue and music run on untouched.

    A shot that ends before the stretch does covers what it can.
    """
    this_source = source_of(sources, source)
    total = this_source.length(story.rate)
    if until <= at:
        raise Refused("The range is empty. Set its end after its start.")
    length = until - at if total is None else min(until - at, total - start)
    if length < 1:
        raise Refused(f"{this_source.name} ends before that in point.")
    new_story, report = lay_cover(story, sources, source, at=at, until=at + length, start=start)
    space_left = until - at - length
    return new_story, report.with_notes(
        [
            f"{frames_in_words(space_left)} of the stretch {'is' if space_left == 1 else 'are'} left: "
            f"the shot ends there."
        ]
        if space_left
        else []
    )
