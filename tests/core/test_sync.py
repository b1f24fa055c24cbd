"""Sync by sound against made camera and recorder tracks of real speech (Debian's prompts): offset, drift, refusal."""

from fractions import Fraction
from functools import lru_cache

import numpy as np
import pytest
from scipy.signal import butter, fftconvolve, resample_poly, sosfilt

from kovel.core.sound.sound_match import LOW, Unrelated, low, match
from kovel.core.story.model import Source, Sync
from kovel.core.story.sync import by_timecode, own_time, same_moment, set_time
from kovel.core.time.rate import Rate
from tests.recorded import talk


@lru_cache
def moment(seconds: int, seed: int) -> np.ndarray:
    """What happened, at 16 kHz: speech and, as in any room, some noise of its own; no stretch of it comes twice."""
    x = talk(120, seed).sound["room"]
    rng = np.random.default_rng(seed)
    out = [x]
    while sum(map(len, out)) < seconds * 16000:
        cut = rng.integers(2, len(x) // 16000 - 6, 400)
        out.append(
            np.concatenate([x[c * 16000 : c * 16000 + rng.integers(16000, 70000)] for c in cut]) * rng.uniform(0.7, 1.2)
        )
    return np.concatenate(out)[: seconds * 16000]


def recorded(
    world: np.ndarray, begin: float, seconds: float, *, ppm: float, room: float, noise: float, level: float, seed: int
) -> np.ndarray:
    """One device's track at LOW: its place in the room, its own noise, its own clock."""
    rng = np.random.default_rng(seed)
    n = int(0.3 * 16000)
    echo = rng.standard_normal(n) * np.exp(-np.arange(n) / (16000 * 0.05)) * room
    echo[0] = 1
    t = np.arange(int(seconds * 16000)) * (1 / (1 + ppm * 1e-6)) + begin * 16000
    heard = np.interp(t, np.arange(len(world)), world)
    heard = fftconvolve(heard, echo)[: len(t)]
    hiss = sosfilt(butter(1, 900, fs=16000, output="sos"), rng.standard_normal(len(t)))
    y = level * heard + hiss / hiss.std() * 10 ** (noise / 20)
    return resample_poly(y, 1, 2).astype(np.float32)


@pytest.mark.parametrize(("begin", "ppm", "noise"), [(-31.7091, 40.0, -38)])
def test_offset_and_drift(begin: float, ppm: float, noise: float) -> None:
    """Under 0.1 ms at every point of it once the drift is taken out; half an hour in bench/sync.py."""
    world = moment(360, 3)
    a = recorded(world, 40, 250, ppm=0, room=0.03, noise=-60, level=1, seed=1)
    b = recorded(world, 40 + begin, 250, ppm=ppm, room=0.1, noise=noise, level=0.3, seed=2)
    m = match(a, b)
    # a moment t seconds into A is (t - begin) * (1 + ppm) into B
    for t in (max(0.0, begin), 120.0, 215.0):
        got = (t - m.offset) * (1 + m.ppm * 1e-6)
        assert abs(got - (t - begin) * (1 + ppm * 1e-6)) < 1e-4, (m.offset, m.ppm)
    assert m.sure > 0.6 and abs(max(m.curve, key=lambda p: p[1])[0] - begin) < 0.02


def test_a_short_overlap_and_refusals() -> None:
    world = moment(360, 3)
    a = recorded(world, 40, 60, ppm=0, room=0.03, noise=-60, level=1, seed=1)
    b = recorded(world, 75.25, 60, ppm=0, room=0.1, noise=-50, level=0.4, seed=2)
    m = match(a, b)
    assert abs(m.offset - 35.25) < 2e-4 and m.ppm == 0
    for other in (
        recorded(moment(360, 8), 200, 60, ppm=0, room=0.1, noise=-50, level=1, seed=3),
        np.zeros(LOW * 60, np.float32),
        a[:100],
    ):
        with pytest.raises(Unrelated):
            match(a, other)
    with pytest.raises(Unrelated):
        match(
            recorded(world, 300, 90, ppm=0, room=0.03, noise=-50, level=1, seed=1),
            recorded(moment(360, 8), 200, 90, ppm=0, room=0.1, noise=-50, level=1, seed=3),
        )


def test_low_keeps_time() -> None:
    """Every sixth sample behind a filter: a tone keeps its phase, whatever blocks it is read in."""
    n = 48000 * 130
    t = np.arange(n, dtype=np.float64) / 48000
    x = np.sin(2 * np.pi * 440 * t).astype(np.float32)
    y = low(lambda a, b: x[a:b], n)
    assert (
        len(y) == n // 6 and np.abs(y[50:-50] - np.sin(2 * np.pi * 440 * np.arange(n // 6) / 8000)[50:-50]).max() < 2e-3
    )


def test_one_moment_on_several_clocks() -> None:
    """SMPTE ST 12-1 timecode for the offset; then the frame of another camera at the same moment, drift included."""
    r = Rate(25)
    assert by_timecode(10 * 25, 12 * 25 + 5, r) == Fraction(11, 5)
    a = Source(1, "A", r, 9000, sync=Sync(1, 0))
    b = Source(2, "B", r, 9000, sync=Sync(1, 48000 * 11 // 5))
    c = Source(3, "C", r, 90000, sync=Sync(1, 0, 100.0))
    assert same_moment(a, b, 55, r) == 0 and same_moment(a, b, 155, r) == 100 and same_moment(b, a, 100, r) == 155
    assert same_moment(a, c, 60 * 60 * 25, r) == 90000 + 9  # 100 ppm of an hour is 9 frames
    assert (
        same_moment(a, Source(4, "D", r, 9000), 5, r) is None
        and same_moment(a, Source(4, "D", r, 9, sync=Sync(2, 0)), 5, r) is None
    )
    for s in (b.sync, c.sync):
        assert s and own_time(s, set_time(s, Fraction(17, 3))) == Fraction(17, 3)
