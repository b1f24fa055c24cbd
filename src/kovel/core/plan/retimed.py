"""The sound of something retimed, as a file that is made beforehand: how it is made is worked out here, and names it.

own clock   |..........|..........|          a file fills whole stretches of STRETCH seconds of a piece's clock, so that
heard            [=========)                 a trim within them goes on reading the same one
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict, dataclass
from fractions import Fraction
from typing import Any

import numpy as np
import numpy.typing as npt

from kovel.core.story.clocks import Clock
from kovel.core.story.ramps import ramp_of
from kovel.core.time.rate import SAMPLE_RATE, Rate

STRETCH = 10  # seconds
RETIMED = "pace-"  # how the names of these files begin
WAY = 1  # how it is made: another number makes every retimed sound anew


@dataclass(frozen=True, slots=True)
class Retimed:
    """Frames [first, first + length) of a clock that runs over a recording at `speed` (a fraction) from `anchor` on,
    or along the ramp `line`, and begins at `start` (a fraction); of the raw sound, or of the cleaned one called
    `of`. `pitch`: whether it is kept, or follows the speed."""

    of: str
    rate: tuple[int, int]
    first: int
    length: int
    start: tuple[int, int]
    speed: tuple[int, int]
    anchor: int
    line: tuple[tuple[int, float], ...]
    soft: bool
    backwards: bool
    pitch: bool

    @property
    def name(self) -> str:
        """The name of the file that holds it: the same for the same sound."""
        as_text = json.dumps([WAY, *asdict(self).values()])
        return RETIMED + hashlib.sha256(as_text.encode()).hexdigest()[:12]

    @property
    def clock(self) -> Clock:
        """The clock that it runs by."""
        ramp = ramp_of(self.line, self.soft) if self.line else None
        return Clock(Fraction(*self.speed), self.anchor, ramp, self.backwards)

    def course(self) -> npt.NDArray[np.float64]:
        """Where in the recording (in samples) each frame of the file begins, and where the last one ends."""
        clock, start = self.clock, Fraction(*self.start)
        frame = SAMPLE_RATE / Rate(*self.rate).fps
        return np.array(
            [float(clock.passing(start + self.first + moment_index) * frame) for moment_index in range(self.length + 1)]
        )

    def frames(self) -> npt.NDArray[np.int64]:
        """The sample of the file at which each frame begins, and its length in samples."""
        to_sample = Rate(*self.rate).frame_to_sample
        return np.array(
            [to_sample(self.first + frame_index) - to_sample(self.first) for frame_index in range(self.length + 1)]
        )

    def to_json(self) -> dict[str, Any]:
        """As the plan carries it."""
        return asdict(self)

    @staticmethod
    def from_json(stored: dict[str, Any]) -> Retimed:
        """What `to_json` wrote."""
        pair = {n: (int(stored[n][0]), int(stored[n][1])) for n in ("rate", "start", "speed")}
        return Retimed(
            **{**stored, **pair, "line": tuple((int(moment), float(value)) for moment, value in stored["line"])}
        )


def retimed(
    clock: Clock, start: int | Fraction, ends: tuple[int, int], frame_rate: Rate, of: str, pitch: bool
) -> Retimed:
    """How the sound of frames [first, end) of a clock that begins at `start` is made, rounded out to whole
    stretches."""
    size = STRETCH * frame_rate.nominal
    first, end = ends[0] // size * size, -(-ends[1] // size) * size
    ramp = clock.ramp
    return Retimed(
        of,
        (frame_rate.num, frame_rate.den),
        first,
        end - first,
        Fraction(start).as_integer_ratio(),
        clock.speed.as_integer_ratio(),
        clock.anchor,
        ramp.line if ramp else (),
        ramp.soft if ramp else True,
        clock.backwards,
        pitch,
    )
