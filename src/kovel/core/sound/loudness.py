"""Loudness of sound: momentary, short-term, integrated, its range, and true peaks.

samples     |.........100 ms|.........|.........|......     weighted power every 100 ms
momentary   |<-------- 400 ms ------->|                     short-term the same over 3 s
integrated  blocks of 400 ms that overlap by three quarters, those under two gates left out

Weighting, blocks, gates and true peak: ITU-R BS.1770-5; momentary and short-term: EBU Tech 3341; range: EBU Tech 3342.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

STEP = 4_800  # samples: 100 ms
MOMENTARY, SHORT = 4, 30  # steps
SILENT = -70.0  # LUFS: the absolute gate

# BS.1770-5, annex 1, tables 1 and 2: the shelf of the head and the high-pass, as second-order sections at 48 kHz
WEIGHTING = (
    (1.53512485958697, -2.69169618940638, 1.19839281085285, 1.0, -1.69065929318241, 0.73248077421585),
    (1.0, -2.0, 1.0, 1.0, -1.99004745483398, 0.99007225036621),
)

Rows = npt.NDArray[np.float32]
Powers = npt.NDArray[np.float64]


class PowerMaker:
    """Takes 16-bit samples (n, 1) or (n, 2) block by block; gives a row for each 100 ms: weighted power of the
    stereo sound it is heard as, peak (1.0: full scale), how many samples lie at full scale."""

    def __init__(self) -> None:
        self._left: list[npt.NDArray[np.int16]] = []
        self._held = 0
        self._state: npt.NDArray[np.float64] | None = None
        self._rows: list[Rows] = []

    def feed(self, x: npt.NDArray[np.int16]) -> None:
        """More samples, of any number."""
        self._left.append(x)
        self._held += len(x)
        if self._held >= 20 * STEP:
            self._take(self._held // STEP * STEP)

    def _take(self, n: int) -> None:
        from scipy.signal import sosfilt  # slow to load: only where sound is measured

        left_samples = np.concatenate(self._left)
        self._left, self._held = [left_samples[n:]], len(left_samples) - n
        y = left_samples[:n].astype(np.float64) / 32768
        if self._state is None:
            self._state = np.zeros((2, 2, y.shape[1]))
        z, self._state = sosfilt(np.array(WEIGHTING), y, axis=0, zi=self._state)
        power = (z**2).sum(1) * (2 if y.shape[1] == 1 else 1)  # one channel is heard from both sides
        loud = np.abs(left_samples[:n].astype(np.int32)).max(1)
        block_rows = (
            power.reshape(-1, STEP).mean(1),
            loud.reshape(-1, STEP).max(1) / 32768,
            (loud >= 32767).reshape(-1, STEP).sum(1),
        )
        self._rows.append(np.stack(block_rows, 1).astype(np.float32))

    def finish(self) -> Rows:
        """(n, 3); a last part of less than 100 ms is filled up with silence."""
        if self._held:
            wide = self._left[0].shape[1]
            self.feed(np.zeros((-self._held % STEP, wide), np.int16))
            if self._held:
                self._take(self._held)
        return np.concatenate(self._rows) if self._rows else np.zeros((0, 3), np.float32)


def integrated(power: npt.NDArray[np.float64] | Rows) -> float | None:
    """Loudness in LUFS of powers each 100 ms; None if nothing is loud enough to count (BS.1770-5, equations 2 to 7)."""
    if len(power) < 4:
        return None
    total = np.concatenate([[0.0], np.cumsum(power, dtype=np.float64)])
    blocks = np.maximum((total[4:] - total[:-4]) / 4, 1e-15)
    heard_blocks = blocks[-0.691 + 10 * np.log10(blocks) > -70]
    if not len(heard_blocks):
        return None
    kept = heard_blocks[10 * np.log10(heard_blocks) > 10 * np.log10(heard_blocks.mean()) - 10]
    return float(-0.691 + 10 * np.log10(kept.mean()))


class Weigher:
    """Takes stereo floats (n, 2) block by block; gives the weighted power of each 100 ms, both channels together."""

    def __init__(self) -> None:
        self._state = np.zeros((2, 2, 2))
        self._left = np.zeros((0, 2))
        self._rows: list[Powers] = []

    def feed(self, x: npt.NDArray[np.floating]) -> None:
        """More samples (n, channels), of any number."""
        from scipy.signal import sosfilt

        z, self._state = sosfilt(np.array(WEIGHTING), x.astype(np.float64), axis=0, zi=self._state)
        z = np.concatenate([self._left, z])
        n = len(z) // STEP * STEP
        self._left = z[n:]
        self._rows.append((z[:n] ** 2).sum(1).reshape(-1, STEP).mean(1))

    def finish(self) -> Powers:
        """(n,) powers; a last part of less than 100 ms is filled up with silence."""
        if len(self._left):
            rest = np.zeros(STEP)
            rest[: len(self._left)] = (self._left**2).sum(1)
            self._rows.append(rest.mean(keepdims=True))
        return np.concatenate(self._rows) if self._rows else np.zeros(0)


def lufs(power: npt.NDArray[np.floating] | float) -> Powers:
    """Powers as loudness (BS.1770-5, equation 2); -120 for silence."""
    return np.asarray(-0.691 + 10 * np.log10(np.maximum(power, 10**-11.9309)))


def sliding(power: npt.NDArray[np.floating], steps: int) -> Powers:
    """Loudness over `steps` steps that end at each step: momentary with MOMENTARY, short-term with SHORT; (n,) LUFS."""
    total = np.concatenate([np.zeros(steps), np.cumsum(power, dtype=np.float64)])
    return lufs(np.maximum(total[steps:] - total[:-steps], 0) / steps)


def loudness_range(power: npt.NDArray[np.floating]) -> float | None:
    """LRA in LU (EBU Tech 3342): between the 10th and the 95th percentile of short-term loudness every 100 ms,
    without what lies under -70 LUFS or 20 LU under the rest; None where nothing is left."""
    if len(power) < SHORT:
        return None
    short = sliding(power, SHORT)[SHORT - 1 :]
    heard_blocks = short[short >= SILENT]
    if not len(heard_blocks):
        return None
    mean = 10 * np.log10(np.mean(10 ** (heard_blocks / 10)))
    sorted_loudness = np.sort(heard_blocks[heard_blocks >= mean - 20])
    last = len(sorted_loudness) - 1
    return float(sorted_loudness[round(0.95 * last)] - sorted_loudness[round(0.10 * last)])


class TruePeaks:
    """Takes stereo floats (n, 2) block by block, each but the last a multiple of `step` long; gives the true peak of
    each `step` samples, as a factor of full scale: the largest value between the samples at four times their rate
    (BS.1770-5, annex 2)."""

    REACH = 24  # samples that the filter looks to either side

    def __init__(self, step: int) -> None:
        from scipy.signal import firwin

        self.step = step
        self._fir = firwin(4 * 2 * self.REACH + 1, 1 / 4, window=("kaiser", 7.0)) * 4
        self._held = np.zeros((self.REACH, 2))
        self._count = 0
        self._rows: list[Powers] = []

    def feed(self, x: npt.NDArray[np.floating]) -> None:
        """More samples (n, 2), of any number."""
        self._held = np.concatenate([self._held, x])
        self._take((len(self._held) - 2 * self.REACH) // self.step)

    def _take(self, row_count: int) -> None:
        if row_count <= 0:
            return
        from scipy.signal import upfirdn

        n = row_count * self.step
        y = upfirdn(self._fir, self._held[: n + 2 * self.REACH], 4, axis=0)
        y = np.abs(y[8 * self.REACH :][: 4 * n]).max(1)  # the filter's delay, and what lies before
        self._rows.append(y.reshape(row_count, -1).max(1))
        self._held = self._held[n:]

    def finish(self) -> Powers:
        """The highest true peak of each step; the last may be a part of one."""
        left_frames = len(self._held) - self.REACH
        if left_frames > 0:
            row_count = -(-left_frames // self.step)
            self._held = np.concatenate([self._held, np.zeros((row_count * self.step - left_frames + self.REACH, 2))])
            self._take(row_count)
        return np.concatenate(self._rows) if self._rows else np.zeros(0)


def decibels(peak: npt.NDArray[np.floating] | float) -> Powers:
    """Factors as dB; -120 for nothing."""
    return np.asarray(20 * np.log10(np.maximum(peak, 1e-6)))
