"""Where the markers of a story are, and how they follow their words."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from kovel.core.story.model import Marker, Story, Tether


def placed_markers(story: Story) -> list[tuple[int, Marker]]:
    """(story frame, marker) of those whose word is in the story, in its order."""
    there = [(story.at_of(marker.tether), marker) for marker in story.markers]
    in_story = ((at, marker) for at, marker in there if at is not None and at <= story.length)
    return sorted(in_story, key=lambda row: (row[0], row[1].id))


def followed_markers(new_story: Story, split: Mapping[int, tuple[int, ...]]) -> tuple[Marker, ...]:
    """The markers after an edit, each on the piece that has its word now. One whose word left keeps where it was, and
    is back when the word is."""
    return tuple(_followed(new_story, split, marker) for marker in new_story.markers)


def _followed(new_story: Story, split: Mapping[int, tuple[int, ...]], marker: Marker) -> Marker:
    piece_id, moment = marker.tether.piece, marker.tether.moment
    if not piece_id or new_story.at_of(marker.tether) is not None:
        return marker
    parts = set(split.get(piece_id, ()))
    with_word = [piece for piece in new_story.pieces if piece.source == marker.source and piece.holds(moment)]
    now = next((piece for piece in with_word if piece.id in parts), None)
    if now is None and marker.source is not None:  # a card or a gap is found by its parts alone
        now = next(iter(with_word), None)
    return marker if now is None else replace(marker, tether=Tether(now.id, moment))
