"""SMPTE ST 12-1 timecode, with and without drop-frame, and times as editors type them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from fractions import Fraction

from kovel.core.errors import Told
from kovel.core.time.rate import Rate


class TimeError(Told, ValueError):
    """A time that cannot be read; the message is for the editor."""


def can_drop(frame_rate: Rate) -> bool:
    """Drop-frame counting exists at 29.97 and 59.94 only (ST 12-1)."""
    return frame_rate.ntsc and frame_rate.nominal in (30, 60)


def format_timecode(frame: int, frame_rate: Rate, drop: bool = False) -> str:
    """`HH:MM:SS:FF`, or `HH:MM:SS;FF` in drop-frame; wraps at 24 hours, negative frames count back from midnight.

    ST 12-1: drop-frame skips the first two frame *numbers* (four at 59.94) of each minute that is not a multiple of
    ten.
    """
    nominal = frame_rate.nominal
    drop = drop and can_drop(frame_rate)
    if drop:
        skip = nominal // 15
        ten = nominal * 600 - skip * 9
        frame %= ten * 144
        tens, rest = divmod(frame, ten)
        frame += skip * 9 * tens
        if rest >= nominal * 60:
            frame += skip * (1 + (rest - nominal * 60) // (nominal * 60 - skip))
    else:
        frame %= nominal * 86400
    seconds, ff = divmod(frame, nominal)
    mark = ";" if drop else ":"
    return f"{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}{mark}{ff:02d}"


def timecode_to_frame(hours: int, minutes: int, seconds: int, frames: int, frame_rate: Rate, drop: bool = False) -> int:
    """Frame count of a timecode; fields past their limit carry over (75 frames at 25 are 3 seconds).

    Numbers that drop-frame skips (00:01:00;00) stand for the next frame that exists.
    """
    nominal = frame_rate.nominal
    total = ((hours * 60 + minutes) * 60 + seconds) * nominal + frames
    if not (drop and can_drop(frame_rate)):
        return total
    skip = nominal // 15
    whole, ff = divmod(total, nominal)
    this_minutes, ss = divmod(whole, 60)
    if ss == 0 and ff < skip and this_minutes % 10:
        ff = skip
    return (this_minutes * 60 + ss) * nominal + ff - skip * (this_minutes - this_minutes // 10)


def running(frame: int, frame_rate: Rate) -> str:
    """Running time as people say it: `0:14`, `1:02:09` (whole seconds passed, by the real rate)."""
    seconds = int(frame / frame_rate.fps)
    return (
        f"{seconds // 3600}:{seconds // 60 % 60:02d}:{seconds % 60:02d}"
        if seconds >= 3600
        else f"{seconds // 60}:{seconds % 60:02d}"
    )


_SIGN = r"^\s*([+-]?)\s*"
_UNITS = re.compile(
    _SIGN + r"(?:([0-9]+)h)?\s*(?:([0-9]+(?:[.,][0-9]+)?)m)?\s*(?:([0-9]+(?:[.,][0-9]+)?)s)?\s*(?:([0-9]+)f)?\s*$"
)
_PRINTED = re.compile(_SIGN + r"((?:[0-9]+:)?[0-9]+:[0-9]{2})\+([0-9]+)\s*$")
_FIELDS = re.compile(_SIGN + r"([0-9]+(?:[:;.][0-9]+)*)\s*$")


def parse_entry(
    text: str, frame_rate: Rate, *, now: int = 0, drop: bool = False, start: int = 0, minutes: bool = False
) -> int:
    """What an editor types in a time field -> a frame.

    | typed         | means                                              |
    |---------------|----------------------------------------------------|
    | `3:15`        | 3 seconds 15 frames; fields fill from the right    |
    | `00:00:03:15` | the same, in full; `;` before the frames is drop-frame |
    | `90`          | 90 frames; frames past the rate carry over         |
    | `0:28+15`     | minutes, seconds, and frames, as the pages print it |
    | `1.5s` `90s` `1m` `1m30s` `12f` | hours, minutes, seconds, frames by their letter |
    | `+12` `-1:00` | that far after or before `now`                     |

    With `minutes`, as for the length of a film, fields without a letter are minutes and seconds: `1:00` is one
    minute. A full, unsigned timecode is read against the `start` timecode (in frames); everything else counts from
    0.
    """
    value, sign, full = _frames_typed(text, frame_rate, drop, minutes)
    if value > MOST * frame_rate.nominal:
        raise TimeError(f"“{text.strip()[:40]}” is longer than a day.")
    if sign:
        return now + (value if sign == "+" else -value)
    return value - start if full and value >= start else value


EXAMPLES = {
    False: "3:15 (seconds and frames), 0:28+15, 1.5s, 1m, +12 or -1:00",
    True: "4:30 (minutes and seconds), 90s or 1m30s",
}


def _frames_of_fields(numbers: list[int], frame_rate: Rate, dropped: bool) -> int:
    """Frames of up to four numbers: hours, minutes, seconds, frames, of which the first may be left out."""
    hours, mins, seconds, frames = [0] * (4 - len(numbers)) + numbers
    return timecode_to_frame(hours, mins, seconds, frames, frame_rate, dropped)


def _frames_typed(text: str, frame_rate: Rate, drop: bool, minutes: bool) -> tuple[int, str, bool]:
    """(frames, + or - or nothing, whether it was typed as a full timecode)."""
    if match := _PRINTED.match(text):
        sign, clock, frames = match.groups()
        whole = int(-(-_seconds([int(part) for part in clock.split(":")]) * frame_rate.fps // 1))
        return whole + int(frames), sign, False
    if (match := _UNITS.match(text)) and any(match.groups()[1:]):
        sign, *parts = match.groups()
        *units, frames_ = (Fraction((part or "0").replace(",", ".")) for part in parts)
        return frame_rate.seconds_to_frame(_seconds(units)) + int(frames_), sign, False
    if match := _FIELDS.match(text):
        sign, fields = match.groups()
        numbers = [int(part) for part in re.split(r"[:;.]", fields)]
        full = len(numbers) == 4
        if minutes and len(numbers) < 4:
            return frame_rate.seconds_to_frame(_seconds(numbers)), sign, False
        if len(numbers) > 4:
            raise TimeError(f"“{text.strip()[:40]}” has more than hours, minutes, seconds and frames.")
        dropped = (drop or ";" in fields) and full and not sign
        return _frames_of_fields(numbers, frame_rate, dropped), sign, full
    raise TimeError(f"“{text.strip()[:40]}” is not a time. Type {EXAMPLES[minutes]}.")


def _seconds(parts: Sequence[int | Fraction]) -> Fraction:
    """Seconds of hours, minutes and seconds, of which the first may be left out."""
    hours, minutes, seconds = [0, 0, *parts][-3:]
    return Fraction((hours * 60 + minutes) * 60 + seconds)


MOST = 24 * 3600  # seconds; timecode counts no further (ST 12-1)


def parse_length(text: str, frame_rate: Rate, *, minutes: bool = False) -> int:
    """A length as typed, in frames; at least one."""
    frame = parse_entry(text, frame_rate, minutes=minutes)
    if frame < 1:
        raise TimeError(f"“{text.strip()[:40]}” is no length: it is one frame or longer.")
    return frame


def parse_seconds(text: str, frame_rate: Rate) -> float:
    """A short length as typed where seconds are meant: `0.35` is 0.35 s; `9f` and `0:01+05` as elsewhere."""
    plain = text.strip().removesuffix("s").strip().replace(",", ".")
    if re.fullmatch(r"[0-9]*\.?[0-9]+|[0-9]+\.", plain):
        return float(plain)
    try:
        return float(parse_entry(text, frame_rate) / frame_rate.fps)
    except TimeError:
        raise TimeError(f"“{text.strip()[:40]}” is no length. Type seconds, like 0.35, or frames, like 9f.") from None


def stamp(frame: int, frame_rate: Rate) -> str:
    """A moment or a length as the pages print it, `0:14+06`: minutes, seconds by the real rate, and frames beyond
    them."""
    sign, frame = ("-" if frame < 0 else ""), abs(frame)
    seconds = int(frame / frame_rate.fps)
    return f"{sign}{running(frame, frame_rate)}+{frame - int(-(-seconds * frame_rate.fps // 1)):02d}"
