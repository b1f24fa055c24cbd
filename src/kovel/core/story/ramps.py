"""A ramp: how fast a shot runs, as a line over the shot itself, so that each moment keeps its speed through any trim.

speed %    400           ____
                        /                 straight in story time from one moment to the next (uniform acceleration),
           100  _______/                  as at its ends beyond them; or in steps: each speed until the next moment
moment          0      50    90

All of it is exact: moments and times are rational; where a square root has to be taken it is, to 2^-64 of a frame.
"""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property, lru_cache
from itertools import pairwise
from math import floor, isqrt

Line = tuple[tuple[int, float], ...]
FINE = 64  # bits behind the point of a root that is no fraction


def root(x: Fraction) -> Fraction:
    """The square root: exact where it is a fraction, else to 2^-FINE below."""
    n, d = x.numerator, x.denominator
    start, end = isqrt(n), isqrt(d)
    if start * start == n and end * end == d:
        return Fraction(start, end)
    return Fraction(isqrt(n * d << 2 * FINE), d << FINE)


@dataclass(frozen=True)
class Ramp:
    """`line`: moments of the shot (story frames on its clock) with percent; `soft`: straight between them, else in
    steps."""

    line: Line
    soft: bool = True

    @cached_property
    def moments(self) -> tuple[int, ...]:
        """The moments of the shot at which a speed is set."""
        return tuple(moment for moment, _ in self.line)

    @cached_property
    def speeds(self) -> tuple[Fraction, ...]:
        """The speeds there, as factors."""
        return tuple(Fraction(round(value * 1000), 100_000) for _, value in self.line)

    @cached_property
    def times(self) -> tuple[Fraction, ...]:
        """Story frames from the first moment to each."""
        times_there = [Fraction(0)]
        moments_and_speeds = zip(pairwise(self.moments), pairwise(self.speeds), strict=True)
        for (start, end), (v, w) in moments_and_speeds:
            times_there.append(times_there[-1] + (2 * (end - start) / (v + w) if self.soft else (end - start) / v))
        return tuple(times_there)

    def time(self, moment: int | Fraction) -> Fraction:
        """Story frames from the line's first moment until this one is seen; before it, less than 0."""
        point_index = bisect_right(self.moments, moment) - 1
        if point_index < 0:
            return (moment - self.moments[0]) / self.speeds[0]
        gone, v = Fraction(moment - self.moments[point_index]), self.speeds[point_index]
        if not self.soft or point_index + 1 == len(self.moments) or v == self.speeds[point_index + 1]:
            return self.times[point_index] + gone / v
        return self.times[point_index] + 2 * gone / (v + self.speed(moment))

    def speed(self, moment: int | Fraction) -> Fraction:
        """How fast it runs there: frames of the shot a story frame. Where it bends, the square of it is straight
        over the shot."""
        point_index = max(0, bisect_right(self.moments, moment) - 1)
        v = self.speeds[point_index]
        if not self.soft or point_index + 1 == len(self.moments) or moment <= self.moments[point_index]:
            return v
        w, whole = self.speeds[point_index + 1], self.moments[point_index + 1] - self.moments[point_index]
        return root(v * v + (w * w - v * v) * Fraction(moment - self.moments[point_index]) / whole)

    def moment(self, time: int | Fraction) -> Fraction:
        """The moment of the shot that is seen so many story frames after the line's first one."""
        point_index = bisect_right(self.times, time) - 1
        if point_index < 0:
            return self.moments[0] + time * self.speeds[0]
        gone, v = time - self.times[point_index], self.speeds[point_index]
        if not self.soft or point_index + 1 == len(self.times):
            return self.moments[point_index] + gone * v
        bent = (self.speeds[point_index + 1] - v) / (2 * (self.times[point_index + 1] - self.times[point_index]))
        return self.moments[point_index] + gone * v + gone * gone * bent

    def later(self, start: int, frames: int | Fraction) -> Fraction:
        """The moment seen `frames` story frames after moment `start` is."""
        return seen(self, self.time(start) + Fraction(frames))

    def between(self, start: int, end: int) -> Fraction:
        """Story frames from one moment to another."""
        return self.time(end) - self.time(start)

    def used(self, start: int, length: int) -> int:
        """Frames of the shot that `length` story frames from moment `start` on use up: the last one shown is among
        them."""
        return max(1, floor(self.later(start, length - 1)) + 1 - start)


@lru_cache(8192)
def seen(ramp: Ramp, time: Fraction) -> Fraction:
    """`Ramp.moment`, worked out once: every plan of a story asks for the same."""
    return ramp.moment(time)


@lru_cache(256)
def ramp_of(line: Line, soft: bool) -> Ramp:
    """The ramp of a line, worked out once."""
    return Ramp(line, soft)


def landing(ramp: Ramp, start: int, moment: int, frames: int) -> Ramp:
    """The same course faster or slower, so that `moment` of the shot is first seen `frames` story frames after `start`
    is.

    ramp     [.....x......)          frames = 8:     [........x..)
    """
    factor = ramp.between(start, moment) / frames
    scaled = ramp
    for nudge in range(
        200
    ):  # speeds are kept to a thousandth of a percent: the nearest that shows exactly that frame there
        tried = factor * (1 + Fraction(nudge, 100_000))
        scaled = Ramp(tuple((moment, round(value * float(tried), 3)) for moment, value in ramp.line), ramp.soft)
        if floor(scaled.later(start, frames)) >= moment:
            break
    return scaled
