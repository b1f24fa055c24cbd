"""What edits of the dialogue line are made of: the line cut at a frame, cut out, and pieces put into it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from kovel.core.story.along import opened, out_of_step
from kovel.core.story.edit_rules import Edit, check_range
from kovel.core.story.model import TAKES, Piece, Refused, Sources, Story
from kovel.core.story.settling import settle
from kovel.core.time.timecode import stamp as clock


def cut_at(story: Story, frame: int) -> tuple[Story, int, dict[int, tuple[int, ...]]]:
    """The story with a seam at `frame`; the index of the piece that begins there; what was split.

    |  A        |  B  |      ->      |  A   | A' |  B  |
            ^ frame                         ^
    """
    if frame == story.length:
        return story, len(story.pieces), {}
    index = story.index_at(frame)
    part_length = frame - story.starts[index]
    if part_length == 0:
        return story, index, {}
    piece, n = story.pieces[index], story.next_id
    pieces = (
        *story.pieces[:index],
        part_of(piece, piece.start, part_length),
        replace(part_of(piece, piece.start + part_length, piece.length - part_length), id=n),
        *story.pieces[index + 1 :],
    )
    return replace(story, pieces=pieces, next_id=n + 1), index + 1, {piece.id: (piece.id, n)}


def part_of(piece: Piece, start: int, length: int) -> Piece:
    """That part of a piece: it comes and goes as the piece does where they share an edge."""
    own_values = piece.settings
    if own_values:
        own_values = own_values.without("fade_in") if start > piece.start else own_values
        own_values = own_values.without("fade_out") if start + length < piece.end else own_values
    return replace(piece, start=start, length=length, settings=own_values)


def cut_out(story: Story, start: int, end: int) -> tuple[Story, tuple[Piece, ...], int, dict[int, tuple[int, ...]]]:
    """The story without [a, b), the removed pieces, the index where they stood, what was split."""
    if not 0 <= start < end <= story.length:
        if start >= end:
            raise Refused("The range is empty. Set its end after its start.")
        raise Refused("The range runs past the end of the story.")
    mid, first_index, split = cut_at(story, start)
    mid, end_index, split2 = cut_at(mid, end)
    for old, ids in split2.items():  # the right part of a piece cut twice still descends from the first
        root = next((key for key, value in split.items() if old in value), old)
        split[root] = tuple(dict.fromkeys((*split.get(root, ()), *ids)))
    return (
        replace(mid, pieces=mid.pieces[:first_index] + mid.pieces[end_index:]),
        mid.pieces[first_index:end_index],
        first_index,
        split,
    )


def placed(story: Story, i: int, new_pieces: Sequence[Piece]) -> Story:
    """The story with pieces put in at index i, under new ids in their order."""
    next_id = story.next_id
    placed_pieces = tuple(replace(piece, id=next_id + index) for index, piece in enumerate(new_pieces))
    return replace(
        story, pieces=story.pieces[:i] + placed_pieces + story.pieces[i:], next_id=next_id + len(placed_pieces)
    )


def without(story: Story, pieces: Sequence[Piece]) -> Story:
    return replace(story, pieces=tuple(pieces))


def new_piece(sources: Sources, rate_story: Story, source: int, start: int, length: int, take: str) -> Piece:
    this_source = check_range(sources, rate_story.rate, source, start, length)
    if take not in TAKES:
        raise Refused("Take both, picture or sound of it.")
    if (take == "picture" and not this_source.picture) or (take == "sound" and not this_source.sound):
        raise Refused(f"{this_source.name} has no {take}.")
    return Piece(0, source, start, length, take=take)


def place_in(story: Story, at: int) -> None:
    if not 0 <= at <= story.length:
        raise Refused("The playhead is past the end of the story.")


def where_it_goes(story: Story, at: int) -> str:
    return "at the end" if at == story.length else f"at {clock(at, story.rate)}"


def put_in(
    story: Story,
    sources: Sources,
    at: int,
    new_pieces: Sequence[Piece],
    did: str,
    *,
    stay: bool = False,
    along: frozenset[str] | None = None,
) -> Edit:
    """Put pieces in at `at`; `along`: the lanes that are cut there and give way (the story's own choice, if None)."""
    wanted, by = story.along if along is None else along, sum(piece.length for piece in new_pieces)
    draft = opened(story, sources, at, by, wanted) if at < story.length else story
    mid, piece_index, split = cut_at(draft, at)
    made_ids = tuple(mid.next_id + piece_number for piece_number in range(len(new_pieces)))
    head = at if stay else at + by
    settled_story, report = settle(
        story, placed(mid, piece_index, new_pieces), sources, did, split=split, made=made_ids, playhead=head
    )
    return settled_story, report.with_notes(out_of_step(story, at, by, wanted) if at < story.length else ())


def as_one_piece(story: Story, sources: Sources, index: int, whole: Piece, did: str) -> Edit:
    """The pieces at `index` and after it as one; what is set between them is what is closed, so it goes without a
    word.

    | A | A' |   ->   | A    |
    """
    first, second = story.pieces[index], story.pieces[index + 1]
    new_story = without(story, [*story.pieces[:index], whole, *story.pieces[index + 2 :]])
    between = (first.id, second.id)
    transitions_left = tuple(
        transition for transition in story.transitions if (transition.left, transition.right) != between
    )
    return settle(
        story,
        replace(new_story, transitions=transitions_left),
        sources,
        did,
        split={second.id: (first.id,), first.id: (first.id,)},
        made=(first.id,),
        playhead=story.starts[index + 1],
    )
