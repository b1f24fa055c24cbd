"""Values of settings as editors type them: `-6 dB`, `1,5`, `−3`, `12 frames`, `0:10`; `100 to 112` for a push."""

from __future__ import annotations

import math
import re

from kovel.core.story.settings import SETTINGS
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import TimeError, parse_length

UNIT = re.compile(r"\s*(%|db|percent|hz|lufs|°|degrees?|stops?|frames?)$", re.I)
ENDS = re.compile(r"(.+?)(?:\s+to\s+|\s*>\s*)(.+)")


class ValueTyped(ValueError):
    """What was typed is no value, in words for the editor."""


def typed_number(text: str) -> float:
    """A number with a comma or a point, a hyphen or a true minus, with its unit or without. Raises `ValueTyped`."""
    plain = UNIT.sub("", text.strip()).replace(",", ".").replace("−", "-")
    try:
        number = float(plain)
    except ValueError:
        number = math.nan
    if not math.isfinite(number):
        raise ValueTyped(f"“{text.strip()[:30]}” is not a number.")
    return number


def typed_value(setting: str, text: str, frame_rate: Rate) -> float | tuple[float, float]:
    """The value of a setting of numbers; of a zoom from one number to another, both. What counts frames may be typed as
    a time. Raises `ValueTyped`."""
    if setting == "zoom" and (ends := ENDS.fullmatch(text.strip())):
        return typed_number(ends[1]), typed_number(ends[2])
    try:
        return typed_number(text)
    except ValueTyped:
        if SETTINGS[setting].unit != "frames":
            raise
    try:
        return parse_length(text, frame_rate)
    except TimeError as error:
        raise ValueTyped(str(error)) from None
