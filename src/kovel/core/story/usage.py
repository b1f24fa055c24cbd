"""Where in the story the ranges of a recording are used.

recording  0───────[bite────]────────[other]───────
story           0:12 ┘ 1:40 ┘        loose
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from kovel.core.story.model import TITLE, Story


@dataclass(frozen=True, slots=True)
class Use:
    """Frames [start, end) of a recording, seen or heard at story frame `at`; `cover` when laid over the dialogue."""

    source: int
    start: int
    end: int
    at: int
    cover: bool = False


def uses(story: Story) -> list[Use]:
    """Every use of every recording, in the story's order."""
    all_uses = [
        Use(piece.source, *piece.used, at)
        for at, piece in zip(story.starts, story.pieces, strict=False)
        if piece.source is not None
    ]
    all_uses += [
        Use(cover.source, cover.start, cover.end, at, True) for at, _, cover in story.spans if cover.source != TITLE
    ]
    return sorted(all_uses, key=lambda u: (u.at, u.cover))


def by_source(found_uses: Iterable[Use]) -> dict[int, list[Use]]:
    """Uses by recording: for asking about many ranges."""
    uses_by_source: dict[int, list[Use]] = {}
    for use in found_uses:
        uses_by_source.setdefault(use.source, []).append(use)
    return uses_by_source


def times_used(found_uses: Iterable[Use], source: int, start: int, end: int) -> int:
    """How often a range is used: counted when at least half of the shorter of the two is shared."""
    n = 0
    for use in found_uses:
        if use.source != source:
            continue
        shared = min(end, use.end) - max(start, use.start)
        if shared * 2 >= min(end - start, use.end - use.start) and shared > 0:
            n += 1
    return n


def ranges_used(found_uses: Iterable[Use], source: int) -> list[tuple[int, int]]:
    """What of a recording the story uses, overlapping and touching uses taken as one, in order."""
    ranges_there: list[tuple[int, int]] = []
    for start, end in sorted((use.start, use.end) for use in found_uses if use.source == source):
        if ranges_there and start <= ranges_there[-1][1]:
            ranges_there[-1] = (ranges_there[-1][0], max(end, ranges_there[-1][1]))
        else:
            ranges_there.append((start, end))
    return ranges_there
