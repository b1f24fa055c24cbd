"""The sound of a recording as raw samples, made first and readable as it grows; its waveform and what loudness needs.

sound.pcm    48 kHz 16-bit little-endian, mono or interleaved stereo, sample 0 at the first picture's moment
peaks.bin    "KVP1", count of levels, pairs a level (uint32 LE), then int8 (min, max) pairs, finest level first
power.npy    float32 (n, 3), each 100 ms: weighted power, peak, samples at full scale (core.sound.loudness)
sound.json   samples and channels, once all of it is there

Each try at making it works in a folder of its own; its files take their places, in one step each, once all of them are
whole:

growing-TRY/sound.pcm   the samples so far       |~~~~~~~~~~~>        read from there by `sound_file`
growing-TRY/peaks.raw   the finest pairs so far
"""

import os
import shutil
import struct
import time
import wave
from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any, BinaryIO

import av
import numpy as np

from kovel.core.sound.loudness import PowerMaker
from kovel.core.sound.peaks import LEVELS, PeakMaker, coarser
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.media.files import LONGEST, NoRoom, Unusable, open_media, spare
from kovel.media.microphones import channels_of
from kovel.media.reader import FrameReader
from kovel.media.whole_files import keep, new_try, written_whole
from kovel.media.wholeness import sound_made, whole_sound

PEAKS = "peaks.raw"
GROWING = "growing-"
GROWS = 5 * SAMPLE_RATE  # samples after which what is there is shown
STALLED = 30.0  # seconds after which sound that does not grow is not waited for
Progress = Callable[[float], None]


def make_sound(
    path: str,
    out: str,
    rate: list[int],
    picture: bool,
    frames: int | None,
    progress: Progress,
    heard: Sequence[int] = (),
) -> dict[str, int]:
    """Make the sound of one recording in folder `out`; its samples (at 48 kHz) and channels. `heard`: one or two
    channels, counted over all tracks, as left and right; none: the first track. Sound that is whole already is left
    as it is."""
    src, folder = Path(path), Path(out)
    folder.mkdir(parents=True, exist_ok=True)
    if made_samples := sound_made(folder):
        return made_samples
    r = Rate(*rate)
    spare(folder, float((frames or 1) / r.fps) * SAMPLE_RATE * 2)
    zero = None  # the moment of the first picture, or of the first sound where there is none
    if picture:
        reader = FrameReader(src, r, threads=1)
        zero = Fraction(reader.zero * reader.base)
        reader.close()
    trial = folder / f"{GROWING}{new_try()}"
    trial.mkdir()
    try:
        samples, channels = _sound(src, trial, zero, float((frames or 1) / r.fps), progress, heard)
        made_samples = {"samples": samples, "channels": channels}
        if other := sound_made(folder):  # another try was quicker: what is whole stays
            return other
        for name in ("power.npy", "peaks.bin", "sound.pcm"):
            os.replace(trial / name, folder / name)
        keep(folder / "sound.json", made_samples)
    except FileNotFoundError:
        if other := sound_made(folder):  # whoever made it whole has cleared the others' tries away
            return other
        raise
    finally:
        shutil.rmtree(trial, ignore_errors=True)
    return made_samples


def sound_file(folder: Path) -> Path:
    """Where a recording's samples are: sound.pcm once that is whole, before that what the latest try has made so
    far."""
    return folder / "sound.pcm" if whole_sound(folder) else _growing(folder) / "sound.pcm"


def peaks_so_far(folder: Path) -> np.ndarray:
    """The waveform's finest (min, max) pairs, int8 (n, 2), of a sound that is being made."""
    try:
        raw = np.fromfile(_growing(folder) / PEAKS, np.int8)
    except OSError:
        raw = np.zeros(0, np.int8)
    return raw[: len(raw) // 2 * 2].reshape(-1, 2)


def _growing(folder: Path) -> Path:
    """The folder of the try that wrote last; the recording's own where there is none."""
    tries: list[tuple[int, Path]] = []
    for place in folder.glob(f"{GROWING}*"):
        try:
            tries.append(((place / "sound.pcm").stat().st_mtime_ns, place))
        except OSError:  # just begun, or just ended
            continue
    return max(tries, default=(0, folder))[1]


def clear_tries(folder: Path) -> None:
    """What tries at a sound have left that were ended half-way. Only once the sound is whole."""
    for place in folder.glob(f"{GROWING}*"):
        shutil.rmtree(place, ignore_errors=True)


class Patience:
    """Waits for more of a recording's sound; `NoRoom`, so that it is tried again later, where none has come for a
    while."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._size, self._since = -1, time.monotonic()

    def wait(self) -> None:
        """Waits a little for more sound. Raises `Unusable` where none has come for long."""
        try:
            size = sound_file(self.folder).stat().st_size
        except OSError:
            size = 0
        if size != self._size:
            self._size, self._since = size, time.monotonic()
        elif time.monotonic() - self._since > STALLED:
            raise NoRoom("Its sound is not being made just now.", "Let it be prepared")
        time.sleep(0.3)


def samples_of(pcm: Path, channels: int) -> np.ndarray:
    """The raw 48 kHz samples of a sound.pcm, (n, channels), read from disk as they are asked for."""
    raw = np.memmap(pcm, "<i2", "r") if pcm.stat().st_size else np.zeros(0, np.int16)
    return raw[: len(raw) // channels * channels].reshape(-1, channels)


def write_wav(path: Path, samples: np.ndarray) -> None:
    """16-bit samples (n, channels) at 48 kHz as a WAV file, whole or not at all."""
    with written_whole(path) as part_file, wave.open(str(part_file), "wb") as writer:
        writer.setnchannels(samples.shape[1])
        writer.setsampwidth(2)
        writer.setframerate(SAMPLE_RATE)
        writer.writeframes(samples.astype("<i2").tobytes())


def peaks_file(pairs: np.ndarray) -> bytes:
    """peaks.bin of the finest pairs, (n, 2) int8."""
    levels = [coarser(pairs, level_index) for level_index in LEVELS]
    head = b"KVP1" + struct.pack(f"<{1 + len(levels)}I", len(levels), *(len(level) for level in levels))
    return head + b"".join(level.tobytes() for level in levels)


def _unsaid_delay(c: Any, stream: Any) -> Fraction:
    """Seconds an encoder puts before the sound in a bare stream that has no place to say so: MP3 1105 samples, AAC
    1024, AC-3 256, WMA 2048 (common practice, no source). MP3 with a header says it, and its first stamp is past it."""
    samples = {"mp3": 1105, "aac": 1024, "ac3": 256, "asf": 2048}.get(c.format.name, 0)
    said_delay = c.format.name == "mp3" and (stream.start_time or 0) > 0
    return Fraction(0 if said_delay else samples, stream.codec_context.sample_rate)


class _Track:
    """The samples as they come, kept a second at a time, with what is measured of them."""

    def __init__(self, folder: Path, out: BinaryIO, growing: BinaryIO, channels: int) -> None:
        self.folder, self.out, self.growing, self.channels = folder, out, growing, channels
        self.peaks, self.power = PeakMaker(), PowerMaker()
        self.length = self._shown = self._kept = 0  # samples: added, shown to readers, written
        self._held: list[np.ndarray] = []

    def add(self, x: np.ndarray) -> None:
        """x: (n, channels) int16."""
        self._held.append(x)
        self.length += len(x)
        if self.length - self._kept >= SAMPLE_RATE:
            self.keep()

    def keep(self) -> None:
        """Writes what is held. Raises `Unusable` where the sound does not end."""
        if not self._held:
            return
        if self.length > LONGEST * SAMPLE_RATE:
            raise Unusable("Its sound does not end: it is damaged. Copy it from the card again.")
        held_samples = np.concatenate(self._held)
        self._held, self._kept = [], self.length
        self.out.write(held_samples.astype("<i2").tobytes())
        self.peaks.feed(held_samples)
        self.power.feed(held_samples)
        if self.length - self._shown >= GROWS:
            self._shown = self.length
            spare(self.folder)
            self.out.flush()
            self.growing.write(self.peaks.fresh().tobytes())
            self.growing.flush()


def _blocks(c: Any, a: Any, channels: int) -> Iterator[tuple[tuple[int, int] | None, np.ndarray]]:
    """(time stamp in samples at 48 kHz, samples (n, channels) int16) of a stream, in order; broken packets are stepped
    over.

    Sound that needs only to be rounded to 16 bits is, as libswresample does, a second at a time; other sound is
    resampled by it.
    """
    resample = av.AudioResampler("s16", "mono" if channels == 1 else "stereo", SAMPLE_RATE)
    plain: _Plain | None = None
    begun = False
    for packet in c.demux(a):
        try:
            for frame in packet.decode():
                if not begun:
                    begun = True
                    fits = frame.sample_rate == SAMPLE_RATE and len(frame.layout.channels) == channels
                    if fits and frame.format.name == "fltp" and frame.layout.name in ("mono", "stereo"):
                        plain = _Plain()
                if plain:
                    yield from plain.add(frame)
                    continue
                for this_frame in resample.resample(frame):
                    yield _samples(this_frame), this_frame.to_ndarray().reshape(-1, channels)
        except av.FFmpegError:
            continue
    if plain:
        yield from plain.rest()
    for this_frame in resample.resample(None) if not plain else ():
        yield _samples(this_frame), this_frame.to_ndarray().reshape(-1, channels)


class _Plain:
    """Frames of 48 kHz floats gathered to blocks of a second, as long as they follow each other by their time
    stamps."""

    JUMP = 480  # samples by which one may lie elsewhere than behind the last

    def __init__(self) -> None:
        self._fifo = av.AudioFifo()
        self._stamp: tuple[int, int] | None = None  # of the block's first sample
        self._count = 0  # samples in it

    def add(self, f: Any) -> Iterator[tuple[tuple[int, int] | None, np.ndarray]]:
        """Decoded sound -> (where it begins, samples), as it comes."""
        stamp = _samples(f)
        if self._count and stamp and self._stamp:
            off = stamp[0] * self._stamp[1] - (self._stamp[0] + self._count * self._stamp[1]) * stamp[1]
            if abs(off) >= self.JUMP * stamp[1] * self._stamp[1]:
                yield from self.rest()
        if not self._count:
            self._stamp = stamp
        f.pts = None
        self._fifo.write(f)
        self._count += f.samples
        if self._count >= SAMPLE_RATE:
            yield from self.rest()

    def rest(self) -> Iterator[tuple[tuple[int, int] | None, np.ndarray]]:
        """What is left at the end."""
        frame = self._fifo.read()
        self._count = 0
        if frame is not None:
            yield self._stamp, np.rint(frame.to_ndarray() * 32768).clip(-32768, 32767).astype(np.int16).T


def _samples(f: Any) -> tuple[int, int] | None:
    """A frame's time stamp in samples at 48 kHz, as a numerator and a denominator."""
    return None if f.pts is None else (f.pts * f.time_base.numerator * SAMPLE_RATE, f.time_base.denominator)


def _from(begin: Fraction, num: int, den: int) -> int:
    """num / den - begin, rounded, halves up: in whole numbers, for it is asked of every frame."""
    n, d = num * begin.denominator - begin.numerator * den, den * begin.denominator
    return (2 * n + d) // (2 * d)


def _gap_before(due: int | None, length: int) -> int:
    """Samples of silence between the `length` that were read and where the next ones are due; 0 for what is shorter
    than 40 ms or cannot be."""
    return due - length if due is not None and 1920 <= due - length < SAMPLE_RATE * 3600 else 0


def _silence(count: int, width: int) -> Iterator[np.ndarray]:
    for done in range(0, count, SAMPLE_RATE):
        yield np.zeros((min(SAMPLE_RATE, count - done), width), np.int16)


def _placed(source_file: Path, track: int, pick: Sequence[int] | None, zero: Fraction | None) -> Iterator[np.ndarray]:
    """The samples (n, channels) int16 of one sound track, one block behind the other from `zero` on, by their time
    stamps (None: from the track's own beginning, so that an encoder's delay is no silence): silence where there is a
    gap of 40 ms or more, cut where before zero. `pick`: these of its channels; None: all, brought to two."""
    with open_media(source_file) as container:
        a = container.streams.audio[track]
        for other in container.streams:
            if other is not a:
                other.discard = av.stream.Discard.all  # where the container can skip it, it is not even read
        width = len(pick) if pick else 1 if a.codec_context.channels == 1 else 2
        if zero is None:
            zero = Fraction((a.start_time or 0) * a.time_base) + _unsaid_delay(container, a)
        begin = zero * SAMPLE_RATE
        first: int | None = None  # where the first sample lies
        count = length = 0
        for stamp, block_samples in _picked(container, a, pick) if pick else _blocks(container, a, width):
            due = None if stamp is None else _from(begin, *stamp)
            if first is None:
                first = due or 0
                gap = max(0, first)
            else:
                gap = _gap_before(due, length) if first >= 0 else 0
            yield from _silence(gap, width)
            skip = min(max(0, -first - count), len(block_samples)) if first < 0 else 0
            count += len(block_samples)
            length += gap + len(block_samples) - skip
            yield block_samples[skip:]


def _picked(c: Any, a: Any, pick: Sequence[int]) -> Iterator[tuple[tuple[int, int] | None, np.ndarray]]:
    """As `_blocks`, of some channels of a track, none of them mixed."""
    resample = av.AudioResampler("s16", None, SAMPLE_RATE)

    def rows(frames: Any) -> Iterator[tuple[tuple[int, int] | None, np.ndarray]]:
        for frame in frames:
            yield _samples(frame), frame.to_ndarray().reshape(-1, len(frame.layout.channels))[:, list(pick)]

    for packet in c.demux(a):
        try:
            for frame in packet.decode():
                yield from rows(resample.resample(frame))
        except av.FFmpegError:
            continue
    yield from rows(resample.resample(None))


def _side_by_side(left: Iterator[np.ndarray], right: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
    """Two tracks of one channel each as left and right, as long as the longer one."""
    x, y = (np.zeros((0, 1), np.int16) for _ in range(2))
    more = [True, True]
    while any(more) or len(x) or len(y):
        if more[0] and not len(x):
            block = next(left, None)
            more[0], x = block is not None, x if block is None else block
            continue
        if more[1] and not len(y):
            block = next(right, None)
            more[1], y = block is not None, y if block is None else block
            continue
        n = min(len(x), len(y)) or max(len(x), len(y))
        both_channels = np.zeros((n, 2), np.int16)
        both_channels[: len(x[:n]), 0:1], both_channels[: len(y[:n]), 1:2] = x[:n], y[:n]
        x, y = x[n:], y[n:]
        yield both_channels


def _sound(
    source_file: Path,
    folder: Path,
    zero: Fraction | None,
    seconds: float,
    progress: Progress,
    heard: Sequence[int] = (),
) -> tuple[int, int]:
    """Raw samples as they are heard, into the folder of one try: of the first track, or of the channels `heard` of
    all tracks."""
    with open_media(source_file) as container:
        every = channels_of(container)
        places = [every[heard_stream] for heard_stream in heard if heard_stream < len(every)]
        channels = len(places) or (1 if container.streams.audio[0].codec_context.channels == 1 else 2)
    if len({t for t, _ in places}) > 1:
        (t, j), (u, k) = places
        blocks = _side_by_side(_placed(source_file, t, [j], zero), _placed(source_file, u, [k], zero))
    elif places:
        blocks = _placed(source_file, places[0][0], [k for _, k in places], zero)
    else:
        blocks = _placed(source_file, 0, None, zero)
    with (folder / "sound.pcm").open("wb") as this_sound_file, (folder / PEAKS).open("wb") as growing:
        track = _Track(folder, this_sound_file, growing, channels)
        for block in blocks:
            track.add(block)
            if seconds:
                progress(min(0.99, track.length / SAMPLE_RATE / seconds))
        track.keep()
    np.save(folder / "power.npy", track.power.finish())
    (folder / "peaks.bin").write_bytes(peaks_file(track.peaks.finish()[0]))
    return track.length, channels
