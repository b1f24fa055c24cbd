"""How fast a cover runs, as the Picture room draws it: its speed over the shot, with the moments that can be dragged."""

from __future__ import annotations

import json
from dataclasses import dataclass
from math import ceil, log

from kovel.core.story.model import TITLE, Cover, Item, Sources
from kovel.core.story.settings import SETTINGS
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
    """`path` in a drawing of WIDE by TALL, faster further up; `begin` and `end` of the shot; `lines`: (top in percent, its name)."""

    cover: int
    percent: str
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
    box: str = f"0 0 {WIDE} {TALL}"


def _top(percent: float) -> float:
    return 100 * (1 - log(percent / LOW) / log(HIGH / LOW))


def pace_of(item: Item, sources: Sources, rate: Rate) -> Pace | None:
    """The pace of a cover; None for what has none."""
    if not isinstance(item, Cover) or item.source == TITLE or item.source not in sources or sources[item.source].frames is None:
        return None
    ramp, begin = item.ramp, item.start
    end = ceil(ramp.later(begin, item.length)) if ramp else item.end
    flat = 100 * (end - begin) / item.length

    def left(m: float) -> float:
        return round(100 * (m - begin) / max(1, end - begin), 2)

    marks: list[tuple[float, float]] = [(begin, flat), (end, flat)]
    if ramp:
        inside = {
            begin,
            end,
            *(m for m in ramp.moments if begin < m < end),
            *(begin + (end - begin) * k // 60 for k in range(60)),
        }
        marks = [(m, 100 * float(ramp.speed(m))) for m in sorted(inside)]
        if not ramp.soft:  # upright where it steps
            marks = [p for (m, v), w in zip(marks, (marks[0], *marks), strict=False) for p in ((m, w[1]), (m, v))]
    path = " ".join(f"{left(m) * WIDE / 100:g},{_top(v) * TALL / 100:.1f}" for m, v in marks)
    line = item.settings["speed"]
    moments = tuple(
        Moment(m, v, left(m), round(_top(v), 2), f"{v:g} % at {stamp(m, rate)} of the shot")
        for m, v in line
        if begin <= m <= end
    )
    lines = tuple((round(_top(p), 2), f"{p} %") for p in MARKED)
    own = item.settings
    said = f"{flat:.3g}"
    return Pace(item.id, said, own["backwards"], own["steps"], path, moments, lines, begin, end, LOW, HIGH, json.dumps(line))
