"""Loudness of the band in which speech is, from samples. Apart from the levels made of it, for what it needs is slow
to load."""

from __future__ import annotations

import numpy as np
from scipy.signal import butter, sosfilt

from kovel.core.sound.levels import RATE, STEP, Floats


class LevelMaker:
    """Takes 16 kHz mono float samples block by block (a block may have any length) and gives the level of each 10
    ms."""

    _SOS = butter(4, [200, 4000], "band", fs=RATE, output="sos")

    def __init__(self) -> None:
        self._state = np.zeros((len(self._SOS), 2), np.float32)
        self._left = np.zeros(0, np.float32)
        self._rows: list[Floats] = []

    def feed(self, x: Floats) -> None:
        """More samples, of any number."""
        y, self._state = sosfilt(self._SOS.astype(np.float32), x, zi=self._state)
        y = np.concatenate([self._left, y.astype(np.float32)])
        n = len(y) // STEP
        self._left = y[n * STEP :]
        if n:
            z = y[: n * STEP].reshape(n, STEP)
            self._rows.append(10 * np.log10(np.einsum("ij,ij->i", z, z) / STEP + 1e-9))

    def finish(self) -> Floats:
        """dB of each tick; half a tick at the end counts as one."""
        kept_levels = [*self._rows]
        if len(self._left) >= STEP // 2:
            kept_levels.append(np.array([10 * np.log10(float(np.mean(self._left**2)) + 1e-9)], np.float32))
        return np.concatenate(kept_levels).astype(np.float32) if kept_levels else np.zeros(0, np.float32)
