"""Sound written as files of 24 bits: a mix, or stems that add up to it to the sample."""

import wave
from collections.abc import Callable, Mapping
from pathlib import Path

import numpy as np

from kovel.core.time.rate import SAMPLE_RATE
from kovel.media.whole_files import own_part

Block = Callable[[int, int], np.ndarray]  # samples [a, b) as float32 (b - a, 2)
Heard = Callable[[float], None]
AT_ONCE = 10 * SAMPLE_RATE
FULL = 2**23
ROUNDED = 64  # steps of 24 bits by which rounded stems may miss the rounded mix


def to_24(x: np.ndarray) -> np.ndarray:
    """Floats as whole numbers of 24 bits (int32), cut off at full scale."""
    wide_samples: np.ndarray = np.rint(np.clip(x.astype(np.float64), -1, 1 - 1 / FULL) * FULL).astype(np.int32)
    return wide_samples


def bytes_24(x: np.ndarray) -> bytes:
    """Whole numbers (n, channels) as little-endian samples of three bytes."""
    three: bytes = x.astype("<i4").reshape(-1, 1).view(np.uint8)[:, :3].tobytes()
    return three


def _wav(path: Path) -> wave.Wave_write:
    writer = wave.open(str(path), "wb")  # noqa: SIM115  # closed by who asked for it
    writer.setnchannels(2)
    writer.setsampwidth(3)
    writer.setframerate(SAMPLE_RATE)
    return writer


def wav(path: Path, block: Block, samples: int, told: Heard, feed: Callable[[np.ndarray], None] | None = None) -> None:
    """A mix as WAV, stereo, 24 bits, 48 kHz. What is written is fed to `feed` as well."""
    with _wav(path) as writer:
        for a in range(0, samples, AT_ONCE):
            this_block = block(a, min(samples, a + AT_ONCE))
            if feed:
                feed(this_block)
            writer.writeframes(bytes_24(to_24(this_block)))
            told(a / samples)


def stems(out: Path, lanes: Mapping[str, Block], mix: Block, samples: int, told: Heard) -> list[Path]:
    """LANE.wav for each lane in folder `out`. Their whole numbers add up to those of the mix, where that is not cut
    off: what rounding leaves over goes into the last."""
    out.mkdir(parents=True, exist_ok=True)
    paths = [out / f"{lane}.wav" for lane in lanes]
    parts = [own_part(path) for path in paths]
    files = [_wav(path) for path in parts]
    try:
        for a in range(0, samples, AT_ONCE):
            b = min(samples, a + AT_ONCE)
            lane_blocks = [to_24(block(a, b)) for block in lanes.values()]
            sound_left = to_24(mix(a, b)) - sum(lane_blocks)
            lane_blocks[-1] = np.clip(
                lane_blocks[-1] + np.where(np.abs(sound_left) <= ROUNDED, sound_left, 0), -FULL, FULL - 1
            )
            for writer, lane_block in zip(files, lane_blocks, strict=True):
                writer.writeframes(bytes_24(lane_block))
            told(a / samples)
    finally:
        for writer in files:
            writer.close()
    for path, part in zip(paths, parts, strict=True):
        part.replace(path)
    return paths
