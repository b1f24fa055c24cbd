"""Small frames of recordings: where the one nearest to a moment lies, and its colours."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import av
import numpy as np
import numpy.typing as npt
from PIL import Image

from kovel.core.time.rate import Rate
from kovel.store.recordings import Recording
from kovel.work.folder import Data, media_facts

ACROSS = 10  # small frames a row of a sheet, and rows a sheet


@dataclass(frozen=True, slots=True)
class Small:
    """One small frame: its sheet's file name, and where it stands on it, in pixels."""

    sheet: str
    x: int
    y: int
    width: int
    height: int


def small_of(data: Data, r: Recording, frame: int, clock: Rate) -> Small | None:
    """The small frame nearest to a moment of a recording; None while there is none. `frame` counts at rate `clock`."""
    facts = media_facts(data, r.id) if r.ready else None
    made = facts.get("small") if facts else None
    if not made:
        return None
    own = frame * clock.den * r.rate.num // (clock.num * r.rate.den) if r.frames is not None else 0
    sheet, i = divmod(min(own // made["every"], made["count"] - 1), ACROSS * ACROSS)
    y, x = divmod(i, ACROSS)
    w, h = made["width"], made["height"]
    return Small(f"{made.get('name', 'small')}-{sheet}.jpg", x * w, y * h, w, h)


@lru_cache(24)
def _sheet(path: Path, stamp: int) -> npt.NDArray[np.uint8]:
    with Image.open(path) as im:
        return np.asarray(im.convert("RGB"))


def near(data: Data, r: Recording, frame: int, clock: Rate) -> npt.NDArray[np.float64] | None:
    """A picture close to a moment, as large as the proxy has it: the key frame before; the small one while there is no
    proxy."""
    proxy = data.derived(r.id) / "proxy.mp4"
    if r.frames is None or not proxy.is_file():
        return colours(data, r, frame, clock)
    own = frame * clock.den * r.rate.num // (clock.num * r.rate.den)
    try:
        with av.open(str(proxy)) as c:
            s = c.streams.video[0]
            c.seek(int(own / r.rate.fps / (s.time_base or 1)), stream=s)
            return next(c.decode(s)).to_ndarray(format="rgb24").astype(np.float64) / 255
    except (av.FFmpegError, StopIteration):
        return colours(data, r, frame, clock)


def colours(data: Data, r: Recording, frame: int, clock: Rate) -> npt.NDArray[np.float64] | None:
    """The small frame's pixels, coded RGB (height, width, 3), 0..1."""
    s = small_of(data, r, frame, clock)
    if s is None:
        return None
    path = data.derived(r.id) / s.sheet
    try:
        sheet = _sheet(path, path.stat().st_mtime_ns)
    except OSError:
        return None
    return sheet[s.y : s.y + s.height, s.x : s.x + s.width].astype(np.float64) / 255
