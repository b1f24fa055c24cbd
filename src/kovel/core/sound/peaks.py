"""Waveform peaks at several resolutions: one (min, max) pair of 8-bit values for each 10, 80 and 640 ms."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

BASE = 480  # samples: 10 ms
LEVELS = (1, 8, 64)

Pairs = npt.NDArray[np.int8]


class PeakMaker:
    """Takes mono or interleaved 16-bit samples block by block; keeps only pairs."""

    def __init__(self) -> None:
        self._left = np.zeros(0, np.int16)
        self._rows: list[Pairs] = []
        self._shown = 0  # of the rows, how many `fresh` gave

    def feed(self, samples: npt.NDArray[np.int16]) -> None:
        """samples: (n,) or (n, channels); channels are taken together (widest swing)."""
        both_channels = (
            samples
            if samples.ndim == 1
            else samples[np.arange(len(samples)), np.abs(samples.astype(np.int32)).argmax(1)]
        )
        both_channels = np.concatenate([self._left, both_channels])
        n = len(both_channels) // BASE * BASE
        self._left = both_channels[n:]
        if n:
            self._rows.append(_pairs(both_channels[:n]))

    def fresh(self) -> Pairs:
        """The (n, 2) finest pairs that came since the last call."""
        fresh_rows, self._shown = self._rows[self._shown :], len(self._rows)
        return np.concatenate(fresh_rows) if fresh_rows else np.zeros((0, 2), np.int8)

    def finish(self) -> list[Pairs]:
        """(n, 2) int8 arrays for each of LEVELS."""
        if len(self._left):
            self._rows.append(_pairs(np.pad(self._left, (0, BASE - len(self._left)))))
        base = np.concatenate(self._rows) if self._rows else np.zeros((0, 2), np.int8)
        return [coarser(base, level_index) for level_index in LEVELS]


def _pairs(x: npt.NDArray[np.int16]) -> Pairs:
    y = x.reshape(-1, BASE)
    return np.stack([y.min(1) >> 8, -((-y.max(1).astype(np.int32)) >> 8)], 1).clip(-128, 127).astype(np.int8)


def coarser(pairs: Pairs, k: int) -> Pairs:
    """Every k pairs as one."""
    if k == 1 or not len(pairs):
        return pairs
    pad = -len(pairs) % k
    y = np.concatenate([pairs, np.repeat(pairs[-1:], pad, 0)]) if pad else pairs
    y = y.reshape(-1, k, 2)
    return np.stack([y[:, :, 0].min(1), y[:, :, 1].max(1)], 1)
