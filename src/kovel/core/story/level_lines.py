"""Edits on the level of what is heard: louder and softer by so much, and its line, moment by moment.

sound   [bed ──────╲______╱─────]     a moment stands on the recording's clock: it stays with what is heard there
story   0    1     2      3
"""

from __future__ import annotations

from dataclasses import replace
from math import ceil

from kovel.core.sound.mastering import BACK, DOWN
from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import DIALOGUE, Edit, lane_key, name_of, refuse_locked
from kovel.core.story.levels_told import level_told
from kovel.core.story.model import Cover, Item, Piece, Refused, Sources, Story, moment_of, with_setting
from kovel.core.story.settings import NONE, SETTINGS, Line, Value, on_line
from kovel.core.story.settling import settle
from kovel.core.story.values import reset_value, set_value
from kovel.core.time.timecode import stamp as clock

LEVEL = SETTINGS["level"]


def _begins(story: Story, item: Item) -> int:
    """Story frame at which it begins; `Refused` for what is locked, loose or silent."""
    refuse_locked(
        story, DIALOGUE if isinstance(item, Piece) else lane_key(item.lane) if isinstance(item, Cover) else "sounds"
    )
    return story.starts[story.index_of(item.id)] if isinstance(item, Piece) else story.at(item)


def _heard(sources: Sources, item: Item) -> None:
    source = sources.get(item.source) if item.source is not None else None
    if source is None or not source.sound or (isinstance(item, Piece) and item.take == "picture"):
        raise Refused(f"{name_of(sources, item)} has no sound of its own.")


def moment_at(story: Story, item: Item, at: int) -> int:
    """The moment of its recording that is heard at a story frame; `Refused` outside of it."""
    begin = _begins(story, item)
    if not begin <= at <= begin + item.length:
        raise Refused(
            f"That lies outside of it: it is heard from {clock(begin, story.rate)} to "
            f"{clock(begin + item.length, story.rate)}."
        )
    return moment_of(item, at - begin)


def held(db: float) -> float:
    return round(float(min(LEVEL.high, max(LEVEL.low, db))), 1)


@edit(
    entry(
        "Louder by DECIBELS", "+", also="volume, gain, up", typed="number", default="1", items="all chosen", by="typed"
    ),
    entry(
        "Softer by DECIBELS",
        "-",
        also="volume, gain, quieter, down",
        typed="number",
        default="1",
        items="all chosen",
        by="minus typed",
    ),
)
def change_level(story: Story, sources: Sources, items: list[int], by: int | float) -> Edit:
    """Make what is chosen louder or softer by so many dB; a line moves as a whole."""
    if by == 0:
        raise Refused("By 0 dB nothing changes.")
    if not -72 <= by <= 72:
        raise Refused("A level changes by up to 72 dB.")
    new_story, changed = story, 0
    leveled_items = [story.item(item_id) for item_id in dict.fromkeys(items)]
    for clip in leveled_items:
        _heard(sources, clip)
        _begins(story, clip)
        level_now: Value = clip.settings["level"]
        value = (
            tuple((moment, held(db + by)) for moment, db in level_now)
            if isinstance(level_now, tuple)
            else held(float(level_now) + by)
        )
        changed += value != level_now
        new_story = new_story.with_items({clip.id: with_setting(clip, "level", value)})
    if not changed:
        end = LEVEL.high if by > 0 else LEVEL.low
        raise Refused(
            f"It is as {'loud' if by > 0 else 'soft'} as it can be set: {end:+g} dB."
            if leveled_items
            else "Choose something first."
        )
    item_names = name_of(sources, leveled_items[0]) if len(leveled_items) == 1 else f"{len(leveled_items)} clips"
    now_at = (
        f", now {level_told(new_story, sources, new_story.item(leveled_items[0].id))}"
        if len(leveled_items) == 1
        else ""
    )
    return settle(
        story,
        new_story,
        sources,
        f"{item_names}: {abs(by):g} dB {'louder' if by > 0 else 'softer'}{now_at}",
        made=tuple(clip.id for clip in leveled_items),
    )


@edit(
    entry(
        "Level here: DECIBELS",
        "P",
        also="volume, keyframe, level point, automation",
        typed="number",
        default="0",
        item="chosen",
        at="playhead",
        by="typed",
    )
)
def level_point(
    story: Story,
    sources: Sources,
    item: int,
    at: int,
    by: int | float | None = None,
    value: int | float | None = None,
    was: int | None = None,
) -> Edit:
    """Set a moment of a level line at story frame `at`: to `value` dB, or (`by`) so much over what the line says there.

    `was` is the frame of a moment that is moved here, else one is added. Moments that stand at the same frame are one.
    """
    clip = story.item(item)
    _heard(sources, clip)
    moment = moment_at(story, clip, at)
    level_now = clip.settings["level"]
    line_now: dict[int, float] = dict(level_now) if isinstance(level_now, tuple) else {}
    said_level = on_line(level_now, moment) if isinstance(level_now, tuple) else float(level_now)
    db = value if value is not None else said_level + (by or 0)
    if isinstance(db, (bool, str, list)) or not LEVEL.low <= db <= LEVEL.high:
        raise Refused(f"Level is set to {LEVEL.between}.")
    if was is not None:
        gone = moment_at(story, clip, was)
        if gone not in line_now:
            raise Refused("There is no moment of the line there any more.")
        del line_now[gone]
    line_now[moment] = held(float(db))
    new_line: Line = tuple(sorted(line_now.items()))
    if new_line == level_now:
        raise Refused("It is like that already.")
    changed = with_setting(clip, "level", new_line)
    summary = f"{name_of(sources, clip)}: {line_now[moment]:+.1f} dB at {clock(at, story.rate)}"
    return settle(story, story.with_items({item: changed}), sources, summary, made=(item,), playhead=at)


@edit(entry("Take the level's moment away", "Shift P", item="chosen", at="playhead"))
def take_level_point(story: Story, sources: Sources, item: int, at: int) -> Edit:
    """Take away the moment of a level line nearest to story frame `at`; with the last one goes the line."""
    clip = story.item(item)
    moment = moment_at(story, clip, at)
    level_now = clip.settings["level"]
    if not isinstance(level_now, tuple):
        raise Refused("Its level is no line: there is no moment to take away.")
    gone = min(level_now, key=lambda r: abs(r[0] - moment))
    other_points = tuple(point for point in level_now if point != gone)
    changed = with_setting(clip, "level", other_points if other_points else held(gone[1]))
    return settle(
        story,
        story.with_items({item: changed}),
        sources,
        f"{name_of(sources, clip)}: a moment of its level taken away",
        made=(item,),
    )


def _dips(story: Story) -> Line:
    return dict(story.settings).get("story", NONE)["dips"]  # type: ignore[no-any-return]


def _without_dip(line: Line, at: int) -> tuple[Line, Line]:
    """The line without the dip nearest to a story frame, and that dip: its moments under 0."""
    low = [index for index, dip_point in enumerate(line) if dip_point[1] < 0]
    if not low:
        raise Refused("There is no peak dip: none is needed, or the story was not brought to its loudness yet.")
    dip_index = min(low, key=lambda k: abs(line[k][0] - at))
    start = end = dip_index
    while start - 1 in low:
        start -= 1
    while end + 1 in low:
        end += 1
    other_points = (*line[:start], *line[end + 1 :])
    deep = {index for index, dip_point in enumerate(other_points) if dip_point[1] < 0}
    return tuple(
        dip_point for index, dip_point in enumerate(other_points) if deep & {index - 1, index, index + 1}
    ), line[start : end + 1]


def _put_dips(story: Story, sources: Sources, line: Line, did: str, at: int) -> Edit:
    how = (
        set_value(story, sources, "story", "dips", [list(dip_point) for dip_point in line])
        if line
        else reset_value(story, sources, "story", "dips")
    )
    return how[0], replace(how[1], did=did, playhead=at)


@edit(
    entry(
        "Peak dip here: DECIBELS",
        also="reduce peaks, limiter",
        typed="number",
        default="-3",
        at="playhead",
        value="typed",
    )
)
def dip_here(story: Story, sources: Sources, at: int, value: int | float, was: int | None = None) -> Edit:
    """Let the whole mix dip to `value` dB at story frame `at`, down and back as steeply as dips that hold peaks. The
    dip at frame `was` is the one that is moved or made deeper.

    gain  ────────╲_╱──────
                   ^ at
    """
    if not 0 <= at < story.length:
        raise Refused("There is nothing in the story at that time.")
    dips = SETTINGS["dips"]
    if isinstance(value, (bool, str, list)) or not dips.low <= value < 0:
        raise Refused(f"A dip is under 0 dB, down to {dips.low:g} dB.")
    dips_line = _dips(story) if was is None else _without_dip(_dips(story), was)[0]
    own_dip = ((at - ceil(-value / DOWN), 0.0), (at, round(float(value), 1)), (at + ceil(-value / BACK), 0.0))
    moments = sorted({moment for moment, _ in (*dips_line, *own_dip)})
    new_dips = tuple(
        (moment, min(on_line(dips_line, moment) if dips_line else 0.0, on_line(own_dip, moment)))
        for moment in moments
        if moment >= 0
    )
    return _put_dips(story, sources, new_dips, f"The whole dips to {value:+.1f} dB at {clock(at, story.rate)}", at)


@edit(entry("Take the nearest peak dip away", at="playhead"))
def take_dip(story: Story, sources: Sources, at: int) -> Edit:
    """Take away the dip of the whole mix that is nearest to story frame `at`."""
    other_dips, dip = _without_dip(_dips(story), at)
    where = min(dip, key=lambda m: m[1])[0]
    return _put_dips(story, sources, other_dips, f"The dip at {clock(where, story.rate)} taken away", where)
