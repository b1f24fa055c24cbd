"""The clock of a retimed piece or cover: its recording's, faster, slower, backwards or held.

recording        10 11 12 13 14 15           at 200 % from 10 on, the piece's own clock reads
own clock        10    11    12              its start, length and everything tied to it count on that one

So a retimed piece is cut, trimmed, slipped and rolled like any other, in whole frames of the story; only what reads the
recording (picture, sound, words) asks which of its moments that is.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction
from functools import lru_cache
from math import ceil, floor
from typing import Any

from kovel.core.story.ramps import Ramp, ramp_of, seen
from kovel.core.time.rate import SAMPLE_RATE, Rate
from kovel.core.words.transcript import Word

FAR = 1 << 40  # frames: as much as is asked for
Time = int | Fraction


@dataclass(frozen=True)
class Clock:
    """How moments of a recording are passed: at `speed` from `anchor` on, or along `ramp`; mirrored where it runs
    backwards (the same frames in exact reverse); `held` at one moment. As it was shot it is the recording's own
    clock."""

    speed: Fraction = Fraction(1)
    anchor: int = 0
    ramp: Ramp | None = None
    backwards: bool = False
    held: int | None = None

    @property
    def as_shot(self) -> bool:
        """Whether it runs as it was shot: forwards at 100 %."""
        return self is AS_SHOT or self == AS_SHOT

    def _forward(self, time: Time) -> Time:
        if self.ramp:
            return seen(self.ramp, Fraction(time - self.anchor))
        return self.anchor + (time - self.anchor) * self.speed

    def moment(self, time: Time) -> Time:
        """The moment of the recording that is seen at frame x of the clock; its frame is the whole part."""
        if self.held is not None:
            return self.held
        return self._forward(2 * self.anchor - 1 - time if self.backwards else time)

    def passing(self, time: Time) -> Time:
        """The same for time that runs on within a frame: where its sound is at x."""
        if self.held is not None:
            return self.held
        return self._forward(2 * self.anchor - time if self.backwards else time)

    def at(self, moment: Time) -> Time:
        """When a moment of the recording is seen, on this clock."""
        if self.held is not None:
            return self.anchor
        if self.ramp:
            time: Time = self.anchor + self.ramp.time(moment)
        else:
            time = self.anchor + Fraction(moment - self.anchor) / self.speed
        return 2 * self.anchor - 1 - time if self.backwards else time

    def when(self, moment: Time) -> Time:
        """When time passes a moment of the recording: the other way round of `passing`."""
        return self.at(moment) + (1 if self.backwards else 0)

    def reach(self, total: int) -> tuple[int, int]:
        """[first, end) of the clock that a recording of so many frames fills."""
        if self.held is not None:
            return -FAR, FAR
        if self.as_shot:
            return 0, total
        once = replace(self, backwards=False)
        lowest, highest = ceil(once.at(0)), ceil(once.at(total))
        return (2 * self.anchor - highest, 2 * self.anchor - lowest) if self.backwards else (lowest, highest)

    def used(self, start: int, length: int) -> tuple[int, int]:
        """[first, end) of the recording that is seen in `length` frames from `start` on."""
        if self.as_shot:
            return start, start + length
        begin, end = sorted(floor(self.moment(played_frame)) for played_frame in (start, start + length - 1))
        return begin, end + 1

    def words(self, said_words: list[Word], frame_rate: Rate) -> list[Word]:
        """Words of the recording in samples of this clock. Backwards and held, nothing can be understood."""
        if self.as_shot:
            return said_words
        if self.backwards or self.held is not None:
            return []
        frame = SAMPLE_RATE / frame_rate.fps
        return [
            replace(
                word, start=round(self.at(word.start / frame) * frame), end=round(self.at(word.end / frame) * frame)
            )
            for word in said_words
        ]


AS_SHOT = Clock()


@lru_cache(4096)
def clock_of(speed: tuple[tuple[int, float], ...], steps: bool, backwards: bool, held: int) -> Clock:
    """The clock of these settings: a line of one moment is a speed, and every line is anchored at its first moment."""
    if held >= 0:
        return Clock(held=held)
    if not speed:
        return AS_SHOT if not backwards else Clock(backwards=True)
    if len(speed) == 1:
        return Clock(ramp_of(speed, True).speeds[0], speed[0][0], None, backwards)
    return Clock(Fraction(1), speed[0][0], ramp_of(speed, not steps), backwards)


def clock_in(settings: Any) -> Clock:
    """The clock that a piece's settings say."""
    return clock_of(settings["speed"], settings["steps"], settings["backwards"], settings["held"])
