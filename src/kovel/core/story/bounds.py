"""How large a story and what is typed into it may be: far above any film, far below what would bring a machine down."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from kovel.core.story.model import TITLE, Cover, Item, Piece, Refused, Sound, Sources, Story

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


def could_be_cut(story: Story, sources: Sources) -> bool:
    """Whether a story that comes from elsewhere could have been cut here: whole numbers, every range inside its recording, one number
    for each thing, tethers and headings at pieces that are there. What edits always hold is not taken on trust."""
    laid: list[Cover | Sound] = [*story.covers, *story.loose, *story.sounds, *story.loose_sounds]
    clips: list[Item] = [*story.pieces, *laid]
    ids = [*(x.id for x in clips), *(s.id for s in story.sections)]
    numbers = [n for x in clips for n in (x.id, x.start, x.length)] + [x.lane for x in laid]
    if not all(type(n) is int and abs(n) < NUMBER for n in (*numbers, story.next_id)):
        return False
    if len(set(ids)) < len(ids) or not all(0 < i < story.next_id for i in ids) or not all(x.length > 0 for x in clips):
        return False
    for x in clips:
        if x.source is not None and x.source != TITLE and not _inside(x, sources, story):
            return False
    pieces = {p.id for p in story.pieces}
    tethers = [*(x.tether for x in story.covers), *(x.tether for x in story.sounds)]
    hosts = pieces | {c.id for c in story.covers}  # a sound may be tied to a shot
    if not all(type(t.moment) is int and (not t.piece or t.piece in hosts) for t in tethers):
        return False
    if not all(s.piece in pieces and isinstance(s.heading, str) for s in story.sections):
        return False
    if not all(j.left in {0, *pieces} and j.right in {0, *pieces} and j.length >= 0 for j in story.transitions):
        return False
    cards = [p.card for p in story.pieces if p.card is not None]
    return all(isinstance(c.text, str) and re.fullmatch("#[0-9a-f]{6}", str(c.colour)) for c in cards)


def _inside(x: Item, sources: Sources, story: Story) -> bool:
    """Whether what is used of a recording lies inside it."""
    source = sources.get(x.source) if x.source is not None else None
    if source is None:
        return False
    total = source.length(story.rate)
    a, b = x.used if isinstance(x, Piece) else (x.start, x.end)
    return a >= 0 and (total is None or b <= total)


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
