"""Pauses: the stretches of a recording in which nobody speaks, and how sure that is.

    sound     ▂▇▆▅▇▂ ∙∙∙∙∙∙∙∙∙ ▃▇▇▆▂ ∙∙ ▅▇▃      ∙ the room, a fan, a breath
    speech    ██████           █████    ███
    pauses          [─────────]                  at least `shortest` long; less `after` and `before` as air
    cut            ..[─────]..

A detector decides what is speech; where the signal stands clear of the noise floor, the level around an edge refines
it. A threshold set by hand decides by level alone.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import numpy.typing as npt
from scipy.ndimage import percentile_filter, uniform_filter1d

from kovel.core.sound.levels import LOWEST_FLOOR, QUIETEST, TICK, Floats, Levels, Mask, filled, hysteresis, runs


class Spoken(Protocol):
    """What a word is here: its text, and the samples [start, end) it takes."""

    @property
    def text(self) -> str:
        """What is said."""

    @property
    def start(self) -> int:
        """First sample."""

    @property
    def end(self) -> int:
        """The sample after the last."""


ON, OFF = 0.5, 0.25  # probability at which speech is taken to begin and to go on
MARGIN = 3.0  # dB over the floor that count as sound
FAINT = 2.0  # dB over the floor that count as sound right beside speech, under noise
RESTING = 1.5  # and dB over what the pause beside it sounds like
CLEAN = 36.0  # dB between the loud and the quiet around: a quiet room, where the level alone shows each edge
CLEAR = 28.0  # dB between the loud and the quiet around: from here on the level is trusted to move an edge
REACH = 25  # ticks an edge may be moved
HANG = 8  # ticks speech may grow outwards where the signal is not clear
ISLAND = 0.08


@dataclass(frozen=True, slots=True)
class Settings:
    """How pauses are looked for. Seconds; `threshold` in dBFS, or None to find it."""

    shortest: float = 0.3
    before: float = 0.08  # air left before the speech that follows a pause
    after: float = 0.12  # air left after the speech that a pause follows
    island: float = ISLAND  # speech shorter than this is a click
    threshold: float | None = None


@dataclass(frozen=True, slots=True)
class Pause:
    """Samples [start, end) without speech. `depth`: dB it lies under the speech around; `sure`: 0 to 1."""

    start: int
    end: int
    depth: float
    sure: float

    def cut(self, settings: Settings) -> tuple[int, int] | None:
        """What would be taken out once the air is left; None if nothing would."""
        start, end = self.start + round(settings.after * 48_000), self.end - round(settings.before * 48_000)
        return (start, end) if end - start >= TICK else None


def speech(levels: Levels, settings: Settings | None = None) -> Mask:
    """For each tick, whether somebody speaks; (n,)."""
    this_settings = settings or Settings()
    loud = uniform_filter1d(levels.level, 3) if len(levels) else levels.level
    if this_settings.threshold is not None:
        return _without_islands(
            hysteresis(loud, this_settings.threshold, this_settings.threshold - MARGIN), this_settings.island
        )
    over = loud - np.maximum(levels.floor, LOWEST_FLOOR)
    heard_speech = hysteresis(levels.speech, ON, OFF)
    heard_speech |= hysteresis(np.where(levels.speech < 0, over, 0), 9, 5, 3)  # not listened to yet: by level alone
    heard_speech = _without_islands(heard_speech, this_settings.island)
    clear = levels.spread > CLEAR
    is_speech = _edges_by_level(heard_speech, over > MARGIN) if clear.any() else heard_speech
    if not clear.all():
        grown = heard_speech | (
            _wider(heard_speech, HANG) & (over > FAINT) & (loud > _resting(loud, heard_speech) + RESTING)
        )
        is_speech = np.where(clear, is_speech, grown)
    if (levels.spread > CLEAN).any():
        floor = np.maximum(levels.floor, LOWEST_FLOOR)
        sounding = _filled(levels.level - floor > np.where(floor > LOWEST_FLOOR, MARGIN, MARGIN - 1), HANG + 2)
        is_speech = np.where(levels.spread > CLEAN, _touching(sounding, _wider(heard_speech, 15)), is_speech)
    return is_speech


def pauses(
    levels: Levels, settings: Settings | None = None, words: Sequence[Spoken] = (), *, mask: Mask | None = None
) -> list[Pause]:
    """Every pause of at least `settings.shortest`, in order. No pause takes in a word's middle: it ends before the
    word.

    `mask` is `speech(levels, settings)`, for those who have it already.
    """
    this_settings = settings or Settings()
    if not len(levels):
        return []
    talking = speech(levels, this_settings) if mask is None else mask
    typical = _typical(levels.level, talking)
    total = np.concatenate([[0], np.cumsum(np.maximum(levels.speech, 0.0))])
    level = np.concatenate([[0], np.cumsum(levels.level)])
    found_pauses = []
    starts, ends = runs(~talking)
    for a, b in zip((starts * TICK).tolist(), (ends * TICK).tolist(), strict=True):
        for silent_start, d in _around_words(a, b, words):
            if d - silent_start < round(this_settings.shortest * 48_000) - TICK // 2:
                continue
            first_tick, end_tick = silent_start // TICK, max(silent_start // TICK + 1, d // TICK)
            depth = max(
                0.0,
                float(
                    typical[min(first_tick, len(typical) - 1)]
                    - (level[end_tick] - level[first_tick]) / (end_tick - first_tick)
                ),
            )
            quiet = 1 - float(total[end_tick] - total[first_tick]) / (end_tick - first_tick)
            sure = 0.6 * quiet + 0.4 * min(1.0, depth / 20)
            found_pauses.append(Pause(silent_start, d, round(depth, 1), round(min(1.0, sure), 3)))
    return found_pauses


def _around_words(start: int, end: int, words: Sequence[Spoken]) -> list[tuple[int, int]]:
    """[a, b) without the words whose middle lies in it."""
    if not words:
        return [(start, end)]
    index = bisect_left(words, start, key=lambda w: (w.start + w.end) // 2)
    found_spans, at = [], start
    while index < len(words) and (words[index].start + words[index].end) // 2 < end:
        if words[index].text != VOICE:
            found_spans.append((at, max(at, words[index].start)))
            at = max(at, min(end, words[index].end))
        index += 1
    return [(x, y) for x, y in (*found_spans, (at, end)) if y > x]


VOICE = "[voice]"  # how a voiced sound without a word stands among the words


def noise_floor(levels: Levels) -> float:
    """The usual level where nobody speaks, dBFS (what the quietest tenth stays under, while the detector has not
    listened); QUIETEST for digital silence or nothing at all."""
    if not len(levels):
        return QUIETEST
    quiet = levels.level[levels.speech < OFF] if levels.heard else levels.level
    base = quiet if len(quiet) > 20 else levels.level
    return max(QUIETEST, float(np.percentile(base, 50 if levels.heard and len(quiet) > 20 else 10)))


@dataclass(frozen=True)
class Hills:
    """How often each loudness comes: dBFS bins of 1 dB from `low`, ticks of speech and of background in each."""

    low: int
    speech: npt.NDArray[np.int64]
    background: npt.NDArray[np.int64]
    floor: float
    threshold: float


def hills(levels: Levels, mask: Mask, settings: Settings) -> Hills:
    """The two hills of a recording's loudness, and the threshold between them (the one found, or the one set)."""
    low, high = int(QUIETEST), 0
    edges = np.arange(low, high + 2)
    sp, _ = np.histogram(np.clip(levels.level[mask], low, high), edges)
    bg, _ = np.histogram(np.clip(levels.level[~mask], low, high), edges)
    level_found = float(np.median(np.maximum(levels.floor, LOWEST_FLOOR))) + MARGIN if len(levels) else LOWEST_FLOOR
    return Hills(low, sp, bg, noise_floor(levels), level_found if settings.threshold is None else settings.threshold)


def nearest_pause(found_pauses: Sequence[Pause], sample: int, reach: int) -> int | None:
    """A good place to cut near `sample`: the middle of the closest pause within `reach` samples; None if there is none.

    A long pause is entered by no more than 0.15 s, so that a mark stays near the speech it was set for.
    """
    best: tuple[int, int] | None = None
    for pause in found_pauses:
        inset = min((pause.end - pause.start) // 2, 7_200)
        at = min(max(sample, pause.start + inset), pause.end - inset)
        if abs(at - sample) <= reach and (best is None or abs(at - sample) < best[0]):
            best = (abs(at - sample), at)
    return best[1] if best else None


def _without_islands(mask: Mask, seconds: float) -> Mask:
    run_starts, run_ends = runs(mask)
    keep = run_ends - run_starts >= seconds * 100
    return filled(len(mask), run_starts[keep], run_ends[keep])


def _filled(mask: Mask, ticks: int) -> Mask:
    """Gaps shorter than `ticks` closed: the closure of a plosive is no pause."""
    run_starts, run_ends = runs(~mask)
    short = run_ends - run_starts < ticks
    return mask | filled(len(mask), run_starts[short], run_ends[short])


def _touching(mask: Mask, other: Mask) -> Mask:
    """The stretches of `mask` that share a tick with `other`."""
    run_starts, run_ends = runs(mask)
    count = np.concatenate([[0], np.cumsum(other)])
    keep = count[run_ends] > count[run_starts]
    return filled(len(mask), run_starts[keep], run_ends[keep])


def _wider(mask: Mask, ticks: int) -> Mask:
    run_starts, run_ends = runs(mask)
    return filled(len(mask), np.maximum(0, run_starts - ticks), run_ends + ticks)


def _edges_by_level(heard: Mask, loud: Mask) -> Mask:
    """Each edge of a stretch moved to where the level crosses, at most REACH away."""
    count = len(heard)
    starts, ends = runs(heard)
    before = np.maximum.accumulate(np.where(loud, -1, np.arange(count)))  # last quiet tick at or before
    after = np.minimum.accumulate(np.where(loud, count, np.arange(count))[::-1])[::-1]  # first quiet tick at or after
    next_loud = np.minimum.accumulate(np.where(loud, np.arange(count), count)[::-1])[::-1]
    last_loud = np.maximum.accumulate(np.where(loud, np.arange(count), -1))
    a, b = [], []
    for first_tick, end_tick in zip(starts.tolist(), ends.tolist(), strict=True):
        if loud[first_tick]:
            a.append(max(int(before[first_tick]) + 1, first_tick - REACH, 0))
        else:
            loud_tick = int(next_loud[first_tick])
            a.append(loud_tick if loud_tick < min(end_tick, first_tick + REACH) else first_tick)
        if loud[end_tick - 1]:
            b.append(min(int(after[end_tick - 1]), end_tick + REACH))
        else:
            loud_tick = int(last_loud[end_tick - 1])
            b.append(loud_tick + 1 if loud_tick >= max(first_tick, end_tick - REACH) else end_tick)
    return filled(count, np.array(a, np.int64), np.array(b, np.int64))


def _resting(level: Floats, heard: Mask) -> Floats:
    """The mean level of the pause that each tick lies in, away from the speech beside it; (n,). Where a street swells,
    that is what a faint sound has to stand clear of, and not the quietest of half a minute.

    speech   ████▂               ▂███
    pause       |..[─ mean ─────]..|
    """
    resting_level = np.full(len(level), QUIETEST, np.float32)
    run_starts, run_ends = runs(~heard)
    inner = np.minimum(HANG, (run_ends - run_starts) // 3)
    first_tick, end_tick = run_starts + inner, run_ends - inner
    total = np.concatenate([[0.0], np.cumsum(level, dtype=np.float64)])
    means = (total[end_tick] - total[first_tick]) / np.maximum(end_tick - first_tick, 1)
    resting_level[~heard] = np.repeat(means, run_ends - run_starts)
    return resting_level


def _typical(level: Floats, talking: Mask) -> Floats:
    """The level of the speech around each tick (its 70th percentile over 12 s, by the half second); (n,)."""
    n = len(level)
    pad = -n % 50
    spoken_level = np.where(talking, level, np.nan)
    blocks = np.pad(spoken_level, (0, pad), constant_values=np.nan).reshape(-1, 50)
    count = np.isfinite(blocks).sum(1)
    mean = np.where(count > 0, np.nansum(blocks, 1) / np.maximum(count, 1), QUIETEST)
    wide = percentile_filter(mean, 70, size=25) if len(mean) > 1 else mean
    return np.asarray(np.repeat(wide, 50)[:n], np.float32)
