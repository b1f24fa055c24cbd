"""Edits on the dialogue line. Pure: (story, sources, request) -> (new story, report), or `Refused` and nothing changed.

Lengths and times are story frames. Each ends in `settle`, which keeps every tether on its word.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from kovel.core.story.along import closed, lanes, opened, out_of_step
from kovel.core.story.consequences import (
    DIALOGUE,
    Edit,
    check_handles,
    check_range,
    frames_of,
    lane_key,
    name_of,
    refuse_locked,
    settle,
    source_of,
)  # fmt: skip
from kovel.core.story.model import TAKES, Card, Cover, Piece, Refused, Report, Sources, Story, Tether
from kovel.core.story.offered import edit, entry
from kovel.core.story.tethers import as_cover
from kovel.core.time.timecode import stamp as clock


def cut_at(story: Story, frame: int) -> tuple[Story, int, dict[int, tuple[int, ...]]]:
    """The story with a join at `frame`; the index of the piece that begins there; what was split.

    |  A        |  B  |      ->      |  A   | A' |  B  |
            ^ frame                         ^
    """
    if frame == story.length:
        return story, len(story.pieces), {}
    i = story.index_at(frame)
    k = frame - story.starts[i]
    if k == 0:
        return story, i, {}
    p, n = story.pieces[i], story.next_id
    pieces = (
        *story.pieces[:i],
        part_of(p, p.start, k),
        replace(part_of(p, p.start + k, p.length - k), id=n),
        *story.pieces[i + 1 :],
    )
    return replace(story, pieces=pieces, next_id=n + 1), i + 1, {p.id: (p.id, n)}


def part_of(p: Piece, start: int, length: int) -> Piece:
    """That part of a piece: it comes and goes as the piece does where they share an edge."""
    own = p.settings
    if own:
        own = own.without("fade_in") if start > p.start else own
        own = own.without("fade_out") if start + length < p.end else own
    return replace(p, start=start, length=length, settings=own)


def cut_out(story: Story, a: int, b: int) -> tuple[Story, tuple[Piece, ...], int, dict[int, tuple[int, ...]]]:
    """The story without [a, b), the removed pieces, the index where they stood, what was split."""
    if not 0 <= a < b <= story.length:
        if a >= b:
            raise Refused("The range is empty. Set its end after its start.")
        raise Refused("The range runs past the end of the story.")
    mid, i, split = cut_at(story, a)
    mid, j, split2 = cut_at(mid, b)
    for old, ids in split2.items():  # the right part of a piece cut twice still descends from the first
        root = next((k for k, v in split.items() if old in v), old)
        split[root] = tuple(dict.fromkeys((*split.get(root, ()), *ids)))
    return replace(mid, pieces=mid.pieces[:i] + mid.pieces[j:]), mid.pieces[i:j], i, split


def placed(story: Story, i: int, new: Sequence[Piece]) -> Story:
    """The story with pieces put in at index i, under new ids in their order."""
    n = story.next_id
    rows = tuple(replace(p, id=n + k) for k, p in enumerate(new))
    return replace(story, pieces=story.pieces[:i] + rows + story.pieces[i:], next_id=n + len(rows))


def without(story: Story, pieces: Sequence[Piece]) -> Story:
    return replace(story, pieces=tuple(pieces))


def _new_piece(sources: Sources, rate_story: Story, source: int, start: int, length: int, take: str) -> Piece:
    s = check_range(sources, rate_story.rate, source, start, length)
    if take not in TAKES:
        raise Refused("Take both, picture or sound of it.")
    if (take == "picture" and not s.picture) or (take == "sound" and not s.sound):
        raise Refused(f"{s.name} has no {take}.")
    return Piece(0, source, start, length, take=take)


def _place_in(story: Story, at: int) -> None:
    if not 0 <= at <= story.length:
        raise Refused("The playhead is past the end of the story.")


@edit(entry("Add at the end", "B", source="source", start="start", length="hand length"))
def add_at_end(story: Story, sources: Sources, source: int, start: int, length: int, take: str = "both") -> Edit:
    """Add a range after the last piece."""
    return insert(story, sources, story.length, source, start, length, take)


@edit(entry("Insert", "N", at="playhead", source="source", start="start", length="hand length"))
def insert(story: Story, sources: Sources, at: int, source: int, start: int, length: int, take: str = "both") -> Edit:
    """Insert a range at story frame `at`; what follows moves down, a piece under `at` is split.

    | A      | B |   insert C at ^   ->   | A  | C | A' | B |
         ^
    """
    refuse_locked(story, DIALOGUE)
    p = _new_piece(sources, story, source, start, length, take)
    _place_in(story, at)
    return put_in(story, sources, at, [p], f"{sources[source].name}, {frames_of(length)}, {_where(story, at)}")


def _where(story: Story, at: int) -> str:
    return "at the end" if at == story.length else f"at {clock(at, story.rate)}"


def put_in(
    story: Story, sources: Sources, at: int, new: Sequence[Piece], did: str, *, stay: bool = False,
    along: frozenset[str] | None = None,
) -> Edit:  # fmt: skip
    """Put pieces in at `at`; `along`: the lanes that are cut there and give way (the story's own choice, if None)."""
    wanted, by = story.along if along is None else along, sum(p.length for p in new)
    draft = opened(story, sources, at, by, wanted) if at < story.length else story
    mid, i, split = cut_at(draft, at)
    made = tuple(mid.next_id + k for k in range(len(new)))
    head = at if stay else at + by
    out, report = settle(story, placed(mid, i, new), sources, did, split=split, made=made, playhead=head)
    return out, report.with_notes(out_of_step(story, at, by, wanted) if at < story.length else ())


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
    if not ranges or any(len(r) != 3 for r in ranges):
        raise Refused("There is nothing to put in. Choose something first.")
    new = [_new_piece(sources, story, source, start, length, "both") for source, start, length in ranges]
    _place_in(story, at)
    names = {sources[r[0]].name for r in ranges}
    what = names.pop() if len(names) == 1 else "Pieces"
    total = sum(p.length for p in new)
    did = f"{what}: {len(new)} piece{'s' if len(new) != 1 else ''}, {frames_of(total)}, {_where(story, at)}"
    return put_in(story, sources, at, new, did)


@edit()
def take_out(story: Story, sources: Sources, cuts: list[list[int]]) -> Edit:
    """Take several stretches [a, b) of the story out and close up: one edit, covers keep their words.

    | A ~~ A | B ~~~ B |   take out ~   ->   | A | A | B | B |
    """
    refuse_locked(story, DIALOGUE)
    if not cuts or any(len(c) != 2 for c in cuts):
        raise Refused(
            "There is nothing to take out: each stretch is its first frame and its end."
            if cuts
            else "There is nothing to take out."
        )
    edges = sorted((a, b) for a, b in cuts)
    if any(a >= b for a, b in edges) or edges[0][0] < 0 or edges[-1][1] > story.length:
        raise Refused("A stretch to take out is empty, or lies outside the story.")
    if any(b > a for (_, b), (a, _) in pairwise(edges)):
        raise Refused("Two stretches to take out overlap.")
    draft = story
    for a, b in reversed(edges):  # from the end, so that what is still to come lies where it lay
        draft = closed(draft, sources, a, b, story.along)
    pieces: list[Piece] = []
    parts: dict[int, tuple[int, ...]] = {}
    n, k = draft.next_id, 0
    for at, p in zip(story.starts, story.pieces, strict=False):
        end, t, first = at + p.length, at, True
        ids = []
        while k > 0 and edges[k - 1][1] > at:
            k -= 1
        stays = []
        while k < len(edges) and edges[k][0] < end:
            a, b = max(edges[k][0], at), min(edges[k][1], end)
            stays.append((t, a))
            t = max(t, b)
            k += 1
        for a, b in (*stays, (t, end)):
            if b > a:
                pieces.append(replace(part_of(p, p.start + a - at, b - a), id=p.id if first else n))
                ids.append(pieces[-1].id)
                n, first = n + (not first), False
        if ids != [p.id]:
            parts[p.id] = tuple(ids)
    total = sum(b - a for a, b in edges)
    did = f"Took out {len(edges)} stretch{'es' if len(edges) != 1 else ''}, {frames_of(total)}"
    new = replace(draft, pieces=tuple(pieces), next_id=n)
    out, report = settle(story, new, sources, did, split=parts, playhead=edges[0][0])
    return out, report.with_notes(out_of_step(story, edges[0][1], -total, story.along, several=len(edges) > 1))


def taken_out(story: Story, sources: Sources) -> list[tuple[int, Piece, int]]:
    """Where something of one recording was taken out between two pieces: (story frame, the piece before, frames gone)."""
    return [
        (story.starts[i + 1], p, q.start - p.end)
        for i, (p, q) in enumerate(pairwise(story.pieces))
        if p.source is not None and p.source == q.source and p.clock == q.clock and q.start > p.end
    ]


@edit(entry("Put back what was taken out after the piece", "R", piece="piece"))
def open_again(story: Story, sources: Sources, piece: int) -> Edit:
    """Put back what was taken out between a piece and the one after it, where both come from one recording.

    | A1 |A2 |   with .. between them in the recording   ->   | A1 .. A2 |
    """
    refuse_locked(story, DIALOGUE)
    i = story.index_of(piece)
    if i + 1 >= len(story.pieces):
        raise Refused("There is no piece after this one.")
    p, q = story.pieces[i], story.pieces[i + 1]
    if p.source is None or p.source != q.source or p.clock != q.clock or q.start < p.end or p.clock.held is not None:
        raise Refused("Nothing was taken out here: the two pieces do not follow each other in one recording.")
    whole = replace(p, length=q.end - p.start)
    gap = q.start - p.end
    did = f"{frames_of(gap)} put back" if gap else "Joined through"
    new = without(story, [*story.pieces[:i], whole, *story.pieces[i + 2 :]])
    # the join between the two is what is closed, so it goes without a word
    new = replace(new, joins=tuple(j for j in story.joins if (j.left, j.right) != (p.id, q.id)))
    return settle(story, new, sources, did, split={q.id: (p.id,), p.id: (p.id,)}, made=(p.id,), playhead=story.starts[i + 1])


@edit(
    entry("Space: LENGTH", typed="length", default="1s", at="playhead", length="typed"),
    entry("Gap on all lanes: LENGTH", typed="length", default="1s", at="playhead", length="typed", all_lanes=True),
    entry("Gap on all lanes as long as what is picked up", "Shift N", at="playhead", length="hand length", all_lanes=True),
)
def insert_space(story: Story, sources: Sources, at: int, length: int, all_lanes: bool = False) -> Edit:
    """Insert an intended gap of `length` frames; with `all_lanes` covers and sounds are cut there and give way as well."""
    refuse_locked(story, DIALOGUE)
    if length <= 0:
        raise Refused("A space needs a length of at least one frame.")
    _place_in(story, at)
    did = f"A space of {frames_of(length)}{' on all lanes' if all_lanes else ''}"
    wanted = frozenset(lanes(story)) if all_lanes else None
    return put_in(story, sources, at, [Piece(0, None, 0, length)], did, stay=True, along=wanted)


def _card(colour: str, text: str) -> Card:
    c = colour.lower()
    if len(c) != 7 or c[0] != "#" or any(x not in "0123456789abcdef" for x in c[1:]):
        raise Refused("A colour is written as # and six hexadecimal digits, like #1a2b3c.")
    if len(text) > 500:
        raise Refused("That is more text than a card holds: at most 500 characters.")
    return Card(c, text.strip())


@edit(
    entry("Black card: LENGTH", typed="length", default="3s", at="playhead", length="typed"),
    entry("Title card: TEXT", typed="text", default="Title", at="playhead", text="typed"),
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
    _place_in(story, at)
    did = f"A card{f' “{card.text.splitlines()[0]}”' if card.text else ''}, {frames_of(length)}"
    return put_in(story, sources, at, [Piece(0, None, 0, length, card)], did, stay=True)


@edit(
    entry("Colour of the card: #RRGGBB", typed="text", default="#000000", piece="piece", colour="typed"),
    entry("Text of the card: TEXT", typed="text", default="", piece="piece", text="typed"),
)
def set_card(story: Story, sources: Sources, piece: int, colour: str | None = None, text: str | None = None) -> Edit:
    """Change the colour or the words of a card, or both; what is not named stays. A space becomes a card."""
    refuse_locked(story, DIALOGUE)
    i = story.index_of(piece)
    p = story.pieces[i]
    if p.source is not None:
        raise Refused("That piece is no card.")
    was = p.card or Card()
    card = _card(was.colour if colour is None else colour, was.text if text is None else text)
    if p.card == card:
        raise Refused("The card shows that already.")
    new = without(story, [*story.pieces[:i], replace(p, card=card), *story.pieces[i + 1 :]])
    return settle(story, new, sources, "Card changed", made=(piece,), playhead=story.starts[i])


@edit(entry("Overwrite", "W", at="playhead", source="source", start="start", length="hand length"))
def overwrite(story: Story, sources: Sources, at: int, source: int, start: int, length: int, take: str = "both") -> Edit:
    """Put a range over [at, at+length): what stood there is replaced, the rest keeps its time.

    | A      | B      |   overwrite C   ->   | A  | C  | B'   |
         [C..]

    Only its picture: laid as cover, the talk runs on. Only its sound: what was seen there stays, as cover.
    """
    if take == "picture":
        from kovel.core.story.covers import lay_cover

        return lay_cover(story, sources, source, at=at, until=at + length, start=start)
    refuse_locked(story, DIALOGUE)
    p = _new_piece(sources, story, source, start, length, take)
    _place_in(story, at)
    end = min(at + length, story.length)
    if end == at:
        return insert(story, sources, at, source, start, length, take)
    mid, gone, i, split = cut_out(story, at, end)
    made = mid.next_id
    new = placed(mid, i, [p])
    if take == "sound":
        refuse_locked(story, lane_key(1))
        t = 0
        seen: list[Cover] = []
        for q in gone:
            if q.source is not None and q.source in sources and sources[q.source].picture and q.take != "sound":
                total = sources[q.source].length(story.rate)
                seen.append(as_cover(q, new.next_id + len(seen), Tether(made, start + t), total))
            t += q.length
        over = {c.id: a for a, b, c in story.spans if a < end and b > at}
        up = [replace(c, lane=c.lane + 1) if c.id in over else c for c in new.covers]
        # what is seen stays as it is: covers that began over the words replaced are tethered to those in their place
        up = [replace(c, tether=Tether(made, start + over[c.id] - at)) if at <= over.get(c.id, -1) < end else c for c in up]
        new = replace(new, covers=(*up, *seen), next_id=new.next_id + len(seen))
    did = f"{sources[source].name} over {clock(at, story.rate)} to {clock(at + length, story.rate)}"
    return settle(story, new, sources, did, split=split, made=(made,), playhead=at + length, keep_covers=take == "sound")


@edit(
    entry("Take out only the picture", a="range start", b="range end", what="=picture"),
    entry("Take out only the sound", a="range start", b="range end", what="=sound"),
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
    mid, i, split = cut_at(story, a)
    mid, j, split2 = cut_at(mid, b)
    for old, ids in split2.items():
        root = next((k for k, v in split.items() if old in v), old)
        split[root] = tuple(dict.fromkeys((*split.get(root, ()), *ids)))
    rest = "sound" if what == "picture" else "picture"
    rows, n = list(mid.pieces), mid.next_id
    for k in range(i, j):
        p = rows[k]
        s = sources.get(p.source) if p.source is not None else None
        has = s is not None and (s.picture if what == "picture" else s.sound) and p.take in ("both", what)
        if s is None or not has:
            continue
        other = (s.sound if what == "picture" else s.picture) and p.take == "both"
        rows[k] = replace(p, take=rest) if other else Piece(n, None, 0, p.length)  # nothing of it is left: a space
        n += not other
    if rows == list(mid.pieces):
        raise Refused(f"There is no {what} of the dialogue's own in that range.")
    made = tuple(p.id for p in rows[i:j])
    did = f"The {what} of {frames_of(b - a)} taken out at {clock(a, story.rate)}"
    return settle(story, replace(mid, pieces=tuple(rows), next_id=n), sources, did, split=split, made=made, playhead=a)


@edit(entry("Replace the piece with what is picked up", piece="piece", source="source", start="start"))
def replace_piece(
    story: Story, sources: Sources, piece: int, source: int, start: int | None = None, end: int | None = None,
    length: int | None = None,
) -> Edit:  # fmt: skip
    """Another range in a piece's place, of the same length unless another is said, from `start` on, or back-timed to `end`."""
    refuse_locked(story, DIALOGUE)
    i = story.index_of(piece)
    old = story.pieces[i]
    long = old.length if length is None else length
    begin = start if start is not None else end - long if end is not None else 0
    new_piece = _new_piece(sources, story, source, begin, long, old.take)
    made = story.next_id
    new = placed(without(story, [*story.pieces[:i], *story.pieces[i + 1 :]]), i, [replace(new_piece, group=old.group)])
    did = f"{sources[source].name} in place of {name_of(sources, old)}"
    same = {piece: (made,)}  # its joins and its heading go over to the new piece; what lay on its words comes loose
    new = replace(new, sections=tuple(replace(s, piece=made) if s.piece == piece else s for s in new.sections))
    return settle(story, new, sources, did, split=same if old.source == source else {}, made=(made,), playhead=story.starts[i])


@edit(entry("Lift, leave a space", "Shift X", asks=True, a="range start", b="range end"))
def lift(story: Story, sources: Sources, a: int, b: int) -> Edit:
    """Take out [a, b) and leave a space of the same length."""
    refuse_locked(story, DIALOGUE)
    mid, _, i, split = cut_out(story, a, b)
    made = mid.next_id
    new = placed(mid, i, [Piece(0, None, 0, b - a)])
    return settle(story, new, sources, f"Lifted {frames_of(b - a)}, leaving a space", split=split, made=(made,), playhead=a)


@edit(entry("Take out, close up", "X", asks=True, a="range start", b="range end"))
def extract(story: Story, sources: Sources, a: int, b: int) -> Edit:
    """Take out [a, b) and close up.

    | A   | B    | C |   extract   ->   | A | B' | C |
        [----)
    """
    refuse_locked(story, DIALOGUE)
    draft = closed(story, sources, a, b, story.along) if 0 <= a < b <= story.length else story
    new, _, _, split = cut_out(draft, a, b)
    out, report = settle(story, new, sources, f"Took out {frames_of(b - a)} and closed up", split=split, playhead=a)
    return out, report.with_notes(out_of_step(story, b, a - b, story.along))


@edit()
def remove(story: Story, sources: Sources, piece: int) -> Edit:
    """Extract one whole piece."""
    i = story.index_of(piece)
    return extract(story, sources, story.starts[i], story.starts[i + 1])


@edit(
    entry("Close this space", piece="piece"),
    entry("Close all spaces"),
)
def close_space(story: Story, sources: Sources, piece: int | None = None) -> Edit:
    """Take out one space, or (None) all of them. Whatever lies above or below stays with its words."""
    refuse_locked(story, DIALOGUE)
    empty = [p.id for p in story.pieces if p.source is None and p.card is None]
    gone = set(empty) if piece is None else {piece} & set(empty)
    if not gone:
        raise Refused("There is no space in the story." if piece is None else "That piece is no space.")
    at = story.starts[min(story.index_of(i) for i in gone)]
    new = without(story, [p for p in story.pieces if p.id not in gone])
    did = "Closed a space" if len(gone) == 1 else f"Closed {len(gone)} spaces"
    return settle(story, new, sources, did, playhead=at)


@edit(entry("Split", "S", at="playhead"))
def split(story: Story, sources: Sources, at: int) -> Edit:
    """Cut the piece under `at` in two; nothing moves."""
    refuse_locked(story, DIALOGUE)
    if not 0 < at < story.length or at in story.starts:
        raise Refused(
            "There is already a join at the playhead." if at in story.starts else "There is nothing to split at the playhead."
        )
    new, i, parts = cut_at(story, at)
    return settle(story, new, sources, f"Split at {clock(at, story.rate)}", split=parts, made=(new.pieces[i].id,), playhead=at)


@edit(entry("Join through", piece="piece"))
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
    new = replace(new, joins=tuple(j for j in story.joins if (j.left, j.right) != (p.id, q.id)))
    return settle(
        story, new, sources, "Joined through", split={q.id: (p.id,), p.id: (p.id,)}, made=(p.id,), playhead=story.starts[i + 1]
    )


@edit(
    entry("In edge of the piece: LENGTH", "[", typed="delta", default="1f", piece="piece", edge="=in", delta="typed"),
    entry("Out edge of the piece: LENGTH", "]", typed="delta", default="1f", piece="piece", edge="=out", delta="typed"),
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
    did = f"{name_of(sources, p)}: {edge} point {frames_of(delta)} {how}"
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
        raise Refused(f"That would leave nothing of {name_of(sources, p)}: it is {frames_of(p.length)} long.")
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


@edit(entry("Repeat the piece: NUMBER", typed="number", default="1", piece="piece", times="typed"))
def repeat(story: Story, sources: Sources, piece: int, times: int = 1) -> Edit:
    """The piece again, so many times, right after itself: a blow of the hammer three times over.

    | A | B |   A twice more   ->   | A | A | A | B |
    """
    refuse_locked(story, DIALOGUE)
    i = story.index_of(piece)
    p = story.pieces[i]
    if not 1 <= times <= 100:
        raise Refused("A piece is repeated 1 to 100 times.")
    did = f"{name_of(sources, p)} {times} time{'s' if times > 1 else ''} more"
    return put_in(story, sources, story.starts[i + 1], [replace(p, group=0)] * times, did)


@edit(entry("Swap with the next piece", "Y", first="piece", second="next piece"))
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


@edit(entry("Spread: a space of LENGTH between all pieces", typed="length", default="2s", every="typed"))
def spread(story: Story, sources: Sources, every: int) -> Edit:
    """Put a space of `every` frames between all pieces that have none between them: bites along a music bed.

    | A | B | C |   ->   | A |..| B |..| C |
    """
    refuse_locked(story, DIALOGUE)
    if every <= 0:
        raise Refused("A space needs a length of at least one frame.")
    rows: list[Piece] = []
    n = story.next_id
    for p in story.pieces:
        if rows and rows[-1].source is not None and p.source is not None:
            rows.append(Piece(n, None, 0, every))
            n += 1
        rows.append(p)
    if n == story.next_id:
        raise Refused("There are no two pieces side by side to put a space between.")
    new = replace(story, pieces=tuple(rows), next_id=n)
    return settle(
        story,
        new,
        sources,
        f"{n - story.next_id} space{'s' if n - story.next_id > 1 else ''} of {frames_of(every)} put in",
        playhead=0,
    )


@edit(
    entry("Lock {lane}", each="locks", lane="lane", locked=True),
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
