"""Transitions as far as the material of both recordings reaches."""

from __future__ import annotations

from collections.abc import Mapping
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
