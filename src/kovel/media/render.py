"""Render a plan: H.264 and AAC in MP4, pictures from the originals, sound from the recordings' raw samples.

Frame t of the file is frame t of the plan; sample s is sample s. The file gets its name only when it is whole.
"""

import os
from bisect import bisect_left
from collections.abc import Callable, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from kovel.core.plan.layers import Layer
from kovel.core.plan.plan import FORM
from kovel.core.plan.sounds import AS_IT_IS, GainLine, Heard, along, ramped
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.media.drawing import Pictures, Stacked
from kovel.media.files import Unusable
from kovel.media.reader import tag_bt709
from kovel.media.soundtrack import samples_of

SOUND_RATE = 192_000
QUALITY = {"high": 8_000_000, "small": 2_500_000}


def bit_rate(width: int, height: int, rate: Rate, quality: str = "high") -> int:
    """Picture bits a second: QUALITY at 1920x1080, 25 frames; in proportion to pixels, and to the root of the rate."""
    return int(QUALITY[quality] * width * height / (1920 * 1080) * (float(rate.fps) / 25) ** 0.5)


def expected_bytes(frames: int, width: int, height: int, rate: Rate, quality: str = "high") -> int:
    """Size of the file to come: bit rate times length (common practice)."""
    return int((bit_rate(width, height, rate, quality) + SOUND_RATE) * frames / rate.fps / 8)


class Sound:
    """The plan's sound as stereo float blocks, sample for sample what the player schedules.

    `raw` says where the samples of each recording lie and in how many channels; `made` where those of a sound made of one.
    """

    def __init__(
        self, sounds: Sequence[Heard], raw: dict[int, tuple[Path, int]], made: dict[tuple[int, str], Path] | None = None,
        dips: GainLine = (),
    ) -> None:  # fmt: skip
        self.sounds = sorted(sounds, key=lambda h: h.at)
        self.dips = dips
        self._starts = [h.at for h in self.sounds]
        self._reach = np.maximum.accumulate([h.end for h in self.sounds]) if self.sounds else np.zeros(0)
        self.pcm = {(i, ""): samples_of(*at) for i, at in raw.items()}
        self.pcm |= {key: samples_of(p, raw[key[0]][1]) for key, p in (made or {}).items() if key[0] in raw}

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
        if self.dips:
            y *= (10 ** (along(self.dips, np.arange(a, b)) / 20)).astype(np.float32)[:, None]
        return y

    def _take(self, h: Heard, lo: int, hi: int) -> np.ndarray:
        pcm = self.pcm[h.source, h.made if (h.source, h.made) in self.pcm else ""]
        first, last = h.start + lo, h.start + hi
        x: np.ndarray = np.asarray(pcm[max(0, first) : max(0, last)], np.float32) / np.float32(32768)
        x = np.repeat(x, 2, 1) if x.shape[1] == 1 else x
        if h.mix != AS_IT_IS:
            x = x @ np.array(h.mix, np.float32).reshape(2, 2).T
        if len(x) < hi - lo:  # silence before the recording's beginning and behind its end
            before = min(hi - lo, max(0, -first))
            x = np.pad(x, ((before, hi - lo - len(x) - before), (0, 0)))
        return ramped(x, lo, h)


def render(
    plan: dict[str, Any],
    files: dict[str, dict[str, Any]],
    out: str,
    width: int,
    height: int,
    quality: str,
    progress: Callable[[float], None],
    drawn: str = "",
    tables: str = "",
    fonts: str = "",
) -> dict[str, Any]:
    """Write the file `out`. `plan` is `Plan.to_json`; `files` maps source to path, rate, still, pcm (or None), channels;
    `drawn` is the folder of what is drawn (cards), shared with the player, `tables` that of tables of colours, `fonts`
    that of the editor's own fonts.

    Raises `Unusable` if a recording is gone. Nothing is left under the final name unless it is whole.
    """
    length, clock = plan["length"], Rate(*plan["rate"])
    if length == 0:
        raise Unusable("The story is empty: there is nothing to render yet.")
    if plan.get("form") != FORM:
        raise Unusable("This render was asked for with an older Kovel. Render the story again.")
    src = {int(k): v for k, v in files.items()}
    for f in src.values():
        if not Path(f["path"]).is_file():
            raise Unusable(
                f"{f['name']} is off-line: {Path(f['path']).name} is not where it was. Bring it back, then render again."
            )
    final = Path(out)
    part = final.with_name(f"{final.name}.{os.getpid()}.part")  # each try writes a file of its own
    final.parent.mkdir(parents=True, exist_ok=True)
    pictures = Pictures(
        src, width, height, Path(drawn) if drawn else None, Path(tables) if tables else None, Path(fonts) if fonts else None
    )
    runs = [(at, end, [Layer.from_json(x) for x in layers]) for at, end, layers in plan["pictures"]]
    sound = sound_of(plan, src)
    try:
        _write(clock, length, runs, pictures, sound, part, width, height, quality, progress)
        os.replace(part, final)
    finally:
        pictures.close()
        part.unlink(missing_ok=True)
    return {"path": str(final), "bytes": final.stat().st_size, "frames": length}


def sound_of(plan: dict[str, Any], files: dict[int, dict[str, Any]]) -> Sound:
    """The sound of a plan (`Plan.to_json`), from the samples in `files` (as `render` takes them)."""
    raw = {i: (Path(f["pcm"]), f["channels"]) for i, f in files.items() if f["pcm"]}
    made = {(i, name): Path(p) for i, f in files.items() for name, p in f.get("made", {}).items()}
    dips = tuple((int(at), float(db)) for at, db in plan.get("dips", ()))
    return Sound([Heard.from_json(row) for row in plan["sounds"]], raw, made, dips)


def _write(
    clock: Rate,
    length: int,
    runs: Sequence[tuple[int, int, list[Stacked]]],
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

        for at, end, layers in runs:
            for t in range(at, end):
                f = pictures.frame(layers, t - at)
                f.pts, f.time_base, f.pict_type = t, 1 / clock.fps, 0
                c.mux(v.encode(f))
                if t % 12 == 0:
                    sound_until(clock.frame_to_sample(t))
                    progress(t / length)
        sound_until(samples)
        c.mux(v.encode(None))
        c.mux(a.encode(None))
