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
SOUND_KINDS = {
    "music": ("music", "music bed"),
    "b-roll": ("natural", "natural sound"),
}  # kind of recording: of sound, said


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
        return Page(tuple(made_item() for made_item in items[start:end]), end if end < len(items) else None)

    def pages(self) -> dict[str, Page]:
        """The first page of each."""
        return {kind: self.page(kind) for kind in ("bites", "shots", "beds")}


def shelf_of(data_folder: DataFolder, project: int) -> Shelf:
    """Everything that can be laid in the stories of a project: what is kept or undecided, what is not set aside."""
    this_project = projects.get(data_folder.db, project)
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project)}

    def data_of(kind: str, recording: Recording, start: int, length: int, name: str) -> dict[str, object]:
        rest = {"data-source": recording.id, "data-from": start, "data-length": length, "data-name": name}
        return {"data-kind": kind, **rest}

    def bite(subclip: Subclip, kind: str) -> ShelfItem:
        recording = recordings_by_id[subclip.recording]
        under = recording.name
        if kind == "bite":
            under = " · ".join(
                [
                    recording.name,
                    *([", ".join(subclip.tags)] if subclip.tags else []),
                    *([subclip.verdict] if subclip.verdict not in ("", "keep") else []),
                ]
            )
        face = face_of(data_folder, recording, subclip.start, this_project.rate)
        return ShelfItem(
            data_of(kind, recording, subclip.start, subclip.length, subclip.name),
            subclip.name,
            under,
            stamp(subclip.length, this_project.rate),
            face,
        )

    def shot(recording: Recording) -> ShelfItem:
        length = recording.length(this_project.rate)
        told_length = stamp(length, this_project.rate) if recording.frames is not None else "still"
        face = face_of(data_folder, recording, length // 3, this_project.rate)
        return ShelfItem(
            data_of("shot", recording, 0, length, recording.name),
            recording.name,
            "",
            told_length,
            face,
            use=recording.id,
        )

    def bed(recording: Recording) -> ShelfItem:
        length = recording.length(this_project.rate)
        kind, kind_said = SOUND_KINDS.get(recording.kind, ("effect", "sound"))
        bed_data = {**data_of("sound", recording, 0, length, recording.name), "data-sound-kind": kind}
        return ShelfItem(bed_data, recording.name, kind_said, stamp(length, this_project.rate), pictured=False)

    clips = [subclip for subclip in subclips.of_project(data_folder.db, project) if subclip.verdict != "drop"]
    here = [recording for recording in recordings_by_id.values() if not recording.aside]
    return Shelf(
        tuple(
            partial(bite, subclip, "bite") for subclip in clips if recordings_by_id[subclip.recording].kind not in SHOTS
        ),
        (
            *(partial(bite, subclip, "shot") for subclip in clips if recordings_by_id[subclip.recording].kind in SHOTS),
            *(partial(shot, recording) for recording in here if recording.kind in SHOTS),
        ),
        tuple(
            partial(bed, recording)
            for recording in here
            if recording.sound and recording.kind in ("music", "sound", "b-roll")
        ),
    )
