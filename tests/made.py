"""Made recordings whose every frame says which one it is, and whose sound is told apart by correlation.

Picture: 16 columns of black or white, a second row their complement: bits 1 0, two for the source, twelve for the
frame. Sound: noise seeded by the source, exact to the sample.
"""

import struct
import wave
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from kovel.core.sound.loudness import PowerMaker
from kovel.core.sound.peaks import PeakMaker
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.media.soundtrack import peaks_file, samples_of
from kovel.media.whole_files import keep


def noise(src: int, samples: int) -> np.ndarray:
    """int16 (samples,), different for each source, soft enough to survive AAC."""
    x = np.random.default_rng(src).standard_normal(samples + 7)
    return (np.convolve(x, np.ones(8) / 8, "valid")[:samples] * 9000).clip(-32000, 32000).astype(np.int16)


def whole_sound(folder: Path, channels: int = 1) -> None:
    """Make what lies in sound.pcm count as all of a recording's sound: its waveform, its loudness, and that it is
    whole."""
    samples = samples_of(folder / "sound.pcm", channels)
    peaks, power = PeakMaker(), PowerMaker()
    for a in range(0, len(samples), SAMPLE_RATE):
        peaks.feed(np.asarray(samples[a : a + SAMPLE_RATE]))
        power.feed(np.asarray(samples[a : a + SAMPLE_RATE]))
    (folder / "peaks.bin").write_bytes(peaks_file(peaks.finish()[0]))
    np.save(folder / "power.npy", power.finish())
    keep(folder / "sound.json", {"samples": len(samples), "channels": channels})


def picture(src: int, n: int, w: int, h: int) -> np.ndarray:
    bits = [1, 0, src >> 1 & 1, src & 1, *(n >> (11 - i) & 1 for i in range(12))]
    y = np.full((h, w), 90 + 20 * src, np.uint8)
    for i, b in enumerate(bits):
        a, z = i * w // 16, (i + 1) * w // 16
        y[: h // 6, a:z] = 235 if b else 16
        y[h // 6 : h // 3, a:z] = 16 if b else 235
    return y


LIMITED = np.round(16 + np.arange(256) * 219 / 255).astype(np.uint8)  # greys in the range of pictures (ITU-R BT.601)


def frame(grey: np.ndarray, kind: str) -> av.VideoFrame:
    """A grey picture, (h, w) from 0 to 255, as a frame without colour."""
    h, w = grey.shape
    planes = [LIMITED[grey].ravel(), np.full(2 * h * w if kind == "yuv444p" else h * w // 2, 128, np.uint8)]
    shape = (3, h, w) if kind == "yuv444p" else (h * 3 // 2, w)
    return av.VideoFrame.from_ndarray(np.concatenate(planes).reshape(shape), format=kind)


def read(y: np.ndarray) -> tuple[int, int] | None:
    """(source, frame) of a luma plane, None if it carries no code."""
    h, w = y.shape
    bits = []
    for i in range(16):
        x = (2 * i + 1) * w // 32
        a, b = int(y[h // 12, x]), int(y[h // 4, x])
        if abs(a - b) < 60:
            return None
        bits.append(a > b)
    if bits[:2] != [True, False]:
        return None
    n = 0
    for b in bits[4:]:
        n = 2 * n + b
    return bits[2] * 2 + bits[3], n


def clip(
    path: Path,
    src: int,
    frames: int,
    rate: Rate = Rate(25),
    size: tuple[int, int] = (640, 360),
    *,
    sound: bool = True,
    stamps: list[int] | None = None,
    gop: int = 50,
    **coded: str,
) -> Path:
    """A recording. `stamps`: milliseconds of each frame, for a variable rate; `coded`: more options of the encoder."""
    with av.open(str(path), "w") as c:
        v = c.add_stream("libx264", rate=rate.fps, options={"preset": "ultrafast", "crf": "18", "g": str(gop), **coded})
        v.width, v.height, v.pix_fmt = size[0], size[1], "yuv420p" if not (size[0] % 2 or size[1] % 2) else "yuv444p"
        base = Fraction(1, 1000) if stamps else 1 / rate.fps
        v.codec_context.time_base = base
        a = None
        if sound:
            a = c.add_stream("pcm_s16le" if path.suffix in (".mov", ".mkv") else "aac", rate=48000, layout="mono")
        for n in range(frames):
            f = frame(picture(src, n, *size), v.pix_fmt)
            f.pts, f.time_base = (stamps[n] if stamps else n), base
            c.mux(v.encode(f))
        c.mux(v.encode(None))
        if a is not None:
            total = rate.frame_to_sample(frames) if not stamps else 48 * (stamps[-1] + 40)
            x = noise(src, total)
            for i in range(0, total, 1024):
                f = av.AudioFrame.from_ndarray(x[None, i : i + 1024], "s16", "mono")
                f.sample_rate, f.pts, f.time_base = 48000, i, Fraction(1, 48000)
                c.mux(a.encode(f))
            c.mux(a.encode(None))
    return path


def luma(f: av.VideoFrame) -> np.ndarray:
    p = f.planes[0]
    return np.frombuffer(p, np.uint8).reshape(-1, p.line_size)[: f.height, : f.width]


def turned(path: Path) -> Path:
    """An MP4 of a camera that was turned: by its track matrix (0 1 / -1 0) the picture is shown a quarter clockwise
    (ISO/IEC 14496-12)."""
    raw = bytearray(path.read_bytes())
    at = raw.index(b"tkhd") + 4 + 40
    raw[at : at + 36] = struct.pack(">9i", 0, 1 << 16, 0, -1 << 16, 0, 0, 0, 0, 1 << 30)
    path.write_bytes(raw)
    return path


def codes(path: Path) -> list[tuple[int, int] | None]:
    """The code of every frame of a file."""
    with av.open(str(path)) as c:
        return [read(luma(f)) for f in c.decode(video=0)]


def decoded_sound(path: Path) -> np.ndarray:
    """float32 (samples,), left channel at 48 kHz, from the file's time zero."""
    with av.open(str(path)) as c:
        rows = [f for f in c.decode(audio=0)]
        x = np.concatenate([f.to_ndarray()[0] for f in rows])
        first = round(float(rows[0].pts * rows[0].time_base) * 48000)
    x = x[-first:] if first < 0 else np.pad(x, (first, 0))
    return x.astype(np.float32) / (32768 if x.dtype == np.int16 else 1)


def lag(got: np.ndarray, want: np.ndarray, reach: int = 4000) -> tuple[int, float]:
    """By how many samples `got` is late against `want` (0 is right), and the normalised correlation there."""
    n = min(len(got), len(want))
    g, w = got[:n], want[:n]
    size = 1 << (2 * n).bit_length()
    c = np.fft.irfft(np.fft.rfft(g, size) * np.conj(np.fft.rfft(w, size)), size)
    both = np.concatenate([c[-reach:], c[:reach]])
    k = int(np.argmax(both)) - reach
    return k, float(c[k] / (np.linalg.norm(g) * np.linalg.norm(w) + 1e-9))


def sound_of(path: Path, out: Path) -> Path:
    """The sound of a film as a WAV file, 48 kHz mono."""
    with av.open(str(path)) as c, wave.open(str(out), "wb") as f:
        f.setnchannels(1)
        f.setsampwidth(2)
        f.setframerate(48_000)
        to = av.AudioResampler("s16", "mono", 48_000)
        for frame in c.decode(audio=0):
            for g in to.resample(frame):
                f.writeframes(g.to_ndarray().tobytes())
    return out


def beginning_of(path: Path, to: Path, frames: int) -> Path:
    """The first so many frames of a recording as one of its own, without sound."""
    with av.open(str(path)) as src, av.open(str(to), "w") as out:
        s = src.streams.video[0]
        v: Any = out.add_stream("libx264", rate=s.average_rate, options={"preset": "veryfast", "crf": "16"})
        v.width, v.height, v.pix_fmt = s.width, s.height, "yuv420p"
        v.codec_context.color_primaries = v.codec_context.color_trc = v.codec_context.colorspace = 1
        for n, frame in zip(range(frames), src.decode(s), strict=False):
            frame.pict_type, frame.pts, frame.time_base = 0, n, 1 / s.average_rate
            out.mux(v.encode(frame))
        out.mux(v.encode(None))
    return to
