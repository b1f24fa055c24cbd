"""The story: an ordered dialogue line of pieces and what is laid on it, as frozen values.

    time ─►      0        1        2        3
    cover             [boat──────]               tethered to a word of A
    dialogue    [ A: "we haul"  ][ B: "since…" ]  pieces, gapless; a transition says how two of them meet at a seam
    music       [bed─────────────────────        tethered to a word, or (piece 0) to the story's own clock

All positions inside recordings are in *story frames on the recording's clock*: `Piece.start == 50` at 25 fps is 2 s
into the recording, whatever its own rate. So every edit is integer arithmetic on one rate; only the plan converts.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from fractions import Fraction
from functools import cached_property
from math import floor
from typing import Any, TypeVar

from kovel.core.errors import Told
from kovel.core.story.clocks import AS_SHOT, Clock, clock_in
from kovel.core.story.ramps import Ramp, ramp_of
from kovel.core.story.settings import NONE, OF_ONE, PACE, SETTINGS, Kind, Value, Values, on_line, value_over_scopes
from kovel.core.time.rate import Rate, length_in


class Refused(Told, ValueError):
    """An edit that cannot be met. The message tells the editor why; nothing has changed."""


@dataclass(frozen=True, slots=True)
class Sync:
    """Where a recording stands on the clock of its sync set.

    set       0 s        1          2
    A         [0─────────1──────────2        offset 0
    B              [0──────────1─────        offset 24000 samples: it begins half a second later

    `offset` in 48 kHz samples of the set's clock; `ppm` is how much faster its own clock runs than the set's.
    """

    set: int
    offset: int
    ppm: float = 0.0


@dataclass(frozen=True, slots=True)
class Source:
    """What the core needs to know of a recording.

    `frames` counts its own frames at its own `rate`; None for a still, which lasts as long as asked.
    `setup` names the camera position: two pieces of one setup side by side make a jump cut. `sync` is its place in a
    sync set, if it is in one.
    """

    id: int
    name: str
    rate: Rate
    frames: int | None
    picture: bool = True
    sound: bool = True
    setup: str = ""
    sync: Sync | None = None
    settings: Values = NONE  # how it is seen and heard in every story of the project
    channels: int = 2  # of its sound

    def length(self, clock: Rate) -> int | None:
        """Whole frames of `clock` it fills; None for a still."""
        return None if self.frames is None else length_in(self.frames, self.rate, clock)


TITLE = 0  # the source of a title: no recording
TITLE_SOURCE = Source(TITLE, "Title", Rate(25), None, sound=False)


@dataclass(frozen=True, slots=True)
class Card:
    """What a card shows: a colour (`#rrggbb`) and, if any, words on it."""

    colour: str = "#000000"
    text: str = ""


TAKES = ("both", "picture", "sound")


@dataclass(frozen=True, slots=True)
class Piece:
    """A range of a recording in the dialogue line; or (source None) a card, or without a card a space of that length.

    Cards and spaces keep a `start` too, so that what is tethered into them stays where it is when the head is trimmed.
    `take` says which of picture and sound is used; pieces of one `group` move together. One that is retimed counts its
    start on a clock of its own (core.story.clocks); what reads the recording asks for `used` and `moment`.
    """

    id: int
    source: int | None
    start: int
    length: int
    card: Card | None = None
    take: str = "both"
    group: int = 0
    settings: Values = NONE

    @property
    def end(self) -> int:
        """The frame of its recording after its last one."""
        return self.start + self.length

    def holds(self, moment: int) -> bool:
        """Whether a moment of its source lies in it."""
        return self.start <= moment < self.start + self.length

    @property
    def clock(self) -> Clock:
        """How fast it runs over its recording."""
        return clock_in(self.settings) if self.settings else AS_SHOT

    @property
    def as_shot(self) -> bool:
        """Whether it is seen at the speed it was shot at, forwards."""
        return self.clock.as_shot

    @property
    def first(self) -> int:
        """Where on its clock it begins."""
        return self.start

    @property
    def used(self) -> tuple[int, int]:
        """[first, end) of the recording, in story frames on its own clock."""
        return self.clock.used(self.start, self.length)

    def moment(self, k: int) -> int:
        """The moment of the recording that is seen k story frames after the piece begins."""
        return floor(self.clock.moment(self.start + k))


@dataclass(frozen=True, slots=True)
class Tether:
    """Ties something to a moment of a piece's source, in story frames on the piece's clock.

    Piece 0 is the story's own clock: the moment is a story frame then. A sound may be tied to a cover as well (its
    id stands in `piece`): it goes wherever that shot goes, so many frames into it as the moment lies behind the
    cover's in point.
    """

    piece: int
    moment: int


@dataclass(frozen=True, slots=True)
class Cover:
    """Picture laid over the dialogue; its first frame stands at its tether. In a shared frame the higher lane is seen.

    One of source TITLE is a title: what it says and how is in its settings, and what is under it is seen around the
    letters.
    """

    id: int
    source: int
    start: int
    length: int
    tether: Tether
    lane: int = 1
    group: int = 0
    settings: Values = NONE

    @property
    def title(self) -> str:
        """What it says, where it is a title; else nothing."""
        return str(self.settings["text"]) if self.source == TITLE else ""

    @property
    def span(self) -> int:
        """How much of the shot fills `length` where it is retimed, 0 where it runs as it was shot."""
        return int(self.settings["span"]) if self.settings else 0

    @property
    def ramp(self) -> Ramp | None:
        """Its line of speed, where it has one."""
        speed_line = self.settings["speed"] if self.settings else ()
        return ramp_of(speed_line, not self.settings["steps"]) if speed_line else None

    @property
    def used(self) -> int:
        """Story frames of the shot that are shown."""
        ramp = self.ramp
        return ramp.used(self.start, self.length) if ramp else self.span or self.length

    @property
    def end(self) -> int:
        """The frame of its recording after the last one used."""
        return self.start + self.used

    @property
    def as_shot(self) -> bool:
        """Whether it is seen at the speed it was shot at, forwards."""
        return not self.settings or not any(name in self.settings for name in PACE)

    @property
    def clock(self) -> Clock:
        """How fast it runs over its shot."""
        backwards = bool(self.settings and self.settings["backwards"])
        if ramp := self.ramp:
            return Clock(Fraction(1), ramp.moments[0], ramp, backwards)
        return Clock(Fraction(self.used, self.length), self.start, None, backwards)

    @property
    def first(self) -> int | Fraction:
        """Where on its clock it begins."""
        clock = self.clock
        begin = clock.anchor + clock.ramp.time(self.start) if clock.ramp else self.start
        return 2 * clock.anchor - begin - self.length if clock.backwards else begin

    def shown(self, k: int) -> Fraction:
        """The moment of the shot that is seen k story frames after the cover begins."""
        return Fraction(self.clock.moment(self.first + k))

    def gone(self, moment: int) -> Fraction:
        """Story frames from the cover's beginning until that moment of the shot is seen."""
        return Fraction(self.clock.at(moment) - self.first)


SOUNDS = ("natural", "effect", "music", "voice")


@dataclass(frozen=True, slots=True)
class Sound:
    """Sound laid under or over the dialogue."""

    id: int
    source: int
    start: int
    length: int
    tether: Tether
    lane: int = 1
    kind: str = "effect"
    group: int = 0
    settings: Values = NONE

    @property
    def end(self) -> int:
        """The frame of its recording after its last one."""
        return self.start + self.length


Laid = Cover | Sound
Item = Piece | Cover | Sound
T = TypeVar("T", bound=Piece | Cover | Sound)


def kind_of(item: Item) -> Kind:
    """What settings call it."""
    if isinstance(item, Cover):
        return "title" if item.source == TITLE else "cover"
    return "piece" if isinstance(item, Piece) else "sound"


def moment_of(item: Item, k: int) -> int:
    """The moment of its recording that is seen or heard k story frames after it begins."""
    if isinstance(item, Sound):
        return item.start + k
    return floor(item.clock.moment(item.first + k))


def frames_to(item: Item, moment: int) -> int | Fraction:
    """Story frames from its beginning until a moment of its recording."""
    if isinstance(item, Sound) or item.as_shot:
        return moment - item.start
    return item.clock.at(moment) - item.first


def scope_keys(item: Item) -> tuple[str, str, str, str, str]:
    """What the scopes of an item are called, from wide to near: "recording" (in every story), "story", "recording 3"
    (in this story), "group 5", "items" (itself)."""
    return "recording", "story", f"recording {item.source}", f"group {item.group}", "items"


def with_setting(item: T, name: str, value: Value, keep: bool = False) -> T:
    """The item with a setting; see `Values.with_value`."""
    return replace(item, settings=item.settings.with_value(name, value, keep))


@dataclass(frozen=True, slots=True)
class Transition:
    """What is set at a seam: how its two pieces meet. Left 0 is the story's beginning, right 0 its end.

    split -5:   picture  [left......][right....]       the right sound comes 5 frames before its picture (J-cut);
                sound    [left...][right.......]       a positive split lets the left sound run on (L-cut)

    `blend` is `cut`, `dissolve` or `dip` (through black) over `length` frames about the seam; `cross` is the length
    of an equal-power crossfade of the sounds.
    """

    left: int
    right: int
    split: int = 0
    blend: str = "cut"
    length: int = 0
    cross: int = 0

    @property
    def plain(self) -> bool:
        """Whether it is a plain cut of picture and sound."""
        return not (self.split or self.length or self.cross)


@dataclass(frozen=True, slots=True)
class Section:
    """A heading at the beginning of a piece, with the length aimed at (frames; 0: none)."""

    id: int
    piece: int
    heading: str
    target: int = 0


class MarkerShape(StrEnum):
    """What a marker looks like, so that sorts of them are told apart."""

    FLAG = "flag"
    DOT = "dot"
    DIAMOND = "diamond"
    CROSS = "cross"


@dataclass(frozen=True, slots=True)
class Marker:
    """A named place of the story, tied to a moment of a piece of `source`; piece 0: to the story's clock."""

    id: int
    source: int | None
    tether: Tether
    name: str = ""
    shape: str = MarkerShape.FLAG


@dataclass(frozen=True)
class Story:
    """Pieces in order; what is laid on them, in place or loose (its word is not in the story). Equal stories compare
    equal."""

    rate: Rate
    pieces: tuple[Piece, ...] = ()
    covers: tuple[Cover, ...] = ()
    loose: tuple[Cover, ...] = ()
    locked: frozenset[str] = frozenset()
    next_id: int = 1
    transitions: tuple[Transition, ...] = ()
    sounds: tuple[Sound, ...] = ()
    loose_sounds: tuple[Sound, ...] = ()
    sections: tuple[Section, ...] = ()
    markers: tuple[Marker, ...] = ()
    muted: frozenset[str] = frozenset()
    soloed: frozenset[str] = frozenset()
    target: int = 0
    along: frozenset[str] = frozenset()  # lanes that are cut and closed up with the dialogue
    settings: tuple[
        tuple[str, Values], ...
    ] = ()  # of the whole ("story"), recordings in it ("recording 3"), groups ("group 5")
    __hash__ = None  # type: ignore[assignment]

    @cached_property
    def starts(self) -> tuple[int, ...]:
        """Story frame at which each piece begins, and at the end the length of the whole."""
        piece_starts, t = [], 0
        for piece in self.pieces:
            piece_starts.append(t)
            t += piece.length
        return (*piece_starts, t)

    @property
    def length(self) -> int:
        """Length in frames."""
        return self.starts[-1]

    @property
    def clips(self) -> tuple[Item, ...]:
        """All that is in place: pieces, covers and sounds."""
        return (*self.pieces, *self.covers, *self.sounds)

    @cached_property
    def _index(self) -> dict[int, int]:
        return {piece.id: index for index, piece in enumerate(self.pieces)}

    def index_of(self, piece: int) -> int:
        """The index of a piece in the dialogue line. Raises `Refused` where it is gone."""
        try:
            return self._index[piece]
        except KeyError:
            raise Refused("That piece is no longer in the story.") from None

    def piece(self, piece: int) -> Piece:
        """A piece by its number. Raises `Refused` where it is gone."""
        return self.pieces[self.index_of(piece)]

    def index_at(self, frame: int) -> int:
        """Index of the piece under a story frame."""
        if not 0 <= frame < self.length:
            raise Refused("There is nothing in the story at that time.")
        return bisect_right(self.starts, frame, 0, len(self.pieces)) - 1

    def holds(self, tether: Tether) -> bool:
        """Whether a tether's moment is in the story."""
        return self.at_of(tether) is not None

    def at_of(self, tether: Tether) -> int | None:
        """Story frame of a tether's moment, None when its word has left."""
        if tether.piece == 0:
            return tether.moment
        piece_index = self._index.get(tether.piece)
        if piece_index is None:
            cover = self._by_id.get(tether.piece)
            if cover is None or not cover.start <= tether.moment < cover.start + cover.length:
                return None
            at = self.at_of(cover.tether)
            return None if at is None else at + tether.moment - cover.start
        if not self.pieces[piece_index].holds(tether.moment):
            return None
        return self.starts[piece_index] + tether.moment - self.pieces[piece_index].start

    @cached_property
    def _by_id(self) -> dict[int, Cover]:
        """Covers in place, by id."""
        return {cover.id: cover for cover in self.covers}

    def tie_like(self, sound: Sound, frame: int) -> Tether:
        """A tether at a story frame of the kind that a sound has: to the clock, to the cover it is tied to as far as
        that reaches, else to the word there."""
        if sound.tether.piece == 0:
            return Tether(0, frame)
        cover = self._by_id.get(sound.tether.piece)
        begin = self.at_of(cover.tether) if cover else None
        if cover and begin is not None and begin <= frame < begin + cover.length:
            return Tether(cover.id, cover.start + frame - begin)
        return self.tether_at(frame)

    def at(self, laid: Cover | Sound) -> int:
        """Story frame at which a cover or sound in place begins."""
        at = self.at_of(laid.tether)
        if at is None:
            raise Refused(
                f"That {'cover' if isinstance(laid, Cover) else 'sound'} is loose: its word is not in the story."
            )
        return at

    def tether_at(self, frame: int) -> Tether:
        """The tether of what is laid at a story frame: its piece, and the moment of its source."""
        index = self.index_at(frame)
        piece = self.pieces[index]
        return Tether(piece.id, piece.start + frame - self.starts[index])

    def item(self, item: int) -> Item:
        """The piece, cover or sound of that id."""
        piece_index = self._index.get(item)
        if piece_index is not None:
            return self.pieces[piece_index]
        clips: tuple[Item, ...] = (*self.covers, *self.loose, *self.sounds, *self.loose_sounds)
        for clip in clips:
            if clip.id == item:
                return clip
        raise Refused("That is no longer in the story.")

    @cached_property
    def _wide(self) -> dict[str, Values]:
        """What the wider scopes say of the things in them: a group that is seen as one picture keeps how it is seen
        to itself."""
        return {
            name: Values(tuple(wide_row for wide_row in values.rows if wide_row[0] not in OF_ONE))
            if values["as_one"]
            else values
            for name, values in self.settings
        }

    def scopes(self, item: Item, sources: Sources) -> tuple[Values, ...]:
        """Where settings of an item may stand, from wide to near: its recording, the story, its recording in this
        story, its group, itself."""
        source = sources.get(item.source) if item.source is not None else None
        wide = self._wide
        if not wide:
            return (source.settings if source else NONE, NONE, NONE, NONE, item.settings)
        _, whole, recording, group, _ = scope_keys(item)
        return (
            source.settings if source else NONE,
            *(wide.get(name, NONE) for name in (whole, recording, group)),
            item.settings,
        )

    def value(self, item: Item, name: str, sources: Sources) -> Any:
        """What holds for an item, all scopes met."""
        source = sources.get(item.source) if item.source is not None else None
        if not self.settings and (source is None or not source.settings):
            return item.settings[name] if item.settings else SETTINGS[name].default
        return value_over_scopes(name, self.scopes(item, sources))

    def value_at(self, item: Item, name: str, sources: Sources, moment: int) -> float:
        """The same at a moment on its recording's clock, where it may be a line."""
        v = self.value(item, name, sources)
        return on_line(v, moment) if isinstance(v, tuple) else float(v)

    def reading(self, sources: Sources) -> Callable[[Item, str], Any]:
        """`value` for many items at once: at its quickest where nothing is set at a wider scope."""
        wide = {
            name
            for values in (*self._wide.values(), *(source.settings for source in sources.values() if source.settings))
            for name in values
        }
        if wide:
            own_values = replace(self, settings=()).reading({})
            return lambda item, name: self.value(item, name, sources) if name in wide else own_values(item, name)
        default = {name: setting.default for name, setting in SETTINGS.items()}
        return lambda item, name: item.settings[name] if item.settings.rows else default[name]

    def with_items(self, items_by_id: Mapping[int, Item]) -> Story:
        """The story with these in place of those of their ids; loose ones stay as they are."""
        return replace(
            self,
            pieces=tuple(items_by_id.get(piece.id, piece) for piece in self.pieces),  # type: ignore[misc]
            covers=tuple(items_by_id.get(cover.id, cover) for cover in self.covers),  # type: ignore[misc]
            sounds=tuple(items_by_id.get(sound.id, sound) for sound in self.sounds),  # type: ignore[misc]
        )

    def cover(self, cover: int) -> Cover:
        """A cover by its number, loose ones too. Raises `Refused` where it is gone."""
        for this_cover in (*self.covers, *self.loose):
            if this_cover.id == cover:
                return this_cover
        raise Refused("That cover is no longer in the story.")

    def sound(self, sound: int) -> Sound:
        """A sound by its number, loose ones too. Raises `Refused` where it is gone."""
        for this_sound in (*self.sounds, *self.loose_sounds):
            if this_sound.id == sound:
                return this_sound
        raise Refused("That sound is no longer in the story.")

    @cached_property
    def _transitions(self) -> dict[tuple[int, int], Transition]:
        return {(transition.left, transition.right): transition for transition in self.transitions}

    def transition(self, i: int) -> Transition:
        """How the piece at index i begins: 0 is the story's beginning, len(pieces) its end."""
        piece_before = self.pieces[i - 1].id if i > 0 else 0
        right = self.pieces[i].id if i < len(self.pieces) else 0
        return self._transitions.get((piece_before, right)) or Transition(piece_before, right)

    def sound_span(self, i: int) -> tuple[int, int]:
        """Story frames over which the sound of the piece at index i is heard: its own, moved by split edits."""
        return self.starts[i] + self.transition(i).split, self.starts[i + 1] + self.transition(i + 1).split

    @cached_property
    def shifts(self) -> dict[int, int]:
        """By piece: what a moment of it is ahead of its story frame. 0, the story's own clock, is none."""
        shifts_by_piece = {
            piece.id: start - piece.start for start, piece in zip(self.starts, self.pieces, strict=False)
        }
        shifts_by_piece[0] = 0
        for cover in self.covers:
            if cover.tether.piece in shifts_by_piece:
                shifts_by_piece[cover.id] = shifts_by_piece[cover.tether.piece] + cover.tether.moment - cover.start
        return shifts_by_piece

    @cached_property
    def spans(self) -> tuple[tuple[int, int, Cover], ...]:
        """(start, end, cover) in story frames of every cover in place; the end may lie past the story's."""
        shifts = self.shifts
        spans_there = []
        for cover in self.covers:
            at = shifts[cover.tether.piece] + cover.tether.moment
            spans_there.append((at, at + cover.length, cover))
        return tuple(spans_there)


Sources = Mapping[int, Source]


@dataclass(frozen=True, slots=True)
class Report:
    """What an edit did besides what was asked, in words for the editor, and what it touched."""

    did: str
    notes: tuple[str, ...] = ()
    made: tuple[int, ...] = ()
    loosened: tuple[int, ...] = ()
    returned: tuple[int, ...] = ()
    exposed: tuple[int, ...] = field(default=())
    shortened: tuple[int, ...] = ()
    playhead: int | None = None
    judged: bool = False  # its notes are to be read before it is done

    @property
    def costs(self) -> bool:
        """Whether it is to be judged first: it dislodged or shortened something, or exposed more than the one jump
        that any cut makes."""
        return bool(self.judged or self.loosened or self.shortened or len(self.exposed) > 1)

    def with_notes(self, notes: Iterable[str]) -> Report:
        """The same report with more notes."""
        return replace(self, notes=(*self.notes, *notes))
