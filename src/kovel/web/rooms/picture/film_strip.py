"""The film strip of the Picture room: pieces and covers as they lie, with small frames. Places are worked out here, in pixels.

cover 1        [boat ... ]   [hands ]
dialogue  [ A ....... ][ B ........ ]
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from kovel.core.story.model import TITLE, Cover, Item, Piece, Sources, Story, kind_of, moment_of
from kovel.core.story.settings import FRAMING, LOOK, SETTINGS
from kovel.web.pace_notes import pace_note
from kovel.web.small_frames import Face

WIDE = 78  # px of a small frame on the strip
MOST = 4_000  # faces on a strip


@dataclass(frozen=True, slots=True)
class Shot:
    """One block: where it lies, its small frames, and what is set on it in words."""

    id: int
    kind: str
    left: int
    width: int
    at: int
    length: int
    name: str
    faces: tuple[tuple[int, Face | None], ...]  # from its left edge
    marks: str
    tells: str


@dataclass(frozen=True, slots=True)
class Row:
    name: str
    lane: str
    shots: tuple[Shot, ...]


@dataclass(frozen=True, slots=True)
class Film:
    width: int
    px: float
    rows: tuple[Row, ...]
    ticks: tuple[tuple[int, str], ...]


def marks_of(x: Item) -> str:
    """Words for what is set on it itself: framing, look, pace, comes and goes."""
    own = set(x.settings)
    out = ["framed"] if own & {*FRAMING} else []
    out += ["look"] if own & {*LOOK, "look_alone"} else []
    out += [told] if isinstance(x, (Piece, Cover)) and (told := pace_note(x)) else []
    out += ["comes, goes"] if own & {"appear", "leave"} else []
    return ", ".join(out)


def tells_of(x: Item) -> str:
    told = [
        (SETTINGS[n], x.settings[n]) for n in x.settings if n in (*FRAMING, *LOOK, "look_alone", "opacity", "appear", "leave")
    ]
    return ", ".join(f"{s.label.lower()} {s.says(v)}" for s, v in told)


def film(story: Story, sources: Sources, px: float, face: Callable[[int, int], Face | None]) -> Film:
    """The strip at `px` pixels a frame; `face` gives the small frame of a recording at a story frame of its clock."""
    left = MOST

    def shot(x: Piece | Cover, at: int) -> Shot:
        nonlocal left
        end = min(at + x.length, story.length)
        a, b = round(at * px), round(end * px)
        s = sources.get(x.source) if x.source is not None else None
        seen = s is not None and s.picture and not (isinstance(x, Piece) and x.take == "sound")
        count = min(left, -(-(b - a) // WIDE)) if seen and b - a >= 6 else 0
        left -= count
        moments = [min(round(k * WIDE / px), x.length - 1) for k in range(count)]
        faces = tuple((k * WIDE, face(x.source, moment_of(x, n))) for k, n in enumerate(moments) if x.source is not None)
        name = s.name if s else (x.card.text or "card") if isinstance(x, Piece) and x.card else "space"
        if isinstance(x, Cover) and x.source == TITLE:
            name = x.title.replace("\n", " / ")
        kind = kind_of(x)
        return Shot(x.id, kind, a, max(2, b - a - 1), at, end - at, name, faces, marks_of(x), tells_of(x))

    rows = []
    for lane in sorted({c.lane for c in story.covers}, reverse=True):
        shots = tuple(
            shot(c, at) for at, _, c in sorted(story.spans, key=lambda r: r[0]) if c.lane == lane and at < story.length
        )
        rows.append(Row(f"cover {lane}", f"cover {lane}", shots))
    dialogue = tuple(shot(p, at) for p, at in zip(story.pieces, story.starts, strict=False))
    rows.append(Row("dialogue", "dialogue", dialogue))
    return Film(round(story.length * px) + 1, px, tuple(rows), _ticks(story, px))


def _ticks(story: Story, px: float) -> tuple[tuple[int, str], ...]:
    fps = float(story.rate.fps)
    step = next((s for s in (1, 2, 5, 10, 30, 60, 300, 600, 1800) if s * fps * px >= 70), 3600)
    seconds = int(story.length / fps)
    return tuple((round(t * fps * px), f"{t // 60}:{t % 60:02d}") for t in range(0, seconds + 1, step))
