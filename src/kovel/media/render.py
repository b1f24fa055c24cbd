"""Render a plan: H.264 and AAC in MP4, pictures from the originals, sound from the recordings' raw samples.

Frame t of the file is frame t of the plan; sample s is sample s. The file gets its name only when it is whole.
"""

import os
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from kovel.core.plan import Heard, Plan, Shown, ramped
from kovel.core.rate import SAMPLE_RATE, Rate, frame_shown
from kovel.media.files import Unusable
from kovel.media.reader import Fit, FrameReader, still_frame

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

    def __init__(self, plan: Plan, raw: dict[int, tuple[Path, int]]) -> None:
        self.sounds = plan.sounds
        self.pcm = {
            i: np.memmap(p, "<i2", "r").reshape(-1, ch) if p.stat().st_size else np.zeros((0, ch), np.int16)
            for i, (p, ch) in raw.items()
        }

    def block(self, a: int, b: int) -> np.ndarray:
        """Samples [a, b): float32 (b - a, 2)."""
        y = np.zeros((b - a, 2), np.float32)
        for h in self.sounds:
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
        return ramped(x, lo, h.end - h.at, h.gain)


class Pictures:
    """The plan's pictures, fitted to the file's size."""

    def __init__(self, plan: Plan, files: dict[int, dict[str, Any]], width: int, height: int) -> None:
        self.plan, self.files, self.size = plan, files, (width, height)
        self.fit = {i: Fit(width, height) for i in files}
        self.readers: dict[int, FrameReader] = {}
        self.stills: dict[int, Any] = {}
        self.black = still_black(width, height)
        self._last: tuple[tuple[int, int] | None, Any] = (None, None)

    def frame(self, run: Shown, t: int) -> Any:
        if run.source is None:
            return self.black
        f = self.files[run.source]
        if f["still"]:
            if run.source not in self.stills:
                self.stills[run.source] = self.fit[run.source](still_frame(Path(f["path"])))
            return self.stills[run.source]
        rate = Rate(*f["rate"])
        n = frame_shown(run.start + t - run.at, self.plan.rate, rate)
        if self._last[0] != (run.source, n):
            if run.source not in self.readers:
                self.readers[run.source] = FrameReader(Path(f["path"]), rate)
            self._last = ((run.source, n), self.fit[run.source](self.readers[run.source].get(n)))
        return self._last[1]

    def close(self) -> None:
        for r in self.readers.values():
            r.close()


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
    p = Plan(
        Rate(*plan["rate"]), plan["length"],
        tuple(Shown(r[0], r[1], r[2], r[3]) for r in plan["pictures"]), tuple(Heard(*r) for r in plan["sounds"]),
    )  # fmt: skip
    if p.length == 0:
        raise Unusable("The story is empty: there is nothing to render yet.")
    src = {int(k): v for k, v in files.items()}
    for f in src.values():
        if not Path(f["path"]).is_file():
            raise Unusable(
                f"{f['name']} is off-line: {Path(f['path']).name} is not where it was. Bring it back, then render again."
            )
    final = Path(out)
    part = final.with_name(final.name + ".part")
    final.parent.mkdir(parents=True, exist_ok=True)
    pictures = Pictures(p, src, width, height)
    sound = Sound(p, {i: (Path(f["pcm"]), f["channels"]) for i, f in src.items() if f["pcm"]})
    try:
        _write(p, pictures, sound, part, width, height, quality, progress)
        os.replace(part, final)
    finally:
        pictures.close()
        part.unlink(missing_ok=True)
    return {"path": str(final), "bytes": final.stat().st_size, "frames": p.length}


def _write(
    p: Plan,
    pictures: Pictures,
    sound: Sound,
    part: Path,
    width: int,
    height: int,
    quality: str,
    progress: Callable[[float], None],
) -> None:
    with av.open(str(part), "w", format="mp4", options={"movflags": "faststart"}) as c:
        rate = bit_rate(width, height, p.rate, quality)
        v = c.add_stream(
            "libx264", rate=p.rate.fps, options={"preset": "veryfast", "maxrate": str(rate * 2), "bufsize": str(rate * 2)}
        )
        v.width, v.height, v.pix_fmt, v.bit_rate = width, height, "yuv420p", rate
        v.codec_context.time_base = 1 / p.rate.fps
        v.codec_context.thread_count = 0
        v.codec_context.color_primaries = v.codec_context.color_trc = v.codec_context.colorspace = 1  # BT.709
        v.codec_context.color_range = 1
        a = c.add_stream("aac", rate=SAMPLE_RATE, layout="stereo")
        a.bit_rate = SOUND_RATE
        done = 0

        def sound_until(end: int) -> None:
            nonlocal done
            while done < end and (end - done >= 1024 or end == p.samples):
                n = min(1024, end - done)
                f = av.AudioFrame.from_ndarray(np.ascontiguousarray(sound.block(done, done + n).T), "fltp", "stereo")
                f.sample_rate, f.pts, f.time_base = SAMPLE_RATE, done, Fraction(1, SAMPLE_RATE)
                c.mux(a.encode(f))
                done += n

        for run in p.pictures:
            for t in range(run.at, run.end):
                f = pictures.frame(run, t)
                f.pts, f.time_base, f.pict_type = t, 1 / p.rate.fps, 0
                c.mux(v.encode(f))
                if t % 12 == 0:
                    sound_until(p.rate.frame_to_sample(t))
                    progress(t / p.length)
        sound_until(p.samples)
        c.mux(v.encode(None))
        c.mux(a.encode(None))
