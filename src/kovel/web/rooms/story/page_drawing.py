"""The lined page in pixels: from what `core.story.lined` lays out in story frames to what stands on the `Sheet`."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction

from kovel.core.plan.sounds import sounds_on
from kovel.core.story.edit_rules import handles
from kovel.core.story.laying import DROPS
from kovel.core.story.levels_told import level_told
from kovel.core.story.lined_page import Block, LinedPage, lined
from kovel.core.story.marker_places import placed_markers
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
    Edges,
    Heading,
    LockButton,
    MarkerSign,
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
WHOLE_ROWS = 25
LINE = 16  # pixels a line of words or a label needs
FINE = 5  # pixels under which a piece or cover is drawn without what is inside it
READABLE = 16  # seconds a row beyond which words are no longer set
CHARS = 50
RIGHT = 900  # pixels of the page beside the picture and the map, in a window of 1280

FACE_LEAST = 20  # pixels that a piece is tall at least, for its small frame to be seen
FACE_TALL = 62  # pixels of a cover for each of its small frames
SOUND = 32  # width of a lane of sounds: the name of a sound, and beside it its waveform and level
SOUND_NAME = 13
EDGE = 10  # pixels of a handle at a piece's edge; at most a third of the piece, so that the rest still selects it
SEAM = 6  # pixels to either side of a seam that take hold of it; at most a sixth of the piece there
SHORT_SOUND = 26.0  # pixels down the page: a sound shorter than that has no room for a name
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
    return Places(
        column, covers, lane, covers + 6 + laid.lanes * lane, column * len(laid.columns) + 8, 6 if column > 30 else 2
    )


def short_names(names: Sequence[str], letters: int) -> list[str]:
    """So many letters of each name, no two alike: the first word, or where several have that one its first letter and
    the last of the name. "Maren, camera A" and "Maren, camera B" are MA and MB, and Tobin is Tobin or To."""
    first = [name.split(" ")[0].rstrip(",")[:letters] for name in names]
    found: list[str] = []
    for name, short in zip(names, first, strict=True):
        own = short if first.count(short) == 1 else f"{name[:1]}{name.split(' ')[-1][-1:]}".upper()
        number = 2
        while own in found:
            own, number = f"{name[:1].upper()}{number}", number + 1
        found.append(own)
    return found


def pixels_a_frame(story: Story, zoom: int) -> float:
    """How tall a story frame is: a line of words lasts `zoom` seconds, or (0) the whole story fits a screen."""
    seconds = zoom or max(1.0, float(story.length / story.rate.fps) / WHOLE_ROWS)
    return ROW / (seconds * float(story.rate.fps))


def in_view(asked: str, px: float, length: int) -> tuple[int, int]:
    """The story frames around what the page shows, as it says (`120-480`); at first, a few screens from the start."""
    try:
        start, end = (max(0, int(asked_edge)) for asked_edge in asked.split("-"))
    except ValueError:
        start, end = 0, int(SCREENS / px)
    return start, min(max(end, start), start + int(4 * SCREENS / px), max(length, 1))


def _box(top: float, tall: float, **more: float) -> str:
    rest = "".join(f";{name}:{value:g}px" for name, value in more.items())
    return f"top:{top:.2f}px;height:{tall:.2f}px{rest}"


def wavy(x: float, y0: float, y1: float) -> str:
    """An SVG path waving about x from y0 to y1."""
    n = max(1, round((y1 - y0) / 6))
    step = (y1 - y0) / n
    return f"M{x:g} {y0:.1f}" + "".join(
        f"q{4 if wave_index % 2 else -4} {step / 2:.2f} 0 {step:.2f}" for wave_index in range(n)
    )


class Drawing:
    """One story at one zoom and view, drawn part by part."""

    def __init__(
        self,
        story: Story,
        sources: Sources,
        recordings_by_id: dict[int, Recording],
        zoom: int,
        view: str,
        words: Callable[[int, int, int], Sequence[Word]],
        faces: Faces,
    ) -> None:
        self.story, self.sources, self.rows, self.zoom, self.faces = story, sources, recordings_by_id, zoom, faces
        self.rate: Rate = story.rate
        self.fps = float(self.rate.fps)
        self.px = px = pixels_a_frame(story, zoom)
        self.view = in_view(view, px, story.length)
        self.readable = ROW / px <= READABLE * self.fps
        some = words if self.readable else lambda *_: ()
        self.laid = lined(story, sources, some, ROW / px, CHARS, self.view)
        self.places = places(self.laid, max((sound.lane for sound in story.sounds), default=0))
        self.crowded = story.length * px < 2 * FINE * len(story.pieces)

    def sheet(self, **data: object) -> Sheet:
        """All of the page that is drawn now."""
        story, (lowest, highest) = self.story, self.view
        target = f" of {stamp(story.target, self.rate)}" if story.target else ""
        box = f"0 {lowest * self.px:.2f} {self.places.coverage} {(highest - lowest) * self.px:.0f}"
        sheet_facts = {
            "length": story.length,
            "px": self.px,
            "fps": self.fps,
            "target": story.target,
            "from": lowest,
            "to": highest,
            "jumps": sum(seam.kind == "jump" for seam in self.laid.seams),
            "used": ",".join(
                map(
                    str,
                    sorted(
                        {cover.source for cover in story.covers if cover.source}
                        | {piece.source for piece in story.pieces if piece.source}
                    ),
                )
            ),
            "said": lanes_said(story),
            "drops": json.dumps(DROPS),
            "lanes": f"{self.places.covers},{self.places.lane},{self.laid.lanes}",
            "total": stamp(story.length, self.rate) + target,
            "over": int(0 < story.target < story.length),
        }
        return Sheet(
            data={f"data-{name}": value for name, value in {**data, **sheet_facts}.items()},
            height=story.length * self.px + 8,
            crowded=self.crowded,
            empty=not story.pieces,
            zoom=self.zoom,
            columns=tuple(zip(short_names(self.laid.columns, self.places.letters), self.laid.columns, strict=True)),
            column_width=self.places.column,
            locks=self.locks(),
            ticks=self.ticks(),
            pieces=tuple(map(self.piece, self.laid.blocks)),
            seams=self.seams(),
            headings=self.headings(),
            markers=self.markers(),
            coverage=tuple(self.coverage()),
            coverage_box={
                "viewBox": box,
                "top": f"{lowest * self.px:.2f}",
                "height": f"{(highest - lowest) * self.px:.0f}",
                "width": str(self.places.coverage),
            },
            covers=tuple(self.cover(*cover) for cover in self.laid.covers),
            sounds=tuple(self.sounds()),
            loose=self.loose(),
        )

    def name(self, source: int | None) -> str:
        """A recording's name."""
        return self.rows[source].name if source in self.rows else "?"

    def locks(self) -> tuple[LockButton, ...]:
        """A lock for each lane, at its place above the page."""
        story, at = self.story, self.places
        drawn_locks = []
        for n in range(1, self.laid.lanes + 1):
            lane = f"cover {n}"
            on = lane in story.locked
            if self.laid.covers or self.laid.lanes > 1 or on:
                place = f"left:{at.covers + (n - 1) * at.lane}px;width:{at.lane - 6}px"
                told_lock = f"{lane}: {'locked' if on else 'lock'}"
                drawn_locks.append(
                    LockButton(lane, on, told_lock, place, "Lock this lane: edits leave what lies on it")
                )
        if story.sounds:
            on = "sounds" in story.locked
            place = f"width:60px;left:{at.sounds - 6}px"
            drawn_locks.append(
                LockButton(
                    "sounds", on, f"sounds{': locked' if on else ''}", place, "Lock the sounds: edits leave them"
                )
            )
        return tuple(drawn_locks)

    def ticks(self) -> tuple[tuple[str, int], ...]:
        """A time about every 48 pixels, a multiple of five seconds; every second where there is the room."""
        second = self.px * self.fps
        step = max(1, round(48 / second / 5) * 5) if second < 48 else 1
        first, last = (int(view_edge / self.rate.fps) for view_edge in self.view)
        return tuple(
            (f"top:{self.rate.seconds_to_frame(Fraction(tick_second)) * self.px:.1f}px", tick_second)
            for tick_second in range(first // step * step, last + 1, step)
        )

    def piece(self, block: Block) -> PieceBlock:
        """The block of a piece."""
        piece, px = block.piece, self.px
        tall = piece.length * px
        label = self.rows[piece.source].name if piece.source in self.rows else SPACE
        return PieceBlock(
            piece,
            block.at,
            _box(block.at * px, tall),
            f"{label}, {stamp(piece.length, self.rate)}",
            drawn=tall >= FINE,
            note=piece_note(self.story, self.sources, piece),
            told=self.told(block, tall),
            colour=piece.card.colour if piece.card else None,
            speaker=block.speaker if tall > 40 else "",
            wave=self.wave(block),
            rows=tuple(self.row(block, line.top, line.words) for line in block.lines) if tall >= LINE else (),
            faces=() if block.lines and self.readable else self.piece_faces(block),
            edges=self.edges(piece, tall),
        )

    def edges(self, piece: Piece, tall: float) -> Edges | None:
        """The handles at both ends of a piece."""
        if tall < FINE or self.crowded:
            return None
        as_shot = piece.source in self.sources and piece.as_shot
        return Edges(f"height:{min(EDGE, tall / 3):.1f}px", *handles(self.sources, self.rate, piece), as_shot)

    def piece_faces(self, block: Block) -> tuple[tuple[str, Face], ...]:
        """Small frames down a piece, each at its moment, as far as the piece is in view."""
        piece, tall = block.piece, block.piece.length * self.px
        if piece.source not in self.rows or piece.take == "sound" or tall < FACE_LEAST:
            return ()
        n = max(1, int(tall // FACE_TALL))
        lowest, highest = self.view[0] - block.at, self.view[1] - block.at
        faces = []
        for face_index in range(n):
            frame = piece.length * (2 * face_index + 1) // (2 * n)
            if lowest <= frame <= highest and (face := self.faces(piece.source, piece.moment(frame))):
                faces.append((f"top:{tall / n * face_index:.1f}px", face))
        return tuple(faces)

    def told(self, block: Block, tall: float) -> str:
        """What stands in a piece instead of words, where there is room for it."""
        piece = block.piece
        if piece.source is not None:
            worded = block.lines and self.readable
            if worded or tall <= 13 or piece.source not in self.rows:
                return ""
            return f"{self.rows[piece.source].name}, {stamp(piece.length, self.rate)}"
        if piece.card:
            return piece.card.text or "card"
        return f"space, {stamp(piece.length, self.rate)}" if tall >= LINE else ""

    def row(self, block: Block, top: int, words: Sequence[tuple[int, Word]]) -> Row:
        """A line of words."""
        end = block.at + block.piece.length
        said_words = [
            Said(
                word.text,
                block.story_frame(word_frame),
                min(block.story_frame(word.frames(self.rate)[1]), end),
                word.speaker == "interviewer",
            )
            for word_frame, word in words
        ]
        return Row(f"top:{top * ROW}px", tuple(said_words))

    def wave(self, block: Block) -> Wave | None:
        """The waveform in the margin of a block; None where nothing is heard of it."""
        piece = block.piece
        if (
            piece.source is None
            or not (block.lines or (piece.source in self.rows and self.rows[piece.source].sound))
            or not sounds_on(piece)
        ):
            return None
        a, wave_end = max(block.at, self.view[0]), min(block.at + piece.length, self.view[1])
        first, end = piece.clock.used(piece.start + a - block.at, max(1, wave_end - a))
        of = f"{piece.source},{first / self.fps},{end / self.fps}"
        return Wave(of, _box((a - block.at) * self.px, (wave_end - a) * self.px), "thin" if block.lines else "broad")

    def seams(self) -> tuple[SeamMark, ...]:
        """The marks of the seams in sight."""
        drawn_seams = []
        for seam, transition, room in told_apart(self.story, self.laid.seams, self.px, self.view):
            marks = transition_note(transition)
            called = {"clean": "", "covered": "covered"}.get(seam.kind, seam.said)
            half, early = (transition.length // 2) * self.px, min(transition.split, 0) * self.px
            drawn_seams.append(
                SeamMark(
                    seam,
                    self.zone(seam),
                    f"Seam at {stamp(seam.at, self.rate)}: {seam.said} {marks}".rstrip(),
                    f"{marks} {called}".strip() if room else "",
                    f"{_box(-half, transition.length * self.px)};translate:0 var(--line)"
                    if transition.length
                    else None,
                    f"{_box(early, abs(transition.split) * self.px)};translate:0 var(--line)"
                    if transition.split
                    else None,
                )
            )
        return tuple(drawn_seams)

    def zone(self, seam: Seam) -> str:
        """How far to either side a seam is taken hold of: less where a piece beside it is short. Its line stays at its
        place, `--line` below the top."""
        if self.crowded:
            return f"top:{seam.at * self.px:.2f}px"
        above, below = (max(1.5, min(SEAM, piece.length * self.px / 6)) for piece in (seam.left, seam.right))
        zone = _box(seam.at * self.px - above, above + below)
        return f"{zone};margin-top:0;--line:{above - 0.5:.2f}px"

    def headings(self) -> tuple[Heading, ...]:
        """The headings in sight, with their lengths."""
        drawn_headings = []
        for section, start, end in sections(self.story):
            if section is not None and self.view[0] <= start <= self.view[1]:
                long = stamp(end - start, self.rate) + (
                    f" of {stamp(section.target, self.rate)}" if section.target else ""
                )
                drawn_headings.append(
                    Heading(section.piece, start, section.heading, f"top:{start * self.px:.2f}px", long)
                )
        return tuple(drawn_headings)

    def markers(self) -> tuple[MarkerSign, ...]:
        """The markers in sight."""
        return tuple(
            MarkerSign(
                marker.id,
                at,
                f"top:{at * self.px:.2f}px",
                marker.name,
                marker.shape,
                f"Marker at {stamp(at, self.rate)}{': ' if marker.name else ''}{marker.name}",
            )
            for at, marker in placed_markers(self.story)
            if self.view[0] <= at <= self.view[1]
        )

    def coverage(self) -> list[Coverage]:
        """The lines beside the words: straight where the speaker is seen, wavy under a cover."""
        drawn_lines = []
        for stretch in self.laid.stretches:
            line_across, start, end = 13 + self.places.column * stretch.column, stretch.a * self.px, stretch.b * self.px
            drawn_lines.append(
                Coverage(
                    line_across,
                    round(start + 2, 1),
                    round(end - 2, 1),
                    None if stretch.seen else wavy(line_across, start, end),
                )
            )
        return drawn_lines

    def cover(self, start: int, end: int, cover: Cover) -> CoverBlock:
        """The block of a cover over story frames [start, end)."""
        tall = (end - start) * self.px
        name, note = (
            cover.title.replace("\n", " / ") or self.name(cover.source),
            cover_note(self.story, self.sources, cover, start),
        )
        n = max(1, min(6, int(tall // FACE_TALL)))
        faces = []
        if tall >= FINE and cover.source in self.rows:
            for face_index in range(n):
                face = self.faces(cover.source, cover.start + (end - start) * (2 * face_index + 1) // (2 * n))
                if face:
                    faces.append((f"top:{tall / n * face_index:.1f}px", face))
        at = self.places
        box = _box(
            start * self.px,
            max(tall, 1 if self.crowded else 5),
            left=at.covers + (cover.lane - 1) * at.lane,
            width=at.lane - 6,
        )
        label = (
            f"{'Title' if cover.source == TITLE else 'Cover'}: {name}, {stamp(cover.length, self.rate)}, lane "
            f"{cover.lane}{', ' if note else ''}{note}"
        )
        return CoverBlock(cover, start, box, label, name if tall > 16 else None, note, tuple(faces))

    def sounds(self) -> list[SoundBlock]:
        """The lines of the sounds in sight."""
        story, (lowest, highest) = self.story, self.view
        drawn_sounds, going_on = [], self.going_on()
        for sound in story.sounds:
            at = story.at(sound)
            if at >= min(highest, story.length) or at + sound.length <= lowest:
                continue
            tall = max(6.0, (min(at + sound.length, story.length) - at) * self.px)
            level = level_told(story, self.sources, sound)
            label = f"{sound.kind.capitalize()}: {self.name(sound.source)}, {stamp(sound.length, self.rate)}, {level}"
            place = _box(at * self.px, tall, left=self.places.sounds + (sound.lane - 1) * SOUND)
            wave = f"{sound.source},{sound.start / self.fps},{(sound.start + sound.length) / self.fps}"
            name = "" if tall < SHORT_SOUND or sound.id in going_on else self.name(sound.source)
            drawn_sounds.append(SoundBlock(sound, at, place, label, name, wave, self.stroke(sound)))
        return drawn_sounds

    def going_on(self) -> set[int]:
        """The sounds before which the same recording is heard on their lane, so that its name stands there already."""
        found: set[int] = set()
        heard_until: dict[tuple[int, int], int] = {}
        for at, sound in sorted(((self.story.at(sound), sound) for sound in self.story.sounds), key=lambda row: row[0]):
            end = heard_until.get((sound.source, sound.lane), -1)
            if end >= at:
                found.add(sound.id)
            heard_until[sound.source, sound.lane] = max(end, at + sound.length)
        return found

    def stroke(self, sound: Sound) -> str:
        """Level and ducking as points of a line down the sound's lane, quiet on the left; nothing where the level
        stands."""
        line = added([v for v in (self.story.value(sound, "level", self.sources), sound.settings["duck"]) if v != ()])
        if not isinstance(line, tuple):
            return ""
        wide = SOUND - SOUND_NAME - 5
        stroke_points = [
            (sound.start, on_line(line, sound.start)),
            *(line_point for line_point in line if sound.start < line_point[0] < sound.end),
            (sound.end, on_line(line, sound.end)),
        ]
        return " ".join(
            f"{wide * max(0.0, min(1.0, (db + 48) / 60)):.1f},{(moment - sound.start) * self.px:.1f}"
            for moment, db in stroke_points
        )

    def loose(self) -> tuple[ShelfItem, ...]:
        """What waits in the tray."""
        trays: tuple[Cover | Sound, ...] = (*self.story.loose, *self.story.loose_sounds)
        loose_clips = []
        for clip in trays:
            kind, name = (
                ("loose-sound" if isinstance(clip, Sound) else "loose"),
                (clip.title if isinstance(clip, Cover) else "") or self.name(clip.source),
            )
            data = {"data-kind": kind, "data-cover": clip.id, "data-length": clip.length, "data-name": name}
            face = self.faces(clip.source, clip.start) if clip.source in self.rows else None
            loose_clips.append(ShelfItem(data, name, "its word left the story", stamp(clip.length, self.rate), face))
        return tuple(loose_clips)


def told_apart(
    story: Story, found_seams: Sequence[Seam], px: float, view: tuple[int, int]
) -> list[tuple[Seam, Transition, bool]]:
    """Seams in view that can be told apart, what is set at them, and whether there is room for their label. Where
    many crowd, an exposed jump stands for them."""
    kept_seams: list[Seam] = []
    for seam in found_seams:
        if not view[0] <= seam.at <= view[1]:
            continue
        if kept_seams and (seam.at - kept_seams[-1].at) * px < 2:
            if seam.kind == "jump" != kept_seams[-1].kind:
                kept_seams[-1] = seam
            continue
        kept_seams.append(seam)
    blends_told: list[tuple[Seam, Transition, bool]] = []
    last = -1e9
    for seam in kept_seams:
        room = seam.kind != "clean" and (seam.at - last) * px >= LINE
        last = seam.at if room else last
        transition = story.transition(story.index_of(seam.right.id))
        blends_told.append((seam, transition, room or not transition.plain))
    return blends_told
