"""Edits on how things are framed: a push, a frame at a moment, zoom in steps, every second jump punched in, several at
once.

piece     [ words ................ ]      a push stands on the recording's clock: it stays with its words
zoom      100 ____________----- 112       through any trim, split or move
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import DIALOGUE, Edit, capitalised, lane_key, name_of, refuse_locked
from kovel.core.story.model import Cover, Item, Piece, Refused, Sound, Sources, Story, moment_of, with_setting
from kovel.core.story.seams import PUNCH, exposed
from kovel.core.story.settings import FRAMING, LOOK, SETTINGS, Value, on_line, reaching, value_over_scopes
from kovel.core.story.settling import settle
from kovel.core.time.timecode import stamp as clock

MOVED = ("zoom", "across", "down")
TOLD = 12  # pieces that are named one by one
SPLITS = {
    2: ("left half", "right half"),
    3: ("left third", "middle third", "right third"),
    4: ("upper left", "upper right", "lower left", "lower right"),
}


def _seen(story: Story, sources: Sources, item: int) -> Piece | Cover:
    """The piece or cover of that id; `Refused` where it has no picture, is loose or locked."""
    clip = story.item(item)
    source = sources.get(clip.source) if clip.source is not None else None
    if (
        isinstance(clip, Sound)
        or source is None
        or not source.picture
        or (isinstance(clip, Piece) and clip.take == "sound")
    ):
        raise Refused(f"{capitalised(name_of(sources, clip))} has no picture to frame.")
    refuse_locked(story, DIALOGUE if isinstance(clip, Piece) else lane_key(clip.lane))
    if isinstance(clip, Cover):
        story.at(clip)
    return clip


def _ends(clip: Piece | Cover) -> tuple[int, int]:
    """The first and the last moment of its recording that it shows, in the order in which they are seen."""
    start, end = (clip.start, clip.end) if isinstance(clip, Cover) else clip.used
    return (end - 1, start) if clip.clock.backwards else (start, end - 1)


def _many(n: int, what: str) -> str:
    return f"{n} {what}{'s' if n != 1 else ''}"


def _value(setting: str, value: object) -> Any:
    kept_value = SETTINGS[setting].as_kept(value)
    if kept_value is None:
        raise Refused(f"{SETTINGS[setting].label} is set to {SETTINGS[setting].between}.")
    return kept_value


@edit(
    entry(
        "Push in slowly, to PERCENT",
        also="zoom, slow zoom, move",
        typed="number",
        default="112",
        items="all chosen",
        last="typed",
    ),
    entry(
        "Pull out slowly, from PERCENT",
        also="zoom out",
        typed="number",
        default="112",
        items="all chosen",
        first="typed",
        last=100,
    ),
)
def push(
    story: Story,
    sources: Sources,
    items: list[int],
    last: int | float,
    first: int | float | None = None,
    ease: str = "both",
) -> Edit:
    """Move in or out over the whole length of what is chosen, from `first` percent (none: as it stands) to `last`.

    A  [ words ........ ]    zoom 100 % at its first frame, 112 % at its last, eased at both ends
    """
    ease = _value("ease", ease)
    changed_items: dict[int, Item] = {}
    for item_id in dict.fromkeys(items):
        clip = _seen(story, sources, item_id)
        start, until = _ends(clip)
        if start == until:
            raise Refused(f"{capitalised(name_of(sources, clip))} is one frame long: nothing can move in it.")
        zoom_now = story.value_at(clip, "zoom", sources, start)
        begin, end = float(_value("zoom", zoom_now if first is None else first)), float(_value("zoom", last))
        if begin == end:
            raise Refused(f"It stands at {end:g} % already: type another percentage to move to.")
        zoom_line = tuple(sorted(((start, begin), (until, end))))
        pushed = with_setting(with_setting(clip, "zoom", zoom_line), "ease", ease)
        if pushed != clip:
            changed_items[item_id] = pushed
    if not changed_items:
        raise Refused("Choose something first." if not items else "It moves like that already.")
    one = next(iter(changed_items))
    item_names = name_of(sources, story.item(one)) if len(changed_items) == 1 else f"{len(changed_items)} clips"
    moving = changed_items[one]
    first_, last_ = (on_line(moving.settings["zoom"], end) for end in _ends(moving))  # type: ignore[arg-type]
    summary = (
        f"{item_names}: a push from {first_:g} to {last_:g} %"
        if last_ > first_
        else f"{item_names}: pulled out from {first_:g} to {last_:g} %"
    )
    return settle(story, story.with_items(changed_items), sources, summary, made=tuple(changed_items))


@edit()
def frame_here(
    story: Story,
    sources: Sources,
    item: int,
    at: int,
    zoom: int | float | None = None,
    across: int | float | None = None,
    down: int | float | None = None,
    move: bool = False,
) -> Edit:
    """Frame one thing as it is dragged at story frame `at`: zoom in percent, across and down in percent of the room.

    Where it moves already, or (`move`) is to move, a moment is set there; else the whole of it is framed so.
    """
    clip = _seen(story, sources, item)
    begin = story.starts[story.index_of(clip.id)] if isinstance(clip, Piece) else story.at(clip)
    if not begin <= at < begin + clip.length:
        seen = f"{clock(begin, story.rate)} to {clock(begin + clip.length, story.rate)}"
        raise Refused(f"That lies outside of it: it is seen from {seen}.")
    asked_values = (("zoom", zoom), ("across", across), ("down", down))
    given = {name: _value(name, value) for name, value in asked_values if value is not None}
    if not given or any(isinstance(value, tuple) for value in given.values()):
        raise Refused("Say how it is to be framed: zoom, across or down.")
    moving = move or any(isinstance(story.value(clip, name, sources), tuple) for name in MOVED)
    framed: Piece | Cover = clip
    if moving:
        framed = _moved_here(story, sources, clip, moment_of(clip, at - begin), given, move)
    else:
        for name, value in given.items():
            if float(value) != float(story.value(clip, name, sources)):
                framed = with_setting(framed, name, value, keep=True)
    if framed == clip:
        raise Refused("It is like that already.")
    told_values = ", ".join(
        f"{SETTINGS[name].label.lower()} {SETTINGS[name].says(value)}" for name, value in given.items()
    )
    where = f" at {clock(at, story.rate)}" if moving else ""
    summary = f"{name_of(sources, clip)}: {told_values}{where}"
    return settle(story, story.with_items({item: framed}), sources, summary, made=(item,), playhead=at)


def _moved_here(
    story: Story, sources: Sources, clip: Piece | Cover, moment: int, given: dict[str, Value], move: bool
) -> Piece | Cover:
    """A clip whose framing has a moment here: what is given of it, and the rest as it is seen there now."""
    framed = clip
    for name in MOVED:
        value_now = story.value(clip, name, sources)
        if name not in given and not isinstance(value_now, tuple):
            continue
        line_now: dict[int, float] = dict(value_now) if isinstance(value_now, tuple) else {}
        seen = on_line(value_now, moment) if isinstance(value_now, tuple) else float(value_now)
        if not isinstance(value_now, tuple) and move:  # it stands as it stood at the other end
            first, last = _ends(clip)
            line_now[first if moment != first else last] = seen
        line_now[moment] = float(_value(name, given.get(name, seen)))
        framed = with_setting(framed, name, tuple(sorted(line_now.items())))
    return framed


def _zooms_typed(values: str | list[float]) -> list[Any]:
    typed = values.replace("%", " ").replace(",", " ").split() if isinstance(values, str) else values
    try:
        steps = [float(value) for value in typed]
    except ValueError:
        steps = []
    if not 0 < len(steps) <= 200:
        raise Refused("Type the percentages one after the other, for instance 150 140 125.")
    return [_value("zoom", step) for step in steps]


@edit(
    entry("Zoom in steps: PERCENT PERCENT ...", typed="text", default="150 140 125", items="all chosen", values="typed")
)
def stepped_zoom(story: Story, sources: Sources, items: list[int], values: str | list[float]) -> Edit:
    """Give pieces one zoom after the other, from the first chosen one on: as many as there are values, or as are
    chosen.

    A | B | C      150 140 125    ->   A at 150 %  | B at 140 % | C at 125 %
    """
    zooms = _zooms_typed(values)
    order = sorted(
        story.index_of(item_id) for item_id in dict.fromkeys(items) if isinstance(story.item(item_id), Piece)
    )
    if not order:
        raise Refused("Choose the pieces, or the first of them.")
    zoomed_pieces = (
        [story.pieces[piece_index] for piece_index in order] if len(order) > 1 else list(story.pieces[order[0] :])
    )
    pictured = {source.id for source in sources.values() if source.picture}
    framed = [piece for piece in zoomed_pieces if piece.source in pictured]
    changed: dict[int, Item] = {}
    for piece, zoom in zip(
        framed, zooms if len(order) == 1 else [*zooms, *[zooms[-1]] * len(zoomed_pieces)], strict=False
    ):
        clip = _seen(story, sources, piece.id)
        changed[piece.id] = with_setting(clip, "zoom", zoom, keep=True)
    if all(changed[item_id] == story.item(item_id) for item_id in changed):
        raise Refused("They are like that already." if changed else "There is no piece with a picture there.")
    told_zooms = ", ".join(f"{zoom:g}" for zoom in zooms[: min(6, len(changed))])
    return settle(
        story,
        story.with_items(changed),
        sources,
        f"{_many(len(changed), 'piece')} zoomed in steps: {told_zooms} %",
        made=tuple(changed),
    )


@edit(entry("Punch in on every second exposed jump: PERCENT", typed="number", default="125", asks=True, zoom="typed"))
def punch_in_jumps(story: Story, sources: Sources, zoom: int | float = 125) -> Edit:
    """Take the jolt out of jump cuts by another size on one side: every second piece along exposed jumps is shown
    larger.

    A | A | A | A      jumps between       ->   A | A 125 % | A | A 125 %
    """
    size = float(_value("zoom", zoom))
    if size < 100 * PUNCH:
        raise Refused(f"Under {100 * PUNCH:g} % the eye takes it for the same framing: type {100 * PUNCH:g} or more.")
    jumps = exposed(story, sources)
    if not jumps:
        raise Refused("No jump cut is exposed.")
    changed: dict[int, Item] = {}
    for seam in jumps:
        piece_before, right = changed.get(seam.left.id, seam.left), changed.get(seam.right.id, seam.right)
        before = _at(story, sources, piece_before, seam.ends[0] - 1)
        after = _at(story, sources, right, seam.ends[1])
        if max(before, after) >= PUNCH * min(before, after):
            continue  # the one before made it soft
        if isinstance(right.settings["zoom"], tuple):
            continue  # it moves already; a step into a move is another thing to judge
        _seen(story, sources, seam.right.id)
        large = before * size / 100
        changed[seam.right.id] = with_setting(
            right, "zoom", _value("zoom", min(SETTINGS["zoom"].high, large)), keep=True
        )
    if not changed:
        raise Refused("The pieces after these jumps move already: frame them by hand.")
    at = {item_id: story.starts[story.index_of(item_id)] for item_id in changed}
    new_story, report = settle(
        story,
        story.with_items(changed),
        sources,
        f"{len(changed)} of {len(story.pieces)} pieces punched in at {_many(len(jumps), 'jump')}",
        made=tuple(changed),
        playhead=next(iter(at.values())),
    )
    notes = [
        f"{capitalised(name_of(sources, clip))} at {clock(at[key], story.rate)}: {clip.settings['zoom']:g} %"
        for key, clip in changed.items()
    ]
    more = [f"And {len(notes) - TOLD} more."] if len(notes) > TOLD else []
    return new_story, replace(report.with_notes([*notes[:TOLD], *more]), judged=True)


def _at(story: Story, sources: Sources, item: Item, moment: int) -> float:
    """Its zoom at a moment, changed or not."""
    return story.value_at(item, "zoom", sources, moment)


@edit(entry("Split screen of what is chosen", also="multi picture, picture in picture", items="all chosen"))
def split_screen(story: Story, sources: Sources, items: list[int]) -> Edit:
    """Show two, three or four pieces and covers side by side for as long as they lie over each other, in the order of
    lanes.

    cover 1     [ B ......... ]         A in the left half,
    dialogue  [ A ............... ]     B in the right half
    """
    xs = given = [_seen(story, sources, item_id) for item_id in dict.fromkeys(items)]
    if len(xs) not in SPLITS:
        raise Refused("Choose two, three or four pieces and covers that lie over each other.")
    begins = [story.starts[story.index_of(clip.id)] if isinstance(clip, Piece) else story.at(clip) for clip in xs]
    start, end = max(begins), min(begin + clip.length for begin, clip in zip(begins, xs, strict=True))
    if end <= start:
        raise Refused("They are not seen at the same time: lay them over each other first.")
    xs = sorted(xs, key=lambda x: (x.lane, story.at(x)) if isinstance(x, Cover) else (0, 0))
    changed: dict[int, Item] = {
        clip.id: with_setting(clip, "place", place) for clip, place in zip(xs, SPLITS[len(xs)], strict=True)
    }
    new_story, report = settle(
        story,
        story.with_items(changed),
        sources,
        f"Split screen of {len(xs)}, {clock(end - start, story.rate)} long",
        made=tuple(changed),
        playhead=start,
    )
    more = [clip for begin, clip in zip(begins, given, strict=True) if begin < start or begin + clip.length > end]
    notes = [
        f"{capitalised(name_of(sources, clip))} stands in its place before or after that too: "
        "split it there if it should not."
        for clip in more
    ]
    return new_story, report.with_notes(list(dict.fromkeys(notes)))


@edit(entry("As it was filmed: framing and look", also="reset, remove effects, original, ungraded", items="all chosen"))
def as_filmed(story: Story, sources: Sources, items: list[int]) -> Edit:
    """Show these as they were filmed: without any framing or look, neither their own nor what wider scopes say.

    recording   brightness +0.5  zoom 120 %        recording   brightness +0.5  zoom 120 %
    piece       contrast +10                 ->    piece       (the inherited look replaced by none, zoom 100 %)
    """
    changed: dict[int, Item] = {}
    for item_id in dict.fromkeys(items):
        clip = _seen(story, sources, item_id)
        own_values, wide = clip.settings, story.scopes(clip, sources)[:-1]
        for name in (*FRAMING, *LOOK, "look_alone"):
            own_values = own_values.without(name)
        for name in FRAMING:
            if value_over_scopes(name, wide) != SETTINGS[name].default:
                own_values = own_values.with_value(name, SETTINGS[name].default, keep=True)
        if any(name in values for values in reaching(LOOK[0], wide) for name in LOOK):
            own_values = own_values.with_value("look_alone", True)
        if own_values != clip.settings:
            changed[item_id] = replace(clip, settings=own_values)
    if not changed:
        raise Refused(
            "It is shown as it was filmed already."
            if len(items) == 1
            else "They are shown as they were filmed already."
        )
    item_names = name_of(sources, story.item(next(iter(changed)))) if len(changed) == 1 else f"{len(changed)} clips"
    return settle(
        story, story.with_items(changed), sources, f"{item_names}: framing and look as filmed", made=tuple(changed)
    )
