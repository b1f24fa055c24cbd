"""What Kovel makes of each recording, in steps that can be done apart: sound, first looks, pieces of the picture, and
the whole.

begun.json   what is known from the start: rate, picture, sound, frames (as far as known), channels
look.json    which small frames there are before the picture is made: 100, spread over the recording, on look-0.jpg
picture.json the facts of the pictures, once they are put together
media.json   the facts a player needs, once everything is made; the pieces are gone then (see proxy.py, soundtrack.py)
"""

import base64
import hashlib
import io
import json
import shutil
from collections.abc import Callable, Iterator, Sequence
from itertools import chain
from pathlib import Path
from typing import Any

import av
import numpy as np
from PIL import Image

from kovel.core.picture.shots import MotionMaker
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.media.files import Unusable, kind_of
from kovel.media.own_pictures import make_index
from kovel.media.pieces import (
    Piece,
    frames_found,
    make_pieces,
    missing,
    pieces_of,
    place,
    read_piece,
    small_every,
)
from kovel.media.proxy import GOP, SHEET, byte_stream, parameter_sets, small_size
from kovel.media.reader import Fit, FrameReader, rgb_of
from kovel.media.soundtrack import clear_tries, make_sound
from kovel.media.whole_files import keep, written_whole
from kovel.media.wholeness import short_picture, sound_made, take_apart

LOOKS = 100
Progress = Callable[[float], None]


def derive(
    path: str,
    out: str,
    rate: list[int],
    picture: bool,
    sound: bool,
    frames: int | None,
    progress: Progress,
    heard: Sequence[int] = (),
    own: int = 0,
) -> dict[str, Any]:
    """Make everything for one recording in folder `out` that is not there yet; its checksum and exact count of frames.

    media.json comes last, so a half-made folder is never taken for a whole one. What is whole is not made again.
    """
    folder = Path(out)
    folder.mkdir(parents=True, exist_ok=True)
    if (folder / "media.json").exists():
        told_facts = finish(path, out, rate, picture, sound, frames, progress, own)
        if "short" not in told_facts:
            return told_facts
    share = 0.2 if picture else 0.9
    if own and not (folder / "own.json").exists():
        make_index(path, out, rate, own, lambda x: None)
    if sound:
        make_sound(path, out, rate, picture, frames, lambda x: progress(x * share), heard)
    if picture and not (folder / "picture.json").exists():
        for first, last in missing(folder, frames or 1, bool(own)):
            make_pieces(
                path, out, rate, frames or 1, first, last, lambda x: progress(share + x * (0.95 - share)), own=bool(own)
            )
    return finish(path, out, rate, picture, sound, frames, progress, own)


def finish(
    path: str,
    out: str,
    rate: list[int],
    picture: bool,
    sound: bool,
    frames: int | None,
    progress: Progress,
    own: int = 0,
) -> dict[str, Any]:
    """The whole of a recording whose sound and pieces are made; its checksum and exact count of frames.

    What is short of what it should be is taken apart, to be made again, and told as `short`: then nothing is
    finished. A recording that is finished already is only looked through.
    """
    src, folder, r = Path(path), Path(out), Rate(*rate)
    if (folder / "media.json").exists():
        if short := take_apart(folder):
            return {"short": short}
        return {"checksum": checksum(src), "frames": json.loads((folder / "media.json").read_text())["frames"]}
    facts: dict[str, Any] = {"rate": rate, "picture": picture, "sound": sound}
    if picture:
        still = kind_of(src) == "still"
        if not (folder / "picture.json").exists():
            keep(folder / "picture.json", _joined(folder, r, frames or 1, own))
        facts |= json.loads((folder / "picture.json").read_text())
        frames = None if still else facts["frames"]
    if sound:
        made_samples = sound_made(folder)
        if made_samples is None:
            (folder / "sound.json").unlink(missing_ok=True)
            return {"short": "its sound was not whole"}
        facts |= made_samples
        if not picture:
            frames = max(1, int(facts["samples"] * r.fps / SAMPLE_RATE))
    facts["frames"] = frames
    if picture and (short := short_picture(folder, facts)):
        (folder / "picture.json").unlink(missing_ok=True)
        shutil.rmtree(folder / "pieces", ignore_errors=True)
        return {"short": short}
    sum_ = checksum(src)
    keep(folder / "media.json", facts)
    for name in ("sound.json", "picture.json", "begun.json", "look.json", "look-0.jpg", "look-0.singles"):
        (folder / name).unlink(missing_ok=True)
    shutil.rmtree(folder / "pieces", ignore_errors=True)
    clear_tries(folder)
    return {"checksum": sum_, "frames": frames}


def checksum(path: Path) -> str:
    """SHA-256 of the whole file; `OSError` if it cannot be read."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def make_look(path: str, out: str, rate: list[int], frames: int, progress: Progress) -> dict[str, Any]:
    """Small frames spread over a recording, by key frames alone, so that there is something to see at once."""
    src, folder = Path(path), Path(out)
    folder.mkdir(parents=True, exist_ok=True)
    reader = FrameReader(src, Rate(*rate))
    sheets = None
    every = max(1, -(-frames // LOOKS))
    for look_index in range(LOOKS):
        if look_index * every >= frames:
            break
        frame = reader.near(look_index * every)
        if sheets is None:
            fit = Fit(*small_size((frame.width, frame.height)), reader.filmed, pad=False, quick=True)
            sheets = Sheets(folder, fit.size, "look")
        sheets.add(rgb_of(fit(frame).reformat(format="yuv444p")))
        progress(min(0.99, look_index / LOOKS))
    reader.close()
    if sheets is None:
        raise Unusable(f"{src.name}: no picture could be read from it.")
    sheets.close()
    look_facts = {"small": sheets.facts(every)}
    keep(folder / "look.json", look_facts)
    return look_facts


class Sheets:
    """Small frames on sheets of ten by ten, as NAME-0.jpg, NAME-1.jpg ...; beside each, NAME-0.singles, the same one
    by one: the bytes of each (uint32 LE), 100 of them, then the JPEGs end to end."""

    def __init__(self, folder: Path, size: tuple[int, int], name: str = "small") -> None:
        self.folder, self.size, self.name, self.count = folder, size, name, 0
        self._sheet = Image.new("RGB", (size[0] * 10, size[1] * 10))
        self._singles: list[bytes] = []

    def add(self, rgb: np.ndarray) -> None:
        """One more small frame (height, width, 3)."""
        y, column = divmod(self.count % SHEET, 10)
        image = Image.fromarray(rgb)
        self._sheet.paste(image, (column * self.size[0], y * self.size[1]))
        single = io.BytesIO()
        image.save(single, "JPEG", quality=88, subsampling=0)
        self._singles.append(single.getvalue())
        self.count += 1
        if self.count % SHEET == 0:
            self._save()

    def close(self) -> None:
        """Writes the last sheet."""
        if self.count % SHEET:
            self._save()

    def _save(self) -> None:
        n = (self.count - 1) // SHEET
        with written_whole(self.folder / f"{self.name}-{n}.jpg") as part_file:
            self._sheet.save(part_file, "JPEG", quality=88, subsampling=0)
        sizes = [len(single) for single in self._singles] + [0] * (SHEET - len(self._singles))
        with written_whole(self.folder / f"{self.name}-{n}.singles") as part_file:
            part_file.write_bytes(np.array(sizes, "<u4").tobytes() + b"".join(self._singles))
        self._singles = []

    def facts(self, every: int) -> dict[str, Any]:
        """What the page needs to find a frame on its sheet; one every so many frames."""
        return {"every": every, "count": self.count, "width": self.size[0], "height": self.size[1], "name": self.name}


def _proxy(folder: Path, frame_rate: Rate, pieces: Iterator[Piece]) -> dict[str, Any]:
    """proxy.mp4 and proxy.idx of pieces in their order, without coding anew; what a player needs to know of them."""
    with written_whole(folder / "proxy.mp4") as part_file:
        facts, sizes = _muxed(part_file, frame_rate, pieces)
    with written_whole(folder / "proxy.idx") as part_file:
        part_file.write_bytes(np.array(sizes, "<u4").tobytes())
    return facts


def _muxed(path: Path, frame_rate: Rate, pieces: Iterator[Piece]) -> tuple[dict[str, Any], list[int]]:
    """Pieces as one MP4 at `path`; what a player needs to know of it, and the bytes of each packet. `Unusable` where
    it is damaged."""
    sizes: list[int] = []
    first = next(pieces)
    sample = io.BytesIO(parameter_sets(first.setup) + b"".join(map(byte_stream, first.packets[:GOP])))
    with av.open(sample, format="h264") as like, av.open(str(path), "w", format="mp4") as muxed_file:
        video_stream: Any = muxed_file.add_stream_from_template(like.streams.video[0])
        video_stream.time_base = 1 / frame_rate.fps
        for piece in chain([first], pieces):
            if piece.setup != first.setup:
                raise Unusable("The pieces of the proxy do not fit each other. Try again.")
            for data in piece.packets:
                packet = av.Packet(byte_stream(data))
                packet.stream, packet.time_base = video_stream, 1 / frame_rate.fps
                packet.pts = packet.dts = len(sizes)
                packet.duration = 1
                packet.is_keyframe = len(sizes) % GOP == 0
                muxed_file.mux(packet)
                sizes.append(len(data))
    with av.open(str(path)) as container:
        video = container.streams.video[0]
        found_packets = [
            (packet.pos or 0, packet.size, packet.is_keyframe) for packet in container.demux(video) if packet.size
        ]
    ends = found_packets[0][0] + np.cumsum(np.array(sizes, np.int64))
    whole = len(found_packets) == len(sizes) and all(
        packet[0] == end for packet, end in zip(found_packets[1:], ends, strict=False)
    )
    if not whole or not all(key_packet[2] for key_packet in found_packets[::GOP]):
        raise Unusable("The proxy came out damaged. Try again; if it happens twice, the disk may be full.")
    setup = first.setup
    facts = {
        "frames": len(sizes),
        "width": first.width,
        "height": first.height,
        "gop": GOP,
        "first": found_packets[0][0],
        "codec": f"avc1.{setup[1]:02x}{setup[2]:02x}{setup[3]:02x}",
        "avcc": base64.b64encode(setup).decode(),
    }
    return facts, sizes


def _joined(folder: Path, frame_rate: Rate, frames: int, own: int) -> dict[str, Any]:
    found_frames = frames_found(folder)
    if found_frames is None or missing(folder, frames, bool(own)):
        raise Unusable("Pieces of its picture are missing. Try again.")
    if not found_frames:
        raise Unusable("No picture could be read from it. Check that it plays, then try again.")
    numbers = range(pieces_of(found_frames))
    if own:
        facts = {**json.loads((folder / "own.json").read_text()), "own": own}
    else:
        facts = _proxy(folder, frame_rate, (read_piece(place(folder, number).read_bytes()) for number in numbers))
    greys, motion, sheets, before = [], [], None, None
    for number in numbers:
        with np.load(place(folder, number).with_suffix(".npz")) as side:
            greys.append(side["greys"])
            motion_rows, (first, last) = side["motion"], side["ends"]
            if before is not None:  # how it moved from the last frame of the piece before
                seam = MotionMaker()
                seam.feed(before)
                seam.feed(first)
                motion_rows[0] = seam.last
            motion.append(motion_rows)
            before = last
            for tile in side["small"]:
                if sheets is None:
                    sheets = Sheets(folder, (tile.shape[1], tile.shape[0]))
                sheets.add(tile)
    for name, measured in (("greys", np.concatenate(greys)), ("motion", np.concatenate(motion))):
        with written_whole(folder / f"{name}.npy") as part_file, part_file.open("wb") as file:
            np.save(file, measured)
        facts["measured"] = len(measured)
    if sheets:
        sheets.close()
        facts["small"] = sheets.facts(small_every(frame_rate, frames))
    return facts
