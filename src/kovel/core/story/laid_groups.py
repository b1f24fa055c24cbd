"""Covers, titles and sounds that are moved together: those that are selected, and the others of their groups."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from kovel.core.story.edit_rules import lane_key, refuse_locked
from kovel.core.story.model import Cover, Laid, Refused, Story, Tether


def with_groups(story: Story, ids: Iterable[int]) -> list[int]:
    """These covers and sounds, and all in place that are in a group with one of them."""
    wanted = set(ids)
    laid: tuple[Laid, ...] = (*story.covers, *story.sounds)
    groups = {clip.group for clip in laid if clip.id in wanted and clip.group}
    return [clip.id for clip in laid if clip.id in wanted or clip.group in groups]


def moved_by(story: Story, ids: Iterable[int], delta: int) -> tuple[Story, list[int]]:
    """(the story with covers and sounds, and their groups, `delta` frames later; which were moved). What stands on
    the story's clock stays on it, all else is tethered to the word it comes to. `Refused` where one of them would
    begin outside the story, or lies on a locked lane.

    A sound tied to a cover that moves goes with it as it is.
    """
    moved_ids = with_groups(story, ids)
    wanted = set(moved_ids)

    def moved(clip: Laid) -> Laid:
        if clip.id not in wanted or clip.tether.piece in wanted:
            return clip
        refuse_locked(story, lane_key(clip.lane) if isinstance(clip, Cover) else "sounds")
        at = story.at(clip) + delta
        if not 0 <= at < story.length:
            raise Refused("One of the clips would begin outside the story. All of them keep their distance.")
        if isinstance(clip, Cover):
            return replace(clip, tether=Tether(0, at) if clip.tether.piece == 0 else story.tether_at(at))
        return replace(clip, tether=story.tie_like(clip, at))

    covers = tuple(moved(cover) for cover in story.covers)
    sounds = tuple(moved(sound) for sound in story.sounds)
    return replace(story, covers=covers, sounds=sounds), moved_ids  # type: ignore[arg-type]
