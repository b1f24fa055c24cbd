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
    out: list[Span] = []
    for a, b in sorted(s for s in spans if s[1] > s[0]):
        if out and a - out[-1][1] <= gap:
            out[-1] = (out[-1][0], max(b, out[-1][1]))
        else:
            out.append((a, b))
    return out


def ducked(speech: Iterable[Span], place: Span, d: Ducking) -> Moments:
    """The line in dB over story frames [place) that lies `depth` down wherever somebody speaks; nothing if nobody does.

    It goes down before the first word, stays down in pauses that are too short to hold, come back and go down again, and comes
    back `hold` frames after the last word.
    """
    begin, end = place
    talk = [(a, b) for a, b in spans_joined(speech, d.hold + max(1, d.back) + max(1, d.down)) if b > begin and a < end]
    line: dict[int, float] = {}
    down, back = max(1, d.down), max(1, d.back)
    for a, b in talk:
        line |= {a - down: 0.0, a: d.depth, b + d.hold: d.depth, b + d.hold + back: 0.0}
    return _within(sorted(line.items()), begin, end)


def _within(rows: Sequence[tuple[int, float]], begin: int, end: int) -> Moments:
    """The part of a line that lies in [begin, end], with what it says at its ends."""
    if not rows:
        return ()

    def said(at: int) -> float:
        if at <= rows[0][0]:
            return rows[0][1]
        for (a, x), (b, y) in pairwise(rows):
            if a <= at < b:
                return x + (y - x) * (at - a) / (b - a)
        return rows[-1][1]

    inner = [r for r in rows if begin < r[0] < end]
    edges = [(begin, said(begin)), *inner, (end, said(end))]
    return tuple((at, round(db, 2)) for at, db in edges)
