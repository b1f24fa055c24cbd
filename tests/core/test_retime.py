"""Sound at another speed: its length to the sample, its pitch kept or following, moments where the course has them.

Against scipy's polyphase resampler and libav's `atempo` (waveform similarity too), on tones, clicks and recorded
speech.
"""

from pathlib import Path

import av
import numpy as np
import pytest
from scipy.io import wavfile
from scipy.signal import resample_poly

from kovel.core.sound.retime import HOP, retimed
from kovel.core.story.clocks import clock_of
from tests.core.test_sound_tools import reading

SR, FRAME = 48_000, 1_920


def made(x: np.ndarray, speed: float, pitch: bool, seconds: float = 4.0, start: float = 2.0) -> np.ndarray:
    frames = np.arange(int(seconds * 25) + 1) * FRAME
    return np.concatenate(list(retimed(reading(x), start * SR + frames * speed, frames, pitch)))


def tone(hz: float, seconds: float = 12.0, channels: int = 1) -> np.ndarray:
    t = np.arange(int(seconds * SR)) / SR
    return np.repeat((0.3 * np.sin(2 * np.pi * hz * t)).astype(np.float32)[:, None], channels, 1)


def peak_hz(y: np.ndarray) -> float:
    z = y[SR // 4 : -SR // 4, 0]
    return float(np.argmax(np.abs(np.fft.rfft(z * np.hanning(len(z))))) * SR / len(z))


@pytest.mark.parametrize("speed", [0.25, 0.5, 0.8, 1.0, 1.37, 2.0, 2.4, -0.5, -1.0, -1.6])
def test_a_tone_keeps_its_pitch_or_follows(speed: float) -> None:
    x = tone(440, 16)
    start = 2.0 if speed > 0 else 12.0
    kept, follows = made(x, speed, True, 4, start), made(x, speed, False, 4, start)
    assert kept.shape == follows.shape == (4 * SR, 1) and kept.dtype == np.float32
    assert abs(peak_hz(kept) - 440) < 0.6 and abs(peak_hz(follows) - 440 * abs(speed)) < 0.6
    for y in (kept, follows):  # as loud as it was, without a dip or a click where windows meet
        level = np.sqrt(np.mean(y[SR // 2 : -SR // 2].reshape(-1, 4_800) ** 2, 1))
        assert np.all(np.abs(20 * np.log10(level / (0.3 / 2**0.5))) < 0.15)


def test_as_fast_as_it_was_it_is_the_same() -> None:
    rng = np.random.default_rng(1)
    x = rng.normal(0, 0.1, (8 * SR, 2)).astype(np.float32)
    for pitch in (True, False):
        assert np.abs(made(x, 1.0, pitch) - x[2 * SR : 6 * SR]).max() < 1e-6
    back = made(x, -1.0, False, 4, 6.0)
    assert np.abs(back - x[2 * SR : 6 * SR][::-1]).max() < 1e-6


@pytest.mark.parametrize(("up", "down"), [(2, 1), (1, 2), (3, 2), (4, 5)])
def test_what_follows_the_speed_is_what_a_resampler_makes(up: int, down: int) -> None:
    """scipy.signal.resample_poly on noise below 6 kHz: within -60 dB of it."""
    rng = np.random.default_rng(2)
    x = resample_poly(rng.normal(0, 0.1, SR), 8, 1)[: 8 * SR, None].astype(np.float32)  # nothing above 3 kHz
    mine = made(x, down / up, False, 2.0, 1.0)[:, 0]
    want = resample_poly(x[:, 0].astype(float), up, down, window=("kaiser", 12.0))[SR * up // down :][: len(mine)]
    off = mine[2_000:-2_000] - want[2_000:-2_000]
    assert 20 * np.log10(off.std() / want.std()) < -60


@pytest.mark.parametrize("hz", [13_500, 15_000, 20_000])
def test_nothing_folds_back(hz: float) -> None:
    """At 200 % everything from 12 kHz on lies over half the rate: it is gone, by 60 dB and more from 13.5 kHz on."""
    y = made(tone(hz, 16), 2.0, False)[SR // 2 : -SR // 2]
    assert 20 * np.log10(np.sqrt(np.mean(y**2)) / (0.3 / 2**0.5)) < -60


@pytest.mark.parametrize("pitch", [True, False])
@pytest.mark.parametrize("steps", [True, False])
def test_moments_lie_where_the_course_has_them(pitch: bool, steps: bool) -> None:
    """Clicks every half second under a ramp from 50 to 140 %: each within half a window (pitch kept), or to two
    samples."""
    x = np.zeros((14 * SR, 1), np.float32)
    clicks = np.arange(2, 24) * SR // 2
    for c in clicks:
        x[c : c + 96, 0] = 0.8 * np.hanning(96)
    clock = clock_of(((50, 50.0), (120, 140.0), (200, 80.0)), steps, False, -1)
    first, n = 40, 160
    course = np.array([float(clock.passing(first + k)) * FRAME for k in range(n + 1)])
    y = np.concatenate(list(retimed(reading(x), course, np.arange(n + 1) * FRAME, pitch)))[:, 0]
    for c in clicks:
        at = (float(clock.when(c / FRAME)) - first) * FRAME
        if 2 * HOP < at < len(y) - 2 * HOP and c / FRAME not in (50, 120, 200):  # between frames it is straight
            near = np.abs(y[int(at) - HOP : int(at) + HOP + 96])
            assert near.max() > 0.2
            assert abs(int(near.argmax()) - HOP - 48 / abs(1 if pitch else _speed(course, at))) < (HOP if pitch else 12)


def _speed(course: np.ndarray, at: float) -> float:
    k = int(at // FRAME)
    return float(course[k + 1] - course[k]) / FRAME


def spoken() -> np.ndarray:
    """Recorded speech from Debian's package of prompts, which the tests install."""
    folder = Path("/usr/share/asterisk/sounds/en_US_f_Allison")
    rows, n = [], 0
    for f in sorted(folder.glob("*.wav")):
        rate, x = wavfile.read(f)
        if len(x) > rate:
            rows.append(resample_poly(x.astype(np.float32) / 32768, SR, rate).astype(np.float32))
            n += len(rows[-1])
        if n > 14 * SR:
            break
    return np.concatenate(rows)[: 14 * SR, None]


def atempo(x: np.ndarray, speed: float) -> np.ndarray:
    graph = av.filter.Graph()
    source = graph.add_abuffer(sample_rate=SR, format="flt", layout="mono", time_base=av.time_base and "1/48000")  # type: ignore[arg-type]
    tempo, sink = graph.add("atempo", str(speed)), graph.add("abuffersink")
    source.link_to(tempo)
    tempo.link_to(sink)
    graph.configure()
    frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(x.T), format="flt", layout="mono")
    frame.sample_rate, frame.pts = SR, 0
    source.push(frame)
    source.push(None)
    out = []
    while True:
        try:
            out.append(sink.pull().to_ndarray().reshape(-1))
        except (av.EOFError, av.BlockingIOError):
            return np.concatenate(out)


def bands(y: np.ndarray) -> np.ndarray:
    """Levels of third-octave bands from 125 Hz to 4 kHz, in dB (IEC 61260 centres)."""
    power = np.abs(np.fft.rfft(y)) ** 2
    f = np.fft.rfftfreq(len(y), 1 / SR)
    centres = 1000 * 2.0 ** (np.arange(-9, 7) / 3)
    return np.array(
        [10 * np.log10(power[(f > c * 2 ** (-1 / 6)) & (f < c * 2 ** (1 / 6))].sum() / len(y) + 1e-12) for c in centres]
    )


@pytest.mark.parametrize("speed", [0.6, 0.8, 1.25, 1.8])
def test_speech_sounds_as_libav_makes_it(speed: float) -> None:
    """No further from the speech itself than what libav's atempo makes of it: third-octave levels, and the course of
    its loudness."""
    x = spoken()
    n = int(10 / speed * 25)
    frames = np.arange(n + 1) * FRAME
    mine = np.concatenate(list(retimed(reading(x), frames * speed, frames, True)))[:, 0]
    theirs = atempo(x[: 10 * SR], speed)[: len(mine)]
    mine, as_it_was = mine[: len(theirs)], bands(x[: 10 * SR, 0])
    off = lambda y: float(np.sqrt(np.mean((bands(y) - as_it_was) ** 2)))  # noqa: E731
    assert off(mine) < off(theirs) + 0.15
    loud = lambda y: np.sqrt(np.mean(y[: len(y) // 2_400 * 2_400].reshape(-1, 2_400) ** 2, 1))  # noqa: E731
    whole = loud(x[:, 0])
    want = np.interp(np.arange(len(loud(mine))) * speed, np.arange(len(whole)), whole)
    alike = lambda y: float(np.corrcoef(loud(y), want)[0, 1])  # noqa: E731
    assert alike(mine) > alike(theirs) - 0.015 > 0.88
