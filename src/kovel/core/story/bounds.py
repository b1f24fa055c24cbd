"""How large a story and what is typed into it may be: far above any film, far below what would bring a machine down."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from kovel.core.story.model import TITLE, Cover, Item, MarkerShape, Piece, Refused, Sound, Sources, Story

LONGEST = 24 * 3600  # seconds of a story
MOST = 20_000  # pieces, covers, sounds or sections of one
NUMBER = 1 << 53  # the largest that every part, the page's scripts too, holds exactly
LETTERS = 20_000  # of a text: a rolling title of two thousand lines
ITEMS = 20_000  # of a list that an edit is given


def asked(params: Mapping[str, Any]) -> None:
    """`Refused` for what no edit can be asked for: numbers beyond 2^53, texts and lists without end, what is no text
    at all."""
    stack: list[Any] = [
        value for name, value in params.items() if name != "value" or not isinstance(value, float)
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
    """Whether a story that comes from elsewhere could have been cut here: whole numbers, every range inside its
    recording, one number for each thing, tethers and headings at pieces that are there. What edits always hold is
    not taken on trust."""
    return (
        _numbers_hold(story)
        and _ranges_hold(story, sources)
        and _ties_hold(story)
        and _markers_hold(story)
        and _cards_hold(story)
    )


def _numbers_hold(story: Story) -> bool:
    """Whole numbers of a sensible size; one number for each thing, none yet to be given."""
    laid: list[Cover | Sound] = [*story.covers, *story.loose, *story.sounds, *story.loose_sounds]
    clips: list[Item] = [*story.pieces, *laid]
    marked = [*(section.id for section in story.sections), *(marker.id for marker in story.markers)]
    ids = [*(clip.id for clip in clips), *marked]
    numbers = [number for clip in clips for number in (clip.id, clip.start, clip.length)]
    numbers += [*(clip.lane for clip in laid), story.next_id]
    if not all(type(number) is int and abs(number) < NUMBER for number in numbers):
        return False
    return len(set(ids)) == len(ids) and all(0 < number < story.next_id for number in ids)


def _ranges_hold(story: Story, sources: Sources) -> bool:
    """Every clip has a length, and what is used of a recording lies inside it."""
    clips: list[Item] = [*story.pieces, *story.covers, *story.loose, *story.sounds, *story.loose_sounds]
    of_recordings = (clip for clip in clips if clip.source is not None and clip.source != TITLE)
    return all(clip.length > 0 for clip in clips) and all(_inside(clip, sources, story) for clip in of_recordings)


def _ties_hold(story: Story) -> bool:
    """Tethers, headings and transitions stand at pieces that are there."""
    pieces = {piece.id for piece in story.pieces}
    hosts = pieces | {cover.id for cover in story.covers}  # a sound may be tied to a shot
    tethers = [*(cover.tether for cover in story.covers), *(sound.tether for sound in story.sounds)]
    if not all(type(tether.moment) is int and (not tether.piece or tether.piece in hosts) for tether in tethers):
        return False
    if not all(section.piece in pieces and isinstance(section.heading, str) for section in story.sections):
        return False
    return all(
        {transition.left, transition.right} <= {0, *pieces} and transition.length >= 0
        for transition in story.transitions
    )


def _markers_hold(story: Story) -> bool:
    """Markers have a place, a name and a shape."""
    return all(
        type(marker.tether.piece) is int
        and type(marker.tether.moment) is int
        and isinstance(marker.name, str)
        and marker.shape in list(MarkerShape)
        for marker in story.markers
    )


def _cards_hold(story: Story) -> bool:
    """Cards have a text and a colour."""
    cards = [piece.card for piece in story.pieces if piece.card is not None]
    return all(isinstance(card.text, str) and re.fullmatch("#[0-9a-f]{6}", str(card.colour)) for card in cards)


def _inside(item: Item, sources: Sources, story: Story) -> bool:
    """Whether what is used of a recording lies inside it."""
    source = sources.get(item.source) if item.source is not None else None
    if source is None:
        return False
    total = source.length(story.rate)
    start, end = item.used if isinstance(item, Piece) else (item.start, item.end)
    return start >= 0 and (total is None or end <= total)


def held(story: Story) -> None:
    """`Refused` where a story is longer than a day, or holds more than a machine can draw."""
    if story.length > story.rate.fps * LONGEST:
        raise Refused("A story lasts 24 hours at most. Nothing was changed.")
    for what, n in (
        ("pieces", len(story.pieces)),
        ("covers", len(story.covers) + len(story.loose)),
        ("sounds", len(story.sounds) + len(story.loose_sounds)),
        ("markers", len(story.markers)),
    ):
        if n > MOST:
            raise Refused(f"A story holds {MOST:,} {what} at most. Nothing was changed.")
