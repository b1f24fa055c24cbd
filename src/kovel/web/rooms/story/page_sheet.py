"""What stands on the lined page: everything `parts/page.html` draws, with its place worked out. `drawing` makes it.

time | words  | coverage | cover lanes | sounds
"""

from __future__ import annotations

from dataclasses import dataclass, field

from kovel.core.story.model import Cover, Piece, Sound
from kovel.core.story.seams import Seam
from kovel.web.small_frames import Face


@dataclass(frozen=True, slots=True)
class Said:
    """A word on the page: story frames [frame, end)."""

    text: str
    frame: int
    end: int
    off: bool  # said by the interviewer


@dataclass(frozen=True, slots=True)
class Row:
    place: str
    words: tuple[Said, ...]


@dataclass(frozen=True, slots=True)
class Wave:
    """A stretch of a recording's waveform: `recording,from,to` in seconds; thin beside words, broad without them."""

    of: str
    place: str
    look: str


@dataclass(frozen=True, slots=True)
class Edges:
    """How a piece is taken by its edges: how tall the handles are, how many frames its recording has before and after
    it (None: as many as one likes), and whether its frames are counted as it was shot, so that they can be shown."""

    place: str
    before: int | None
    after: int | None
    as_shot: bool


@dataclass(frozen=True, slots=True)
class PieceBlock:
    """A piece; `drawn` where there is room for what is in it, `told` what stands in it instead of words."""

    piece: Piece
    at: int
    place: str
    label: str
    drawn: bool
    note: str
    told: str
    colour: str | None
    speaker: str
    wave: Wave | None
    rows: tuple[Row, ...]
    faces: tuple[tuple[str, Face], ...] = ()  # of a piece without words: where, and which
    edges: Edges | None = None  # None where it is too small to be taken by an edge


@dataclass(frozen=True, slots=True)
class SeamMark:
    """A seam on the page: what it is called there, and how long its dissolve and its split reach."""

    seam: Seam
    place: str
    label: str
    told: str
    blend: str | None
    split: str | None


@dataclass(frozen=True, slots=True)
class MarkerSign:
    """A marker on the page."""

    id: int
    at: int
    place: str
    name: str
    shape: str
    label: str


@dataclass(frozen=True, slots=True)
class Heading:
    piece: int
    at: int
    text: str
    place: str
    length: str


@dataclass(frozen=True, slots=True)
class Coverage:
    """A run of a coverage line: straight from (x, top) to (x, bottom), or, where only heard, a wavy path."""

    x: float
    top: float
    bottom: float
    wavy: str | None


@dataclass(frozen=True, slots=True)
class CoverBlock:
    cover: Cover
    at: int
    place: str
    label: str
    name: str | None  # None where there is no room for it
    note: str
    faces: tuple[tuple[str, Face], ...]  # where, and which


@dataclass(frozen=True, slots=True)
class SoundBlock:
    sound: Sound
    at: int
    place: str
    label: str
    name: str
    wave: str
    stroke: str  # of level and ducking, where they are a line


@dataclass(frozen=True, slots=True)
class LockButton:
    lane: str
    locked: bool
    told: str
    place: str
    title: str


@dataclass(frozen=True, slots=True)
class ShelfItem:
    """Something to pick up: what it is (`data`, read by the page's script), and what is seen of it."""

    data: dict[str, object]
    name: str
    under: str
    length: str
    face: Face | None = None
    pictured: bool = True
    use: int | None = None  # a recording whose use in the story is told


@dataclass(frozen=True, slots=True)
class Sheet:
    """The page: what of it is sent (`view`, story frames), and all that stands on it."""

    data: dict[str, object]
    height: float
    crowded: bool
    empty: bool
    zoom: int
    columns: tuple[tuple[str, str], ...]  # (letters that fit, whole name)
    column_width: int
    locks: tuple[LockButton, ...]
    ticks: tuple[tuple[str, int], ...]  # place, seconds
    pieces: tuple[PieceBlock, ...]
    seams: tuple[SeamMark, ...]
    headings: tuple[Heading, ...]
    markers: tuple[MarkerSign, ...]
    coverage: tuple[Coverage, ...]
    coverage_box: dict[str, str]
    covers: tuple[CoverBlock, ...]
    sounds: tuple[SoundBlock, ...]
    loose: tuple[ShelfItem, ...] = field(default=())
