"""Small frames of recordings: where the one nearest to a moment lies, and its colours."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import zip_longest
from pathlib import Path

import av
import numpy as np
import numpy.typing as npt
from PIL import Image

from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder, media_facts
from kovel.media.child import call
from kovel.media.files import Unusable
from kovel.services.footage.intake import file_of
from kovel.store.recordings import Recording

Rgb = npt.NDArray[np.float64]
ACROSS = 10  # small frames a row of a sheet, and rows a sheet


@dataclass(frozen=True, slots=True)
class Small:
    """One small frame: its sheet's name without suffix, which of its frames it is, and its size in pixels."""

    sheet: str
    number: int
    width: int
    height: int

    @property
    def box(self) -> tuple[int, int, int, int]:
        """Where it stands on its sheet: left, top, right, bottom."""
        y, column = divmod(self.number, ACROSS)
        return column * self.width, y * self.height, (column + 1) * self.width, (y + 1) * self.height


def _own(recording: Recording, frame: int, clock: Rate) -> int:
    """A frame of clock `clock` in the recording's own frames."""
    return frame * clock.den * recording.rate.num // (clock.num * recording.rate.den)


def small_of(data_folder: DataFolder, recording: Recording, frame: int, clock: Rate) -> Small | None:
    """The small frame nearest to a moment of a recording; None while there is none. `frame` counts at rate `clock`."""
    facts = media_facts(data_folder, recording.id) if recording.ready else None
    small_facts = facts.get("small") if facts else None
    if not small_facts:
        return None
    own_frame = _own(recording, frame, clock) if recording.frames is not None else 0
    sheet, face_index = divmod(min(own_frame // small_facts["every"], small_facts["count"] - 1), ACROSS * ACROSS)
    return Small(f"{small_facts.get('name', 'small')}-{sheet}", face_index, small_facts["width"], small_facts["height"])


def small_alone(data_folder: DataFolder, recording: int, sheet: str, number: int) -> bytes | None:
    """A small frame as a JPEG of its own: a page that shows one of a recording need not hold a hundred. None where
    it is not."""
    try:
        with (data_folder.derived(recording) / f"{sheet}.singles").open("rb") as file:
            sizes = np.frombuffer(file.read(4 * ACROSS * ACROSS), "<u4")
            file.seek(int(sizes[:number].sum()), io.SEEK_CUR)
            return file.read(int(sizes[number])) or None
    except (OSError, IndexError):  # made before there were any: cut out of the sheet
        pass
    facts = media_facts(data_folder, recording) or {}
    path = data_folder.derived(recording) / f"{sheet}.jpg"
    try:
        small_frame = Small(sheet, number, facts["small"]["width"], facts["small"]["height"])
        return _alone(path, path.stat().st_mtime_ns, small_frame.box)
    except (OSError, KeyError):
        return None


@lru_cache(4096)
def _alone(path: Path, stamp: int, box: tuple[int, int, int, int]) -> bytes:
    box_left, y, right, bottom = box
    jpeg_bytes = io.BytesIO()
    Image.fromarray(_sheet(path, stamp)[y:bottom, box_left:right]).save(jpeg_bytes, "JPEG", quality=90, subsampling=0)
    return jpeg_bytes.getvalue()


@lru_cache(8)
def _sheet(path: Path, stamp: int) -> npt.NDArray[np.uint8]:
    with Image.open(path) as im:
        return np.asarray(im.convert("RGB"))


def near(data_folder: DataFolder, recording: Recording, moments: Sequence[int], clock: Rate) -> list[Rgb | None]:
    """Pictures close to these moments, as large as the page has them: of the key frames before; the small ones where
    there are none."""
    owns = [] if recording.frames is None else [_own(recording, moment, clock) for moment in moments]
    frames_made = (
        _of_itself(data_folder, recording, owns)
        if (media_facts(data_folder, recording.id) or {}).get("own")
        else _of_proxy(data_folder.derived(recording.id) / "proxy.mp4", recording, owns)
    )
    return [
        found_frame if found_frame is not None else colours(data_folder, recording, n, clock)
        for n, found_frame in zip_longest(moments, frames_made)
    ]


def _of_itself(data_folder: DataFolder, recording: Recording, frames: Sequence[int]) -> list[Rgb | None]:
    with tempfile.TemporaryDirectory(prefix="kovel-") as frames_folder:
        params = {
            "path": str(file_of(data_folder, recording)),
            "out": frames_folder,
            "rate": [recording.rate.num, recording.rate.den],
            "frames": frames,
        }
        try:
            return [_rgb(Path(view_path)) for view_path in call("views", params)["paths"]]
        except Unusable:
            return []


def _of_proxy(proxy: Path, recording: Recording, frames: Sequence[int]) -> list[Rgb | None]:
    proxy_frames: list[Rgb | None] = []
    try:
        with av.open(str(proxy)) as container:
            video = container.streams.video[0]
            for frame in frames:
                container.seek(int(frame / recording.rate.fps / (video.time_base or 1)), stream=video)
                proxy_frames.append(next(container.decode(video)).to_ndarray(format="rgb24").astype(np.float64) / 255)
    except (OSError, av.FFmpegError, StopIteration):
        pass
    return proxy_frames


def _rgb(path: Path) -> Rgb:
    with Image.open(path) as im:
        return np.asarray(im.convert("RGB"), np.float64) / 255


def colours(data_folder: DataFolder, recording: Recording, frame: int, clock: Rate) -> Rgb | None:
    """The small frame's pixels, coded RGB (height, width, 3), 0..1."""
    small = small_of(data_folder, recording, frame, clock)
    if small is None:
        return None
    path = data_folder.derived(recording.id) / f"{small.sheet}.jpg"
    try:
        sheet = _sheet(path, path.stat().st_mtime_ns)
    except OSError:
        return None
    box_left, y, right, bottom = small.box
    return sheet[y:bottom, box_left:right].astype(np.float64) / 255
