"""Recorded human speech with known gaps, in a quiet room and under noise: what pauses and words are checked against.

Source: the prompts of Debian's packages asterisk-core-sounds-en-wav, -fr-wav and -es-wav (CC BY-SA 3.0) and their
text lists, strung together with gaps of known length. How the noises are built: common practice, no source.
"""

import gzip
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from pathlib import Path

import numpy as np
from scipy.fft import next_fast_len
from scipy.io import wavfile
from scipy.ndimage import median_filter
from scipy.signal import butter, resample_poly, sosfilt

SOUNDS = Path("/usr/share/asterisk/sounds")
VOICES = {"en": "en_US_f_Allison", "fr": "fr_CA_f_June", "es": "es_MX_f_Allison"}
SR = 16_000
NEEDED = "These checks need recorded speech: apt install asterisk-core-sounds-{0} asterisk-core-sounds-{0}-wav"


@dataclass(frozen=True)
class Prompt:
    """What was said, from when to when (seconds)."""

    text: str
    start: float
    end: float


@dataclass(frozen=True)
class Talk:
    sound: dict[str, np.ndarray]  # by kind of room, (n,) float32 at 16 kHz
    talking: np.ndarray  # by 10 ms
    prompts: tuple[Prompt, ...]


def runs(mask: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    d = np.diff(np.concatenate([[0], mask.astype(int), [0]]))
    return np.flatnonzero(d == 1), np.flatnonzero(d == -1)


def _texts(language: str) -> dict[str, str]:
    out = {}
    texts = Path(f"/usr/share/doc/asterisk-core-sounds-{language}/core-sounds-{language}.txt.gz")
    assert texts.exists(), NEEDED.format(language)
    for line in gzip.decompress(texts.read_bytes()).decode("utf-8", "replace").splitlines():
        key, colon, text = line.strip().partition(":")
        if colon and key and key[0] != ";" and text.strip() and not text.strip().startswith("["):
            out[key.strip()] = text.strip()
    return out


def _read(path: Path) -> np.ndarray:
    rate, x = wavfile.read(path)
    x = x.astype(np.float32) / 32768
    return resample_poly(x, SR, rate).astype(np.float32) if rate != SR else x


def _active(x: np.ndarray) -> np.ndarray:
    """Speech of a clean recording by 10 ms: within 45 dB of its loud parts, or over its own room noise."""
    n = len(x) // 160
    e = 20 * np.log10(np.sqrt((x[: n * 160].reshape(n, 160) ** 2).mean(1) + 1e-14))
    top, floor = np.percentile(e, 98), np.percentile(e, 10)
    if -68 < floor < -50:
        return median_filter((e > floor + 6.5).astype(np.uint8), 5) > 0
    return e > max(top - 45, -60)


@lru_cache
def talk(seconds: float = 150, seed: int = 7, language: str = "en") -> Talk:
    """About so many seconds of prompts at -23 dBFS with gaps of 0.2 to 3 s, in four rooms: silent, room, fan, drift."""
    rng = np.random.default_rng(seed)
    texts, voice = _texts(language), SOUNDS / VOICES[language]
    keys = [
        k for k in texts if (voice / f"{k}.wav").exists() and "tone" not in k and not k.startswith(("silence", "beep"))
    ]
    rng.shuffle(keys)
    parts, label, prompts = [np.zeros(SR, np.float32)], [np.zeros(100, bool)], []
    at = SR
    for k in keys:
        x = _read(voice / f"{k}.wav")
        on = np.flatnonzero(_active(x))
        if len(on) < 50 or len(x) > 32 * SR:
            continue
        x = x[on[0] * 160 : (on[-1] + 1) * 160]
        x = x[: len(x) // 160 * 160].copy()
        a = _active(x)
        x = np.clip(x * 10 ** (-23 / 20) / np.sqrt((x[np.repeat(a, 160)] ** 2).mean()), -1, 1)
        x[:80] *= np.linspace(0, 1, 80)
        x[-80:] *= np.linspace(1, 0, 80)
        prompts.append(Prompt(texts[k], at / SR, (at + len(x)) / SR))
        gap = int(np.exp(rng.uniform(np.log(0.2), np.log(3))) * 100) * 160
        parts += [x, np.zeros(gap, np.float32)]
        label += [a, np.zeros(gap // 160, bool)]
        at += len(x) + gap
        if at > seconds * SR:
            break
    y, talking = np.concatenate(parts), np.concatenate(label)
    for i, j in zip(*runs(~talking), strict=True):  # the closure of a plosive is no pause
        if j - i < 15:
            talking[i:j] = True
    n = len(y)
    t = np.arange(n) / SR
    fan = _fan(rng, n)
    loud = 10 ** (6 * np.sin(2 * np.pi * t / 170) / 20)
    blow = 10 ** ((np.where((t // 140) % 2 == 0, -38, -33) + 2 * np.sin(2 * np.pi * t / 47)) / 20)
    drift = y * loud + fan * blow
    band = butter(2, [600, 3500], "band", fs=SR, output="sos")
    for p, q in pairwise(prompts):
        if q.start - p.end > 0.6 and rng.random() < 0.35:  # a breath
            m = int(rng.uniform(0.22, 0.4) * SR)
            b = sosfilt(band, rng.standard_normal(m)) * np.hanning(m)
            i = int((q.start - 0.06) * SR) - m
            if i / SR > p.end + 0.05:
                drift[i : i + m] += b * 10 ** (-38 / 20) / np.sqrt((b**2).mean())
        if q.start - p.end > 0.4 and rng.random() < 0.35:  # a knock
            m = int(rng.uniform(0.004, 0.012) * SR)
            c = rng.standard_normal(m) * np.exp(-np.arange(m) / (m / 4))
            i = int(rng.uniform(p.end + 0.05, q.start - 0.05) * SR)
            drift[i : i + m] += c * 10 ** (rng.uniform(-20, -10) / 20) / np.abs(c).max()
    sound = {
        "silent": y,
        "room": y + rng.standard_normal(n) * 10 ** (-60 / 20),
        "fan": y + fan * 10 ** (-35 / 20),
        "drift": drift,
    }
    return Talk({k: np.clip(x, -1, 1).astype(np.float32) for k, x in sound.items()}, talking, tuple(prompts))


def _fan(rng: np.random.Generator, n: int) -> np.ndarray:
    """Pink and brown noise with a little hum, at 0 dBFS."""
    m = next_fast_len(n)
    f = np.fft.rfftfreq(m, 1 / SR)
    t = np.arange(n) / SR

    def coloured(power: float, low: float) -> np.ndarray:
        x = np.fft.irfft(np.fft.rfft(rng.standard_normal(m)) / np.maximum(f, low) ** power, m)[:n]
        return x / x.std()

    x = (
        0.75 * coloured(0.5, 30)
        + 0.6 * coloured(1, 40)
        + 0.15 * np.sin(2 * np.pi * 120 * t)
        + 0.1 * np.sin(2 * np.pi * 240 * t)
    )
    return x / x.std()


def street(n: int, seed: int = 3) -> np.ndarray:
    """A street: noise of about -39 dBFS that swells by 6 dB over 20 s, now and then a car. Common practice, no
    source."""
    rng = np.random.default_rng(seed)
    t = np.arange(n) / SR
    loud = 6 * np.sin(2 * np.pi * t / 20) + 2 * np.sin(2 * np.pi * t / 7.3)
    for _ in range(int(n / SR / 15)):
        loud += rng.uniform(2, 6) * np.exp(-0.5 * ((t - rng.uniform(0, n / SR)) / rng.uniform(1, 2.5)) ** 2)
    m = next_fast_len(n)
    f = np.fft.rfftfreq(m, 1 / SR)
    x = sum(
        np.fft.irfft(np.fft.rfft(rng.standard_normal(m)) / np.maximum(f, low) ** p, m)[:n] / w
        for p, low, w in ((0.5, 30, 1), (1, 60, 0.5))
    )
    return (x / x.std() * 10 ** ((-39 + loud) / 20)).astype(np.float32)


class Ears:
    """Sound in memory, to be read as the sound of a recording is."""

    def __init__(self, x: np.ndarray) -> None:
        self.x = x

    def __len__(self) -> int:
        return len(self.x)

    def read(self, start: int, end: int) -> np.ndarray:
        y = self.x[max(0, start) : max(0, end)]
        before = max(0, -start)
        return np.pad(y, (before, end - start - len(y) - before))


def long_pauses(talking: np.ndarray, least: int = 30) -> np.ndarray:
    """Ticks that lie in pauses of at least `least` ticks."""
    out = ~talking
    for i, j in zip(*runs(out.copy()), strict=True):
        if j - i < least - 0.5:
            out[i:j] = False
    return out


@dataclass(frozen=True)
class Score:
    f1: float
    edges_90: float  # ms
    lost: float  # share of speech taken for a pause


def score(found: np.ndarray, talking: np.ndarray) -> Score:
    """Pauses of 0.3 s and more, by the 10 ms frame."""
    n = min(len(found), len(talking))
    want, got = long_pauses(talking[:n]), long_pauses(found[:n])
    f1 = 2 * (want & got).sum() / max(1, want.sum() + got.sum())
    off = []
    for a, b in zip(runs(want), runs(got), strict=True):
        off += [np.abs(b - x).min() * 10 for x in a if 50 < x < n - 50 and len(b) and np.abs(b - x).min() <= 50]
    return Score(
        float(f1), float(np.percentile(off, 90)) if off else 1e9, float((got & talking[:n]).sum() / talking[:n].sum())
    )
