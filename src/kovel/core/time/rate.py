"""Frame rates as exact rationals, and the only conversions between clocks that Kovel uses.

Three clocks meet in an edit: the story's frames, a recording's own frames, and 48 000 Hz samples. All three count from
0; nothing here touches a float. Rounding is stated at each function.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

SAMPLE_RATE = 48_000


@dataclass(frozen=True, slots=True)
class Rate:
    """Frames a second as an exact fraction, `num`/`den`."""

    num: int
    den: int = 1

    @property
    def fps(self) -> Fraction:
        """Frames a second."""
        return Fraction(self.num, self.den)

    @property
    def nominal(self) -> int:
        """The whole number a timecode counts by: 30 for 30000/1001."""
        return -(-self.num // self.den)

    @property
    def ntsc(self) -> bool:
        """Whether it is a rate over 1.001."""
        return self.den == 1001

    def __str__(self) -> str:
        return f"{float(self.fps):.2f}".rstrip("0").rstrip(".") if self.den != 1001 or self.num != 24000 else "23.976"

    @staticmethod
    def parse(text: str) -> Rate:
        """The rate of the table called `text` ("25", "29.97", "30000/1001"); ValueError otherwise."""
        for rate in RATES:
            if text.strip() in (str(rate), f"{rate.num}/{rate.den}", str(rate.num) if rate.den == 1 else ""):
                return rate
        raise ValueError(f"{text} is not a frame rate Kovel works in. Choose one of {', '.join(map(str, RATES))}.")

    @staticmethod
    def nearest(fps: Fraction) -> Rate:
        """The rate of the table closest to a measured one."""
        return min(RATES, key=lambda r: abs(r.fps - fps))

    def frame_to_sample(self, frame: int) -> int:
        """First sample of a frame: the sample nearest to its start, halves up.

        frames   |0         |1         |2
        samples  0.....1602.......3203          at 29.97
        """
        return (2 * frame * SAMPLE_RATE * self.den + self.num) // (2 * self.num)

    def sample_to_frame(self, sample: int) -> int:
        """The frame during which a sample sounds (exact inverse of `frame_to_sample` on first samples)."""
        nearest_frame = sample * self.num // (SAMPLE_RATE * self.den)
        return nearest_frame + 1 if self.frame_to_sample(nearest_frame + 1) <= sample else nearest_frame

    def seconds_to_frame(self, seconds: Fraction) -> int:
        """Nearest frame start to a moment, halves up."""
        return int((seconds * self.fps + Fraction(1, 2)) // 1)

    def frame_to_seconds(self, frame: int) -> Fraction:
        """When a frame begins, exact."""
        return frame / self.fps


RATES: tuple[Rate, ...] = (
    Rate(24000, 1001),
    Rate(24),
    Rate(25),
    Rate(30000, 1001),
    Rate(30),
    Rate(50),
    Rate(60000, 1001),
    Rate(60),
)


def frame_shown(frame: int, clock: Rate, recording: Rate) -> int:
    """The recording's own frame on screen when frame `frame` of another clock begins (the frame under that moment).

    clock 25      |0    |1    |2    |3    |
    recording 50  |0 |1 |2 |3 |4 |5 |6 |        frame_shown(2, 25, 50) == 4
    """
    return frame * clock.den * recording.num // (clock.num * recording.den)


def first_frame_showing(recording_frame: int, clock: Rate, recording: Rate) -> int:
    """The first frame of `clock` that shows `recording_frame` or a later one (ceiling): how an in point changes
    clocks."""
    return -(-recording_frame * clock.num * recording.den // (clock.den * recording.num))


def length_in(frames: int, recording: Rate, clock: Rate) -> int:
    """Whole frames of `clock` that a recording of `frames` frames fills; a last part frame is dropped."""
    return frames * recording.den * clock.num // (recording.num * clock.den)
