"""Steady noise taken out of recorded speech: Kovel's cleaning beside other methods, in the same run.

    python -m bench.noise [PROMPTS ...]     folders of 8 to 48 kHz WAV prompts; needs noisereduce, pyrnnoise, pesq, pystoi
    python -m bench.noise words             how many words a recogniser gets wrong before and after

Prints, for a fan and for a street, scale-invariant signal-to-distortion ratio, STOI, PESQ (wide band), how far the
floor came down, and how many times faster than real time it went.
"""

import sys
import time
from pathlib import Path

import numpy as np
from scipy.io import wavfile
from scipy.signal import butter, resample_poly, sosfilt
from tests.media.test_hearing import errors, plain
from tests.recorded import SR, talk

from kovel.core.sound.cleaning import RATE, Wanted, cleaned, prepare
from kovel.media.models import of_english, recogniser

SEEDS = (1, 2, 3, 4, 5, 6, 10, 11, 12, 13)


def prompts(folder: Path, seconds: float, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Speech at 48 kHz with gaps, and for each 10 ms whether somebody speaks."""
    files = sorted(folder.rglob("*.wav"))
    rng.shuffle(files)  # type: ignore[arg-type]
    out, talk, have = [np.zeros(RATE, np.float32)], [np.zeros(100, bool)], 0.0
    for f in files:
        rate, x = wavfile.read(f)
        x = resample_poly(x.astype(np.float32) / 32768, RATE, rate).astype(np.float32)
        on = np.flatnonzero(np.abs(x) > 0.02)
        if len(on) < RATE // 2:
            continue
        x = x[on[0] : on[-1]][: (on[-1] - on[0]) // 480 * 480]
        x *= 10 ** (-23 / 20) / np.sqrt(np.mean(x**2))
        gap = int(rng.uniform(0.4, 1.6) * 100) * 480
        out += [x, np.zeros(gap, np.float32)]
        talk += [np.ones(len(x) // 480, bool), np.zeros(gap // 480, bool)]
        have += (len(x) + gap) / RATE
        if have > seconds:
            break
    return np.concatenate(out), np.concatenate(talk)


def fan(n: int, rng: np.random.Generator) -> np.ndarray:
    f = np.fft.rfftfreq(n, 1 / RATE)
    x = np.fft.irfft(np.fft.rfft(rng.standard_normal(n)) / np.maximum(f, 40) ** 0.7, n)
    x = x / x.std() + 0.15 * np.sin(2 * np.pi * 120 * np.arange(n) / RATE)
    return x / x.std()


def street(n: int, rng: np.random.Generator) -> np.ndarray:
    """Rumble and hiss that swell as cars go by."""
    t = np.arange(n) / RATE
    low = sosfilt(butter(2, [60, 600], "band", fs=RATE, output="sos"), rng.standard_normal(n))
    high = sosfilt(butter(2, [600, 6000], "band", fs=RATE, output="sos"), rng.standard_normal(n))
    swell = 10 ** ((3 * np.sin(2 * np.pi * t / 11) + 2 * np.sin(2 * np.pi * t / 4.3)) / 20)
    x = (low / low.std() + 0.35 * high / high.std()) * swell
    return x / x.std()


def si_sdr(s: np.ndarray, y: np.ndarray) -> float:
    """Scale-invariant SDR in dB (Le Roux et al. 2019)."""
    k = np.dot(y, s) / np.dot(s, s)
    return float(10 * np.log10(np.sum((k * s) ** 2) / np.sum((y - k * s) ** 2)))


def kovel(y: np.ndarray, talk: np.ndarray, noise: int = 20) -> np.ndarray:
    def read(a: int, b: int) -> np.ndarray:
        x = np.zeros((b - a, 1), np.float32)
        lo, hi = max(0, a), min(len(y), b)
        x[lo - a : hi - a, 0] = y[lo:hi]
        return x

    c = prepare(read, len(y), talk, Wanted(noise=noise))
    return np.concatenate([cleaned(read, a, min(len(y), a + 30 * RATE), c)[:, 0] for a in range(0, len(y), 30 * RATE)])


def told(y: np.ndarray, talk: np.ndarray) -> np.ndarray:
    import noisereduce

    gaps = y[np.repeat(~talk, 480)[: len(y)]]
    return noisereduce.reduce_noise(y=y, sr=RATE, y_noise=gaps[: 20 * RATE], stationary=True, prop_decrease=0.9)


def learnt(y: np.ndarray, talk: np.ndarray) -> np.ndarray:
    from pyrnnoise import RNNoise

    x = (np.clip(y, -1, 1) * 32767).astype(np.int16)
    out = [f.astype(np.float32).ravel() / 32768 for _, f in RNNoise(sample_rate=RATE).denoise_chunk(x[None])]
    z = np.concatenate(out)[: len(y)]
    z = np.pad(z, (0, len(y) - len(z)))
    lags = range(0, 4800, 8)  # it comes late: put where it belongs
    late = max(lags, key=lambda k: float(np.dot(y[: 20 * RATE], z[k : k + 20 * RATE])))
    return np.pad(z[late:], (0, late))


def word_errors() -> None:
    """How many words a recogniser gets wrong under a fan at -35 dBFS (tests/recorded.py), untouched and cleaned."""
    model = recogniser(str(of_english()))
    wrong: dict[str, int] = {}
    words = 0
    for seed in SEEDS:
        said = talk(90, seed)
        fan48 = resample_poly(said.sound["fan"], 3, 1).astype(np.float32)
        for name, x in (
            ("untouched", said.sound["fan"]),
            *((f"kovel {n} dB", resample_poly(kovel(fan48, said.talking, n), 1, 3)) for n in (12, 18, 30)),
        ):
            for p in said.prompts:
                heard = x[max(0, int((p.start - 0.25) * SR)) : int((p.end + 0.25) * SR)].astype(np.float32)
                got, _ = model.transcribe(heard, beam_size=1, language="en", condition_on_previous_text=False)
                wrong[name] = wrong.get(name, 0) + errors(plain(p.text), plain(" ".join(s.text for s in got)))
        words += sum(len(plain(p.text)) for p in said.prompts)
    for name, n in wrong.items():
        print(f"fan     {name:15} {n} of {words} words wrong", flush=True)


def main() -> None:
    if "words" in sys.argv[1:]:
        return word_errors()
    from pesq import pesq
    from pystoi import stoi

    folders = [Path(p) for p in sys.argv[1:]] or [Path("/usr/share/asterisk/sounds/en_US_f_Allison")]
    for folder in folders:
        rng = np.random.default_rng(11)
        clean, talk = prompts(folder, 60, rng)
        clean, talk = clean[: len(talk) * 480], talk[: len(clean) // 480]
        for name, noise in (
            ("fan", fan(len(clean), rng) * 10 ** (-36 / 20)),
            ("street", street(len(clean), rng) * 10 ** (-38 / 20)),
        ):
            y = (clean + noise).astype(np.float32)
            quiet = np.repeat(~talk, 480)
            for method, f in (
                ("untouched", lambda y, t: y),
                ("kovel 12 dB", lambda y, t: kovel(y, t, 12)),
                ("kovel 30 dB", lambda y, t: kovel(y, t, 30)),
                ("told the noise", told),
                ("learnt", learnt),
            ):
                began = time.perf_counter()
                z = np.asarray(f(y, talk), np.float32)
                speed = len(y) / RATE / max(1e-9, time.perf_counter() - began)
                a, b = resample_poly(clean, 1, 3), resample_poly(z, 1, 3)
                floor = 20 * np.log10(np.sqrt(np.mean(z[quiet] ** 2)) / np.sqrt(np.mean(y[quiet] ** 2)) + 1e-9)
                print(
                    f"{folder.name} {name:7} {method:15} SI-SDR {si_sdr(clean, z):5.1f}  STOI "
                    f"{stoi(clean, z, RATE):.3f}"
                    f"  PESQ {pesq(16000, a, b, 'wb'):.2f}  floor {floor:6.1f} dB  {speed:6.1f} times real time",
                    flush=True,
                )


if __name__ == "__main__":
    main()
