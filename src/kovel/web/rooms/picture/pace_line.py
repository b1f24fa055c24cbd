"""How fast a piece or a cover runs, as the Picture room draws it: its speed over the shot, with moments that can be
dragged."""

from __future__ import annotations

import json
from dataclasses import dataclass
from math import ceil, floor, log

from kovel.core.story.covers import heard_as
from kovel.core.story.model import Item, Piece, Sound, Sources, Story
from kovel.core.story.reclocked import extent
from kovel.core.story.settings import BETWEEN, HEARD, SETTINGS
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import stamp

LOW, HIGH = SETTINGS["speed"].low, SETTINGS["speed"].high
MARKED = (25, 50, 100, 200, 400)  # percent that have a line of their own
WIDE, TALL = 1000, 300  # of the drawing


@dataclass(frozen=True, slots=True)
class Moment:
    """One moment of a ramp: where it stands in percent of the drawing, and what it says."""

    at: int
    percent: float
    left: float
    top: float
    says: str


@dataclass(frozen=True, slots=True)
class Pace:
    """`path` in a drawing of WIDE by TALL, faster further up; `begin` and `end` of the shot; `lines`: (top in
    percent, its name)."""

    item: int
    percent: str
    length: str  # as it is typed
    backwards: bool
    steps: bool
    path: str
    moments: tuple[Moment, ...]
    lines: tuple[tuple[float, str], ...]
    begin: int
    end: int
    low: float
    high: float
    line: str  # all of its moments, those that are trimmed off too
    heard: str | None  # what becomes of its sound; None where nothing is heard of it, or it runs as it was shot
    between: str | None  # what is seen between two frames of slow motion; None where it is no slower than it was shot
    choices: tuple[str, ...] = HEARD[1:]
    betweens: tuple[str, ...] = BETWEEN
    box: str = f"0 0 {WIDE} {TALL}"


def _top(percent: float) -> float:
    return 100 * (1 - log(percent / LOW) / log(HIGH / LOW))


def pace_of(item: Item, story: Story, sources: Sources, rate: Rate) -> Pace | None:
    """The pace of a piece or a cover; None for what has none, and for a frame that is held."""
    source = sources.get(item.source) if item.source else None
    if isinstance(item, Sound) or source is None or source.frames is None or not source.picture:
        return None
    if isinstance(item, Piece):
        if item.clock.held is not None:
            return None
        ramp, (lo, hi), plain = item.clock.ramp, extent(item), item.clock.as_shot
        begin, end = floor(lo), max(ceil(hi), floor(lo) + 1)
        flat, sounds = 100 * float(hi - lo) / item.length, source.sound and item.take != "picture"
    else:
        ramp, begin, plain, sounds = (
            item.ramp,
            item.start,
            item.as_shot,
            source.sound and bool(item.settings["natural"]),
        )
        end = ceil(ramp.later(begin, item.length)) if ramp else item.end
        flat = 100 * (end - begin) / item.length

    def left(m: float) -> float:
        return round(100 * (m - begin) / max(1, end - begin), 2)

    marks: list[tuple[float, float]] = [(begin, flat), (end, flat)]
    if ramp:
        inside = {
            begin,
            end,
            *(moment for moment in ramp.moments if begin < moment < end),
            *(begin + (end - begin) * k // 60 for k in range(60)),
        }
        marks = [(m, 100 * float(ramp.speed(m))) for m in sorted(inside)]
        if not ramp.soft:  # upright where it steps
            marks = [
                p for (mark, v), w in zip(marks, (marks[0], *marks), strict=False) for p in ((mark, w[1]), (mark, v))
            ]
    path = " ".join(f"{left(moment) * WIDE / 100:g},{_top(value) * TALL / 100:.1f}" for moment, value in marks)
    line = item.settings["speed"] if ramp else ()
    moments = tuple(
        Moment(moment, value, left(moment), round(_top(value), 2), f"{value:g} % at {stamp(moment, rate)} of the shot")
        for moment, value in line
        if begin <= moment <= end
    )
    lines = tuple((round(_top(p), 2), f"{p} %") for p in MARKED)
    own = item.settings
    return Pace(
        item.id,
        f"{flat:.4g}",
        stamp(item.length, rate),
        own["backwards"],
        own["steps"],
        path,
        moments,
        lines,
        begin,
        end,
        LOW,
        HIGH,
        json.dumps(line),
        heard_as(item) if sounds and not plain else None,
        story.value(item, "between", sources) if min([flat, *(value for _, value in line)]) < 99.9 else None,
    )
