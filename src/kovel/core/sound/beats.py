"""Beats and downbeats of a music recording, and how the editor puts them right.

music   █▂▁▂▅▂▁▂█▂▁▂▅▂▁▂
beats   |   |   |   |        found from how regularly new sound begins; where the low end has new sound, not between
bars    |       |            every `bar` beats, from where the low drum is strongest and the harmony changes
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from scipy.ndimage import uniform_filter1d

from kovel.core.sound.hits import HOP, RATE, Floats, above_rest, novelty

FPS = RATE / HOP
SLOWEST, FASTEST = 48.0, 200.0  # beats a minute
LOW = (40.0, 400.0)  # Hz: low drums and the body of the others; what rings above them alone tells no beat
WINDOW = 1024  # samples in which the low end is looked at
NOTES = 4096  # and those for its notes


@dataclass(frozen=True, slots=True)
class Beats:
    """48 kHz samples of the beats; the first downbeat is `beats[first]`, then every `bar`-th one."""

    beats: tuple[int, ...]
    tempo: float  # beats a minute
    first: int = 0
    bar: int = 4

    @property
    def downbeats(self) -> tuple[int, ...]:
        """The first beat of each bar, in samples."""
        return self.beats[self.first :: self.bar]


def find_beats(x: Floats, new: Floats | None = None) -> Beats:
    """Beats of 24 kHz mono music: tempo by autocorrelation, then the best evenly spaced path through what is new
    (dynamic programming after Ellis 2007). None for sound without a pulse, or shorter than four seconds.
    `new` is `novelty(x)`, for those who have it already."""
    if len(x) < 4 * RATE:
        return Beats((), 0.0)
    news = novelty(x) if new is None else new
    if news.max() < 0.5:
        return Beats((), 0.0)
    news, low = _evened(news), low_novelty(x)
    period = _period(news, low)
    if period is None:
        return Beats((), 0.0)
    path = _on_the_beat(_along(news, period), low, period)
    tempo = 60 * FPS / float(np.median(np.diff(path))) if len(path) > 1 else 0.0
    exact = 60 * FPS / period
    samples = tuple(int(beat_index * HOP * 2) for beat_index in path)
    return Beats(samples, round(exact if abs(exact - tempo) < 2 else tempo, 2), _first(x, news, low, path))


def _period(news: Floats, low: Floats) -> float | None:
    """Frames from beat to beat, from how alike what is new is to itself some frames later; None without a pulse."""
    own_evenness = _again(news)
    again = own_evenness + _again(_evened(low)) if low.max() > 0.3 else own_evenness
    lag = np.arange(len(again))
    half = lag[: len(again) // 2]
    score = again.copy()
    score[half] += 0.5 * again[half * 2]
    bpm = 60 * FPS / np.maximum(lag, 1)
    score *= np.exp(-0.5 * (np.log2(bpm / 115) / 0.9) ** 2)
    least, high = int(60 * FPS / FASTEST), min(len(score) - 2, int(60 * FPS / SLOWEST))
    frame = least + int(score[least:high].argmax())

    def near(q: int) -> int:
        return max(range(max(1, q - 2), min(len(again) - 1, q + 3)), key=lambda i: float(own_evenness[i]))

    # what comes nearly as regularly twice as often is the beat; softer sounds between beats stay well under that
    while 60 * FPS / (frame / 2) <= 190 and own_evenness[near(frame // 2)] > 0.72 * own_evenness[frame]:
        frame = near(frame // 2)
    # half of the beats only whisper: they are between
    while 2 * frame < high and own_evenness[frame] < 0.6 * own_evenness[near(2 * frame)]:
        frame = near(2 * frame)
    if own_evenness[frame] < 0.06:
        return None
    a, b, c = again[frame - 1], again[frame], again[frame + 1]  # the top of a parabola through three points
    return float(frame + (0.5 * (a - c) / (a - 2 * b + c) if a - 2 * b + c < 0 else 0.0))


def _on_the_beat(path: list[int], low: Floats, period: float) -> list[int]:
    """The beats themselves, where a path went through what sounds between them, or through both."""
    on, between = _strength(low, path), _strength(low, [(start + end) // 2 for start, end in pairwise(path)])
    if between.mean() > 1.5 * on.mean() and between.mean() > 0.3:  # the loudest is what sounds between the beats
        return _along(_evened(low), period)
    if 2 * period <= 60 * FPS / SLOWEST:
        for first in (0, 1):  # every second one is without a low end: it is between
            if on[first::2].mean() > 3 * on[1 - first :: 2].mean() + 0.1:
                return path[first::2]
    return path


def beat_strength(x: Floats) -> float:
    """How much 24 kHz mono sound repeats after one beat, or after two: 0 (none is found, or hardly anything begins
    on it) to 1."""
    new = novelty(x) if len(x) else x
    found_beats = find_beats(x, new)
    hops = [sample // (2 * HOP) for sample in found_beats.beats]
    if not hops or np.mean([new[max(0, hop - 4) : hop + 5].max() > 0.5 for hop in hops]) < 0.5:
        return 0.0
    again = _again(_evened(new))
    lags = [round(multiple * 60 * FPS / found_beats.tempo) for multiple in (1, 2)]
    return max((float(again[max(0, lag - 1) : lag + 2].max()) for lag in lags if lag < len(again)), default=0.0)


def _again(d: Floats) -> Floats:
    """How alike `d` is to itself so many hops later, up to four seconds; 1 at 0."""
    count = len(d)
    again = np.fft.irfft(np.abs(np.fft.rfft(d - d.mean(), 2 * count)) ** 2)[: min(count, int(4 * FPS))]
    evened_again: Floats = again / (again[0] + 1e-9)
    return evened_again


def low_novelty(x: Floats) -> Floats:
    """How much of new sound each 5 ms brings between 40 and 400 Hz, over what sounds there all the time; (hops,)."""
    bins = np.arange(round(LOW[0] * WINDOW / RATE), round(LOW[1] * WINDOW / RATE) + 1)
    turn = np.exp(-2j * np.pi * np.outer(np.arange(WINDOW), bins) / WINDOW) * np.hanning(WINDOW)[:, None]
    basis = np.concatenate([turn.real, turn.imag], 1).astype(np.float32)
    n = len(x) // HOP + 1
    frames = np.lib.stride_tricks.sliding_window_view(np.pad(x, (WINDOW // 2, WINDOW // 2 + HOP)), WINDOW)[::HOP][:n]
    power = np.concatenate([(frames[a : a + 4096] @ basis) ** 2 for a in range(0, n, 4096)])
    power = power[:, : len(bins)] + power[:, len(bins) :]
    by_band: Floats = (np.add.reduceat(power, [0, 4, 8, 12], axis=1) / 4).astype(np.float32)
    level = above_rest(by_band, 1e-7 * WINDOW)
    low_rises = np.zeros(len(level), np.float32)
    low_rises[4:] = np.maximum(0, level[4:] - level[:-4]).sum(1) / 2
    return low_rises


def _evened(d: Floats) -> Floats:
    """What is new over the second around it, in units of its spread."""
    d = np.maximum(0, d - uniform_filter1d(d, int(FPS)))
    evened_out: Floats = np.minimum(d / (d.std() + 1e-9), 6.0)
    return evened_out


def _strength(of: Floats, path: Sequence[int]) -> Floats:
    """The most of `of` within 30 ms of each place of a path."""
    return np.array([of[max(0, beat_index - 6) : beat_index + 7].max() for beat_index in path] or [0.0], np.float32)


def _first(x: Floats, d: Floats, low: Floats, path: Sequence[int]) -> int:
    """Which of the first four beats begins a bar of four: where the low drum is strongest, the harmony changes, or
    all is loudest."""
    if len(path) < 8:
        return 0
    weighed_sums = np.zeros(4)
    for weight, strength_row in ((1.0, _strength(low, path)), (0.5, _strength(d, path)), (1.5, _changes(x, path))):
        by = np.array([strength_row[beat_of_bar::4].mean() for beat_of_bar in range(4)])
        spread = (
            strength_row.std() / np.sqrt(len(strength_row) / 4) + 1e-9
        )  # of such a mean, if the row had no bars in it
        weighed_sums += weight * np.clip((by - np.median(by)) / spread, 0, 8)
    return int(weighed_sums.argmax())


def _changes(x: Floats, path: Sequence[int]) -> Floats:
    """How much the notes of the two beats from each beat on differ from those of the two before it: one less the
    cosine of their strengths by pitch class (chroma, Fujishima 1999)."""
    pitch = 12 * np.log2(np.maximum(np.fft.rfftfreq(NOTES, 1 / RATE), 1e-9) / 440)
    used = np.flatnonzero((pitch > -36) & (pitch < 24))
    of_class = (np.round(pitch[used]).astype(int) % 12)[None] == np.arange(12)[:, None]
    step = int(np.median(np.diff(path))) * HOP
    window = np.hanning(NOTES)
    change_rows = []
    for beat_index in (*path, path[-1] + step // HOP):
        mean_chroma = np.zeros(12)
        for part in (0.3, 0.6):  # a little after the stroke, so that the notes count and not the drum
            a = beat_index * HOP + int(step * part) - NOTES // 4
            y = x[max(0, a) : max(0, a) + NOTES]
            power = np.abs(np.fft.rfft(np.pad(y, (0, NOTES - len(y))) * window)[used]) ** 2
            mean_chroma += of_class @ np.sqrt(power)
        change_rows.append(mean_chroma / (np.linalg.norm(mean_chroma) + 1e-9))
    chroma_rows = np.array(change_rows)
    change_curve = np.zeros(len(path))
    for beat_index in range(2, len(path)):
        before, after = (
            chroma_rows[beat_index - 2] + chroma_rows[beat_index - 1],
            chroma_rows[beat_index] + chroma_rows[beat_index + 1],
        )
        change_curve[beat_index] = 1 - before @ after / (np.linalg.norm(before) * np.linalg.norm(after) + 1e-9)
    return change_curve.astype(np.float32)


def _along(d: Floats, period: float) -> list[int]:
    """The path of beats about `period` hops apart that gathers the most of `d`."""
    count = len(d)
    reach = np.arange(-int(period), int(period) + 1)
    local = np.convolve(d, np.exp(-0.5 * (reach * 32 / period) ** 2), "same")
    back = np.arange(int(-2 * period), int(-period / 2) + 1)
    cost = -100 * np.log(-back / period) ** 2
    best = local.copy()
    came = np.full(count, -1)
    for beat_index in range(int(2 * period), count):
        v = best[beat_index + back] + cost
        best_index = int(v.argmax())
        best[beat_index], came[beat_index] = local[beat_index] + v[best_index], beat_index + back[best_index]
    beat_index = count - int(period) + int(best[count - int(period) :].argmax())
    path = []
    while beat_index >= 0:
        path.append(beat_index)
        beat_index = int(came[beat_index])
    path.reverse()
    early = path[0] - period
    while early >= 0:  # the path begins two periods in; go back to the start
        path.insert(0, round(early))
        early -= period
    strong = np.array([local[max(0, beat_index - 2) : beat_index + 3].max() for beat_index in path])
    keep = np.flatnonzero(strong > 0.15 * np.median(strong))
    return path[int(keep[0]) : int(keep[-1]) + 1] if len(keep) else path


def doubled(beats: Beats) -> Beats:
    """A beat between every two."""
    doubled_beats = [
        beat_there
        for beat, next_beat in zip(beats.beats[:-1], beats.beats[1:], strict=True)
        for beat_there in (beat, (beat + next_beat) // 2)
    ]
    return replace(beats, beats=(*doubled_beats, *beats.beats[-1:]), tempo=beats.tempo * 2, first=beats.first * 2)


def halved(beats: Beats) -> Beats:
    """Every second beat, those that carry the downbeat."""
    start = beats.first % 2
    return replace(beats, beats=beats.beats[start::2], tempo=beats.tempo / 2, first=beats.first // 2)


def moved(beats: Beats, samples: int) -> Beats:
    """All of them later (or, below 0, earlier)."""
    return replace(beats, beats=tuple(beat + samples for beat in beats.beats if beat + samples >= 0))


def tapped(beats: Beats, taps: Sequence[int]) -> Beats:
    """Beats as tapped while it played: the grid takes the taps' tempo and place where they were tapped, and goes on
    evenly from there to both ends. Fewer than three taps set only the place."""
    ordered = np.sort(np.asarray(taps, np.float64))
    if not len(ordered):
        return beats
    if len(ordered) < 3:
        if not beats.beats:
            return beats
        near = min(beats.beats, key=lambda x: abs(x - ordered[0]))
        return moved(beats, int(ordered[0] - near))
    steps = np.diff(ordered)
    usual = float(np.median(steps))
    number = np.concatenate([[0], np.cumsum(np.maximum(1, np.round(steps / usual)))])
    period, start = np.polyfit(number, ordered, 1)
    end = max(beats.beats[-1] if beats.beats else 0, int(ordered[-1]))
    low = -int(start // period)
    tapped_beats = [round(start + period * beat_number) for beat_number in range(low, int((end - start) / period) + 2)]
    tapped_beats = [tapped_beat for tapped_beat in tapped_beats if 0 <= tapped_beat <= end + period / 2]
    return Beats(tuple(tapped_beats), round(60 * 48_000 / period, 2), 0, beats.bar)
