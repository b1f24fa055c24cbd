"""The film strip of the Picture room: pieces and covers as they lie, with small frames. Places are worked out here, in
pixels.

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


def marks_of(item: Item) -> str:
    """Words for what is set on it itself: framing, look, pace, comes and goes."""
    own_settings = set(item.settings)
    clip_marks = ["framed"] if own_settings & {*FRAMING} else []
    clip_marks += ["look"] if own_settings & {*LOOK, "look_alone"} else []
    clip_marks += [told_pace] if isinstance(item, (Piece, Cover)) and (told_pace := pace_note(item)) else []
    clip_marks += ["comes, goes"] if own_settings & {"appear", "leave"} else []
    return ", ".join(clip_marks)


def tells_of(item: Item) -> str:
    told_settings = [
        (SETTINGS[setting], item.settings[setting])
        for setting in item.settings
        if setting in (*FRAMING, *LOOK, "look_alone", "opacity", "appear", "leave")
    ]
    return ", ".join(f"{setting.label.lower()} {setting.says(value)}" for setting, value in told_settings)


def film(story: Story, sources: Sources, px: float, face: Callable[[int, int], Face | None]) -> Film:
    """The strip at `px` pixels a frame; `face` gives the small frame of a recording at a story frame of its clock."""
    clips_left = MOST

    def shot(clip: Piece | Cover, at: int) -> Shot:
        nonlocal clips_left
        end = min(at + clip.length, story.length)
        start, until = round(at * px), round(end * px)
        source = sources.get(clip.source) if clip.source is not None else None
        seen = source is not None and source.picture and not (isinstance(clip, Piece) and clip.take == "sound")
        count = min(clips_left, -(-(until - start) // WIDE)) if seen and until - start >= 6 else 0
        clips_left -= count
        moments = [min(round(frame_index * WIDE / px), clip.length - 1) for frame_index in range(count)]
        faces = tuple(
            (index * WIDE, face(clip.source, moment_of(clip, moment)))
            for index, moment in enumerate(moments)
            if clip.source is not None
        )
        name = (
            source.name if source else (clip.card.text or "card") if isinstance(clip, Piece) and clip.card else "space"
        )
        if isinstance(clip, Cover) and clip.source == TITLE:
            name = clip.title.replace("\n", " / ")
        kind = kind_of(clip)
        return Shot(
            clip.id, kind, start, max(2, until - start - 1), at, end - at, name, faces, marks_of(clip), tells_of(clip)
        )

    film_rows = []
    for lane in sorted({cover.lane for cover in story.covers}, reverse=True):
        shots = tuple(
            shot(cover, at)
            for at, _, cover in sorted(story.spans, key=lambda r: r[0])
            if cover.lane == lane and at < story.length
        )
        film_rows.append(Row(f"cover {lane}", f"cover {lane}", shots))
    dialogue = tuple(shot(piece, at) for piece, at in zip(story.pieces, story.starts, strict=False))
    film_rows.append(Row("dialogue", "dialogue", dialogue))
    return Film(round(story.length * px) + 1, px, tuple(film_rows), _ticks(story, px))


def _ticks(story: Story, px: float) -> tuple[tuple[int, str], ...]:
    fps = float(story.rate.fps)
    step = next(
        (tick_seconds for tick_seconds in (1, 2, 5, 10, 30, 60, 300, 600, 1800) if tick_seconds * fps * px >= 70), 3600
    )
    seconds = int(story.length / fps)
    return tuple((round(t * fps * px), f"{t // 60}:{t % 60:02d}") for t in range(0, seconds + 1, step))
