"""How fast and how exactly two recordings of half an hour are put in step by their sound: `python -m bench.sync`.

Made tracks of one moment: other rooms, levels and noises, a clock 40 ppm fast; needs Debian's
asterisk-core-sounds-en-wav. Time is printed beside one bare correlation of both tracks at full length in the same
run.
"""

import time

import numpy as np
from scipy import fft
from tests.core.test_sync import moment, recorded

from kovel.core.sound.sound_match import LOW, Unrelated, match

SECONDS = 1800


def bare(a: np.ndarray, b: np.ndarray) -> int:
    n = fft.next_fast_len(len(a) + len(b), real=True)
    return int(np.argmax(fft.irfft(fft.rfft(a, n) * np.conj(fft.rfft(b, n)), n)))


def main() -> None:
    world, other = moment(SECONDS + 700, 3), moment(SECONDS + 700, 8)
    rng = np.random.default_rng(5)
    a = recorded(world, 300, SECONDS, ppm=0, room=0.03, noise=-60, level=1, seed=1)
    for noise in (-50, -38, -30):
        begin = float(rng.uniform(-200, 200))
        b = recorded(world, 300 + begin, SECONDS, ppm=40, room=0.1, noise=noise, level=0.3, seed=2)
        at = time.perf_counter()
        m = match(a, b)
        ours = time.perf_counter() - at
        at = time.perf_counter()
        bare(a, b)
        one = time.perf_counter() - at
        inside = np.linspace(max(0.0, begin), min(SECONDS, begin + SECONDS / 1.00004), 50)
        off = max(abs((t - m.offset) * (1 + m.ppm * 1e-6) - (t - begin) * (1 + 40e-6)) for t in inside)
        print(
            f"noise {noise} dBFS, offset {begin:.3f} s: {ours:.1f} s ({ours / one:.1f} bare correlations); "
            f"at most {off * 1e6:.0f} µs off,"
            f" sure {m.sure:.2f}",
            flush=True,
        )
    at = time.perf_counter()
    try:
        match(a, recorded(other, 300, SECONDS, ppm=0, room=0.1, noise=-50, level=1, seed=4))
        print("unrelated sound was taken for the same moment")
    except Unrelated as e:
        print(f"unrelated refused after {time.perf_counter() - at:.1f} s: {e}")
    print(f"{2 * SECONDS * LOW / 1e6:.0f} million samples")


if __name__ == "__main__":
    main()
