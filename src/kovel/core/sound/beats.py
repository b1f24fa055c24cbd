"""Beats and downbeats of a music recording, and how the editor puts them right.

music   █▂▁▂▅▂▁▂█▂▁▂▅▂▁▂
beats   |   |   |   |        found from how regularly new sound begins
bars    |       |            every `bar` beats, from the strongest place on
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.ndimage import uniform_filter1d

from kovel.core.sound.hits import HOP, RATE, Floats, novelty

FPS = RATE / HOP
SLOWEST, FASTEST = 48.0, 200.0  # beats a minute


@dataclass(frozen=True, slots=True)
class Beats:
    """48 kHz samples of the beats; the first downbeat is `beats[first]`, then every `bar`-th one."""

    beats: tuple[int, ...]
    tempo: float  # beats a minute
    first: int = 0
    bar: int = 4

    @property
    def downbeats(self) -> tuple[int, ...]:
        return self.beats[self.first :: self.bar]


def find_beats(x: Floats, new: Floats | None = None) -> Beats:
    """Beats of 24 kHz mono music: tempo by autocorrelation, then the best evenly spaced path through what is new
    (dynamic programming after Ellis 2007). None for sound without a pulse, or shorter than four seconds.
    `new` is `novelty(x)`, for those who have it already."""
    if len(x) < 4 * RATE:
        return Beats((), 0.0)
    d = novelty(x) if new is None else new
    if d.max() < 0.5:
        return Beats((), 0.0)
    d = np.maximum(0, d - uniform_filter1d(d, int(FPS)))
    d = np.minimum(d / (d.std() + 1e-9), 6.0)
    n = len(d)
    again = np.fft.irfft(np.abs(np.fft.rfft(d - d.mean(), 2 * n)) ** 2)[: min(n, int(4 * FPS))]
    lag = np.arange(len(again))
    half = lag[: len(again) // 2]
    score = again.copy()
    score[half] += 0.5 * again[half * 2]
    bpm = 60 * FPS / np.maximum(lag, 1)
    score *= np.exp(-0.5 * (np.log2(bpm / 115) / 0.9) ** 2)
    low, high = int(60 * FPS / FASTEST), min(len(score) - 2, int(60 * FPS / SLOWEST))
    p = low + int(score[low:high].argmax())

    def near(q: int) -> int:
        return max(range(max(1, q - 2), min(len(again) - 1, q + 3)), key=lambda i: float(again[i]))

    # what comes nearly as regularly twice as often is the beat; softer sounds between beats stay well under that
    while 60 * FPS / (p / 2) <= 190 and again[near(p // 2)] > 0.72 * again[p]:
        p = near(p // 2)
    while 2 * p < high and again[p] < 0.6 * again[near(2 * p)]:  # half of the beats only whisper: they are between
        p = near(2 * p)
    a, b, c = again[p - 1], again[p], again[p + 1]
    period = p + (0.5 * (a - c) / (a - 2 * b + c) if a - 2 * b + c < 0 else 0.0)
    if again[p] < 0.06 * again[0]:
        return Beats((), 0.0)
    return _along(d, float(period))


def _along(d: Floats, period: float) -> Beats:
    """The path of beats about `period` hops apart that gathers the most of `d`."""
    n = len(d)
    reach = np.arange(-int(period), int(period) + 1)
    local = np.convolve(d, np.exp(-0.5 * (reach * 32 / period) ** 2), "same")
    back = np.arange(int(-2 * period), int(-period / 2) + 1)
    cost = -100 * np.log(-back / period) ** 2
    best = local.copy()
    came = np.full(n, -1)
    for i in range(int(2 * period), n):
        v = best[i + back] + cost
        k = int(v.argmax())
        best[i], came[i] = local[i] + v[k], i + back[k]
    i = n - int(period) + int(best[n - int(period) :].argmax())
    path = []
    while i >= 0:
        path.append(i)
        i = int(came[i])
    path.reverse()
    early = path[0] - period
    while early >= 0:  # the path begins two periods in; go back to the start
        path.insert(0, round(early))
        early -= period
    strong = np.array([local[max(0, i - 2) : i + 3].max() for i in path])
    keep = np.flatnonzero(strong > 0.15 * np.median(strong))
    path = path[int(keep[0]) : int(keep[-1]) + 1] if len(keep) else path
    tempo = 60 * FPS / float(np.median(np.diff(path))) if len(path) > 1 else 0.0
    strong = np.array([local[max(0, i - 2) : i + 3].max() for i in path])
    bars = [float(strong[k::4].mean()) if len(strong[k::4]) else 0.0 for k in range(4)]
    samples = tuple(int(i * HOP * 2) for i in path)
    return Beats(samples, round(60 * FPS / period if abs(60 * FPS / period - tempo) < 2 else tempo, 2), int(np.argmax(bars)))


def doubled(b: Beats) -> Beats:
    """A beat between every two."""
    rows = [x for p, q in zip(b.beats[:-1], b.beats[1:], strict=True) for x in (p, (p + q) // 2)]
    return replace(b, beats=(*rows, *b.beats[-1:]), tempo=b.tempo * 2, first=b.first * 2)


def halved(b: Beats) -> Beats:
    """Every second beat, those that carry the downbeat."""
    start = b.first % 2
    return replace(b, beats=b.beats[start::2], tempo=b.tempo / 2, first=b.first // 2)


def moved(b: Beats, samples: int) -> Beats:
    """All of them later (or, below 0, earlier)."""
    return replace(b, beats=tuple(x + samples for x in b.beats if x + samples >= 0))


def tapped(b: Beats, taps: Sequence[int]) -> Beats:
    """Beats as tapped while it played: the grid takes the taps' tempo and place where they were tapped, and goes on
    evenly from there to both ends. Fewer than three taps set only the place."""
    t = np.sort(np.asarray(taps, np.float64))
    if not len(t):
        return b
    if len(t) < 3:
        if not b.beats:
            return b
        near = min(b.beats, key=lambda x: abs(x - t[0]))
        return moved(b, int(t[0] - near))
    steps = np.diff(t)
    usual = float(np.median(steps))
    number = np.concatenate([[0], np.cumsum(np.maximum(1, np.round(steps / usual)))])
    period, start = np.polyfit(number, t, 1)
    end = max(b.beats[-1] if b.beats else 0, int(t[-1]))
    low = -int(start // period)
    rows = [int(start + period * k) for k in range(low, int((end - start) / period) + 2)]
    rows = [x for x in rows if 0 <= x <= end + period / 2]
    return Beats(tuple(rows), round(60 * 48_000 / period, 2), 0, b.bar)
