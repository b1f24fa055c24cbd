"""Sync sets: where a moment of one recording stands in another one of the same set.

set       0 s        1          2
A         [0─────────1──────────2
B              [0──────────1─────        begins half a second later, on a clock of its own
"""

from __future__ import annotations

from fractions import Fraction

from kovel.core.story.model import Source, Sync
from kovel.core.time.rate import SAMPLE_RATE, Rate


def by_timecode(start: int, end: int, clock: Rate) -> Fraction:
    """Seconds on A's clock at which B begins, from both start timecodes in frames of `clock` (SMPTE ST 12-1)."""
    return Fraction(end - start) / clock.fps


def set_time(sync: Sync, seconds: Fraction) -> Fraction:
    """A moment of a recording, in seconds from its beginning, on the clock of its set."""
    return Fraction(sync.offset, SAMPLE_RATE) + seconds / (1 + Fraction(sync.ppm) / 1_000_000)


def own_time(sync: Sync, moment: Fraction) -> Fraction:
    """A moment of the set's clock in seconds from a recording's beginning."""
    return (moment - Fraction(sync.offset, SAMPLE_RATE)) * (1 + Fraction(sync.ppm) / 1_000_000)


def same_moment(first_source: Source, second_source: Source, frame: int, clock: Rate) -> int | None:
    """The frame of recording b at the moment of frame `frame` of a, both in story frames; None if they share no set.

    The nearest frame: pictures of one moment are at most half a frame apart.
    """
    if first_source.sync is None or second_source.sync is None or first_source.sync.set != second_source.sync.set:
        return None
    moment = own_time(second_source.sync, set_time(first_source.sync, Fraction(frame) / clock.fps))
    return int((moment * clock.fps + Fraction(1, 2)) // 1)
