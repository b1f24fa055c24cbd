"""Two recordings of one moment by their sound: the offset to a fraction of a sample, and the drift of their clocks.

A  ______████__███_____█████____        first by their loudness curves, roughly; then in short windows by the phase of
B     ___▃▃▃▃__▃▃▃_____▃▃▃▃▃___        their sound (generalised cross-correlation with phase transform, Knapp and Carter
  |-->| offset                          1976), a line through most of the windows; then once more with the drift undone

Agreement of the windows is no proof in a very reverberant room, so the match is shown and can be nudged.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy import fft
from scipy.ndimage import uniform_filter1d
from scipy.signal import butter, sosfilt

from kovel.core.time.rate import SAMPLE_RATE

LOW = 8_000  # the rate all this is done at
STEP = 100  # loudness values a second
DOUBT = 6.0  # under this nothing stands out
# peak of the loudness curves' correlation in standard deviations: above it, one moment (measured: 60 and more;
MATCH = 25.0
# unrelated 12); below it the windows must agree

Floats = npt.NDArray[np.float32]
Array = npt.NDArray[Any]


class Unrelated(ValueError):
    """The two do not sound like one moment. The message says so for the editor."""


@dataclass(frozen=True, slots=True)
class Match:
    """B on A's clock: B begins at `offset` seconds; its clock runs `ppm` millionths faster; `sure` 0..1.

    `curve` is the correlation about the best offset, (offset in seconds, height in standard deviations) for the
    picture; `windows` the single windows: (time in A, offset there, whether it agrees).
    """

    offset: float
    ppm: float
    sure: float
    curve: tuple[tuple[float, float], ...]
    windows: tuple[tuple[float, float, bool], ...]


def low(samples: Callable[[int, int], Floats], count: int) -> Floats:
    """A recording's sound at LOW, mono: every sixth sample behind a filter. `samples(a, b)` gives 48 kHz samples [a,
    b)."""
    ratio = SAMPLE_RATE // LOW
    taps = np.hamming(8 * ratio + 1) * np.sinc(np.arange(-4 * ratio, 4 * ratio + 1) / ratio)
    taps = (taps / taps.sum()).astype(np.float32)
    half, block = 4 * ratio, SAMPLE_RATE * 60
    low_sounds = []
    for a in range(0, count, block):
        b = min(count, a + block)
        part_samples = samples(max(0, a - half), min(count, b + half))
        part_samples = np.pad(part_samples, (half - (a - max(0, a - half)), half - (min(count, b + half) - b)))
        spectrum = fft.next_fast_len(len(part_samples) + len(taps), real=True)
        y = fft.irfft(fft.rfft(part_samples, spectrum) * fft.rfft(taps, spectrum), spectrum)[
            2 * half : 2 * half + b - a : ratio
        ]
        low_sounds.append(y.astype(np.float32))
    return np.concatenate(low_sounds) if low_sounds else np.zeros(0, np.float32)


def _loudness(x: Floats) -> Array:
    """Log energy of the voice band, STEP values a second, slow changes taken out."""
    y = sosfilt(butter(2, [300, 3400], "band", fs=LOW, output="sos"), x)
    n = LOW // STEP
    m = len(y) // n
    log_energy = np.log(1e-9 + (y[: m * n].reshape(m, n) ** 2).mean(1))
    log_energy -= uniform_filter1d(log_energy, min(len(log_energy), STEP * 4))
    spread = log_energy.std()
    return np.clip(log_energy / spread, -3, 3) if spread > 1e-9 else np.zeros(m)


def _peak(r: Array) -> tuple[float, float]:
    """Place of the highest value to a fraction (parabola), and its height in standard deviations."""
    peak_index = int(r.argmax())
    part = 0.0
    if 0 < peak_index < len(r) - 1 and (q := r[peak_index - 1] - 2 * r[peak_index] + r[peak_index + 1]) < 0:
        part = 0.5 * (r[peak_index - 1] - r[peak_index + 1]) / q
    spread = float(r.std())
    return peak_index + float(part), float((r[peak_index] - r.mean()) / spread) if spread else 0.0


def _rough(a: Floats, b: Floats) -> tuple[float, float, Array, Array]:
    """Seconds on A's clock at which B begins, how high that stands out, and the whole correlation with its offsets."""
    x, y = _loudness(a), _loudness(b)
    if len(x) < STEP or len(y) < STEP:
        raise Unrelated("It is too short to be matched by sound: a second at least is needed.")
    size = fft.next_fast_len(len(x) + len(y), real=True)
    correlation = fft.irfft(fft.rfft(x, size) * np.conj(fft.rfft(y, size)), size)
    correlation = np.concatenate([correlation[size - len(y) + 1 :], correlation[: len(x)]])
    lag_index = np.arange(-len(y) + 1, len(x))
    overlap = np.minimum(lag_index + len(y), np.minimum(len(x) - lag_index, min(len(x), len(y))))
    correlation = np.where(overlap >= STEP, correlation, 0.0)
    peak_index, height = _peak(correlation)
    return (peak_index - len(y) + 1) / STEP, height, lag_index / STEP, correlation / (correlation.std() or 1.0)


def _window(a: Array, b: Array, most: int) -> tuple[float, float]:
    """By how many samples b (2 x most longer) lies behind a, by phase; and how high the peak stands."""
    size = fft.next_fast_len(len(a) + len(b), real=True)
    spectrum = fft.rfft(b, size) * np.conj(fft.rfft(a, size))
    spectrum /= (np.abs(spectrum) + 1e-12) ** 0.8
    frequencies = fft.rfftfreq(size, 1 / LOW)
    spectrum[(frequencies < 150) | (frequencies > 3500)] = 0
    peak_index, height = _peak(fft.irfft(spectrum, size)[: 2 * most + 1])
    return peak_index - most, height


def _scan(
    a: Floats, b: Floats, start: float, slope: float, length: float, hop: float, reach: float
) -> tuple[Array, Array]:
    """Window by window: its middle on A's clock, and B's time there minus A's. B is read along the expected line."""
    most, n = int(reach * LOW), int(length * LOW)
    times, found_offsets = [], []
    for t in np.arange(0, max(len(a) / LOW - length, 0) + 1e-9, hop):
        scan_start = int(t * LOW)
        where = (
            (scan_start / LOW + start + slope * scan_start / LOW) * LOW - most + np.arange(n + 2 * most) * (1 + slope)
        )
        if where[0] < 0 or where[-1] > len(b) - 2 or scan_start + n > len(a):
            continue
        first_place = int(where[0])
        part_samples = b[first_place : int(where[-1]) + 2]
        y = np.interp(where - first_place, np.arange(len(part_samples)), part_samples)
        if not a[scan_start : scan_start + n].any() or not y.any():
            continue
        lag, _ = _window(a[scan_start : scan_start + n], y, most)
        middle = scan_start / LOW + length / 2
        times.append(middle)
        found_offsets.append(start + slope * middle + lag * (1 + slope) / LOW)
    return np.array(times), np.array(found_offsets)


def _line(t: Array, o: Array, near: float) -> tuple[float, float, Array]:
    """The line most windows agree on: value at 0, slope, and which windows agree."""
    if len(t) == 1:
        return float(o[0]), 0.0, np.ones(1, bool)
    best = np.zeros(len(t), bool)
    for first_index in range(len(t)):
        for second_index in range(first_index + 1, len(t)):
            k = (o[second_index] - o[first_index]) / (t[second_index] - t[first_index])
            if abs(k) < 3e-4:
                agree = np.abs(o - (o[first_index] + k * (t - t[first_index]))) < near
                if agree.sum() > best.sum():
                    best = agree
    if best.sum() < 2:
        best = np.abs(o - np.median(o)) < near
        return float(np.median(o)), 0.0, best
    k, c = np.polyfit(t[best], o[best], 1)
    return float(c), float(k), best


def match(a: Floats, b: Floats, progress: Callable[[float], None] = lambda x: None) -> Match:
    """B against A, both at LOW. Raises `Unrelated` if they don't sound like one moment.

    time in B = time in A + offset line; so B begins on A's clock where that is 0.
    """
    begin, height, offsets, correlation = _rough(a, b)
    progress(0.2)
    overlap = min(len(a) / LOW, begin + len(b) / LOW) - max(0.0, begin)
    near = np.abs(offsets - begin) < 3
    curve = tuple((float(offset), float(y)) for offset, y in zip(offsets[near], correlation[near], strict=True))
    if height < DOUBT or overlap < 1:
        raise Unrelated("They do not sound like the same moment. Check that they are, or sync them by timecode.")
    short = min(10.0, overlap / 3)
    hop = max(short / 2, overlap / 60)
    t, o = _scan(a, b, -begin, 0.0, short, hop, 0.4)
    if not len(t):
        raise Unrelated("They overlap too little to be matched by sound.")
    c, k, agree = _line(t, o, 0.004)
    first = int(agree.sum())
    progress(0.6)
    if (len(t) >= 4 and agree.sum() < max(3, len(t) * 0.3)) or (height < MATCH and agree.sum() < max(4, len(t) * 0.6)):
        raise Unrelated("They do not sound like the same moment. Check that they are, or sync them by timecode.")
    long = min(40.0, overlap / 3)
    if overlap < 60:  # over so short a time a drift is smaller than what can be measured
        c, k = float(np.median(o[agree])), 0.0
    t2, o2 = _scan(a, b, c, k, long, max(long, overlap / 40), 0.03)
    if len(t2) >= 2:
        t, o = t2, o2
        c2, k2, agree = _line(t, o, 0.002)
        c, k = (c2, k2) if overlap >= 60 else (float(np.median(o[agree])) if agree.any() else c, 0.0)
    progress(1.0)
    share = float(agree.sum()) / len(t)
    doubt = float(np.exp(-(height - DOUBT) / 12)) * 0.6 ** max(0, first - 1)
    sure = (1 - doubt) * (0.4 + 0.6 * share)
    windows = tuple((float(x), float(y), bool(z)) for x, y, z in zip(t, o, agree, strict=True))
    return Match(-c / (1 + k), k * 1e6, round(sure, 3), curve, windows)
