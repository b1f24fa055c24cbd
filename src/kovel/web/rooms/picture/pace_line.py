"""How fast a piece or a cover runs, as the Picture room draws it: its speed over the shot, with moments that can be
dragged."""

from __future__ import annotations

import json
from dataclasses import dataclass
from math import ceil, floor, log
from typing import NamedTuple

from kovel.core.story.covers import heard_as
from kovel.core.story.model import Cover, Item, Piece, Sound, Source, Sources, Story
from kovel.core.story.ramps import Ramp
from kovel.core.story.reclocked import extent
from kovel.core.story.settings import SETTINGS, Between, HeardAs, words_of
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
    choices: tuple[str, ...] = words_of(HeardAs)[1:]
    betweens: tuple[str, ...] = words_of(Between)
    box: str = f"0 0 {WIDE} {TALL}"


def _top(percent: float) -> float:
    return 100 * (1 - log(percent / LOW) / log(HIGH / LOW))


def _drawn(item: Item, source: Source | None) -> _Run | None:
    if isinstance(item, Sound) or source is None or source.frames is None or not source.picture:
        return None
    if isinstance(item, Cover):
        return _of_cover(item, source)
    return _of_piece(item, source) if item.clock.held is None else None


def pace_of(item: Item, story: Story, sources: Sources, frame_rate: Rate) -> Pace | None:
    """The pace of a piece or a cover; None for what has none, and for a frame that is held."""
    source = sources.get(item.source) if item.source else None
    drawn = _drawn(item, source)
    if drawn is None or isinstance(item, Sound):
        return None
    begin, end = drawn.begin, drawn.end

    def left(moment: float) -> float:
        return round(100 * (moment - begin) / max(1, end - begin), 2)

    line = item.settings["speed"] if drawn.ramp else ()
    path = " ".join(f"{left(moment) * WIDE / 100:g},{_top(value) * TALL / 100:.1f}" for moment, value in drawn.marks())
    own_settings = item.settings
    slowest = min([drawn.flat, *(value for _, value in line)])
    return Pace(
        item.id,
        f"{drawn.flat:.4g}",
        stamp(item.length, frame_rate),
        own_settings["backwards"],
        own_settings["steps"],
        path,
        tuple(
            Moment(
                moment,
                value,
                left(moment),
                round(_top(value), 2),
                f"{value:g} % at {stamp(moment, frame_rate)} of the shot",
            )
            for moment, value in line
            if begin <= moment <= end
        ),
        tuple((round(_top(percent), 2), f"{percent} %") for percent in MARKED),
        begin,
        end,
        LOW,
        HIGH,
        json.dumps(line),
        heard_as(item) if drawn.sounds and not drawn.plain else None,
        story.value(item, "between", sources) if slowest < 99.9 else None,
    )


class _Run(NamedTuple):
    """Frames [begin, end) of a shot as they run: along a ramp, or at a speed of `flat` percent."""

    ramp: Ramp | None
    begin: int
    end: int
    flat: float
    plain: bool
    sounds: bool

    def marks(self) -> list[tuple[float, float]]:
        """(moment, percent) along the line that is drawn; upright where it steps."""
        begin, end, ramp = self.begin, self.end, self.ramp
        if ramp is None:
            return [(begin, self.flat), (end, self.flat)]
        between = (begin + (end - begin) * point_index // 60 for point_index in range(60))
        moments = sorted({begin, end, *(moment for moment in ramp.moments if begin < moment < end), *between})
        marks = [(float(moment), 100 * float(ramp.speed(moment))) for moment in moments]
        if ramp.soft:
            return marks
        pairs = zip(marks, (marks[0], *marks), strict=False)
        return [mark for (moment, value), before in pairs for mark in ((moment, before[1]), (moment, value))]


def _of_piece(piece: Piece, source: Source) -> _Run:
    low, high = extent(piece)
    begin = floor(low)
    flat = 100 * float(high - low) / piece.length
    sounds = source.sound and piece.take != "picture"
    return _Run(piece.clock.ramp, begin, max(ceil(high), begin + 1), flat, piece.clock.as_shot, sounds)


def _of_cover(cover: Cover, source: Source) -> _Run:
    end = ceil(cover.ramp.later(cover.start, cover.length)) if cover.ramp else cover.end
    flat = 100 * (end - cover.start) / cover.length
    return _Run(cover.ramp, cover.start, end, flat, cover.as_shot, source.sound and bool(cover.settings["natural"]))
