"""A recording's pictures for the page, made piece by piece: each piece stands alone and is named whole only when it is.

frames      |0 ........ 47|48 ........ 95|96 ...
pieces/     0.kvp 0.npz    1.kvp 1.npz    2.kvp ...       48 frames each, the last one shorter
            ^ first frame of each a key frame, and every 12th after it

K.kvp        "KVPP", width, height, bytes of the decoder's set-up, count of frames (uint32 LE); the set-up (avcC); a
             uint32 a frame: its packet's size; the packets (H.264, no B-frames), end to end
K.npz        of each frame: `greys` (9 x 16, uint8) and `motion` (core.picture.shots, but for the first frame's);
             `small`: its small frames; `ends`: its first and last frame at 64 x 36, grey
end.json     how many frames there are, once one piece met the end of the recording

A recording whose own pictures are shown (media/own_pictures.py) has no K.kvp: its pieces are what stands beside the
pictures.
"""

import json
import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import av
import numpy as np

from kovel.core.picture.shots import HIGH, MotionMaker
from kovel.core.picture.shots import WIDE as GREY_WIDE
from kovel.core.time.rate import Rate
from kovel.media.files import kind_of, spare
from kovel.media.proxy import GOP, decoder_setup, encoder, length_prefixed, proxy_size, small_size
from kovel.media.reader import STILL, Filmed, Fit, FrameReader, rgb_of, still_frame
from kovel.media.whole_files import keep, written_whole

PIECE = 4 * GOP
MAGIC = b"KVPP"
Progress = Callable[[float], None]


@dataclass(frozen=True, slots=True)
class Piece:
    """What a piece's file holds: size of the picture, the decoder's set-up, its packets in order."""

    width: int
    height: int
    setup: bytes
    packets: tuple[bytes, ...]

    def to_bytes(self) -> bytes:
        """As it lies on disk and goes to the page."""
        sizes = [len(packet) for packet in self.packets]
        head = struct.pack(f"<4I{len(sizes)}I", self.width, self.height, len(self.setup), len(sizes), *sizes)
        return MAGIC + head[:16] + self.setup + head[16:] + b"".join(self.packets)


def read_piece(data: bytes) -> Piece:
    """The piece in a file's bytes; `ValueError` if it is none."""
    if data[:4] != MAGIC:
        raise ValueError("no piece")
    width, height, setup, count = struct.unpack_from("<4I", data, 4)
    at = 20 + setup
    sizes = struct.unpack_from(f"<{count}I", data, at)
    at += 4 * count
    packets = []
    for size in sizes:
        packets.append(data[at : at + size])
        at += size
    return Piece(width, height, data[20 : 20 + setup], tuple(packets))


def place(folder: Path, k: int) -> Path:
    return folder / "pieces" / f"{k}.kvp"


def frames_found(folder: Path) -> int | None:
    """How many frames the recording has, once that is known."""
    try:
        return int(json.loads((folder / "pieces" / "end.json").read_text())["frames"])
    except (OSError, ValueError, KeyError):
        return None


def pieces_of(frames: int) -> int:
    return -(-frames // PIECE)


def is_made(folder: Path, k: int, own: bool = False) -> bool:
    return (place(folder, k).with_suffix(".npz") if own else place(folder, k)).exists()


def there(folder: Path, own: bool = False) -> set[int]:
    """Which pieces are made."""
    try:
        return {int(path.stem) for path in (folder / "pieces").iterdir() if path.suffix == (".npz" if own else ".kvp")}
    except OSError:
        return set()


def missing(folder: Path, frames: int, own: bool = False) -> list[tuple[int, int | None]]:
    """Runs of pieces that are to be made still, [first, last); last None: to the end, wherever that is.

    `frames` is how many the recording is thought to have.
    """
    found_frames = frames_found(folder)
    total = pieces_of(frames if found_frames is None else found_frames)
    have = there(folder, own)
    runs: list[tuple[int, int | None]] = []
    for piece_number in range(total):
        if piece_number in have:
            continue
        if runs and runs[-1][1] == piece_number:
            runs[-1] = (runs[-1][0], piece_number + 1)
        else:
            runs.append((piece_number, piece_number + 1))
    if found_frames is not None:
        return runs
    if runs and runs[-1][1] == total:
        runs[-1] = (runs[-1][0], None)
    else:
        runs.append((total, None))
    return runs


def make_pieces(
    path: str,
    out: str,
    rate: list[int],
    frames: int,
    first: int,
    last: int | None,
    progress: Progress,
    threads: int = 0,
    own: bool = False,
) -> dict[str, int]:
    """Make the pieces [first, last) of a recording's pictures that are not there yet; how many were made."""
    if kind_of(Path(path)) == "still":
        _one(Path(path), Path(out))
        return {"made": 1}
    maker = Maker(Path(path), Path(out), Rate(*rate), frames, threads, own)
    pieces_made = 0
    try:
        for piece_number in maker.run(first, last):
            pieces_made += 1
            progress(min(0.99, (piece_number + 1 - first) / max(1, (last or pieces_of(frames)) - first)))
    finally:
        maker.close()
    return {"made": pieces_made}


def _one(source_file: Path, folder: Path) -> None:
    """A still picture as one piece of one frame."""
    frame = still_frame(source_file)
    (folder / "pieces").mkdir(parents=True, exist_ok=True)
    making = _Encoding(folder, frame, STILL, Rate(25), 1)
    motion = MotionMaker()
    motion.feed(making.grey(frame))
    making.add(0, frame, motion.last)
    making.finish()
    list(making.whole(rest=True))
    keep(folder / "pieces" / "end.json", {"frames": 1})


class Maker:
    """Makes pieces of one recording, wherever in it: its reader stays where the last piece ended."""

    def __init__(
        self, source_file: Path, folder: Path, frame_rate: Rate, frames: int, threads: int = 0, own: bool = False
    ) -> None:
        self.reader = FrameReader(source_file, frame_rate, threads)
        self.folder, self.rate, self.threads, self.own = folder, frame_rate, threads, own
        self.every = small_every(frame_rate, frames)
        (folder / "pieces").mkdir(parents=True, exist_ok=True)

    def close(self) -> None:
        """Closes the recording."""
        self.reader.close()

    def run(self, first: int, last: int | None) -> Iterator[int]:
        """Numbers of pieces of [first, last) as they are made; those that are there are passed over."""
        piece_number = first
        while last is None or piece_number < last:
            if is_made(self.folder, piece_number, self.own):
                piece_number += 1
                continue
            found_frames = frames_found(self.folder)
            if found_frames is not None and piece_number * PIECE >= found_frames:
                return
            done = None
            for done in self._stretch(piece_number, last):
                yield done
            if done is None:  # behind the end
                return
            piece_number = done + 1

    def _stretch(self, first: int, last: int | None) -> Iterator[int]:
        """Pieces from `first` on, by one encoder, up to one that is there already, to `last`, or to the end."""
        making: _Encoding | None = None
        motion = MotionMaker()
        begin = first * PIECE
        spare(self.folder)
        for n, frame in self.reader.each(begin):
            if making is None:
                making = _Encoding(
                    self.folder, frame, self.reader.filmed, self.rate, self.every, first, self.threads, self.own
                )
            if n % PIECE == 0 and n > begin:
                spare(self.folder)
                piece_number = n // PIECE
                if (last is not None and piece_number >= last) or is_made(self.folder, piece_number, self.own):
                    break
            motion.feed(making.grey(frame))
            making.add(n, frame, motion.last)
            yield from making.whole()
        else:
            if making is not None:
                keep(self.folder / "pieces" / "end.json", {"frames": making.count})
        if making is not None:
            making.finish()
            yield from making.whole(rest=True)


class _Encoding:
    """One encoder (none where a recording's own pictures are shown) and what is noted beside its frames, handed over
    piece by piece."""

    def __init__(
        self,
        folder: Path,
        frame: Any,
        of: Filmed,
        frame_rate: Rate,
        every: int,
        first: int = 0,
        threads: int = 0,
        own: bool = False,
    ) -> None:
        size = proxy_size(frame, of.pixel)
        self.folder, self.rate, self.every, self.size, self.next = folder, frame_rate, every, size, first
        self.count = first * PIECE  # frames up to where it is
        self.codec = None if own else encoder(size, frame_rate, threads)
        self.setup = decoder_setup(bytes(self.codec.extradata)) if self.codec else b""
        self.fit = Fit(*size, of, pad=False, quick=True)
        self.small = small_size(size)
        self.packets: list[bytes] = []
        self.greys: list[np.ndarray] = []
        self.wide: list[np.ndarray] = []  # the same, as motion is measured on
        self.motion: list[tuple[float, float, float, float]] = []
        self.tiles: dict[int, np.ndarray] = {}
        self._grey = av.video.reformatter.VideoReformatter()
        self._last: tuple[Any, Any, Any] = (None, None, None)

    def grey(self, frame: Any) -> np.ndarray:
        """The frame very small and grey; fitted for the encoder on the way."""
        if self._last[0] is not frame:
            fitted = self.fit(frame)
            self._last = (frame, fitted, self._grey.reformat(fitted, GREY_WIDE, HIGH, "gray8").to_ndarray())
        grey: np.ndarray = self._last[2]
        return grey

    def add(self, n: int, frame: Any, motion: tuple[float, float, float, float]) -> None:
        """Frame n, with how it differs from the one before."""
        grey, frame_before = self.grey(frame), self._last[1]
        self.wide.append(grey)
        self.greys.append(grey.reshape(HIGH // 4, 4, GREY_WIDE // 4, 4).mean((1, 3)).astype(np.uint8))
        self.motion.append(motion)
        if n % self.every == 0:
            self.tiles[n] = rgb_of(frame_before.reformat(*self.small, "yuv444p", interpolation="BILINEAR"))
        self.count = n + 1
        if self.codec is None:
            self.packets.append(b"")
            return
        frame_before.pts, frame_before.time_base, frame_before.pict_type = n, 1 / self.rate.fps, 0
        self.packets += [length_prefixed(bytes(packet)) for packet in self.codec.encode(frame_before)]

    def finish(self) -> None:
        """Takes what is left in the encoder."""
        if self.codec:
            self.packets += [length_prefixed(bytes(packet)) for packet in self.codec.encode(None)]

    def whole(self, rest: bool = False) -> Iterator[int]:
        """Numbers of the pieces that are complete (with `rest`: also a last, shorter one), kept on disk."""
        while len(self.packets) >= PIECE or (rest and self.packets):
            piece_number, n = self.next, min(PIECE, len(self.packets))
            folder = self.folder
            tiles = [
                self.tiles.pop(frame_index)
                for frame_index in range(piece_number * PIECE, piece_number * PIECE + n)
                if frame_index in self.tiles
            ]
            if not is_made(folder, piece_number, self.codec is None):  # another one may have been quicker
                self._keep(piece_number, n, tiles)
            del self.packets[:n], self.greys[:n], self.wide[:n], self.motion[:n]
            self.next = piece_number + 1
            yield piece_number

    def _keep(self, k: int, n: int, tiles: list[np.ndarray]) -> None:
        """Piece k, of n frames, on disk: what is noted beside its pictures first, for the pictures say that it is
        there."""
        small = np.array(tiles, np.uint8).reshape(-1, self.small[1], self.small[0], 3)
        with written_whole(self.folder / "pieces" / f"{k}.npz") as part_file, part_file.open("wb") as file:
            np.savez(
                file,
                greys=np.array(self.greys[:n], np.uint8),
                motion=np.array(self.motion[:n], np.float16),
                ends=np.array([self.wide[0], self.wide[n - 1]]),
                small=small,
            )
        if self.codec:
            with written_whole(place(self.folder, k)) as part_file:
                part_file.write_bytes(Piece(*self.size, self.setup, tuple(self.packets[:n])).to_bytes())


def small_every(frame_rate: Rate, frames: int) -> int:
    """Frames between two small frames: a second, or in long recordings four."""
    return max(1, round(frame_rate.fps * (1 if frames / frame_rate.fps < 900 else 4)))
