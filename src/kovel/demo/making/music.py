"""24 s music bed at 96 bpm and its beats: `python music.py OUTDIR` (kick on every beat, hat off it, plucks, pad)."""
import json
import subprocess
import sys

import numpy as np
import soundfile as sf

SR, BPM, SECONDS = 48000, 96, 24
BEAT = 60 / BPM
CHORDS = [(146.8, 174.6, 220), (116.5, 146.8, 174.6), (130.8, 164.8, 196), (110, 146.8, 164.8)]


def seconds(d):
    return np.arange(int(d * SR)) / SR


def pluck(f, d=1.6):
    t = seconds(d)
    return sum(np.sin(2 * np.pi * f * k * t) * np.exp(-t * (2 + 1.6 * k)) / k for k in (1, 2, 3, 4, 5))


def main(out):
    rs = np.random.default_rng(1)
    y = np.zeros(SR * (SECONDS + 4))

    def add(t, x, gain):
        y[int(t * SR) : int(t * SR) + len(x)] += gain * x

    t = seconds(0.3)
    kick = np.sin(2 * np.pi * (48 * t + 70 * (1 - np.exp(-t * 30)) / 30)) * np.exp(-t * 12)
    hat = np.diff(rs.standard_normal(int(0.06 * SR) + 1)) * np.exp(-seconds(0.06) * 90)
    count = int(SECONDS / BEAT)
    for b in range(count):
        c = CHORDS[(b // 4) % 4]
        add(b * BEAT, kick, 0.75 if b % 4 == 0 else 0.42)
        add(b * BEAT + BEAT / 2, hat, 0.12)
        for h in (0, 1):
            add(b * BEAT + h * BEAT / 2, pluck(c[(2 * b + h) % 3] * 2), 0.16)
        if b % 4 == 0:
            p = seconds(4 * BEAT)
            add(b * BEAT, sum(np.sin(2 * np.pi * f * p + i) for i, f in enumerate(c)) * np.hanning(len(p)), 0.07)
    y = y[: SR * SECONDS]
    y[-SR * 2 :] *= np.linspace(1, 0, SR * 2)
    sf.write(f"{out}/bed.wav", np.tanh(y * 0.9) * 0.8, SR, subtype="PCM_16")
    subprocess.run(["ffmpeg", "-y", "-v", "error", "-i", f"{out}/bed.wav", "-c:a", "flac", "-fflags", "+bitexact", f"{out}/bed.flac"], check=True)
    beats = [round(b * BEAT, 4) for b in range(count)]
    json.dump({"kind": "music", "seconds": SECONDS, "tempo": BPM, "beats": beats, "downbeats": beats[::4]}, open(f"{out}/bed.json", "w"), indent=1)


if __name__ == "__main__":
    main(sys.argv[1])
