"""The difference between two stories as a small, invertible value: what undo and the journal keep.

Each row of things (pieces, covers, transitions, ...) changes as one splice (index, old run, new run); locks and the like by
what they were and what they are. Only what changed is kept.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from kovel.core.story.model import Card, Cover, Piece, Section, Sound, Story, Tether, Transition
from kovel.core.story.settings import NONE, Values
from kovel.core.time.rate import Rate

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
        while lo < most and (a[lo] is b[lo] or a[lo] == b[lo]):
            lo += 1
        hi = 0
        while hi < most - lo and (a[-1 - hi] is b[-1 - hi] or a[-1 - hi] == b[-1 - hi]):
            hi += 1
        return Splice(lo, a[lo : len(a) - hi], b[lo : len(b) - hi])

    def apply(self, rows: tuple[T, ...]) -> tuple[T, ...]:
        if rows[self.index : self.index + len(self.old)] != self.old:
            raise ValueError("this change does not fit the story it is applied to")
        return rows[: self.index] + self.new + rows[self.index + len(self.old) :]

    def inverse(self) -> Splice:
        return Splice(self.index, self.new, self.old)


def piece_row(p: Piece) -> list[Any]:
    card = p.card and [p.card.colour, p.card.text]
    return [p.id, p.source, p.start, p.length, card, p.take, p.group, p.settings.to_json()]


def piece_from(r: list[Any]) -> Piece:
    """From a row; also from one of before there were settings, which ends in take, zoom and group."""
    if isinstance(r[-1], dict):
        return Piece(r[0], r[1], r[2], r[3], Card(*r[4]) if r[4] else None, r[5], r[6], Values.from_json(r[7]))
    card, take, zoom, group = [*r[4:], None, "both", 100, 0][:4] if len(r) == 4 else r[4:]
    return Piece(r[0], r[1], r[2], r[3], Card(*card) if card else None, take, group, NONE.with_value("zoom", zoom))


def cover_row(c: Cover) -> list[Any]:
    return [c.id, c.source, c.start, c.length, c.tether.piece, c.tether.moment, c.lane, c.settings.to_json()]


def cover_from(r: list[Any]) -> Cover:
    """From a row; also from one of before there were settings, which ends in lane, natural and span."""
    if isinstance(r[-1], dict):
        own = Values.from_json(r[7])
    else:
        own = NONE.with_value("natural", bool(r[7])).with_value("span", r[8]) if len(r) > 7 else NONE
    return Cover(r[0], r[1], r[2], r[3], Tether(r[4], r[5]), r[6], own)


def sound_row(s: Sound) -> list[Any]:
    return [
        s.id,
        s.source,
        s.start,
        s.length,
        s.tether.piece,
        s.tether.moment,
        s.lane,
        s.kind,
        s.group,
        s.settings.to_json(),
    ]


def sound_from(r: list[Any]) -> Sound:
    """From a row; also from one of before there were settings, which ends in level (tenths of a dB), fades and group."""
    first = (r[0], r[1], r[2], r[3], Tether(r[4], r[5]), r[6], r[7])
    if isinstance(r[-1], dict):
        return Sound(*first, r[8], Values.from_json(r[9]))
    level, rise, fall, group = r[8:]
    return Sound(*first, group, NONE.with_value("level", level / 10).with_value("fade_in", rise).with_value("fade_out", fall))


def transition_row(j: Transition) -> list[Any]:
    return [j.left, j.right, j.split, j.blend, j.length, j.cross]


def section_row(s: Section) -> list[Any]:
    return [s.id, s.piece, s.heading, s.target]


# Every part of a story that is a row of things: how one is written and read.
ROWS: dict[str, tuple[Callable[[Any], list[Any]], Callable[[list[Any]], Any]]] = {
    "pieces": (piece_row, piece_from),
    "covers": (cover_row, cover_from),
    "loose": (cover_row, cover_from),
    "transitions": (transition_row, lambda r: Transition(*r)),
    "sounds": (sound_row, sound_from),
    "loose_sounds": (sound_row, sound_from),
    "sections": (section_row, lambda r: Section(*r)),
}
SETS = ("locked", "muted", "soloed", "along")
NUMBERS = ("next_id", "target")
VALUES = ("settings",)  # of the story and of its groups


def values_json(rows: Iterable[tuple[str, Values]]) -> dict[str, Any]:
    return {scope: v.to_json() for scope, v in rows}


def rescoped(d: dict[str, Any], recording: Callable[[int], int | None]) -> dict[str, Any]:
    """The same where recordings have other numbers; what was set on one that is not there any more is left out."""
    out = {}
    for scope, values in d.items():
        kind, _, number = scope.partition(" ")
        now = recording(int(number)) if kind == "recording" else 0
        if now is not None:
            out[f"{kind} {now}" if now else scope] = values
    return out


def values_from(d: dict[str, Any]) -> tuple[tuple[str, Values], ...]:
    return tuple(sorted((scope, Values.from_json(v)) for scope, v in d.items()))


def renamed(d: dict[str, Any]) -> dict[str, Any]:
    """The parts of a story or a patch under their present names, also of one kept while transitions were called joins."""
    return {**d, "transitions": d["joins"]} if "joins" in d else d


@dataclass(frozen=True)
class Patch:
    """From one story to another; `inverse` leads back exactly."""

    rows: dict[str, Splice]
    values: dict[str, tuple[Any, Any]]

    @staticmethod
    def between(a: Story, b: Story) -> Patch:
        rows = {k: Splice.between(getattr(a, k), getattr(b, k)) for k in ROWS if getattr(a, k) != getattr(b, k)}
        values = {k: (getattr(a, k), getattr(b, k)) for k in (*SETS, *NUMBERS, *VALUES) if getattr(a, k) != getattr(b, k)}
        return Patch(rows, values)

    def inverse(self) -> Patch:
        return Patch({k: s.inverse() for k, s in self.rows.items()}, {k: v[::-1] for k, v in self.values.items()})

    def apply(self, s: Story) -> Story:
        changed: dict[str, Any] = {k: x.apply(getattr(s, k)) for k, x in self.rows.items()}
        changed |= {k: v[1] for k, v in self.values.items()}
        return replace(s, **changed)

    def to_json(self) -> dict[str, Any]:
        rows = {k: [s.index, [ROWS[k][0](x) for x in s.old], [ROWS[k][0](x) for x in s.new]] for k, s in self.rows.items()}
        plain = {k: [sorted(x) for x in v] for k, v in self.values.items() if k in SETS}
        plain |= {k: list(v) for k, v in self.values.items() if k in NUMBERS}
        return rows | plain | {k: [values_json(x) for x in v] for k, v in self.values.items() if k in VALUES}

    @staticmethod
    def from_json(d: dict[str, Any]) -> Patch:
        d = renamed(d)

        def splice(k: str, row: list[Any]) -> Splice:
            return Splice(row[0], tuple(ROWS[k][1](r) for r in row[1]), tuple(ROWS[k][1](r) for r in row[2]))

        return Patch(
            {k: splice(k, d[k]) for k in ROWS if k in d},
            {k: (frozenset(d[k][0]), frozenset(d[k][1])) for k in SETS if k in d}
            | {k: (d[k][0], d[k][1]) for k in NUMBERS if k in d}
            | {k: (values_from(d[k][0]), values_from(d[k][1])) for k in VALUES if k in d},
        )


def story_to_json(s: Story) -> dict[str, Any]:
    """The whole story as plain values; `story_from_json` gives an equal one back."""
    return {
        "rate": [s.rate.num, s.rate.den],
        **{k: [row(x) for x in getattr(s, k)] for k, (row, _) in ROWS.items()},
        **{k: sorted(getattr(s, k)) for k in SETS},
        **{k: getattr(s, k) for k in NUMBERS},
        **{k: values_json(getattr(s, k)) for k in VALUES},
    }


def story_from_json(d: dict[str, Any]) -> Story:
    d = renamed(d)
    parts: dict[str, Any] = {k: tuple(make(r) for r in d.get(k, ())) for k, (_, make) in ROWS.items()}
    parts |= {k: frozenset(d.get(k, ())) for k in SETS} | {k: d[k] for k in NUMBERS if k in d}
    parts |= {k: values_from(d.get(k, {})) for k in VALUES}
    return Story(Rate(*d["rate"]), **parts)
