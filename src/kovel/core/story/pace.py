"""Edits on how fast a cover runs: a speed, backwards, a frame held, a moment made to land.

shot      [0 1 2 3 4 5 6 7)        200 %:  [0 2 4 6)      backwards:  (7 6 5 4 3 2 1 0]      held:  [3 3 3 3 3)
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from math import floor, isfinite
from typing import Literal

from kovel.core.story.consequences import Edit, check_range, frames_of, lane_key, name_of, refuse_locked, settle, source_of
from kovel.core.story.covers import UNHEARD, check_speed, unpaced
from kovel.core.story.model import TITLE, Cover, Refused, Sources, Story, having
from kovel.core.story.offered import edit, entry
from kovel.core.story.ramps import Line, landing, ramp_of
from kovel.core.story.settings import SETTINGS
from kovel.core.story.tethers import part_of
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
    heard = any(story.value(c, "natural", sources) and not c.as_shot for c in (new, *more))
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
    if not percent or not isfinite(percent):
        raise Refused("Say how fast it is to run, in percent.")
    check_speed(100, int(percent))
    speed = Fraction(percent).limit_denominator(1000) / 100
    plain, length = _plain(c), c.length if _keeps(keep) == "place" else max(1, round(c.used / speed))
    span = max(1, round(c.length * speed)) if keep == "place" else c.used
    new = having(replace(plain, length=length), "span", 0 if span == length else span)
    if new == c:
        raise Refused("It runs at that speed already.")
    check_range(sources, story.rate, c.source, c.start, span)
    told = f"{name_of(sources, c)} at {float(percent):g} %"
    return _put(story, sources, new, told + _now_long(c, new))


def _plain(c: Cover) -> Cover:
    """At the speed it was shot at, forwards or backwards as it runs."""
    return having(unpaced(c), "backwards", c.settings["backwards"])


def _keeps(keep: str) -> str:
    if keep not in ("shot", "place"):
        raise Refused("Either the shot is kept and its length follows, or its place.")
    return keep


def _now_long(c: Cover, new: Cover) -> str:
    return f", now {frames_of(new.length)}" if new.length != c.length else ""


@edit(
    entry("Ramp: PERCENT here", typed="number", default="400", cover="cover", at="playhead", percent="typed"),
    entry(
        "Ramp in its place: PERCENT here",
        typed="number",
        default="400",
        cover="cover",
        at="playhead",
        percent="typed",
        keep="=place",
    ),
)
def ramp_here(
    story: Story,
    sources: Sources,
    cover: int,
    at: int,
    percent: int | float | None,
    keep: Literal["shot", "place"] | str = "shot",
) -> Edit:
    """Give the moment of a cover that is seen at story frame `at` a speed of its own: the shot gets faster or slower towards
    it. The first such moment leaves the cover's beginning as fast as it is; None takes the moment there out again.

    speed %    100 ____/‾‾ 400         the moment stays on its frame of the shot, whatever is trimmed
    """
    c = _running(story, sources, cover)
    begin = story.at(c)
    if not begin <= at < begin + c.length:
        raise Refused(
            f"That lies outside of it: it is seen from {clock(begin, story.rate)} to {clock(begin + c.length, story.rate)}."
        )
    moment = floor(c.shown(at - begin))
    line = dict(c.settings["speed"])
    if percent is None:
        near = min(line, key=lambda m: abs(m - moment), default=None)
        if near is None:
            raise Refused("It has no ramp there.")
        del line[near]
    else:
        if not line and moment != c.start:
            line[c.start if not c.settings["backwards"] else c.end - 1] = round(100 * c.used / c.length, 1)
        line[moment] = float(percent)
    return set_ramp(story, sources, cover, [[m, v] for m, v in sorted(line.items())], c.settings["steps"], keep)


@edit(
    entry("Ramp in steps", cover="cover", steps=True),
    entry("Ramp straight from one speed to the next", cover="cover", steps=False),
)
def set_ramp(
    story: Story, sources: Sources, cover: int, line: list[list[float]] | None = None, steps: bool | None = None,
    keep: Literal["shot", "place"] | str = "shot",
) -> Edit:  # fmt: skip
    """Draw a cover's speed as a line: moments of its shot with percent (10 to 1000), straight between them or in steps.

    Its length follows (`keep` "shot": what it shows of the shot stays), or its place is kept and it shows more or less. An
    empty line takes the ramp out.
    """
    c = _running(story, sources, cover)
    if any(len(r) != 2 or not isfinite(r[0]) for r in line or ()):
        raise Refused("A ramp is moments of the shot, each with its speed in percent.")
    rows = [[int(m), v] for m, v in line] if line is not None else [list(m) for m in c.settings["speed"]]
    if line is None and not rows:
        raise Refused("It has no ramp: give one of its moments a speed first.")
    if not rows:
        return set_speed(story, sources, cover, 100, keep)
    speed = SETTINGS["speed"].of_kind(rows)
    if speed is None:
        raise Refused(f"A ramp is moments of the shot, in order, each with {SETTINGS['speed'].between}.")
    assert isinstance(speed, tuple)
    steps = c.settings["steps"] if steps is None else steps
    new = having(having(_plain(c), "speed", speed), "steps", steps)
    if len(speed) == 1 and speed[0][1] == 100:
        new = _plain(c)
    elif _keeps(keep) == "shot":
        new = replace(new, length=max(1, round(ramp_of(speed, not steps).between(c.start, c.end))))
    if new == c:
        raise Refused("It runs like that already.")
    room = source_of(sources, c.source).length(story.rate)
    if room is not None and new.end > room and new.end > c.end:
        raise Refused(
            f"The ramp runs out of the shot: {frames_of(new.end - room)} more would be needed. Make it shorter, or slower."
        )
    return _put(story, sources, new, f"{name_of(sources, c)} ramped over {_speeds(speed)}{_now_long(c, new)}")


def _speeds(line: Line) -> str:
    shown = [f"{v:g}" for _, v in (line if len(line) <= 4 else (*line[:2], *line[-1:]))]
    return f"{', '.join(shown)} %"


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
    held = having(replace(_unramped(c), start=floor(c.shown(k)), length=length), "span", 1 if length > 1 else 0)
    held = replace(
        held, settings=held.settings.without("appear").without("backwards") if k else held.settings.without("backwards")
    )
    said = f"{name_of(sources, c)}: the frame at {clock(at, story.rate)} held for {frames_of(length)}"
    if not k:
        return _put(story, sources, held, said)
    left = part_of(c, 0, k)
    left = replace(left, settings=left.settings.without("leave"))
    return _put(story, sources, left, said, replace(held, id=story.next_id, tether=story.tether_at(at)))


def _unramped(c: Cover) -> Cover:
    return replace(c, settings=c.settings.without("speed").without("steps"))


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
    moment, k = floor(c.shown(at - begin)) - c.start, until - begin  # in frames of the shot, and of the story
    if moment < 1:
        raise Refused("That is the first frame of the shot: move the cover instead.")
    if ramp := c.ramp:
        new = having(c, "speed", landing(ramp, c.start, c.start + moment, k).line)
        if SETTINGS["speed"].of_kind(new.settings["speed"]) is None:
            raise Refused("That would run at less than 10 or more than 1000 % somewhere.")
        if new == c:
            raise Refused("It lands there already.")
        check_range(sources, story.rate, c.source, c.start, new.used)
        return _put(story, sources, new, f"{name_of(sources, c)} lands at {clock(until, story.rate)}")
    span = -(-moment * c.length // k)  # the least of which k frames show that moment
    if span == c.used:
        raise Refused("It lands there already.")
    check_speed(c.length, span)
    check_range(sources, story.rate, c.source, c.start, span)
    new = having(c, "span", 0 if span == c.length else span)
    return _put(
        story, sources, new, f"{name_of(sources, c)} lands at {clock(until, story.rate)}, at {round(100 * span / c.length)} %"
    )
