"""Transitions as far as the material of both recordings reaches."""

from __future__ import annotations

from collections.abc import Container, Iterable, Mapping
from dataclasses import replace

from kovel.core.story.clocks import FAR
from kovel.core.story.edit_rules import frames_in_words, reach
from kovel.core.story.model import Sources, Story, Transition
from kovel.core.time.timecode import stamp as clock


def handles_at_seam(story: Story, sources: Sources, i: int) -> tuple[int, int, int, int]:
    """At the seam before piece i: material of the left recording after its out point, of the right one before its in
    point, and the lengths of the left and the right piece. Cards, spaces and stills have as much as is asked for.

    recording   ...left....]<-after->       <-before->[....right...
    """
    far = FAR
    after = before = far
    piece_before = story.pieces[i - 1] if i > 0 else None
    right = story.pieces[i] if i < len(story.pieces) else None
    if piece_before and piece_before.source is not None and piece_before.source in sources:
        ends = reach(sources[piece_before.source], story.rate, piece_before.clock)
        after = far if ends is None else ends[1] - piece_before.end
    if right and right.source is not None and right.source in sources and sources[right.source].frames is not None:
        ends = reach(sources[right.source], story.rate, right.clock)
        before = right.start - (ends[0] if ends else 0)
    return after, before, piece_before.length if piece_before else far, right.length if right else far


def longest(story: Story, sources: Sources, i: int, blend: str) -> int:
    """The longest dissolve or dip that fits at the seam before piece i; each takes at most half of a piece's length.

    A blend of n frames has n // 2 of them before the seam: the right recording must have as many before its in point,
    the left one the rest after its out point. So a 2 s dissolve needs 1 s of handle on each side (common practice).
    """
    after, before, handle_before, right = handles_at_seam(story, sources, i)
    if i == 0 or i == len(story.pieces):
        return min(handle_before, right)
    start, end = handle_before // 2, right // 2
    if blend == "dissolve":
        start, end = min(start, before), min(end, after)
    return max(0, min(2 * start + 1, 2 * end))


def fitted(story: Story, sources: Sources, i: int, transition: Transition, earlier: int) -> Transition:
    """The transition as far as its material reaches. `earlier` is the split of the seam before: no sound may turn
    negative.

    sound of left:  its length + this split - the earlier split, at least one frame
    """
    after, before, handle_before, right = handles_at_seam(story, sources, i)
    inner = 0 < i < len(story.pieces)
    length = min(transition.length, longest(story, sources, i, transition.blend))
    if length < 1:
        transition = replace(transition, blend="cut", length=0)
    else:
        transition = replace(transition, length=length)
    if not inner:
        return replace(transition, split=0, cross=0)
    split = max(-before, earlier - handle_before + 1, min(transition.split, after, right - 1))
    a = min(before + split, (handle_before + split - earlier) // 2)
    b = min(after - split, (right - split) // 2)
    cross = max(0, min(transition.cross, 2 * a + 1, 2 * b))
    return replace(transition, split=split, cross=cross if cross > 1 else 0)


def _first_there(parts: Iterable[int], pieces: Container[int]) -> int:
    """The first of a split piece's parts that is in the story; 0 where none is left."""
    return next((split_part for split_part in parts if split_part in pieces), 0)


def fit_transitions(
    story: Story, sources: Sources, split: Mapping[int, tuple[int, ...]]
) -> tuple[tuple[Transition, ...], list[str], list[int]]:
    """The transitions that still stand, in story order; what was dropped or shortened, in words and by story frame."""
    if not story.pieces:
        return (), [], []
    index = {piece.id: index for index, piece in enumerate(story.pieces)}
    where: dict[int, Transition] = {}
    notes: list[str] = []
    changed: list[int] = []
    for transition in story.transitions:
        piece_before = _first_there(reversed(split.get(transition.left, (transition.left,))), index)
        right = _first_there(split.get(transition.right, (transition.right,)), index)
        seam = _seam_of(transition, index, piece_before, right)
        if seam is None:
            notes.append(f"The {kind_of(transition)} was dropped: its two pieces parted.")
            changed.append(story.starts[index[right]] if right else 0)
            continue
        before = story.pieces[seam - 1].id if seam > 0 else 0
        after = story.pieces[seam].id if seam < len(story.pieces) else 0
        where[seam] = replace(transition, left=before, right=after)
    transitions: list[Transition] = []
    for seam, wanted in sorted(where.items()):
        follows = bool(transitions) and seam > 0 and transitions[-1].right == story.pieces[seam - 1].id
        transition = fitted(story, sources, seam, wanted, transitions[-1].split if follows else 0)
        at = story.starts[seam]
        if transition != wanted:
            changed.append(at)
            notes.append(_shorter(wanted, transition, clock(at, story.rate)))
        if not transition.plain:
            transitions.append(transition)
    return tuple(transitions), notes, changed


def _seam_of(transition: Transition, index: Mapping[int, int], left: int, right: int) -> int | None:
    """The index of the piece that a transition leads into, len(pieces) at the story's end; None where its pieces have
    parted. `left` and `right` are what is left of its pieces, 0 for nothing."""
    if transition.left == 0:
        return 0
    pairs = ((transition.left, transition.right), (left, right))
    beside = [index[b] for a, b in pairs if a in index and b in index and index[b] == index[a] + 1]
    if beside and transition.right:
        return beside[0]
    return len(index) if transition.right == 0 else None


def kind_of(transition: Transition) -> str:
    """What a transition is called in messages."""
    if transition.length:
        return (
            "dissolve"
            if transition.blend == "dissolve"
            else "dip to black"
            if transition.left and transition.right
            else "fade"
        )
    return ("J-cut" if transition.split < 0 else "L-cut") if transition.split else "crossfade"


def _shorter(was: Transition, now: Transition, at: str) -> str:
    if was.length != now.length:
        rest = f"shortened to {frames_in_words(now.length)}" if now.length else "dropped"
        return f"The {kind_of(was)} at {at} was {rest}: there is no more material for it."
    if was.split != now.split:
        rest = f"shortened to {frames_in_words(now.split)}" if now.split else "dropped"
        return f"The {'J-cut' if was.split < 0 else 'L-cut'} at {at} was {rest}: there is no more sound for it."
    rest = f"shortened to {frames_in_words(now.cross)}" if now.cross else "dropped"
    return f"The crossfade at {at} was {rest}: there is no more sound for it."
