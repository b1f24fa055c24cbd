"""Seams: between neighbouring pieces, and what kind each is."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from itertools import pairwise
from math import floor
from typing import Any, NamedTuple

from kovel.core.story.model import TITLE, Cover, Piece, Sources, Story, Transition

PUNCH = 1.2  # from this change of size on a jump is taken for another framing (common practice, no source)
SPARE = 3  # frames by which a cover must overlap a seam on each side to hide it (common practice, no source)
PLAIN = (100.0, 100.0)  # zoom at the first and the last frame of what nothing is set on
SEAM_KINDS = {
    "jump": "jump, exposed",
    "covered": "jump, covered",
    "clean": "clean",
    "through": "runs on",
    "soft": "soft",
}


class Seam(NamedTuple):
    """Story frame `at` between pieces `left` and `right`.

    kind: `jump` (same camera setup on both sides, seen), `covered` (a cover hides it with frames to spare), `soft` (a
    dissolve, a dip or a punch-in takes the jolt out), `clean` (different setups, a card or a space), `through` (the
    recording simply runs on).
    """

    at: int
    left: Piece
    right: Piece
    kind: str

    @property
    def said(self) -> str:
        """Its kind in words."""
        return SEAM_KINDS[self.kind]

    @property
    def key(self) -> tuple[int, int, int]:
        """What makes it the same jump before and after an edit: the source frames that meet."""
        first_piece, second_piece = self.left, self.right
        return (
            first_piece.source or 0,
            floor(first_piece.clock.moment(first_piece.end) + Fraction(1, 2))
            if first_piece.settings
            else first_piece.end,
            second_piece.moment(0) if second_piece.settings else second_piece.start,
        )

    @property
    def ends(self) -> tuple[int, int]:
        """Where in their recordings the two meet: the moment after the last one seen, and the first one that is."""
        first_piece, second_piece = self.left, self.right
        return (first_piece.moment(first_piece.length - 1) + 1 if first_piece.settings else first_piece.end), (
            second_piece.moment(0) if second_piece.settings else second_piece.start
        )


def seams(story: Story, sources: Sources) -> list[Seam]:
    """Every seam of the dialogue line, in order. Remembered with the story, which never changes."""
    key = tuple((key, source.setup, source.settings) for key, source in sources.items())
    memo: dict[object, list[Seam]] = story.__dict__.setdefault("_seams", {})
    if key not in memo:
        memo[key] = _seams(story, sources)
    return memo[key]


def _setups(story: Story, sources: Sources) -> dict[int, Any]:
    """The camera setup of every recording that stands in the dialogue line."""
    return {
        recording_id: _of(recording_id, sources)
        for recording_id in {piece.source for piece in story.pieces}
        if recording_id is not None
    }


def _changes_setup(left: Piece, right: Piece, setups: tuple[Any, Any], beside: tuple[Any, Any]) -> bool:
    """Whether the viewer sees another camera setup from one frame to the next, or one of the two sides not at all:
    there is no picture, or it changes to or from a cover just there."""
    return setups[0] != setups[1] or "sound" in (left.take, right.take) or beside != setups


def _seams(story: Story, sources: Sources) -> list[Seam]:
    over = hiding(story, sources)
    spans = sorted(covered_run[:2] for covered_run in over)
    begins = {a: _of(cover.source, sources) for a, _, cover in over}
    ends = {b: _of(cover.source, sources) for _, b, cover in over}
    setup = _setups(story, sources)
    zooms = _zooms(story, sources)
    all_seams: list[Seam] = []
    i = reach = 0
    for index, (piece_before, right) in enumerate(pairwise(story.pieces), 1):
        at = story.starts[index]
        # furthest end among covers that begin early enough to hide this seam (spans are sorted, seams too)
        while i < len(spans) and spans[i][0] <= at - SPARE:
            reach = max(reach, spans[i][1])
            i += 1
        if piece_before.source is None or right.source is None:
            all_seams.append(Seam(at, piece_before, right, "clean"))
            continue
        sizes = zooms.get(piece_before.id, PLAIN)[1], zooms.get(right.id, PLAIN)[0]
        setups = setup[piece_before.source], setup[right.source]
        beside = begins.get(at, setups[0]), ends.get(at, setups[1])
        if piece_before.source == right.source and sizes[0] == sizes[1] and _runs_on(piece_before, right):
            kind = "through"
        elif reach >= at + SPARE:
            kind = "covered"
        elif _changes_setup(piece_before, right, setups, beside):
            kind = "clean"
        else:
            kind = "soft" if _is_soft(sizes, story.transition(index)) else "jump"
        all_seams.append(Seam(at, piece_before, right, kind))
    return all_seams


def _is_soft(sizes: tuple[float, float], transition: Transition) -> bool:
    """Whether a dissolve or a clear change of framing takes the jolt out."""
    return max(sizes) >= PUNCH * min(sizes) or transition.length > 0


def _zooms(story: Story, sources: Sources) -> dict[int, tuple[float, float]]:
    """By piece: how large its first and its last frame are seen, in percent; those that nothing frames are left out."""
    wide = (*dict(story.settings).values(), *(source.settings for source in sources.values()))
    everywhere = any("zoom" in values for values in wide)
    framed = story.pieces if everywhere else [piece for piece in story.pieces if piece.settings]
    return {
        piece.id: (
            story.value_at(piece, "zoom", sources, piece.moment(0)),
            story.value_at(piece, "zoom", sources, piece.moment(piece.length - 1)),
        )
        for piece in framed
    }


def _runs_on(first_piece: Piece, second_piece: Piece) -> bool:
    """Whether what is seen goes on from one to the other: at another speed, or held, to the frame."""
    if not (first_piece.settings or second_piece.settings):
        return first_piece.start + first_piece.length == second_piece.start
    first_clock, second_clock = first_piece.clock, second_piece.clock
    if first_clock is second_clock or first_clock == second_clock:
        return first_piece.start + first_piece.length == second_piece.start
    same_way = (
        first_clock.backwards == second_clock.backwards or first_clock.held is not None or second_clock.held is not None
    )
    return (
        same_way and abs(Fraction(first_clock.moment(first_piece.end)) - second_clock.moment(second_piece.start)) <= 1
    )


def hiding(story: Story, sources: Sources) -> list[tuple[int, int, Cover]]:
    """The covers that hide what they lie over: (start, end, cover), without the frames in which they come or go. One
    that is see-through, on a muted lane, or leaves room around it does not.

    One that comes in where another of its lane ends hides from its first frame on: that other one goes on under it.
    """
    read_value = story.reading(sources)
    hiding_spans = [
        span for span in story.spans if f"cover {span[2].lane}" not in story.muted and _hides(span[2], read_value)
    ]
    if not any(cover.settings for _, _, cover in hiding_spans):
        return hiding_spans
    ends = {(b, cover.lane) for _, b, cover in hiding_spans}
    hidden_spans = []
    for start, end, cover in hiding_spans:
        come = (
            0
            if (start, cover.lane) in ends and read_value(cover, "through") != "black"
            else int(cover.settings["appear"])
        )
        if start + come < end - cover.settings["leave"]:
            hidden_spans.append((start + come, end - int(cover.settings["leave"]), cover))
    return hidden_spans


def _hides(cover: Cover, read: Callable[[Cover, str], Any]) -> bool:
    zoom = read(cover, "zoom")
    least = min(zoom_there for _, zoom_there in zoom) if isinstance(zoom, tuple) else zoom
    return bool(
        cover.source != TITLE
        and read(cover, "opacity") == 100
        and least >= 100
        and read(cover, "place") == "whole picture"
        and not any(read(cover, n) for n in ("crop_left", "crop_right", "crop_top", "crop_bottom"))
    )


def exposed(story: Story, sources: Sources) -> list[Seam]:
    """The jump cuts that the viewer sees."""
    return [seam for seam in seams(story, sources) if seam.kind == "jump"]


def _of(source: int, sources: Sources) -> str | int:
    this_source = sources.get(source)
    return (this_source.setup or this_source.id) if this_source else source
