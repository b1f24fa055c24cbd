"""Whether a sound is music: it has a beat, its notes stand, and hardly anybody speaks in it.

music    notes  ====____====____      the same tones from one moment to the next, and a beat under them
steps    .  |  .  |  .  |  .  |       a beat, but no tones that stay
speech   ~~/\\~ ~\\__~~               tones, but they glide; no beat
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import uniform_filter1d

from kovel.core.sound.beats import beat_strength
from kovel.core.sound.hits import RATE

Floats = NDArray[np.float32]
WINDOW = 4096  # samples of a moment: 0.17 s
TONES = (80.0, 2000.0)  # Hz in which tones are looked for
ENOUGH = 90 * RATE  # samples that are looked at
# Measured: five pieces of music, minute by minute, lie at 0.15 to 0.65 and 0.46 to 0.83; prompts that were read aloud
# have no beat and 0.19; steps, hammering, gulls, water and a room's tone at most 0.14 of tones that stand.
BEAT, STANDS, SPOKEN = 0.12, 0.4, 0.1


def sounds_like_music(x: Floats, spoken: float) -> bool:
    """Whether 24 kHz mono sound is music. `spoken`: the share of it in which somebody speaks, 0 to 1. Source: common
    practice (a repeating onset curve, steady spectral peaks), with thresholds of our own."""
    return (
        spoken < SPOKEN
        and len(x) >= 8 * RATE
        and standing_tones(x[:ENOUGH]) >= STANDS
        and beat_strength(x[:ENOUGH]) >= BEAT
    )


def standing_tones(x: Floats) -> float:
    """How alike the tones of one moment are to those of the next, 0 to 1, in the median of the louder ones."""
    moments = len(x) // WINDOW
    if moments < 2:
        return 0.0
    bins = slice(round(TONES[0] * WINDOW / RATE), round(TONES[1] * WINDOW / RATE))
    frames = x[: moments * WINDOW].reshape(moments, WINDOW) * np.hanning(WINDOW).astype(np.float32)
    power = (np.abs(np.fft.rfft(frames, axis=1)) ** 2)[:, bins]
    loud = power.sum(1)
    power = power[loud > 0.1 * np.median(loud)]
    if len(power) < 2:
        return 0.0
    level = 10 * np.log10(power + 1e-9)
    peaks = np.maximum(0, level - uniform_filter1d(level, 31, axis=1) - 6)  # what stands out by 6 dB and more
    here, after = peaks[:-1], peaks[1:]
    alike = (here * after).sum(1) / np.sqrt((here**2).sum(1) * (after**2).sum(1) + 1e-9)
    return float(np.median(alike))
