"""Edits of the pieces that are in the dialogue line: cut apart, joined, trimmed, moved; and which lanes are locked. As those in
dialogue.py.
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
from kovel.core.story.line import cut_at, without
from kovel.core.story.model import Piece, Refused, Report, Sources, Story
from kovel.core.story.settling import settle
from kovel.core.time.timecode import stamp as clock


@edit(entry("Split", "S", also="cut, razor, blade, divide, add edit", at="playhead"))
def split(story: Story, sources: Sources, at: int) -> Edit:
    """Cut the piece under `at` in two; nothing moves."""
    refuse_locked(story, DIALOGUE)
    if not 0 < at < story.length or at in story.starts:
        raise Refused(
            "There is already a seam at the playhead." if at in story.starts else "There is nothing to split at the playhead."
        )
    new, i, parts = cut_at(story, at)
    return settle(story, new, sources, f"Split at {clock(at, story.rate)}", split=parts, made=(new.pieces[i].id,), playhead=at)


@edit(entry("Join through", also="merge, rejoin, heal", piece="piece"))
def join_through(story: Story, sources: Sources, piece: int) -> Edit:
    """Make one piece of a piece and the next, where the recording simply runs on between them."""
    refuse_locked(story, DIALOGUE)
    i = story.index_of(piece)
    if i + 1 >= len(story.pieces):
        raise Refused("There is no piece after this one.")
    p, q = story.pieces[i], story.pieces[i + 1]
    if p.source is None and q.source is None and p.card == q.card:
        q = replace(q, start=p.end)
    if (p.source, p.end, p.card, p.take, p.settings) != (q.source, q.start, q.card, q.take, q.settings):
        raise Refused("The two pieces do not run on into each other. Put back what was taken out between them first.")
    if story.pieces[i + 1].start != q.start and any(
        t == q.id for t in (*(c.tether.piece for c in story.covers), *(x.tether.piece for x in story.sounds))
    ):
        raise Refused("Something is laid on the second one. Move it first.")
    new = without(story, [*story.pieces[:i], replace(p, length=p.length + q.length), *story.pieces[i + 2 :]])
    new = replace(new, transitions=tuple(j for j in story.transitions if (j.left, j.right) != (p.id, q.id)))
    return settle(
        story, new, sources, "Joined through", split={q.id: (p.id,), p.id: (p.id,)}, made=(p.id,), playhead=story.starts[i + 1]
    )


@edit(
    entry(
        "In edge of the piece: LENGTH",
        "[",
        also="trim, shorten, lengthen, trim start",
        typed="delta",
        default="1f",
        piece="piece",
        edge="=in",
        delta="typed",
    ),
    entry(
        "Out edge of the piece: LENGTH",
        "]",
        also="trim, shorten, lengthen, trim end",
        typed="delta",
        default="1f",
        piece="piece",
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
    i = story.index_of(piece)
    p = story.pieces[i]
    new = trimmed(story, sources, p, edge, delta)
    how = "later" if delta > 0 else "earlier"
    head = story.starts[i] if edge == "in" else story.starts[i] + new.length
    draft = without(story, [*story.pieces[:i], new, *story.pieces[i + 1 :]])
    did = f"{name_of(sources, p)}: {edge} point {frames_in_words(delta)} {how}"
    return settle(story, draft, sources, did, made=(p.id,), playhead=head)


def trimmed(story: Story, sources: Sources, p: Piece, edge: str, delta: int) -> Piece:
    """A piece with one edge moved, or `Refused`."""
    if delta == 0:
        raise Refused("The edge is already there.")
    if edge == "in":
        new = replace(p, start=p.start + delta, length=p.length - delta)
    elif edge == "out":
        new = replace(p, length=p.length + delta)
    else:
        raise Refused("An edge is either in or out.")
    if new.length < 1:
        raise Refused(f"That would leave nothing of {name_of(sources, p)}: it is {frames_in_words(p.length)} long.")
    if p.source is not None:
        s = source_of(sources, p.source)
        if s.frames is None:
            new = replace(new, start=max(0, new.start))
        check_handles(s, story.rate, (p.start, p.end), (new.start, new.end), p.clock)
    return new


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
    return move_several(story, sources, [p.id for p in story.pieces if p.id == piece or (group and p.group == group)], before)


@edit()
def move_several(story: Story, sources: Sources, pieces: list[int], before: int | None) -> Edit:
    """Move several pieces, in their story order, before another one (None: to the end).

    | A | B | C | D |   move B D before A   ->   | B | D | A | C |
    """
    refuse_locked(story, DIALOGUE)
    gone = set(pieces)
    taken = [p for p in story.pieces if p.id in gone]
    if not taken or len(taken) < len(gone):
        raise Refused("That piece is no longer in the story.")
    if before in gone:
        raise Refused("It is already there.")
    rest = [p for p in story.pieces if p.id not in gone]
    j = len(rest) if before is None else next((k for k, q in enumerate(rest) if q.id == before), -1)
    if j < 0:
        raise Refused("The piece to put it before is no longer in the story.")
    row = [*rest[:j], *taken, *rest[j:]]
    if row == list(story.pieces):
        raise Refused("It is already there.")
    did = f"{name_of(sources, taken[0])} moved" if len(taken) == 1 else f"{len(taken)} pieces moved"
    made = tuple(p.id for p in taken)
    return settle(story, without(story, row), sources, did, made=made, playhead=sum(q.length for q in rest[:j]))


@edit(entry("Swap with the next piece", "Y", also="exchange, reorder", first="piece", second="next piece"))
def swap(story: Story, sources: Sources, first: int, second: int) -> Edit:
    """Two pieces change places; what lies between stays between."""
    refuse_locked(story, DIALOGUE)
    i, j = sorted((story.index_of(first), story.index_of(second)))
    if i == j:
        raise Refused("Choose two different pieces to swap.")
    pieces = list(story.pieces)
    pieces[i], pieces[j] = pieces[j], pieces[i]
    head = sum(q.length for q in pieces[:i])
    return settle(story, without(story, pieces), sources, "Two pieces swapped", made=(first, second), playhead=head)


@edit(
    entry("Lock {lane}", also="protect", each="locks", lane="lane", locked=True),
    entry("Unlock {lane}", each="locks", lane="lane", locked=False),
)
def set_lock(story: Story, sources: Sources, lane: str, locked: bool) -> Edit:
    """Lock or unlock the dialogue line (`dialogue`), a cover lane (`cover 1`) or the sounds (`sounds`)."""
    kinds = {DIALOGUE, "sounds", *(lane_key(c.lane) for c in story.covers), *(lane_key(n) for n in range(1, 4))}
    if lane not in kinds:
        raise Refused("There is no such lane.")
    now = story.locked | {lane} if locked else story.locked - {lane}
    if now == story.locked:
        raise Refused(f"The {lane} lane is {'already' if locked else 'not'} locked.")
    notes: tuple[str, ...] = ()
    if locked and lane != DIALOGUE:
        notes = ("What is tethered on it still follows its words when the dialogue moves.",)
        clocked = sum(1 for s in story.sounds if s.tether.piece == 0)
        if lane == "sounds" and clocked:
            notes += (f"{clocked} sound{'s' if clocked > 1 else ''} on the story's clock will not follow the dialogue.",)
    return replace(story, locked=now), Report(f"{lane.capitalize()} lane {'locked' if locked else 'unlocked'}", notes)
