"""How two pieces meet: split edits, dissolves, dips and fades, crossfades. Handles are checked; too long is refused
with the longest that fits."""

from __future__ import annotations

from dataclasses import replace

from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import DIALOGUE, Edit, frames_in_words, refuse_locked
from kovel.core.story.fitted_transitions import fitted, longest
from kovel.core.story.model import Refused, Sources, Story, Transition
from kovel.core.story.settling import settle
from kovel.core.time.timecode import stamp as clock

BLENDS = ("cut", "dissolve", "dip")


def _seam(story: Story, piece: int | None) -> int:
    """Index of the seam before a piece; None: the story's end."""
    if not story.pieces:
        raise Refused("There is nothing in the story yet.")
    return len(story.pieces) if piece is None else story.index_of(piece)


def _with(story: Story, sources: Sources, i: int, transition: Transition, did: str) -> Edit:
    other_transitions = [
        other for other in story.transitions if (other.left, other.right) != (transition.left, transition.right)
    ]
    new_story = replace(
        story, transitions=tuple(other_transitions) if transition.plain else (*other_transitions, transition)
    )
    if new_story.transitions == story.transitions:
        raise Refused("It is like that already.")
    return settle(story, new_story, sources, did, made=(transition.right or transition.left,), playhead=story.starts[i])


@edit(
    entry(
        "Dissolve: LENGTH",
        "D",
        also="cross dissolve, crossfade, mix, transition",
        typed="length",
        default="0.48s",
        piece="seam",
        blend="=dissolve",
        length="typed",
    ),
    entry(
        "Dip to black: LENGTH",
        also="fade through black, transition",
        typed="length",
        default="1s",
        piece="seam",
        blend="=dip",
        length="typed",
    ),
    entry("Hard cut", "Shift D", also="straight cut, no transition", piece="seam", blend="=cut"),
    entry(
        "Fade up at the beginning: LENGTH",
        also="fade in",
        typed="length",
        default="1s",
        piece="first piece",
        blend="=dip",
        length="typed",
    ),
    entry(
        "Fade out at the end: LENGTH",
        also="fade to black",
        typed="length",
        default="2s",
        piece=None,
        blend="=dip",
        length="typed",
    ),
    entry("No fade at the beginning", piece="first piece", blend="=cut"),
    entry("No fade at the end", piece=None, blend="=cut"),
)
def set_blend(story: Story, sources: Sources, piece: int | None, blend: str, length: int = 0) -> Edit:
    """Dissolve or dip at the seam before a piece, or cut it hard. Before the first piece, or (None) after the last one,
    a dip is a fade from or to black.

    dissolve of 6:   left   ......\\\\\\
                     right     ///......      three frames on either side of the seam
    """
    refuse_locked(story, DIALOGUE)
    index = _seam(story, piece)
    transition = story.transition(index)
    if blend not in BLENDS:
        raise Refused("A seam is a cut, a dissolve or a dip.")
    at = clock(story.starts[index], story.rate)
    if blend == "cut":
        return _with(story, sources, index, replace(transition, blend="cut", length=0), f"A cut at {at}")
    ends = index in (0, len(story.pieces))
    kind = "fade" if ends else "dissolve" if blend == "dissolve" else "dip to black"
    if length < 1:
        raise Refused(f"A {kind} needs a length of at least one frame.")
    if ends:
        blend = "dip"
    most = longest(story, sources, index, blend)
    if length > most:
        raise Refused(
            f"There is not enough material for a {kind} of {frames_in_words(length)} here. "
            + (
                f"The longest that fits is {frames_in_words(most)}."
                if most
                else "None fits: there is nothing beyond the edges."
            )
        )
    return _with(
        story,
        sources,
        index,
        replace(transition, blend=blend, length=length),
        f"A {kind} of {frames_in_words(length)} at {at}",
    )


@edit(
    entry(
        "J-cut: sound LENGTH earlier",
        also="split edit, audio leads",
        typed="length",
        default="8f",
        piece="seam",
        frames="minus typed",
    ),
    entry(
        "L-cut: sound LENGTH later",
        also="split edit, audio lags",
        typed="length",
        default="8f",
        piece="seam",
        frames="typed",
    ),
    entry("Sound and picture together", piece="seam", frames=0),
)
def split_edit(story: Story, sources: Sources, piece: int, frames: int) -> Edit:
    """Let the sound before a piece change `frames` from its picture: before it (negative, J) or after it (positive,
    L)."""
    refuse_locked(story, DIALOGUE)
    index = _seam(story, piece)
    if index == 0:
        raise Refused("There is no seam before the first piece.")
    asked_transition = replace(story.transition(index), split=frames)
    can = fitted(story, sources, index, asked_transition, story.transition(index - 1).split)
    if can.split != frames:
        raise Refused(f"There is no sound for that. The furthest that fits is {frames_in_words(can.split)}.")
    at = clock(story.starts[index], story.rate)
    summary = (
        f"{'J-cut' if frames < 0 else 'L-cut'} of {frames_in_words(frames)} at {at}"
        if frames
        else f"Sound and picture cut together at {at}"
    )
    return _with(story, sources, index, asked_transition, summary)


@edit(
    entry(
        "Crossfade the sound: LENGTH",
        also="audio transition",
        typed="length",
        default="6f",
        piece="seam",
        frames="typed",
    )
)
def crossfade(story: Story, sources: Sources, piece: int, frames: int) -> Edit:
    """Crossfade the sounds at the seam before a piece, at equal power: -3.01 dB on each side at its middle."""
    refuse_locked(story, DIALOGUE)
    index = _seam(story, piece)
    if index == 0:
        raise Refused("There is no seam before the first piece.")
    if frames < 0 or frames == 1:
        raise Refused("A crossfade is two frames or longer; 0 takes it away.")
    asked_transition = replace(story.transition(index), cross=frames)
    can = fitted(story, sources, index, asked_transition, story.transition(index - 1).split)
    if can.cross != frames:
        raise Refused(
            "There is not enough sound for that. "
            + (
                f"The longest crossfade that fits is {frames_in_words(can.cross)}."
                if can.cross
                else "No crossfade fits here."
            )
        )
    summary = (
        f"Crossfade of {frames_in_words(frames)} at {clock(story.starts[index], story.rate)}"
        if frames
        else "Crossfade taken away"
    )
    return _with(story, sources, index, asked_transition, summary)
