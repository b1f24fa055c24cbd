"""What becomes of a cover or a sound when words under it leave the story: it loses what its words lost, no more.

    words   | a b c d e f |      c d leave      | a b e f |          a leaves        | b c d e f |
    cover      [─────────)           ->            [─────)               ->           [────────)    its picture moved on

Its first words gone: it begins at the first that stays, later in the shot by as much. Its last gone: it ends with the last
that stays. Its middle gone: it runs on and is shorter by what closed up. All gone: it is loose.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from math import floor
from typing import TypeVar

from kovel.core.story.model import TITLE, Cover, Laid, Piece, Sound, Sources, Story, Tether, with_setting

L = TypeVar("L", Cover, Sound)
Split = Mapping[int, tuple[int, ...]]


def cut_short(c: L, sources: Sources, first: int, length: int) -> L:
    """What is left of a cover or sound that begins `first` frames later and is `length` frames long. Retimed, it keeps its
    speed to the nearest frame."""
    if isinstance(c, Cover):
        still = c.source == TITLE or (c.source in sources and sources[c.source].frames is None)
        return faded(replace(c, length=length) if still else part_of(c, first, length))
    return faded(replace(c, start=c.start + first, length=length))


def part_of(c: Cover, first: int, length: int) -> Cover:
    """A cover that begins `first` story frames later (or earlier) and is `length` long, at the speed it has: what is seen at
    a story frame stays there, to the nearest frame of the shot.

    cover    [0 2 4 6 8)      first 1, length 3:    [2 4 6)        backwards  (8 6 4 2 0]  ->  (6 4 2]
    """
    if c.settings["backwards"] if c.settings else False:
        first = c.length - first - length
    if ramp := c.ramp:
        return replace(c, start=floor(ramp.later(c.start, first)), length=length)
    if not c.span:
        return replace(c, start=c.start + first, length=length)
    a, b = ((k * c.span + c.length // 2) // c.length for k in (first, first + length))
    return with_setting(replace(c, start=c.start + a, length=length), "span", max(1, b - a))


def as_cover(p: Piece, cover: int, tether: Tether, total: int | None) -> Cover:
    """What is seen of a piece as a cover, at the speed it runs at; its shot has `total` frames."""
    (a, b), clock = p.used, p.clock
    c = Cover(cover, p.source or 0, a, p.length, tether)
    if clock.as_shot:
        return c
    c = with_setting(c, "backwards", clock.backwards)
    if clock.ramp:
        return with_setting(with_setting(c, "speed", clock.ramp.line), "steps", not clock.ramp.soft)
    span = b - a if clock.held is not None else max(b - a, round(p.length * clock.speed))
    span = min(span, total - a) if total is not None else span
    return with_setting(c, "span", 0 if span == p.length else span)


def faded(x: L) -> L:
    """A cover or a sound that comes and goes within its length: how it goes gives way."""
    comes, goes = ("appear", "leave") if isinstance(x, Cover) else ("fade_in", "fade_out")
    rise, fall = int(x.settings[comes]), int(x.settings[goes])
    if rise + fall <= x.length:
        return x
    rise = min(rise, x.length)
    return with_setting(with_setting(x, comes, rise), goes, min(fall, x.length - rise))


class Kept:
    """Which words of an old story a new one still has, and where. `split` says which pieces an old piece became."""

    def __init__(self, old: Story, new: Story, split: Split) -> None:
        self.old, self.new, self.split = old, new, split
        self.now = {p.id: (t, p) for t, p in zip(new.starts, new.pieces, strict=False)}
        changed = [
            (t, t + p.length)
            for t, p in zip(old.starts, old.pieces, strict=False)
            if (q := self.now.get(p.id)) is None
            or (q[1] is not p and (q[1].source, q[1].start, q[1].length, q[1].clock) != (p.source, p.start, p.length, p.clock))
        ]
        self._from = [a for a, _ in changed]
        self._to = [b for _, b in changed]
        self._old = old.shifts

    def touched(self, a: int, b: int) -> bool:
        """Whether any piece that stood in the old story's [a, b) has changed its range or is gone."""
        i = bisect_right(self._to, a)
        return i < len(self._from) and self._from[i] < b

    def _found(self, piece: Piece, a: int, b: int) -> list[tuple[int, int, int, int]]:
        """Where the moments [a, b) of an old piece are now: (moment, end, piece, story frame). First in the piece itself, and
        what it lost in those it was split into; a moment counts once."""
        out = []
        wanted = [(a, b)]
        for i in sorted(self.split.get(piece.id, (piece.id,)), key=lambda i: i != piece.id):
            t, q = self.now.get(i, (0, None))
            if q is None or q.source != piece.source:
                continue
            if q.clock != piece.clock:  # retimed: all of its words are still there, a little sooner or later
                out += [(x, y, q.id, t) for x, y in wanted if q.id == piece.id]
                wanted = [] if q.id == piece.id else wanted
                continue
            rest = []
            for x, y in wanted:
                lo, hi = max(x, q.start), min(y, q.end)
                if lo >= hi:
                    rest.append((x, y))
                    continue
                out.append((lo, hi, q.id, t + lo - q.start))
                rest += [(u, v) for u, v in ((x, lo), (hi, y)) if u < v]
            wanted = rest
        return out

    def words(self, at: int, length: int) -> list[tuple[int, int, int, int]]:
        """The runs of what stood in the old story's [at, at + length) that are still there, in their order: (first frame
        from `at`, end, piece it is in now, story frame there). What hung over the old end hangs over the new one."""
        out = []
        end = min(at + length, self.old.length)
        i = self.old.index_at(at)
        while i < len(self.old.pieces) and self.old.starts[i] < end:
            p, t = self.old.pieces[i], self.old.starts[i]
            a, b = p.start + max(at, t) - t, p.start + min(end, t + p.length) - t
            off = t - p.start - at
            out += [(x + off, y + off, q, now) for x, y, q, now in self._found(p, a, b)]
            i += 1
        out.sort()
        if out and at + length > self.old.length:
            out.append((self.old.length - at, length, 0, self.new.length))
        return out

    def left(self, c: L, sources: Sources) -> L | None:
        """What is left of a cover or sound that stood in the old story; None if none of its words is."""
        at = self._old[c.tether.piece] + c.tether.moment
        if not self.touched(at, min(at + c.length, self.old.length)):
            return c
        runs = self.words(at, c.length)
        if not runs:
            return None
        first, _, piece, now = runs[0]
        length, end, then = 0, first, now
        for a, b, _, pos in runs:
            # what went between two runs counts as far as something else stands in its place
            length += min(max(pos - then, 0), a - end) if a > end else 0
            length += b - a
            end, then = b, pos + b - a
        if first == 0 and length == c.length:
            return c
        t = self.now[piece][1].start + now - self.now[piece][0]
        return replace(cut_short(c, sources, first, length), tether=Tether(piece, t))

    def would_begin(self, c: Laid) -> int | None:
        """The frame of the new story at which all of a cover or sound would begin, for what is left of its words to lie where it
        lay over it (below 0 where less stands before them now); None if none of its words is left."""
        runs = self.words(self._old[c.tether.piece] + c.tether.moment, c.length)
        return runs[0][3] - runs[0][0] if runs else None


def followed(kept: Kept, laid: Sequence[L], before: Sequence[L], sources: Sources) -> tuple[list[L], list[L], list[int]]:
    """In place; loose; and the ids of those that lost some of their length.

    `laid` are the covers or sounds of a draft of the new story, `before` those in place in the old one. What the edit itself
    set anew only has to find its word.
    """
    was = {c.id: c for c in before}
    placed: list[L] = []
    loose: list[L] = []
    shorter = []
    split = kept.split
    shots = {x.id for x in (*kept.old.covers, *kept.old.loose, *kept.new.covers, *kept.new.loose)}
    for c in laid:
        if c.tether.piece in shots:
            c = _with_its_shot(kept, c)
            (placed if kept.new.holds(c.tether) else loose).append(c)
            continue
        old = was.get(c.id)
        if c is old and c.tether.piece and c.tether.piece not in split:  # as it stood; most are never touched
            left = kept.left(c, sources)
            if left is c:
                placed.append(c)
                continue
        if old is not None and old.tether.piece and _same_place(c, old):
            left = kept.left(c, sources)
            if left is not None and left.length != c.length:
                shorter.append(c.id)
            c = left if left is not None else c
        c = _moved_over(kept, c)
        (placed if kept.new.holds(c.tether) else loose).append(c)
    return placed, loose, shorter


def kept_on_locked(
    kept: Kept, placed: Sequence[L], loose: Sequence[L], before: Sequence[L], locked: Callable[[L], bool]
) -> tuple[list[L], list[L], list[int]]:
    """In place; loose; and the ids of those that would have lost something, but lie on a locked lane: what is there keeps its length,
    over the words that are left, or where it stood in the film if all of its words went.

    locked   [boat────────]          take out ~         [boat────────]
    words    | a b ~~~~ c d |            ->             | a b c d | ...
    """
    there = {c.id: c for c in placed}
    held: dict[int, L] = {}
    for was in before:
        left = there.get(was.id)
        if not locked(was) or not was.tether.piece or (left and (left.start, left.length) == (was.start, was.length)):
            continue
        begins = kept.would_begin(was) if left else None
        at = max(0, kept.old.at(was) if begins is None else begins)
        held[was.id] = replace(was, tether=kept.new.tether_at(at) if at < kept.new.length else Tether(0, at))
    if not held:
        return list(placed), list(loose), []
    in_place: list[L] = [held.get(c.id, c) for c in placed]
    in_place += [c for i, c in held.items() if i not in there]
    return in_place, [c for c in loose if c.id not in held], [*held]


def _with_its_shot(kept: Kept, c: L) -> L:
    """Tied to the part of its shot that holds its moment now, where the shot was cut."""
    if kept.new.holds(c.tether):
        return c
    before = kept.old.covers + kept.old.loose
    source = next((x.source for x in before if x.id == c.tether.piece), None)
    m = c.tether.moment
    part = next((x for x in kept.new.covers if x.source == source and x.start <= m < x.start + x.length), None)
    return replace(c, tether=Tether(part.id, m)) if part and not any(x.id == part.id for x in before) else c


def _same_place(a: Laid, b: Laid) -> bool:
    return (a.tether, a.start, a.length, a.end) == (b.tether, b.start, b.length, b.end)


def _moved_over(kept: Kept, c: L) -> L:
    """Tethered to the part of its piece that holds its word now."""
    for pid in kept.split.get(c.tether.piece, ()):
        if pid in kept.now and kept.now[pid][1].holds(c.tether.moment):
            return c if pid == c.tether.piece else replace(c, tether=Tether(pid, c.tether.moment))
    return c
