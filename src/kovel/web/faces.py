"""Small frames that stand for a moment of a recording, as the pages draw them."""

from __future__ import annotations

from dataclasses import dataclass

from kovel.core.time.rate import Rate
from kovel.store.recordings import Recording
from kovel.work.folder import Data
from kovel.work.smalls import ACROSS, small_of


@dataclass(frozen=True, slots=True)
class Face:
    """One small frame: its sheet, where it stands on it, how large it is there, in pixels."""

    url: str
    x: int
    y: int
    width: int
    height: int

    def style(self, width: int) -> str:
        """The frame drawn `width` pixels wide, as a background."""
        k = width / self.width
        return (
            f"width:{width}px;height:{round(self.height * k)}px;background-image:url({self.url});"
            f"background-size:{ACROSS * width}px auto;background-position:-{self.x * k:g}px -{self.y * k:g}px"
        )


def face_style(face: Face | None, width: int) -> str:
    """How a small frame is drawn; where there is none, the room it would take."""
    return face.style(width) if face else f"width:{width}px;height:{round(width * 9 / 16)}px"


def face_of(data: Data, r: Recording, frame: int, clock: Rate) -> Face | None:
    """The small frame nearest to a moment of a recording; None while there is none. `frame` counts at rate `clock`."""
    s = small_of(data, r, frame, clock)
    return Face(f"/media/{r.id}/{s.sheet}", s.x, s.y, s.width, s.height) if s else None
