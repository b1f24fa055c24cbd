"""Listening: how loud a recording is and where somebody speaks, from its raw sound. Kept as levels.npy."""

import json
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from scipy.signal import firwin, resample_poly, upfirdn

from kovel.core.sound.band_level import LevelMaker
from kovel.core.sound.beats import find_beats
from kovel.core.sound.hits import candidates, novelty, ring_out
from kovel.core.sound.levels import RATE, Floats, Levels, local_floor, stretch_to_ticks
from kovel.core.sound.sound_match import Unrelated, low, match
from kovel.core.sound.voices import cepstra, told_apart
from kovel.media.soundtrack import samples_of

WINDOW = 512  # samples the detector takes at a time
BLOCK = 48_000 * 60
LONGEST = 16_000 * 30  # samples of a sentence that are enough to tell whose voice it is
_FIR = firwin(31, 0.32).astype(np.float32)
Progress = Callable[[float], None]


class Sound16:
    """The mono 16 kHz sound of a recording, read piece by piece from its sound.pcm."""

    def __init__(self, pcm: Path, channels: int) -> None:
        self.samples = samples_of(pcm, channels)

    def __len__(self) -> int:
        return len(self.samples) // 3

    def read(self, start: int, end: int) -> Floats:
        """16 kHz samples [start, end), silence outside the recording."""
        margin = 30
        a, b = start * 3 - margin, end * 3 + margin
        x = self.samples[max(0, a) : max(0, b)]
        y = x[:, 0].astype(np.float32) if x.shape[1] == 1 else np.add(x[:, 0], x[:, 1], dtype=np.float32)
        before, after = max(0, -a), max(0, (b - a) - len(y) - max(0, -a))
        if before or after:
            y = np.pad(y, (before, after))
        y = upfirdn(_FIR / np.float32(32768 * x.shape[1]), y, 1, 3)  # as resample_poly does it, without its copies
        first = (len(_FIR) - 1) // 6 + margin // 3
        return np.asarray(y[first : first + end - start], np.float32)


def speech_probability(x: Floats) -> Floats:
    """The bundled detector's probability of speech for each WINDOW of 16 kHz samples; a last part window is padded."""
    from faster_whisper.vad import get_vad_model

    x = np.pad(x, (0, -len(x) % WINDOW))
    return np.asarray(get_vad_model()(x), np.float32).ravel() if len(x) else np.zeros(0, np.float32)


def listen(out: str, channels: int, progress: Progress) -> dict[str, float]:
    """Make levels.npy in folder `out` from its sound.pcm.

    A first version by level alone is there after a few seconds, so that work can begin; parts that the detector has
    heard replace it minute by minute.
    """
    folder = Path(out)
    sound = Sound16(folder / "sound.pcm", channels)
    n = len(sound)
    maker = LevelMaker()
    for a in range(0, n, BLOCK):
        maker.feed(sound.read(a, min(n, a + BLOCK)))
        progress(0.2 * a / max(1, n))
    level = maker.finish()
    floor = local_floor(level)
    speech = np.full(len(level), -1, np.float32)
    save(folder, Levels(speech, level, floor))
    step, warm = 5 * 60 * RATE // WINDOW * WINDOW, 4 * RATE // WINDOW * WINDOW  # the detector has a memory: let it warm up

    def part(a: int) -> tuple[int, Floats]:
        lead = min(a, warm)
        return a, speech_probability(sound.read(a - lead, min(n, a + step)))[lead // WINDOW :]

    heard = np.zeros(-(-n // WINDOW), np.float32)
    with ThreadPoolExecutor(max(1, min(4, (os.cpu_count() or 2)))) as pool:
        for k, (a, p) in enumerate(pool.map(part, range(0, n, step))):
            heard[a // WINDOW : a // WINDOW + len(p)] = p
            done = min(len(level), (a + step) * 100 // RATE)
            speech[:done] = stretch_to_ticks(heard[: a // WINDOW + len(p)], len(level))[:done]
            if k % 4 == 3 or a + step >= n:
                save(folder, Levels(speech, level, floor))
            progress(0.2 + 0.8 * min(1.0, (a + step) / max(1, n)))
    return {"seconds": len(level) / 100}


def levels_between(sound: Sound16, start: int, end: int) -> Levels:
    """The levels of 16 kHz samples [start, end) of a sound, which may still be growing behind them."""
    maker = LevelMaker()
    for a in range(start, end, BLOCK):
        maker.feed(sound.read(a, min(end, a + BLOCK)))
    level = maker.finish()
    lead = min(start, 4 * RATE // WINDOW * WINDOW)  # the detector has a memory: let it warm up
    heard = speech_probability(sound.read(start - lead, end))[lead // WINDOW :]
    return Levels(stretch_to_ticks(heard, len(level)), level, local_floor(level))


def save(folder: Path, levels: Levels) -> None:
    """Replace levels.npy in one step: a reader sees the old one or the new one."""
    part = folder / "levels.npy.part"
    with part.open("wb") as f:
        np.save(f, levels.to_array())
    part.replace(folder / "levels.npy")


def sound24(folder: Path, channels: int) -> Floats:
    """The whole sound of a recording, mono at 24 kHz."""
    samples = samples_of(folder / "sound.pcm", channels)
    out = [np.zeros(0, np.float32)]
    for a in range(0, len(samples), BLOCK):
        low, high = max(0, a - 60), min(len(samples), a + BLOCK + 60)
        y = samples[low:high].astype(np.float32).mean(1) / 32768
        out.append(resample_poly(y, 1, 2).astype(np.float32)[(a - low) // 2 :][: (min(BLOCK, len(samples) - a) + 1) // 2])
    return np.concatenate(out)


def pulse(out: str, channels: int, progress: Progress) -> dict[str, Any]:
    """Hits and beats of a prepared recording: pulse.json with what may be a hit [sample, strength, needs, ring in seconds],
    and the beats."""
    x = sound24(Path(out), channels)
    progress(0.2)
    new = novelty(x) if len(x) else x
    progress(0.6)
    rows = candidates(x, new)
    rings = ring_out(x, rows)
    b = find_beats(x, new)
    value = {
        "hits": [[h.sample, h.strength, h.needs, round(n, 3)] for h, n in zip(rows, rings, strict=True)],
        "beats": list(b.beats), "tempo": b.tempo, "first": b.first, "bar": b.bar,
    }  # fmt: skip
    part = Path(out) / "pulse.json.part"
    part.write_text(json.dumps(value))
    part.replace(Path(out) / "pulse.json")
    return {"hits": len(rows), "tempo": b.tempo}


def voices(out: str, channels: int, spans: list[list[int]], progress: Progress) -> dict[str, Any]:
    """Which of two voices says each of the spans (samples at 48 kHz), and whether there are two."""
    sound = Sound16(Path(out) / "sound.pcm", channels)
    frames = []
    for n, (a, b) in enumerate(spans):
        frames.append(cepstra(sound.read(a // 3, min(b // 3, a // 3 + LONGEST))))
        progress(0.95 * (n + 1) / len(spans))
    told = told_apart(frames)
    return {
        "voices": list(told.voices),
        "sure": [round(s, 3) for s in told.sure],
        "gain": round(told.gain, 3),
        "two": told.two,
        "plain": told.plain,
    }


def _mono(raw: np.ndarray, a: int, b: int) -> Floats:
    """Samples [a, b) of 16-bit sound as one channel, -1 to 1."""
    return np.asarray(raw[a:b].astype(np.float32).mean(1) / 32768, np.float32)


def _share(progress: Progress, begin: float, share: float, x: float) -> None:
    progress(begin + share * x)


def sync_by_sound(members: list[dict[str, Any]], progress: Progress) -> dict[str, Any]:
    """Where each recording of one moment begins on the first one's clock.

    `members` are {"out": folder with sound.pcm, "channels": n, "name": ...}. The first that matches stands for the others:
    one that cannot be matched is told by name, with why.
    """
    tracks = []
    for i, m in enumerate(members):
        raw = samples_of(Path(m["out"]) / "sound.pcm", m["channels"])
        tracks.append(low(partial(_mono, raw), len(raw)))
        progress(0.4 * (i + 1) / len(members))
    found: list[dict[str, Any]] = [{"offset": 0.0, "ppm": 0.0, "sure": 1.0, "curve": [], "windows": []}]
    for i, t in enumerate(tracks[1:]):
        share = 0.6 / max(1, len(tracks) - 1)
        try:
            got = match(tracks[0], t, partial(_share, progress, 0.4 + share * i, share))
            curve = [[round(x, 3), round(y, 2)] for x, y in got.curve[:: max(1, len(got.curve) // 300)]]
            windows = [list(w) for w in got.windows]
            found.append({"offset": got.offset, "ppm": got.ppm, "sure": got.sure, "curve": curve, "windows": windows})
        except Unrelated as e:
            found.append({"unrelated": f"{members[i + 1]['name']}: {e}"})
    return {"members": found}
