"""Sync sets: where a moment of one recording stands in another one of the same set.

set       0 s        1          2
A         [0─────────1──────────2
B              [0──────────1─────        begins half a second later, on a clock of its own
"""

from __future__ import annotations

from fractions import Fraction

from kovel.core.story.model import Source, Sync
from kovel.core.time.rate import SAMPLE_RATE, Rate


def by_timecode(a: int, b: int, clock: Rate) -> Fraction:
    """Seconds on A's clock at which B begins, from both start timecodes in frames of `clock` (SMPTE ST 12-1)."""
    return Fraction(b - a) / clock.fps


def set_time(sync: Sync, seconds: Fraction) -> Fraction:
    """A moment of a recording, in seconds from its beginning, on the clock of its set."""
    return Fraction(sync.offset, SAMPLE_RATE) + seconds / (1 + Fraction(sync.ppm) / 1_000_000)


def own_time(sync: Sync, moment: Fraction) -> Fraction:
    """A moment of the set's clock in seconds from a recording's beginning."""
    return (moment - Fraction(sync.offset, SAMPLE_RATE)) * (1 + Fraction(sync.ppm) / 1_000_000)


def same_moment(a: Source, b: Source, frame: int, clock: Rate) -> int | None:
    """The frame of recording b at the moment of frame `frame` of a, both in story frames; None if they share no set.

    The nearest frame: pictures of one moment are at most half a frame apart.
    """
    if a.sync is None or b.sync is None or a.sync.set != b.sync.set:
        return None
    t = own_time(b.sync, set_time(a.sync, Fraction(frame) / clock.fps))
    return int((t * clock.fps + Fraction(1, 2)) // 1)
