"""Edits of the pieces that are in the dialogue line: cut apart, joined, trimmed, moved; and which lanes are locked.
As those in dialogue.py.
"""

from __future__ import annotations

from dataclasses import replace

from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import (
    DIALOGUE,
    Edit,
    check_handles,
    frames_in_words,
    lane_key,
    name_of,
    refuse_locked,
    source_of,
)
from kovel.core.story.line import as_one_piece, cut_at, without
from kovel.core.story.model import Piece, Refused, Report, Sources, Story
from kovel.core.story.settling import settle
from kovel.core.time.timecode import stamp as clock


@edit(entry("Split", "S", also="cut, razor, blade, divide, add edit", at="playhead"))
def split(story: Story, sources: Sources, at: int) -> Edit:
    """Cut the piece under `at` in two; nothing moves."""
    refuse_locked(story, DIALOGUE)
    if not 0 < at < story.length or at in story.starts:
        raise Refused(
            "There is already a seam at the playhead."
            if at in story.starts
            else "There is nothing to split at the playhead."
        )
    new_story, piece_index, parts = cut_at(story, at)
    return settle(
        story,
        new_story,
        sources,
        f"Split at {clock(at, story.rate)}",
        split=parts,
        made=(new_story.pieces[piece_index].id,),
        playhead=at,
    )


@edit(entry("Join through", also="merge, rejoin, heal", piece="piece"))
def join_through(story: Story, sources: Sources, piece: int) -> Edit:
    """Make one piece of a piece and the next, where the recording simply runs on between them."""
    refuse_locked(story, DIALOGUE)
    index = story.index_of(piece)
    if index + 1 >= len(story.pieces):
        raise Refused("There is no piece after this one.")
    first_piece, second_piece = story.pieces[index], story.pieces[index + 1]
    if first_piece.source is None and second_piece.source is None and first_piece.card == second_piece.card:
        second_piece = replace(second_piece, start=first_piece.end)
    if (first_piece.source, first_piece.end, first_piece.card, first_piece.take, first_piece.settings) != (
        second_piece.source,
        second_piece.start,
        second_piece.card,
        second_piece.take,
        second_piece.settings,
    ):
        raise Refused("The two pieces do not run on into each other. Put back what was taken out between them first.")
    if story.pieces[index + 1].start != second_piece.start and any(
        t == second_piece.id
        for t in (*(cover.tether.piece for cover in story.covers), *(sound.tether.piece for sound in story.sounds))
    ):
        raise Refused("Something is laid on the second one. Move it first.")
    whole = replace(first_piece, length=first_piece.length + second_piece.length)
    return as_one_piece(story, sources, index, whole, "Joined through")


@edit(
    entry(
        "In edge of the piece: LENGTH",
        "[",
        also="trim, shorten, lengthen, trim start",
        typed="delta",
        default="1f",
        piece="right piece",
        edge="=in",
        delta="typed",
    ),
    entry(
        "Out edge of the piece: LENGTH",
        "]",
        also="trim, shorten, lengthen, trim end",
        typed="delta",
        default="1f",
        piece="left piece",
        edge="=out",
        delta="typed",
    ),
)
def trim(story: Story, sources: Sources, piece: int, edge: str, delta: int) -> Edit:
    """Move the `in` or `out` edge of a piece by `delta` frames (positive is later); what follows ripples.

    in  +2:   [..AAAAAA]  ->  [AAAAAA]      the piece starts later in its recording, the story is 2 shorter
    out +2:   [AAAA]..    ->  [AAAAAA]
    """
    refuse_locked(story, DIALOGUE)
    index = story.index_of(piece)
    this_piece = story.pieces[index]
    new = trimmed(story, sources, this_piece, edge, delta)
    how = "later" if delta > 0 else "earlier"
    head = story.starts[index] if edge == "in" else story.starts[index] + new.length
    draft = without(story, [*story.pieces[:index], new, *story.pieces[index + 1 :]])
    summary = f"{name_of(sources, this_piece)}: {edge} point {frames_in_words(delta)} {how}"
    return settle(story, draft, sources, summary, made=(this_piece.id,), playhead=head)


def trimmed(story: Story, sources: Sources, piece: Piece, edge: str, delta: int) -> Piece:
    """A piece with one edge moved, or `Refused`."""
    if delta == 0:
        raise Refused("The edge is already there.")
    if edge == "in":
        trimmed_piece = replace(piece, start=piece.start + delta, length=piece.length - delta)
    elif edge == "out":
        trimmed_piece = replace(piece, length=piece.length + delta)
    else:
        raise Refused("An edge is either in or out.")
    if trimmed_piece.length < 1:
        raise Refused(
            f"That would leave nothing of {name_of(sources, piece)}: it is {frames_in_words(piece.length)} long."
        )
    if piece.source is not None:
        source = source_of(sources, piece.source)
        if source.frames is None:
            trimmed_piece = replace(trimmed_piece, start=max(0, trimmed_piece.start))
        check_handles(
            source, story.rate, (piece.start, piece.end), (trimmed_piece.start, trimmed_piece.end), piece.clock
        )
    return trimmed_piece


@edit(
    entry("Move the piece earlier", "Alt ↑", piece="piece", before="piece before"),
    entry("Move the piece later", "Alt ↓", piece="piece", before="piece after next"),
    entry("Move the piece to the end", piece="piece", before=None),
)
def move(story: Story, sources: Sources, piece: int, before: int | None) -> Edit:
    """Move a piece, with the others of its group, before another one (None: to the end); covers go with their words.

    | A | B | C |   move C before A   ->   | C | A | B |
    """
    group = story.piece(piece).group
    return move_several(
        story,
        sources,
        [other.id for other in story.pieces if other.id == piece or (group and other.group == group)],
        before,
    )


@edit()
def move_several(story: Story, sources: Sources, pieces: list[int], before: int | None) -> Edit:
    """Move several pieces, in their story order, before another one (None: to the end).

    | A | B | C | D |   move B D before A   ->   | B | D | A | C |
    """
    refuse_locked(story, DIALOGUE)
    gone = set(pieces)
    taken = [piece for piece in story.pieces if piece.id in gone]
    if not taken or len(taken) < len(gone):
        raise Refused("That piece is no longer in the story.")
    if before in gone:
        raise Refused("It is already there.")
    other_pieces = [piece for piece in story.pieces if piece.id not in gone]
    count = (
        len(other_pieces)
        if before is None
        else next((index for index, piece in enumerate(other_pieces) if piece.id == before), -1)
    )
    if count < 0:
        raise Refused("The piece to put it before is no longer in the story.")
    new_order = [*other_pieces[:count], *taken, *other_pieces[count:]]
    if new_order == list(story.pieces):
        raise Refused("It is already there.")
    summary = f"{name_of(sources, taken[0])} moved" if len(taken) == 1 else f"{len(taken)} pieces moved"
    moved_ids = tuple(piece.id for piece in taken)
    return settle(
        story,
        without(story, new_order),
        sources,
        summary,
        made=moved_ids,
        playhead=sum(piece.length for piece in other_pieces[:count]),
    )


@edit(entry("Swap with the next piece", "Y", also="exchange, reorder", first="piece", second="next piece"))
def swap(story: Story, sources: Sources, first: int, second: int) -> Edit:
    """Two pieces change places; what lies between stays between."""
    refuse_locked(story, DIALOGUE)
    first_index, second_index = sorted((story.index_of(first), story.index_of(second)))
    if first_index == second_index:
        raise Refused("Choose two different pieces to swap.")
    pieces = list(story.pieces)
    pieces[first_index], pieces[second_index] = pieces[second_index], pieces[first_index]
    head = sum(piece.length for piece in pieces[:first_index])
    return settle(story, without(story, pieces), sources, "Two pieces swapped", made=(first, second), playhead=head)


@edit(
    entry("Lock {lane}", also="protect", each="locks", lane="lane", locked=True),
    entry("Unlock {lane}", each="locks", lane="lane", locked=False),
)
def set_lock(story: Story, sources: Sources, lane: str, locked: bool) -> Edit:
    """Lock or unlock the dialogue line (`dialogue`), a cover lane (`cover 1`) or the sounds (`sounds`)."""
    kinds = {DIALOGUE, "sounds", *(lane_key(cover.lane) for cover in story.covers), *(lane_key(n) for n in range(1, 4))}
    if lane not in kinds:
        raise Refused("There is no such lane.")
    lanes_locked = story.locked | {lane} if locked else story.locked - {lane}
    if lanes_locked == story.locked:
        raise Refused(f"The {lane} lane is {'already' if locked else 'not'} locked.")
    notes: tuple[str, ...] = ()
    if locked and lane != DIALOGUE:
        notes = ("What is tethered on it still follows its words when the dialogue moves.",)
        clocked = sum(1 for sound in story.sounds if sound.tether.piece == 0)
        if lane == "sounds" and clocked:
            notes += (
                f"{clocked} sound{'s' if clocked > 1 else ''} on the story's clock will not follow the dialogue.",
            )
    return replace(story, locked=lanes_locked), Report(
        f"{lane.capitalize()} lane {'locked' if locked else 'unlocked'}", notes
    )
