"""The whole brought to its loudness, with peaks tamed by short dips in gain; and voices brought to one loudness.

peaks   ▁▂▃▇▃▂▁▁█▂  gain  ────╲_╱──╲_╱──     deep enough over every frame that goes over the limit, and back in a moment
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from kovel.core.sound.loudness import STEP, Powers, decibels, integrated, lufs

LIMIT = -1.0  # dBTP (EBU R 128)
SPARE = 0.05  # dB under the limit, for what measuring leaves open
DOWN, BACK = 6.0, 0.5  # dB a frame: how steeply a dip begins and ends, at most
DEEPEST = -12.0  # dB: what would need deeper dips is not made that loud
Moments = tuple[tuple[int, float], ...]


def tamed(peaks: npt.NDArray[np.floating], limit: float = LIMIT) -> Moments:
    """Dips (frame, dB) that hold the true peaks of each frame under a limit (dBTP); none where nothing goes over.

    `peaks` are factors of full scale, one a frame; between its moments the line is straight, and over each frame it
    lies as deep as that frame needs.
    """
    need = np.maximum(0.0, decibels(peaks) - (limit - SPARE))
    if not need.any():
        return ()
    count = len(need)
    at = np.zeros(count + 1)  # how deep it has to be where a frame begins, and at the end
    at[:-1] = need
    at[1:] = np.maximum(at[1:], need)
    for lag_index in range(1, count + 1):
        at[lag_index] = max(at[lag_index], at[lag_index - 1] - BACK)
    for lag_index in range(count - 1, -1, -1):
        at[lag_index] = max(at[lag_index], at[lag_index + 1] - DOWN)
    at = np.minimum(at, -DEEPEST)
    turn = np.ones(count + 1, bool)  # moments where the line turns; the rest follows from them
    turn[1:-1] = np.abs(at[2:] - 2 * at[1:-1] + at[:-2]) > 1e-9
    return tuple(
        (int(turn_index), round(-float(np.ceil(at[turn_index] * 10 - 1e-9) / 10), 1) + 0.0)
        for turn_index in np.flatnonzero(turn)
    )


@dataclass(frozen=True, slots=True)
class Mastered:
    """What the story is made louder by, the dips that go with it, what it measures then, and whether its peaks let
    it get there."""

    gain: float
    dips: Moments
    loudness: float
    reached: bool


def mastered(
    power: Powers, peaks: npt.NDArray[np.floating], samples: float, target: float, limit: float = LIMIT
) -> Mastered | None:
    """How a mix gets to `target` LUFS with no true peak over `limit`; None where it is silent.

    `power` is its weighted power each 100 ms, `peaks` its true peaks each frame of `samples` samples, as it is
    without dips. Dips take loudness away, so it goes round until both hold. Where that would take dips deeper than
    DEEPEST, it stays softer.
    """
    loudness_now = integrated(power)
    if loudness_now is None:
        return None
    gain, dips, loud = target - loudness_now, (), loudness_now  # type: tuple[float, Moments, float]
    middle = (np.arange(len(power)) + 0.5) * STEP / samples  # in frames
    most = float(limit - SPARE - DEEPEST - decibels(peaks.max(initial=0)))
    for _ in range(40):
        gain = np.floor(10 * most) / 10 if gain > most else round(gain, 1)
        dips = tamed(peaks * 10 ** (gain / 20), limit)
        gain_line = (
            np.interp(middle, [moment for moment, _ in dips], [d for _, d in dips]) if dips else np.zeros(len(power))
        )
        loud = integrated(power * 10 ** ((gain + gain_line) / 10)) or loudness_now + gain
        if abs(target - loud) <= 0.06 or (target > loud and gain + 0.1 > most):
            break
        gain += float(np.clip(target - loud, -2, 2)) or 0.0
    return Mastered(round(gain, 1), dips, loud, abs(target - loud) <= 0.2)


def speech_loudness(power: npt.NDArray[np.floating], talk: npt.NDArray[np.bool_]) -> float | None:
    """Loudness of the steps in which somebody speaks, in LUFS: those more than 10 LU under the rest left out (the
    relative gate of BS.1770-5 on speech alone); None with less than half a second of it."""
    said_power = np.asarray(power[talk], np.float64)
    said_power = said_power[lufs(said_power) > -70]
    if len(said_power) < 5:
        return None
    kept = said_power[lufs(said_power) > lufs(float(said_power.mean())) - 10]
    return float(lufs(float(kept.mean())))
