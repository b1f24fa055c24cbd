"""Edits on how fast a piece or a cover runs: a speed, a length to fill, backwards, a ramp, a frame held, a moment to
land.

shot      [0 1 2 3 4 5 6 7)        200 %:  [0 2 4 6)      backwards:  (7 6 5 4 3 2 1 0]      held:  [3 3 3 3 3)
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from math import floor, isfinite
from re import fullmatch

from kovel.core.story.covers import check_speed, told_of_pace, told_of_sound, unpaced, voiced
from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import (
    DIALOGUE,
    Edit,
    capitalised,
    check_range,
    frames_in_words,
    lane_key,
    name_of,
    refuse_locked,
    source_of,
)
from kovel.core.story.line import put_in
from kovel.core.story.model import TITLE, Cover, Item, Piece, Refused, Sources, Story, frames_to, with_setting
from kovel.core.story.ramps import Line, landing, ramp_of
from kovel.core.story.reclocked import Keep, clock_held, extent, landed, on_clock, paced, put
from kovel.core.story.settings import SETTINGS
from kovel.core.story.settling import settle
from kovel.core.story.tethers import part_of
from kovel.core.time.timecode import stamp as clock


def _running(story: Story, sources: Sources, item: int) -> Piece | Cover:
    """A piece, or a cover in place, that has a speed; `Refused` for what has none."""
    clip = story.item(item)
    if isinstance(clip, Piece):
        refuse_locked(story, DIALOGUE)
    elif isinstance(clip, Cover):
        story.at(clip)
        refuse_locked(story, lane_key(clip.lane))
    else:
        raise Refused("Pieces and covers have a speed. Music is brought to a length in the Sound room.")
    what = "A title" if clip.source == TITLE else "A card" if clip.source is None else "A still"
    if clip.source in (None, TITLE) or source_of(sources, clip.source or 0).frames is None:
        raise Refused(f"{what} has no speed.")
    if isinstance(clip, Piece) and clip.clock.held is not None:
        raise Refused("It holds a frame, which has no speed: trim it to another length.")
    return clip


def _begin(story: Story, clip: Piece | Cover, *within: int) -> int:
    """Story frame at which it begins; `Refused` where one of these story frames lies outside of it."""
    begin = story.starts[story.index_of(clip.id)] if isinstance(clip, Piece) else story.at(clip)
    if not all(begin <= at < begin + clip.length for at in within):
        raise Refused(
            f"That lies outside of it: it is seen from {clock(begin, story.rate)} to "
            f"{clock(begin + clip.length, story.rate)}."
        )
    return begin


def _percent(percent: int | float | None) -> float:
    if not percent or not isfinite(percent):
        raise Refused("Say how fast it is to run, in percent.")
    check_speed(100, int(percent))
    return float(percent)


def _put(story: Story, sources: Sources, new_cover: Cover, did: str, *more: Cover) -> Edit:
    new_cover = voiced(story, sources, new_cover)
    covers = (*(new_cover if cover.id == new_cover.id else cover for cover in story.covers), *more)
    draft = replace(story, covers=covers, next_id=story.next_id + len(more))
    made_ids = tuple(cover.id for cover in (new_cover, *more))
    settled_story, report = settle(story, draft, sources, did, made=made_ids, playhead=story.at(new_cover))
    return settled_story, report.with_notes(
        dict.fromkeys(name for cover in (new_cover, *more) for name in told_of_pace(story, sources, cover))
    )


@edit(
    entry(
        "Speed of the piece: PERCENT",
        also="slow motion, fast, retime",
        typed="number",
        default="200",
        item="piece",
        percent="typed",
    ),
    entry(
        "Speed of the piece in its place: PERCENT",
        typed="number",
        default="200",
        item="piece",
        percent="typed",
        keep="=place",
    ),
    entry(
        "Speed of the cover: PERCENT",
        also="slow motion, fast, retime",
        typed="number",
        default="200",
        item="cover",
        percent="typed",
    ),
    entry(
        "Speed of the cover in its place: PERCENT",
        typed="number",
        default="200",
        item="cover",
        percent="typed",
        keep="=place",
    ),
)
def set_speed(story: Story, sources: Sources, item: int, percent: int | float, keep: Keep = "shot") -> Edit:
    """Run a piece or a cover at so many percent: its length follows, or (`keep` "place") it stays and shows more or
    less of the shot. After a piece whose length follows, the rest moves.

    400 % makes a quarter of the length (common practice).
    """
    cover = _running(story, sources, item)
    percent = _percent(percent)
    if isinstance(cover, Piece):
        new_cover = on_clock(cover, paced(cover, ((floor(extent(cover)[0]), round(percent, 3)),)), _keeps(keep))
        return put(story, sources, cover, new_cover, f"at {percent:g} %")
    speed = Fraction(percent).limit_denominator(1000) / 100
    plain, length = _plain(cover), cover.length if _keeps(keep) == "place" else max(1, round(cover.used / speed))
    span = max(1, round(cover.length * speed)) if keep == "place" else cover.used
    return _spanned(
        story,
        sources,
        cover,
        with_setting(replace(plain, length=length), "span", 0 if span == length else span),
        f"{percent:g} %",
    )


def _spanned(story: Story, sources: Sources, cover: Cover, new_cover: Cover, at: str) -> Edit:
    if new_cover == cover:
        raise Refused("It runs at that speed already.")
    check_range(sources, story.rate, cover.source, cover.start, new_cover.used)
    return _put(story, sources, new_cover, f"{name_of(sources, cover)} at {at}{_now_long(cover, new_cover)}")


@edit(
    entry("Speed at which the piece fills LENGTH", typed="length", default="4s", item="piece", length="typed"),
    entry("Speed at which the cover fills LENGTH", typed="length", default="4s", item="cover", length="typed"),
)
def fill_length(story: Story, sources: Sources, item: int, length: int) -> Edit:
    """Run a piece or a cover so fast that what it shows of the shot fills `length` frames.

    shot    [0 1 2 3 4 5 6 7)        4 frames:  [0 2 4 6)
    """
    cover = _running(story, sources, item)
    if isinstance(cover, Piece):
        lowest, highest = extent(cover)
        check_speed(length, max(1, round(highest - lowest)))
        percent = round(100 * float((highest - lowest) / length), 3)
        new_piece = on_clock(cover, paced(cover, ((floor(lowest), percent),)), "shot", length)
        return put(story, sources, cover, new_piece, f"at {percent:.3g} %")
    check_speed(length, cover.used)
    new_cover = with_setting(replace(_plain(cover), length=length), "span", 0 if cover.used == length else cover.used)
    return _spanned(story, sources, cover, new_cover, f"{100 * cover.used / length:.3g} %")


@edit(
    entry("Piece backwards", also="reverse", items="piece", backwards=True),
    entry("Piece forwards again", items="piece", backwards=False),
    entry("Cover backwards", also="reverse", items="cover", backwards=True),
    entry("Cover forwards again", items="cover", backwards=False),
)
def run_backwards(story: Story, sources: Sources, items: int | list[int], backwards: bool) -> Edit:
    """Run pieces and covers backwards, or forwards again: the same frames in exact reverse."""
    new_story, notes, summary, made = story, [], "", list[int]()
    ids = [items] if isinstance(items, int) else list(dict.fromkeys(items))
    for item_id in ids:
        clip = _running(new_story, sources, item_id)
        if bool(clip.settings["backwards"]) == backwards:
            continue
        direction = "backwards" if backwards else "forwards again"
        if isinstance(clip, Piece):
            turned = on_clock(clip, clip.settings.with_value("backwards", backwards), "shot")
            new_story, report = put(new_story, sources, clip, turned, direction)
        else:
            new_story, report = _put(
                new_story, sources, with_setting(clip, "backwards", backwards), f"{name_of(sources, clip)} {direction}"
            )
        notes += [note for note in report.notes if note not in notes]
        summary = summary or report.did
        made.append(item_id)
    if not summary:
        raise Refused(
            "It runs like that already."
            if len(ids) == 1
            else "They run like that already."
            if ids
            else "Choose something first."
        )
    many = f"{summary}, and {len(made) - 1} more" if len(made) > 1 else summary
    return new_story, replace(report, did=many, notes=tuple(notes), made=tuple(made))


def _plain(cover: Cover) -> Cover:
    """At the speed it was shot at, forwards or backwards as it runs."""
    return with_setting(unpaced(cover), "backwards", cover.settings["backwards"])


def _keeps(keep: Keep) -> Keep:
    if keep not in ("shot", "place"):
        raise Refused("Either the shot is kept and its length follows, or its place.")
    return keep


def _now_long(cover: Cover, new_cover: Cover) -> str:
    return f", now {frames_in_words(new_cover.length)}" if new_cover.length != cover.length else ""


@edit(
    entry(
        "Ramp of the piece: PERCENT here",
        also="speed ramp",
        typed="number",
        default="400",
        item="piece",
        at="playhead",
        percent="typed",
    ),
    entry(
        "Ramp of the cover: PERCENT here",
        also="speed ramp",
        typed="number",
        default="400",
        item="cover",
        at="playhead",
        percent="typed",
    ),
    entry(
        "Ramp of the cover in its place: PERCENT here",
        typed="number",
        default="400",
        item="cover",
        at="playhead",
        percent="typed",
        keep="=place",
    ),
)
def ramp_here(
    story: Story, sources: Sources, item: int, at: int, percent: int | float | None, keep: Keep = "shot"
) -> Edit:
    """Give the moment of a piece or a cover that is seen at story frame `at` a speed of its own: the shot gets faster
    or slower towards it. The first such moment leaves its beginning as fast as it is; None takes the moment there out
    again.

    speed %    100 ____/‾‾ 400         the moment stays on its frame of the shot, whatever is trimmed
    """
    clip = _running(story, sources, item)
    moment_there = at - _begin(story, clip, at)
    moment = clip.moment(moment_there) if isinstance(clip, Piece) else floor(clip.shown(moment_there))
    speed_line = dict(clip.settings["speed"])
    if percent is None:
        near_point = min(speed_line, key=lambda m: abs(m - moment), default=None)
        if near_point is None:
            raise Refused("It has no ramp there.")
        del speed_line[near_point]
    else:
        first = (
            clip.moment(0) if isinstance(clip, Piece) else clip.end - 1 if clip.settings["backwards"] else clip.start
        )
        now = float(clip.clock.speed) if isinstance(clip, Piece) else clip.used / clip.length
        if len(speed_line) == 1 and isinstance(clip, Piece):  # a plain speed
            speed_line = {first: next(iter(speed_line.values()))}
        elif not speed_line and moment != first:
            speed_line[first] = round(100 * now, 1)
        speed_line[moment] = float(percent)
    new_story, report = set_ramp(
        story,
        sources,
        item,
        [[moment, value] for moment, value in sorted(speed_line.items())],
        clip.settings["steps"],
        keep,
    )
    return new_story, replace(report, playhead=_seen_at(new_story, new_story.item(item), moment))


def _seen_at(story: Story, item: Item, moment: int) -> int:
    """The story frame at which a moment of a piece or a cover is seen; its first or last frame, if that lies
    outside."""
    begin = story.starts[story.index_of(item.id)] if isinstance(item, Piece) else story.at(item)
    return begin + min(max(round(frames_to(item, moment)), 0), item.length - 1)


@edit(
    entry(
        "Ramp of the piece: PERCENT to PERCENT",
        also="speed ramp, slow down, speed up, accelerate",
        typed="text",
        default="400 to 100",
        item="piece",
        speeds="typed",
    ),
    entry(
        "Ramp of the cover: PERCENT to PERCENT",
        also="speed ramp, slow down, speed up, accelerate",
        typed="text",
        default="400 to 100",
        item="cover",
        speeds="typed",
    ),
    entry(
        "Ramp of the cover in its place: PERCENT to PERCENT",
        typed="text",
        default="400 to 100",
        item="cover",
        speeds="typed",
        keep="=place",
    ),
)
def ramp_over(story: Story, sources: Sources, item: int, speeds: str, keep: Keep = "shot") -> Edit:
    """Let a piece or a cover get faster, or slower, over all that it shows: from the one speed to the other ("400 to
    100").

    speed %    400 ‾‾\\____ 100        from its first frame to its last
    """
    clip = _running(story, sources, item)
    typed_speeds = fullmatch(r"\s*([\d.,]+)\s*%?\s*(?:to|>|-|–)\s*([\d.,]+)\s*%?\s*", speeds)
    if not typed_speeds:
        raise Refused("A ramp is typed as two speeds, such as “400 to 100”.")
    begin, end = (_typed_percent(group) for group in typed_speeds.groups())
    if begin == end:
        raise Refused("Both speeds are the same: set its speed instead.")
    first, last = (
        floor(clip.moment(edge_moment) if isinstance(clip, Piece) else clip.shown(edge_moment))
        for edge_moment in (0, clip.length - 1)
    )
    if first == last:
        raise Refused(
            f"{capitalised(name_of(sources, clip))} shows one frame of the shot: it cannot get faster or slower."
        )
    sorted_points = sorted(((first, begin), (last, end)))
    return set_ramp(story, sources, item, [list(sorted_point) for sorted_point in sorted_points], False, keep)


def _typed_percent(text: str) -> float:
    try:
        return float(text.replace(",", "."))
    except ValueError:
        raise Refused(f"“{text[:20]}” is no speed in percent.") from None


@edit(
    entry("Ramp of the piece in steps", item="piece", steps=True),
    entry("Ramp of the piece straight from one speed to the next", item="piece", steps=False),
    entry("Ramp of the cover in steps", item="cover", steps=True),
    entry("Ramp of the cover straight from one speed to the next", item="cover", steps=False),
)
def set_ramp(
    story: Story,
    sources: Sources,
    item: int,
    line: list[list[float]] | None = None,
    steps: bool | None = None,
    keep: Keep = "shot",
) -> Edit:
    """Draw the speed of a piece or a cover as a line: moments of its shot with percent (10 to 1000), straight between
    them or in steps.

    Its length follows (`keep` "shot": what it shows of the shot stays), or its place is kept and it shows more or
    less. An empty line takes the ramp out.
    """
    clip = _running(story, sources, item)
    ramp_rows = _ramp_rows(clip, line)
    if not ramp_rows:
        return set_speed(story, sources, item, 100, keep)
    speed = SETTINGS["speed"].as_kept(ramp_rows)
    if speed is None:
        raise Refused(f"A ramp is moments of the shot, in order, each with {SETTINGS['speed'].between}.")
    assert isinstance(speed, tuple)
    steps = bool(clip.settings["steps"] if steps is None else steps)
    if isinstance(clip, Piece):
        clock = on_clock(clip, paced(clip, speed, steps), _keeps(keep))
        return put(story, sources, clip, clock, f"ramped {_speeds(speed)}")
    ramped = with_setting(with_setting(_plain(clip), "speed", speed), "steps", steps)
    if len(speed) == 1 and speed[0][1] == 100:
        ramped = _plain(clip)
    elif _keeps(keep) == "shot":
        ramped = replace(ramped, length=max(1, round(ramp_of(speed, not steps).between(clip.start, clip.end))))
    if ramped == clip:
        raise Refused("It runs like that already.")
    room = source_of(sources, clip.source).length(story.rate)
    if room is not None and ramped.end > room and ramped.end > clip.end:
        raise Refused(
            f"The ramp runs out of the shot: {frames_in_words(ramped.end - room)} more would be needed. "
            "Make it shorter, or slower."
        )
    return _put(story, sources, ramped, f"{name_of(sources, clip)} ramped {_speeds(speed)}{_now_long(clip, ramped)}")


def _ramp_rows(clip: Piece | Cover, line: list[list[float]] | None) -> list[list[float]]:
    """The moments of a ramp that are asked for, or those that the clip has already."""
    if line is not None:
        if any(len(ramp_row) != 2 or not isfinite(ramp_row[0]) for ramp_row in line):
            raise Refused("A ramp is moments of the shot, each with its speed in percent.")
        return [[int(moment), value] for moment, value in line]
    ramp_rows = [list(ramp_row) for ramp_row in clip.settings["speed"]]
    if len(ramp_rows) < 1 + isinstance(clip, Piece):
        raise Refused("It has no ramp: give one of its moments a speed first.")
    return ramp_rows


def _speeds(line: Line) -> str:
    shown = [f"{value:g}" for _, value in (line if len(line) <= 4 else (*line[:2], *line[-1:]))]
    return f"{'from ' if len(shown) > 1 else 'to '}{' to '.join(shown)} %"


@edit(
    entry(
        "Hold the frame of the piece: LENGTH",
        also="freeze, freeze frame, still",
        typed="length",
        default="2s",
        item="piece",
        at="playhead",
        length="typed",
    ),
    entry(
        "Hold the frame of the cover: LENGTH",
        also="freeze, freeze frame, still",
        typed="length",
        default="2s",
        item="cover",
        at="playhead",
        length="typed",
    ),
)
def hold_frame(story: Story, sources: Sources, item: int, at: int, length: int) -> Edit:
    """Hold the frame that is seen at story frame `at` for so long. A piece goes on after it, and what follows moves
    down; of a cover what comes before stays as it is, and the frame stands to its new end.

    piece   [0 1 2 3 4 5)      held at 3 for 5:    [0 1 2)[3 3 3 3 3)[3 4 5)
    cover   [0 1 2 3 4 5)      held at 3 for 5:    [0 1 2)[3 3 3 3 3)
    """
    clip = _running(story, sources, item)
    frame_there = at - _begin(story, clip, at)
    if not 0 < length <= 100_000:
        raise Refused("Say for how long the frame is held.")
    said_frame = f"{name_of(sources, clip)}: the frame at {clock(at, story.rate)} held for {frames_in_words(length)}"
    if isinstance(clip, Piece):
        new_story, report = put_in(
            story, sources, at, [clock_held(clip, clip.moment(frame_there), length)], said_frame, stay=True
        )
        return new_story, report.with_notes(told_of_sound(new_story, sources, new_story.piece(report.made[0])))
    held = with_setting(
        replace(_unramped(clip), start=floor(clip.shown(frame_there)), length=length), "span", 1 if length > 1 else 0
    )
    held = replace(
        held,
        settings=held.settings.without("appear").without("backwards")
        if frame_there
        else held.settings.without("backwards"),
    )
    if not frame_there:
        return _put(story, sources, held, said_frame)
    part_before = part_of(clip, 0, frame_there)
    part_before = replace(part_before, settings=part_before.settings.without("leave"))
    return _put(story, sources, part_before, said_frame, replace(held, id=story.next_id, tether=story.tether_at(at)))


def _unramped(cover: Cover) -> Cover:
    return replace(cover, settings=cover.settings.without("speed").without("steps"))


@edit(
    entry("Land what the piece shows here on the out mark", item="piece", at="playhead", until="range end"),
    entry("Land what the cover shows here on the out mark", item="cover", at="playhead", until="range end"),
)
def land_on(story: Story, sources: Sources, item: int, at: int, until: int) -> Edit:
    """Change the speed of a piece or a cover so that the frame seen at story frame `at` is seen at `until`: on a beat,
    a mark, a word. It stays as long as it is.

    cover    [......x.....)           x at the beat:  [.........x..)
    beat                ^                                       ^
    """
    cover = _running(story, sources, item)
    begin = _begin(story, cover)
    if not begin < at < begin + cover.length or not begin < until < begin + cover.length:
        raise Refused("Both the frame and where it lands must lie inside of it, after its first frame.")
    if cover.settings["backwards"]:
        raise Refused("It runs backwards: let it run forwards first.")
    lands = f"lands at {clock(until, story.rate)}"
    if isinstance(cover, Piece):
        moment = cover.moment(at - begin)
        if moment == cover.moment(0):
            raise Refused("That is the first frame of the shot: trim the piece instead.")
        if moment == cover.moment(until - begin):
            raise Refused("It lands there already.")
        return put(story, sources, cover, landed(cover, moment, until - begin), lands)
    moment, frame_there = (
        floor(cover.shown(at - begin)) - cover.start,
        until - begin,
    )  # in frames of the shot, and of the story
    if moment < 1:
        raise Refused("That is the first frame of the shot: move the cover instead.")
    if ramp := cover.ramp:
        new_cover = with_setting(cover, "speed", landing(ramp, cover.start, cover.start + moment, frame_there).line)
        if SETTINGS["speed"].as_kept(new_cover.settings["speed"]) is None:
            raise Refused("That would run at less than 10 or more than 1000 % somewhere.")
        if new_cover == cover:
            raise Refused("It lands there already.")
        check_range(sources, story.rate, cover.source, cover.start, new_cover.used)
        return _put(story, sources, new_cover, f"{name_of(sources, cover)} {lands}")
    span = -(-moment * cover.length // frame_there)  # the least of which k frames show that moment
    if span == cover.used:
        raise Refused("It lands there already.")
    check_speed(cover.length, span)
    check_range(sources, story.rate, cover.source, cover.start, span)
    new_cover = with_setting(cover, "span", 0 if span == cover.length else span)
    return _put(
        story, sources, new_cover, f"{name_of(sources, cover)} {lands}, at {round(100 * span / cover.length)} %"
    )
