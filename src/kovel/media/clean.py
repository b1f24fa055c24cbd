"""A cleaned sound made of a recording's raw one, a minute at a time, on all cores; and stretches of it at once, to
hear.

made/NAME.pcm         as sound.pcm, sample for sample; NAME says how it was made (core.plan.sounds.made_of)
made/NAME.power.npy   as power.npy
made/NAME.json        what was found, and how loud it is before and after, in steps of 1 dB
"""

import fcntl
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from kovel.core.sound.cleaning import RATE, Cleaner, Read, Wanted, cleaned, prepare
from kovel.core.sound.levels import TICK, Levels, Mask
from kovel.core.sound.loudness import PowerMaker
from kovel.core.sound.pauses import speech
from kovel.media.files import Unusable
from kovel.media.soundtrack import samples_of
from kovel.media.whole_files import MACHINE, facts_in, keep, left_parts, own_part, written_whole

BLOCK = 30 * RATE
LOWEST, HIGHEST = -90, 0  # dB drawn
AROUND = 4 * 60 * RATE  # samples to either side that a stretch is judged by


def reader(samples: np.ndarray) -> Read:
    """Reads (n, channels) 16-bit samples as floats, silence outside of them."""

    def read(start: int, end: int) -> np.ndarray:
        read_samples: np.ndarray = np.zeros((end - start, samples.shape[1]), np.float32)
        lowest, highest = max(0, start), min(len(samples), end)
        if highest > lowest:
            read_samples[lowest - start : highest - start] = samples[lowest:highest].astype(np.float32) / np.float32(
                32768
            )
        return read_samples

    return read


def talking(folder: Path, samples: int) -> Mask:
    """For each 10 ms whether somebody speaks, as Kovel found it; `Unusable` while it has not listened."""
    try:
        levels = Levels.from_array(np.load(folder / "levels.npy"))
    except (OSError, ValueError):
        raise Unusable(
            "Its pauses are not found yet, and they tell what its noise is. Try again in a moment."
        ) from None
    mask = speech(levels)
    n = -(-samples // TICK)
    return np.concatenate([mask, np.zeros(max(0, n - len(mask)), bool)])[:n]


def to_pcm(x: np.ndarray) -> np.ndarray:
    y: np.ndarray = np.rint(x * 32768).clip(-32768, 32767).astype("<i2")
    return y


def clean(
    out: str, channels: int, name: str, wanted: dict[str, Any], progress: Callable[[float], None]
) -> dict[str, Any]:
    """Make made/NAME of a recording; what was found. A try that was cut short is gone on with where it stood, and
    one that is whole stays."""
    folder = Path(out)
    (folder / "made").mkdir(exist_ok=True)
    samples = samples_of(folder / "sound.pcm", channels)
    if not len(samples):
        raise Unusable("It has no sound that could be cleaned.")
    final = folder / "made" / f"{name}.pcm"
    noted = facts_in(folder / "made" / f"{name}.json")
    if noted and final.exists() and final.stat().st_size == samples.nbytes:
        return {"name": name, "hum": noted["hum"], "pictures": noted["pictures"]}
    read = reader(samples)
    cleaner = prepare(read, len(samples), talking(folder, len(samples)), Wanted(**wanted))
    progress(0.1)

    def one(ends: tuple[int, int]) -> np.ndarray:
        return to_pcm(cleaned(read, ends[0], ends[1], cleaner))

    file, part = _taken_up(final)
    with file as wave_file, ThreadPoolExecutor(max(1, min(4, os.cpu_count() or 2))) as pool:
        begun = wave_file.seek(0, os.SEEK_END) // (BLOCK * channels * 2)
        blocks = [(a, min(len(samples), a + BLOCK)) for a in range(begun * BLOCK, len(samples), BLOCK)]
        wave_file.truncate(wave_file.seek(begun * BLOCK * channels * 2))
        width = 4  # blocks under way at once
        for block_start in range(0, len(blocks), width):
            for cleaned_block in pool.map(one, blocks[block_start : block_start + width]):
                wave_file.write(cleaned_block.tobytes())
            wave_file.flush()
            progress(0.1 + 0.85 * min(len(samples), (begun + block_start + width) * BLOCK) / len(samples))
    made_samples = samples_of(part, channels)
    power = PowerMaker()
    for a in range(0, len(made_samples), BLOCK):
        power.feed(np.asarray(made_samples[a : a + BLOCK]))
    save_power(folder / "made" / f"{name}.power.npy", power)
    found_noise = found_in(cleaner) | {"before": spread(samples), "after": spread(made_samples)}
    keep(folder / "made" / f"{name}.json", found_noise)
    part.replace(final)
    return {"name": name, **found_in(cleaner)}


def save_power(path: Path, power: PowerMaker) -> None:
    """What is measured of a sound, whole or not at all."""
    with written_whole(path) as part_file, part_file.open("wb") as file:
        np.save(file, power.finish())


def _taken_up(final: Path) -> tuple[BinaryIO, Path]:
    """A file to write on in, held for this try alone, and its name: what an earlier try on this machine has left
    half-made, or a new one."""
    part_file = own_part(final)
    for left_part in left_parts(final, MACHINE):
        with suppress(OSError):
            file = left_part.open("r+b")
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)  # whoever wrote it is gone
                os.replace(left_part, part_file)  # and has not made it whole meanwhile
                return file, part_file
            except OSError:
                file.close()
    file = part_file.open("w+b")
    fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    return file, part_file


def found_in(cleaner: Cleaner) -> dict[str, Any]:
    """What was found out, in words a page can show."""
    return {
        "hum": [round(hum_frequency, 2) for hum_frequency in cleaner.hum],
        "pictures": 0 if cleaner.at is None else len(cleaner.at),
    }


def spread(samples: np.ndarray) -> list[int]:
    """How many stretches of 10 ms lie at each dB from LOWEST on."""
    counts = np.zeros(HIGHEST - LOWEST, np.int64)
    for a in range(0, len(samples) - TICK + 1, BLOCK):
        block_samples = np.asarray(samples[a : a + BLOCK], np.float32).mean(1) / 32768
        block_samples = block_samples[: len(block_samples) // TICK * TICK].reshape(-1, TICK)
        db = np.floor(10 * np.log10((block_samples**2).mean(1) + 1e-10)).astype(int)
        counts += np.bincount(np.clip(db - LOWEST, 0, len(counts) - 1), minlength=len(counts))
    return [int(count) for count in counts]


def cleaned_stretch(folder: Path, channels: int, start: int, end: int, wanted: Wanted) -> bytes:
    """Samples [a, b) cleaned, as in a sound.pcm: to be heard before all of it is made."""
    samples = samples_of(folder / "sound.pcm", channels)
    talk = talking(folder, len(samples)).copy()
    talk[: max(0, start - AROUND) // TICK] = True  # the noise is judged by what is near
    talk[(end + AROUND) // TICK :] = True
    read = reader(samples)
    cleaner = prepare(read, len(samples), talk, wanted)
    return to_pcm(cleaned(read, start, end, cleaner)).tobytes()
