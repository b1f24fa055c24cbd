"""Frames by number: the one rule by which proxy and render pick the picture of a tick.

A recording's frame n stands at n / rate after its first picture. Its picture is the last decoded frame stamped no later
than a quarter tick after that: this covers containers that round to milliseconds, and recordings whose rate varies.
"""

from bisect import bisect_right
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from PIL import Image, ImageOps

from kovel.core.rate import Rate
from kovel.media.files import Unusable, open_media


class FrameReader:
    """Exact access to one recording's pictures. Decodes forward; seeks only when a later key frame makes it worth it."""

    def __init__(self, path: Path, rate: Rate, threads: int = 0) -> None:
        self.container = open_media(path)
        self.name = path.name
        self.stream = next(s for s in self.container.streams.video if not s.disposition & av.stream.Disposition.attached_pic)
        self.stream.thread_type = "AUTO"
        self.stream.codec_context.thread_count = threads
        self.rate = rate
        self.base = self.stream.time_base
        self._frames: Iterator[tuple[int, Any]] = iter(())
        # (time stamp, frame): a frame's own stamp changes once it is handed out and encoded
        self._now: tuple[int, Any] | None = None
        self._next: tuple[int, Any] | None = None
        self._restart()
        self.zero = self._now[0] if self._now is not None else 0
        if self._now is None:
            raise Unusable(f"{self.name}: no picture could be read from it.")
        self._keys = sorted(e.timestamp for e in getattr(self.stream, "index_entries", ()) if e.is_keyframe)

    def close(self) -> None:
        self.container.close()

    def _decode(self) -> Iterator[tuple[int, Any]]:
        """Frames with a time stamp; broken packets are stepped over."""
        for packet in self.container.demux(self.stream):
            try:
                yield from ((f.pts, f) for f in packet.decode() if f.pts is not None)
            except av.FFmpegError:
                continue

    def _restart(self) -> None:
        self._frames = self._decode()
        self._now = next(self._frames, None)
        self._next = next(self._frames, None)

    def _limit(self, n: int) -> int:
        """The latest time stamp that still belongs to tick n."""
        return self.zero + int((n + Fraction(1, 4)) / self.rate.fps / self.base)

    def _worth_seeking(self, limit: int) -> bool:
        if self._now is None or limit < self._now[0]:
            return True
        if self._keys:
            i = bisect_right(self._keys, limit) - 1
            return i >= 0 and self._keys[i] > self._now[0] + int(Fraction(1, 2) / self.base)
        return limit - self._now[0] > int(2 / self.base)

    def get(self, n: int) -> Any:
        """The `av.VideoFrame` of frame n (the last one, past the end)."""
        limit = self._limit(n)
        if self._worth_seeking(limit):
            self.container.seek(max(limit, self.zero), stream=self.stream, backward=True)
            self._restart()
            if self._now is None or self._now[0] > limit:
                self.container.seek(self.zero, stream=self.stream, backward=True)
                self._restart()
        while self._next is not None and self._next[0] <= limit:
            self._now, self._next = self._next, next(self._frames, None)
        if self._now is None:
            raise Unusable(f"{self.name} cannot be read at frame {n}. Check the file, then try again.")
        return self._now[1]

    def each(self) -> Iterator[tuple[int, Any]]:
        """(n, frame) for every tick from 0 to the end of the last picture."""
        n = 0
        while self._now is not None:
            if self._next is not None and self._next[0] <= self._limit(n):
                self._now, self._next = self._next, next(self._frames, None)
                continue
            end = self._now[0] + max(self._now[1].duration or 0, int(1 / self.rate.fps / self.base))
            if self._next is None and n > 0 and self._limit(n) >= end - int(Fraction(1, 4) / self.rate.fps / self.base):
                return
            yield n, self._now[1]
            n += 1


class Fit:
    """Brings frames of any size, turn and pixel format to w x h yuv420p, letterboxed in black. A filter graph kept open."""

    def __init__(self, width: int, height: int, *, pad: bool = True, quick: bool = False) -> None:
        self.size = (width, height)
        self.pad = pad
        self.flags = "bilinear" if quick else "bicubic"
        self._key: Any = None
        self._graph: Any = None

    def __call__(self, frame: Any) -> Any:
        rotation = int(getattr(frame, "rotation", 0) or 0) % 360
        sar = getattr(frame, "sample_aspect_ratio", None) or Fraction(1)
        key = (frame.width, frame.height, frame.format.name, rotation)
        if key[:3] == (*self.size, "yuv420p") and not rotation:
            return frame
        if key != self._key:
            self._key, self._graph = key, self._build(frame, rotation, sar)
        self._graph.push(frame)
        return self._graph.pull()

    def _build(self, frame: Any, rotation: int, sar: Fraction) -> Any:
        w, h = self.size
        turned = rotation in (90, 270)
        ratio = Fraction(frame.height, 1) / (frame.width * sar) if turned else frame.width * sar / frame.height
        fw, fh = (w, round(w / ratio)) if ratio * h > w else (round(h * ratio), h)
        fw, fh = max(2, fw // 2 * 2), max(2, fh // 2 * 2)
        steps = {90: [("transpose", "cclock")], 270: [("transpose", "clock")], 180: [("hflip", ""), ("vflip", "")]}.get(
            rotation, []
        )
        steps = [*steps, ("scale", f"{fw}:{fh}:flags={self.flags}:out_range=tv"), ("format", "yuv420p"), ("setsar", "1")]
        if self.pad and (fw, fh) != (w, h):
            steps.append(("pad", f"{w}:{h}:{(w - fw) // 4 * 2}:{(h - fh) // 4 * 2}:black"))
        g = av.filter.Graph()
        last = g.add_buffer(width=frame.width, height=frame.height, format=frame.format.name, time_base=Fraction(1, 1000))
        for name, args in steps:
            node = g.add(name, args)
            last.link_to(node)
            last = node
        sink = g.add("buffersink")
        last.link_to(sink)
        g.configure()
        return g


def still_frame(path: Path) -> Any:
    """A still picture as a video frame, upright, on black where it is transparent."""
    Image.MAX_IMAGE_PIXELS = 100_000_000
    with Image.open(path) as im:
        im = ImageOps.exif_transpose(im).convert("RGBA")
        flat = Image.alpha_composite(Image.new("RGBA", im.size, "black"), im).convert("RGB")
    return av.VideoFrame.from_ndarray(np.asarray(flat), format="rgb24")
