"""What a shot is like from frame to frame: bright or dark, still or shaken; and which few seconds of it are best.

frames    |  |  |  |  |  |  |  |  |
shift     ∙∙∙∙~~~~∙∙∙∙∙∙∙∙∙∙∙∙~~~~      how far the whole picture jumps against its own smooth path
best            [──────────]
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.ndimage import uniform_filter1d

WIDE, HIGH = 64, 36  # the small grey picture all this is measured on

Floats = npt.NDArray[np.float32]
Grey = npt.NDArray[np.uint8]


class MotionMaker:
    """Takes a recording's small grey pictures (HIGH, WIDE) uint8 in order."""

    def __init__(self) -> None:
        self._rows: list[tuple[float, float, float, float]] = []
        self._before: npt.NDArray[np.complex128] | None = None
        self._last: Grey | None = None
        self._window = np.outer(np.hanning(HIGH), np.hanning(WIDE))

    @property
    def last(self) -> tuple[float, float, float, float]:
        """The row of the frame that came last."""
        return self._rows[-1]

    def feed(self, grey: Grey) -> None:
        """One more frame, as its small grey."""
        if self._last is not None and np.array_equal(grey, self._last):
            self._rows.append((float(grey.mean()), 0.0, 0.0, 0.0))
            return
        grey_float = grey.astype(np.float64)
        spectrum = np.fft.rfft2((grey_float - grey_float.mean()) * self._window)
        change, dx, dy = 0.0, 0.0, 0.0
        if self._before is not None and self._last is not None:
            change = float(np.abs(grey_float - self._last).mean())
            cross = spectrum * np.conj(self._before)
            surface = np.fft.irfft2(cross / (np.abs(cross) + 1e-3), (HIGH, WIDE))
            y, z = np.unravel_index(int(surface.argmax()), surface.shape)
            dy, dx = _peak(surface[:, z], int(y)), _peak(surface[y], int(z))
        self._rows.append((float(grey_float.mean()), change, dx, dy))
        self._before, self._last = spectrum, grey

    def finish(self) -> npt.NDArray[np.float16]:
        """(frames, 4): mean brightness 0-255, mean change against the frame before, shift right and down in pixels."""
        return np.array(self._rows, np.float16).reshape(-1, 4)


def _peak(line: npt.NDArray[np.float64], i: int) -> float:
    """A peak's place to a fraction (parabola through three points), as a signed shift."""
    count = len(line)
    a, b, right_level = line[i - 1], line[i], line[(i + 1) % count]
    part = 0.5 * (a - right_level) / (a - 2 * b + right_level) if a - 2 * b + right_level < 0 else 0.0
    return float(i - count if i > count // 2 else i) + float(part)


@dataclass(frozen=True)
class Look:
    """A shot by the frame, each (n,): brightness and steadiness 0 to 1, change as measured."""

    bright: Floats
    steady: Floats
    change: Floats


def look(motion_rows: npt.NDArray[np.float16], fps: float) -> Look:
    """From MotionMaker's rows. Steady is 1 where the picture moves evenly or not at all, and falls with every jolt.

    A pan at even speed is steady; a jolt is the shift left over after a smooth path of 0.6 s is taken away.
    """
    motion = motion_rows.astype(np.float32)
    if not len(motion):
        no_motion = np.zeros(0, np.float32)
        return Look(no_motion, no_motion, no_motion)
    shift = np.clip(motion[:, 2:4], -8, 8)
    smooth = uniform_filter1d(shift, max(3, round(fps * 0.6)), axis=0)
    jolt = np.hypot(*(shift - smooth).T)
    rough = uniform_filter1d(jolt, max(1, round(fps * 0.5)))
    return Look(np.asarray(motion[:, 0] / 255, np.float32), np.asarray(1 / (1 + 4 * rough), np.float32), motion[:, 1])


def best_stretch(seen: Look, fps: float, seconds: tuple[float, float] = (3.0, 4.0)) -> tuple[int, int] | None:
    """The best few seconds of a shot, frames [a, b): steady, neither dark nor burnt out nor changing light, clear of
    its first and last half second where there is room. None for a shot shorter than `seconds[0]`.

    Three to four seconds is what b-roll usually stands (common practice, no source).
    """
    count = len(seen.bright)
    if count < seconds[0] * fps:
        return None
    length = min(count, round(fps * sum(seconds) / 2))
    steady, level = _means(seen.steady, length), _means(seen.bright, length)
    wander = np.sqrt(np.maximum(0, _means(seen.bright.astype(np.float64) ** 2, length) - level**2))
    alive = _means(np.minimum(seen.change, 6.0), length) / 6  # something should happen in it
    score = steady - 2 * np.maximum(0, 0.12 - level) - 2 * np.maximum(0, level - 0.9) - 2 * wander + 0.15 * alive
    edge = min(round(fps * 0.5), (count - length) // 2)
    score[:edge] -= 0.2
    if edge:
        score[-edge:] -= 0.2
    a = int(score.argmax())
    return a, a + length


def _means(values: npt.ArrayLike, length: int) -> npt.NDArray[np.float64]:
    """The mean of every window of `length` values."""
    running_sums = np.concatenate([[0.0], np.cumsum(values, dtype=np.float64)])
    return np.asarray((running_sums[length:] - running_sums[:-length]) / length)
