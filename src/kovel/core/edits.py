"""Edits on the dialogue line. Pure: (story, sources, request) -> (new story, report), or `Refused` and nothing changed.

Lengths and times are story frames. Each ends in `settle`, which keeps every tether on its word.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from kovel.core.rate import Rate
from kovel.core.seams import exposed
from kovel.core.story import Cover, Piece, Refused, Report, Source, Sources, Story, Tether
from kovel.core.timecode import running

DIALOGUE = "dialogue"
Edit = tuple[Story, Report]


def lane_key(lane: int) -> str:
    """The name under which a cover lane is locked."""
    return f"cover {lane}"


def refuse_locked(story: Story, lane: str) -> None:
    """Refuse a change to a locked lane."""
    if lane in story.locked:
        raise Refused(f"The {lane} lane is locked. Unlock it to change what lies on it.")


def frames_of(n: int) -> str:
    return "1 frame" if abs(n) == 1 else f"{abs(n)} frames"


def clock(frame: int, rate: Rate) -> str:
    """Story time for messages, `0:14+06`: seconds and frames."""
    s = int(frame / rate.fps)
    return f"{running(frame, rate)}+{frame - int(-(-s * rate.fps // 1)):02d}"


def source_of(sources: Sources, source: int) -> Source:
    try:
        return sources[source]
    except KeyError:
        raise Refused("That recording is not in this project any more.") from None


def check_range(sources: Sources, rate: Rate, source: int, start: int, length: int) -> Source:
    """Refuse an empty range, or one that leaves its recording."""
    s = source_of(sources, source)
    total = s.length(rate)
    if length <= 0:
        raise Refused("In and out are at the same place: the range is empty. Set the out point after the in point.")
    if start < 0:
        raise Refused(f"That begins {frames_of(start)} before the start of {s.name}.")
    if total is not None and start + length > total:
        raise Refused(f"That runs {frames_of(start + length - total)} past the end of {s.name}.")
    return s


def check_handles(s: Source, rate: Rate, old: tuple[int, int], new: tuple[int, int]) -> None:
    """Refuse a trim for which the recording has no material, saying how much there is."""
    total = s.length(rate)
    if new[0] < 0:
        have, edge, where = old[0], "before this in point", "begins"
        asked = old[0] - new[0]
    elif total is not None and new[1] > total:
        have, edge, where = total - old[1], "after this out point", "ends"
        asked = new[1] - old[1]
    else:
        return
    raise Refused(
        f"{s.name} has {frames_of(have)} {edge}, not {asked}." if have else f"{s.name} {where} here: there is nothing {edge}."
    )


def settle(
    old: Story, pieces: Sequence[Piece], sources: Sources, did: str, *, split: dict[int, tuple[int, ...]] | None = None,
    made: tuple[int, ...] = (), next_id: int | None = None, playhead: int | None = None, covers: Sequence[Cover] | None = None,
) -> Edit:  # fmt: skip
    """Build the new story: tethers follow their words, the rest comes loose, returning words take theirs back.

    `split` says which pieces an old piece became. A cover whose word left waits in `loose`; a loose cover whose word
    is back goes in place again. Two covers that now meet on one lane: the later start moves up to a free lane.
    """
    split = split or {}
    wanted = {i for ids in split.values() for i in ids}
    new = Story(old.rate, tuple(pieces), (), (), old.locked, next_id or old.next_id)
    by_id = {p.id: p for p in new.pieces if p.id in wanted}
    placed: list[Cover] = []
    loose: list[Cover] = []
    loosened, returned = [], []
    was_loose = {c.id for c in old.loose}
    for c in (*(old.covers if covers is None else covers), *old.loose):
        t = c.tether
        for pid in split.get(t.piece, ()):
            if pid in by_id and by_id[pid].holds(t.moment):
                t = Tether(pid, t.moment)
                break
        if t is not c.tether:
            c = replace(c, tether=t)
        if new.at_of(t) is None:
            loose.append(c)
            if c.id not in was_loose:
                loosened.append(c.id)
        else:
            placed.append(c)
            if c.id in was_loose:
                returned.append(c.id)
    placed, lifted = _separate(new, placed)
    new = replace(new, covers=tuple(placed), loose=tuple(loose))
    notes = []
    name = {c.id: sources[c.source].name for c in (*placed, *loose) if c.source in sources}
    notes += [f"{name.get(i, 'A cover')} came loose: its word left the story. It waits in the tray." for i in loosened]
    notes += [f"{name.get(i, 'A cover')} is back over its word." for i in returned]
    notes += [f"{name.get(i, 'A cover')} moved to lane {lane}, so that both covers keep their words." for i, lane in lifted]
    before = {j.key for j in exposed(old, sources)}
    jumps = [j for j in exposed(new, sources) if j.key not in before]
    if jumps:
        where = ", ".join(clock(j.at, new.rate) for j in jumps[:3])
        notes.append(f"{'A jump cut is' if len(jumps) == 1 else f'{len(jumps)} jump cuts are'} exposed now (at {where}).")
    report = Report(did, tuple(notes), made, tuple(loosened), tuple(returned), tuple(j.at for j in jumps), playhead)
    return new, report


def _separate(story: Story, covers: list[Cover]) -> tuple[list[Cover], list[tuple[int, int]]]:
    """Covers sorted by place, no two overlapping on a lane; the later start yields upwards."""
    rows = sorted(((story.at_of(c.tether) or 0, c) for c in covers), key=lambda r: (r[0], r[1].lane, r[1].id))
    ends: dict[int, int] = {}
    out, lifted = [], []
    for at, c in rows:
        lane = c.lane
        while ends.get(lane, 0) > at:
            lane += 1
        if lane != c.lane:
            lifted.append((c.id, lane))
            c = replace(c, lane=lane)
        ends[lane] = max(ends.get(lane, 0), at + c.length)
        out.append(c)
    return out, lifted


def _cut_at(story: Story, frame: int, next_id: int) -> tuple[list[Piece], int, dict[int, tuple[int, ...]], int]:
    """Pieces with a join at `frame`; the index of the piece that begins there; what was split; the next free id.

    |  A        |  B  |      ->      |  A   | A' |  B  |
            ^ frame                         ^
    """
    pieces = list(story.pieces)
    if frame == story.length:
        return pieces, len(pieces), {}, next_id
    i = story.index_at(frame)
    k = frame - story.starts[i]
    if k == 0:
        return pieces, i, {}, next_id
    p = pieces[i]
    pieces[i : i + 1] = [replace(p, length=k), Piece(next_id, p.source, p.start + k, p.length - k)]
    return pieces, i + 1, {p.id: (p.id, next_id)}, next_id + 1


def _cut_out(story: Story, a: int, b: int) -> tuple[list[Piece], list[Piece], int, dict[int, tuple[int, ...]], int]:
    """Pieces without [a, b), the removed ones, the index where they stood, what was split, the next free id."""
    if not 0 <= a < b <= story.length:
        if a >= b:
            raise Refused("The range is empty. Set its end after its start.")
        raise Refused("The range runs past the end of the story.")
    pieces, i, split, n = _cut_at(story, a, story.next_id)
    mid = replace(story, pieces=tuple(pieces))
    pieces, j, split2, n = _cut_at(mid, b, n)
    for old, ids in split2.items():  # the right part of a piece cut twice still descends from the first
        root = next((k for k, v in split.items() if old in v), old)
        split[root] = tuple(dict.fromkeys((*split.get(root, ()), *ids)))
    return pieces[:i] + pieces[j:], pieces[i:j], i, split, n


def add_at_end(story: Story, sources: Sources, source: int, start: int, length: int) -> Edit:
    """Add a range after the last piece."""
    return insert(story, sources, story.length, source, start, length)


def insert(story: Story, sources: Sources, at: int, source: int, start: int, length: int) -> Edit:
    """Insert a range at story frame `at`; what follows moves down, a piece under `at` is split.

    | A      | B |   insert C at ^   ->   | A  | C | A' | B |
         ^
    """
    refuse_locked(story, DIALOGUE)
    s = check_range(sources, story.rate, source, start, length)
    if not 0 <= at <= story.length:
        raise Refused("The playhead is past the end of the story.")
    pieces, i, split, n = _cut_at(story, at, story.next_id)
    pieces.insert(i, Piece(n, source, start, length))
    what = "at the end" if at == story.length else f"at {clock(at, story.rate)}"
    return settle(
        story, pieces, sources, f"{s.name}, {frames_of(length)}, {what}",
        split=split, made=(n,), next_id=n + 1, playhead=at + length,
    )  # fmt: skip


def insert_several(story: Story, sources: Sources, at: int, ranges: list[list[int]]) -> Edit:
    """Insert ranges [source, start, length] one after the other at story frame `at`: one edit, in their order.

    | A      | B |   insert C D at ^   ->   | A  | C | D | A' | B |
         ^
    """
    refuse_locked(story, DIALOGUE)
    if not ranges:
        raise Refused("There is nothing to put in. Choose a subclip first.")
    if any(len(r) != 3 for r in ranges):
        raise Refused("Each range needs a recording, a start and a length.")
    names = [check_range(sources, story.rate, *r).name for r in ranges]
    if not 0 <= at <= story.length:
        raise Refused("The playhead is past the end of the story.")
    pieces, i, split, n = _cut_at(story, at, story.next_id)
    new = [Piece(n + k, *r) for k, r in enumerate(ranges)]
    pieces[i:i] = new
    total = sum(p.length for p in new)
    what = names[0] if len(set(names)) == 1 else "Pieces"
    where = "at the end" if at == story.length else f"at {clock(at, story.rate)}"
    return settle(
        story, pieces, sources, f"{what}: {len(new)} piece{'s' if len(new) != 1 else ''}, {frames_of(total)}, {where}",
        split=split, made=tuple(p.id for p in new), next_id=n + len(new), playhead=at + total,
    )  # fmt: skip


def take_out(story: Story, sources: Sources, cuts: list[list[int]]) -> Edit:
    """Take several stretches [a, b) of the story out and close up: one edit, covers keep their words.

    | A ~~ A | B ~~~ B |   take out ~   ->   | A | A | B | B |
    """
    refuse_locked(story, DIALOGUE)
    if not cuts:
        raise Refused("There is nothing to take out.")
    edges = sorted((a, b) for a, b in cuts)
    if any(a >= b for a, b in edges) or edges[0][0] < 0 or edges[-1][1] > story.length:
        raise Refused("A stretch to take out is empty, or lies outside the story.")
    if any(b > a for (_, b), (a, _) in pairwise(edges)):
        raise Refused("Two stretches to take out overlap.")
    pieces: list[Piece] = []
    parts: dict[int, tuple[int, ...]] = {}
    n, k = story.next_id, 0
    for at, p in zip(story.starts, story.pieces, strict=False):
        end, t, first = at + p.length, at, True
        ids = []
        while k > 0 and edges[k - 1][1] > at:
            k -= 1
        while k < len(edges) and edges[k][0] < end:
            a, b = max(edges[k][0], at), min(edges[k][1], end)
            if a > t:
                pieces.append(Piece(p.id if first else n, p.source, p.start + t - at, a - t))
                ids.append(pieces[-1].id)
                n, first = n + (not first), False
            t = max(t, b)
            k += 1
        if t < end:
            pieces.append(Piece(p.id if first else n, p.source, p.start + t - at, end - t))
            ids.append(pieces[-1].id)
            n += not first
        if ids != [p.id]:
            parts[p.id] = tuple(ids)
    total = sum(b - a for a, b in edges)
    did = f"Took out {len(edges)} stretch{'es' if len(edges) != 1 else ''}, {frames_of(total)}"
    return settle(story, pieces, sources, did, split=parts, next_id=n, playhead=edges[0][0])


def open_again(story: Story, sources: Sources, piece: int) -> Edit:
    """Put back what was taken out between a piece and the one after it, where both come from one recording.

    | A1 |A2 |   with .. between them in the recording   ->   | A1 .. A2 |
    """
    refuse_locked(story, DIALOGUE)
    i = story.index_of(piece)
    if i + 1 >= len(story.pieces):
        raise Refused("There is no piece after this one.")
    p, q = story.pieces[i], story.pieces[i + 1]
    if p.source is None or p.source != q.source or q.start < p.end:
        raise Refused("Nothing was taken out here: the two pieces do not follow each other in one recording.")
    whole = replace(p, length=q.end - p.start)
    pieces = [*story.pieces[:i], whole, *story.pieces[i + 2 :]]
    gap = q.start - p.end
    did = f"{frames_of(gap)} put back" if gap else "Joined through"
    return settle(story, pieces, sources, did, split={q.id: (p.id,), p.id: (p.id,)}, made=(p.id,), playhead=story.starts[i + 1])


def insert_space(story: Story, sources: Sources, at: int, length: int) -> Edit:
    """Insert an intended gap of `length` frames."""
    refuse_locked(story, DIALOGUE)
    if length <= 0:
        raise Refused("A space needs a length of at least one frame.")
    if not 0 <= at <= story.length:
        raise Refused("The playhead is past the end of the story.")
    pieces, i, split, n = _cut_at(story, at, story.next_id)
    pieces.insert(i, Piece(n, None, 0, length))
    return settle(story, pieces, sources, f"A space of {frames_of(length)}", split=split, made=(n,), next_id=n + 1, playhead=at)


def overwrite(story: Story, sources: Sources, at: int, source: int, start: int, length: int) -> Edit:
    """Put a range over [at, at+length): what stood there is replaced, the rest keeps its time.

    | A      | B      |   overwrite C   ->   | A  | C  | B'   |
         [C..]
    """
    refuse_locked(story, DIALOGUE)
    s = check_range(sources, story.rate, source, start, length)
    if not 0 <= at <= story.length:
        raise Refused("The playhead is past the end of the story.")
    end = min(at + length, story.length)
    if end == at:
        return insert(story, sources, at, source, start, length)
    pieces, _, i, split, n = _cut_out(story, at, end)
    pieces.insert(i, Piece(n, source, start, length))
    return settle(
        story, pieces, sources, f"{s.name} over {clock(at, story.rate)} to {clock(at + length, story.rate)}",
        split=split, made=(n,), next_id=n + 1, playhead=at + length,
    )  # fmt: skip


def lift(story: Story, sources: Sources, a: int, b: int) -> Edit:
    """Take out [a, b) and leave a space of the same length."""
    refuse_locked(story, DIALOGUE)
    pieces, _, i, split, n = _cut_out(story, a, b)
    pieces.insert(i, Piece(n, None, 0, b - a))
    return settle(
        story, pieces, sources, f"Lifted {frames_of(b - a)}, leaving a space", split=split, made=(n,), next_id=n + 1, playhead=a
    )


def extract(story: Story, sources: Sources, a: int, b: int) -> Edit:
    """Take out [a, b) and close up.

    | A   | B    | C |   extract   ->   | A | B' | C |
        [----)
    """
    refuse_locked(story, DIALOGUE)
    pieces, _, _, split, n = _cut_out(story, a, b)
    return settle(story, pieces, sources, f"Took out {frames_of(b - a)} and closed up", split=split, next_id=n, playhead=a)


def remove(story: Story, sources: Sources, piece: int) -> Edit:
    """Extract one whole piece."""
    i = story.index_of(piece)
    return extract(story, sources, story.starts[i], story.starts[i + 1])


def split(story: Story, sources: Sources, at: int) -> Edit:
    """Cut the piece under `at` in two; nothing moves."""
    refuse_locked(story, DIALOGUE)
    if not 0 < at < story.length or at in story.starts:
        raise Refused(
            "There is already a join at the playhead." if at in story.starts else "There is nothing to split at the playhead."
        )
    pieces, i, parts, n = _cut_at(story, at, story.next_id)
    return settle(
        story, pieces, sources, f"Split at {clock(at, story.rate)}", split=parts, made=(pieces[i].id,), next_id=n, playhead=at
    )


def trim(story: Story, sources: Sources, piece: int, edge: str, delta: int) -> Edit:
    """Move the `in` or `out` edge of a piece by `delta` frames (positive is later); what follows ripples.

    in  +2:   [..AAAAAA]  ->  [AAAAAA]      the piece starts later in its recording, the story is 2 shorter
    out +2:   [AAAA]..    ->  [AAAAAA]
    """
    refuse_locked(story, DIALOGUE)
    i = story.index_of(piece)
    p = story.pieces[i]
    if delta == 0:
        raise Refused("The edge is already there.")
    if edge == "in":
        new = replace(p, start=p.start + delta, length=p.length - delta)
    elif edge == "out":
        new = replace(p, length=p.length + delta)
    else:
        raise Refused("An edge is either in or out.")
    if new.length < 1:
        raise Refused(f"That would leave nothing of the piece: it is {frames_of(p.length)} long.")
    name = "The space"
    if p.source is not None:
        s = source_of(sources, p.source)
        name = s.name
        check_handles(s, story.rate, (p.start, p.end), (new.start, new.end))
    pieces = [*story.pieces[:i], new, *story.pieces[i + 1 :]]
    how = "later" if delta > 0 else "earlier"
    head = story.starts[i] if edge == "in" else story.starts[i] + new.length
    return settle(story, pieces, sources, f"{name}: {edge} point {frames_of(delta)} {how}", made=(p.id,), playhead=head)


def move(story: Story, sources: Sources, piece: int, before: int | None) -> Edit:
    """Move a piece before another one (None: to the end); its covers go with it.

    | A | B | C |   move C before A   ->   | C | A | B |
    """
    refuse_locked(story, DIALOGUE)
    i = story.index_of(piece)
    p = story.pieces[i]
    rest = [*story.pieces[:i], *story.pieces[i + 1 :]]
    j = len(rest) if before is None else next((k for k, q in enumerate(rest) if q.id == before), -1)
    if j < 0:
        raise Refused("It is already there." if before == piece else "The piece to put it before is no longer in the story.")
    if j == i:
        raise Refused("It is already there.")
    rest.insert(j, p)
    name = sources[p.source].name if p.source is not None and p.source in sources else "A space"
    return settle(story, rest, sources, f"{name} moved", made=(p.id,), playhead=sum(q.length for q in rest[:j]))


def swap(story: Story, sources: Sources, first: int, second: int) -> Edit:
    """Two pieces change places; what lies between stays between."""
    refuse_locked(story, DIALOGUE)
    i, j = sorted((story.index_of(first), story.index_of(second)))
    if i == j:
        raise Refused("Choose two different pieces to swap.")
    pieces = list(story.pieces)
    pieces[i], pieces[j] = pieces[j], pieces[i]
    return settle(
        story, pieces, sources, "Two pieces swapped", made=(first, second), playhead=sum(q.length for q in pieces[:i])
    )


def set_lock(story: Story, sources: Sources, lane: str, locked: bool) -> Edit:
    """Lock or unlock the dialogue line (`dialogue`) or a cover lane (`cover 1`)."""
    kinds = {DIALOGUE, *(lane_key(c.lane) for c in story.covers), *(lane_key(n) for n in range(1, 4))}
    if lane not in kinds:
        raise Refused("There is no such lane.")
    now = story.locked | {lane} if locked else story.locked - {lane}
    if now == story.locked:
        raise Refused(f"The {lane} lane is {'already' if locked else 'not'} locked.")
    notes: tuple[str, ...] = ()
    if locked and lane != DIALOGUE:
        notes = ("Its covers still follow their words when the dialogue moves.",)
    return replace(story, locked=now), Report(f"{lane.capitalize()} lane {'locked' if locked else 'unlocked'}", notes)
