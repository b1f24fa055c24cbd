"""Markers on the story: named places that stay on their word, and cuts brought to them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import Edit, frames_in_words
from kovel.core.story.marker_places import placed_markers
from kovel.core.story.model import Marker, MarkerShape, Refused, Report, Sources, Story, Tether
from kovel.core.story.several import step_by_step
from kovel.core.story.trims import roll
from kovel.core.time.timecode import stamp as clock

LETTERS = 80  # of a marker's name


def _tie(story: Story, at: int) -> tuple[int | None, Tether]:
    """What a marker at a story frame is tied to: the word there; at the very end, the story's clock."""
    if not 0 <= at <= story.length:
        raise Refused("The playhead is past the end of the story.")
    if at == story.length:
        return None, Tether(0, at)
    tether = story.tether_at(at)
    return story.piece(tether.piece).source, tether


def _marker(story: Story, marker: int) -> Marker:
    found = next((other for other in story.markers if other.id == marker), None)
    if found is None:
        raise Refused("That marker is no longer in the story.")
    return found


def _named(name: str) -> str:
    return " ".join(name.split())[:LETTERS]


def _said(marker: Marker) -> str:
    return f"Marker “{marker.name}”" if marker.name else "Marker"


@edit(
    entry(
        "Marker at the playhead: NAME",
        "M",
        also="mark, flag, note",
        typed="text",
        default="",
        at="playhead",
        text="typed",
    )
)
def add_marker(story: Story, sources: Sources, at: int, text: str = "", shape: str = MarkerShape.FLAG) -> Edit:
    """Set a marker at story frame `at`; it stays on the word there."""
    if shape not in list(MarkerShape):
        raise Refused(f"A marker's shape is one of {', '.join(MarkerShape)}.")
    if any(there == at for there, _ in placed_markers(story)):
        raise Refused(f"There is a marker at {clock(at, story.rate)} already.")
    source, tether = _tie(story, at)
    marker = Marker(story.next_id, source, tether, _named(text), shape)
    new_story = replace(story, markers=(*story.markers, marker), next_id=story.next_id + 1)
    return new_story, Report(f"{_said(marker)} at {clock(at, story.rate)}")


@edit()
def set_marker(
    story: Story,
    sources: Sources,
    marker: int,
    text: str | None = None,
    shape: str | None = None,
    at: int | None = None,
) -> Edit:
    """Change a marker's name or shape, or move it to story frame `at`."""
    old = _marker(story, marker)
    if shape is not None and shape not in list(MarkerShape):
        raise Refused(f"A marker's shape is one of {', '.join(MarkerShape)}.")
    new = replace(old, name=old.name if text is None else _named(text), shape=old.shape if shape is None else shape)
    if at is not None:
        source, tether = _tie(story, at)
        new = replace(new, source=source, tether=tether)
    if new == old:
        raise Refused("The marker is like that already.")
    markers = tuple(new if other.id == marker else other for other in story.markers)
    return replace(story, markers=markers), Report(f"{_said(new)} changed")


@edit()
def remove_marker(story: Story, sources: Sources, marker: int) -> Edit:
    """Take a marker away."""
    gone = _marker(story, marker)
    markers = tuple(other for other in story.markers if other.id != marker)
    return replace(story, markers=markers), Report(f"{_said(gone)} deleted")


@edit(
    entry(
        "Roll the seams to the nearest markers or beats",
        "Alt M",
        also="cut to the beat, snap cuts to markers",
        pieces="seams",
        targets="places",
    )
)
def cuts_to(story: Story, sources: Sources, pieces: list[int], targets: list[int]) -> Edit:
    """Roll the seam before each of these pieces to the nearest of the story frames `targets`; how far each moved is
    told, and why one could not.

    beats      '     '     '
    | A     | B   | C  |     ->   | A    | B    | C |
    """
    if not targets:
        raise Refused(
            "There is no marker and no beat to go to. Press M where one should be, or find the beats of the "
            "music in Tighten, Hits."
        )
    told: list[str] = []

    def to_nearest(now: Story, piece: int) -> Edit:
        at = now.starts[now.index_of(piece)]
        to = min(targets, key=lambda target: (abs(target - at), target))
        if to == at:
            raise Refused(f"The seam at {clock(at, now.rate)} stands on one already.")
        edited = roll(now, sources, piece, to - at)
        told.append(f"{clock(at, now.rate)}: {frames_in_words(to - at)} {'later' if to > at else 'earlier'}")
        return edited

    def did(done: list[int]) -> str:
        seams = "1 seam" if len(done) == 1 else f"{len(done)} seams"
        return f"{seams} rolled to the nearest marker or beat ({', '.join(_first(told))})"

    return step_by_step(story, sources, pieces, to_nearest, did)


def _first(told: Sequence[str], most: int = 6) -> list[str]:
    return [*told[:most], *([f"and {len(told) - most} more"] if len(told) > most else [])]
