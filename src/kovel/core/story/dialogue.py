"""Edits that put something into the dialogue line. Pure: (story, sources, request) -> (new story, report), or `Refused`
and nothing changed.

Lengths and times are story frames. Each ends in `settle`, which keeps every tether on its word.
"""

from __future__ import annotations

from dataclasses import replace

from kovel.core.story.along import lanes
from kovel.core.story.covers import lay_cover
from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import DIALOGUE, Edit, frames_in_words, lane_key, name_of, refuse_locked
from kovel.core.story.line import cut_out, new_piece, place_in, placed, put_in, where_it_goes, without
from kovel.core.story.model import Card, Cover, Piece, Refused, Sources, Story, Tether
from kovel.core.story.settling import settle
from kovel.core.story.tethers import as_cover
from kovel.core.time.timecode import stamp as clock


@edit(entry("Add at the end", "B", also="append, assemble", source="source", start="start", length="hand length"))
def add_at_end(story: Story, sources: Sources, source: int, start: int, length: int, take: str = "both") -> Edit:
    """Add a range after the last piece."""
    return insert(story, sources, story.length, source, start, length, take)


@edit(entry("Insert", "N", also="splice", at="playhead", source="source", start="start", length="hand length"))
def insert(story: Story, sources: Sources, at: int, source: int, start: int, length: int, take: str = "both") -> Edit:
    """Insert a range at story frame `at`; what follows moves down, a piece under `at` is split.

    | A      | B |   insert C at ^   ->   | A  | C | A' | B |
         ^
    """
    refuse_locked(story, DIALOGUE)
    piece = new_piece(sources, story, source, start, length, take)
    place_in(story, at)
    return put_in(
        story, sources, at, [piece], f"{sources[source].name}, {frames_in_words(length)}, {where_it_goes(story, at)}"
    )


@edit(
    entry("Add all that is picked up at the end", "B", at="story end", ranges="ranges"),
    entry("Insert all that is picked up", "N", at="playhead", ranges="ranges"),
)
def insert_several(story: Story, sources: Sources, at: int, ranges: list[list[int]]) -> Edit:
    """Insert ranges [source, start, length] one after the other at story frame `at`: one edit, in their order.

    | A      | B |   insert C D at ^   ->   | A  | C | D | A' | B |
         ^
    """
    refuse_locked(story, DIALOGUE)
    if not ranges or any(len(span) != 3 for span in ranges):
        raise Refused("There is nothing to put in. Choose something first.")
    new_pieces = [new_piece(sources, story, source, start, length, "both") for source, start, length in ranges]
    place_in(story, at)
    names = {sources[span[0]].name for span in ranges}
    piece_name = names.pop() if len(names) == 1 else "Pieces"
    total = sum(piece.length for piece in new_pieces)
    count = f"{len(new_pieces)} piece{'s' if len(new_pieces) != 1 else ''}"
    summary = f"{piece_name}: {count}, {frames_in_words(total)}, {where_it_goes(story, at)}"
    return put_in(story, sources, at, new_pieces, summary)


@edit(
    entry("Space: LENGTH", also="gap, leader, slug", typed="length", default="1s", at="playhead", length="typed"),
    entry(
        "Gap on all lanes: LENGTH",
        also="space, insert time",
        typed="length",
        default="1s",
        at="playhead",
        length="typed",
        all_lanes=True,
    ),
    entry("Gap on all lanes as long as what is picked up", "Shift N", points="lay gap"),
)
def insert_space(story: Story, sources: Sources, at: int, length: int, all_lanes: bool = False) -> Edit:
    """Insert an intended gap of `length` frames; with `all_lanes` covers and sounds are cut there and give way as
    well."""
    refuse_locked(story, DIALOGUE)
    if length <= 0:
        raise Refused("A space needs a length of at least one frame.")
    place_in(story, at)
    summary = f"A space of {frames_in_words(length)}{' on all lanes' if all_lanes else ''}"
    wanted = frozenset(lanes(story)) if all_lanes else None
    return put_in(story, sources, at, [Piece(0, None, 0, length)], summary, stay=True, along=wanted)


def _card(colour: str, text: str) -> Card:
    lower_colour = colour.lower()
    if (
        len(lower_colour) != 7
        or lower_colour[0] != "#"
        or any(hex_digit not in "0123456789abcdef" for hex_digit in lower_colour[1:])
    ):
        raise Refused("A colour is written as # and six hexadecimal digits, like #1a2b3c.")
    if len(text) > 500:
        raise Refused("That is more text than a card holds: at most 500 characters.")
    return Card(lower_colour, text.strip())


@edit(
    entry("Black card: LENGTH", also="black, slug", typed="length", default="3s", at="playhead", length="typed"),
    entry("Title card: TEXT", also="card, intertitle", typed="text", default="Title", at="playhead", text="typed"),
)
def insert_card(
    story: Story, sources: Sources, at: int, length: int | None = None, colour: str = "#000000", text: str = ""
) -> Edit:
    """Insert a card: black or a colour, with words on it or without (black leader: 3 s, common practice)."""
    refuse_locked(story, DIALOGUE)
    length = 3 * story.rate.nominal if length is None else length
    if length <= 0:
        raise Refused("A card needs a length of at least one frame.")
    card = _card(colour, text)
    place_in(story, at)
    summary = f"A card{f' “{card.text.splitlines()[0]}”' if card.text else ''}, {frames_in_words(length)}"
    return put_in(story, sources, at, [Piece(0, None, 0, length, card)], summary, stay=True)


@edit(
    entry("Colour of the card: #RRGGBB", typed="text", default="#000000", piece="piece", colour="typed"),
    entry("Text of the card: TEXT", typed="text", default="", piece="piece", text="typed"),
)
def set_card(story: Story, sources: Sources, piece: int, colour: str | None = None, text: str | None = None) -> Edit:
    """Change the colour or the words of a card, or both; what is not named stays. A space becomes a card."""
    refuse_locked(story, DIALOGUE)
    index = story.index_of(piece)
    this_piece = story.pieces[index]
    if this_piece.source is not None:
        raise Refused("That piece is no card.")
    was = this_piece.card or Card()
    card = _card(was.colour if colour is None else colour, was.text if text is None else text)
    if this_piece.card == card:
        raise Refused("The card shows that already.")
    new_story = without(story, [*story.pieces[:index], replace(this_piece, card=card), *story.pieces[index + 1 :]])
    return settle(story, new_story, sources, "Card changed", made=(piece,), playhead=story.starts[index])


@edit(entry("Overwrite", "W", at="playhead", source="source", start="start", length="hand length"))
def overwrite(
    story: Story, sources: Sources, at: int, source: int, start: int, length: int, take: str = "both"
) -> Edit:
    """Put a range over [at, at+length): what stood there is replaced, the rest keeps its time.

    | A      | B      |   overwrite C   ->   | A  | C  | B'   |
         [C..]

    Only its picture: laid as cover, the talk runs on. Only its sound: what was seen there stays, as cover.
    """
    if take == "picture":
        return lay_cover(story, sources, source, at=at, until=at + length, start=start)
    refuse_locked(story, DIALOGUE)
    piece = new_piece(sources, story, source, start, length, take)
    place_in(story, at)
    end = min(at + length, story.length)
    if end == at:
        return insert(story, sources, at, source, start, length, take)
    mid, gone, piece_index, split = cut_out(story, at, end)
    made_id = mid.next_id
    new_story = placed(mid, piece_index, [piece])
    if take == "sound":
        refuse_locked(story, lane_key(1))
        t = 0
        seen: list[Cover] = []
        for this_piece in gone:
            if (
                this_piece.source is not None
                and this_piece.source in sources
                and sources[this_piece.source].picture
                and this_piece.take != "sound"
            ):
                total = sources[this_piece.source].length(story.rate)
                seen.append(as_cover(this_piece, new_story.next_id + len(seen), Tether(made_id, start + t), total))
            t += this_piece.length
        over = {cover.id: start for start, until, cover in story.spans if start < end and until > at}
        up = [replace(cover, lane=cover.lane + 1) if cover.id in over else cover for cover in new_story.covers]
        # what is seen stays as it is: covers that began over the words replaced are tethered to those in their place
        up = [
            replace(cover, tether=Tether(made_id, start + over[cover.id] - at))
            if at <= over.get(cover.id, -1) < end
            else cover
            for cover in up
        ]
        new_story = replace(new_story, covers=(*up, *seen), next_id=new_story.next_id + len(seen))
    summary = f"{sources[source].name} over {clock(at, story.rate)} to {clock(at + length, story.rate)}"
    return settle(
        story,
        new_story,
        sources,
        summary,
        split=split,
        made=(made_id,),
        playhead=at + length,
        keep_covers=take == "sound",
    )


@edit()
def overwrite_several(story: Story, sources: Sources, at: int, ranges: list[list[int]]) -> Edit:
    """Put ranges [source, start, length] one after the other over what stands from story frame `at` on: one edit.

    | A      | B      |   overwrite C D   ->   | A  | C | D | B' |
         [C)[D)
    """
    if not ranges or any(len(span) != 3 for span in ranges):
        raise Refused("There is nothing to overwrite with. Pick bites or shots up in the shelf first.")
    refuse_locked(story, DIALOGUE)
    new_pieces = [new_piece(sources, story, source, start, length, "both") for source, start, length in ranges]
    place_in(story, at)
    total = sum(piece.length for piece in new_pieces)
    end = min(at + total, story.length)
    if end == at:
        return insert_several(story, sources, at, ranges)
    mid, _, piece_index, split = cut_out(story, at, end)
    made = tuple(mid.next_id + number for number in range(len(new_pieces)))
    count = f"{len(new_pieces)} piece{'s' if len(new_pieces) > 1 else ''}"
    return settle(
        story,
        placed(mid, piece_index, new_pieces),
        sources,
        f"{count} over {clock(at, story.rate)} to {clock(at + total, story.rate)}",
        split=split,
        made=made,
        playhead=at + total,
    )


@edit(entry("Replace the piece with what is picked up", piece="piece", source="source", start="start"))
def replace_piece(
    story: Story,
    sources: Sources,
    piece: int,
    source: int,
    start: int | None = None,
    end: int | None = None,
    length: int | None = None,
) -> Edit:
    """Another range in a piece's place, of the same length unless another is said, from `start` on, or back-timed to
    `end`."""
    refuse_locked(story, DIALOGUE)
    index = story.index_of(piece)
    old_piece = story.pieces[index]
    long = old_piece.length if length is None else length
    begin = start if start is not None else end - long if end is not None else 0
    other = new_piece(sources, story, source, begin, long, old_piece.take)
    made_id = story.next_id
    new_story = placed(
        without(story, [*story.pieces[:index], *story.pieces[index + 1 :]]),
        index,
        [replace(other, group=old_piece.group)],
    )
    summary = f"{sources[source].name} in place of {name_of(sources, old_piece)}"
    same = {
        piece: (made_id,)
    }  # its transitions and its heading go over to the new piece; what lay on its words comes loose
    new_story = replace(
        new_story,
        sections=tuple(
            replace(section, piece=made_id) if section.piece == piece else section for section in new_story.sections
        ),
    )
    return settle(
        story,
        new_story,
        sources,
        summary,
        split=same if old_piece.source == source else {},
        made=(made_id,),
        playhead=story.starts[index],
    )


@edit(
    entry(
        "Repeat the piece: NUMBER",
        also="duplicate, copy, loop",
        typed="number",
        default="1",
        piece="piece",
        times="typed",
    )
)
def repeat(story: Story, sources: Sources, piece: int, times: int = 1) -> Edit:
    """The piece again, so many times, right after itself: a blow of the hammer three times over.

    | A | B |   A twice more   ->   | A | A | A | B |
    """
    refuse_locked(story, DIALOGUE)
    index = story.index_of(piece)
    this_piece = story.pieces[index]
    if not 1 <= times <= 100:
        raise Refused("A piece is repeated 1 to 100 times.")
    summary = f"{name_of(sources, this_piece)} {times} time{'s' if times > 1 else ''} more"
    return put_in(story, sources, story.starts[index + 1], [replace(this_piece, group=0)] * times, summary)


@edit(entry("Spread: a space of LENGTH between all pieces", typed="length", default="2s", every="typed"))
def spread(story: Story, sources: Sources, every: int) -> Edit:
    """Put a space of `every` frames between all pieces that have none between them: bites along a music bed.

    | A | B | C |   ->   | A |..| B |..| C |
    """
    refuse_locked(story, DIALOGUE)
    if every <= 0:
        raise Refused("A space needs a length of at least one frame.")
    pieces: list[Piece] = []
    next_id = story.next_id
    for piece in story.pieces:
        if pieces and pieces[-1].source is not None and piece.source is not None:
            pieces.append(Piece(next_id, None, 0, every))
            next_id += 1
        pieces.append(piece)
    if next_id == story.next_id:
        raise Refused("There are no two pieces side by side to put a space between.")
    new_story = replace(story, pieces=tuple(pieces), next_id=next_id)
    return settle(
        story,
        new_story,
        sources,
        f"{next_id - story.next_id} space{'s' if next_id - story.next_id > 1 else ''} of {frames_in_words(every)} put "
        "in",
        playhead=0,
    )
