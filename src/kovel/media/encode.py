"""Encoders of what Kovel makes: pictures into files that stand alone, sound into a stream beside them or a file of
its own."""

from collections.abc import Callable, Iterable
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np

from kovel.core.plan.outputs import OUTPUT_KINDS, Output, bit_rate, coding_of
from kovel.core.sound.loudness import TruePeaks, Weigher, integrated
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.media.reader import tag_bt709
from kovel.media.soundfiles import to_24

FORMATS = ("fltp", "flt", "s32")  # samples as encoders take them, what is wanted first


def _taken_by(encoder: Any) -> set[str]:
    """The formats of samples that an encoder takes."""
    return {each.name for each in encoder.audio_formats or ()}


class PictureFile:
    """Frames in yuv420p, BT.709 in limited range, encoded into a file of their own, from frame 0 on."""

    def __init__(self, path: Path, output: Output, size: tuple[int, int], frame_rate: Rate) -> None:
        coding = coding_of(output.kind)
        self.format = coding.pixels
        self.c = av.open(str(path), "w", format=coding.container)
        stream: Any = self.c.add_stream(coding.picture, rate=frame_rate.fps, options=coding.options(output.quality))
        stream.width, stream.height, stream.pix_fmt = *size, self.format
        if not OUTPUT_KINDS[output.kind].tight:
            stream.bit_rate = bit_rate(
                output, size, frame_rate
            )  # no more than that: a bound on its peaks makes x264 differ from run to run
        stream.codec_context.time_base = 1 / frame_rate.fps
        if coding.picture == "libx264":
            stream.codec_context.thread_type, stream.codec_context.thread_count = "FRAME", 0
        else:
            stream.codec_context.thread_count = 0
        tag_bt709(stream.codec_context)
        self.v, self.base, self.count = stream, 1 / frame_rate.fps, 0

    def add(self, f: Any) -> None:
        """One more frame."""
        if self.format != "yuv420p":
            f = f.reformat(format=self.format)
        f.pts, f.time_base, f.pict_type = self.count, self.base, 0
        tag_bt709(f)  # some encoders write into each frame what it says of itself, not what they were told
        self.c.mux(self.v.encode(f))
        self.count += 1

    def finish(self) -> None:
        """Writes what is left, and closes."""
        self.c.mux(self.v.encode(None))
        self.c.close()

    def give_up(self) -> None:
        """Closes without writing what is left."""
        self.c.close()


Block = Callable[[int, int], np.ndarray]  # samples [a, b) as float32 (b - a, 2)
AHEAD = 4 * SAMPLE_RATE  # samples worked out at once


class SoundStream:
    """The sound of a film, encoded as far as its pictures are; and what it measures."""

    def __init__(self, container: Any, kind: str, samples: int, block: Block) -> None:
        self.c, self.block, self.samples = container, block, samples
        name = coding_of(kind).sound
        encoder = av.codec.Codec(name, "w")
        self.format = next(sample_format for sample_format in FORMATS if sample_format in _taken_by(encoder))
        stream: Any = container.add_stream(name, rate=SAMPLE_RATE, layout="stereo", format=self.format)
        if encoder.lossy:
            stream.bit_rate = OUTPUT_KINDS[kind].sound
        stream.codec_context.open()
        self.a, self.size = stream, stream.codec_context.frame_size or 1024
        self.done = 0
        self._held, self._from = np.zeros((0, 2), np.float32), 0
        self.heard = Measured()

    def until(self, end: int) -> None:
        """Encode whole frames of it up to sample `end`; at the very end what is left."""
        end = min(end, self.samples)
        while self.done < end and (end - self.done >= self.size or end == self.samples):
            n = min(self.size, end - self.done)
            frame = av.AudioFrame.from_ndarray(
                self._packed(self._take(self.done, self.done + n)), self.format, "stereo"
            )
            frame.sample_rate, frame.pts, frame.time_base = SAMPLE_RATE, self.done, Fraction(1, SAMPLE_RATE)
            self.c.mux(self.a.encode(frame))
            self.done += n

    def finish(self) -> None:
        """Writes the sound to its end."""
        self.until(self.samples)
        self.c.mux(self.a.encode(None))

    def _take(self, start: int, end: int) -> np.ndarray:
        if end > self._from + len(self._held):
            until = min(self.samples, max(end, self._from + len(self._held) + AHEAD))
            new_samples = self.block(self._from + len(self._held), until)
            self.heard.feed(new_samples)
            self._held = np.concatenate([self._held[start - self._from :], new_samples])
            self._from = start
        return self._held[start - self._from : end - self._from]

    def _packed(self, x: np.ndarray) -> np.ndarray:
        if self.format == "fltp":
            return np.ascontiguousarray(x.T)
        if self.format == "flt":
            return np.ascontiguousarray(x.reshape(1, -1))
        return np.ascontiguousarray((to_24(x) << 8).reshape(1, -1))


class Measured:
    """Loudness and true peak of what is fed, block by block: each but the last a multiple of 100 ms long."""

    def __init__(self) -> None:
        self._power, self._peaks = Weigher(), TruePeaks(4_800)

    def feed(self, x: np.ndarray) -> None:
        """More samples (n, 2)."""
        self._power.feed(x)
        self._peaks.feed(x)

    def result(self) -> dict[str, float | None]:
        """LUFS of the whole (none: silence), and its true peak in dBTP."""
        loud, top = integrated(self._power.finish()), float(self._peaks.finish().max(initial=0))
        return {"loudness": None if loud is None else round(loud, 2), "peak": round(20 * np.log10(max(top, 1e-6)), 2)}


def stream_like(c: Any, part: Path) -> Any:
    """A stream of `c` for pictures that were encoded as those of a part."""
    with av.open(str(part)) as first:
        video = first.streams.video[0]
        v = c.add_stream_from_template(video, opaque=True)
        v.rate = video.average_rate  # without it MOV keeps no timecode
        return v


def joined(
    c: Any, value: Any, parts: Iterable[tuple[Path, int]], base: Fraction, reached: Callable[[int], None]
) -> None:
    """Parts, each with the frame it begins at, one after the other into stream `value`, as they were encoded."""
    extra: bytes | None = None
    for path, at in parts:
        reached(at)
        with av.open(str(path)) as part:
            video = part.streams.video[0]
            extra = extra or video.codec_context.extradata
            if video.codec_context.extradata != extra:
                raise ValueError("parts of a film were made in different ways")
            for packet in part.demux(video):
                if packet.dts is None:
                    continue
                shift = round(at * base / packet.time_base)
                packet.pts, packet.dts, packet.stream = (packet.pts or 0) + shift, packet.dts + shift, value
                c.mux(packet)
