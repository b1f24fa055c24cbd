"""Hits: sudden sounds in a long take (a thud, a clank), to the millisecond; and the quick cut made of them.

sound   ∙∙∙∙█▅▂∙∙∙∙∙∙∙█▆▃▂∙∙∙∙█▂∙∙
hits        ^         ^       ^
pieces     [──]      [───]   [──]      a frame or two before each, a few frames long
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.ndimage import maximum_filter1d, median_filter, percentile_filter, uniform_filter1d

RATE = 24_000
HOP = 120  # 5 ms
WINDOWS = (256, 1024)  # samples: short ones for clicks, long ones for thuds
GAP = 0.05  # seconds two hits are apart at least

Floats = npt.NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Hit:
    """A sudden sound at a 48 kHz sample; strength 0 to 1; `needs`: the sensitivity from which on it is found."""

    sample: int
    strength: float
    needs: float = 0.0


def _bands(x: Floats, size: int, count: int) -> Floats:
    """(hops, bands) power of windows of `size`, centred on each hop."""
    pad = np.pad(x, (size // 2, size // 2 + HOP))
    n = len(x) // HOP + 1
    edges = np.unique(np.searchsorted(np.fft.rfftfreq(size, 1 / RATE), np.geomspace(60, 11_000, count + 1)))
    frames = np.lib.stride_tricks.sliding_window_view(pad, size)[::HOP][:n]
    window = np.hanning(size).astype(np.float32)
    band_levels = []
    for a in range(0, n, 4096):  # by the 20 s, so that an hour fits into memory
        spectrum = np.fft.rfft(frames[a : a + 4096] * window, axis=1)
        power = (spectrum.real**2 + spectrum.imag**2).astype(np.float32)
        band_levels.append(np.add.reduceat(power, edges[:-1], axis=1)[:, : len(edges) - 1] / np.diff(edges))
    return np.concatenate(band_levels)


def novelty(x: Floats) -> Floats:
    """How much of new sound each 5 ms brings, over what the room makes all the time; (hops,).

    In each band the power is put on a logarithmic scale that begins at the band's own background, so that what a
    steady noise does by itself counts for little (band-wise spectral flux after Böck and Widmer 2013, on levels
    relative to the background).
    """
    total = np.zeros(len(x) // HOP + 1, np.float32)
    for size, count, lag in ((WINDOWS[0], 14, 2), (WINDOWS[1], 30, 4)):
        power = _bands(x, size, count)
        level = above_rest(power, 1e-7 * size)
        before = maximum_filter1d(level, 3, axis=1)
        rise = np.maximum(0, level[lag:] - before[:-lag])
        flux = np.concatenate([np.zeros(lag, np.float32), rise.sum(1) / np.sqrt(count)])
        total += flux
    return total


def above_rest(power: Floats, least: float) -> Floats:
    """(hops, bands) power on a logarithmic scale that begins at each band's own background, of the 20 s around."""
    step = 200  # a second
    coarse = np.stack([np.median(power[a : a + step], 0) for a in range(0, len(power), step)])
    around = percentile_filter(coarse, 40, size=(min(21, len(coarse)), 1))
    floor = np.maximum(np.repeat(around, step, 0)[: len(power)], least)
    above_floor: Floats = np.log1p(power / (4 * floor))
    return above_floor


def candidates(x: Floats, new: Floats | None = None) -> list[Hit]:
    """Everything in 24 kHz mono sound that might be a hit, in order, each with the sensitivity it needs.

    `new` is `novelty(x)`, for those who have it already.
    """
    if len(x) < WINDOWS[1]:
        return []
    d = novelty(x) if new is None else new
    rest = median_filter(d, 201)
    over = d - rest
    score = over / (median_filter(np.abs(over), 401) * 1.4826 + 0.02)
    needs = np.maximum((10.4 - score) / 7, 1 - over / 2.5)
    peak = (maximum_filter1d(d, 13) == d) & (needs < 1)
    return [
        Hit(
            _onset(x, peak_index * HOP) * 2,
            round(float(1 - np.exp(-over[peak_index] / 3)), 3),
            round(max(0.0, float(needs[peak_index])), 3),
        )
        for peak_index in np.flatnonzero(peak).tolist()
    ]


def at_sensitivity(all_hits: Sequence[Hit], sensitivity: float = 0.5) -> list[Hit]:
    """Those plain enough for a sensitivity of 0 (only the plainest) to 1 (all that might be one), GAP apart at
    least."""
    hits: list[Hit] = []
    for hit in all_hits:
        if hit.needs >= sensitivity:
            continue
        if hits and hit.sample - hits[-1].sample < GAP * 48_000:
            if hit.strength > hits[-1].strength:
                hits[-1] = hit
            continue
        hits.append(hit)
    return hits


def find_hits(x: Floats, sensitivity: float = 0.5) -> list[Hit]:
    """Every hit in 24 kHz mono sound, in order."""
    return at_sensitivity(candidates(x), sensitivity)


def _onset(x: Floats, near: int) -> int:
    """Where around `near` the short-term energy jumps most: to a millisecond or two."""
    start, end = max(0, near - 720), min(len(x), near + 480)
    envelope = np.convolve(x[start:end] ** 2, np.ones(48, np.float32) / 48, "same") + 1e-9
    if len(envelope) < 200:
        return near
    jump = np.log(envelope[96:]) - np.log(envelope[:-96])
    loud = np.log(envelope[96:] / envelope.max() + 1e-3)
    return start + 48 + int((jump + 0.15 * loud).argmax())


@dataclass(frozen=True, slots=True)
class Quick:
    """How hits become pieces. Frames."""

    before: int = 1  # frames a piece starts before its hit
    length: int = 5  # at least, 1 to 25
    ring: bool = True  # longer where the sound would be cut off
    most: int = 25
    intro: int = 0  # frames from the first hit on kept whole
    target: int | None = None  # thin out to this many frames in all


@dataclass(frozen=True, slots=True)
class Cut:
    """A piece of the quick cut: [start, end) of the recording, and the hit it stands for (None for the intro)."""

    start: int
    end: int
    hit: int | None

    @property
    def length(self) -> int:
        """Length in frames."""
        return self.end - self.start


def quick_cut(hits: Sequence[int], rings: Sequence[int], total: int, how: Quick) -> list[Cut]:
    """Pieces for hits (frames, in order). `rings`: frames each hit's sound lasts; `total`: frames of the recording.

    A target length thins them from the middle, evenly: the first and the last stay, so that the start and the end of
    the action are seen (common practice).
    """
    cuts: list[Cut] = []
    begin = 0
    if how.intro and hits:
        a = max(0, hits[0] - how.before)
        cuts.append(Cut(a, min(total, a + how.intro), None))
        begin = cuts[0].end
    for index, hit in enumerate(hits):
        a = max(0, hit - how.before)
        if a < begin:
            continue
        n = how.length if not how.ring else max(how.length, min(rings[index] + how.before, how.most))
        limit = hits[index + 1] - how.before if index + 1 < len(hits) else total
        end = min(total, a + n, max(limit, a + 1))
        if end > a:
            cuts.append(Cut(a, end, index))
    return thinned(cuts, how.target) if how.target else cuts


def thinned(cuts: Sequence[Cut], target: int) -> list[Cut]:
    """As many of the pieces as fit into `target` frames, spread evenly; first and last always among them."""
    kept_cuts = list(cuts)
    if sum(kept_cut.end - kept_cut.start for kept_cut in kept_cuts) <= target or len(kept_cuts) <= 2:
        return kept_cuts
    low, high = 2, len(kept_cuts)
    best = [kept_cuts[0], kept_cuts[-1]]
    while low <= high:
        n = (low + high) // 2
        pick = [kept_cuts[round(cut_index * (len(kept_cuts) - 1) / (n - 1))] for cut_index in range(n)]
        if sum(kept_cut.end - kept_cut.start for kept_cut in pick) <= target:
            best, low = pick, n + 1
        else:
            high = n - 1
    return best


def ring_out(x: Floats, hits: Sequence[Hit], most: float = 2.0) -> list[float]:
    """For each hit, the seconds until its sound has fallen to a tenth of its power over the background, at most
    `most`."""
    ring_ends = []
    envelope = uniform_filter1d(x.astype(np.float32) ** 2, 480)
    for hit in hits:
        at = hit.sample // 2
        rest_of_ring = envelope[at : at + int(most * RATE)]
        if not len(rest_of_ring):
            ring_ends.append(0.0)
            continue
        floor = float(np.percentile(envelope[max(0, at - RATE) : at + 1], 20))
        top = int(rest_of_ring[: RATE // 10].argmax())
        gone = np.flatnonzero(rest_of_ring[top:] < floor + (float(rest_of_ring[top]) - floor) * 0.1)
        ring_ends.append((top + (int(gone[0]) if len(gone) else len(rest_of_ring) - top)) / RATE)
    return ring_ends


def on_beats(cuts: Sequence[Cut], hits: Sequence[int], beats: Sequence[int]) -> list[Cut]:
    """Pieces trimmed so that every hit lands on a beat: the piece before each gets shorter or longer at its end.

    `beats`: story frames counted from where the quick cut begins. A piece may shrink until only its hit is seen, and
    grow up to where the next one begins (two frames more at most); a hit that can meet no beat is left out.

    beats   |    |    |    |          pieces  [a!──][b!───][c!─]    ! the hit, a frame or two in
    """
    cuts_on_beats: list[Cut] = []
    t = 0
    for index, given_cut in enumerate(cuts):
        lead = hits[given_cut.hit] - given_cut.start if given_cut.hit is not None else 0
        if index and cuts_on_beats and given_cut.hit is not None:
            this_cut = cuts_on_beats[-1]
            shown = (
                (hits[this_cut.hit] - this_cut.start + 1) if this_cut.hit is not None else 1
            )  # its own hit must be seen
            low, high = t - (this_cut.end - this_cut.start) + shown, t + max(2, given_cut.start - this_cut.end)
            near_beats = [beat - lead for beat in beats if low <= beat - lead <= high]
            if near_beats:
                end = min(near_beats, key=lambda x: abs(x - t))
                cuts_on_beats[-1] = Cut(this_cut.start, this_cut.end + end - t, this_cut.hit)
                t = end
            elif index + 1 < len(cuts):
                continue  # no beat can be met here: this hit is left out
        cuts_on_beats.append(given_cut)
        t += given_cut.end - given_cut.start
    return cuts_on_beats
