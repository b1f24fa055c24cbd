"""Frames by number: the one rule by which proxy and render pick the picture of a tick.

A recording's frame n stands at n / rate after its first picture. Its picture is the last decoded frame stamped no later
than a quarter tick after that: this covers containers that round to milliseconds, and recordings whose rate varies.
"""

import io
import tempfile
from bisect import bisect_right
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import pi_heif
from PIL import Image, ImageCms, ImageOps

from kovel.core.picture.colour import BT709, MATRICES, RGB_MATRIX, UNSPECIFIED, Coding, cube_text, table
from kovel.core.time.rate import Rate
from kovel.media.files import MOST_PIXELS, Unusable, open_media

UNSAID = Coding()


@dataclass(frozen=True, slots=True)
class Filmed:
    """What a stream says of all its pictures: the shape of a pixel (width over height) and how its numbers are
    coded."""

    pixel: Fraction = Fraction(1)
    coding: Coding = UNSAID


STILL = Filmed(coding=Coding(RGB_MATRIX, BT709, BT709, True))


def pictures_of(container: Any) -> Any:
    """The stream of moving pictures of an open container, passing over a cover picture; None if there is none."""
    return next(
        (
            video_stream
            for video_stream in container.streams.video
            if not video_stream.disposition & av.stream.Disposition.attached_pic
        ),
        None,
    )


def filmed(stream: Any) -> Filmed:
    """Read from a stream before anything of it is decoded: then its container's word still stands."""
    context = stream.codec_context
    pixel = Fraction(stream.sample_aspect_ratio or context.sample_aspect_ratio or 1)
    if not Fraction(1, 8) <= pixel <= 8:
        pixel = Fraction(1)
    return Filmed(
        pixel,
        Coding(
            int(context.colorspace),
            int(context.color_primaries),
            int(context.color_trc),
            _full(context.color_range, context.pix_fmt),
        ),
    )


def _full(color_range: int, pix_fmt: str | None) -> bool | None:
    if pix_fmt and pix_fmt.startswith("yuvj"):
        return True
    return {1: False, 2: True}.get(int(color_range))


def coding_of(frame: Any, said: Coding) -> Coding:
    """How a frame is coded: what it says itself, else what its stream said, else the standards' assumption."""
    if frame.format.is_rgb:
        return STILL.coding if said.plain else replace(said, matrix=RGB_MATRIX, full=True)
    full = _full(frame.color_range, frame.format.name)
    own_coding = Coding(
        int(frame.colorspace), int(frame.color_primaries), int(frame.color_trc), said.full if full is None else full
    )
    for name in ("matrix", "primaries", "transfer"):
        if getattr(own_coding, name) == UNSPECIFIED:
            own_coding = replace(own_coding, **{name: getattr(said, name)})
    return own_coding.settled(frame.width, frame.height)


def _is_plain(frame: Any, coding: Coding) -> bool:
    """Whether a frame is coded as everything here is: BT.709, limited range, 8 bit 4:2:0."""
    usual = coding.plain and coding.matrix == BT709 and not coding.full
    return bool(usual and frame.format.name == "yuv420p")


class FrameReader:
    """Exact access to one recording's pictures. Decodes forward; seeks only when a later key frame makes it worth it.

    Interlaced pictures come deinterlaced: one of each two fields, or, where `rate` is the rate of the fields, one of
    each.
    """

    container: Any
    stream: Any

    def __init__(self, path: Path, frame_rate: Rate, threads: int = 0) -> None:
        self.path, self.name = path, path.name
        self.rate, self.threads = frame_rate, threads
        self.container = None
        self._keys: list[int] = []
        self._unit = 1  # of the stream's time stamps, in units of `base`
        self._fields = ""
        self._begun = False
        self._until = -(1 << 62)  # time stamp before which only what others are made from is decoded
        self._frames: Iterator[tuple[int, Any]] = iter(())
        # (time stamp, frame): a frame's own stamp changes once it is handed out and encoded
        self._now: tuple[int, Any] | None = None
        self._next: tuple[int, Any] | None = None
        self._open()
        self.base: Fraction = self.stream.time_base
        if self._now is not None and self._now[1].interlaced_frame:
            step = (self._next[0] - self._now[0]) * self.base if self._next else 1 / frame_rate.fps
            self._fields = "send_field" if frame_rate.fps * step > Fraction(3, 2) else "send_frame"
            self.base, self._unit = self.base / 2, 2
            self._open()
        self.zero = self._now[0] if self._now is not None else 0
        if self._now is None:
            raise Unusable(f"{self.name}: no picture could be read from it.")
        entries = getattr(self.stream, "index_entries", ())
        self._keys = sorted(entry.timestamp * self._unit for entry in entries if entry.is_keyframe)

    def close(self) -> None:
        """Closes the recording."""
        self.container.close()

    def _open(self) -> None:
        """From the file's very beginning."""
        if self.container is not None:
            self.container.close()
        self.container = open_media(self.path)
        self.stream = pictures_of(self.container)
        self.filmed = filmed(self.stream)
        self.stream.thread_type = "AUTO"
        self.stream.codec_context.thread_count = self.threads
        self._restart()

    def _decode(self) -> Iterator[tuple[int, Any]]:
        """Frames with a time stamp; broken packets are stepped over. On the way to a picture far behind a key frame,
        those that no other picture is made from are not decoded."""
        context = self.stream.codec_context
        for packet in self.container.demux(self.stream):
            stamp = packet.pts if packet.pts is not None else packet.dts
            far = stamp is not None and stamp * self._unit < self._until
            if far != (context.skip_frame == "NONREF"):
                context.skip_frame = "NONREF" if far else "DEFAULT"
            try:
                yield from ((frame.pts, frame) for frame in packet.decode() if frame.pts is not None)
            except av.FFmpegError:
                continue

    def _seek(self, stamp: int) -> None:
        self.container.seek(stamp // self._unit, stream=self.stream, backward=True)
        self._restart()

    def _restart(self) -> None:
        self._frames = (
            deinterlaced(self._decode(), self._fields, self.stream.time_base) if self._fields else self._decode()
        )
        self._now = next(self._frames, None)
        self._next = next(self._frames, None)

    def _limit(self, n: int) -> int:
        """The latest time stamp that still belongs to tick n."""
        return self.zero + int((n + Fraction(1, 4)) / self.rate.fps / self.base)

    def _worth_seeking(self, limit: int) -> bool:
        if self._now is None or limit < self._now[0]:
            return True
        if self._keys:
            key_index = bisect_right(self._keys, limit) - 1
            return key_index >= 0 and self._keys[key_index] > self._now[0] + int(Fraction(1, 2) / self.base)
        return limit - self._now[0] > int(2 / self.base)

    def get(self, n: int) -> Any:
        """The `av.VideoFrame` of frame n (the last one, past the end)."""
        limit = self._limit(n)
        if self._worth_seeking(limit):
            self._back_to(limit)
        self._on_to(limit)
        if self._now is not None and self._now[0] < self._until <= limit:  # so long does a picture stand: none left out
            self._back_to(limit, every=True)
            self._on_to(limit)
        if self._now is None:
            raise Unusable(f"{self.name} cannot be read at frame {n}. Check the file, then try again.")
        return self._now[1]

    def _on_to(self, limit: int) -> None:
        while self._next is not None and self._next[0] <= limit:
            self._now, self._next = self._next, next(self._frames, None)

    def near(self, n: int) -> Any:
        """The key frame at or before frame n, as far as the container knows: quick, not exact."""
        self._seek(self._limit(n))
        self._begun = True
        if self._now is None:
            self._open()
        if self._now is None:
            raise Unusable(f"{self.name} cannot be read at frame {n}. Check the file, then try again.")
        return self._now[1]

    def _back_to(self, limit: int, every: bool = False) -> None:
        """To a picture at or before a time stamp. Where a container has no index of key frames (MPEG streams) a seek
        may land behind; then from further back, at last from the beginning."""
        # a deinterlaced picture needs the one before it, so that it is the same however it was come by
        early = 2 * int(1 / self.rate.fps / self.base) if self._fields else 0
        for seconds in (0, 2, 10):
            stamp = limit - early - int(seconds / self.base)
            self._until = -(1 << 62) if every else limit - early - int(1 / self.base)
            self._seek(max(stamp, self.zero))
            if self._now is not None and self._now[0] <= max(limit - early, self.zero):
                return
            if stamp <= self.zero:
                break
        self._until = -(1 << 62)
        self._open()

    def each(self, n: int = 0) -> Iterator[tuple[int, Any]]:
        """(n, frame) for every tick from `n` to the end of the last picture."""
        if n or self._begun:
            self.get(n)
            if self._next is None and self._ended(n):
                return
        self._begun = True
        while self._now is not None:
            if self._next is not None and self._next[0] <= self._limit(n):
                self._now, self._next = self._next, next(self._frames, None)
                continue
            if self._next is None and n > 0 and self._ended(n):
                return
            yield n, self._now[1]
            n += 1

    def _ended(self, n: int) -> bool:
        """Whether tick n lies behind the last picture."""
        if self._now is None:
            return True
        end = self._now[0] + max(self._now[1].duration or 0, int(1 / self.rate.fps / self.base))
        return self._limit(n) >= end - int(Fraction(1, 4) / self.rate.fps / self.base)


def deinterlaced(frames: Iterator[tuple[int, Any]], mode: str, base: Fraction) -> Iterator[tuple[int, Any]]:
    """Whole pictures of interlaced ones by libav's bwdif, the order of the fields as each picture says; what is
    progressive passes. Time stamps come in halves of `base`.

    mode   send_frame: a picture a frame, at its first field;   send_field: one a field
    """
    graph: Any = None
    like: Any = None

    def drained() -> Iterator[tuple[int, Any]]:
        while True:
            try:
                frame = graph.pull()
            except (BlockingIOError, EOFError):
                return
            yield frame.pts, frame

    for pts, whole_frame in frames:
        if graph is None or like != (whole_frame.width, whole_frame.height, whole_frame.format.name):
            if graph is not None:
                graph.push(None)
                yield from drained()
            like = (whole_frame.width, whole_frame.height, whole_frame.format.name)
            graph = linked(
                whole_frame,
                base,
                [("bwdif", f"mode={mode}:parity=auto:deint={'all' if mode == 'send_field' else 'interlaced'}")],
            )
        whole_frame.pts = pts
        graph.push(whole_frame)
        yield from drained()
    if graph is not None:
        graph.push(None)
        yield from drained()


def linked(frame: Any, base: Fraction, steps: Iterable[tuple[str, str]], tags: str = "", fmt: str = "") -> Any:
    """A filter graph of `steps` (name, arguments) for frames like this one, taken for pixel format `fmt` if that is
    said."""
    graph = av.filter.Graph()
    shape = f"video_size={frame.width}x{frame.height}:pix_fmt={fmt or frame.format.name}:pixel_aspect=1/1"
    last_filter = graph.add("buffer", f"{shape}:time_base={base.numerator}/{base.denominator}{tags}")
    for name, args in (*steps, ("buffersink", "")):
        node = graph.add(name, args) if args else graph.add(name)
        last_filter.link_to(node)
        last_filter = node
    graph.configure()
    return graph


def _range(coding: Coding) -> str:
    return "pc" if coding.full else "tv"


def _colour_steps(frame: Any, coding: Coding, name: str) -> tuple[list[tuple[str, str]], str]:
    """The filters that bring colours to BT.709 before they are scaled, and how scaling is to read what it gets."""
    is_yuv = coding.matrix != RGB_MATRIX
    read = f":in_color_matrix={MATRICES[coding.matrix]}:in_range={_range(coding)}" if is_yuv else ""
    if not coding.plain:
        return [("scale", f"flags={EXACT}{read}"), ("format", "gbrp10le"), ("lut3d", "")], ""
    even = not (frame.width % 2 or frame.height % 2)
    if is_yuv and even and name in PLANAR and (coding.matrix != BT709 or coding.full):
        space = f"ispace={SPACES[coding.matrix]}:irange={_range(coding)}:space=bt709:range=tv"
        step = ("colorspace", f"iall=bt709:all=bt709:{space}:fast=1")
        return [step], ":in_color_matrix=bt709:in_range=tv"
    return [], read


class Fit:
    """Brings frames of any size, turn, shape and coding to w x h yuv420p, BT.709 in limited range, letterboxed in
    black.

    A filter graph kept open; a frame that is like that already passes untouched.
    """

    def __init__(self, width: int, height: int, of: Filmed = STILL, *, pad: bool = True, quick: bool = False) -> None:
        self.size = (width, height)
        self.of = of
        self.pad = pad
        self.flags = "bilinear" if quick else "bicubic"
        self._key: Any = None
        self._graph: Any = None

    def __call__(self, frame: Any) -> Any:
        rotation = int(getattr(frame, "rotation", 0) or 0) % 360
        graph_key = (frame.width, frame.height, frame.format.name, rotation, coding_of(frame, self.of.coding))
        if graph_key != self._key:
            self._key, self._graph = graph_key, self._build(frame, rotation, graph_key[-1])
        if self._graph is None:
            return frame
        self._graph.push(frame)
        return self._graph.pull()

    def _build(self, frame: Any, rotation: int, coding: Coding) -> Any:
        """The open filter graph for frames like this one; None where they pass as they are."""
        w, h = self.size
        fw, fh = fitted(frame, rotation, self.of.pixel, self.size) if self.pad else self.size
        as_shown = (frame.height, frame.width) if rotation in (90, 270) else (frame.width, frame.height)
        if (fw, fh) == (w, h) == as_shown and _is_plain(frame, coding) and not rotation:
            return None
        name = frame.format.name.replace("yuvj", "yuv")  # what "j" says is said by the range
        colours, read = _colour_steps(frame, coding, name)
        flags = self.flags if name in PLANAR and coding.plain else EXACT
        steps = [
            *TURNS.get(rotation, ()),
            *colours,
            ("scale", f"{fw}:{fh}:flags={flags}{read}:out_color_matrix=bt709:out_range=tv"),
            ("format", "yuv420p"),
            ("setsar", "1"),
        ]
        if (fw, fh) != (w, h):
            steps.append(("pad", f"{w}:{h}:{(w - fw) // 4 * 2}:{(h - fh) // 4 * 2}:black"))
        declared = ""
        if coding.matrix != RGB_MATRIX:
            declared = f":colorspace={SPACES[coding.matrix]}:range={_range(coding)}"
        if coding.plain:
            return linked(frame, Fraction(1, 1000), steps, declared, name)
        with tempfile.TemporaryDirectory(prefix="kovel-") as folder:  # libav reads the table once, from a file
            file = Path(folder) / "table.cube"
            file.write_text(cube_text(table(coding)))
            steps[steps.index(("lut3d", ""))] = ("lut3d", f"file={file}:interp=tetrahedral")
            return linked(frame, Fraction(1, 1000), steps, declared, name)


TURNS = {90: [("transpose", "cclock")], 270: [("transpose", "clock")], 180: [("hflip", ""), ("vflip", "")]}
EXACT = "bicubic+accurate_rnd+full_chroma_int"
PLANAR = {f"yuv{x}p{depth}" for x in (420, 422, 444) for depth in ("", "10le", "12le")}  # what `colorspace` takes
SPACES = {1: "bt709", 4: "fcc", 5: "bt470bg", 6: "smpte170m", 7: "smpte240m", 9: "bt2020nc", 10: "bt2020nc"}


def tag_bt709(context: Any) -> None:
    """What an encoder of Kovel's writes is BT.709 in limited range, and says so."""
    context.color_primaries = context.color_trc = context.colorspace = 1
    context.color_range = 1


def rgb_of(frame: Any) -> np.ndarray:
    """A yuv444p frame in BT.709, limited range, as uint8 RGB (height, width, 3), rounded (libav's quick way cuts
    off)."""
    planes: list[Any] = [
        np.frombuffer(plane, np.uint8).reshape(plane.height, plane.line_size)[:, : plane.width].astype(np.float32)
        for plane in frame.planes
    ]
    y, u, v = (planes[0] - 16) / 219, (planes[1] - 128) / 224, (planes[2] - 128) / 224
    r, b = y + 1.5748 * v, y + 1.8556 * u
    g = (y - 0.2126 * r - 0.0722 * b) / 0.7152
    return np.clip(np.stack([r, g, b], -1) * 255 + 0.5, 0, 255).astype(np.uint8)


def fitted(frame: Any, rotation: int, pixel: Fraction, size: tuple[int, int]) -> tuple[int, int]:
    """The largest even width and height of the picture's true shape within `size`."""
    w, h = size
    ratio = Fraction(frame.width) * pixel / frame.height
    if rotation in (90, 270):
        ratio = 1 / ratio
    fw, fh = (w, round(w / ratio)) if ratio * h > w else (round(h * ratio), h)
    return max(2, min(w, (fw + 1) // 2 * 2)), max(2, min(h, (fh + 1) // 2 * 2))


def open_still(path: Path) -> Any:
    """A still picture, not yet read, with Pillow: its kinds, and HEIF by libheif. Refuses more than 100 million
    pixels."""
    pi_heif.register_heif_opener()
    Image.MAX_IMAGE_PIXELS = MOST_PIXELS
    im = Image.open(path)
    if im.width * im.height > MOST_PIXELS:  # Pillow itself refuses from twice as many on
        im.close()
        raise Unusable(f"{path.name} is too large: {im.width} by {im.height}.")
    return im


def still_frame(path: Path) -> Any:
    """A still picture as a video frame: upright, 8 bit, in sRGB by its own colour profile, on black where
    transparent."""
    with open_still(path) as im:
        profile = im.info.get("icc_profile")
        im = _eight_bit(ImageOps.exif_transpose(im))
        clear = im.convert("RGBA").getchannel("A") if im.has_transparency_data else None
        rgb = _in_srgb(im, profile)
    if clear is not None:
        rgb = Image.composite(rgb, Image.new("RGB", rgb.size), clear)
    return av.VideoFrame.from_ndarray(np.asarray(rgb), format="rgb24")


def _eight_bit(im: Any) -> Any:
    """Pictures of 16 bits a value, which Pillow would cut off at 255, or of real numbers, by their full scale."""
    if not (im.mode.startswith("I") or im.mode == "F"):
        return im
    pixels = np.asarray(im, np.float64)
    top = (
        65535 if im.mode.startswith("I") and pixels.max(initial=0) <= 65535 else max(1.0, float(pixels.max(initial=0)))
    )
    return Image.fromarray(np.clip(pixels * 255 / top + 0.5, 0, 255).astype(np.uint8))


def _in_srgb(im: Any, profile: bytes | None) -> Any:
    if profile and im.mode in ("RGB", "RGBA", "CMYK", "L"):
        try:
            own_profile = ImageCms.ImageCmsProfile(io.BytesIO(profile))
            flat = im.convert("RGB") if im.mode == "RGBA" else im
            return ImageCms.profileToProfile(flat, own_profile, ImageCms.createProfile("sRGB"), outputMode="RGB")
        except (ImageCms.PyCMSError, OSError, ValueError):
            pass  # a broken profile says nothing
    return im.convert("RGB")
