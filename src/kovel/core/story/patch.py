"""The difference between two stories as a small, invertible value: what undo and the journal keep.

Each row of things (pieces, covers, transitions, ...) changes as one splice (index, old run, new run); locks and the
like by what they were and what they are. Only what changed is kept.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from kovel.core.story.model import Card, Cover, Marker, Piece, Section, Sound, Story, Tether, Transition
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
        lowest, most = 0, min(len(a), len(b))
        while lowest < most and (a[lowest] is b[lowest] or a[lowest] == b[lowest]):
            lowest += 1
        highest = 0
        while highest < most - lowest and (a[-1 - highest] is b[-1 - highest] or a[-1 - highest] == b[-1 - highest]):
            highest += 1
        return Splice(lowest, a[lowest : len(a) - highest], b[lowest : len(b) - highest])

    def apply(self, table_rows: tuple[T, ...]) -> tuple[T, ...]:
        """The rows with the change made. Raises `ValueError` where they are not those it was made of."""
        if table_rows[self.index : self.index + len(self.old)] != self.old:
            raise ValueError("this change does not fit the story it is applied to")
        return table_rows[: self.index] + self.new + table_rows[self.index + len(self.old) :]

    def inverse(self) -> Splice:
        """The change back."""
        return Splice(self.index, self.new, self.old)


def piece_row(piece: Piece) -> list[Any]:
    card = piece.card and [piece.card.colour, piece.card.text]
    return [piece.id, piece.source, piece.start, piece.length, card, piece.take, piece.group, piece.settings.to_json()]


def piece_from(r: list[Any]) -> Piece:
    """From a row; also from one of before there were settings, which ends in take, zoom and group."""
    if isinstance(r[-1], dict):
        return Piece(r[0], r[1], r[2], r[3], Card(*r[4]) if r[4] else None, r[5], r[6], Values.from_json(r[7]))
    card, take, zoom, group = [*r[4:], None, "both", 100, 0][:4] if len(r) == 4 else r[4:]
    return Piece(r[0], r[1], r[2], r[3], Card(*card) if card else None, take, group, NONE.with_value("zoom", zoom))


def cover_row(cover: Cover) -> list[Any]:
    return [
        cover.id,
        cover.source,
        cover.start,
        cover.length,
        cover.tether.piece,
        cover.tether.moment,
        cover.lane,
        cover.group,
        cover.settings.to_json(),
    ]


def cover_from(r: list[Any]) -> Cover:
    """From a row; also from one of before covers had groups, which ends in lane and settings, and of before there
    were settings, which ends in lane, natural and span."""
    first = (r[0], r[1], r[2], r[3], Tether(r[4], r[5]), r[6])
    if isinstance(r[-1], dict):
        return Cover(*first, r[7] if len(r) > 8 else 0, Values.from_json(r[-1]))
    own_values = NONE.with_value("natural", bool(r[7])).with_value("span", r[8]) if len(r) > 7 else NONE
    return Cover(*first, settings=own_values)


def sound_row(sound: Sound) -> list[Any]:
    return [
        sound.id,
        sound.source,
        sound.start,
        sound.length,
        sound.tether.piece,
        sound.tether.moment,
        sound.lane,
        sound.kind,
        sound.group,
        sound.settings.to_json(),
    ]


def sound_from(r: list[Any]) -> Sound:
    """From a row; also from one of before there were settings, which ends in level (tenths of a dB), fades and
    group."""
    first = (r[0], r[1], r[2], r[3], Tether(r[4], r[5]), r[6], r[7])
    if isinstance(r[-1], dict):
        return Sound(*first, r[8], Values.from_json(r[9]))
    level, rise, fall, group = r[8:]
    return Sound(
        *first, group, NONE.with_value("level", level / 10).with_value("fade_in", rise).with_value("fade_out", fall)
    )


def transition_row(transition: Transition) -> list[Any]:
    return [transition.left, transition.right, transition.split, transition.blend, transition.length, transition.cross]


def section_row(section: Section) -> list[Any]:
    return [section.id, section.piece, section.heading, section.target]


def marker_row(marker: Marker) -> list[Any]:
    return [marker.id, marker.source, marker.tether.piece, marker.tether.moment, marker.name, str(marker.shape)]


def marker_from(r: list[Any]) -> Marker:
    return Marker(r[0], r[1], Tether(r[2], r[3]), r[4], r[5])


# Every part of a story that is a row of things: how one is written and read.
ROWS: dict[str, tuple[Callable[[Any], list[Any]], Callable[[list[Any]], Any]]] = {
    "pieces": (piece_row, piece_from),
    "covers": (cover_row, cover_from),
    "loose": (cover_row, cover_from),
    "transitions": (transition_row, lambda r: Transition(*r)),
    "sounds": (sound_row, sound_from),
    "loose_sounds": (sound_row, sound_from),
    "sections": (section_row, lambda r: Section(*r)),
    "markers": (marker_row, marker_from),
}
SETS = ("locked", "muted", "soloed", "along")
NUMBERS = ("next_id", "target")
VALUES = ("settings",)  # of the story and of its groups


def values_json(scoped_values: Iterable[tuple[str, Values]]) -> dict[str, Any]:
    return {scope: values.to_json() for scope, values in scoped_values}


def rescoped(stored: dict[str, Any], recording: Callable[[int], int | None]) -> dict[str, Any]:
    """The same where recordings have other numbers; what was set on one that is not there any more is left out."""
    rescoped_values = {}
    for scope, values in stored.items():
        kind, _, number = scope.partition(" ")
        now = recording(int(number)) if kind == "recording" else 0
        if now is not None:
            rescoped_values[f"{kind} {now}" if now else scope] = values
    return rescoped_values


def values_from(stored: dict[str, Any]) -> tuple[tuple[str, Values], ...]:
    return tuple(sorted((scope, Values.from_json(value)) for scope, value in stored.items()))


def renamed(stored: dict[str, Any]) -> dict[str, Any]:
    """The parts of a story or a patch under their present names, also of one kept while transitions were called
    joins."""
    return {**stored, "transitions": stored["joins"]} if "joins" in stored else stored


@dataclass(frozen=True)
class Patch:
    """From one story to another; `inverse` leads back exactly."""

    rows: dict[str, Splice]
    values: dict[str, tuple[Any, Any]]

    @staticmethod
    def between(first_story: Story, second_story: Story) -> Patch:
        """What makes the second story of the first."""
        splices = {
            table: Splice.between(getattr(first_story, table), getattr(second_story, table))
            for table in ROWS
            if getattr(first_story, table) != getattr(second_story, table)
        }
        values = {
            name: (getattr(first_story, name), getattr(second_story, name))
            for name in (*SETS, *NUMBERS, *VALUES)
            if getattr(first_story, name) != getattr(second_story, name)
        }
        return Patch(splices, values)

    def inverse(self) -> Patch:
        """The patch back."""
        return Patch(
            {name: change.inverse() for name, change in self.rows.items()},
            {name: value[::-1] for name, value in self.values.items()},
        )

    def apply(self, story: Story) -> Story:
        """The story after it. Raises `ValueError` where it does not fit."""
        changed: dict[str, Any] = {name: change.apply(getattr(story, name)) for name, change in self.rows.items()}
        changed |= {name: value[1] for name, value in self.values.items()}
        return replace(story, **changed)

    def to_json(self) -> dict[str, Any]:
        """As the journal keeps it."""
        changed_rows = {
            name: [
                change.index,
                [ROWS[name][0](changed_item) for changed_item in change.old],
                [ROWS[name][0](changed_item) for changed_item in change.new],
            ]
            for name, change in self.rows.items()
        }
        plain = {
            name: [sorted(value_part) for value_part in value] for name, value in self.values.items() if name in SETS
        }
        plain |= {name: list(value) for name, value in self.values.items() if name in NUMBERS}
        return (
            changed_rows
            | plain
            | {
                name: [values_json(value_part) for value_part in value]
                for name, value in self.values.items()
                if name in VALUES
            }
        )

    @staticmethod
    def from_json(stored: dict[str, Any]) -> Patch:
        """What `to_json` wrote, in this version or an older one."""
        stored = renamed(stored)

        def splice(name: str, row: list[Any]) -> Splice:
            return Splice(
                row[0],
                tuple(ROWS[name][1](old_row) for old_row in row[1]),
                tuple(ROWS[name][1](new_row) for new_row in row[2]),
            )

        return Patch(
            {table: splice(table, stored[table]) for table in ROWS if table in stored},
            {name: (frozenset(stored[name][0]), frozenset(stored[name][1])) for name in SETS if name in stored}
            | {name: (stored[name][0], stored[name][1]) for name in NUMBERS if name in stored}
            | {name: (values_from(stored[name][0]), values_from(stored[name][1])) for name in VALUES if name in stored},
        )


def story_to_json(story: Story) -> dict[str, Any]:
    """The whole story as plain values; `story_from_json` gives an equal one back."""
    return {
        "rate": [story.rate.num, story.rate.den],
        **{
            name: [row_writer(story_item) for story_item in getattr(story, name)]
            for name, (row_writer, _) in ROWS.items()
        },
        **{name: sorted(getattr(story, name)) for name in SETS},
        **{name: getattr(story, name) for name in NUMBERS},
        **{name: values_json(getattr(story, name)) for name in VALUES},
    }


def story_from_json(stored: dict[str, Any]) -> Story:
    stored = renamed(stored)
    parts: dict[str, Any] = {
        name: tuple(make(stored_row) for stored_row in stored.get(name, ())) for name, (_, make) in ROWS.items()
    }
    parts |= {name: frozenset(stored.get(name, ())) for name in SETS} | {
        name: stored[name] for name in NUMBERS if name in stored
    }
    parts |= {name: values_from(stored.get(name, {})) for name in VALUES}
    return Story(Rate(*stored["rate"]), **parts)
