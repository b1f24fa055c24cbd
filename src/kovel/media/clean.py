"""A cleaned sound made of a recording's raw one, a minute at a time, on all cores; and stretches of it at once, to hear.

made/NAME.pcm         as sound.pcm, sample for sample; NAME says how it was made (core.plan.sounds.made_of)
made/NAME.power.npy   as power.npy
made/NAME.json        what was found, and how loud it is before and after, in steps of 1 dB
"""

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

from kovel.core.sound.cleaning import RATE, Cleaner, Read, Wanted, cleaned, prepare
from kovel.core.sound.levels import TICK, Levels, Mask
from kovel.core.sound.loudness import PowerMaker
from kovel.core.sound.pauses import speech
from kovel.media.files import Unusable
from kovel.media.soundtrack import keep, samples_of

BLOCK = 30 * RATE
LOWEST, HIGHEST = -90, 0  # dB drawn
AROUND = 4 * 60 * RATE  # samples to either side that a stretch is judged by


def reader(samples: np.ndarray) -> Read:
    """Reads (n, channels) 16-bit samples as floats, silence outside of them."""

    def read(a: int, b: int) -> np.ndarray:
        x: np.ndarray = np.zeros((b - a, samples.shape[1]), np.float32)
        lo, hi = max(0, a), min(len(samples), b)
        if hi > lo:
            x[lo - a : hi - a] = samples[lo:hi].astype(np.float32) / np.float32(32768)
        return x

    return read


def talking(folder: Path, samples: int) -> Mask:
    """For each 10 ms whether somebody speaks, as Kovel found it; `Unusable` while it has not listened."""
    try:
        levels = Levels.from_array(np.load(folder / "levels.npy"))
    except (OSError, ValueError):
        raise Unusable("Its pauses are not found yet, and they tell what its noise is. Try again in a moment.") from None
    mask = speech(levels)
    n = -(-samples // TICK)
    return np.concatenate([mask, np.zeros(max(0, n - len(mask)), bool)])[:n]


def to_pcm(x: np.ndarray) -> np.ndarray:
    y: np.ndarray = np.rint(x * 32768).clip(-32768, 32767).astype("<i2")
    return y


def clean(out: str, channels: int, name: str, wanted: dict[str, Any], progress: Callable[[float], None]) -> dict[str, Any]:
    """Make made/NAME of a recording; what was found. A try that was cut short is gone on with where it stood."""
    folder = Path(out)
    (folder / "made").mkdir(exist_ok=True)
    samples = samples_of(folder / "sound.pcm", channels)
    if not len(samples):
        raise Unusable("It has no sound that could be cleaned.")
    read = reader(samples)
    cleaner = prepare(read, len(samples), talking(folder, len(samples)), Wanted(**wanted))
    progress(0.1)
    part = folder / "made" / f"{name}.pcm.part"

    def one(ends: tuple[int, int]) -> np.ndarray:
        return to_pcm(cleaned(read, ends[0], ends[1], cleaner))

    begun = part.stat().st_size // (BLOCK * channels * 2) if part.exists() else 0
    blocks = [(a, min(len(samples), a + BLOCK)) for a in range(begun * BLOCK, len(samples), BLOCK)]
    with part.open("r+b" if begun else "wb") as f, ThreadPoolExecutor(max(1, min(4, os.cpu_count() or 2))) as pool:
        f.seek(begun * BLOCK * channels * 2)
        f.truncate()
        width = 4  # blocks under way at once
        for k in range(0, len(blocks), width):
            for x in pool.map(one, blocks[k : k + width]):
                f.write(x.tobytes())
            f.flush()
            progress(0.1 + 0.85 * min(len(samples), (begun + k + width) * BLOCK) / len(samples))
    made = samples_of(part, channels)
    power = PowerMaker()
    for a in range(0, len(made), BLOCK):
        power.feed(np.asarray(made[a : a + BLOCK]))
    np.save(folder / "made" / f"{name}.power.npy", power.finish())
    found = found_in(cleaner) | {"before": spread(samples), "after": spread(made)}
    keep(folder / "made" / f"{name}.json", found)
    part.replace(folder / "made" / f"{name}.pcm")
    return {"name": name, **found_in(cleaner)}


def found_in(c: Cleaner) -> dict[str, Any]:
    """What was found out, in words a page can show."""
    return {"hum": [round(f, 2) for f in c.hum], "pictures": 0 if c.at is None else len(c.at)}


def spread(samples: np.ndarray) -> list[int]:
    """How many stretches of 10 ms lie at each dB from LOWEST on."""
    counts = np.zeros(HIGHEST - LOWEST, np.int64)
    for a in range(0, len(samples) - TICK + 1, BLOCK):
        x = np.asarray(samples[a : a + BLOCK], np.float32).mean(1) / 32768
        x = x[: len(x) // TICK * TICK].reshape(-1, TICK)
        db = np.floor(10 * np.log10((x**2).mean(1) + 1e-10)).astype(int)
        counts += np.bincount(np.clip(db - LOWEST, 0, len(counts) - 1), minlength=len(counts))
    return [int(n) for n in counts]


def cleaned_stretch(folder: Path, channels: int, a: int, b: int, wanted: Wanted) -> bytes:
    """Samples [a, b) cleaned, as in a sound.pcm: to be heard before all of it is made."""
    samples = samples_of(folder / "sound.pcm", channels)
    talk = talking(folder, len(samples)).copy()
    talk[: max(0, a - AROUND) // TICK] = True  # the noise is judged by what is near
    talk[(b + AROUND) // TICK :] = True
    read = reader(samples)
    cleaner = prepare(read, len(samples), talk, wanted)
    return to_pcm(cleaned(read, a, b, cleaner)).tobytes()
