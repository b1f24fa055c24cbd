"""How loud a recording is and how likely somebody speaks, each 10 ms: computed once, kept, and read by everything
after.

sound   ──▁▃▇▆▇▃▁────────▂▇▇▅▃▁───      one row each TICK samples at 48 kHz
speech  00000111110000000001111110      probability from a detector; -1 where it has not listened yet
level   dBFS of the 200-4000 Hz band, where speech is and rumble and hiss mostly are not
floor   dBFS the level falls back to around here: the room, a fan, the camera
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
from scipy.ndimage import uniform_filter1d

TICK = 480  # samples at 48 kHz: 10 ms
RATE = 16_000  # of the sound these are computed from
STEP = RATE // 100
QUIETEST = -90.0  # dBFS shown for digital silence
LOWEST_FLOOR = -62.0  # a floor below this is silence for every purpose

Floats = npt.NDArray[np.float32]
Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True, eq=False)
class Levels:
    """Rows of 10 ms, each array (n,) float32; see the picture above."""

    speech: Floats
    level: Floats
    floor: Floats

    def __len__(self) -> int:
        return len(self.level)

    @property
    def heard(self) -> bool:
        """Whether the detector has listened to all of it."""
        return bool(len(self)) and bool((self.speech >= 0).all())

    @cached_property
    def spread(self) -> Floats:
        """dB between what is loud and what is quiet in the 30 s around; (n,)."""
        count = len(self)
        if not count:
            return self.level
        smoothed = uniform_filter1d(self.level, 5)
        sorted_levels = np.sort(np.pad(smoothed, (0, -count % 100), "edge").reshape(-1, 100), 1)[
            :, ::10
        ]  # a tenth of a second's stands for it
        spread_levels = []
        for row_number in range(len(sorted_levels)):
            around = sorted_levels[max(0, row_number - 15) : row_number + 15].ravel()
            low, high = len(around) // 10, len(around) * 9 // 10
            quantiles = np.partition(around, [low, high])
            spread_levels.append(quantiles[high] - quantiles[low])
        return np.asarray(np.repeat(np.array(spread_levels, np.float32), 100)[:count])

    def between(self, start: int, end: int) -> Levels:
        """Samples [start, end) at 48 kHz."""
        begin, until = start // TICK, -(-end // TICK)
        return Levels(self.speech[begin:until], self.level[begin:until], self.floor[begin:until])

    def to_array(self) -> npt.NDArray[np.float16]:
        """(n, 3) for a file."""
        return np.stack([self.speech, self.level, self.floor], 1).astype(np.float16)

    @staticmethod
    def from_array(level_array: npt.NDArray[np.float16]) -> Levels:
        """What is kept on disk: three columns as half floats."""
        s, lv, f = level_array.astype(np.float32).T.copy()
        return Levels(s, lv, f)


def local_floor(level: Floats, seconds: float = 20.0, percent: float = 10.0) -> Floats:
    """The level that `percent` of the ticks within `seconds` around stay under, smoothed over 50 ms first; (n,)
    dBFS."""
    count = len(level)
    if not count:
        return level
    smoothed = uniform_filter1d(level, 5)
    half, hop = int(seconds * 50), 50
    at = np.arange(0, count, hop)
    floor_there = np.array(
        [np.percentile(smoothed[max(0, level_index - half) : level_index + half], percent) for level_index in at]
    )
    return np.asarray(np.interp(np.arange(count), at, floor_there), np.float32)


def stretch_to_ticks(probabilities: Floats, ticks: int, window: int = 512) -> Floats:
    """A detector's values for windows of 16 kHz samples, as one value each tick."""
    if not len(probabilities):
        return np.zeros(ticks, np.float32)
    where = np.arange(ticks) * STEP + STEP / 2
    return np.asarray(np.interp(where, np.arange(len(probabilities)) * window + window / 2, probabilities), np.float32)


def runs(mask: Mask) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """Starts and ends (exclusive) of the stretches where `mask` holds."""
    held = np.zeros(len(mask) + 2, bool)
    held[1:-1] = mask
    at = np.flatnonzero(held[1:] != held[:-1])
    return at[::2], at[1::2]


def hysteresis(x: Floats, high: float, low: float, least: int = 1) -> Mask:
    """Stretches over `low` in which at least `least` values lie over `high`."""
    run_starts, run_ends = runs(x > low)
    over = np.flatnonzero(x > high)
    keep = np.searchsorted(over, run_ends) - np.searchsorted(over, run_starts) >= least
    return filled(len(x), run_starts[keep], run_ends[keep])


def filled(n: int, starts: npt.NDArray[np.int64], ends: npt.NDArray[np.int64]) -> Mask:
    """(n,): where at least one of the stretches [start, end) lies."""
    d = np.zeros(n + 1, np.int32)
    np.add.at(d, starts, 1)
    np.add.at(d, np.minimum(ends, n), -1)
    return np.asarray(np.cumsum(d[:-1], dtype=np.int32) > 0)
