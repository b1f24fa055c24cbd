"""Seams: between neighbouring pieces, and what kind each is."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from itertools import pairwise
from math import floor
from typing import Any, NamedTuple

from kovel.core.story.model import TITLE, Cover, Piece, Sources, Story

PUNCH = 1.2  # from this change of size on a jump is taken for another framing (common practice, no source)
SPARE = 3  # frames by which a cover must overlap a seam on each side to hide it (common practice, no source)
PLAIN = (100.0, 100.0)  # zoom at the first and the last frame of what nothing is set on
KINDS = {"jump": "jump, exposed", "covered": "jump, covered", "clean": "clean", "through": "runs on", "soft": "soft"}


class Seam(NamedTuple):
    """Story frame `at` between pieces `left` and `right`.

    kind: `jump` (same camera setup on both sides, seen), `covered` (a cover hides it with frames to spare), `soft` (a
    dissolve, a dip or a punch-in takes the jolt out), `clean` (different setups, a card or a space), `through` (the
    recording simply runs on).
    """

    at: int
    left: Piece
    right: Piece
    kind: str

    @property
    def said(self) -> str:
        return KINDS[self.kind]

    @property
    def key(self) -> tuple[int, int, int]:
        """What makes it the same jump before and after an edit: the source frames that meet."""
        a, b = self.left, self.right
        return (
            a.source or 0,
            floor(a.clock.moment(a.end) + Fraction(1, 2)) if a.settings else a.end,
            b.moment(0) if b.settings else b.start,
        )

    @property
    def ends(self) -> tuple[int, int]:
        """Where in their recordings the two meet: the moment after the last one seen, and the first one that is."""
        a, b = self.left, self.right
        return (a.moment(a.length - 1) + 1 if a.settings else a.end), (b.moment(0) if b.settings else b.start)


def seams(story: Story, sources: Sources) -> list[Seam]:
    """Every seam of the dialogue line, in order. Remembered with the story, which never changes."""
    key = tuple((i, s.setup, s.settings) for i, s in sources.items())
    memo: dict[object, list[Seam]] = story.__dict__.setdefault("_seams", {})
    if key not in memo:
        memo[key] = _seams(story, sources)
    return memo[key]


def _seams(story: Story, sources: Sources) -> list[Seam]:
    starts = story.starts
    everywhere = any("zoom" in v for v in (*dict(story.settings).values(), *(s.settings for s in sources.values())))
    over = hiding(story, sources)
    spans = sorted(r[:2] for r in over)
    begins = {a: c.source for a, _, c in over}
    ends = {b: c.source for _, b, c in over}
    setup = {i: _of(i, sources) for i in {p.source for p in story.pieces} if i is not None}
    framed = story.pieces if everywhere else [p for p in story.pieces if p.settings]
    zooms = {
        p.id: (story.value_at(p, "zoom", sources, p.moment(0)), story.value_at(p, "zoom", sources, p.moment(p.length - 1)))
        for p in framed
    }
    out: list[Seam] = []
    i = reach = 0
    for n, (a, b) in enumerate(pairwise(story.pieces), 1):
        at = starts[n]
        # furthest end among covers that begin early enough to hide this seam (spans are sorted, seams too)
        while i < len(spans) and spans[i][0] <= at - SPARE:
            reach = max(reach, spans[i][1])
            i += 1
        if a.source is None or b.source is None:
            out.append(Seam(at, a, b, "clean"))
            continue
        x, y = (zooms.get(a.id, PLAIN)[1], zooms.get(b.id, PLAIN)[0]) if zooms else (100.0, 100.0)
        kind = "jump"
        if a.source == b.source and x == y and _runs_on(a, b):
            kind = "through"
        elif reach >= at + SPARE:
            kind = "covered"
        elif setup[a.source] != setup[b.source] or a.take == "sound" or b.take == "sound":
            kind = "clean"
        elif (at in begins and _of(begins[at], sources) != setup[a.source]) or (
            at in ends and _of(ends[at], sources) != setup[b.source]
        ):
            kind = "clean"  # one side of it is never seen: the picture changes to or from a cover just here
        elif max(x, y) >= PUNCH * min(x, y) or (story.transitions and story.transition(n).length):
            kind = "soft"
        out.append(Seam(at, a, b, kind))
    return out


def _runs_on(a: Piece, b: Piece) -> bool:
    """Whether what is seen goes on from one to the other: at another speed, or held, to the frame."""
    if not (a.settings or b.settings):
        return a.start + a.length == b.start
    x, y = a.clock, b.clock
    if x is y or x == y:
        return a.start + a.length == b.start
    same_way = x.backwards == y.backwards or x.held is not None or y.held is not None
    return same_way and abs(Fraction(x.moment(a.end)) - y.moment(b.start)) <= 1


def hiding(story: Story, sources: Sources) -> list[tuple[int, int, Cover]]:
    """The covers that hide what they lie over: (start, end, cover), without the frames in which they come or go. One that is
    see-through, on a muted lane, or leaves room around it does not.

    One that comes in where another of its lane ends hides from its first frame on: that other one goes on under it.
    """
    read = story.reading(sources)
    rows = [r for r in story.spans if f"cover {r[2].lane}" not in story.muted and _hides(r[2], read)]
    if not any(c.settings for _, _, c in rows):
        return rows
    ends = {(b, c.lane) for _, b, c in rows}
    out = []
    for a, b, c in rows:
        come = 0 if (a, c.lane) in ends and read(c, "through") != "black" else int(c.settings["appear"])
        if a + come < b - c.settings["leave"]:
            out.append((a + come, b - int(c.settings["leave"]), c))
    return out


def _hides(c: Cover, read: Callable[[Cover, str], Any]) -> bool:
    zoom = read(c, "zoom")
    least = min(z for _, z in zoom) if isinstance(zoom, tuple) else zoom
    return bool(
        c.source != TITLE
        and read(c, "opacity") == 100
        and least >= 100
        and read(c, "place") == "whole picture"
        and not any(read(c, n) for n in ("crop_left", "crop_right", "crop_top", "crop_bottom"))
    )


def exposed(story: Story, sources: Sources) -> list[Seam]:
    """The jump cuts that the viewer sees."""
    return [s for s in seams(story, sources) if s.kind == "jump"]


def _of(source: int, sources: Sources) -> str | int:
    s = sources.get(source)
    return (s.setup or s.id) if s else source
