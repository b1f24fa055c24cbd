"""Which lanes go along when the dialogue is opened or closed up: what lies on them is cut there, and what follows keeps
step.

dialogue  | A      | B |   insert C of n at ^   ->   | A  | C | A' | B |
music     [bed───────────)      stays:               [bed───────────)
               ^                goes along:          [bed─)   [─bed───)     cut, the rest n later
"""

from __future__ import annotations

from dataclasses import replace
from typing import TypeVar

from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import frames_in_words, lane_key
from kovel.core.story.model import SOUNDS, Cover, Laid, Refused, Report, Sound, Sources, Story, Tether, with_setting
from kovel.core.story.tethers import cut_short

L = TypeVar("L", Cover, Sound)


def lanes(story: Story) -> list[str]:
    """What may go along: the cover lanes there are, and the kinds of sound."""
    return [*(lane_key(n) for n in range(1, 1 + max((cover.lane for cover in story.covers), default=1))), *SOUNDS]


def lane_of(laid: Laid) -> str:
    return lane_key(laid.lane) if isinstance(laid, Cover) else laid.kind


@edit(
    entry(
        "Goes along with inserts and takes: {lane}",
        also="ripple, move with edits, sync lock",
        each="along",
        lane="lane",
        on=True,
    ),
    entry("Stays at inserts and takes: {lane}", also="stay in place", each="along", lane="lane", on=False),
)
def set_along(story: Story, sources: Sources, lane: str, on: bool = True) -> tuple[Story, Report]:
    """Let a lane go along when something is inserted or taken out (it is cut and closed up too), or stay as it is."""
    if lane not in lanes(story):
        raise Refused("There is no such lane.")
    lanes_along = story.along | {lane} if on else story.along - {lane}
    if lanes_along == story.along:
        raise Refused(f"The {lane} lane {'goes along' if on else 'stays'} already.")
    return replace(story, along=lanes_along), Report(
        f"{lane.capitalize()} {'goes along with inserts and takes' if on else 'stays as it is'}"
    )


def _goes(story: Story, laid: Laid, wanted: frozenset[str]) -> bool:
    lane = lane_of(laid)
    return lane in wanted and (lane if isinstance(laid, Cover) else "sounds") not in story.locked


def cut_along(story: Story, sources: Sources, at: int, wanted: frozenset[str]) -> Story:
    """What lies across story frame `at` on the lanes that go along becomes two: nothing moves. A sound that is tied
    to a cover is tied to the half that it begins under."""
    halves: dict[int, tuple[Cover, Cover, Cover]] = {}  # by id: a cover that was cut, and what it became

    def cut(story: Story, cut_items: tuple[L, ...]) -> tuple[tuple[L, ...], int]:
        next_id = story.next_id
        items_left: list[L] = []
        for cut_item in cut_items:
            cut_length = at - story.at(cut_item)
            if not (0 < cut_length < cut_item.length and _goes(story, cut_item, wanted) and at < story.length):
                items_left.append(cut_item)
                continue
            head, tail = (
                cut_short(cut_item, sources, 0, cut_length),
                cut_short(cut_item, sources, cut_length, cut_item.length - cut_length),
            )
            if isinstance(head, Sound) and isinstance(tail, Sound):  # no fade where the cut is
                head, tail = with_setting(head, "fade_out", 0), with_setting(tail, "fade_in", 0)
            there = story.tie_like(cut_item, at) if isinstance(cut_item, Sound) else story.tether_at(at)
            tail = replace(tail, id=next_id, tether=there)
            if isinstance(cut_item, Cover) and isinstance(head, Cover) and isinstance(tail, Cover):
                halves[cut_item.id] = (cut_item, head, tail)
            items_left += [head, tail]
            next_id += 1
        return tuple(items_left), next_id

    def tied(sound: Sound) -> Sound:
        if sound.tether.piece not in halves:
            return sound
        cover, head, tail = halves[sound.tether.piece]
        tied_moment = sound.tether.moment - cover.start  # frames after the cover's beginning
        half, since = (head, tied_moment) if tied_moment < head.length else (tail, tied_moment - head.length)
        return replace(sound, tether=Tether(half.id, half.start + since))

    covers, n = cut(story, story.covers)
    mid = replace(story, covers=covers, sounds=tuple(map(tied, story.sounds)), next_id=n)
    sounds, n = cut(mid, mid.sounds)
    return replace(mid, sounds=sounds, next_id=n)


def shifted(story: Story, at: int, by: int, wanted: frozenset[str]) -> Story:
    """Sounds on the story's own clock from frame `at` on, moved by `by` where their lane goes along."""
    sounds = tuple(
        replace(sound, tether=Tether(0, sound.tether.moment + by))
        if sound.tether.piece == 0 and sound.tether.moment >= at and _goes(story, sound, wanted)
        else sound
        for sound in story.sounds
    )
    return replace(story, sounds=sounds)


def opened(story: Story, sources: Sources, at: int, by: int, wanted: frozenset[str]) -> Story:
    """Ready for `by` frames to be put in at `at`: lanes that go along are cut there and give way."""
    return shifted(cut_along(story, sources, at, wanted), at, by, wanted)


def closed(story: Story, sources: Sources, start: int, end: int, wanted: frozenset[str]) -> Story:
    """Ready for [a, b) to be taken out: on lanes that go along what lies in it is taken away, the rest closes up."""
    if not wanted:
        return story
    cut_story = cut_along(cut_along(story, sources, start, wanted), sources, end, wanted)

    def stays(clip: Cover | Sound) -> bool:
        inside = start <= cut_story.at(clip) and cut_story.at(clip) + clip.length <= end
        return not (inside and _goes(cut_story, clip, wanted))

    kept = replace(
        cut_story, covers=tuple(filter(stays, cut_story.covers)), sounds=tuple(filter(stays, cut_story.sounds))
    )
    return shifted(kept, end, start - end, wanted)


def out_of_step(story: Story, at: int, by: int, wanted: frozenset[str], several: bool = False) -> list[str]:
    """What an insert or take at `at` puts out of step with the words, in words: sounds on the story's clock that stay.
    `several` takes from `at` on add up to `by`."""
    stepless_sounds = [
        sound
        for sound in story.sounds
        if sound.tether.piece == 0 and not _goes(story, sound, wanted) and sound.tether.moment + sound.length > at
    ]
    if not stepless_sounds or not by:
        return []
    kinds = " and ".join(sorted({sound.kind for sound in stepless_sounds}))
    return [
        f"{kinds.capitalize()} on the story's clock stays: from here on it lies "
        f"{'up to ' if several else ''}{frames_in_words(by)} {'earlier' if by > 0 else 'later'} against the words."
    ]
