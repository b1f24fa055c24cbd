"""A recording's sound made cleaner: rumble, mains hum, clicks and steady noise taken out, the voice evened out.

raw     ~~~▂▇~~▅▇~~~~▇▅~~~      ~ noise, heard alone in the pauses: there its picture is taken, pause by pause
cleaned    ▂▇  ▅▇    ▇▅

Steady noise: a gain for each frequency and moment that leaves the least error of the log spectrum (Ephraim and Malah
1985), from the ratio of speech to noise expected there, decision-directed from both sides; where speech is not
likely it is held down (Cohen 2002). The noise of a moment lies between what the pauses before and after it hold, and
follows what is heard of it between the partials of a voice (Gerkmann and Hendriks 2012). Clicks: samples that linear
prediction cannot explain, put back by it (Janssen, Veldhuis and Vries 1986). Low cut: Butterworth, 24 dB an octave.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.fft import irfft, rfft
from scipy.linalg import solve_toeplitz, solveh_banded
from scipy.ndimage import median_filter, uniform_filter1d
from scipy.signal import butter, iirnotch, lfilter, sosfilt, tf2sos
from scipy.special import exp1

from kovel.core.sound.levels import TICK, Mask, runs

RATE = 48_000
WINDOW, HOP = 2048, 512
LEAD = 2 * RATE  # samples that filters and gains run before what is asked for
MARGIN = 6  # ticks of a pause at either end that may hold speech still
LEAST = 25  # ticks a pause needs to be a picture of the noise
SMOOTH = 0.95  # how much of the ratio expected comes from the frame before (Ephraim and Malah 1984, equation 51)
FOLLOW, BLOCK, BAND = (
    0.95,
    8,
    251,
)  # how slowly noise is followed, by how many frames at a time, over how many bins (6 kHz)
CERTAIN = 31.6  # the ratio that speech is taken to have where it is (15 dB: Gerkmann and Hendriks 2012)
NEAR, AROUND = (9, 9, 0.06), (13, 7, 0.35)  # frames, bins, and the ratio over them at which speech is as likely as not
FOLD = 8  # bins that are one in what is AROUND
HARMONICS = 12
EVEN_MOST = 9.0  # dB that the voice is moved at most, and
EVEN_SHARE = 0.75  # how much of what it is off by

Floats = npt.NDArray[np.float32]
Read = Callable[[int, int], Floats]  # samples [a, b) as (n, channels), silence outside of the recording
_ROOT = np.sqrt(np.hanning(WINDOW + 1)[:-1]).astype(np.float32)


@dataclass(frozen=True, slots=True)
class Wanted:
    """What is to be done, as the settings of a recording have it."""

    low_cut: int = 0
    high_cut: int = 0
    hum: str = "leave"
    noise: int = 0
    clicks: bool = False
    even: bool = False


@dataclass(frozen=True)
class Cleaner:
    """What was found out about a recording, so that any stretch of it can be cleaned alone.

    `hum`: the frequencies taken out; `noise`: at some samples, the noise's power at each frequency, (k, bins);
    `gain`: samples with dB that even out the voice.
    """

    wanted: Wanted
    hum: tuple[float, ...] = ()
    at: npt.NDArray[np.float64] | None = None
    noise: Floats | None = None
    gain: tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]] | None = None


def prepare(read: Read, samples: int, talk: Mask, wanted: Wanted) -> Cleaner:
    """Look at a recording (`talk`: for each tick of 10 ms whether somebody speaks): its hum, its noise, its voice."""
    gaps = _gaps(talk)
    hum = _hum(read, gaps, wanted.hum)
    cleaner = Cleaner(wanted, hum)
    at = noise = None
    if wanted.noise:
        at, noise = _pictures(lambda a, b: _filtered(read, a, b, cleaner), gaps, samples)
    return Cleaner(wanted, hum, at, noise, _evening(read, samples, talk) if wanted.even else None)


def cleaned(read: Read, start: int, end: int, cleaner: Cleaner) -> Floats:
    """Samples [a, b) of a recording, cleaned; (b - a, channels)."""
    lead = LEAD if cleaner.wanted.noise else WINDOW
    filtered = _filtered(read, start - lead, end + lead, cleaner)
    if cleaner.wanted.noise and cleaner.noise is not None and cleaner.at is not None:
        filtered = _without_noise(filtered, start - lead, cleaner.at, cleaner.noise, 10 ** (-cleaner.wanted.noise / 20))
    y = filtered[lead : lead + end - start]
    if cleaner.gain is not None:
        at, db = cleaner.gain
        y = y * (10 ** (np.interp(np.arange(start, end), at, db) / 20)).astype(np.float32)[:, None]
    return np.asarray(y, np.float32)


def _filtered(read: Read, start: int, end: int, cleaner: Cleaner) -> Floats:
    """Samples [a, b) without rumble, hiss, hum and clicks."""
    sos = []
    if cleaner.wanted.low_cut:
        sos.append(butter(4, cleaner.wanted.low_cut, "high", fs=RATE, output="sos"))
    if cleaner.wanted.high_cut:
        sos.append(butter(4, cleaner.wanted.high_cut, "low", fs=RATE, output="sos"))
    sos += [tf2sos(*iirnotch(hum_frequency, hum_frequency / 2.5, RATE)) for hum_frequency in cleaner.hum]  # 2.5 Hz wide
    lead = LEAD if sos else 0
    samples = read(start - lead, end)
    if sos:
        samples = sosfilt(np.concatenate(sos).astype(np.float32), samples, axis=0)[lead:].astype(np.float32)
    if cleaner.wanted.clicks:
        samples = np.stack([without_clicks(samples[:, channel_index]) for channel_index in range(samples.shape[1])], 1)
    return samples


def _gaps(talk: Mask) -> list[tuple[int, int]]:
    """Pauses in samples, without their edges, that are long enough to tell the noise by."""
    a, b = runs(~talk)
    gap_spans = [
        (int(gap_start) + MARGIN, int(gap_end) - MARGIN)
        for gap_start, gap_end in zip(a, b, strict=True)
        if gap_end - gap_start >= LEAST + 2 * MARGIN
    ]
    return [(gap_start * TICK, gap_end * TICK) for gap_start, gap_end in gap_spans]


def _hum(read: Read, gaps: Sequence[tuple[int, int]], wanted: str) -> tuple[float, ...]:
    """The mains frequency and those of its harmonics that stand out in the pauses; none where no mains is heard."""
    if wanted == "leave":
        return ()
    n = 1 << 16  # 0.73 Hz a bin
    power = np.zeros(n // 2 + 1)
    used = 0
    for start, end in sorted(gaps, key=lambda g: g[0] - g[1])[:40]:
        gap_samples = read(start, min(end, start + n)).mean(1)
        if len(gap_samples) >= n // 8:
            power += np.abs(rfft(gap_samples * np.hanning(len(gap_samples)), n)) ** 2 / len(gap_samples)
            used += 1
    if not used:
        return (float(wanted[:2]),) if wanted[0].isdecimal() else ()
    level = 10 * np.log10(power + 1e-20)
    around = median_filter(level, 61)

    def standing(mains: float) -> list[float]:
        """By how many dB each harmonic stands out of what is around it."""
        bins = [round(mains * harmonic * n / RATE) for harmonic in range(1, HARMONICS + 1)]
        return [
            float((level[max(1, bin_index - 2) : bin_index + 3] - around[max(1, bin_index - 2) : bin_index + 3]).max())
            for bin_index in bins
        ]

    best = max((50.0, 60.0), key=lambda f: sum(max(0.0, over - 6) for over in standing(f)))
    mains = best if wanted == "find it" else float(wanted[:2])
    hum_found = [mains * index for index, over in enumerate(standing(mains), 1) if over > 9]
    if wanted == "find it" and len(hum_found) < 2:
        return ()
    return tuple(hum_found) or (mains,)


def _pictures(read: Read, gaps: Sequence[tuple[int, int]], samples: int) -> tuple[npt.NDArray[np.float64], Floats]:
    """The noise's power at each frequency, pause by pause: where they lie, and the pictures (k, WINDOW // 2 + 1).

    A pause that is too short for a picture of its own shares one with its neighbours; digital silence has none.
    """
    noise_pictures: list[tuple[float, Floats]] = []
    frames: list[Floats] = []
    begin = last_sample = 0
    for start, end in gaps:
        gap_frames = _frames(read(start, end).mean(1))
        gap_frames = gap_frames[np.abs(gap_frames).max(1) > 1e-6]
        if not len(gap_frames):
            continue
        if frames and (sum(map(len, frames)) >= 96 or start - last_sample > 20 * RATE):
            noise_pictures.append(((begin + last_sample) / 2, _typical(frames)))
            frames = []
        if not frames:
            begin = start
        frames.append((np.abs(rfft(gap_frames * _ROOT, axis=1)) ** 2).astype(np.float32))
        last_sample = end
    if frames and (sum(map(len, frames)) >= 32 or not noise_pictures):
        noise_pictures.append(((begin + last_sample) / 2, _typical(frames)))
    if not noise_pictures:  # nobody pauses: what is quietest stands for the noise
        beginning = read(0, min(samples, 60 * RATE)).mean(1)
        mean_power = np.abs(rfft(_frames(beginning) * _ROOT, axis=1)).astype(np.float32) ** 2
        loud = mean_power.sum(1)
        noise_pictures.append((0.0, _typical([mean_power[loud <= np.percentile(loud, 10)]])))
    return np.array([noise_row[0] for noise_row in noise_pictures]), np.stack(
        [noise_row[1] for noise_row in noise_pictures]
    )


def _typical(frames: Sequence[Floats]) -> Floats:
    """The mean power of noise from its median, which a stray sound does not move (of an exponential: median / ln 2)."""
    return np.asarray(np.median(np.concatenate(frames), 0) / np.log(2) + 1e-12, np.float32)


def _frames(x: Floats) -> Floats:
    n = (len(x) - WINDOW) // HOP + 1
    if n < 1:
        return np.pad(x, (0, WINDOW - len(x)))[None]
    return np.lib.stride_tricks.sliding_window_view(x, WINDOW)[::HOP][:n]


def _without_noise(x: Floats, first: int, at: npt.NDArray[np.float64], noise: Floats, floor: float) -> Floats:
    """(n, channels) from sample `first` of the recording on, with the noise held down to `floor`."""
    n, channels = x.shape
    frames = -(-(n + WINDOW) // HOP)
    padded = np.zeros((frames * HOP + WINDOW, channels), np.float32)
    padded[WINDOW - HOP : WINDOW - HOP + n] = x
    spectra = [rfft(_frames(padded[:, channel_index]) * _ROOT, axis=1) for channel_index in range(channels)]
    power = np.mean([np.abs(spectrum) ** 2 for spectrum in spectra], 0).astype(np.float32)
    where = first - WINDOW + HOP + np.arange(len(power)) * HOP + WINDOW // 2
    gain = _gains(power, where, at, noise, floor)
    without_noise = np.zeros((len(padded), channels), np.float32)
    for index, spectrum in enumerate(spectra):
        y = (irfft(spectrum * gain, axis=1).astype(np.float32) * _ROOT) * (HOP / (WINDOW / 2))
        for window_index in range(WINDOW // HOP):  # frames that do not overlap each other, all at once
            part = y[window_index :: WINDOW // HOP]
            without_noise[window_index * HOP : window_index * HOP + part.size, index] += part.ravel()
    return without_noise[WINDOW - HOP : WINDOW - HOP + n]


def _gains(
    power: Floats, where: npt.NDArray[np.int64], at: npt.NDArray[np.float64], noise: Floats, floor: float
) -> Floats:
    """The gain of each frame and frequency, (frames, bins): what is expected from before and from after, met
    half-way."""
    k = np.interp(where[::BLOCK], at, np.arange(len(at))) if len(at) > 1 else np.zeros(-(-len(where) // BLOCK))
    low = np.minimum(k.astype(int), len(at) - 1)
    high, share = np.minimum(low + 1, len(at) - 1), (k - low).astype(np.float32)[:, None]
    logs = np.log(noise)
    ratio = power * np.repeat(np.exp(-(logs[low] * (1 - share) + logs[high] * share)), BLOCK, 0)[: len(power)]
    ratio /= _both_ways(_followed, ratio)
    expected = _both_ways(_onward, ratio)
    wide = (np.add.reduceat(ratio, np.arange(0, ratio.shape[1], FOLD), axis=1) / FOLD).astype(np.float32)
    likely = _likely(ratio, *NEAR) * np.repeat(_likely(wide, *AROUND), FOLD, 1)[:, : ratio.shape[1]]
    least = np.float32(max(floor, 1e-4))
    gain = np.full(ratio.shape, least)
    some = likely > 0.01  # elsewhere it would be worked out in vain
    p, wiener = likely[some], 1 / (1 + 1 / np.maximum(expected[some], np.float32(1e-6)))
    log = np.log(wiener) + exp1(np.maximum(wiener * ratio[some], np.float32(1e-6))) / 2
    gain[some] = np.exp(np.maximum(p * np.minimum(log, 0) + (1 - p) * np.log(least), np.log(least)))
    return gain


def _both_ways(f: Callable[[Floats], Floats], ratio: Floats) -> Floats:
    """What comes of it from before and from after, met half-way (in their logarithms); both are worked out at once."""
    both_ways = f(np.stack([ratio, ratio[::-1]], 1))
    return np.asarray(np.sqrt(both_ways[:, 0] * both_ways[::-1, 1]), np.float32)


def _likely(ratio: Floats, frames: int, bins: int, even: float) -> Floats:
    """How likely speech is, by how far the power around stands over the noise; one half where that is `even`."""
    over = uniform_filter1d(uniform_filter1d(ratio, frames, axis=0), bins, axis=1)
    x = np.maximum(over - 1, np.float32(1e-3)) / np.float32(even)
    x *= x * np.sqrt(x)
    return np.asarray(x / (1 + x), np.float32)


def _followed(ratio: Floats) -> Floats:
    """How much louder than its picture the noise of each frame is, (frames, 2, bins), from what is not likely to be
    speech."""
    level = np.empty_like(ratio)
    d, sure = np.ones(ratio.shape[1:], np.float32), np.zeros(ratio.shape[1:], np.float32)
    keep, keep_sure = FOLLOW**BLOCK, 0.9**BLOCK
    for block_start in range(0, len(ratio), BLOCK):
        now = ratio[block_start : block_start + BLOCK]
        speech = 1 / (1 + (1 + CERTAIN) * np.exp(np.maximum(now / d, 0) * np.float32(-CERTAIN / (1 + CERTAIN))))
        speech[now < 1e-3] = 1  # digital silence tells nothing of the noise
        sure = keep_sure * sure + (1 - keep_sure) * speech.mean(0)
        np.minimum(speech, np.float32(0.99), out=speech, where=sure > 0.99)  # a sound that never ends is noise
        heard_power = ((1 - speech) * now + speech * d).mean(0)
        d = keep * d + (1 - keep) * uniform_filter1d(uniform_filter1d(heard_power, BAND), BAND)
        d = np.clip(d, 0.1, 10)
        level[block_start : block_start + BLOCK] = d
    return level


def _onward(ratio: Floats) -> Floats:
    """The ratio of speech to noise expected in each frame, (frames, 2, bins), from what the frame before it left of
    its own."""
    onward_gain = np.empty_like(ratio)
    before = np.zeros(ratio.shape[1:], np.float32)
    one, keep, fresh = np.float32(1), np.float32(SMOOTH), np.float32(1 - SMOOTH)
    for now, expected in zip(ratio, onward_gain, strict=True):
        np.add(keep * before, fresh * np.maximum(now - one, 0), out=expected)
        g = np.maximum(expected / (one + expected), np.float32(1e-4))
        before = g * g * now
    return onward_gain


ORDER, ODD, LONGEST, LONELY = 32, 9.0, 96, 1_200


def without_clicks(x: Floats) -> Floats:
    """(n,) with clicks put back by what lies around them. A click is up to 2 ms of what linear prediction cannot
    explain, with no other near it: pulses of a voice come in rows."""
    y = x.copy()
    block = 8192
    for a in range(0, len(x), block):
        lowest, highest = max(0, a - LONELY - ORDER), min(len(x), a + block + LONELY)
        part = y[lowest:highest].astype(np.float64)
        if len(part) < 4 * ORDER or not part.any():
            continue
        poly = _prediction(part)
        left_over = np.abs(lfilter(poly, 1, part))
        left_over[:ORDER] = 0
        usual = uniform_filter1d(np.minimum(left_over, 6 * np.median(left_over) + 1e-9), 2 * LONELY) + 1e-7
        odd = left_over > ODD * usual
        click_starts, click_ends = runs(uniform_filter1d(odd.astype(np.float32), 33) > 1e-6)
        for click_start, click_end in zip(click_starts, click_ends, strict=True):
            odd_samples = np.flatnonzero(odd[click_start:click_end]) + click_start
            click_start, click_end = int(odd_samples[0]) - 2, int(odd_samples[-1]) + 3
            if (
                click_end - click_start > LONGEST
                or click_start < ORDER
                or click_end + ORDER > len(part)
                or not a <= lowest + click_start < a + block
            ):
                continue
            if odd[max(0, click_start - LONELY) : click_start].any() or odd[click_end : click_end + LONELY].any():
                continue
            y[lowest + click_start : lowest + click_end] = _put_back(part, click_start, click_end, poly)
    return y


def _prediction(x: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """The filter that leaves of x what its last ORDER samples cannot explain (linear prediction by autocorrelation)."""
    correlation = np.array([np.dot(x[: len(x) - lag_index], x[lag_index:]) for lag_index in range(ORDER + 1)])
    correlation[0] = correlation[0] * (1 + 1e-6) + 1e-9
    return np.concatenate([[1.0], -solve_toeplitz(correlation[:ORDER], correlation[1:])])


def _put_back(x: npt.NDArray[np.float64], i: int, j: int, poly: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Samples [i, j) that leave the least unexplained, given what lies around them (Janssen et al. 1986, equation
    9)."""
    b = np.correlate(poly, poly, "full")[ORDER:]
    n = j - i
    around = x[i - ORDER : j + ORDER].copy()
    around[ORDER : ORDER + n] = 0
    both = np.concatenate([b[::-1], b[1:]])
    right = -np.array([np.dot(both, around[row_number : row_number + 2 * ORDER + 1]) for row_number in range(n)])
    band = np.zeros((min(n, ORDER + 1), n))
    for band_index in range(len(band)):
        band[band_index, : n - band_index] = b[band_index]
    return np.asarray(solveh_banded(band, right, lower=True))


def _evening(read: Read, samples: int, talk: Mask) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]] | None:
    """Gains (samples, dB) that bring what is said nearer to its usual level: slow enough that no word is bent."""
    step = 40  # ticks: 400 ms, the time of momentary loudness
    at: list[float] = []
    level: list[float] = []
    for talk_index in range(0, len(talk) - step + 1, step):
        if talk[talk_index : talk_index + step].mean() > 0.5:
            talk_samples = read(talk_index * TICK, (talk_index + step) * TICK)
            at.append((talk_index + step / 2) * TICK)
            level.append(10 * float(np.log10(np.mean(talk_samples**2) + 1e-10)))
    if len(level) < 8:
        return None
    smoothed_level = median_filter(np.array(level), 5, mode="nearest")
    smoothed_level = uniform_filter1d(smoothed_level, 5, mode="nearest")  # about 2 s
    off = np.clip((float(np.median(smoothed_level)) - smoothed_level) * EVEN_SHARE, -EVEN_MOST, EVEN_MOST)
    return np.array(at), off
