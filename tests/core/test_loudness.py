"""Loudness, its range and true peaks against the test signals of the standards and against another meter."""

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kovel.core.sound.loudness import TruePeaks, Weigher, decibels, integrated, loudness_range, sliding
from kovel.core.sound.mastering import LIMIT, mastered, speech_loudness, tamed
from tests.core.test_programme import FOOTAGE, sine

RATE = 48_000


def power_of(x: np.ndarray) -> np.ndarray:
    w = Weigher()
    for a in range(0, len(x), 70_001):  # blocks of any length
        w.feed(x[a : a + 70_001])
    return w.finish()


def tone(parts: list[tuple[float, float]]) -> np.ndarray:
    """A stereo sine of 1 kHz, (dBFS, seconds) one after the other, as floats."""
    return sine(parts).astype(np.float64) / 32768


@pytest.mark.parametrize(
    ("parts", "lra"),
    [
        ([(-20, 20), (-30, 20)], 10),
        ([(-20, 20), (-15, 20)], 5),
        ([(-40, 20), (-20, 20)], 20),
        ([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15),
    ],
)
def test_the_range_of_ebus_signals(parts: list[tuple[float, float]], lra: float) -> None:
    """EBU Tech 3342, table 1, signals 1 to 4 (figures from memory): within 1 LU."""
    got = loudness_range(power_of(tone(parts)))
    assert got is not None and abs(got - lra) <= 1
    assert loudness_range(power_of(tone([(-20, 2)]))) is None and loudness_range(power_of(tone([(-90, 20)]))) is None


@pytest.mark.parametrize(
    ("parts", "times", "steps", "after"),
    [([(-20, 1.34), (-30, 1.66)], 5, 30, 3.0), ([(-20, 0.18), (-30, 0.22)], 25, 4, 1.0)],
)
def test_short_term_and_momentary(parts: list[tuple[float, float]], times: int, steps: int, after: float) -> None:
    """EBU Tech 3341, table 1, signals 9 and 12 (figures from memory): -23.0 +-0.1 from `after` seconds on."""
    got = sliding(power_of(tone(parts * times)), steps)[int(after * 10) : -1]
    assert len(got) > 50 and np.abs(got + 23.0).max() <= 0.1


@pytest.mark.parametrize(
    ("over", "degrees", "amplitude", "dbtp"),
    [(4, 0, 0.5, -6.0), (4, 45, 0.5, -6.0), (6, 60, 0.5, -6.0), (8, 67.5, 0.5, -6.0), (4, 45, 1.41, 3.0)],
)
def test_true_peaks_of_ebus_signals(over: int, degrees: float, amplitude: float, dbtp: float) -> None:
    """EBU Tech 3341, table 1, signals 15 to 19 (figures from memory): +0.2 / -0.4 dB. Samples alone miss up to 3 dB."""
    n = np.arange(RATE)
    x = amplitude * np.sin(2 * np.pi * n / over + np.radians(degrees))
    x *= np.minimum(1, np.minimum(n, RATE - n) / 4800)  # faded, so that only the sine counts
    t = TruePeaks(480)
    for a in range(0, RATE, 9_600):
        t.feed(np.stack([x[a : a + 9_600]] * 2, 1))
    got = float(decibels(t.finish().max()))
    assert -0.4 <= got - dbtp <= 0.2


def test_agrees_with_libavs_range_and_peak() -> None:
    """libav's ebur128 filter on the demo's music: range within 0.5 LU, true peak within 0.3 dB."""
    with av.open(str(FOOTAGE / "bed.flac")) as c:
        to = av.AudioResampler("s16", "stereo", RATE)
        x = np.concatenate([g.to_ndarray().reshape(-1, 2) for f in c.decode(audio=0) for g in to.resample(f)])
    g = av.filter.Graph()
    source = g.add_abuffer(sample_rate=RATE, format="s16", layout="stereo", time_base="1/48000")
    meter, sink = g.add("ebur128", "metadata=1:peak=true"), g.add("abuffersink")
    source.link_to(meter)
    meter.link_to(sink)
    g.configure()
    said: dict[str, str] = {}
    high = -120.0
    for i in range(0, len(x) // 4800 * 4800, 4800):
        f = av.AudioFrame.from_ndarray(np.ascontiguousarray(x[i : i + 4800]).reshape(1, -1), "s16", "stereo")
        f.sample_rate, f.pts = RATE, i
        source.push(f)
        while True:
            try:
                said |= dict(sink.pull().metadata)
                high = max(high, *(float(decibels(float(v))) for k, v in said.items() if "true_peaks_ch" in k))
            except (BlockingIOError, EOFError):
                break
    y = x[: len(x) // 4800 * 4800] / 32768
    t = TruePeaks(4800)
    t.feed(y)
    assert abs(float(said["lavfi.r128.LRA"]) - (loudness_range(power_of(y)) or 0)) <= 0.5
    assert abs(high - float(decibels(t.finish().max()))) <= 0.3


@given(st.lists(st.floats(0.0, 3.0), min_size=1, max_size=120))
def test_dips_hold_every_peak_and_nothing_else(peaks: list[float]) -> None:
    """Under the line of dips no frame goes over the limit; where nothing does there is no line; it ends where it is
    needed no more."""
    rows = np.array(peaks)
    line = tamed(rows)
    assert bool(line) == bool((decibels(rows) > LIMIT - 0.05).any())
    if not line:
        return
    at, db = zip(*line, strict=True)
    assert all(-24 <= d <= 0 for d in db) and list(at) == sorted(set(at)) and at[0] == 0 and at[-1] == len(rows)
    fine = np.arange(0, len(rows), 0.1)
    after = decibels(rows)[np.minimum(fine.astype(int), len(rows) - 1)] + np.interp(fine, at, db)
    assert after.max() <= LIMIT + 1e-6


@given(st.integers(0, 2**32 - 1), st.sampled_from([-23.0, -16.0, -14.0]))
def test_the_whole_comes_to_its_target(seed: int, target: float) -> None:
    """Within 0.1 LU by the same measure, whatever its peaks; the peaks under the limit."""
    rng = np.random.default_rng(seed)
    loud = 10 ** (rng.uniform(-45, -15, 40).repeat(10) / 10)
    peaks = np.sqrt(loud.repeat(2)[:1000]) * rng.uniform(1, 5, 800)
    done = mastered(loud, peaks, 2400, target)
    assert done is not None
    deepest = min((d for _, d in done.dips), default=0.0)
    assert abs(done.loudness - target) <= 0.2 or (not done.reached and done.loudness < target and deepest <= -11.7)
    line = np.interp(np.arange(len(peaks)) + 0.5, *zip(*done.dips, strict=True)) if done.dips else np.zeros(len(peaks))
    assert (decibels(peaks) + done.gain + line).max() <= LIMIT + 0.01
    assert mastered(np.zeros(100), np.zeros(100), 1920, target) is None


def test_voices_by_their_speech_alone() -> None:
    """A voice with long pauses measures as without them; half a second of speech is the least."""
    said = power_of(tone([(-30, 4)]))
    talk = np.tile([True] * 5 + [False] * 5, 8)
    quiet = np.where(talk, np.resize(said, 80), 1e-7)
    assert speech_loudness(quiet, talk) == pytest.approx(integrated(said), abs=0.05)
    assert speech_loudness(said[:4], np.ones(4, bool)) is None
