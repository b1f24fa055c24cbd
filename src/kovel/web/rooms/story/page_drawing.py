"""The lined page in pixels: from what `core.story.lined` lays out in story frames to what stands on the `Sheet`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction

from kovel.core.plan.sounds import sounds_on
from kovel.core.story.levels_told import level_told
from kovel.core.story.lined_page import Block, LinedPage, lined
from kovel.core.story.marks import sections
from kovel.core.story.model import TITLE, Cover, Piece, Sound, Sources, Story, Transition
from kovel.core.story.seams import Seam
from kovel.core.story.settings import added, on_line
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import stamp
from kovel.core.words.transcript import Word
from kovel.store.recordings import Recording
from kovel.web.rooms.story.clip_notes import cover_note, piece_note, transition_note
from kovel.web.rooms.story.lane_list import said as lanes_said
from kovel.web.rooms.story.page_sheet import (
    Coverage,
    CoverBlock,
    Heading,
    LockButton,
    PieceBlock,
    Row,
    Said,
    SeamMark,
    Sheet,
    ShelfItem,
    SoundBlock,
    Wave,
)
from kovel.web.small_frames import Face

ROW = 24  # pixels of a line of words
SCREENS = 3000  # pixels of the page sent at first
WHOLE = 0  # the zoom at which the whole story fits one screen of WHOLE_ROWS rows
WHOLE_ROWS = 27
LINE = 16  # pixels a line of words or a label needs
FINE = 5  # pixels under which a piece or cover is drawn without what is inside it
READABLE = 16  # seconds a row beyond which words are no longer set
CHARS = 50
RIGHT = 900  # pixels of the page beside the picture and the map, in a window of 1280

FACE_TALL = 62  # pixels of a cover for each of its small frames
SOUND = 22  # width of a lane of sounds
SPACE = "Space"

Faces = Callable[[int, int], Face | None]  # (recording, story frame on its clock) -> its small frame


@dataclass(frozen=True, slots=True)
class Places:
    """Where what stands beside the words begins, in pixels: all of it fits a window of 1280."""

    column: int  # width of a coverage line's column
    covers: int
    lane: int  # width of a cover lane
    sounds: int
    coverage: int
    letters: int  # of a name that fit over a column


def places(laid: LinedPage, sound_lanes: int) -> Places:
    n = max(1, len(laid.columns))
    column = 38 if n <= 3 else max(18, 130 // n)
    covers = 530 + column * n
    lane = max(40, min(126, (RIGHT - covers - 28 - SOUND * sound_lanes) // max(1, laid.lanes)))
    return Places(column, covers, lane, covers + 6 + laid.lanes * lane, column * len(laid.columns) + 8, 6 if column > 30 else 2)


def pixels_a_frame(story: Story, zoom: int) -> float:
    """How tall a story frame is: a line of words lasts `zoom` seconds, or (0) the whole story fits a screen."""
    seconds = zoom or max(1.0, float(story.length / story.rate.fps) / WHOLE_ROWS)
    return ROW / (seconds * float(story.rate.fps))


def in_view(asked: str, px: float, length: int) -> tuple[int, int]:
    """The story frames around what the page shows, as it says (`120-480`); at first, a few screens from the start."""
    try:
        a, b = (max(0, int(x)) for x in asked.split("-"))
    except ValueError:
        a, b = 0, int(SCREENS / px)
    return a, min(max(b, a), a + int(4 * SCREENS / px), max(length, 1))


def _box(top: float, tall: float, **more: float) -> str:
    rest = "".join(f";{k}:{v:g}px" for k, v in more.items())
    return f"top:{top:.2f}px;height:{tall:.2f}px{rest}"


def wavy(x: float, y0: float, y1: float) -> str:
    """An SVG path waving about x from y0 to y1."""
    n = max(1, round((y1 - y0) / 6))
    step = (y1 - y0) / n
    return f"M{x:g} {y0:.1f}" + "".join(f"q{4 if i % 2 else -4} {step / 2:.2f} 0 {step:.2f}" for i in range(n))


class Drawing:
    """One story at one zoom and view, drawn part by part."""

    def __init__(
        self, story: Story, sources: Sources, rows: dict[int, Recording], zoom: int, view: str,
        words: Callable[[int, int, int], Sequence[Word]], faces: Faces,
    ) -> None:  # fmt: skip
        self.story, self.sources, self.rows, self.zoom, self.faces = story, sources, rows, zoom, faces
        self.rate: Rate = story.rate
        self.fps = float(self.rate.fps)
        self.px = px = pixels_a_frame(story, zoom)
        self.view = in_view(view, px, story.length)
        self.readable = ROW / px <= READABLE * self.fps
        some = words if self.readable else lambda *_: ()
        self.laid = lined(story, sources, some, ROW / px, CHARS, self.view)
        self.places = places(self.laid, max((x.lane for x in story.sounds), default=0))
        self.crowded = story.length * px < 2 * FINE * len(story.pieces)

    def sheet(self, **data: object) -> Sheet:
        story, (lo, hi) = self.story, self.view
        target = f" of {stamp(story.target, self.rate)}" if story.target else ""
        box = f"0 {lo * self.px:.2f} {self.places.coverage} {(hi - lo) * self.px:.0f}"
        own = {
            "length": story.length, "px": self.px, "fps": self.fps, "target": story.target, "from": lo, "to": hi,
            "jumps": sum(s.kind == "jump" for s in self.laid.seams),
            "used": ",".join(map(str, sorted({c.source for c in story.covers if c.source} | {p.source for p in story.pieces if p.source}))),
            "said": lanes_said(story), "total": stamp(story.length, self.rate) + target,
            "over": int(0 < story.target < story.length),
        }  # fmt: skip
        return Sheet(
            data={f"data-{k}": v for k, v in {**data, **own}.items()},
            height=story.length * self.px + 8,
            crowded=self.crowded,
            empty=not story.pieces,
            zoom=self.zoom,
            columns=tuple((n.split(" ")[0].rstrip(",")[: self.places.letters], n) for n in self.laid.columns),
            column_width=self.places.column,
            locks=self.locks(),
            ticks=self.ticks(),
            pieces=tuple(map(self.piece, self.laid.blocks)),
            seams=self.seams(),
            headings=self.headings(),
            coverage=tuple(self.coverage()),
            coverage_box={"viewBox": box, "top": f"{lo * self.px:.2f}", "height": f"{(hi - lo) * self.px:.0f}", "width": str(self.places.coverage)},
            covers=tuple(self.cover(*x) for x in self.laid.covers),
            sounds=tuple(self.sounds()),
            loose=self.loose(),
        )  # fmt: skip

    def name(self, source: int | None) -> str:
        return self.rows[source].name if source in self.rows else "?"

    def locks(self) -> tuple[LockButton, ...]:
        story, at = self.story, self.places
        out = []
        for n in range(1, self.laid.lanes + 1):
            lane = f"cover {n}"
            on = lane in story.locked
            if self.laid.covers or self.laid.lanes > 1 or on:
                place = f"left:{at.covers + (n - 1) * at.lane}px;width:{at.lane - 6}px"
                told = f"{lane}: {'locked' if on else 'lock'}"
                out.append(LockButton(lane, on, told, place, "Lock this lane: edits leave what lies on it"))
        if story.sounds:
            on = "sounds" in story.locked
            place = f"width:60px;left:{at.sounds - 6}px"
            out.append(
                LockButton("sounds", on, f"sounds{': locked' if on else ''}", place, "Lock the sounds: edits leave them")
            )
        return tuple(out)

    def ticks(self) -> tuple[tuple[str, int], ...]:
        """A time about every 48 pixels, a multiple of five seconds; every second where there is the room."""
        second = self.px * self.fps
        step = max(1, round(48 / second / 5) * 5) if second < 48 else 1
        first, last = (int(x / self.rate.fps) for x in self.view)
        return tuple(
            (f"top:{self.rate.seconds_to_frame(Fraction(s)) * self.px:.1f}px", s)
            for s in range(first // step * step, last + 1, step)
        )

    def piece(self, b: Block) -> PieceBlock:
        p, px = b.piece, self.px
        tall = p.length * px
        label = self.rows[p.source].name if p.source in self.rows else SPACE
        return PieceBlock(
            p, b.at, _box(b.at * px, tall), f"{label}, {stamp(p.length, self.rate)}", drawn=tall >= FINE, note=piece_note(self.story, self.sources, p),
            told=self.told(p, tall),
            colour=p.card.colour if p.card else None, speaker=b.speaker if tall > 40 else "", wave=self.wave(b),
            rows=tuple(self.row(b, line.top, line.words) for line in b.lines) if tall >= LINE else (),
        )  # fmt: skip

    def told(self, p: Piece, tall: float) -> str:
        """What stands in a piece instead of words, where there is room for it."""
        if p.source is not None:
            return self.rows[p.source].name if p.source in self.rows and not self.readable and tall > 13 else ""
        if p.card:
            return p.card.text or "card"
        return f"space, {stamp(p.length, self.rate)}" if tall >= LINE else ""

    def row(self, b: Block, top: int, words: Sequence[tuple[int, Word]]) -> Row:
        end = b.at + b.piece.length
        said = [
            Said(w.text, b.story_frame(f), min(b.story_frame(w.frames(self.rate)[1]), end), w.speaker == "interviewer")
            for f, w in words
        ]
        return Row(f"top:{top * ROW}px", tuple(said))

    def wave(self, b: Block) -> Wave | None:
        p = b.piece
        if p.source is None or not (b.lines or (p.source in self.rows and self.rows[p.source].sound)) or not sounds_on(p):
            return None
        a, z = max(b.at, self.view[0]), min(b.at + p.length, self.view[1])
        first, end = p.clock.used(p.start + a - b.at, max(1, z - a))
        of = f"{p.source},{first / self.fps},{end / self.fps}"
        return Wave(of, _box((a - b.at) * self.px, (z - a) * self.px), "thin" if b.lines else "broad")

    def seams(self) -> tuple[SeamMark, ...]:
        out = []
        for s, j, room in told_apart(self.story, self.laid.seams, self.px, self.view):
            marks = transition_note(j)
            called = {"clean": "", "covered": "covered"}.get(s.kind, s.said)
            half, early = (j.length // 2) * self.px, min(j.split, 0) * self.px
            out.append(
                SeamMark(
                    s, f"top:{s.at * self.px:.2f}px", f"Seam at {stamp(s.at, self.rate)}: {s.said} {marks}".rstrip(),
                    f"{marks} {called}".strip() if room else "",
                    _box(6 - half, j.length * self.px) if j.length else None,
                    _box(6 + early, abs(j.split) * self.px) if j.split else None,
                )
            )  # fmt: skip
        return tuple(out)

    def headings(self) -> tuple[Heading, ...]:
        out = []
        for x, a, b in sections(self.story):
            if x is not None and self.view[0] <= a <= self.view[1]:
                long = stamp(b - a, self.rate) + (f" of {stamp(x.target, self.rate)}" if x.target else "")
                out.append(Heading(x.piece, a, x.heading, f"top:{a * self.px:.2f}px", long))
        return tuple(out)

    def coverage(self) -> list[Coverage]:
        out = []
        for s in self.laid.stretches:
            x, a, b = 13 + self.places.column * s.column, s.a * self.px, s.b * self.px
            out.append(Coverage(x, round(a + 2, 1), round(b - 2, 1), None if s.seen else wavy(x, a, b)))
        return out

    def cover(self, a: int, b: int, c: Cover) -> CoverBlock:
        tall = (b - a) * self.px
        name, note = c.title.replace("\n", " / ") or self.name(c.source), cover_note(self.story, self.sources, c, a)
        n = max(1, min(6, int(tall // FACE_TALL)))
        faces = []
        if tall >= FINE and c.source in self.rows:
            for i in range(n):
                face = self.faces(c.source, c.start + (b - a) * (2 * i + 1) // (2 * n))
                if face:
                    faces.append((f"top:{tall / n * i:.1f}px", face))
        at = self.places
        box = _box(a * self.px, max(tall, 1 if self.crowded else 5), left=at.covers + (c.lane - 1) * at.lane, width=at.lane - 6)
        label = f"{'Title' if c.source == TITLE else 'Cover'}: {name}, {stamp(c.length, self.rate)}, lane {c.lane}{', ' if note else ''}{note}"
        return CoverBlock(c, a, box, label, name if tall > 16 else None, note, tuple(faces))

    def sounds(self) -> list[SoundBlock]:
        story, (lo, hi) = self.story, self.view
        out = []
        for x in story.sounds:
            at = story.at(x)
            if at >= min(hi, story.length) or at + x.length <= lo:
                continue
            tall = max(6.0, (min(at + x.length, story.length) - at) * self.px)
            level = level_told(story, self.sources, x)
            label = f"{x.kind.capitalize()}: {self.name(x.source)}, {stamp(x.length, self.rate)}, {level}"
            place = _box(at * self.px, tall, left=self.places.sounds + (x.lane - 1) * SOUND)
            wave = f"{x.source},{x.start / self.fps},{(x.start + x.length) / self.fps}"
            out.append(SoundBlock(x, at, place, label, self.name(x.source), wave, self.stroke(x)))
        return out

    def stroke(self, x: Sound) -> str:
        """Level and ducking as points of a line down the sound's lane, quiet on the left; nothing where the level stands."""
        line = added([v for v in (self.story.value(x, "level", self.sources), x.settings["duck"]) if v != ()])
        if not isinstance(line, tuple):
            return ""
        wide = SOUND - 5
        rows = [(x.start, on_line(line, x.start)), *(r for r in line if x.start < r[0] < x.end), (x.end, on_line(line, x.end))]
        return " ".join(f"{wide * max(0.0, min(1.0, (db + 48) / 60)):.1f},{(m - x.start) * self.px:.1f}" for m, db in rows)

    def loose(self) -> tuple[ShelfItem, ...]:
        trays: tuple[Cover | Sound, ...] = (*self.story.loose, *self.story.loose_sounds)
        out = []
        for c in trays:
            kind, name = (
                ("loose-sound" if isinstance(c, Sound) else "loose"),
                (c.title if isinstance(c, Cover) else "") or self.name(c.source),
            )
            data = {"data-kind": kind, "data-cover": c.id, "data-length": c.length, "data-name": name}
            face = self.faces(c.source, c.start) if c.source in self.rows else None
            out.append(ShelfItem(data, name, "its word left the story", stamp(c.length, self.rate), face))
        return tuple(out)


def told_apart(story: Story, found: Sequence[Seam], px: float, view: tuple[int, int]) -> list[tuple[Seam, Transition, bool]]:
    """Seams in view that can be told apart, what is set at them, and whether there is room for their label. Where many crowd,
    an exposed jump stands for them."""
    kept: list[Seam] = []
    for s in found:
        if not view[0] <= s.at <= view[1]:
            continue
        if kept and (s.at - kept[-1].at) * px < 2:
            if s.kind == "jump" != kept[-1].kind:
                kept[-1] = s
            continue
        kept.append(s)
    out: list[tuple[Seam, Transition, bool]] = []
    last = -1e9
    for s in kept:
        room = s.kind != "clean" and (s.at - last) * px >= LINE
        last = s.at if room else last
        j = story.transition(story.index_of(s.right.id))
        out.append((s, j, room or not j.plain))
    return out
