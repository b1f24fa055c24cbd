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
    """Samples [a, b) without rumble, hum and clicks."""
    sos = []
    if cleaner.wanted.low_cut:
        sos.append(butter(4, cleaner.wanted.low_cut, "high", fs=RATE, output="sos"))
    sos += [tf2sos(*iirnotch(f, f / 2.5, RATE)) for f in cleaner.hum]  # 2.5 Hz wide
    lead = LEAD if sos else 0
    x = read(start - lead, end)
    if sos:
        x = sosfilt(np.concatenate(sos).astype(np.float32), x, axis=0)[lead:].astype(np.float32)
    if cleaner.wanted.clicks:
        x = np.stack([without_clicks(x[:, k]) for k in range(x.shape[1])], 1)
    return x


def _gaps(talk: Mask) -> list[tuple[int, int]]:
    """Pauses in samples, without their edges, that are long enough to tell the noise by."""
    a, b = runs(~talk)
    rows = [(int(i) + MARGIN, int(j) - MARGIN) for i, j in zip(a, b, strict=True) if j - i >= LEAST + 2 * MARGIN]
    return [(i * TICK, j * TICK) for i, j in rows]


def _hum(read: Read, gaps: Sequence[tuple[int, int]], wanted: str) -> tuple[float, ...]:
    """The mains frequency and those of its harmonics that stand out in the pauses; none where no mains is heard."""
    if wanted == "leave":
        return ()
    n = 1 << 16  # 0.73 Hz a bin
    power = np.zeros(n // 2 + 1)
    used = 0
    for start, end in sorted(gaps, key=lambda g: g[0] - g[1])[:40]:
        x = read(start, min(end, start + n)).mean(1)
        if len(x) >= n // 8:
            power += np.abs(rfft(x * np.hanning(len(x)), n)) ** 2 / len(x)
            used += 1
    if not used:
        return (float(wanted[:2]),) if wanted[0].isdecimal() else ()
    level = 10 * np.log10(power + 1e-20)
    around = median_filter(level, 61)

    def standing(mains: float) -> list[float]:
        """By how many dB each harmonic stands out of what is around it."""
        bins = [round(mains * k * n / RATE) for k in range(1, HARMONICS + 1)]
        return [float((level[max(1, i - 2) : i + 3] - around[max(1, i - 2) : i + 3]).max()) for i in bins]

    best = max((50.0, 60.0), key=lambda f: sum(max(0.0, over - 6) for over in standing(f)))
    mains = best if wanted == "find it" else float(wanted[:2])
    found = [mains * index for index, over in enumerate(standing(mains), 1) if over > 9]
    if wanted == "find it" and len(found) < 2:
        return ()
    return tuple(found) or (mains,)


def _pictures(read: Read, gaps: Sequence[tuple[int, int]], samples: int) -> tuple[npt.NDArray[np.float64], Floats]:
    """The noise's power at each frequency, pause by pause: where they lie, and the pictures (k, WINDOW // 2 + 1).

    A pause that is too short for a picture of its own shares one with its neighbours; digital silence has none.
    """
    rows: list[tuple[float, Floats]] = []
    frames: list[Floats] = []
    begin = last = 0
    for start, end in gaps:
        f = _frames(read(start, end).mean(1))
        f = f[np.abs(f).max(1) > 1e-6]
        if not len(f):
            continue
        if frames and (sum(map(len, frames)) >= 96 or start - last > 20 * RATE):
            rows.append(((begin + last) / 2, _typical(frames)))
            frames = []
        if not frames:
            begin = start
        frames.append((np.abs(rfft(f * _ROOT, axis=1)) ** 2).astype(np.float32))
        last = end
    if frames and (sum(map(len, frames)) >= 32 or not rows):
        rows.append(((begin + last) / 2, _typical(frames)))
    if not rows:  # nobody pauses: what is quietest stands for the noise
        x = read(0, min(samples, 60 * RATE)).mean(1)
        p = np.abs(rfft(_frames(x) * _ROOT, axis=1)).astype(np.float32) ** 2
        loud = p.sum(1)
        rows.append((0.0, _typical([p[loud <= np.percentile(loud, 10)]])))
    return np.array([row[0] for row in rows]), np.stack([row[1] for row in rows])


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
    spectra = [rfft(_frames(padded[:, k]) * _ROOT, axis=1) for k in range(channels)]
    power = np.mean([np.abs(s) ** 2 for s in spectra], 0).astype(np.float32)
    where = first - WINDOW + HOP + np.arange(len(power)) * HOP + WINDOW // 2
    gain = _gains(power, where, at, noise, floor)
    out = np.zeros((len(padded), channels), np.float32)
    for index, s in enumerate(spectra):
        y = (irfft(s * gain, axis=1).astype(np.float32) * _ROOT) * (HOP / (WINDOW / 2))
        for i in range(WINDOW // HOP):  # frames that do not overlap each other, all at once
            part = y[i :: WINDOW // HOP]
            out[i * HOP : i * HOP + part.size, index] += part.ravel()
    return out[WINDOW - HOP : WINDOW - HOP + n]


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
    found = f(np.stack([ratio, ratio[::-1]], 1))
    return np.asarray(np.sqrt(found[:, 0] * found[::-1, 1]), np.float32)


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
    for i in range(0, len(ratio), BLOCK):
        now = ratio[i : i + BLOCK]
        speech = 1 / (1 + (1 + CERTAIN) * np.exp(np.maximum(now / d, 0) * np.float32(-CERTAIN / (1 + CERTAIN))))
        speech[now < 1e-3] = 1  # digital silence tells nothing of the noise
        sure = keep_sure * sure + (1 - keep_sure) * speech.mean(0)
        np.minimum(speech, np.float32(0.99), out=speech, where=sure > 0.99)  # a sound that never ends is noise
        heard = ((1 - speech) * now + speech * d).mean(0)
        d = keep * d + (1 - keep) * uniform_filter1d(uniform_filter1d(heard, BAND), BAND)
        d = np.clip(d, 0.1, 10)
        level[i : i + BLOCK] = d
    return level


def _onward(ratio: Floats) -> Floats:
    """The ratio of speech to noise expected in each frame, (frames, 2, bins), from what the frame before it left of
    its own."""
    rows = np.empty_like(ratio)
    before = np.zeros(ratio.shape[1:], np.float32)
    one, keep, fresh = np.float32(1), np.float32(SMOOTH), np.float32(1 - SMOOTH)
    for now, expected in zip(ratio, rows, strict=True):
        np.add(keep * before, fresh * np.maximum(now - one, 0), out=expected)
        g = np.maximum(expected / (one + expected), np.float32(1e-4))
        before = g * g * now
    return rows


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
        left = np.abs(lfilter(poly, 1, part))
        left[:ORDER] = 0
        usual = uniform_filter1d(np.minimum(left, 6 * np.median(left) + 1e-9), 2 * LONELY) + 1e-7
        odd = left > ODD * usual
        s, e = runs(uniform_filter1d(odd.astype(np.float32), 33) > 1e-6)
        for i, j in zip(s, e, strict=True):
            rows = np.flatnonzero(odd[i:j]) + i
            i, j = int(rows[0]) - 2, int(rows[-1]) + 3
            if j - i > LONGEST or i < ORDER or j + ORDER > len(part) or not a <= lowest + i < a + block:
                continue
            if odd[max(0, i - LONELY) : i].any() or odd[j : j + LONELY].any():
                continue
            y[lowest + i : lowest + j] = _put_back(part, i, j, poly)
    return y


def _prediction(x: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """The filter that leaves of x what its last ORDER samples cannot explain (linear prediction by autocorrelation)."""
    r = np.array([np.dot(x[: len(x) - k], x[k:]) for k in range(ORDER + 1)])
    r[0] = r[0] * (1 + 1e-6) + 1e-9
    return np.concatenate([[1.0], -solve_toeplitz(r[:ORDER], r[1:])])


def _put_back(x: npt.NDArray[np.float64], i: int, j: int, poly: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Samples [i, j) that leave the least unexplained, given what lies around them (Janssen et al. 1986, equation
    9)."""
    b = np.correlate(poly, poly, "full")[ORDER:]
    n = j - i
    around = x[i - ORDER : j + ORDER].copy()
    around[ORDER : ORDER + n] = 0
    both = np.concatenate([b[::-1], b[1:]])
    right = -np.array([np.dot(both, around[k : k + 2 * ORDER + 1]) for k in range(n)])
    band = np.zeros((min(n, ORDER + 1), n))
    for k in range(len(band)):
        band[k, : n - k] = b[k]
    return np.asarray(solveh_banded(band, right, lower=True))


def _evening(read: Read, samples: int, talk: Mask) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]] | None:
    """Gains (samples, dB) that bring what is said nearer to its usual level: slow enough that no word is bent."""
    step = 40  # ticks: 400 ms, the time of momentary loudness
    at: list[float] = []
    level: list[float] = []
    for k in range(0, len(talk) - step + 1, step):
        if talk[k : k + step].mean() > 0.5:
            x = read(k * TICK, (k + step) * TICK)
            at.append((k + step / 2) * TICK)
            level.append(10 * float(np.log10(np.mean(x**2) + 1e-10)))
    if len(level) < 8:
        return None
    rows = median_filter(np.array(level), 5, mode="nearest")
    rows = uniform_filter1d(rows, 5, mode="nearest")  # about 2 s
    off = np.clip((float(np.median(rows)) - rows) * EVEN_SHARE, -EVEN_MOST, EVEN_MOST)
    return np.array(at), off
