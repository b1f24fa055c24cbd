"""One number for one level: what is set on a clip itself, and what is heard with all that it inherits, named as such.

story        +2.0 dB
piece A      -1.0 dB          own -1.0 dB, total +1.0 dB
piece B                       own +0.0 dB, total +2.0 dB
"""

from __future__ import annotations

from math import log10

from kovel.core.story.model import Cover, Item, Sources, Story
from kovel.core.story.settings import SETTINGS, Line, Value, added

LEVEL = SETTINGS["level"]
HALF = -6.0  # dB: about half amplitude, music or natural sound under talk to start with (common practice)
EXACTLY_HALF = 20 * log10(0.5)  # what the plan takes a cover's own sound by


def begins_at(item: Item) -> float:
    """The level in dB that a clip's own is counted from: a cover's natural sound is at half until a level is set on
    it."""
    return EXACTLY_HALF if isinstance(item, Cover) and "level" not in item.settings else 0.0


def total_level(story: Story, sources: Sources, item: Item) -> float | Line:
    """The level in dB that a clip is heard at, all scopes met: a number, or a line with moments on its recording's
    clock."""
    return added([story.value(item, "level", sources), begins_at(item)])


def in_decibels(value: Value) -> str:
    """A level in words: `-6.0 dB`, of a line from its lowest to its highest `-12.0 to +0.0 dB`."""
    rounded_levels = sorted({round(db, 1) for _, db in value}) if isinstance(value, tuple) else [round(float(value), 1)]
    return (
        LEVEL.says(rounded_levels[0])
        if len(rounded_levels) == 1
        else f"{rounded_levels[0]:+.1f} to {rounded_levels[-1]:+.1f} dB"
    )


def total_told(story: Story, sources: Sources, item: Item) -> str:
    """The level that a clip is heard at, in as few words as can be: `-6.0 dB`, or `total -6.0 dB` where some of it
    is inherited."""
    own_levels, total = in_decibels(item.settings["level"]), in_decibels(total_level(story, sources, item))
    return total if own_levels == total else f"total {total}"


def level_told(story: Story, sources: Sources, item: Item) -> str:
    """A clip's level in words: one number where nothing is inherited, else its own and the total, named."""
    own_levels, total = in_decibels(item.settings["level"]), in_decibels(total_level(story, sources, item))
    return total if own_levels == total else f"own {own_levels}, total {total}"
