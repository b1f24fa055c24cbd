"""What was delivered held against the plan: is every sound there, as loud as its recording is, and every picture the
one that was cut.

expected   ▂▃▃▂▅▅▆▅▅▂▃▃▂     from what was measured of each recording as it was prepared, by the plan's gains and fades
delivered  ▂▃▃▂▁▁▁▁▁▂▃▃▂     from the file itself
               └────┘         "0:12 to 0:17: Maren, camera A is not heard"
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from kovel.core.checks.mix_loudness import mixed
from kovel.core.plan.plan import Plan
from kovel.core.sound.loudness import STEP, Powers, Rows, lufs
from kovel.core.time.rate import SAMPLE_RATE

SMOOTH = 4  # steps of 100 ms that are looked at together: momentary loudness (EBU Tech 3341)
AUDIBLE = -50.0  # LUFS under which a sound is not missed
UNWANTED = -55.0  # LUFS from which on a sound is one too many where the plan has none
APART = 6.0  # LU between what is expected and what is there (sounds that are alike add up to 3 more than unlike ones)
GONE = 20.0  # LU from which on it is not there at all
LASTS = 5  # steps that it has to last
DARK, BRIGHT = 4.0, 20.0  # mean grey, 0 to 255: a picture that is black, and one that is not
OTHER = 24.0  # mean difference of greys from which on it is another picture

Tile = npt.NDArray[np.floating | np.uint8]


@dataclass(frozen=True, slots=True)
class Difference:
    """Where a file differs from its plan, in seconds, and how, in words."""

    start: float
    end: float
    what: str

    def __str__(self) -> str:
        if self.end - self.start < 1:
            return f"{_clock(self.start)}: {self.what}"
        return f"{_clock(self.start)} to {_clock(self.end)}: {self.what}"


def _clock(seconds: float) -> str:
    minutes, rest = divmod(seconds, 60)
    return f"{int(minutes)}:{int(rest):02d}"


def heard_differences(
    plan: Plan, measured: Mapping[tuple[int, str], Rows], delivered: Powers, name: Callable[[int], str]
) -> list[Difference]:
    """Where a file's sound, as weighted powers each 100 ms, is quieter or louder than the plan has it; `measured` by
    recording and made sound, as `core.checks.mix_loudness.mixed` takes it, `name` of a recording."""
    expected = mixed(plan, measured).power
    count = len(expected)
    delivered_sound = np.concatenate([delivered[:count], np.zeros(max(0, count - len(delivered)))])
    want, have = _momentary(expected), _momentary(delivered_sound)
    found_differences = [
        Difference(
            start * STEP / SAMPLE_RATE, end * STEP / SAMPLE_RATE, _lacking(plan, measured, start, end, want, have, name)
        )
        for start, end in _runs((want > AUDIBLE) & (have < want - APART))
    ]
    found_differences += [
        Difference(
            start * STEP / SAMPLE_RATE,
            end * STEP / SAMPLE_RATE,
            f"something is heard that the story does not have ({have[start:end].max():.0f} LUFS)"
            if want[start:end].max() < AUDIBLE
            else "it is louder than the story "
            f"({have[start:end].max():.0f} LUFS instead of {want[start:end].max():.0f})",
        )
        for start, end in _runs(have > np.maximum(want, UNWANTED) + APART)
    ]
    return sorted(found_differences, key=lambda d: d.start)


def _momentary(power: Powers) -> Powers:
    return lufs(np.convolve(power, np.ones(SMOOTH) / SMOOTH, "same")) if len(power) >= SMOOTH else lufs(power)


def _runs(mask: npt.NDArray[np.bool_]) -> list[tuple[int, int]]:
    """Stretches [a, b) of LASTS steps and more for which it holds."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8)))
    return [(int(a), int(b)) for a, b in edges.reshape(-1, 2) if b - a >= LASTS]


def _lacking(
    plan: Plan,
    measured: Mapping[tuple[int, str], Rows],
    start: int,
    end: int,
    want: Powers,
    have: Powers,
    name: Callable[[int], str],
) -> str:
    """What is said of a stretch of steps that is too quiet: which sound it mostly lacks."""
    loudest, who = 0.0, ""
    for heard_sound in plan.sounds:
        if heard_sound.at < end * STEP and heard_sound.end > start * STEP:
            alone = float(mixed(replace(plan, sounds=(heard_sound,)), measured).power[start:end].sum())
            if alone > loudest:
                loudest, who = alone, name(heard_sound.source)
    is_, should = np.median(have[start:end]), np.median(want[start:end])
    if is_ < should - GONE:
        return f"{who} is not heard"
    return f"{who} is quieter than in the story ({is_:.0f} LUFS instead of {should:.0f})"


def seen_difference(expected: Tile | None, delivered: Tile, name: str, alike: bool) -> str:
    """How a delivered picture differs from the recording's frame that the plan has there, both as small greys (0 to
    255); empty where it does not. `alike`: nothing is done to it, so that it has to be the same picture; else only
    whether it is black."""
    if expected is None:
        return ""
    if float(np.mean(delivered)) < DARK and float(np.mean(expected)) > BRIGHT:
        return f"black where {name} should be seen"
    if alike and float(np.abs(np.asarray(delivered, float) - expected).mean()) > OTHER:
        return f"another picture than {name} at that moment"
    return ""
