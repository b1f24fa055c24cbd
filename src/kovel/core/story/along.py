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
    now = story.along | {lane} if on else story.along - {lane}
    if now == story.along:
        raise Refused(f"The {lane} lane {'goes along' if on else 'stays'} already.")
    return replace(story, along=now), Report(
        f"{lane.capitalize()} {'goes along with inserts and takes' if on else 'stays as it is'}"
    )


def _goes(story: Story, laid: Laid, wanted: frozenset[str]) -> bool:
    lane = lane_of(laid)
    return lane in wanted and (lane if isinstance(laid, Cover) else "sounds") not in story.locked


def cut_along(story: Story, sources: Sources, at: int, wanted: frozenset[str]) -> Story:
    """What lies across story frame `at` on the lanes that go along becomes two: nothing moves. A sound that is tied
    to a cover is tied to the half that it begins under."""
    halves: dict[int, tuple[Cover, Cover, Cover]] = {}  # by id: a cover that was cut, and what it became

    def cut(story: Story, rows: tuple[L, ...]) -> tuple[tuple[L, ...], int]:
        next_id = story.next_id
        out: list[L] = []
        for row in rows:
            k = at - story.at(row)
            if not (0 < k < row.length and _goes(story, row, wanted) and at < story.length):
                out.append(row)
                continue
            head, tail = cut_short(row, sources, 0, k), cut_short(row, sources, k, row.length - k)
            if isinstance(head, Sound) and isinstance(tail, Sound):  # no fade where the cut is
                head, tail = with_setting(head, "fade_out", 0), with_setting(tail, "fade_in", 0)
            there = story.tie_like(row, at) if isinstance(row, Sound) else story.tether_at(at)
            tail = replace(tail, id=next_id, tether=there)
            if isinstance(row, Cover) and isinstance(head, Cover) and isinstance(tail, Cover):
                halves[row.id] = (row, head, tail)
            out += [head, tail]
            next_id += 1
        return tuple(out), next_id

    def tied(sound: Sound) -> Sound:
        if sound.tether.piece not in halves:
            return sound
        cover, head, tail = halves[sound.tether.piece]
        k = sound.tether.moment - cover.start  # frames after the cover's beginning
        half, since = (head, k) if k < head.length else (tail, k - head.length)
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
    cut = cut_along(cut_along(story, sources, start, wanted), sources, end, wanted)
    stays = lambda c: not (_goes(cut, c, wanted) and start <= cut.at(c) and cut.at(c) + c.length <= end)  # noqa: E731
    kept = replace(cut, covers=tuple(filter(stays, cut.covers)), sounds=tuple(filter(stays, cut.sounds)))
    return shifted(kept, end, start - end, wanted)


def out_of_step(story: Story, at: int, by: int, wanted: frozenset[str], several: bool = False) -> list[str]:
    """What an insert or take at `at` puts out of step with the words, in words: sounds on the story's clock that stay.
    `several` takes from `at` on add up to `by`."""
    rows = [
        sound
        for sound in story.sounds
        if sound.tether.piece == 0 and not _goes(story, sound, wanted) and sound.tether.moment + sound.length > at
    ]
    if not rows or not by:
        return []
    kinds = " and ".join(sorted({sound.kind for sound in rows}))
    return [
        f"{kinds.capitalize()} on the story's clock stays: from here on it lies "
        f"{'up to ' if several else ''}{frames_in_words(by)} {'earlier' if by > 0 else 'later'} against the words."
    ]
