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
        s = uniform_filter1d(self.level, 5)
        rows = np.sort(np.pad(s, (0, -count % 100), "edge").reshape(-1, 100), 1)[
            :, ::10
        ]  # a tenth of a second's stands for it
        out = []
        for i in range(len(rows)):
            around = rows[max(0, i - 15) : i + 15].ravel()
            low, high = len(around) // 10, len(around) * 9 // 10
            x = np.partition(around, [low, high])
            out.append(x[high] - x[low])
        return np.asarray(np.repeat(np.array(out, np.float32), 100)[:count])

    def between(self, start: int, end: int) -> Levels:
        """Samples [start, end) at 48 kHz."""
        begin, until = start // TICK, -(-end // TICK)
        return Levels(self.speech[begin:until], self.level[begin:until], self.floor[begin:until])

    def to_array(self) -> npt.NDArray[np.float16]:
        """(n, 3) for a file."""
        return np.stack([self.speech, self.level, self.floor], 1).astype(np.float16)

    @staticmethod
    def from_array(rows: npt.NDArray[np.float16]) -> Levels:
        """What is kept on disk: three columns as half floats."""
        s, lv, f = rows.astype(np.float32).T.copy()
        return Levels(s, lv, f)


def local_floor(level: Floats, seconds: float = 20.0, percent: float = 10.0) -> Floats:
    """The level that `percent` of the ticks within `seconds` around stay under, smoothed over 50 ms first; (n,)
    dBFS."""
    count = len(level)
    if not count:
        return level
    s = uniform_filter1d(level, 5)
    half, hop = int(seconds * 50), 50
    at = np.arange(0, count, hop)
    f = np.array([np.percentile(s[max(0, i - half) : i + half], percent) for i in at])
    return np.asarray(np.interp(np.arange(count), at, f), np.float32)


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
    s, e = runs(x > low)
    over = np.flatnonzero(x > high)
    keep = np.searchsorted(over, e) - np.searchsorted(over, s) >= least
    return filled(len(x), s[keep], e[keep])


def filled(n: int, starts: npt.NDArray[np.int64], ends: npt.NDArray[np.int64]) -> Mask:
    """(n,): where at least one of the stretches [start, end) lies."""
    d = np.zeros(n + 1, np.int32)
    np.add.at(d, starts, 1)
    np.add.at(d, np.minimum(ends, n), -1)
    return np.asarray(np.cumsum(d[:-1], dtype=np.int32) > 0)
