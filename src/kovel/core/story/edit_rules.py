"""What edits have in common: what they refuse, and how they name what they change."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from math import floor

from kovel.core.story.clocks import AS_SHOT, Clock
from kovel.core.story.model import (
    TITLE,
    TITLE_SOURCE,
    Cover,
    Item,
    Piece,
    Refused,
    Report,
    Source,
    Sources,
    Story,
    kind_of,
)
from kovel.core.time.rate import Rate

DIALOGUE = "dialogue"
Edit = tuple[Story, Report]


def lane_key(lane: int) -> str:
    """The name under which a cover lane is locked."""
    return f"cover {lane}"


def refuse_locked(story: Story, lane: str) -> None:
    """Refuse a change to a locked lane."""
    if lane in story.locked:
        raise Refused(f"The {lane} lane is locked. Unlock it to change what lies on it.")


def frames_in_words(n: int) -> str:
    return "1 frame" if abs(n) == 1 else f"{abs(n)} frames"


def beyond(n: int, what: str, how: str) -> str:
    """That so many frames of something run past the end."""
    if n == 1:
        return f"Its last frame runs past the end of the {what} and is not {how}."
    return f"Its last {n} frames run past the end of the {what} and are not {how}."


def source_of(sources: Sources, source: int) -> Source:
    if source == TITLE:
        return TITLE_SOURCE
    try:
        return sources[source]
    except KeyError:
        raise Refused("That recording is not in this project any more.") from None


def name_of(sources: Sources, piece: Item) -> str:
    """What a piece, cover or sound is called within a sentence; `capitalised` begins one with it."""
    if piece.source is None:
        return "the card" if isinstance(piece, Piece) and piece.card else "the space"
    if isinstance(piece, Cover) and piece.source == TITLE:
        return f"the title “{piece.title.splitlines()[0][:40] if piece.title else ''}”"
    return sources[piece.source].name if piece.source in sources else "the piece"


def in_words(story: Story, items: Iterable[int]) -> str:
    """How many of what: `2 pieces, 1 cover and 3 sounds`."""
    counts = Counter(str(kind_of(story.item(item))) for item in items)
    told = [f"{number} {kind}{'s' if number > 1 else ''}" for kind, number in counts.items()]
    return " and ".join([", ".join(told[:-1]), told[-1]] if len(told) > 1 else told)


def capitalised(text: str) -> str:
    """A sentence that begins with what `name_of` says: names stay as they are written."""
    return f"The {text[4:]}" if text.startswith("the ") else text


def reach(source: Source, frame_rate: Rate, clock: Clock = AS_SHOT) -> tuple[int, int] | None:
    """[first, end) of a clock that a recording fills; None for a still, which lasts as long as asked."""
    total = source.length(frame_rate)
    return None if total is None else clock.reach(total)


def handles(sources: Sources, frame_rate: Rate, piece: Piece) -> tuple[int | None, int | None]:
    """Frames that a piece's recording has before its in point and after its out point, on the piece's own clock; None
    where there are as many as one likes.

    recording  [...AAAA..]    ->   (3, 2)
    """
    source = sources.get(piece.source) if piece.source is not None else None
    ends = reach(source, frame_rate, piece.clock) if source else None
    return (floor(piece.start - ends[0]), floor(ends[1] - piece.end)) if ends else (None, None)


def check_range(sources: Sources, frame_rate: Rate, source: int, start: int, length: int) -> Source:
    """Refuse an empty range, or one that leaves its recording."""
    this_source = source_of(sources, source)
    total = this_source.length(frame_rate)
    if length <= 0:
        raise Refused("In and out are at the same place: the range is empty. Set the out point after the in point.")
    if start < 0:
        raise Refused(f"That begins {frames_in_words(start)} before the start of {this_source.name}.")
    if total is not None and start + length > total:
        raise Refused(f"That runs {frames_in_words(start + length - total)} past the end of {this_source.name}.")
    return this_source


def check_handles(
    source: Source, frame_rate: Rate, old: tuple[int, int], new: tuple[int, int], clock: Clock = AS_SHOT
) -> None:
    """Refuse a trim for which the recording has no material, saying how much there is."""
    ends = reach(source, frame_rate, clock) or (0, new[1])
    if new[0] < ends[0]:
        have, edge, where = old[0] - ends[0], "before this in point", "begins"
        asked_length = old[0] - new[0]
    elif new[1] > ends[1]:
        have, edge, where = ends[1] - old[1], "after this out point", "ends"
        asked_length = new[1] - old[1]
    else:
        return
    raise Refused(
        f"{source.name} has {frames_in_words(have)} {edge}, not {asked_length}."
        if have
        else f"{source.name} {where} here: there is nothing {edge}."
    )
