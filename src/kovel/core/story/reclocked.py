"""A piece on another clock: what it shows of its recording kept, or its place; what is tied to it stays on its words.

as shot   | a  b  c  d |               200 %, the shot kept   | abcd |          its place kept   | abcdefgh |
cover        [b──)                             cover           [b──)                                [b──)
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from math import floor
from typing import Literal

from kovel.core.story.clocks import clock_in
from kovel.core.story.covers import told_of_pace
from kovel.core.story.edit_rules import Edit, frames_in_words, name_of, reach, source_of
from kovel.core.story.model import Laid, Piece, Refused, Sources, Story, Tether
from kovel.core.story.ramps import Line
from kovel.core.story.settings import SETTINGS, Values
from kovel.core.story.settling import settle

Keep = Literal["shot", "place"] | str


def extent(piece: Piece) -> tuple[Fraction, Fraction]:
    """The moments of the recording between which a piece runs, forwards or backwards."""
    start, end = sorted(Fraction(piece.clock.passing(piece_edge)) for piece_edge in (piece.start, piece.end))
    return start, end


def paced(piece: Piece, speed: Line = (), steps: bool = False) -> Values:
    """A piece's settings with another speed, in the direction that it runs in; one moment at 100 % is as it was
    shot."""
    own_values = piece.settings
    for n in ("speed", "steps", "held"):
        own_values = own_values.without(n)
    if speed in ((), ((speed[0][0] if speed else 0, 100.0),)):
        return own_values
    return own_values.with_value("speed", speed).with_value("steps", steps and len(speed) > 1)


def on_clock(piece: Piece, own_values: Values, keep: Keep, length: int | None = None) -> Piece:
    """The piece with settings that give it another clock. `keep` "shot": it shows what it showed, and its length
    follows, or is `length`; "place": it stays as long as it is."""
    clock, (lowest, highest) = clock_in(own_values), extent(piece)
    start, end = sorted(Fraction(clock.when(edge_moment)) for edge_moment in (lowest, highest))
    if length is None:
        length = piece.length if keep == "place" else max(1, floor(end - start + Fraction(1, 2)))
    return replace(piece, start=floor(start + Fraction(1, 2)), length=length, settings=own_values)


def put(story: Story, sources: Sources, piece: Piece, new_piece: Piece, did: str) -> Edit:
    """The story with a piece on its new clock; `Refused` where its recording has not as much."""
    if new_piece == piece:
        raise Refused("It runs like that already.")
    speed = new_piece.settings["speed"]
    if speed and SETTINGS["speed"].as_kept(speed) is None:
        raise Refused("That would run at less than 10 or more than 1000 % somewhere: type another speed or length.")
    source, clock = source_of(sources, piece.source or 0), new_piece.clock
    ends = reach(source, story.rate, clock)
    if ends:
        over = max(ends[0] - new_piece.start, new_piece.end - ends[1])
        if over > 1 or (over == 1 and new_piece.length == 1):
            raise Refused(
                f"That runs out of {source.name}: {frames_in_words(over)} more would be needed. "
                "Let its length follow, or make it slower."
            )
        start = max(ends[0], new_piece.start)  # a frame that only rounding asks for
        new_piece = replace(new_piece, start=start, length=min(new_piece.end, ends[1]) - start)
    index = story.index_of(piece.id)

    def moved(laid: Laid) -> Laid:
        if laid.tether.piece != piece.id or not piece.holds(laid.tether.moment):
            return laid
        at = floor(clock.when(piece.clock.passing(laid.tether.moment)) + Fraction(1, 2))
        if (
            new_piece.length < piece.length or clock.backwards
        ):  # the last of its words may share a frame with the one before
            at = min(max(at, new_piece.start), new_piece.end - 1)
        return replace(laid, tether=Tether(piece.id, at))

    draft = replace(
        story,
        pieces=(*story.pieces[:index], new_piece, *story.pieces[index + 1 :]),
        covers=tuple(moved(cover) for cover in story.covers),  # type: ignore[misc]
        sounds=tuple(moved(sound) for sound in story.sounds),  # type: ignore[misc]
    )
    said_length = f", now {frames_in_words(new_piece.length)}" if new_piece.length != piece.length else ""
    settled_story, report = settle(
        story,
        draft,
        sources,
        f"{name_of(sources, piece)} {did}{said_length}",
        made=(piece.id,),
        playhead=story.starts[index],
    )
    return settled_story, report.with_notes(told_of_pace(settled_story, sources, new_piece))


def landed(piece: Piece, moment: int, frames: int) -> Piece:
    """The piece with its course faster or slower, so that a moment is first seen so many frames after it begins."""
    lowest, clock = extent(piece)[0], piece.clock
    speed_line: Line = clock.ramp.line if clock.ramp else ((floor(lowest), 100 * float(clock.speed)),)
    now = clock.when(moment) - piece.start
    for nudge in range(1_000):  # the nearest, to a thousandth of a percent, that shows exactly that frame there
        factor = Fraction(now) / frames * (1 + Fraction(nudge, 100_000))
        speed = tuple((moment, round(float(value * factor), 3)) for moment, value in speed_line)
        new_piece = on_clock(piece, paced(piece, speed, piece.settings["steps"]), "place")
        if new_piece.moment(frames) >= moment:
            break
    if new_piece.moment(frames) != moment or any(not 10 <= value <= 1000 for _, value in speed):
        raise Refused("That would run at less than 10 or more than 1000 % somewhere.")
    return new_piece


def clock_held(piece: Piece, moment: int, length: int) -> Piece:
    """A piece that holds one moment of another one's recording for so long."""
    own_values = paced(piece).without("backwards").without("fade_in").without("fade_out")
    return replace(piece, id=0, start=moment, length=length, settings=own_values.with_value("held", moment), group=0)
