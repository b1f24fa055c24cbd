"""Edits on how fast a cover runs: a speed, backwards, a frame held, a moment made to land.

shot      [0 1 2 3 4 5 6 7)        200 %:  [0 2 4 6)      backwards:  (7 6 5 4 3 2 1 0]      held:  [3 3 3 3 3)
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Literal

from kovel.core.story.consequences import Edit, check_range, frames_of, lane_key, name_of, refuse_locked, settle, source_of
from kovel.core.story.covers import UNHEARD, check_speed
from kovel.core.story.model import TITLE, Cover, Refused, Sources, Story, having
from kovel.core.story.offered import edit, entry
from kovel.core.time.timecode import stamp as clock


def _running(story: Story, sources: Sources, cover: int) -> Cover:
    """A cover in place that has a speed; `Refused` for what has none."""
    c = story.cover(cover)
    story.at(c)
    refuse_locked(story, lane_key(c.lane))
    if c.source == TITLE or source_of(sources, c.source).frames is None:
        raise Refused(f"{'A title' if c.source == TITLE else 'A still'} has no speed.")
    return c


def _put(story: Story, sources: Sources, new: Cover, did: str, *more: Cover) -> Edit:
    covers = (*(new if x.id == new.id else x for x in story.covers), *more)
    draft = replace(story, covers=covers, next_id=story.next_id + len(more))
    made = tuple(c.id for c in (new, *more))
    out, report = settle(story, draft, sources, did, made=made, playhead=story.at(new))
    heard = any(story.value(c, "natural", sources) and c.span for c in (new, *more))
    return out, report.with_notes([UNHEARD] if heard else [])


@edit(
    entry("Speed of the cover: PERCENT", typed="number", default="200", cover="cover", percent="typed"),
    entry(
        "Speed of the cover in its place: PERCENT", typed="number", default="200", cover="cover", percent="typed", keep="=place"
    ),
)
def set_speed(
    story: Story, sources: Sources, cover: int, percent: int | float, keep: Literal["shot", "place"] | str = "shot"
) -> Edit:
    """Run a cover at so many percent: its length follows, or (`keep` "place") it stays and shows more or less of the shot.

    400 % makes a quarter of the length (common practice).
    """
    c = _running(story, sources, cover)
    check_speed(100, int(percent))
    speed = Fraction(percent).limit_denominator(1000) / 100
    if keep not in ("shot", "place"):
        raise Refused("Either the shot is kept and its length follows, or its place.")
    if keep == "place":
        span = max(1, round(c.length * speed))
        check_range(sources, story.rate, c.source, c.start, span)
        new = having(c, "span", 0 if span == c.length else span)
    else:
        length = max(1, round(c.used / speed))
        new = having(replace(c, length=length), "span", 0 if length == c.used else c.used)
    if new == c:
        raise Refused("It runs at that speed already.")
    told = f"{name_of(sources, c)} at {float(percent):g} %"
    return _put(story, sources, new, told + (f", now {frames_of(new.length)}" if new.length != c.length else ""))


@edit(entry("Hold the frame here: LENGTH", typed="length", default="2s", cover="cover", at="playhead", length="typed"))
def hold_frame(story: Story, sources: Sources, cover: int, at: int, length: int) -> Edit:
    """Hold the frame of a cover that is seen at story frame `at` for so long; what comes before it stays as it is.

    cover   [0 1 2 3 4 5)      held at 3 for 5:    [0 1 2)[3 3 3 3 3)
    """
    c = _running(story, sources, cover)
    begin = story.at(c)
    if not begin <= at < begin + c.length:
        raise Refused(
            f"That lies outside of it: it is seen from {clock(begin, story.rate)} to {clock(begin + c.length, story.rate)}."
        )
    if not 0 < length <= 100_000:
        raise Refused("Say for how long the frame is held.")
    k = at - begin
    forth = c.settings["backwards"]
    shown = k * c.used // c.length if not forth else (c.length - 1 - k) * c.used // c.length
    held = having(replace(c, start=c.start + shown, length=length), "span", 1 if length > 1 else 0)
    held = replace(
        held, settings=held.settings.without("appear").without("backwards") if k else held.settings.without("backwards")
    )
    said = f"{name_of(sources, c)}: the frame at {clock(at, story.rate)} held for {frames_of(length)}"
    if not k:
        return _put(story, sources, held, said)
    if forth:  # what ran before it: the last of the shot
        left = replace(c, start=c.start + shown + 1, length=k)
        used = c.used - shown - 1
    else:
        left, used = replace(c, length=k), shown
    left = having(left, "span", 0 if max(1, used) == k else max(1, used))
    left = replace(left, settings=left.settings.without("leave"))
    return _put(story, sources, left, said, replace(held, id=story.next_id, tether=story.tether_at(at)))


@edit(entry("Land what is seen here on the out mark", cover="cover", at="playhead", until="range end"))
def land_on(story: Story, sources: Sources, cover: int, at: int, until: int) -> Edit:
    """Change a cover's speed so that the frame seen at story frame `at` is seen at `until`: on a beat, a mark, a word.

    cover    [......x.....)           x at the beat:  [.........x..)
    beat                ^                                       ^
    """
    c = _running(story, sources, cover)
    begin = story.at(c)
    if not begin < at < begin + c.length or not begin < until < begin + c.length:
        raise Refused("Both the frame and where it lands must lie inside the cover, after its first frame.")
    if c.settings["backwards"]:
        raise Refused("It runs backwards: let it run forwards first.")
    moment = (at - begin) * c.used // c.length  # frames of the shot
    if moment < 1:
        raise Refused("That is the first frame of the shot: move the cover instead.")
    k = until - begin
    span = -(-moment * c.length // k)  # the least of which k frames show that moment
    if span == c.used:
        raise Refused("It lands there already.")
    check_speed(c.length, span)
    check_range(sources, story.rate, c.source, c.start, span)
    new = having(c, "span", 0 if span == c.length else span)
    return _put(
        story, sources, new, f"{name_of(sources, c)} lands at {clock(until, story.rate)}, at {round(100 * span / c.length)} %"
    )
