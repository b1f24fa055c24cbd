"""The difference between two stories as a small, invertible value: what undo and the journal keep.

Pieces change as one splice (index, old run, new run); covers, loose and locks by what left and what came.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, TypeVar

from kovel.core.rate import Rate
from kovel.core.story import Cover, Piece, Story, Tether

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Splice:
    """Replace `old` by `new` at `index` of a sequence."""

    index: int
    old: tuple[Any, ...]
    new: tuple[Any, ...]

    @staticmethod
    def between(a: tuple[T, ...], b: tuple[T, ...]) -> Splice:
        """The smallest single splice from a to b."""
        lo, most = 0, min(len(a), len(b))
        while lo < most and a[lo] == b[lo]:
            lo += 1
        hi = 0
        while hi < most - lo and a[-1 - hi] == b[-1 - hi]:
            hi += 1
        return Splice(lo, a[lo : len(a) - hi], b[lo : len(b) - hi])

    def apply(self, rows: tuple[T, ...]) -> tuple[T, ...]:
        if rows[self.index : self.index + len(self.old)] != self.old:
            raise ValueError("this change does not fit the story it is applied to")
        return rows[: self.index] + self.new + rows[self.index + len(self.old) :]

    def inverse(self) -> Splice:
        return Splice(self.index, self.new, self.old)


@dataclass(frozen=True, slots=True)
class Patch:
    """From one story to another; `inverse` leads back exactly."""

    pieces: Splice
    covers: Splice
    loose: Splice
    locked: tuple[frozenset[str], frozenset[str]]
    next_id: tuple[int, int]

    @staticmethod
    def between(a: Story, b: Story) -> Patch:
        return Patch(
            Splice.between(a.pieces, b.pieces),
            Splice.between(a.covers, b.covers),
            Splice.between(a.loose, b.loose),
            (a.locked, b.locked),
            (a.next_id, b.next_id),
        )

    def inverse(self) -> Patch:
        return Patch(
            self.pieces.inverse(),
            self.covers.inverse(),
            self.loose.inverse(),
            self.locked[::-1],
            self.next_id[::-1],
        )

    def apply(self, s: Story) -> Story:
        return Story(
            s.rate,
            self.pieces.apply(s.pieces),
            self.covers.apply(s.covers),
            self.loose.apply(s.loose),
            self.locked[1],
            self.next_id[1],
        )

    def to_json(self) -> dict[str, Any]:
        return {
            "pieces": [self.pieces.index, [piece_row(p) for p in self.pieces.old], [piece_row(p) for p in self.pieces.new]],
            "covers": [self.covers.index, [cover_row(c) for c in self.covers.old], [cover_row(c) for c in self.covers.new]],
            "loose": [self.loose.index, [cover_row(c) for c in self.loose.old], [cover_row(c) for c in self.loose.new]],
            "locked": [sorted(x) for x in self.locked],
            "next_id": list(self.next_id),
        }

    @staticmethod
    def from_json(d: dict[str, Any]) -> Patch:
        def splice(row: list[Any], make: Any) -> Splice:
            return Splice(row[0], tuple(make(r) for r in row[1]), tuple(make(r) for r in row[2]))

        return Patch(
            splice(d["pieces"], lambda r: Piece(*r)),
            splice(d["covers"], cover_from),
            splice(d["loose"], cover_from),
            (frozenset(d["locked"][0]), frozenset(d["locked"][1])),
            (d["next_id"][0], d["next_id"][1]),
        )


def piece_row(p: Piece) -> list[int | None]:
    return [p.id, p.source, p.start, p.length]


def cover_row(c: Cover) -> list[int]:
    return [c.id, c.source, c.start, c.length, c.tether.piece, c.tether.moment, c.lane]


def cover_from(r: list[int]) -> Cover:
    return Cover(r[0], r[1], r[2], r[3], Tether(r[4], r[5]), r[6])


def story_to_json(s: Story) -> dict[str, Any]:
    """The whole story as plain values; `story_from_json` gives an equal one back."""
    return {
        "rate": [s.rate.num, s.rate.den],
        "pieces": [piece_row(p) for p in s.pieces],
        "covers": [cover_row(c) for c in s.covers],
        "loose": [cover_row(c) for c in s.loose],
        "locked": sorted(s.locked),
        "next_id": s.next_id,
    }


def story_from_json(d: dict[str, Any]) -> Story:
    return Story(
        Rate(*d["rate"]),
        tuple(Piece(*r) for r in d["pieces"]),
        tuple(cover_from(r) for r in d["covers"]),
        tuple(cover_from(r) for r in d["loose"]),
        frozenset(d["locked"]),
        d["next_id"],
    )
