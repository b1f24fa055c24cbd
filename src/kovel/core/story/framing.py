"""Edits on how things are framed: a push, a frame at a moment, zoom in steps, every second jump punched in, several at once.

piece     [ words ................ ]      a push stands on the recording's clock: it stays with its words
zoom      100 ____________----- 112       through any trim, split or move
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from kovel.core.story.edit_offers import edit, entry
from kovel.core.story.edit_rules import DIALOGUE, Edit, begun, lane_key, name_of, refuse_locked
from kovel.core.story.model import Cover, Item, Piece, Refused, Sound, Sources, Story, moment_of, with_setting
from kovel.core.story.seams import PUNCH, exposed
from kovel.core.story.settings import FRAMING, LOOK, SETTINGS, Line, met, on_line, reaching
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
    x = story.item(item)
    s = sources.get(x.source) if x.source is not None else None
    if isinstance(x, Sound) or s is None or not s.picture or (isinstance(x, Piece) and x.take == "sound"):
        raise Refused(f"{begun(name_of(sources, x))} has no picture to frame.")
    refuse_locked(story, DIALOGUE if isinstance(x, Piece) else lane_key(x.lane))
    if isinstance(x, Cover):
        story.at(x)
    return x


def _ends(x: Piece | Cover) -> tuple[int, int]:
    """The first and the last moment of its recording that it shows, in the order in which they are seen."""
    a, b = (x.start, x.end) if isinstance(x, Cover) else x.used
    return (b - 1, a) if x.clock.backwards else (a, b - 1)


def _many(n: int, what: str) -> str:
    return f"{n} {what}{'s' if n != 1 else ''}"


def _value(setting: str, value: object) -> Any:
    now = SETTINGS[setting].as_kept(value)
    if now is None:
        raise Refused(f"{SETTINGS[setting].label} is set to {SETTINGS[setting].between}.")
    return now


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
    story: Story, sources: Sources, items: list[int], last: int | float, first: int | float | None = None, ease: str = "both"
) -> Edit:
    """Move in or out over the whole length of what is chosen, from `first` percent (none: as it stands) to `last`.

    A  [ words ........ ]    zoom 100 % at its first frame, 112 % at its last, eased at both ends
    """
    ease = _value("ease", ease)
    rows: dict[int, Item] = {}
    for i in dict.fromkeys(items):
        x = _seen(story, sources, i)
        a, b = _ends(x)
        if a == b:
            raise Refused(f"{begun(name_of(sources, x))} is one frame long: nothing can move in it.")
        now = story.value_at(x, "zoom", sources, a)
        begin, end = float(_value("zoom", now if first is None else first)), float(_value("zoom", last))
        if begin == end:
            raise Refused(f"It stands at {end:g} % already: type another percentage to move to.")
        line = tuple(sorted(((a, begin), (b, end))))
        new = with_setting(with_setting(x, "zoom", line), "ease", ease)
        if new != x:
            rows[i] = new
    if not rows:
        raise Refused("Choose something first." if not items else "It moves like that already.")
    one = next(iter(rows))
    what = name_of(sources, story.item(one)) if len(rows) == 1 else f"{len(rows)} things"
    first_, last_ = (on_line(rows[one].settings["zoom"], m) for m in _ends(rows[one]))  # type: ignore[arg-type]
    did = (
        f"{what}: a push from {first_:g} to {last_:g} %"
        if last_ > first_
        else f"{what}: pulled out from {first_:g} to {last_:g} %"
    )
    return settle(story, story.with_items(rows), sources, did, made=tuple(rows))


@edit()
def frame_here(
    story: Story, sources: Sources, item: int, at: int, zoom: int | float | None = None, across: int | float | None = None,
    down: int | float | None = None, move: bool = False,
) -> Edit:  # fmt: skip
    """Frame one thing as it is dragged at story frame `at`: zoom in percent, across and down in percent of the room.

    Where it moves already, or (`move`) is to move, a moment is set there; else the whole of it is framed so.
    """
    x = _seen(story, sources, item)
    begin = story.starts[story.index_of(x.id)] if isinstance(x, Piece) else story.at(x)
    if not begin <= at < begin + x.length:
        raise Refused(
            f"That lies outside of it: it is seen from {clock(begin, story.rate)} to {clock(begin + x.length, story.rate)}."
        )
    m = moment_of(x, at - begin)
    given = {n: _value(n, v) for n, v in (("zoom", zoom), ("across", across), ("down", down)) if v is not None}
    if not given or any(isinstance(v, tuple) for v in given.values()):
        raise Refused("Say how it is to be framed: zoom, across or down.")
    moving = move or any(isinstance(story.value(x, n, sources), tuple) for n in MOVED)
    new: Piece | Cover = x
    for n in MOVED:
        now = story.value(x, n, sources)
        said = on_line(now, m) if isinstance(now, tuple) else float(now)
        want = float(given.get(n, said))
        if not moving:
            if n in given and want != said:
                new = with_setting(new, n, _value(n, want), keep=True)
            continue
        line: dict[int, float] = dict(now) if isinstance(now, tuple) else {}
        if n in given or isinstance(now, tuple):
            if not isinstance(now, tuple) and move:  # it stands as it stood at the other end
                first, last = _ends(x)
                line[first if m != first else last] = said
            line[m] = float(_value(n, want))
            made: Line = tuple(sorted(line.items()))
            new = with_setting(new, n, made)
    if new == x:
        raise Refused("It is like that already.")
    told = ", ".join(f"{SETTINGS[n].label.lower()} {SETTINGS[n].says(v)}" for n, v in given.items())
    where = f" at {clock(at, story.rate)}" if moving else ""
    return settle(
        story, story.with_items({item: new}), sources, f"{name_of(sources, x)}: {told}{where}", made=(item,), playhead=at
    )


@edit(entry("Zoom in steps: PERCENT PERCENT ...", typed="text", default="150 140 125", items="all chosen", values="typed"))
def stepped_zoom(story: Story, sources: Sources, items: list[int], values: str | list[float]) -> Edit:
    """Give pieces one zoom after the other, from the first chosen one on: as many as there are values, or as are chosen.

    A | B | C      150 140 125    ->   A at 150 %  | B at 140 % | C at 125 %
    """
    try:
        steps = [float(v) for v in (values.replace("%", " ").replace(",", " ").split() if isinstance(values, str) else values)]
    except ValueError:
        raise Refused("Type the percentages one after the other, for instance 150 140 125.") from None
    if not 0 < len(steps) <= 200:
        raise Refused("Type the percentages one after the other, for instance 150 140 125.")
    zooms = [_value("zoom", v) for v in steps]
    order = sorted(story.index_of(i) for i in dict.fromkeys(items) if isinstance(story.item(i), Piece))
    if not order:
        raise Refused("Choose the pieces, or the first of them.")
    rows = [story.pieces[i] for i in order] if len(order) > 1 else list(story.pieces[order[0] :])
    framed = [p for p in rows if p.source is not None and p.source in sources and sources[p.source].picture]
    changed: dict[int, Item] = {}
    for p, zoom in zip(framed, zooms if len(order) == 1 else [*zooms, *[zooms[-1]] * len(rows)], strict=False):
        x = _seen(story, sources, p.id)
        changed[p.id] = with_setting(x, "zoom", zoom, keep=True)
    if all(changed[i] == story.item(i) for i in changed):
        raise Refused("They are like that already." if changed else "There is no piece with a picture there.")
    told = ", ".join(f"{z:g}" for z in zooms[: min(6, len(changed))])
    return settle(
        story,
        story.with_items(changed),
        sources,
        f"{_many(len(changed), 'piece')} zoomed in steps: {told} %",
        made=tuple(changed),
    )


@edit(entry("Punch in on every second exposed jump: PERCENT", typed="number", default="125", asks=True, zoom="typed"))
def punch_in_jumps(story: Story, sources: Sources, zoom: int | float = 125) -> Edit:
    """Take the jolt out of jump cuts by another size on one side: every second piece along exposed jumps is shown larger.

    A | A | A | A      jumps between       ->   A | A 125 % | A | A 125 %
    """
    size = float(_value("zoom", zoom))
    if size < 100 * PUNCH:
        raise Refused(f"Under {100 * PUNCH:g} % the eye takes it for the same framing: type {100 * PUNCH:g} or more.")
    jumps = exposed(story, sources)
    if not jumps:
        raise Refused("No jump cut is exposed.")
    changed: dict[int, Item] = {}
    for s in jumps:
        left, right = changed.get(s.left.id, s.left), changed.get(s.right.id, s.right)
        before = _at(story, sources, left, s.ends[0] - 1)
        after = _at(story, sources, right, s.ends[1])
        if max(before, after) >= PUNCH * min(before, after):
            continue  # the one before made it soft
        if isinstance(right.settings["zoom"], tuple):
            continue  # it moves already; a step into a move is another thing to judge
        _seen(story, sources, s.right.id)
        large = before * size / 100
        changed[s.right.id] = with_setting(right, "zoom", _value("zoom", min(SETTINGS["zoom"].high, large)), keep=True)
    if not changed:
        raise Refused("The pieces after these jumps move already: frame them by hand.")
    at = {i: story.starts[story.index_of(i)] for i in changed}
    new, report = settle(
        story, story.with_items(changed), sources,
        f"{len(changed)} of {len(story.pieces)} pieces punched in at {_many(len(jumps), 'jump')}",
        made=tuple(changed), playhead=next(iter(at.values())),
    )  # fmt: skip
    notes = [
        f"{begun(name_of(sources, x))} at {clock(at[i], story.rate)}: {x.settings['zoom']:g} %" for i, x in changed.items()
    ]
    more = [f"And {len(notes) - TOLD} more."] if len(notes) > TOLD else []
    return new, replace(report.with_notes([*notes[:TOLD], *more]), judged=True)


def _at(story: Story, sources: Sources, x: Item, moment: int) -> float:
    """Its zoom at a moment, changed or not."""
    return story.value_at(x, "zoom", sources, moment)


@edit(entry("Split screen of what is chosen", also="multi picture, picture in picture", items="all chosen"))
def split_screen(story: Story, sources: Sources, items: list[int]) -> Edit:
    """Show two, three or four pieces and covers side by side for as long as they lie over each other, in the order of lanes.

    cover 1     [ B ......... ]         A in the left half,
    dialogue  [ A ............... ]     B in the right half
    """
    xs = given = [_seen(story, sources, i) for i in dict.fromkeys(items)]
    if len(xs) not in SPLITS:
        raise Refused("Choose two, three or four pieces and covers that lie over each other.")
    begins = [story.starts[story.index_of(x.id)] if isinstance(x, Piece) else story.at(x) for x in xs]
    a, b = max(begins), min(t + x.length for t, x in zip(begins, xs, strict=True))
    if b <= a:
        raise Refused("They are not seen at the same time: lay them over each other first.")
    xs = sorted(xs, key=lambda x: (x.lane, story.at(x)) if isinstance(x, Cover) else (0, 0))
    changed: dict[int, Item] = {x.id: with_setting(x, "place", place) for x, place in zip(xs, SPLITS[len(xs)], strict=True)}
    new, report = settle(
        story, story.with_items(changed), sources, f"Split screen of {len(xs)}, {clock(b - a, story.rate)} long",
        made=tuple(changed), playhead=a,
    )  # fmt: skip
    more = [x for t, x in zip(begins, given, strict=True) if t < a or t + x.length > b]
    notes = [
        f"{begun(name_of(sources, x))} stands in its place before or after that too: split it there if it should not."
        for x in more
    ]
    return new, report.with_notes(list(dict.fromkeys(notes)))


@edit(entry("As it was filmed: framing and look", also="reset, remove effects, original, ungraded", items="all chosen"))
def as_filmed(story: Story, sources: Sources, items: list[int]) -> Edit:
    """Show these as they were filmed: without any framing or look, neither their own nor what wider scopes say.

    recording   brightness +0.5  zoom 120 %        recording   brightness +0.5  zoom 120 %
    piece       contrast +10                 ->    piece       (the inherited look replaced by none, zoom 100 %)
    """
    changed: dict[int, Item] = {}
    for i in dict.fromkeys(items):
        x = _seen(story, sources, i)
        own, wide = x.settings, story.scopes(x, sources)[:-1]
        for n in (*FRAMING, *LOOK, "look_alone"):
            own = own.without(n)
        for n in FRAMING:
            if met(n, wide) != SETTINGS[n].default:
                own = own.with_value(n, SETTINGS[n].default, keep=True)
        if any(n in v for v in reaching(LOOK[0], wide) for n in LOOK):
            own = own.with_value("look_alone", True)
        if own != x.settings:
            changed[i] = replace(x, settings=own)
    if not changed:
        raise Refused(
            "It is shown as it was filmed already." if len(items) == 1 else "They are shown as they were filmed already."
        )
    what = name_of(sources, story.item(next(iter(changed)))) if len(changed) == 1 else f"{len(changed)} things"
    return settle(story, story.with_items(changed), sources, f"{what}: framing and look as filmed", made=tuple(changed))
