"""Render a plan: H.264 and AAC in MP4, pictures from the originals, sound from the recordings' raw samples.

Frame t of the file is frame t of the plan; sample s is sample s. The file gets its name only when it is whole.
"""

import os
from bisect import bisect_left
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from kovel.core.plan import Heard, Mix, ramped
from kovel.core.plan import Image as PlanImage
from kovel.core.rate import SAMPLE_RATE, Rate
from kovel.media.card import card_image
from kovel.media.files import Unusable
from kovel.media.reader import Fit, FrameReader, still_frame, tag_bt709

SOUND_RATE = 192_000
QUALITY = {"high": 8_000_000, "small": 2_500_000}


def bit_rate(width: int, height: int, rate: Rate, quality: str = "high") -> int:
    """Picture bits a second: QUALITY at 1920x1080, 25 frames; in proportion to pixels, and to the root of the rate."""
    return int(QUALITY[quality] * width * height / (1920 * 1080) * (float(rate.fps) / 25) ** 0.5)


def expected_bytes(frames: int, width: int, height: int, rate: Rate, quality: str = "high") -> int:
    """Size of the file to come: bit rate times length (common practice)."""
    return int((bit_rate(width, height, rate, quality) + SOUND_RATE) * frames / rate.fps / 8)


class Sound:
    """The plan's sound as stereo float blocks, sample for sample what the player schedules."""

    def __init__(self, sounds: Sequence[Heard], raw: dict[int, tuple[Path, int]]) -> None:
        self.sounds = sorted(sounds, key=lambda h: h.at)
        self._starts = [h.at for h in self.sounds]
        self._reach = np.maximum.accumulate([h.end for h in self.sounds]) if self.sounds else np.zeros(0)
        self.pcm = {
            i: np.memmap(p, "<i2", "r").reshape(-1, ch) if p.stat().st_size else np.zeros((0, ch), np.int16)
            for i, (p, ch) in raw.items()
        }

    def block(self, a: int, b: int) -> np.ndarray:
        """Samples [a, b): float32 (b - a, 2)."""
        y = np.zeros((b - a, 2), np.float32)
        first = int(np.searchsorted(self._reach, a, "right"))  # all before it have ended
        for h in self.sounds[first : bisect_left(self._starts, b)]:
            lo, hi = max(a, h.at), min(b, h.end)
            if lo >= hi:
                continue
            x = self._take(h, lo - h.at, hi - h.at)
            y[lo - a : lo - a + len(x)] += x
        return y

    def _take(self, h: Heard, lo: int, hi: int) -> np.ndarray:
        pcm = self.pcm[h.source]
        x = np.asarray(pcm[h.start + lo : h.start + hi], np.float32) / 32768
        x = np.repeat(x, 2, 1) if x.shape[1] == 1 else x
        if len(x) < hi - lo:
            x = np.pad(x, ((0, hi - lo - len(x)), (0, 0)))
        return ramped(x, lo, h.end - h.at, h.gain, h.rise, h.fall)


@dataclass(frozen=True)
class Row:
    """A picture run as the plan's JSON has it: which recording's frames [at, end) show, a card, a punch-in, a blend."""

    at: int
    end: int
    source: int | None
    base: int
    num: int
    den: int
    zoom: int = 100
    card: tuple[str, str] | None = None
    mix: tuple[Mix, "Row"] | None = None

    @staticmethod
    def of(at: int, end: int, r: list[Any], more: dict[str, Any]) -> "Row":
        card = tuple(more["card"]) if "card" in more else None
        row = Row(at, end, r[0], r[1], r[2], r[3], more.get("zoom", 100), card)
        if "mix" in more:
            kind, first, of, to, extra = more["mix"]
            return replace(row, mix=(Mix(PlanImage(), kind, first, of), Row.of(at, end, to, extra)))
        return row


class Pictures:
    """The plan's pictures, fitted to the file's size. Blends and punch-ins stay in YUV planes."""

    def __init__(self, files: dict[int, dict[str, Any]], width: int, height: int) -> None:
        self.files, self.size = files, (width, height)
        self.fit: dict[tuple[int, bool], Fit] = {}
        self.readers: dict[tuple[int, bool], FrameReader] = {}
        self.stills: dict[Any, Any] = {}
        self.closer: dict[int, Any] = {}
        self.black = still_black(width, height)
        self._last: dict[bool, tuple[tuple[int, int] | None, Any]] = {}

    def frame(self, run: Row, t: int) -> Any:
        """Story frame t of a run. The frame may be one that is used again: nothing is drawn into it."""
        first = self._image(run, t, False)
        if run.mix is None:
            return first
        mix, to = run.mix
        a, b = mix.shares(t - run.at)
        return blended(first, self._image(to, t, True), a, b)

    def _image(self, run: Row, t: int, second: bool) -> Any:
        if run.card:
            if run.card not in self.stills:
                im = card_image(*run.card, *self.size)
                self.stills[run.card] = Fit(*self.size)(av.VideoFrame.from_ndarray(np.asarray(im), format="rgb24"))
            return self.stills[run.card]
        if run.source is None:
            return self.black
        f = self.files[run.source]
        if f["still"]:
            if run.source not in self.stills:
                self.stills[run.source] = Fit(*self.size)(still_frame(Path(f["path"])))
            return self._zoomed(self.stills[run.source], run.zoom)
        n = (run.base + (t - run.at) * run.num) // run.den
        key = (run.source, n)
        if self._last.get(second, (None, None))[0] != key:
            own = (run.source, second)
            if own not in self.readers:
                self.readers[own] = FrameReader(Path(f["path"]), Rate(*f["rate"]))
                self.fit[own] = Fit(*self.size, self.readers[own].filmed)
            self._last[second] = (key, self.fit[own](self.readers[own].get(n)))
        return self._zoomed(self._last[second][1], run.zoom)

    def _zoomed(self, frame: Any, percent: int) -> Any:
        """A punch-in: the part of the picture that fills it at `percent`, from the middle and two fifths down."""
        if percent == 100:
            return frame
        if percent not in self.closer:
            w, h = self.size
            g = av.filter.Graph()
            last = g.add_buffer(width=w, height=h, format="yuv420p", time_base=Fraction(1, 1000))
            x, y, cw, ch = punch_in(w, h, percent)
            for name, args in (
                ("crop", f"{cw}:{ch}:{x}:{y}"),
                ("scale", f"{w}:{h}:flags=bicubic"),
                ("setsar", "1"),
                ("buffersink", ""),
            ):
                node = g.add(name, args) if args else g.add(name)
                last.link_to(node)
                last = node
            g.configure()
            self.closer[percent] = g
        frame.pts = None
        self.closer[percent].push(frame)
        return self.closer[percent].pull()

    def close(self) -> None:
        for r in self.readers.values():
            r.close()


def punch_in(width: int, height: int, percent: int) -> tuple[int, int, int, int]:
    """x, y, width and height of what a punch-in shows; even numbers, as the planes of a picture need."""
    w, h = round(width * 100 / percent / 2) * 2, round(height * 100 / percent / 2) * 2
    return (width - w) // 4 * 2, round((height - h) * 0.4 / 2) * 2, w, h


def blended(first: Any, second: Any, a: float, b: float) -> Any:
    """A new frame of a parts of the first and b of the second yuv420p frame; the rest is black."""
    out = av.VideoFrame(first.width, first.height, "yuv420p")
    ka, kb = round(a * 256), round(b * 256)
    for p, x, y, black in zip(out.planes, first.planes, second.planes, (16, 128, 128), strict=True):
        u, v = (np.frombuffer(q, np.uint8).reshape(q.height, q.line_size)[:, : q.width].astype(np.uint16) for q in (x, y))
        mixed = ((u * ka + v * kb + black * (256 - ka - kb) + 128) >> 8).astype(np.uint8)
        rows = np.zeros((p.height, p.line_size), np.uint8)
        rows[:, : p.width] = mixed
        p.update(rows)
    return out


def still_black(width: int, height: int) -> Any:
    f = av.VideoFrame(width, height, "yuv420p")
    for plane, value in zip(f.planes, (16, 128, 128), strict=True):
        plane.update(bytes([value]) * plane.buffer_size)
    return f


def render(
    plan: dict[str, Any],
    files: dict[str, dict[str, Any]],
    out: str,
    width: int,
    height: int,
    quality: str,
    progress: Callable[[float], None],
) -> dict[str, Any]:
    """Write the file `out`. `plan` is `Plan.to_json`; `files` maps source to path, rate, still, pcm (or None), channels.

    Raises `Unusable` if a recording is gone. Nothing is left under the final name unless it is whole.
    """
    length, clock = plan["length"], Rate(*plan["rate"])
    if length == 0:
        raise Unusable("The story is empty: there is nothing to render yet.")
    src = {int(k): v for k, v in files.items()}
    for f in src.values():
        if not Path(f["path"]).is_file():
            raise Unusable(
                f"{f['name']} is off-line: {Path(f['path']).name} is not where it was. Bring it back, then render again."
            )
    final = Path(out)
    part = final.with_name(f"{final.name}.{os.getpid()}.part")  # each try writes a file of its own
    final.parent.mkdir(parents=True, exist_ok=True)
    pictures = Pictures(src, width, height)
    runs = [Row.of(r[0], r[1], r[2:6], r[6] if len(r) > 6 else {}) for r in plan["pictures"]]
    sound = Sound([Heard(*r) for r in plan["sounds"]], {i: (Path(f["pcm"]), f["channels"]) for i, f in src.items() if f["pcm"]})
    try:
        _write(clock, length, runs, pictures, sound, part, width, height, quality, progress)
        os.replace(part, final)
    finally:
        pictures.close()
        part.unlink(missing_ok=True)
    return {"path": str(final), "bytes": final.stat().st_size, "frames": length}


def _write(
    clock: Rate,
    length: int,
    runs: Sequence[Row],
    pictures: Pictures,
    sound: Sound,
    part: Path,
    width: int,
    height: int,
    quality: str,
    progress: Callable[[float], None],
) -> None:
    with av.open(str(part), "w", format="mp4", options={"movflags": "faststart"}) as c:
        rate = bit_rate(width, height, clock, quality)
        v = c.add_stream(
            "libx264", rate=clock.fps, options={"preset": "veryfast", "maxrate": str(rate * 2), "bufsize": str(rate * 2)}
        )
        v.width, v.height, v.pix_fmt, v.bit_rate = width, height, "yuv420p", rate
        v.codec_context.time_base = 1 / clock.fps
        v.codec_context.thread_type, v.codec_context.thread_count = "FRAME", 0
        tag_bt709(v.codec_context)
        a = c.add_stream("aac", rate=SAMPLE_RATE, layout="stereo")
        a.bit_rate = SOUND_RATE
        done, samples = 0, clock.frame_to_sample(length)

        def sound_until(end: int) -> None:
            nonlocal done
            while done < end and (end - done >= 1024 or end == samples):
                n = min(1024, end - done)
                f = av.AudioFrame.from_ndarray(np.ascontiguousarray(sound.block(done, done + n).T), "fltp", "stereo")
                f.sample_rate, f.pts, f.time_base = SAMPLE_RATE, done, Fraction(1, SAMPLE_RATE)
                c.mux(a.encode(f))
                done += n

        for run in runs:
            for t in range(run.at, run.end):
                f = pictures.frame(run, t)
                f.pts, f.time_base, f.pict_type = t, 1 / clock.fps, 0
                c.mux(v.encode(f))
                if t % 12 == 0:
                    sound_until(clock.frame_to_sample(t))
                    progress(t / length)
        sound_until(samples)
        c.mux(v.encode(None))
        c.mux(a.encode(None))
