"""What lies on the shelf beside the lined page, to be picked up: soundbites, b-roll, sounds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from kovel.core.time.timecode import stamp
from kovel.data_folder import DataFolder
from kovel.store import projects, recordings, subclips
from kovel.store.recordings import Recording
from kovel.store.subclips import Subclip
from kovel.web.rooms.story.page_sheet import ShelfItem
from kovel.web.small_frames import face_of

SHOTS = ("b-roll", "still")
SOUND_KINDS = {"music": ("music", "music bed"), "b-roll": ("natural", "natural sound")}  # kind of recording: of sound, said


PAGE = 120  # items sent at first, and at each scroll to their end


@dataclass(frozen=True, slots=True)
class Page:
    """A part of a shelf, and where the next one begins; None where it is the last."""

    rows: tuple[ShelfItem, ...]
    next: int | None


Made = Callable[[], ShelfItem]  # an item is made when it is shown


@dataclass(frozen=True, slots=True)
class Shelf:
    bites: tuple[Made, ...]
    shots: tuple[Made, ...]  # ranges kept of b-roll, then whole shots
    beds: tuple[Made, ...]

    def page(self, kind: str, start: int = 0) -> Page:
        """What lies there of a kind (`bites`, `shots`, `beds`) from item `start` on."""
        items: tuple[Made, ...] = getattr(self, kind)
        end = start + PAGE
        return Page(tuple(made() for made in items[start:end]), end if end < len(items) else None)

    def pages(self) -> dict[str, Page]:
        """The first page of each."""
        return {kind: self.page(kind) for kind in ("bites", "shots", "beds")}


def shelf_of(data: DataFolder, project: int) -> Shelf:
    """Everything that can be laid in the stories of a project: what is kept or undecided, what is not set aside."""
    p = projects.get(data.db, project)
    rows = {r.id: r for r in recordings.of_project(data.db, project)}

    def data_of(kind: str, r: Recording, start: int, length: int, name: str) -> dict[str, object]:
        rest = {"data-source": r.id, "data-from": start, "data-length": length, "data-name": name}
        return {"data-kind": kind, **rest}

    def bite(c: Subclip, kind: str) -> ShelfItem:
        r = rows[c.recording]
        under = r.name
        if kind == "bite":
            under = " · ".join(
                [r.name, *([", ".join(c.tags)] if c.tags else []), *([c.verdict] if c.verdict not in ("", "keep") else [])]
            )
        face = face_of(data, r, c.start, p.rate)
        return ShelfItem(data_of(kind, r, c.start, c.length, c.name), c.name, under, stamp(c.length, p.rate), face)

    def shot(r: Recording) -> ShelfItem:
        length = r.length(p.rate)
        told = stamp(length, p.rate) if r.frames is not None else "still"
        face = face_of(data, r, length // 3, p.rate)
        return ShelfItem(data_of("shot", r, 0, length, r.name), r.name, "", told, face, use=r.id)

    def bed(r: Recording) -> ShelfItem:
        length = r.length(p.rate)
        kind, said = SOUND_KINDS.get(r.kind, ("effect", "sound"))
        own = {**data_of("sound", r, 0, length, r.name), "data-sound-kind": kind}
        return ShelfItem(own, r.name, said, stamp(length, p.rate), pictured=False)

    clips = [c for c in subclips.of_project(data.db, project) if c.verdict != "drop"]
    here = [r for r in rows.values() if not r.aside]
    return Shelf(
        tuple(partial(bite, c, "bite") for c in clips if rows[c.recording].kind not in SHOTS),
        (
            *(partial(bite, c, "shot") for c in clips if rows[c.recording].kind in SHOTS),
            *(partial(shot, r) for r in here if r.kind in SHOTS),
        ),
        tuple(partial(bed, r) for r in here if r.sound and r.kind in ("music", "sound", "b-roll")),
    )
