"""The lanes of a story as a list: what goes along with inserts and takes, what is locked, muted, heard alone."""

from __future__ import annotations

from dataclasses import dataclass

from kovel.core.story.along import lanes as may_go_along
from kovel.core.story.edit_rules import DIALOGUE
from kovel.core.story.marks import lanes
from kovel.core.story.model import SOUNDS, Story


@dataclass(frozen=True, slots=True)
class Switch:
    """One thing a lane can be: the edit that sets it, its parameter, and whether it is on."""

    command: str
    lane: str
    what: str  # the edit's parameter
    label: str
    on: bool


@dataclass(frozen=True, slots=True)
class Lane:
    name: str
    switches: tuple[Switch | None, ...]  # one a column; None where the lane can't be that


COLUMNS = ("goes along", "locked", "muted", "solo")


def lane_list(story: Story) -> list[Lane]:
    """Every lane with its switches, in COLUMNS' order."""
    along = may_go_along(story)
    drawn_lanes = []
    for lane in lanes(story):
        lock = "sounds" if lane in SOUNDS else lane
        drawn_lanes.append(
            Lane(
                lane,
                (
                    Switch("set_along", lane, "on", f"{lane} goes along", lane in story.along)
                    if lane in along
                    else None,
                    Switch("set_lock", lock, "locked", f"{lock} locked", lock in story.locked),
                    Switch("set_muted", lane, "muted", f"{lane} muted", lane in story.muted),
                    Switch("set_solo", lane, "solo", f"{lane} on solo", lane in story.soloed)
                    if lane == DIALOGUE or lane in SOUNDS
                    else None,
                ),
            )
        )
    return drawn_lanes


def said(story: Story) -> str:
    """What is out of the ordinary, on the button that opens the list."""
    lane_notes = [f"{' and '.join(sorted(story.along))} along"] if story.along else []
    lane_notes += [f"{' and '.join(sorted(story.locked))} locked"] if story.locked else []
    lane_notes += [f"{len(story.muted)} muted"] if story.muted else []
    lane_notes += ["solo"] if story.soloed else []
    return ", ".join(lane_notes)
