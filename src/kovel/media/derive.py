"""What Kovel makes of each recording, once: proxy with packet index, sound as raw samples, peaks, small frames.

proxy.mp4    H.264, no B-frames, a key frame every 12, at most 960 wide, constant rate; picture only
proxy.idx    one little-endian uint32 a frame: its packet's size. Packets lie end to end from `first` on
sound.pcm    48 kHz 16-bit little-endian, mono or interleaved stereo, sample 0 at the first picture's moment
peaks.bin    "KVP1", count of levels, pairs a level (uint32 LE), then int8 (min, max) pairs, finest level first
small-N.jpg  sheets of 100 small frames, 160 wide
power.npy    float32 (n, 3), each 100 ms: weighted power, peak, samples at full scale (core.programme)
greys.npy    uint8 (frames, 9, 16): each frame very small and grey, to measure jumps by
motion.npy   float16 (frames, 4): brightness, change, shift right and down of each frame (core/shots.py)
media.json   the facts a player needs
"""

import base64
import hashlib
import json
import struct
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from PIL import Image

from kovel.core.checks.mix_loudness import PowerMaker
from kovel.core.picture.shots import HIGH, MotionMaker
from kovel.core.picture.shots import WIDE as GREY_WIDE
from kovel.core.sound.peaks import PeakMaker
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.media.files import Unusable, kind_of, open_media
from kovel.media.reader import STILL, Filmed, Fit, FrameReader, rgb_of, still_frame, tag_bt709

GOP = 12
WIDE = 960
SMALL = 160
SHEET = 100
Progress = Callable[[float], None]


def derive(
    path: str, out: str, rate: list[int], picture: bool, sound: bool, frames: int | None, progress: Progress
) -> dict[str, Any]:
    """Make everything for one recording in folder `out`; returns its checksum and exact count of frames.

    Written to `out` file by file and listed in media.json last, so a half-made folder is never taken for a whole one.
    """
    src, folder = Path(path), Path(out)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "media.json").unlink(missing_ok=True)
    r = Rate(*rate)
    facts: dict[str, Any] = {"rate": rate, "picture": picture, "sound": sound}
    still = kind_of(src) == "still"
    share = 0.85 if picture and sound else 1.0
    zero: Fraction | None = None  # the moment of the first picture, or of the first sound where there is none
    if picture:
        made, zero = _still(src, folder) if still else _picture(src, folder, r, frames or 1, lambda x: progress(x * share))
        facts |= made
        frames = None if still else made["frames"]
    if sound:
        seconds = float((frames or 1) / r.fps)
        samples, channels = _sound(src, folder, zero, seconds, lambda x: progress(share + x * (1 - share) if picture else x))
        facts |= {"samples": samples, "channels": channels}
        if not picture:
            frames = max(1, int(samples * r.fps / SAMPLE_RATE))
    facts["frames"] = frames
    (folder / "media.json").write_text(json.dumps(facts))
    return {"checksum": checksum(src), "frames": frames}


def checksum(path: Path) -> str:
    """SHA-256 of the whole file."""
    with path.open("rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()


def _proxy_size(frame: Any, pixel: Fraction) -> tuple[int, int]:
    w, h = Fraction(frame.width) * pixel, Fraction(frame.height)
    if int(getattr(frame, "rotation", 0) or 0) % 180:
        w, h = h, w
    k = min(Fraction(1), Fraction(WIDE) / w, Fraction(WIDE) / h)
    return max(2, round(w * k / 2) * 2), max(2, round(h * k / 2) * 2)


class _Proxy:
    """Encoder of one proxy with its index and small frames."""

    def __init__(self, folder: Path, frame: Any, of: Filmed, rate: Rate, every: int) -> None:
        size = _proxy_size(frame, of.pixel)
        self.folder, self.size, self.rate, self.every = folder, size, rate, every
        self.path = folder / "proxy.mp4"
        self.out = av.open(str(self.path), "w", format="mp4", options={"movflags": "faststart"})
        options = {"preset": "superfast", "crf": "24", "g": str(GOP), "keyint_min": str(GOP), "sc_threshold": "0", "bf": "0"}
        self.stream = self.out.add_stream("libx264", rate=rate.fps, options=options)
        self.stream.width, self.stream.height, self.stream.pix_fmt = *size, "yuv420p"
        self.stream.codec_context.time_base = 1 / rate.fps
        self.stream.codec_context.thread_type = "FRAME"
        tag_bt709(self.stream.codec_context)
        self.fit = Fit(*size, of, pad=False, quick=True)
        self.small_size = (SMALL, max(2, round(SMALL * size[1] / size[0] / 2) * 2))
        self.sheet = Image.new("RGB", (self.small_size[0] * 10, self.small_size[1] * 10))
        self.smalls = 0
        self.count = 0
        self.motion = MotionMaker()
        self.greys: list[np.ndarray] = []
        self._grey = av.video.reformatter.VideoReformatter()
        self._last: tuple[Any, Any, Any] = (None, None, None)

    def add(self, frame: Any) -> None:
        if self._last[0] is not frame:
            f = self.fit(frame)
            self._last = (frame, f, self._grey.reformat(f, GREY_WIDE, HIGH, "gray8").to_ndarray())
        f = self._last[1]
        self.motion.feed(self._last[2])
        self.greys.append(self._last[2].reshape(HIGH // 4, 4, GREY_WIDE // 4, 4).mean((1, 3)).astype(np.uint8))
        if self.count % self.every == 0:
            i = self.smalls % SHEET
            tile = f.reformat(*self.small_size, "yuv444p", interpolation="BILINEAR")
            self.sheet.paste(Image.fromarray(rgb_of(tile)), (i % 10 * self.small_size[0], i // 10 * self.small_size[1]))
            self.smalls += 1
            if self.smalls % SHEET == 0:
                self._save_sheet()
        f.pts, f.time_base, f.pict_type = self.count, 1 / self.rate.fps, 0
        self.out.mux(self.stream.encode(f))
        self.count += 1

    def _save_sheet(self) -> None:
        self.sheet.save(self.folder / f"small-{(self.smalls - 1) // SHEET}.jpg", quality=88, subsampling=0)

    def close(self) -> dict[str, Any]:
        self.out.mux(self.stream.encode(None))
        self.out.close()
        if self.smalls % SHEET:
            self._save_sheet()
        with av.open(str(self.path)) as c:
            v = c.streams.video[0]
            packets = [(p.pos or 0, p.size, p.is_keyframe) for p in c.demux(v) if p.size]
            extra = bytes(v.codec_context.extradata or b"")
        sizes = np.array([s for _, s, _ in packets], "<u4")
        ends = packets[0][0] + np.cumsum(sizes, dtype=np.int64)
        whole = len(packets) == self.count and all(p[0] == e for p, e in zip(packets[1:], ends, strict=False))
        if not whole or not all(p[2] for p in packets[::GOP]):
            raise Unusable("The proxy came out damaged. Try again; if it happens twice, the disk may be full.")
        (self.folder / "proxy.idx").write_bytes(sizes.tobytes())
        np.save(self.folder / "motion.npy", self.motion.finish())
        np.save(self.folder / "greys.npy", np.array(self.greys, np.uint8))
        return {
            "frames": self.count, "width": self.size[0], "height": self.size[1], "gop": GOP, "first": packets[0][0],
            "codec": f"avc1.{extra[1]:02x}{extra[2]:02x}{extra[3]:02x}", "avcc": base64.b64encode(extra).decode(),
            "small": {"every": self.every, "count": self.smalls, "width": self.small_size[0], "height": self.small_size[1]},
        }  # fmt: skip


def _picture(src: Path, folder: Path, rate: Rate, frames: int, progress: Progress) -> tuple[dict[str, Any], Fraction]:
    reader = FrameReader(src, rate)
    every = max(1, round(rate.fps * (1 if frames / rate.fps < 900 else 4)))
    proxy = None
    for n, frame in reader.each():
        if proxy is None:
            proxy = _Proxy(folder, frame, reader.filmed, rate, every)
        proxy.add(frame)
        if n % 25 == 0:
            progress(min(0.99, n / frames))
    zero = Fraction(reader.zero * reader.base)
    reader.close()
    if proxy is None:
        raise Unusable(f"{src.name}: no picture could be read from it.")
    return proxy.close(), zero


def _still(src: Path, folder: Path) -> tuple[dict[str, Any], Fraction]:
    frame = still_frame(src)
    proxy = _Proxy(folder, frame, STILL, Rate(25), 1)
    proxy.add(frame)
    return proxy.close(), Fraction(0)


def _unsaid_delay(c: Any, stream: Any) -> Fraction:
    """Seconds an encoder puts before the sound in a bare stream that has no place to say so: MP3 1105 samples, AAC 1024,
    AC-3 256, WMA 2048 (common practice, no source). MP3 with a header says it, and its first stamp is past it."""
    samples = {"mp3": 1105, "aac": 1024, "ac3": 256, "asf": 2048}.get(c.format.name, 0)
    said = c.format.name == "mp3" and (stream.start_time or 0) > 0
    return Fraction(0 if said else samples, stream.codec_context.sample_rate)


def _sound(src: Path, folder: Path, zero: Fraction | None, seconds: float, progress: Progress) -> tuple[int, int]:
    """Raw samples placed by their time stamps from `zero` on (None: from the stream's own beginning, so that an encoder's delay
    is no silence): silence where there is a gap of 40 ms or more, cut where before zero."""
    peaks, power = PeakMaker(), PowerMaker()
    with open_media(src) as c, (folder / "sound.pcm").open("wb") as out:
        a = c.streams.audio[0]
        channels = 1 if a.codec_context.channels == 1 else 2
        resample = av.AudioResampler("s16", "mono" if channels == 1 else "stereo", SAMPLE_RATE)
        written = 0

        def put(x: np.ndarray) -> None:
            nonlocal written
            out.write(x.astype("<i2").tobytes())
            peaks.feed(x)
            power.feed(x)
            written += len(x)

        def blocks() -> Any:
            for packet in c.demux(a):
                try:
                    yield from (g for f in packet.decode() for g in resample.resample(f))
                except av.FFmpegError:
                    continue
            yield from resample.resample(None)

        first = None
        count = 0
        for b in blocks():
            x = b.to_ndarray().reshape(-1, channels)
            if first is None:
                if zero is None:
                    zero = Fraction((a.start_time or 0) * a.time_base) + _unsaid_delay(c, a)
                at = Fraction(b.pts * b.time_base) - zero if b.pts is not None else Fraction(0)
                first = round(at * SAMPLE_RATE)
                if first > 0:
                    put(np.zeros((first, channels), np.int16))
            if b.pts is not None and first is not None and zero is not None:
                due = round((Fraction(b.pts * b.time_base) - zero) * SAMPLE_RATE)
                gap = due - max(written, 0) if first >= 0 else 0
                if 1920 <= gap < SAMPLE_RATE * 3600:
                    put(np.zeros((gap, channels), np.int16))
            skip = min(max(0, -first - count), len(x)) if first is not None and first < 0 else 0
            count += len(x)
            put(x[skip:])
            if seconds:
                progress(min(0.99, written / SAMPLE_RATE / seconds))
    np.save(folder / "power.npy", power.finish())
    levels = peaks.finish()
    head = b"KVP1" + struct.pack(f"<{1 + len(levels)}I", len(levels), *(len(v) for v in levels))
    (folder / "peaks.bin").write_bytes(head + b"".join(v.tobytes() for v in levels))
    return written, channels
