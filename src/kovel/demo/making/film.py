"""Draw, sound and encode one recording: `film.py talk WHO CAM SOUNDDIR OUTDIR` or `film.py shot NAME SECONDS OUTDIR`.

Writes NAME.mp4 and NAME.json (what is known of it). Mouths are driven by the speaker's own sound, frame by frame.
"""
import json
import math
import random
import subprocess
import sys
from pathlib import Path

import art
import broll
import numpy as np
import scipy.signal as sg
import shots
import soundfile as sf

FPS, SR = 25, 48000
OFF_B = 7.36  # camera B started this many seconds after camera A


def encoder(out, wav, sound="80k"):
    tags = ["-colorspace", "bt709", "-color_primaries", "bt709", "-color_trc", "bt709", "-color_range", "tv"]
    cmd = ["ffmpeg", "-y", "-v", "error", "-f", "rawvideo", "-pix_fmt", "rgba", "-s", "1280x720", "-r", "25", "-i", "-", "-i", wav]
    cmd += ["-vf", "scale=out_color_matrix=bt709,format=yuv420p", "-c:v", "libx264", "-preset", "slow", "-tune", "animation", "-crf", "26"]
    cmd += ["-g", "50", *tags, "-c:a", "aac", "-b:a", sound, "-ac", "1", "-movflags", "+faststart", "-fflags", "+bitexact", out]
    return subprocess.Popen(cmd, stdin=subprocess.PIPE)


def drive(a, events, frames):
    """Mouth opening, wideness and speech energy per frame; the interviewer's questions do not move it."""
    hop = SR // FPS
    own = np.zeros(len(a))
    for e in events:
        if e["kind"] in ("say", "false"):
            own[int(e["start"] * SR) : int(e["end"] * SR)] = 1
    y = sg.lfilter(*sg.butter(2, [200, 3500], "band", fs=SR), a * own)
    z = sg.lfilter(*sg.butter(2, 2200, "high", fs=SR), y)

    def rms(s):
        return np.array([np.sqrt(np.mean(s[max(0, i * hop - hop // 4) : (i + 1) * hop + hop // 4] ** 2) + 1e-12) for i in range(frames)])

    e, h = rms(y), rms(z)
    ref = np.percentile(e[e > 1e-4], 92)
    m = np.clip((e / ref - 0.10) / 0.9, 0, 1) ** 0.75
    mouth, p = np.zeros(frames), 0.0
    for i in range(frames):
        p += (m[i] - p) * (0.75 if m[i] > p else 0.5)
        mouth[i] = p
    wide = np.clip((h / (e + 1e-6) - 0.25) * 2.2, -1, 1) * (e > 0.06 * ref)
    return mouth, np.convolve(wide, [0.25, 0.5, 0.25], "same"), np.convolve(m, np.ones(25) / 25, "same")


def talk(who, cam, sounds, out):
    a, _ = sf.read(f"{sounds}/{who}.wav")
    truth = json.load(open(f"{sounds}/{who}.json"))
    total = int(len(a) / SR * FPS)
    mouth, wide, energy = drive(a, truth["events"], total)
    late = OFF_B if cam == "B" else 0.0
    first = int(late * FPS)
    n = total - first
    x = a[int(late * SR) : int(late * SR) + n * SR // FPS]
    name = f"{who}-{cam.lower()}" if who == "maren" else who  # only Maren was shot by two cameras
    if cam == "B":  # its own microphone: further away, with the room on it
        rs = np.random.default_rng(3)
        ir = np.zeros(9600)
        ir[0] = 1
        ir += rs.standard_normal(9600) * np.exp(-np.arange(9600) / 2600) * 0.02
        x = sg.fftconvolve(x, ir)[: len(x)] * 0.55 + rs.standard_normal(len(x)) * 8e-4
    wav = f"{sounds}/{name}.take.wav"
    sf.write(wav, x, SR, subtype="PCM_16")
    r = random.Random(sum(map(ord, who)))
    blinks, t = [], 1.5
    while t < total / FPS:
        blinks.append(t)
        t += r.uniform(2.2, 5.4) if r.random() > 0.15 else 0.35
    looks, t = [(0.0, 0.0)], 1.0
    while t < total / FPS:
        looks.append((t, r.choice([-0.5, 0, 0, 0.35, -0.2])))
        t += r.uniform(0.8, 2.8)
    enc = encoder(f"{out}/{name}.mp4", wav)
    s = art.surf()
    c = s.getCanvas()
    for i in range(n):
        k = i + first
        t = k / FPS
        d = min(abs(t - b) for b in blinks)
        art.interview(
            c, who, cam if who == "maren" else who, t, mouth=mouth[k], wide=wide[k], blink=max(0, 1 - (d / 0.11) ** 2) if d < 0.11 else 0,
            tilt=1.5 * math.sin(t * 0.53) + 0.9 * math.sin(t * 1.31 + 1) + 1.2 * energy[k] * math.sin(t * 2.6),
            dx=3.5 * math.sin(t * 0.41) + 2 * math.sin(t * 1.1), dy=2 * math.sin(t * 0.37) + 5 * energy[k] * math.sin(t * 3.1),
            gaze=[g for q, g in looks if q <= t][-1], breath=math.sin(t * 2 * math.pi * 0.27), brow=max(0, energy[k] - 0.25) * 1.6, gk=(0, 0.05, 1),
        )
        enc.stdin.write(art.frame(s).tobytes())
    enc.stdin.close()
    enc.wait()

    def shift(rows):
        return [{**e, "start": round(e["start"] - late, 3), "end": round(e["end"] - late, 3)} for e in rows if e["start"] >= late]

    known = {"kind": "interview", "seconds": n / FPS, "speaker": who, "words": shift(truth["words"]), "events": shift(truth["events"]), "fan_dbfs": truth["fan_dbfs"]}
    if who == "maren":
        known["sync"] = {"with": "maren-a", "offset": late}
    Path(f"{out}/{name}.json").write_text(json.dumps(known, indent=1) + "\n")
    print(name, n, "frames", flush=True)


def noise(kind, rs):
    """One sharp sound, 1.2 s, peak at its start."""
    n = int(SR * 1.2)
    t = np.arange(n) / SR
    if kind in ("clank", "bell"):
        parts = ((430, 0.5, 18), (1130, 0.7, 14), (1875, 0.6, 17), (2740, 0.5, 22), (4210, 0.35, 30), (6150, 0.2, 45))
        if kind == "bell":
            parts = ((523, 0.8, 1.6), (1046, 0.5, 2.2), (1257, 0.4, 2.8), (1572, 0.45, 3.4), (2093, 0.3, 5), (3140, 0.2, 9))
        y = sum(A * np.sin(2 * np.pi * f * (1 + rs.uniform(-0.01, 0.01) * (kind == "clank")) * t + rs.uniform(0, 6)) * np.exp(-t * d) for f, A, d in parts)
        y = y * 0.35 + rs.standard_normal(n) * np.exp(-t * 160) * (0.9 if kind == "clank" else 0.3)
        return y * np.clip((1.2 - t) / 0.2, 0, 1)
    if kind == "knock":
        y = np.sin(2 * np.pi * 310 * t) * np.exp(-t * 55) + 0.6 * np.sin(2 * np.pi * 720 * t) * np.exp(-t * 80)
        return y + sg.lfilter(*sg.butter(2, 2600, fs=SR), rs.standard_normal(n) * np.exp(-t * 120)) * 1.4
    if kind in ("thud", "step"):
        y = np.sin(2 * np.pi * (62 * t + 10 * (1 - np.exp(-t * 22)) / 22 * 6)) * np.exp(-t * 11) + 0.5 * np.sin(2 * np.pi * 171 * t) * np.exp(-t * 24)
        return (y * 0.8 + sg.lfilter(*sg.butter(2, 900, fs=SR), rs.standard_normal(n) * np.exp(-t * 60)) * 2) * (1 if kind == "thud" else 0.5)
    if kind == "creak":
        f = 190 + 60 * np.sin(2 * np.pi * 3 * t)
        return sg.sawtooth(2 * np.pi * np.cumsum(f) / SR) * np.hanning(n) * 0.12 * (0.6 + 0.4 * np.sign(np.sin(2 * np.pi * 37 * t)))
    f = 900 + 700 * np.exp(-(((t - 0.16) / 0.12) ** 2)) - 350 * t  # gull
    y = np.sin(2 * np.pi * np.cumsum(f) / SR) + 0.5 * np.sin(4 * np.pi * np.cumsum(f) / SR)
    return y * np.exp(-(((t - 0.22) / 0.16) ** 2)) * 0.35


def shot(name, seconds, out):
    draw, hits = {**broll.SC, **shots.SC}[name]()
    rs = np.random.default_rng(sum(map(ord, name)))
    n = int(seconds * SR)
    t = np.arange(n) / SR
    a = sg.lfilter(*sg.butter(1, [300, 1800], "band", fs=SR), rs.standard_normal(n)) * (0.7 + 0.3 * np.sin(2 * np.pi * 0.21 * t))
    a = a / a.std() * 10 ** (-44 / 20)
    for at, kind, level in hits:
        i = int(at * SR)
        if i < n:
            y = noise(kind, rs) * level * 0.45
            a[i : i + len(y)] += y[: n - i]
    wav = f"{out}/{name}.take.wav"
    sf.write(wav, np.tanh(a * 1.2) * 0.8, SR, subtype="PCM_16")
    enc = encoder(f"{out}/{name}.mp4", wav)
    s = art.surf()
    c = s.getCanvas()
    for i in range(int(seconds * FPS)):
        draw(c, i / FPS)
        art.grain(c, 0, 0.05, 1)
        enc.stdin.write(art.frame(s).tobytes())
    enc.stdin.close()
    enc.wait()
    Path(wav).unlink()
    sharp = [{"time": round(float(at), 3), "sound": k} for at, k, _ in hits if at < seconds and k in ("clank", "thud", "knock", "bell")]
    Path(f"{out}/{name}.json").write_text(json.dumps({"kind": "b-roll", "seconds": seconds, "hits": sharp}, indent=1) + "\n")
    print(name, len(sharp), "hits", flush=True)


if __name__ == "__main__":
    if sys.argv[1] == "talk":
        talk(*sys.argv[2:6])
    else:
        shot(sys.argv[2], float(sys.argv[3]), sys.argv[4])
