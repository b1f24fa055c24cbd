"""Sound at another speed: its pitch kept, or following the speed as of a tape.

recording   |a a a|b b b|c c c|          course: where in it each frame of what is made begins
made        |a a a a a a|b b b b b b|    pitch kept: waveforms laid at other distances; else drawn out
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import numpy.typing as npt

Samples = npt.NDArray[np.float32]
Read = Callable[[int, int], Samples]  # samples [a, b) of the recording as (n, channels), silence outside of it

HOP = 720  # samples from one window of what is made to the next, half of its length: 15 ms
SEEK = 480  # by which a window may be moved to fit the one before: 10 ms, a period of 100 Hz
BLOCK = 48_000  # samples given at once
TAPS = 16  # of the interpolating filter, to either side
PHASES = 512  # places between two samples that the filter is worked out at; straight between them
BEFORE_ALIASES = 0.92  # of the band that is kept


def mirrored(read: Read) -> Read:
    """The recording from its end to its beginning: sample -1 is the first one's mirror image."""
    return lambda a, b: np.ascontiguousarray(read(-b, -a)[::-1])


def forwards(read: Read, course: npt.NDArray[np.float64]) -> tuple[Read, npt.NDArray[np.float64]]:
    """A course that runs backwards over a recording, forwards over its mirror image."""
    return (mirrored(read), -course) if course[-1] < course[0] else (read, course)


def retimed(
    read: Read, course: npt.NDArray[np.float64], frames: npt.NDArray[np.int64], pitch: bool
) -> Iterator[Samples]:
    """The samples (n, channels) that are made, a block at a time, frames[-1] of them in all. `course` (in samples of
    the recording) and `frames` (in samples of what is made) say where each frame begins; straight between."""
    read, course = forwards(read, course)
    return _windows(read, course, frames) if pitch else _drawn_out(read, course, frames)


def _drawn_out(read: Read, course: npt.NDArray[np.float64], frames: npt.NDArray[np.int64]) -> Iterator[Samples]:
    """Interpolated by a sinc under a Kaiser window, its band made narrower where it runs faster, so that nothing
    folds back (common practice; Smith and Gossett 1984)."""
    total = int(frames[-1])
    for a in range(0, total, BLOCK // 4):
        n = np.arange(a, min(total, a + BLOCK // 4))
        at = np.interp(n, frames, course)
        speed = max(1.0, float(np.max(np.diff(np.interp(np.append(n, n[-1] + 1), frames, course)))))
        taps = int(np.ceil(TAPS * speed))
        first_sample = int(np.floor(at[0])) - taps
        source_samples = read(first_sample, int(np.floor(at[-1])) + taps + 2)
        whole = np.floor(at).astype(np.int64)
        fine = (at - whole) * PHASES
        whole_index = fine.astype(np.int64)
        part = (fine - whole_index).astype(np.float32)[:, None]
        table = _filters(taps, (BEFORE_ALIASES if speed > 1 else 1.0) / speed)
        w = table[whole_index] * (1 - part) + table[whole_index + 1] * part
        picked = source_samples[
            (whole - first_sample)[:, None] + np.arange(-taps + 1, taps + 1)[None, :]
        ]  # (n, taps, channels)
        yield np.einsum("nt,ntc->nc", w, picked)


def _filters(taps: int, band: float) -> Samples:
    """The interpolating filter at each of PHASES parts of a sample, (PHASES + 1, 2 * taps)."""
    t = (np.arange(PHASES + 1) / PHASES)[:, None] - np.arange(-taps + 1, taps + 1)[None, :]
    window = np.i0(9.0 * np.sqrt(np.maximum(0, 1 - (t / taps) ** 2))) / np.i0(9.0)
    return np.asarray(band * np.sinc(band * t) * window, np.float32)


def _windows(read: Read, course: npt.NDArray[np.float64], frames: npt.NDArray[np.int64]) -> Iterator[Samples]:
    """Windows of the recording laid one over the other at HOP samples, each moved by up to SEEK to where it goes on
    best from the one before (waveform similarity overlap-add: Verhelst and Roelands 1993)."""
    total = int(frames[-1])
    window = (0.5 - 0.5 * np.cos(2 * np.pi * (np.arange(2 * HOP) + 0.5) / (2 * HOP))).astype(np.float32)[:, None]
    rest: Samples | None = None  # the second half of the last window
    held: list[Samples] = []
    length = 0
    samples_left = total  # samples still to be given
    before = 0  # where the last window begins in the recording
    for window_index in range(-(-total // HOP) + 1):  # window k fades in over what is made of [(k - 1) * HOP, k * HOP)
        want = round(float(np.interp(min(window_index * HOP, total), frames, course))) - HOP
        start = want if rest is None else _best(read, before + HOP, want)
        window_samples = read(start, start + 2 * HOP) * window
        if rest is not None:
            held.append(rest + window_samples[:HOP])
            length += HOP
            if length >= BLOCK:
                yield np.concatenate(held)[: max(0, samples_left)]
                samples_left -= length
                held, length = [], 0
        rest, before = window_samples[HOP:], start
    if held and samples_left > 0:
        yield np.concatenate(held)[:samples_left]


def _best(read: Read, on: int, want: int) -> int:
    """Where near `want` the recording goes on most like it does from `on`."""
    if on == want:
        return want
    goes_on = read(on, on + HOP).sum(1)
    near = read(want - SEEK, want + SEEK + HOP).sum(1)
    power = np.concatenate([[0.0], np.cumsum(near.astype(np.float64) ** 2)])
    alike = np.correlate(near, goes_on, "valid") / np.sqrt(power[HOP:] - power[:-HOP] + 1e-6)
    return want - SEEK + int(np.argmax(alike))
