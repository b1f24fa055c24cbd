"""Music fitted to a length by whole bars: its beginning and its own ending stay, bars are left out or come again.

music    |intro|A|B|C|D|E|F|end~~       bars, from downbeat to downbeat
shorter  |intro|A|B|E|F|end~~                  a jump from one downbeat to another: where both sides are most alike
longer   |intro|A|B|C|D|C|D|E|F|end~~

How alike the music is: beat by beat, twelve pitch classes and eight bands, compared by the cosine of the angle
between them (beat-synchronous self-similarity, after Foote 1999); of all ways through the bars that have the length,
the one with the fewest and most alike jumps (dynamic programming).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from kovel.core.sound.beats import Beats
from kovel.core.sound.hits import RATE as SOUND_RATE
from kovel.core.sound.hits import Floats

AROUND = 2  # beats to either side of a jump that are compared
JUMP = 0.35  # what a jump costs besides how unlike its sides are
UNLIKE = 4.0
SHORTEST = 2  # bars between two jumps at least


class CannotFit(ValueError):
    """Why music can't be brought to a length, in words."""


@dataclass(frozen=True, slots=True)
class Seam:
    """A jump: what is heard stops at sample `end` of the recording and goes on at `start`, `at` samples into the
    fitted music; `alike` from 0 to 1."""

    at: int
    end: int
    start: int
    alike: float


@dataclass(frozen=True, slots=True)
class Fitted:
    """Ranges of samples that follow each other, their jumps, and how many samples all of it is longer than was asked
    for (negative: shorter): less than half a bar."""

    ranges: tuple[tuple[int, int], ...]
    seams: tuple[Seam, ...]
    over: int

    @property
    def length(self) -> int:
        """Length of all ranges, in samples."""
        return sum(end - start for start, end in self.ranges)


def beat_pictures(x: Floats, beats: Sequence[int]) -> Floats:
    """What each beat sounds like, (beats, 20): of 24 kHz mono sound, beats in 48 kHz samples. Rows have length 1."""
    size = 4096
    frequencies = np.fft.rfftfreq(size, 1 / SOUND_RATE)
    pitch = np.zeros((12, len(frequencies)), np.float32)
    for bin_index in np.flatnonzero((frequencies > 60) & (frequencies < 2_000)):
        pitch[round(12 * np.log2(frequencies[bin_index] / 440)) % 12, bin_index] = 1
    edges = np.searchsorted(frequencies, np.geomspace(50, 11_000, 9))
    window = np.hanning(size).astype(np.float32)
    ends = [beat // 2 for beat in beats]
    ends.append(ends[-1] + (ends[-1] - ends[-2] if len(ends) > 1 else SOUND_RATE // 2))
    beat_rows = []
    for start, end in pairwise(ends):
        beat_samples = x[start:end]
        hops = range(0, max(1, len(beat_samples) - size // 2), size // 2)
        power = np.zeros(len(frequencies), np.float32)
        for hop in hops:
            frame = beat_samples[hop : hop + size]
            power += np.abs(np.fft.rfft(frame * window[: len(frame)], size)).astype(np.float32)
        chroma = pitch @ power
        bands = np.log1p(np.add.reduceat(power, edges[:-1])[: len(edges) - 1] / max(1, len(hops)))
        beat_rows.append(
            np.concatenate([chroma / (np.linalg.norm(chroma) + 1e-9), bands / (np.linalg.norm(bands) + 1e-9)])
        )
    beat_array = np.array(beat_rows, np.float32)
    return np.asarray(beat_array / (np.linalg.norm(beat_array, axis=1, keepdims=True) + 1e-9))


def likeness(pictures: Floats, first: int, bar: int) -> Floats:
    """How alike it is to go on at bar j where bar i would come, (bars + 1, bars + 1), from 0 to 1.

    The beats before and after both places are compared; what lies before the first beat or after the last counts for
    nothing.
    """
    n = (len(pictures) - first) // bar + 1
    same = (pictures @ pictures.T).clip(0, 1)
    total, count = np.zeros((n, n), np.float32), np.zeros((n, n), np.float32)
    at = first + bar * np.arange(n)
    for beat_shift in range(-AROUND, AROUND):
        row_numbers = at + beat_shift
        good = (row_numbers >= 0) & (row_numbers < len(pictures))
        held = row_numbers.clip(0, len(pictures) - 1)
        both = np.outer(good, good)
        total += np.where(both, same[np.ix_(held, held)], 0)
        count += both
    mean = total / np.maximum(count, 1)
    low = float(np.percentile(mean, 5))  # what any two places of this music share tells nothing
    return np.asarray(((mean - low) / max(1e-6, 1 - low)).clip(0, 1))


def fit(beats: Beats, samples: int, wanted: int, alike: Floats, start: int = 0, early: int | None = None) -> Fitted:
    """Music from sample `start` to its end brought to `wanted` samples by whole bars; raises `CannotFit`.

    `alike` is `likeness` of its beats; `early` by how many samples it may be longer than wanted (None: half a bar).
    """
    marks = list(beats.beats[beats.first :: beats.bar])
    if len(marks) < 4:
        raise CannotFit(
            "no steady beat was found in it, so there are no bars to fit it by. Set its beats first (Tighten, Hits)."
        )
    first = next((index for index, mark in enumerate(marks) if mark >= start), len(marks))
    n = len(marks)
    if n - first < 4:
        raise CannotFit("too little of it is left to fit it by bars.")
    lengths = np.diff(marks)
    typical = float(np.median(lengths))
    edges = (marks[first] - start) + (samples - marks[-1])  # before the first bar, after the last
    need = (wanted - edges) / typical
    if need < SHORTEST:
        shortest = (edges + SHORTEST * typical) / 48_000
        raise CannotFit(f"it can't be made shorter than {shortest:.1f} s and keep its beginning and its ending.")
    if need > 8 * n:
        raise CannotFit("it would have to come again more than eight times.")
    counts = sorted(
        {max(SHORTEST, int(np.floor(need)) + bar_shift) for bar_shift in (-1, 0, 1, 2)}, key=lambda c: abs(c - need)
    )
    for count in counts:
        way = _way(alike, first, n - 1, count)[1]
        if way:
            done = _ranges(way, marks, alike, start, samples, wanted)
            if early is None or done.over <= early:
                return done
    raise CannotFit("its bars cannot be put together to that length.")


def _way(alike: Floats, first: int, last: int, count: int) -> tuple[float, list[int]]:
    """The bars to play, `count` of them, from `first` to the one before downbeat `last`: least cost. Empty if there
    is none."""
    n = last + 1
    jump = JUMP + UNLIKE * (1 - alike[:n, :n].astype(np.float64)) ** 2
    jump[np.arange(n), np.arange(n)] = np.inf
    jump[:, last] = np.inf  # behind the last bar there is only the end
    jump[:first] = jump[:, :first] = np.inf
    # after k bars one stands at a downbeat, having played so many bars since the last jump (held at SHORTEST)
    far = np.full((SHORTEST + 1, n), np.inf)
    far[0, first] = 0.0  # the beginning is heard for as long as anything else
    back: list[tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]] = []
    for _ in range(count):
        costs = far[SHORTEST][:, None] + jump
        stand = far.copy()
        stand[0] = np.minimum(costs.min(0), far[0])
        came = np.where(costs.min(0) < far[0], costs.argmin(0), -1)
        new = np.full_like(far, np.inf)
        way_back = np.full((SHORTEST + 1, n), -1)
        for s in range(SHORTEST + 1):
            to = min(SHORTEST, s + 1)
            moved = np.full(n, np.inf)
            moved[1:] = stand[s][:-1]
            moved[: first + 1] = np.inf
            better = moved < new[to]
            new[to] = np.where(better, moved, new[to])
            way_back[to] = np.where(better, s, way_back[to])
        back.append((way_back, came))
        far = new
    cost, at, s = float(far[SHORTEST, last]), last, SHORTEST
    way: list[int] = []
    if not np.isfinite(cost):
        return np.inf, []
    for way_back, came in reversed(back):
        before = int(way_back[s, at])
        at -= 1
        way.append(at)
        s = before
        if before == 0 and came[at] >= 0:
            at, s = int(came[at]), SHORTEST
    return cost, way[::-1]


def _ranges(way: list[int], marks: list[int], alike: Floats, start: int, samples: int, wanted: int) -> Fitted:
    ranges: list[list[int]] = [[start, marks[way[0]]]]
    seams: list[Seam] = []
    done = 0
    for beat_index in way:
        if ranges[-1][1] != marks[beat_index]:
            done = sum(end - start for start, end in ranges)
            index = marks.index(ranges[-1][1])
            seams.append(Seam(done, ranges[-1][1], marks[beat_index], round(float(alike[index, beat_index]), 3)))
            ranges.append([marks[beat_index], marks[beat_index]])
        ranges[-1][1] = marks[beat_index + 1]
    ranges[-1][1] = samples
    range_rows = tuple((start, end) for start, end in ranges)
    return Fitted(range_rows, tuple(seams), sum(end - start for start, end in range_rows) - wanted)
