"""Which edit lays what is picked up in the shelf, and over what; and what a drop on the page does.

words swept  [........]       a shot lies over them, as long as they are
one word     [w]              it begins there, as long as was typed
nothing      |                at the playhead, as long as was typed; never longer than the shot
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, Literal

Range = tuple[int, int]


class How(StrEnum):
    """What is done with what is held."""

    INSERT = "insert"  # between two pieces
    INSERT_HERE = "insert here"  # the piece there is split
    OVERWRITE = "overwrite"
    COVER = "cover"
    SOUND = "lay under"
    GAP = "gap"  # as long as it would be where it is laid, on all lanes


# What a drop does, by what is held and where it is let go: as it is, with Shift, with Ctrl.
DROPS: dict[str, dict[str, tuple[How, How, How]]] = {
    "bite": {"words": (How.INSERT, How.OVERWRITE, How.INSERT_HERE), "lanes": (How.COVER, How.COVER, How.COVER)},
    "shot": {"words": (How.COVER, How.OVERWRITE, How.INSERT_HERE), "lanes": (How.COVER, How.COVER, How.COVER)},
    "sound": {"words": (How.SOUND, How.SOUND, How.SOUND), "lanes": (How.SOUND, How.SOUND, How.SOUND)},
}


@dataclass(frozen=True, slots=True)
class InHand:
    """Something picked up: a range of a recording, or (`id`) a cover or a sound from the tray."""

    kind: Literal["bite", "shot", "sound", "loose", "loose-sound"]
    id: int = 0
    source: int = 0
    start: int = 0
    length: int = 0
    sound: str = ""  # what kind of sound


@dataclass(frozen=True, slots=True)
class Place:
    """Where it is laid, in story frames: from `at`, `until` a frame where that was said; over swept `words`, of which
    there may be one alone; `span`: what an edit would be about (what is chosen, or the marks). `how`: what is done
    with it, where that was said, and on which cover `lane`."""

    at: int
    until: int | None = None
    words: Range | None = None
    is_one_word: bool = False
    span: Range | None = None
    is_chosen: bool = False
    how: How | None = None
    lane: int | None = None

    @property
    def over(self) -> Range | None:
        """The words it lies over from first to last; a word that was clicked says where, not how long."""
        return None if self.is_one_word else self.words

    @property
    def begin(self) -> int:
        """The frame it begins with."""
        if self.words and (not self.is_one_word or self.until is None):
            return self.words[0]
        return self.at


def lays(hand: Sequence[InHand], place: Place, each: int, length: int) -> tuple[str, dict[str, Any]]:
    """The edit and its parameters for what is in hand, the last picked up first. `each`: how long a cover is where no
    words say so, in frames; `length`: of the story."""
    held = hand[-1]
    if held.kind in ("bite", "shot") and place.how in (How.INSERT, How.INSERT_HERE, How.OVERWRITE):
        return _in_the_line(hand, place, length)
    if place.how is How.GAP:
        each_length = [min(other.length, each) if other.kind == "shot" and each else other.length for other in hand]
        return "insert_space", {"at": place.at, "length": sum(each_length), "all_lanes": True}
    lane = {} if place.lane is None else {"lane": place.lane}
    match held.kind:
        case "loose":
            return "move_cover", {"cover": held.id, "at": place.at, **lane}
        case "loose-sound":
            return "move_sound", {"sound": held.id, "at": place.at}
        case "sound":
            return "lay_sound", _sound(held, place, length)
    return _over_the_line(hand, place, each, lane)


def _over_the_line(hand: Sequence[InHand], place: Place, each: int, lane: dict[str, int]) -> tuple[str, dict[str, Any]]:
    """Laid as cover: over words, as long as these are; else as long as was typed, never longer than the shot."""
    held = hand[-1]
    if len(hand) > 1:
        most = each if place.over is None else 0
        ranges = [[other.source, other.start, min(other.length, most or other.length)] for other in hand]
        return "lay_several", {"at": place.begin, "ranges": ranges, **lane}
    begin, until = place.begin, place.until
    if until is None:
        until = place.over[1] if place.over else begin + min(held.length, each)
    if held.kind == "shot":
        until = min(until, begin + held.length)
    return "lay_cover", {"source": held.source, "at": begin, "until": until, "start": held.start, **lane}


def _in_the_line(hand: Sequence[InHand], place: Place, length: int) -> tuple[str, dict[str, Any]]:
    """Put into the dialogue line, all of it, in the order it was picked up."""
    ranges = [[other.source, other.start, other.length] for other in hand]
    over = place.how is How.OVERWRITE
    if len(hand) > 1:
        return "overwrite_several" if over else "insert_several", {"at": place.at, "ranges": ranges}
    source, start, long = ranges[0]
    held = {"source": source, "start": start, "length": long}
    if place.at >= length and not over:
        return "add_at_end", held
    return "overwrite" if over else "insert", {"at": place.at, **held}


def _sound(held: InHand, place: Place, length: int) -> dict[str, Any]:
    """Over what is chosen, or from the place on up to the marks; else to the end. Music keeps to the story's clock."""
    begin = place.span[0] if place.span and place.is_chosen else place.at
    end = max(place.span[1], begin + 1) if place.span else length
    return {
        "source": held.source,
        "at": begin,
        "until": min(begin + held.length, end),
        "start": 0,
        "kind": held.sound,
        "clock_bound": held.sound == "music",
    }
