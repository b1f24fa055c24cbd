"""Edits of several clips of any kind at once: pieces, covers, titles and sounds in any mixture."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

from kovel.core.story.arrangement import trimmed
from kovel.core.story.covers import remove_cover, slip_cover, trim_cover
from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import DIALOGUE, Edit, frames_in_words, in_words, refuse_locked
from kovel.core.story.laid_groups import moved_by
from kovel.core.story.model import Cover, Item, Piece, Refused, Sound, Sources, Story
from kovel.core.story.removals import take_out
from kovel.core.story.settling import settle
from kovel.core.story.several import step_by_step
from kovel.core.story.sound_edits import remove_sound, slip_sound, trim_sound
from kovel.core.story.trims import slipped

NOTHING = "Select clips first: click one, then others with Ctrl."


def _on_its_kind(
    story: Story, item: int, piece: Callable[[], Edit], cover: Callable[[], Edit], sound: Callable[[], Edit]
) -> Edit:
    """The edit that does it to a clip of that kind."""
    clip = story.item(item)
    return (piece if isinstance(clip, Piece) else cover if isinstance(clip, Cover) else sound)()


def _without_pieces(story: Story, sources: Sources, ids: list[int], close: bool) -> Edit:
    """The dialogue line without these pieces, closed up or with gaps of their length."""
    stretches = [
        [start, start + piece.length]
        for start, piece in zip(story.starts, story.pieces, strict=False)
        if piece.id in ids
    ]
    if close:
        return take_out(story, sources, stretches)
    refuse_locked(story, DIALOGUE)
    gaps = {
        piece_id: Piece(story.next_id + number, None, 0, story.piece(piece_id).length)
        for number, piece_id in enumerate(ids)
    }
    draft = replace(
        story,
        pieces=tuple(gaps.get(piece.id, piece) for piece in story.pieces),
        next_id=story.next_id + len(gaps),
    )
    made = tuple(gap.id for gap in gaps.values())
    return settle(story, draft, sources, "Left gaps", made=made, playhead=stretches[0][0])


@edit(
    entry(
        "Delete the selected clips and close the gaps",
        "X",
        also="take out, extract, remove, ripple delete",
        asks=True,
        items="several",
        close=True,
    ),
    entry(
        "Delete the selected clips, leave gaps",
        "Shift X",
        also="lift, remove",
        asks=True,
        items="several",
        close=False,
    ),
)
def remove_clips(story: Story, sources: Sources, items: list[int], close: bool = True) -> Edit:
    """Delete pieces, covers, titles and sounds; where pieces stood the story closes up, or a gap is left.

    | A | B | C | D |   delete B D   ->   | A | C |      or, with gaps,   | A |   | C |   |
    """
    items = [item for item in dict.fromkeys(items) if story.item(item)]
    if not items:
        raise Refused(NOTHING)
    pieces = [piece.id for piece in story.pieces if piece.id in set(items)]
    laid = [item for item in items if item not in set(pieces)]

    def gone(now: Story, item: int) -> Edit:
        return _on_its_kind(
            now,
            item,
            lambda: _without_pieces(now, sources, pieces, close),  # all at once: covers over them lose what they lost
            lambda: remove_cover(now, sources, item),
            lambda: remove_sound(now, sources, item),
        )

    def did(deleted: list[int]) -> str:
        of_pieces = pieces if set(deleted) & set(pieces) else []
        told = in_words(story, (item for item in items if item in of_pieces or item in deleted))
        return f"Deleted {told}{', leaving gaps' if of_pieces and not close else ''}"

    # what is laid goes first, so that none of it comes loose
    return step_by_step(story, sources, [*laid, *pieces[:1]], gone, did)


@edit(
    entry(
        "In edge of the selected clips: LENGTH",
        "[",
        also="trim",
        typed="delta",
        default="1f",
        items="several",
        edge="=in",
        delta="typed",
    ),
    entry(
        "Out edge of the selected clips: LENGTH",
        "]",
        also="trim",
        typed="delta",
        default="1f",
        items="several",
        edge="=out",
        delta="typed",
    ),
)
def trim_clips(story: Story, sources: Sources, items: list[int], edge: str, delta: int) -> Edit:
    """Move the same edge of several clips by `delta` frames; after pieces the rest ripples."""
    if delta == 0:
        raise Refused("The edges are already there.")
    return _on_all(
        story,
        sources,
        items,
        lambda piece: trimmed(story, sources, piece, edge, delta),
        lambda now, item: trim_cover(now, sources, item, edge, delta),
        lambda now, item: trim_sound(now, sources, item, edge, delta),
        f"{edge} point {_way(delta)}",
    )


@edit(entry("Slip the selected clips: LENGTH", typed="delta", default="1f", items="several", delta="typed"))
def slip_clips(story: Story, sources: Sources, items: list[int], delta: int) -> Edit:
    """Show another part of each recording in the same place. Positive: later material."""
    if delta == 0:
        raise Refused("The clips show that part already.")
    return _on_all(
        story,
        sources,
        items,
        lambda piece: slipped(story, sources, piece, delta),
        lambda now, item: slip_cover(now, sources, item, delta),
        lambda now, item: slip_sound(now, sources, item, delta),
        f"slipped {_way(delta)}",
    )


def _way(delta: int) -> str:
    return f"{frames_in_words(delta)} {'later' if delta > 0 else 'earlier'}"


def _on_all(
    story: Story,
    sources: Sources,
    items: list[int],
    piece: Callable[[Piece], Piece],
    cover: Callable[[Story, int], Edit],
    sound: Callable[[Story, int], Edit],
    did: str,
) -> Edit:
    """Covers and sounds one after the other, then all pieces at once: what lies over several of them loses what its
    words lose at the end, no more. Those that refuse stay as they are, and it is said why."""
    wanted = set(items)
    pieces = [this_piece for this_piece in story.pieces if this_piece.id in wanted]
    of_pieces = {this_piece.id for this_piece in pieces}
    changed: dict[int, Item] = {}
    refused: list[str] = []

    def all_pieces(now: Story) -> Edit:
        refuse_locked(story, DIALOGUE)
        for this_piece in pieces:
            try:
                changed[this_piece.id] = piece(this_piece)
            except Refused as error:
                refused.append(str(error))
        if not changed:
            raise Refused(" ".join(dict.fromkeys(refused)))
        head = story.starts[story.index_of(next(iter(changed)))]
        edited, report = settle(story, now.with_items(changed), sources, did, made=tuple(changed), playhead=head)
        return edited, report.with_notes(dict.fromkeys(refused))

    def step(now: Story, item: int) -> Edit:
        return _on_its_kind(now, item, lambda: all_pieces(now), lambda: cover(now, item), lambda: sound(now, item))

    def told(done: list[int]) -> str:
        return f"{in_words(story, [*changed, *(item for item in done if item not in of_pieces)])}: {did}"

    laid = [item for item in items if item not in of_pieces]
    return step_by_step(story, sources, [*laid, *(this_piece.id for this_piece in pieces[:1])], step, told)


def _laid(story: Story, items: Iterable[int]) -> list[Cover | Sound]:
    """The covers, titles and sounds in place among these, in the order they begin. Refused where there are none."""
    clips: list[Item] = [story.item(item) for item in dict.fromkeys(items)]
    laid = [clip for clip in clips if not isinstance(clip, Piece) and story.at_of(clip.tether) is not None]
    if not laid:
        raise Refused("Covers, titles and sounds are moved in time. Pieces change places: drag them by their grip.")
    return sorted(laid, key=story.at)


@edit(entry("Move the selected clips: LENGTH", also="nudge, shift", typed="delta", items="several", delta="typed"))
def move_clips(story: Story, sources: Sources, items: list[int], delta: int) -> Edit:
    """Move covers, titles and sounds by `delta` frames, all by as much; pieces among them stay.

    cover   [a]   [b]      by +2    ->    ..[a]   [b]
    """
    if delta == 0:
        raise Refused("The clips are already there.")
    laid = _laid(story, items)
    draft, moved = moved_by(story, [clip.id for clip in laid], delta)
    summary = f"{in_words(story, moved)} moved {_way(delta)}"
    return settle(story, draft, sources, summary, made=tuple(moved), playhead=story.at(laid[0]) + delta)


@edit(entry("Selected clips to the playhead", "M", also="move", items="several", at="playhead"))
def clips_to(story: Story, sources: Sources, items: list[int], at: int) -> Edit:
    """Move covers, titles and sounds so that the first of them begins at story frame `at`; the others keep their
    distance from it."""
    return move_clips(story, sources, items, at - story.at(_laid(story, items)[0]))
