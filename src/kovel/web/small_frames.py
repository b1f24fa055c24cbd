"""Small frames that stand for a moment of a recording, as the pages draw them."""

from __future__ import annotations

from dataclasses import dataclass

from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.services.footage.thumbnails import small_of
from kovel.store.recordings import Recording


@dataclass(frozen=True, slots=True)
class Face:
    """One small frame: where it is fetched, and how large it is there, in pixels."""

    url: str
    width: int
    height: int

    def style(self, width: int) -> str:
        """The size of the frame drawn `width` pixels wide."""
        return f"width:{width}px;height:{round(self.height * width / self.width)}px"


def face_style(face: Face | None, width: int) -> str:
    """How large a small frame is drawn; where there is none, the room it would take."""
    return face.style(width) if face else f"width:{width}px;height:{round(width * 9 / 16)}px"


def face_of(data_folder: DataFolder, recording: Recording, frame: int, clock: Rate) -> Face | None:
    """The small frame nearest to a moment of a recording; None while there is none. `frame` counts at rate `clock`."""
    small = small_of(data_folder, recording, frame, clock)
    return Face(f"/media/{recording.id}/{small.sheet}-{small.number}.jpg", small.width, small.height) if small else None
