"""Trims that keep the rest in place: roll, slip, slide; and lengths set by another piece or by the playhead."""

from __future__ import annotations

from dataclasses import replace

from kovel.core.story.arrangement import trim, trimmed
from kovel.core.story.covers import trim_cover
from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import (
    DIALOGUE,
    Edit,
    capitalised,
    check_handles,
    frames_in_words,
    name_of,
    refuse_locked,
    source_of,
)
from kovel.core.story.line import without
from kovel.core.story.model import Piece, Refused, Report, Sources, Story
from kovel.core.story.seams import exposed
from kovel.core.story.settling import settle
from kovel.core.story.sound_edits import trim_sound
from kovel.core.time.timecode import stamp as clock


def _later(delta: int) -> str:
    return f"{frames_in_words(delta)} {'later' if delta > 0 else 'earlier'}"


@edit(
    entry(
        "Roll the seam: LENGTH",
        "Alt → ←",
        also="trim, roll edit",
        typed="delta",
        default="1f",
        piece="seam",
        delta="typed",
    )
)
def roll(story: Story, sources: Sources, piece: int, delta: int) -> Edit:
    """Move the seam before a piece by `delta` frames: one piece grows as the other shrinks, nothing else moves.

    roll +2:   [AAAA][BBBB]   ->   [AAAAAA][BB]
    """
    refuse_locked(story, DIALOGUE)
    index = story.index_of(piece)
    if index == 0:
        raise Refused("There is no seam before the first piece.")
    left = trimmed(story, sources, story.pieces[index - 1], "out", delta)
    right = trimmed(story, sources, story.pieces[index], "in", delta)
    new_story = without(story, [*story.pieces[: index - 1], left, right, *story.pieces[index + 1 :]])
    # where one recording runs on through the seam, its words only change from one piece to the other
    both = (left.id, right.id)
    split = {left.id: both, right.id: both} if left.source is not None and left.source == right.source else {}
    return settle(
        story,
        new_story,
        sources,
        f"Seam {_later(delta)}",
        split=split,
        made=(piece,),
        playhead=story.starts[index] + delta,
    )


@edit(entry("Roll the seam to the playhead", also="move the cut, roll edit", piece="seam", at="playhead"))
def roll_to(story: Story, sources: Sources, piece: int, at: int) -> Edit:
    """Move the seam before a piece to story frame `at`.

    roll to |:   [AAAA][BB|B]   ->   [AAAAAA|][B]
    """
    index = story.index_of(piece)
    if index and at == story.starts[index]:
        raise Refused("The seam is at the playhead already.")
    return roll(story, sources, piece, at - story.starts[index])


def _posed(story: Story, sources: Sources, poses: list[list[int]]) -> tuple[list[Piece], list[str]]:
    """(the pieces with their edges moved, what was done at each seam, in words)."""
    pieces = list(story.pieces)
    told_poses = []
    for pose_row in poses:
        if len(pose_row) != 3:
            raise Refused("Of each seam: its piece, and by how many frames its two edges move.")
        index = story.index_of(pose_row[0])
        if index == 0:
            raise Refused("There is no seam before the first piece.")
        for number, edge, delta in ((index - 1, "out", pose_row[1]), (index, "in", pose_row[2])):
            if delta:
                pieces[number] = trimmed(story, sources, pieces[number], edge, delta)
        told_poses.append(f"At {clock(story.starts[index], story.rate)}: out {_by(pose_row[1])}, in {_by(pose_row[2])}")
    return pieces, told_poses


@edit()
def set_poses(story: Story, sources: Sources, poses: list[list[int]]) -> Edit:
    """Move the two edges of several seams at once: of each [piece after it, frames its left piece ends later, frames it
    begins later].

    [AAAA|BBBB]  out -1, in +2  ->  [AAA|BB]
    """
    refuse_locked(story, DIALOGUE)
    pieces, told_poses = _posed(story, sources, poses)
    if not told_poses or pieces == list(story.pieces):
        raise Refused("No edge would move.")
    many = f"{len(told_poses)} jumps" if len(told_poses) > 1 else "the jump"
    index = story.index_of(poses[0][0])
    head = sum(piece.length for piece in pieces[:index])
    new_story, report = settle(
        story, without(story, pieces), sources, f"Closest pose at {many}", made=(poses[0][0],), playhead=head
    )
    now_exposed = {seam.right.id for seam in exposed(new_story, sources) if seam.at in report.exposed}
    if now_exposed <= {pose_row[0] for pose_row in poses}:  # the same jumps, a little elsewhere
        report = replace(report, exposed=(), notes=tuple(note for note in report.notes if "exposed now" not in note))
    if len(told_poses) == 1:
        return new_story, report
    more = [f"And {len(told_poses) - 8} more."] if len(told_poses) > 8 else []
    return new_story, replace(report.with_notes([*told_poses[:8], *more]), judged=True)


def _by(delta: int) -> str:
    return "as it is" if not delta else f"{frames_in_words(abs(delta))} {'later' if delta > 0 else 'earlier'}"


@edit(entry("Slip the piece: LENGTH", also="slip edit", typed="delta", default="1f", piece="piece", delta="typed"))
def slip(story: Story, sources: Sources, piece: int, delta: int) -> Edit:
    """Show another part of the recording in a piece that keeps its place and length. Positive: later material.

    recording  ..[AAAA]......   ->   ....[AAAA]....
    """
    refuse_locked(story, DIALOGUE)
    index = story.index_of(piece)
    this_piece = story.pieces[index]
    new_piece = slipped(story, sources, this_piece, delta)
    draft = without(story, [*story.pieces[:index], new_piece, *story.pieces[index + 1 :]])
    return settle(
        story,
        draft,
        sources,
        f"{name_of(sources, this_piece)} slipped {_later(delta)}",
        made=(piece,),
        playhead=story.starts[index],
    )


def slipped(story: Story, sources: Sources, piece: Piece, delta: int) -> Piece:
    """A piece that shows what lies `delta` frames later in its recording, or `Refused`."""
    if piece.source is None:
        raise Refused(capitalised(f"{name_of(sources, piece)} has nothing to slip."))
    if delta == 0:
        raise Refused("It is already there.")
    new_piece = replace(piece, start=piece.start + delta)
    check_handles(
        source_of(sources, piece.source),
        story.rate,
        (piece.start, piece.end),
        (new_piece.start, new_piece.end),
        piece.clock,
    )
    return new_piece


@edit(entry("Slide the piece: LENGTH", also="slide edit", typed="delta", default="1f", piece="piece", delta="typed"))
def slide(story: Story, sources: Sources, piece: int, delta: int) -> Edit:
    """Move a piece between its neighbours, which give way: one grows, the other shrinks.

    slide +2:   [AAAA][BB][CCCC]   ->   [AAAAAA][BB][CC]
    """
    refuse_locked(story, DIALOGUE)
    index = story.index_of(piece)
    if not 0 < index < len(story.pieces) - 1:
        raise Refused("A piece slides between two neighbours; this one has only one.")
    left = trimmed(story, sources, story.pieces[index - 1], "out", delta)
    right = trimmed(story, sources, story.pieces[index + 1], "in", delta)
    new_story = without(
        story, [*story.pieces[: index - 1], left, story.pieces[index], right, *story.pieces[index + 2 :]]
    )
    summary = f"{name_of(sources, story.pieces[index])} slid {_later(delta)}"
    return settle(story, new_story, sources, summary, made=(piece,), playhead=story.starts[index] + delta)


@edit(entry("Match the length of the piece before", piece="piece"))
def match_length(story: Story, sources: Sources, piece: int) -> Edit:
    """Make a piece as long as the one before it, at its out point; what follows ripples."""
    index = story.index_of(piece)
    if index == 0:
        raise Refused("There is no piece before this one.")
    delta = story.pieces[index - 1].length - story.pieces[index].length
    if delta == 0:
        raise Refused("It is already as long as the piece before.")
    new, report = trim(story, sources, piece, "out", delta)
    return new, replace(report, playhead=story.starts[index])


@edit(
    entry(
        "Length of what is chosen: LENGTH",
        also="duration, how long",
        typed="length",
        items="all chosen",
        length="typed",
    )
)
def set_lengths(story: Story, sources: Sources, items: list[int], length: int) -> Edit:
    """Make several pieces, covers and sounds `length` frames long, each at its out point; in one step. Those that
    cannot be are told.

    | A     | B | C  |   each as long as ^   ->   | A | B | C |
        ^
    """
    now, made_ids, notes = story, list[int](), list[str]()
    for item in dict.fromkeys(items):
        if now.item(item).length == length:
            continue
        try:
            now, report = set_length(now, sources, item, length)
        except Refused as error:
            if len(items) == 1:
                raise
            notes.append(
                f"{capitalised(name_of(sources, now.item(item)))} stays {frames_in_words(now.item(item).length)} long: "
                f"{error}"
            )
            continue
        made_ids.append(item)
        notes += report.notes
    if not made_ids:
        raise Refused(
            " ".join(notes) or f"{'It is' if len(items) == 1 else 'They are'} already {frames_in_words(length)} long."
        )
    said_lengths = (
        f"{len(made_ids)} made {frames_in_words(length)} long"
        if len(items) > 1
        else f"Made {frames_in_words(length)} long"
    )
    return now, Report(said_lengths, tuple(dict.fromkeys(notes)), tuple(made_ids))


@edit()
def set_length(story: Story, sources: Sources, item: int, length: int) -> Edit:
    """Make a piece, card, cover or sound `length` frames long at its out point; after a piece the rest ripples."""
    if length < 1:
        raise Refused("A length is one frame or longer.")
    if any(piece.id == item for piece in story.pieces):
        return trim(story, sources, item, "out", length - story.piece(item).length)
    if any(cover.id == item for cover in (*story.covers, *story.loose)):
        return trim_cover(story, sources, item, "out", length - story.cover(item).length)
    return trim_sound(story, sources, item, "out", length - story.sound(item).length)


@edit(entry("Extend to the playhead", also="trim to playhead", piece="piece", at="playhead"))
def extend_to(story: Story, sources: Sources, piece: int, at: int) -> Edit:
    """Bring a piece's nearer edge to story frame `at`: the seam there rolls, so that nothing else moves.

    | A    | B    |   extend A to ^   ->   | A       | B |
                ^
    """
    index = story.index_of(piece)
    start, end = story.starts[index], story.starts[index + 1]
    if at <= start and index > 0:
        return roll(story, sources, piece, at - start)
    if start < at <= story.length and at != end:
        if index + 1 < len(story.pieces):
            return roll(story, sources, story.pieces[index + 1].id, at - end)
        return trim(story, sources, piece, "out", at - end)
    raise Refused(
        "The edge is already there." if at in (start, end) else "The playhead is not where this piece could reach."
    )


@edit(entry("Top: cut away up to the playhead", also="trim start to playhead, head", asks=True, at="playhead"))
def top(story: Story, sources: Sources, at: int) -> Edit:
    """Take away the piece under the playhead up to it; what follows closes up."""
    piece, begin = _under(story, at)
    if at == begin:
        raise Refused("The piece begins at the playhead.")
    new, report = trim(story, sources, piece.id, "in", at - begin)
    return new, replace(report, playhead=begin)


@edit(entry("Tail: cut away from the playhead on", also="trim end to playhead", asks=True, at="playhead"))
def tail(story: Story, sources: Sources, at: int) -> Edit:
    """Take away the piece under the playhead from it on; what follows closes up."""
    piece, begin = _under(story, at)
    if at == begin:
        raise Refused("The piece begins at the playhead: nothing of it would be left.")
    new, report = trim(story, sources, piece.id, "out", at - begin - piece.length)
    return new, replace(report, playhead=at - 1)  # still on the piece


def _under(story: Story, at: int) -> tuple[Piece, int]:
    index = story.index_at(at)
    return story.pieces[index], story.starts[index]
