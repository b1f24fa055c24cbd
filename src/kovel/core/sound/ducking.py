"""Music that goes down where somebody speaks, and comes back.

speech  ......[we haul it]..[by hand]..............[since...]
music   ─────╲______________________╱─────────────╲_________     down before the first word, back after `hold`

All in frames of the story. Common practice, no source: down within a third of a second, held for one, back within one.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise

Span = tuple[int, int]
Moments = tuple[tuple[int, float], ...]


@dataclass(frozen=True, slots=True)
class Ducking:
    """`depth` in dB (under nothing); `down`, `hold` and `back` in frames."""

    depth: float = -12.0
    down: int = 8
    hold: int = 25
    back: int = 25


def spans_joined(spans: Iterable[Span], gap: int = 0) -> list[Span]:
    """Spans in order; those that are `gap` frames apart or less as one."""
    all_spans: list[Span] = []
    for start, end in sorted(span for span in spans if span[1] > span[0]):
        if all_spans and start - all_spans[-1][1] <= gap:
            all_spans[-1] = (all_spans[-1][0], max(end, all_spans[-1][1]))
        else:
            all_spans.append((start, end))
    return all_spans


def ducked(speech: Iterable[Span], place: Span, ducking: Ducking) -> Moments:
    """The line in dB over story frames [place) that lies `depth` down wherever somebody speaks; nothing if nobody does.

    It goes down before the first word, stays down in pauses that are too short to hold, come back and go down again,
    and comes back `hold` frames after the last word.
    """
    begin, end = place
    talk = [
        (start, until)
        for start, until in spans_joined(speech, ducking.hold + max(1, ducking.back) + max(1, ducking.down))
        if until > begin and start < end
    ]
    duck_line: dict[int, float] = {}
    down, back = max(1, ducking.down), max(1, ducking.back)
    for start, until in talk:
        duck_line |= {
            start - down: 0.0,
            start: ducking.depth,
            until + ducking.hold: ducking.depth,
            until + ducking.hold + back: 0.0,
        }
    return _within(sorted(duck_line.items()), begin, end)


def _within(level_points: Sequence[tuple[int, float]], begin: int, end: int) -> Moments:
    """The part of a line that lies in [begin, end], with what it says at its ends."""
    if not level_points:
        return ()

    def said(at: int) -> float:
        if at <= level_points[0][0]:
            return level_points[0][1]
        for (a, x), (b, y) in pairwise(level_points):
            if a <= at < b:
                return x + (y - x) * (at - a) / (b - a)
        return level_points[-1][1]

    inner = [level_point for level_point in level_points if begin < level_point[0] < end]
    edges = [(begin, said(begin)), *inner, (end, said(end))]
    return tuple((at, round(db, 2)) for at, db in edges)
