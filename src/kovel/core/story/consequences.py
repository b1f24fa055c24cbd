"""What every edit ends in: tethers follow their words, transitions are fitted to their handles, consequences are told."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from operator import itemgetter
from typing import TypeVar

from kovel.core.story.clocks import AS_SHOT, FAR, Clock
from kovel.core.story.model import (
    TITLE,
    TITLE_SOURCE,
    Cover,
    Item,
    Laid,
    Piece,
    Refused,
    Report,
    Section,
    Sound,
    Source,
    Sources,
    Story,
    Transition,
)
from kovel.core.story.seams import exposed
from kovel.core.story.tethers import Kept, followed, kept_on_locked
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import stamp as clock

DIALOGUE = "dialogue"
Edit = tuple[Story, Report]
L = TypeVar("L", Cover, Sound)


def lane_key(lane: int) -> str:
    """The name under which a cover lane is locked."""
    return f"cover {lane}"


def refuse_locked(story: Story, lane: str) -> None:
    """Refuse a change to a locked lane."""
    if lane in story.locked:
        raise Refused(f"The {lane} lane is locked. Unlock it to change what lies on it.")


def frames_in_words(n: int) -> str:
    return "1 frame" if abs(n) == 1 else f"{abs(n)} frames"


def beyond(n: int, what: str, how: str) -> str:
    """That so many frames of something run past the end."""
    if n == 1:
        return f"Its last frame runs past the end of the {what} and is not {how}."
    return f"Its last {n} frames run past the end of the {what} and are not {how}."


def source_of(sources: Sources, source: int) -> Source:
    if source == TITLE:
        return TITLE_SOURCE
    try:
        return sources[source]
    except KeyError:
        raise Refused("That recording is not in this project any more.") from None


def name_of(sources: Sources, piece: Item) -> str:
    """What a piece, cover or sound is called within a sentence; `begun` begins one with it."""
    if piece.source is None:
        return "the card" if isinstance(piece, Piece) and piece.card else "the space"
    if isinstance(piece, Cover) and piece.source == TITLE:
        return f"the title “{piece.title.splitlines()[0][:40] if piece.title else ''}”"
    return sources[piece.source].name if piece.source in sources else "the piece"


def begun(text: str) -> str:
    """A sentence that begins with what `name_of` says: names stay as they are written."""
    return f"The {text[4:]}" if text.startswith("the ") else text


def reach(s: Source, rate: Rate, clock: Clock = AS_SHOT) -> tuple[int, int] | None:
    """[first, end) of a clock that a recording fills; None for a still, which lasts as long as asked."""
    total = s.length(rate)
    return None if total is None else clock.reach(total)


def check_range(sources: Sources, rate: Rate, source: int, start: int, length: int) -> Source:
    """Refuse an empty range, or one that leaves its recording."""
    s = source_of(sources, source)
    total = s.length(rate)
    if length <= 0:
        raise Refused("In and out are at the same place: the range is empty. Set the out point after the in point.")
    if start < 0:
        raise Refused(f"That begins {frames_in_words(start)} before the start of {s.name}.")
    if total is not None and start + length > total:
        raise Refused(f"That runs {frames_in_words(start + length - total)} past the end of {s.name}.")
    return s


def check_handles(s: Source, rate: Rate, old: tuple[int, int], new: tuple[int, int], clock: Clock = AS_SHOT) -> None:
    """Refuse a trim for which the recording has no material, saying how much there is."""
    ends = reach(s, rate, clock) or (0, new[1])
    if new[0] < ends[0]:
        have, edge, where = old[0] - ends[0], "before this in point", "begins"
        asked = old[0] - new[0]
    elif new[1] > ends[1]:
        have, edge, where = ends[1] - old[1], "after this out point", "ends"
        asked = new[1] - old[1]
    else:
        return
    raise Refused(
        f"{s.name} has {frames_in_words(have)} {edge}, not {asked}."
        if have
        else f"{s.name} {where} here: there is nothing {edge}."
    )


def settle(
    old: Story, new: Story, sources: Sources, did: str, *, split: Mapping[int, tuple[int, ...]] | None = None,
    made: tuple[int, ...] = (), playhead: int | None = None, keep_covers: bool = False,
) -> Edit:  # fmt: skip
    """The finished story from a draft `new`, and the report.

    `split` says which pieces an old piece became. A cover or sound loses what its words lost (core/tethers.py); one that
    lost all waits in its tray; a loose one whose word is back goes in place again. Two that now meet on one lane: the later
    start moves up to a free lane. A transition whose neighbours parted is dropped, one whose handles shrank is shortened.
    """
    split = split or {}
    kept = Kept(old, new, split)
    old_pieces = {p.id for p in old.pieces}
    covers, loose, shorter = followed(kept, (*new.covers, *new.loose), () if keep_covers else old.covers, sources)
    covers, loose, held = kept_on_locked(kept, covers, loose, old.covers, lambda c: lane_key(c.lane) in old.locked)
    with_shots = replace(new, covers=tuple(covers), loose=tuple(loose))
    if _on_covers(new):
        kept = Kept(old, with_shots, split)
    sounds, loose_sounds, shorter2 = followed(kept, (*new.sounds, *new.loose_sounds), old.sounds, sources)
    sounds, loose_sounds, held2 = kept_on_locked(
        kept, sounds, loose_sounds, old.sounds, lambda x: "sounds" in old.locked and x.tether.piece in old_pieces
    )
    were_loose = {c.id for c in _all(old.loose, old.loose_sounds)}
    were_placed = {c.id: c for c in _all(old.covers, old.sounds)}
    loosened = tuple(c.id for c in _all(loose, loose_sounds) if c.id in were_placed)
    returned = tuple(c.id for c in _all(covers, sounds) if c.id in were_loose)
    lost = {c.id: were_placed[c.id].length - c.length for c in _all(covers, sounds) if c.id in (*shorter, *shorter2)}
    lost = {i: n for i, n in lost.items() if i not in (*held, *held2)}
    covers, lifted = _separate(new, covers)
    sounds, lifted2 = _separate(with_shots, sounds)
    headed = len(new.sections)
    new = replace(
        new, covers=tuple(covers), loose=tuple(loose), sounds=tuple(sounds), loose_sounds=tuple(loose_sounds),
        sections=_sections(old, new, split) if new.sections else (),
    )  # fmt: skip
    still, told, shortened = fit_transitions(new, sources, split) if new.transitions else ((), [], [])
    new = replace(new, transitions=still)
    name = {
        c.id: begun(name_of(sources, c))
        for c in _all(covers, loose, sounds, loose_sounds)
        if c.source in sources or c.source == TITLE
    }
    shots = {c.id for c in (*old.covers, *old.loose)}
    tied = {x.id: "shot" if x.tether.piece in shots else "word" for x in _all(covers, loose, sounds, loose_sounds)}
    notes = [f"{name.get(i, 'A cover')} came loose: its {tied[i]} left the story. It waits in the tray." for i in loosened]
    notes += [f"{name.get(i, 'A cover')} is back over its {tied[i]}." for i in returned]
    notes += [
        f"{name.get(i, 'A cover')} is {frames_in_words(n)} shorter: the words it lay over left the story."
        for i, n in lost.items()
    ]
    notes += [
        f"{name.get(i, 'A cover')} moved to lane {lane}, so that both {'covers' if k == 0 else 'sounds'} keep their words."
        for k, rows in enumerate((lifted, lifted2))
        for i, lane in rows
    ]
    notes += [
        f"{name.get(i, 'A cover')} keeps its length, for its lane is locked: it lies over other words now."
        for i in (*held, *held2)
    ]
    notes += told
    if len(new.sections) < headed:
        notes.append("A heading went with the last of its pieces.")
    before = {j.key for j in exposed(old, sources)}
    jumps = [j for j in exposed(new, sources) if j.key not in before]
    if jumps:
        where = ", ".join([*(clock(j.at, new.rate) for j in jumps[:3]), *(["…"] if len(jumps) > 3 else [])])
        notes.append(f"{'A jump cut is' if len(jumps) == 1 else f'{len(jumps)} jump cuts are'} exposed now (at {where}).")
    over = [s for s in new.sounds if s.kind == "music" and new.at(s) < new.length < new.at(s) + s.length]
    if new.length < old.length:
        was = {s.id for s in old.sounds if old.at(s) + s.length > old.length}
        notes += [
            f"{name.get(s.id, 'Music')} now runs past the end of the talk; it is cut off there."
            for s in over
            if s.id not in was
        ]
        notes += [
            f"{name.get(x.id, 'A cover')} stays where it is on the story's clock: behind the end now."
            for x in _all(new.covers, new.sounds)
            if x.tether.piece == 0 and x.tether.moment >= new.length
            if (o := were_placed.get(x.id)) and o.tether.piece == 0 and o.tether.moment < old.length
        ]
    return new, Report(
        begun(did), tuple(notes), made, loosened, returned, tuple(j.at for j in jumps), tuple(shortened), playhead
    )


def _on_covers(story: Story) -> bool:
    """Whether a sound is tied to a cover."""
    pieces = {0, *(p.id for p in story.pieces)}
    return any(x.tether.piece not in pieces for x in (*story.sounds, *story.loose_sounds))


def _all(*rows: Iterable[Laid]) -> list[Laid]:
    return [c for r in rows for c in r]


def _separate(story: Story, laid: Sequence[L]) -> tuple[list[L], list[tuple[int, int]]]:
    """Sorted by place, no two overlapping on a lane; the later start yields upwards."""
    shifts = story.shifts
    rows = sorted([(shifts[c.tether.piece] + c.tether.moment, c.lane, c.id, c) for c in laid], key=itemgetter(0, 1, 2))
    ends: dict[int, tuple[int, L]] = {}
    out: list[L] = []
    lifted = []
    for at, lane, _, c in rows:
        while lane in ends and ends[lane][0] - _shared(ends[lane][1], c) > at:
            lane += 1
        if lane != c.lane:
            lifted.append((c.id, lane))
            c = replace(c, lane=lane)
        if lane not in ends or ends[lane][0] < at + c.length:
            ends[lane] = (at + c.length, c)
        out.append(c)
    return out, lifted


def _shared(a: Laid, b: Laid) -> int:
    """Frames that two neighbours on a lane may share: parts of one recording that are joined by a crossfade."""
    if isinstance(a, Sound) and isinstance(b, Sound) and a.group and (a.group, a.source) == (b.group, b.source):
        return int(min(a.settings["fade_out"], b.settings["fade_in"]))
    return 0


def _sections(old: Story, new: Story, split: Mapping[int, tuple[int, ...]]) -> tuple[Section, ...]:
    """Headings stay with their piece; if it left, they go to the next one of theirs that is still there."""
    order = {p.id: i for i, p in enumerate(new.pieces)}
    mine = {s.piece for s in new.sections}
    out = []
    for s in new.sections:
        at = s.piece
        if at not in order:
            i = next((k for k, p in enumerate(old.pieces) if p.id == at), len(old.pieces))
            at = 0
            for p in old.pieces[i:]:
                if p.id != s.piece and p.id in mine:
                    break
                at = next((q for q in split.get(p.id, (p.id,)) if q in order), 0)
                if at:
                    break
        if at:
            out.append(s if at == s.piece else replace(s, piece=at))
    return tuple(sorted({s.piece: s for s in out}.values(), key=lambda s: order[s.piece]))


def handles_at_seam(story: Story, sources: Sources, i: int) -> tuple[int, int, int, int]:
    """At the seam before piece i: material of the left recording after its out point, of the right one before its in
    point, and the lengths of the left and the right piece. Cards, spaces and stills have as much as is asked for.

    recording   ...left....]<-after->       <-before->[....right...
    """
    far = FAR
    after = before = far
    left = story.pieces[i - 1] if i > 0 else None
    right = story.pieces[i] if i < len(story.pieces) else None
    if left and left.source is not None and left.source in sources:
        ends = reach(sources[left.source], story.rate, left.clock)
        after = far if ends is None else ends[1] - left.end
    if right and right.source is not None and right.source in sources and sources[right.source].frames is not None:
        ends = reach(sources[right.source], story.rate, right.clock)
        before = right.start - (ends[0] if ends else 0)
    return after, before, left.length if left else far, right.length if right else far


def longest(story: Story, sources: Sources, i: int, blend: str) -> int:
    """The longest dissolve or dip that fits at the seam before piece i; each takes at most half of a piece's length.

    A blend of n frames has n // 2 of them before the seam: the right recording must have as many before its in point,
    the left one the rest after its out point. So a 2 s dissolve needs 1 s of handle on each side (common practice).
    """
    after, before, left, right = handles_at_seam(story, sources, i)
    if i == 0 or i == len(story.pieces):
        return min(left, right)
    a, b = left // 2, right // 2
    if blend == "dissolve":
        a, b = min(a, before), min(b, after)
    return max(0, min(2 * a + 1, 2 * b))


def fitted(story: Story, sources: Sources, i: int, j: Transition, earlier: int) -> Transition:
    """The transition as far as its material reaches. `earlier` is the split of the seam before: no sound may turn negative.

    sound of left:  its length + this split - the earlier split, at least one frame
    """
    after, before, left, right = handles_at_seam(story, sources, i)
    inner = 0 < i < len(story.pieces)
    length = min(j.length, longest(story, sources, i, j.blend))
    if length < 1:
        j = replace(j, blend="cut", length=0)
    else:
        j = replace(j, length=length)
    if not inner:
        return replace(j, split=0, cross=0)
    split = max(-before, earlier - left + 1, min(j.split, after, right - 1))
    a = min(before + split, (left + split - earlier) // 2)
    b = min(after - split, (right - split) // 2)
    cross = max(0, min(j.cross, 2 * a + 1, 2 * b))
    return replace(j, split=split, cross=cross if cross > 1 else 0)


def fit_transitions(
    story: Story, sources: Sources, split: Mapping[int, tuple[int, ...]]
) -> tuple[tuple[Transition, ...], list[str], list[int]]:
    """The transitions that still stand, in story order; what was dropped or shortened, in words and by story frame."""
    index = {p.id: i for i, p in enumerate(story.pieces)}
    where: dict[int, Transition] = {}
    notes: list[str] = []
    changed: list[int] = []
    for j in story.transitions:
        left = next((q for q in reversed(split.get(j.left, (j.left,))) if q in index), 0) if j.left else 0
        right = next((q for q in split.get(j.right, (j.right,)) if q in index), 0) if j.right else 0
        if not story.pieces:
            continue
        if j.left == 0:
            i = 0
        elif j.left in index and j.right in index and index[j.right] == index[j.left] + 1:
            i = index[j.right]
        elif j.right == 0:
            i = len(story.pieces)
        elif left and right and index[right] == index[left] + 1:
            i = index[right]
        else:
            notes.append(f"The {kind_of(j)} was dropped: its two pieces parted.")
            changed.append(story.starts[index[right]] if right else 0)
            continue
        ends = story.pieces[i - 1].id if i > 0 else 0, story.pieces[i].id if i < len(story.pieces) else 0
        where[i] = replace(j, left=ends[0], right=ends[1])
    out: list[Transition] = []
    for i in sorted(where):
        earlier = out[-1].split if out and i and out[-1].right == story.pieces[i - 1].id else 0
        j = fitted(story, sources, i, where[i], earlier)
        at = story.starts[i]
        if j != where[i]:
            changed.append(at)
            notes.append(_shorter(where[i], j, clock(at, story.rate)))
        if not j.plain:
            out.append(j)
    return tuple(out), notes, changed


def kind_of(j: Transition) -> str:
    """What a transition is called in messages."""
    if j.length:
        return "dissolve" if j.blend == "dissolve" else "dip to black" if j.left and j.right else "fade"
    return ("J-cut" if j.split < 0 else "L-cut") if j.split else "crossfade"


def _shorter(was: Transition, now: Transition, at: str) -> str:
    if was.length != now.length:
        rest = f"shortened to {frames_in_words(now.length)}" if now.length else "dropped"
        return f"The {kind_of(was)} at {at} was {rest}: there is no more material for it."
    if was.split != now.split:
        rest = f"shortened to {frames_in_words(now.split)}" if now.split else "dropped"
        return f"The {'J-cut' if was.split < 0 else 'L-cut'} at {at} was {rest}: there is no more sound for it."
    rest = f"shortened to {frames_in_words(now.cross)}" if now.cross else "dropped"
    return f"The crossfade at {at} was {rest}: there is no more sound for it."
