"""Edits on covers: picture over running dialogue. The dialogue line is never touched by any of these."""

from __future__ import annotations

from dataclasses import replace

from kovel.core.edits import Edit, check_handles, check_range, clock, frames_of, lane_key, refuse_locked, settle, source_of
from kovel.core.story import Cover, Refused, Sources, Story, Tether


def free_lane(story: Story, at: int, end: int, *, without: int | None = None) -> int:
    """The lowest lane on which [at, end) would be seen: above everything it meets."""
    return 1 + max((c.lane for a, b, c in story.spans if a < end and b > at and c.id != without), default=0)


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
        source = start if start is not None else (end or 0) - length
    elif start is not None and end is not None:
        length = end - start
        source = start
    else:
        if start is None:
            raise Refused("Set an in point in the shot, or an out point in the story.")
        if most is None:
            raise Refused("A still has no length of its own: set an out point in the story.")
        length = most - start
        source = start
    if length <= 0:
        raise Refused("In and out are at the same place: the range is empty. Set the out point after the in point.")
    return (at if at is not None else (until or 0) - length), source, length


def lay_cover(
    story: Story, sources: Sources, source: int, *, at: int | None = None, until: int | None = None,
    start: int | None = None, end: int | None = None, lane: int | None = None,
) -> Edit:  # fmt: skip
    """Lay a shot over the dialogue by three points, picture only; it is tethered to the word under its first frame."""
    s = source_of(sources, source)
    if not s.picture:
        raise Refused(f"{s.name} has no picture to cover with.")
    story_in, source_in, length = three_points(at=at, until=until, start=start, end=end, most=s.length(story.rate))
    check_range(sources, story.rate, source, source_in, length)
    if not 0 <= story_in < story.length:
        raise Refused(
            "A cover must begin over the story." if story.length else "Add a soundbite first: a cover lies over dialogue."
        )
    seen = free_lane(story, story_in, story_in + length)
    lane = seen if lane is None else lane
    if lane < 1:
        raise Refused("Cover lanes are counted from 1.")
    refuse_locked(story, lane_key(lane))
    n = story.next_id
    c = Cover(n, source, source_in, length, story.tether_at(story_in), lane)
    new, report = settle(story, story.pieces, sources, f"{s.name} laid over {clock(story_in, story.rate)}, {frames_of(length)}",
                         made=(n,), next_id=n + 1, playhead=story_in, covers=(*story.covers, c))  # fmt: skip
    return new, report.with_notes(_past_end(new, n))


def _past_end(story: Story, cover: int) -> list[str]:
    c = story.cover(cover)
    over = story.at(c) + c.length - story.length
    return [f"Its last {frames_of(over)} run past the end of the dialogue and are not seen."] if over > 0 else []


def _in_place(story: Story, cover: int) -> Cover:
    c = story.cover(cover)
    if c in story.loose:
        raise Refused("That cover is loose. Lay it over a word first.")
    refuse_locked(story, lane_key(c.lane))
    return c


def _with(story: Story, c: Cover) -> tuple[Cover, ...]:
    return (*(x for x in story.covers if x.id != c.id), c)


def trim_cover(story: Story, sources: Sources, cover: int, edge: str, delta: int) -> Edit:
    """Move a cover's in or out edge by `delta` frames; its picture stays in step with the dialogue under it.

    in +2:   [cccccc]  ->  ..[cccc]     starts on a later word, two frames later in the shot
    """
    c = _in_place(story, cover)
    s = source_of(sources, c.source)
    if delta == 0:
        raise Refused("The edge is already there.")
    if edge == "out":
        new = replace(c, length=c.length + delta)
    elif edge == "in":
        at = story.at(c) + delta
        if not 0 <= at < story.length:
            raise Refused("A cover must begin over the story.")
        new = replace(c, start=c.start + delta, length=c.length - delta, tether=story.tether_at(at))
        if s.frames is None:
            new = replace(new, start=0)
    else:
        raise Refused("An edge is either in or out.")
    if new.length < 1:
        raise Refused(f"That would leave nothing of the cover: it is {frames_of(c.length)} long.")
    check_handles(s, story.rate, (c.start, c.end), (new.start, new.end))
    how = "later" if delta > 0 else "earlier"
    new_story, report = settle(
        story,
        story.pieces,
        sources,
        f"{s.name}: {edge} point {frames_of(delta)} {how}",
        made=(cover,),
        covers=_with(story, new),
    )
    return new_story, report.with_notes(_past_end(new_story, cover))


def move_cover(story: Story, sources: Sources, cover: int, at: int, lane: int | None = None) -> Edit:
    """Put a cover, loose or in place, so that it begins at story frame `at`; it is tethered to the word there."""
    c = story.cover(cover)
    loose = c in story.loose
    if not loose:
        refuse_locked(story, lane_key(c.lane))
    if not 0 <= at < story.length:
        raise Refused("A cover must begin over the story.")
    to = lane or (free_lane(story, at, at + c.length, without=cover) if loose else c.lane)
    if to < 1:
        raise Refused("Cover lanes are counted from 1.")
    refuse_locked(story, lane_key(to))
    t: Tether = story.tether_at(at)
    if not loose and t == c.tether and to == c.lane:
        raise Refused("It is already there.")
    new = replace(c, tether=t, lane=to)
    base = replace(story, loose=tuple(x for x in story.loose if x.id != cover))
    name = source_of(sources, c.source).name
    new_story, report = settle(
        base,
        story.pieces,
        sources,
        f"{name} now begins at {clock(at, story.rate)}",
        made=(cover,),
        covers=_with(story, new),
        playhead=at,
    )
    return new_story, report.with_notes(_past_end(new_story, cover))


def remove_cover(story: Story, sources: Sources, cover: int) -> Edit:
    """Take a cover away, from its place or from the tray."""
    c = story.cover(cover)
    if c not in story.loose:
        refuse_locked(story, lane_key(c.lane))
    base = replace(story, loose=tuple(x for x in story.loose if x.id != cover))
    name = sources[c.source].name if c.source in sources else "The cover"
    return settle(base, story.pieces, sources, f"{name} taken off", covers=[x for x in story.covers if x.id != cover])
