"""Two voices in one recording told apart, by the shape of their spectrum: who says which sentence.

    sentences   [ a ][ b ][  c  ][d][   e   ]        each a cloud of mel cepstra, 100 a second where it is loud
    voices        1    1     2    1     2       two Gaussians that explain all clouds best, each sentence by one of them

Mel-frequency cepstra: Davis and Mermelstein 1980. One Gaussian of full covariance a voice, and the Bayesian
information criterion that says whether two explain more than one: Chen and Gopalakrishnan 1998. Levels and pitch are
not asked: the same voice can be near or far. A voice that was recorded on several days can pass for two.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.fft import dct

from kovel.core.sound.levels import Floats

RATE = 16_000
FRAME, STEP, FFT = 400, 160, 512  # 25 ms each 10 ms
BANDS, COEFFICIENTS = 26, 16
LOUD = 24.0  # dB below a sentence's loud parts that are still its voice
LENT = 400  # frames' worth of the covariance of all that a voice is lent: a few sentences alone do not tell one
STARTS, ROUNDS = 8, 30
TWO, PLAIN = (
    0.045,
    0.1,
)  # nats a frame that two voices must explain more than one, and do where they differ plainly (measured: one
# voice -0.04 to 0.07, of several days up to 0.18; two from 0.05 under a fan, where one asks little, to 0.6)
QUIET, LEFT = 10, 0.1  # percent of a sentence's frames, by band, that are its noise; what is left of a band below that
FEW = 30  # frames a sentence must have to count in what a voice is


@dataclass(frozen=True, slots=True)
class Apart:
    """Who says each sentence (0 or 1; the one who says more is 0), how sure that is (nats a frame between the two),
    and how much more two voices explain than one (nats a frame, less what the criterion takes off)."""

    voices: tuple[int, ...]
    sure: tuple[float, ...]
    gain: float

    @property
    def two(self) -> bool:
        """Whether two voices explain it better than one."""
        return self.gain > TWO

    @property
    def plain(self) -> bool:
        """Whether they do so plainly enough to be told without a question."""
        return self.gain > PLAIN


def _bank() -> Floats:
    """(BANDS, FFT / 2 + 1): triangles, evenly spaced in mel from 80 Hz to 7.6 kHz."""
    low, high = 2595 * np.log10(1 + np.array([80.0, 7600.0]) / 700)
    mel = np.linspace(low, high, BANDS + 2)
    edge = 700 * (10 ** (mel / 2595) - 1)
    frequencies = np.fft.rfftfreq(FFT, 1 / RATE)
    up, down = (
        (frequencies - edge[:-2, None]) / np.diff(edge)[:-1, None],
        (edge[2:, None] - frequencies) / np.diff(edge)[1:, None],
    )
    return np.asarray(np.maximum(0, np.minimum(up, down)), np.float32)


_BANK = _bank()


def cepstra(x: Floats) -> Floats:
    """(n, COEFFICIENTS): the mel cepstra of the loud parts of a sentence, its sound at 16 kHz; without the first,
    which is its level."""
    if len(x) < FRAME:
        return np.zeros((0, COEFFICIENTS), np.float32)
    x = np.append(x[0], x[1:] - np.float32(0.97) * x[:-1])
    frames = np.lib.stride_tricks.sliding_window_view(x, FRAME)[::STEP] * np.hamming(FRAME).astype(np.float32)
    power = np.abs(np.fft.rfft(frames, FFT)) ** 2
    level = 10 * np.log10(power.sum(1) + 1e-12)
    loud = level > np.percentile(level, 95) - LOUD
    bands = power @ _BANK.T
    noise = np.percentile(bands, QUIET, axis=0)  # a fan that is switched on is no other voice
    mels = np.log(np.maximum(bands - noise, LEFT * bands)[loud] + 1e-10)
    return np.asarray(dct(mels, norm="ortho")[:, 1 : COEFFICIENTS + 1], np.float32)


@dataclass(frozen=True, slots=True)
class Cloud:
    """What is kept of a sentence: how many frames, their sum, the sum of their products."""

    count: int
    sums: np.ndarray
    products: np.ndarray

    @classmethod
    def of(cls, frames: Floats) -> Cloud:
        """The cloud of these frames (n, features)."""
        f = frames.astype(float)
        return cls(len(f), f.sum(0), f.T @ f)


def _voice(clouds: Sequence[Cloud], all_of: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
    """Mean and covariance of what one voice says."""
    n = sum(cloud.count for cloud in clouds)
    mean = sum((cloud.sums for cloud in clouds), np.zeros(COEFFICIENTS)) / n
    spread = sum((cloud.products for cloud in clouds), np.zeros((COEFFICIENTS, COEFFICIENTS))) / n - np.outer(
        mean, mean
    )
    if all_of is not None:
        spread = (n * spread + LENT * all_of) / (n + LENT)
    return mean, spread


def _likely(clouds: Sequence[Cloud], mean: np.ndarray, spread: np.ndarray) -> np.ndarray:
    """(n,): the log likelihood of each sentence, but for what is the same for every voice."""
    inverse = np.linalg.inv(spread)
    size = np.linalg.slogdet(spread)[1]
    n = np.array([cloud.count for cloud in clouds])
    cloud_sums = np.array([cloud.sums for cloud in clouds])
    distances = np.array([np.sum(inverse * cloud.products) for cloud in clouds])
    toward = inverse @ mean
    return np.asarray(-0.5 * (n * (size + mean @ toward) + distances - 2 * cloud_sums @ toward))


def told_apart(frames: Sequence[Floats]) -> Apart:
    """Which of two voices says each sentence, by its cepstra (each (n, COEFFICIENTS)); sentences too short to tell
    go to the nearer one. With fewer than four that are long enough there is one voice."""
    clouds = [Cloud.of(frame) for frame in frames]
    long = [index for index, cloud in enumerate(clouds) if cloud.count >= FEW]
    if len(long) < 4:
        return Apart((0,) * len(clouds), (0.0,) * len(clouds), 0.0)
    some = [clouds[long_index] for long_index in long]
    mean, spread = _voice(some, None)
    spread = spread + 1e-6 * np.eye(COEFFICIENTS)
    found_voices = _best(some, mean, spread)
    if found_voices is None:
        return Apart((0,) * len(clouds), (0.0,) * len(clouds), 0.0)
    models, total = found_voices
    n = sum(cloud.count for cloud in some)
    more = COEFFICIENTS + COEFFICIENTS * (COEFFICIENTS + 1) / 2  # numbers that a second voice takes
    gain = (total - _likely(some, mean, spread).sum() - 0.5 * more * np.log(n)) / n
    each = np.array([_likely(clouds, *model) for model in models])
    voices = each.argmax(0)
    if (voices == 1).sum() * 2 > len(clouds):
        voices = 1 - voices
    sure = np.abs(each[0] - each[1]) / np.maximum(1, [cloud.count for cloud in clouds])
    return Apart(
        tuple(int(voice) for voice in voices), tuple(float(sure_speaker) for sure_speaker in sure), float(gain)
    )


Models = list[tuple[np.ndarray, np.ndarray]]


def _best(some: Sequence[Cloud], mean: np.ndarray, spread: np.ndarray) -> tuple[Models, float] | None:
    """The two voices that explain all sentences best, from several beginnings: halves along the directions in which
    sentences differ most, by what all of them spread; each then moved to whoever explains it better, until none
    moves."""
    middles = np.array([cloud.sums / cloud.count for cloud in some])
    even = (middles - mean) @ np.linalg.cholesky(np.linalg.inv(spread))
    directions = np.linalg.svd(even - even.mean(0), full_matrices=False)[2][:STARTS]
    best: tuple[Models, float] | None = None
    for direction in directions:
        along = even @ direction
        label = (along > np.median(along)).astype(int)
        models: Models = []
        likely = np.zeros((2, len(some)))
        for _ in range(ROUNDS):
            if not 0 < label.sum() < len(label):
                break
            models = [
                _voice([cloud for cloud, cloud_label in zip(some, label, strict=True) if cloud_label == v], spread)
                for v in (0, 1)
            ]
            likely = np.array([_likely(some, *model) for model in models])
            new = likely.argmax(0)
            if (new == label).all():
                break
            label = new
        if not 0 < label.sum() < len(label) or not models:
            continue
        total = float(likely.max(0).sum())
        if best is None or total > best[1]:
            best = models, total
    return best
