"""Room tone: what a room sounds like when nobody speaks, as long as one likes, out of the recording's own pauses.

pauses  [a][b ][c]...      tone  [c]x[a]x[b ]x[a']x...   crossfaded at equal power, never twice the same way round
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from kovel.core.sound.cleaning import RATE, Floats, Read
from kovel.core.sound.levels import TICK, Mask, runs

CROSS = RATE // 8
LEAST = 0.35  # seconds of a pause that is any use, with its edges left out
MARGIN = 0.08
ALIKE = 3.0  # dB a pause may be louder than the quiet ones


def quiet_pauses(read: Read, talk: Mask) -> list[tuple[int, int]]:
    """Stretches (samples) where nobody speaks and nothing else is heard, the longest first."""
    run_starts, run_ends = runs(~talk)
    margin = int(MARGIN * RATE)
    quiet_spans = [(int(a) * TICK + margin, int(b) * TICK - margin) for a, b in zip(run_starts, run_ends, strict=True)]
    quiet_spans = [(start, end) for start, end in quiet_spans if end - start >= LEAST * RATE]
    if not quiet_spans:
        return []
    levels = []
    for start, end in quiet_spans:
        pause_samples = read(start, min(end, start + 20 * RATE))
        parts = 10 * np.log10(
            (pause_samples[: len(pause_samples) // 2400 * 2400] ** 2).mean(1).reshape(-1, 2400).mean(1) + 1e-12
        )
        levels.append((float(np.median(parts)), float(parts.max())))
    usual = float(np.percentile([moment for moment, _ in levels], 30))
    kept = [
        quiet_span
        for quiet_span, (mid, top) in zip(quiet_spans, levels, strict=True)
        if mid < usual + ALIKE and top < mid + 4 * ALIKE
    ]
    return sorted(kept, key=lambda r: r[0] - r[1])


def room_tone(read: Read, pauses: Sequence[tuple[int, int]], seconds: float = 30.0, seed: int = 1) -> Floats | None:
    """(n, channels) of room tone; None where there are less than two seconds of pauses to make it of.

    Stretches of 0.35 to 2 s are drawn from the pauses anew and anew, so that none comes back the same way; their
    levels are brought to the same.
    """
    if sum(end - start for start, end in pauses) < 2 * RATE:
        return None
    rng = np.random.default_rng(seed)
    n = int(seconds * RATE)
    shares = np.array([end - start for start, end in pauses], float)
    shares /= shares.sum()
    tone_samples = np.zeros((n + 3 * RATE, read(0, 1).shape[1]), np.float32)
    ramp = np.sin(np.linspace(0, np.pi / 2, CROSS, dtype=np.float32))[:, None]
    usual: float | None = None
    at, last = 0, -1
    while at < n:
        pause_index = int(rng.choice(len(pauses), p=shares))
        if pause_index == last and len(pauses) > 2:
            continue
        start, end = pauses[pause_index]
        size = int(min(end - start, rng.uniform(LEAST, 2.0) * RATE))
        size = max(size, min(end - start, 2 * CROSS + 1))
        begin = start + int(rng.integers(0, end - start - size + 1))
        tone_part = read(begin, begin + size).copy()
        if rng.random() < 0.5:
            tone_part = tone_part[::-1].copy()  # noise has no direction; a loop would
        level = float(np.sqrt((tone_part**2).mean() + 1e-12))
        usual = level if usual is None else usual
        tone_part *= np.float32(np.clip(usual / level, 0.6, 1.6))
        cross = min(CROSS, size // 2) if at else 0
        if cross:
            up = ramp[:: CROSS // cross][:cross] if cross < CROSS else ramp
            tone_part[:cross] *= up
            tone_samples[at - cross : at] *= up[::-1]
            at -= cross
        tone_samples[at : at + size] += tone_part
        at += size
        last = pause_index
    return tone_samples[:n]
