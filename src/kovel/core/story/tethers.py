"""What becomes of a cover or a sound when words under it leave the story: it loses what its words lost, no more.

    words   | a b c d e f |      c d leave      | a b e f |          a leaves        | b c d e f |
    cover      [─────────)           ->            [─────)               ->           [────────)    its picture moved on

Its first words gone: it begins at the first that stays, later in the shot by as much. Its last gone: it ends with
the last that stays. Its middle gone: it runs on and is shorter by what closed up. All gone: it is loose.
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
    """What is left of a cover or sound that begins `first` frames later and is `length` frames long. Retimed, it
    keeps its speed to the nearest frame."""
    if isinstance(c, Cover):
        still = c.source == TITLE or (c.source in sources and sources[c.source].frames is None)
        return faded(replace(c, length=length) if still else part_of(c, first, length))
    return faded(replace(c, start=c.start + first, length=length))


def part_of(cover: Cover, first: int, length: int) -> Cover:
    """A cover that begins `first` story frames later (or earlier) and is `length` long, at the speed it has: what is
    seen at a story frame stays there, to the nearest frame of the shot.

    cover    [0 2 4 6 8)      first 1, length 3:    [2 4 6)        backwards  (8 6 4 2 0]  ->  (6 4 2]
    """
    if cover.settings["backwards"] if cover.settings else False:
        first = cover.length - first - length
    if ramp := cover.ramp:
        return replace(cover, start=floor(ramp.later(cover.start, first)), length=length)
    if not cover.span:
        return replace(cover, start=cover.start + first, length=length)
    start, end = (
        (edge_moment * cover.span + cover.length // 2) // cover.length for edge_moment in (first, first + length)
    )
    return with_setting(replace(cover, start=cover.start + start, length=length), "span", max(1, end - start))


def as_cover(piece: Piece, cover: int, tether: Tether, total: int | None) -> Cover:
    """What is seen of a piece as a cover, at the speed it runs at; its shot has `total` frames."""
    (start, end), clock = piece.used, piece.clock
    this_cover = Cover(cover, piece.source or 0, start, piece.length, tether)
    if clock.as_shot:
        return this_cover
    this_cover = with_setting(this_cover, "backwards", clock.backwards)
    if clock.ramp:
        return with_setting(with_setting(this_cover, "speed", clock.ramp.line), "steps", not clock.ramp.soft)
    span = end - start if clock.held is not None else max(end - start, round(piece.length * clock.speed))
    span = min(span, total - start) if total is not None else span
    return with_setting(this_cover, "span", 0 if span == piece.length else span)


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

    def __init__(self, old_story: Story, new_story: Story, split: Split) -> None:
        self.old, self.new, self.split = old_story, new_story, split
        self.now = {piece.id: (start, piece) for start, piece in zip(new_story.starts, new_story.pieces, strict=False)}
        changed = [
            (start, start + piece.length)
            for start, piece in zip(old_story.starts, old_story.pieces, strict=False)
            if (part_now := self.now.get(piece.id)) is None
            or (
                part_now[1] is not piece
                and (part_now[1].source, part_now[1].start, part_now[1].length, part_now[1].clock)
                != (piece.source, piece.start, piece.length, piece.clock)
            )
        ]
        self._from = [a for a, _ in changed]
        self._to = [b for _, b in changed]
        self._old = old_story.shifts

    def touched(self, start: int, end: int) -> bool:
        """Whether any piece that stood in the old story's [a, b) has changed its range or is gone."""
        index = bisect_right(self._to, start)
        return index < len(self._from) and self._from[index] < end

    def _found(self, piece: Piece, start: int, end: int) -> list[tuple[int, int, int, int]]:
        """Where the moments [a, b) of an old piece are now: (moment, end, piece, story frame). First in the piece
        itself, and what it lost in those it was split into; a moment counts once."""
        found_tethers = []
        wanted = [(start, end)]
        for part_id in sorted(self.split.get(piece.id, (piece.id,)), key=lambda i: i != piece.id):
            t, this_piece = self.now.get(part_id, (0, None))
            if this_piece is None or this_piece.source != piece.source:
                continue
            if this_piece.clock != piece.clock:  # retimed: all of its words are still there, a little sooner or later
                found_tethers += [
                    (wanted_start, y, this_piece.id, t) for wanted_start, y in wanted if this_piece.id == piece.id
                ]
                wanted = [] if this_piece.id == piece.id else wanted
                continue
            rest_of_parts = []
            for wanted_start, y in wanted:
                lowest, highest = max(wanted_start, this_piece.start), min(y, this_piece.end)
                if lowest >= highest:
                    rest_of_parts.append((wanted_start, y))
                    continue
                found_tethers.append((lowest, highest, this_piece.id, t + lowest - this_piece.start))
                rest_of_parts += [(u, value) for u, value in ((wanted_start, lowest), (highest, y)) if u < value]
            wanted = rest_of_parts
        return found_tethers

    def words(self, at: int, length: int) -> list[tuple[int, int, int, int]]:
        """The runs of what stood in the old story's [at, at + length) that are still there, in their order: (first
        frame from `at`, end, piece it is in now, story frame there). What hung over the old end hangs over the new
        one."""
        words_of_piece = []
        end = min(at + length, self.old.length)
        index = self.old.index_at(at)
        while index < len(self.old.pieces) and self.old.starts[index] < end:
            piece, t = self.old.pieces[index], self.old.starts[index]
            start, until = piece.start + max(at, t) - t, piece.start + min(end, t + piece.length) - t
            off = t - piece.start - at
            words_of_piece += [
                (part_start + off, y + off, q, now) for part_start, y, q, now in self._found(piece, start, until)
            ]
            index += 1
        words_of_piece.sort()
        if words_of_piece and at + length > self.old.length:
            words_of_piece.append((self.old.length - at, length, 0, self.new.length))
        return words_of_piece

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

    def would_begin(self, laid: Laid) -> int | None:
        """The frame of the new story at which all of a cover or sound would begin, for what is left of its words to
        lie where it lay over it (below 0 where less stands before them now); None if none of its words is left."""
        runs = self.words(self._old[laid.tether.piece] + laid.tether.moment, laid.length)
        return runs[0][3] - runs[0][0] if runs else None


def followed(
    kept_story: Kept, laid: Sequence[L], before: Sequence[L], sources: Sources
) -> tuple[list[L], list[L], list[int]]:
    """In place; loose; and the ids of those that lost some of their length.

    `laid` are the covers or sounds of a draft of the new story, `before` those in place in the old one. What the
    edit itself set anew only has to find its word.
    """
    was = {clip.id: clip for clip in before}
    placed: list[L] = []
    loose: list[L] = []
    shorter = []
    shots = {
        cover.id
        for cover in (*kept_story.old.covers, *kept_story.old.loose, *kept_story.new.covers, *kept_story.new.loose)
    }
    for clip in laid:
        if clip.tether.piece in shots:
            clip = _with_its_shot(kept_story, clip)
        else:
            old_clip = was.get(clip.id)
            stays = old_clip is not None and bool(old_clip.tether.piece) and _same_place(clip, old_clip)
            piece_left = kept_story.left(clip, sources) if stays else None
            if piece_left is clip and clip is old_clip and clip.tether.piece not in kept_story.split:
                placed.append(clip)  # as it stood; most are never touched
                continue
            if piece_left is not None:
                if piece_left.length != clip.length:
                    shorter.append(clip.id)
                clip = piece_left
            clip = _moved_over(kept_story, clip)
        (placed if kept_story.new.holds(clip.tether) else loose).append(clip)
    return placed, loose, shorter


def kept_on_locked(
    kept_story: Kept, placed: Sequence[L], loose: Sequence[L], before: Sequence[L], locked: Callable[[L], bool]
) -> tuple[list[L], list[L], list[int]]:
    """In place; loose; and the ids of those that would have lost something, but lie on a locked lane: what is there
    keeps its length, over the words that are left, or where it stood in the film if all of its words went.

    locked   [boat────────]          take out ~         [boat────────]
    words    | a b ~~~~ c d |            ->             | a b c d | ...
    """
    there = {placed_clip.id: placed_clip for placed_clip in placed}
    held: dict[int, L] = {}
    for was in before:
        kept_before = there.get(was.id)
        if (
            not locked(was)
            or not was.tether.piece
            or (kept_before and (kept_before.start, kept_before.length) == (was.start, was.length))
        ):
            continue
        begins = kept_story.would_begin(was) if kept_before else None
        at = max(0, kept_story.old.at(was) if begins is None else begins)
        held[was.id] = replace(
            was, tether=kept_story.new.tether_at(at) if at < kept_story.new.length else Tether(0, at)
        )
    if not held:
        return list(placed), list(loose), []
    in_place: list[L] = [held.get(placed_clip.id, placed_clip) for placed_clip in placed]
    in_place += [held_clip for key, held_clip in held.items() if key not in there]
    return in_place, [loose_clip for loose_clip in loose if loose_clip.id not in held], [*held]


def _with_its_shot(kept_story: Kept, c: L) -> L:
    """Tied to the part of its shot that holds its moment now, where the shot was cut."""
    if kept_story.new.holds(c.tether):
        return c
    before = kept_story.old.covers + kept_story.old.loose
    source = next((clip_before.source for clip_before in before if clip_before.id == c.tether.piece), None)
    moment = c.tether.moment
    shot_part = next(
        (
            cover
            for cover in kept_story.new.covers
            if cover.source == source and cover.start <= moment < cover.start + cover.length
        ),
        None,
    )
    return (
        replace(c, tether=Tether(shot_part.id, moment))
        if shot_part and not any(clip_before.id == shot_part.id for clip_before in before)
        else c
    )


def _same_place(first_laid: Laid, second_laid: Laid) -> bool:
    return (first_laid.tether, first_laid.start, first_laid.length, first_laid.end) == (
        second_laid.tether,
        second_laid.start,
        second_laid.length,
        second_laid.end,
    )


def _moved_over(kept_story: Kept, c: L) -> L:
    """Tethered to the part of its piece that holds its word now."""
    for piece_id in kept_story.split.get(c.tether.piece, ()):
        if piece_id in kept_story.now and kept_story.now[piece_id][1].holds(c.tether.moment):
            return c if piece_id == c.tether.piece else replace(c, tether=Tether(piece_id, c.tether.moment))
    return c
