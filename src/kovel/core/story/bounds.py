"""How large a story and what is typed into it may be: far above any film, far below what would bring a machine down."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from kovel.core.story.model import Refused, Story

LONGEST = 24 * 3600  # seconds of a story
MOST = 20_000  # pieces, covers, sounds or sections of one
NUMBER = 1 << 53  # the largest that every part, the page's scripts too, holds exactly
LETTERS = 20_000  # of a text: a rolling title of two thousand lines
ITEMS = 20_000  # of a list that an edit is given


def asked(params: Mapping[str, Any]) -> None:
    """`Refused` for what no edit can be asked for: numbers beyond 2^53, texts and lists without end, what is no text at all."""
    stack: list[Any] = [
        v for k, v in params.items() if k != "value" or not isinstance(v, float)
    ]  # a setting says what it takes
    seen = 0
    while stack:
        v = stack.pop()
        seen += 1
        if seen > ITEMS:
            raise Refused("That is more than one edit can take at once.")
        if isinstance(v, str):
            if len(v) > LETTERS:
                raise Refused(f"That text has {len(v)} letters. Please keep it to {LETTERS}.")
            if any("\ud800" <= ch <= "\udfff" for ch in v):
                raise Refused("That text holds letters that are none. Type it again.")
        elif isinstance(v, (int, float)):
            if not -NUMBER <= v <= NUMBER:
                raise Refused("That number is far too large.")
        elif isinstance(v, Mapping):
            stack += [*v.keys(), *v.values()]
        elif isinstance(v, (list, tuple)):
            if len(v) > ITEMS:
                raise Refused("That is more than one edit can take at once.")
            stack += v


def held(story: Story) -> None:
    """`Refused` where a story is longer than a day, or holds more than a machine can draw."""
    if story.length > story.rate.fps * LONGEST:
        raise Refused("A story lasts 24 hours at most. Nothing was changed.")
    for what, n in (
        ("pieces", len(story.pieces)),
        ("covers", len(story.covers) + len(story.loose)),
        ("sounds", len(story.sounds) + len(story.loose_sounds)),
    ):
        if n > MOST:
            raise Refused(f"A story holds {MOST:,} {what} at most. Nothing was changed.")
