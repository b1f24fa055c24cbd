"""Edits that take something out of the dialogue line, and put it back. As those in dialogue.py."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import pairwise

from kovel.core.story.along import closed, out_of_step
from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import DIALOGUE, Edit, frames_in_words, refuse_locked
from kovel.core.story.line import as_one_piece, cut_at, cut_out, part_of, placed, without
from kovel.core.story.model import Piece, Refused, Sources, Story
from kovel.core.story.settling import settle
from kovel.core.time.timecode import stamp as clock


@edit()
def take_out(story: Story, sources: Sources, cuts: list[list[int]]) -> Edit:
    """Take several stretches [a, b) of the story out and close up: one edit, covers keep their words.

    | A ~~ A | B ~~~ B |   take out ~   ->   | A | A | B | B |
    """
    refuse_locked(story, DIALOGUE)
    edges = _stretches(story, cuts)
    draft = story
    for start, until in reversed(edges):  # from the end, so that what is still to come lies where it lay
        draft = closed(draft, sources, start, until, story.along)
    pieces: list[Piece] = []
    parts: dict[int, tuple[int, ...]] = {}
    number, first = draft.next_id, 0
    for at, piece in zip(story.starts, story.pieces, strict=False):
        while first < len(edges) and edges[first][1] <= at:  # those before it
            first += 1
        ids: list[int] = []
        for start, until in _left_of(at, at + piece.length, edges, first):
            left_part = part_of(piece, piece.start + start - at, until - start)
            ids.append(number if ids else piece.id)
            number += len(ids) > 1
            pieces.append(replace(left_part, id=ids[-1]))
        if ids != [piece.id]:
            parts[piece.id] = tuple(ids)
    total = sum(end - start for start, end in edges)
    summary = f"Took out {len(edges)} stretch{'es' if len(edges) != 1 else ''}, {frames_in_words(total)}"
    new_story = replace(draft, pieces=tuple(pieces), next_id=number)
    settled_story, report = settle(story, new_story, sources, summary, split=parts, playhead=edges[0][0])
    return settled_story, report.with_notes(
        out_of_step(story, edges[0][1], -total, story.along, several=len(edges) > 1)
    )


def _stretches(story: Story, cuts: list[list[int]]) -> list[tuple[int, int]]:
    """Stretches to take out, in order; refused where one is empty or outside the story, or two overlap."""
    if not cuts:
        raise Refused("There is nothing to take out.")
    if any(len(cut) != 2 for cut in cuts):
        raise Refused("There is nothing to take out: each stretch is its first frame and its end.")
    edges = sorted((start, end) for start, end in cuts)
    if any(start >= end for start, end in edges) or edges[0][0] < 0 or edges[-1][1] > story.length:
        raise Refused("A stretch to take out is empty, or lies outside the story.")
    if any(b > a for (_, b), (a, _) in pairwise(edges)):
        raise Refused("Two stretches to take out overlap.")
    return edges


def _left_of(at: int, end: int, edges: Sequence[tuple[int, int]], first: int) -> Iterator[tuple[int, int]]:
    """What is left of story frames [at, end) when the edges, from the first one on, are taken out; parts with a
    length."""
    for number in range(first, len(edges)):
        start, until = edges[number]
        if start >= end:
            break
        if start > at:
            yield at, start
        at = max(at, min(until, end))
    if at < end:
        yield at, end


def taken_out(story: Story, sources: Sources) -> list[tuple[int, Piece, int]]:
    """Where something of one recording was taken out between two pieces: (story frame, the piece before, frames
    gone)."""
    return [
        (story.starts[index + 1], piece, other.start - piece.end)
        for index, (piece, other) in enumerate(pairwise(story.pieces))
        if piece.source is not None
        and piece.source == other.source
        and piece.clock == other.clock
        and other.start > piece.end
    ]


@edit(entry("Put back what was taken out after the piece", "R", also="restore", piece="piece"))
def open_again(story: Story, sources: Sources, piece: int) -> Edit:
    """Put back what was taken out between a piece and the one after it, where both come from one recording.

    | A1 |A2 |   with .. between them in the recording   ->   | A1 .. A2 |
    """
    refuse_locked(story, DIALOGUE)
    index = story.index_of(piece)
    if index + 1 >= len(story.pieces):
        raise Refused("There is no piece after this one.")
    first_piece, second_piece = story.pieces[index], story.pieces[index + 1]
    if (
        first_piece.source is None
        or first_piece.source != second_piece.source
        or first_piece.clock != second_piece.clock
        or second_piece.start < first_piece.end
        or first_piece.clock.held is not None
    ):
        raise Refused("Nothing was taken out here: the two pieces do not follow each other in one recording.")
    whole = replace(first_piece, length=second_piece.end - first_piece.start)
    gap = second_piece.start - first_piece.end
    summary = f"{frames_in_words(gap)} put back" if gap else "Joined through"
    return as_one_piece(story, sources, index, whole, summary)


def _parts_used(piece: Piece, sources: Sources) -> set[str]:
    """What a piece takes of its recording, as far as that has it: `picture`, `sound`, both, or nothing."""
    source = sources.get(piece.source) if piece.source is not None else None
    if source is None:
        return set()
    has = {"picture": source.picture, "sound": source.sound}
    return {part for part, there in has.items() if there and piece.take in ("both", part)}


@edit(
    entry("Take out only the picture", also="delete video", a="range start", b="range end", what="=picture"),
    entry("Take out only the sound", also="delete audio", a="range start", b="range end", what="=sound"),
)
def take_only(story: Story, sources: Sources, a: int, b: int, what: str) -> Edit:
    """Take only the `picture`, or only the `sound`, of [a, b) out; nothing moves, what stays is in sync as before.

    | A both     |   take the sound of ~   ->   | A both | A picture | A both |
         ~~~
    """
    refuse_locked(story, DIALOGUE)
    if what not in ("picture", "sound"):
        raise Refused("Take the picture or the sound of it out.")
    if not 0 <= a < b <= story.length:
        raise Refused("The range is empty, or runs past the end of the story.")
    mid, first_index, split = cut_at(story, a)
    mid, end_index, split2 = cut_at(mid, b)
    for old, ids in split2.items():
        root = next((key for key, value in split.items() if old in value), old)
        split[root] = tuple(dict.fromkeys((*split.get(root, ()), *ids)))
    rest = "sound" if what == "picture" else "picture"
    kept_pieces, next_id = list(mid.pieces), mid.next_id
    for index in range(first_index, end_index):
        piece = kept_pieces[index]
        parts = _parts_used(piece, sources)
        if what in parts:
            space = Piece(next_id, None, 0, piece.length)  # where nothing of it is left
            kept_pieces[index] = replace(piece, take=rest) if rest in parts else space
            next_id += rest not in parts
    if kept_pieces == list(mid.pieces):
        raise Refused(f"There is no {what} of the dialogue's own in that range.")
    kept_ids = tuple(piece.id for piece in kept_pieces[first_index:end_index])
    summary = f"The {what} of {frames_in_words(b - a)} taken out at {clock(a, story.rate)}"
    return settle(
        story,
        replace(mid, pieces=tuple(kept_pieces), next_id=next_id),
        sources,
        summary,
        split=split,
        made=kept_ids,
        playhead=a,
    )


@edit(
    entry(
        "Lift, leave a space", "Shift X", also="delete, remove, leave a gap", asks=True, a="range start", b="range end"
    )
)
def lift(story: Story, sources: Sources, a: int, b: int) -> Edit:
    """Take out [a, b) and leave a space of the same length."""
    refuse_locked(story, DIALOGUE)
    mid, _, piece_index, split = cut_out(story, a, b)
    made_id = mid.next_id
    new_story = placed(mid, piece_index, [Piece(0, None, 0, b - a)])
    return settle(
        story,
        new_story,
        sources,
        f"Lifted {frames_in_words(b - a)}, leaving a space",
        split=split,
        made=(made_id,),
        playhead=a,
    )


@edit(
    entry(
        "Take out, close up",
        "X",
        also="extract, ripple delete, delete, remove",
        asks=True,
        a="range start",
        b="range end",
    )
)
def extract(story: Story, sources: Sources, a: int, b: int) -> Edit:
    """Take out [a, b) and close up.

    | A   | B    | C |   extract   ->   | A | B' | C |
        [----)
    """
    refuse_locked(story, DIALOGUE)
    draft = closed(story, sources, a, b, story.along) if 0 <= a < b <= story.length else story
    new_story, _, _, split = cut_out(draft, a, b)
    settled_story, report = settle(
        story, new_story, sources, f"Took out {frames_in_words(b - a)} and closed up", split=split, playhead=a
    )
    return settled_story, report.with_notes(out_of_step(story, b, a - b, story.along))


@edit()
def remove(story: Story, sources: Sources, piece: int) -> Edit:
    """Extract one whole piece."""
    index = story.index_of(piece)
    return extract(story, sources, story.starts[index], story.starts[index + 1])


@edit(
    entry("Close this space", also="close gap, remove gap", piece="piece"),
    entry("Close all spaces", also="close gaps"),
)
def close_space(story: Story, sources: Sources, piece: int | None = None) -> Edit:
    """Take out one space, or (None) all of them. Whatever lies above or below stays with its words."""
    refuse_locked(story, DIALOGUE)
    empty = [piece.id for piece in story.pieces if piece.source is None and piece.card is None]
    gone = set(empty) if piece is None else {piece} & set(empty)
    if not gone:
        raise Refused("There is no space in the story." if piece is None else "That piece is no space.")
    at = story.starts[min(story.index_of(piece_id) for piece_id in gone)]
    new_story = without(story, [piece for piece in story.pieces if piece.id not in gone])
    summary = "Closed a space" if len(gone) == 1 else f"Closed {len(gone)} spaces"
    return settle(story, new_story, sources, summary, playhead=at)
