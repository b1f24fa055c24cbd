"""Covers and titles over the dialogue's pictures: what lies on what in each run of frames, and how it comes and goes.

dialogue  [ A ............ ][ B ...... ]
cover          [boat ...]        [hands ..........)      ->   [ A .][boat ...][ A ][ B .][hands ]
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise
from math import ceil
from operator import itemgetter

from kovel.core.plan.layers import BLACK, LINE, OPAQUE, Ease, Image, Layer, Opacity, Run, TitleImage
from kovel.core.plan.pictures import Seen, steady, times, with_opacity
from kovel.core.story.edit_rules import source_of
from kovel.core.story.model import TITLE, Cover, Sources, Story
from kovel.core.story.settings import FILLED, on_line

Live = tuple[
    int, int, Cover, int
]  # where a cover begins and ends, and its last frames that only the next one is seen over


def _edges(story: Story, seen: Seen, spans: Sequence[Live], dialogue: Sequence[Run]) -> list[int]:
    """Where what is seen may change: at the edges of runs and covers, and where the opacity of a cover bends."""
    edges = {0, story.length}
    for run in dialogue:
        edges |= {run.at, run.end}
    for start, end, cover, extra in spans:
        edges |= {start, end}
        edges.update(bend for bend in _bends(seen, cover, start, end - extra) if start < bend < min(end, story.length))
    return sorted(edges)


def covered(story: Story, sources: Sources, dialogue: list[Run]) -> list[Run]:
    """The dialogue's runs with covers over them. In a frame shared by covers the highest lane is seen, and of one lane
    the later; through one that is see-through, what lies under it. What runs past the story's end is cut there.

    dialogue  [ A ............ ][ B ...... ]
    cover          [boat ...]        [hands ..........)      ->   [ A .][boat ...][ A ][ B .][hands ]

    A cover that comes in over n frames where another of its lane ends is a dissolve between them: that other one
    goes on under it for as long as its shot lasts.
    """
    spans = _in_place(story, sources)
    if not spans:
        return dialogue
    seen = Seen(story, sources)
    runs: list[Run] = []
    live: list[Live] = []
    i = k = 0
    for start, end in pairwise(_edges(story, seen, spans, dialogue)):
        while i < len(spans) and spans[i][0] <= start:
            live.append(spans[i])
            i += 1
        if live:
            live = [live_clip for live_clip in live if live_clip[1] > start]
        while dialogue[k].end <= start:
            k += 1
        if not live:
            runs.append(dialogue[k].part(start, end))
            continue
        over = sorted(live, key=lambda r: (r[2].lane, r[0]), reverse=True) if len(live) > 1 else live
        runs.append(Run(start, end, _over(seen, over, dialogue[k], start, end), over[0][2].id))
    return runs


def _over(seen: Seen, over: list[Live], under: Run, start: int, end: int) -> tuple[Layer, ...]:
    """Story frames [a, b) of a run with what lies over it, from the top down. What is tied to a group that is seen
    as one picture there is put together with it, up to the lane from which on something else lies over it."""
    group = next((layer.image.group for layer in under.layers if layer.image.group), 0) if seen.whole else 0
    n = 0
    while group and n < len(over) and seen.whole_of(over[-1 - n][2]) == group:
        n += 1
    outer = _stacked(seen, over[: len(over) - n], start, end)
    if outer and outer[0].plain:
        return outer
    below = under.part(start, end).layers
    if n:
        put = _stacked(seen, over[len(over) - n :], start, end)
        hides = put[0].plain
        below = tuple(
            replace(layer, image=replace(layer.image, stack=put if hides else (*layer.image.stack, *put)))
            if layer.image.group == group
            else layer
            for layer in below
        )
    return (*below, *outer)


def _stacked(seen: Seen, over: Sequence[Live], start: int, until: int) -> tuple[Layer, ...]:
    """Covers and titles in story frames [a, b), bottom first, as far as nothing hides them."""
    stack: list[Layer] = []
    filling: tuple[Layer, Opacity, int] | None = None  # letters that wait for what fills them, and where in the stack
    for at, end, cover, extra in over:
        layers = seen.cover(cover, start - at)
        black, opacity = _opacity(seen, cover, at, end - extra, start, until)
        if cover.source == TITLE:
            layers = _moving(seen, cover, layers, at, end - extra, start, until)
            stack[:0] = with_opacity(layers, opacity)
            filling = (_letters(layers[0]), opacity, len(stack)) if seen.read(cover, "filled") == FILLED[1] else filling
            continue
        if filling:  # seen in the letters alone
            (cut_layer, share, above), filling = filling, None
            shown = (*([replace(BLACK, opacity=black)] if black else ()), *with_opacity(layers, opacity))
            stack.insert(len(stack) - above + 1, Layer(Image(stack=shown, cut=cut_layer), share))
            continue
        stack[:0] = [*([replace(BLACK, opacity=black)] if black else []), *with_opacity(layers, opacity)]
        if (opacity == OPAQUE and layers[0].plain) or black == OPAQUE:
            break
    return tuple(stack)


def _letters(title: Layer) -> Layer:
    """A title's letters alone, to cut something out by."""
    assert title.image.title
    style_rows = tuple((name, {"box": 0, "edge": 0.0}.get(name, value)) for name, value in title.image.title.rows)
    return replace(title, image=Image(title=TitleImage(style_rows)))


def _in_place(story: Story, sources: Sources) -> list[Live]:
    """Covers in order of their beginnings, as far as they are seen."""
    spans_in_place = [
        span
        for span in story.spans
        if span[0] < story.length  # one on the story's clock may lie behind its end
        and (span[2].source in sources or span[2].source == TITLE)
        and f"cover {span[2].lane}" not in story.muted
    ]
    spans_in_place.sort(key=itemgetter(0))
    comes = {
        (a, cover.lane): int(cover.settings["appear"])
        for a, _, cover in spans_in_place
        if cover.settings and cover.settings["appear"]
    }
    clips_in_place: list[Live] = []
    for start, end, cover in spans_in_place:
        over = comes.get((end, cover.lane), 0) if comes else 0
        over = min(over, room_behind(cover, sources, story)) if over else 0
        clips_in_place.append(
            (start, min(end + over, story.length), cover, min(end + over, story.length) - min(end, story.length))
        )
    return clips_in_place


def room_behind(cover: Cover, sources: Sources, story: Story) -> int:
    """Story frames for which a cover's shot could go on behind its out point."""
    total = source_of(sources, cover.source).length(story.rate)
    if total is None:
        return 10**9
    return (
        max(0, ceil(cover.gone(total)) - cover.length)
        if not cover.settings["backwards"]
        else cover.start * cover.length // cover.used
    )


def _bends(seen: Seen, cover: Cover, start: int, end: int) -> list[int]:
    """Story frames at which the opacity of a cover from a to b changes its course."""
    if not cover.settings and not seen.wide:
        return []
    own_values = cover.settings
    if seen.by_frame(cover):
        return [*range(start, end)]
    come, go = int(own_values["appear"]), int(own_values["leave"])
    bend_frames = (
        [start + come, end - go]
        if seen.read(cover, "through") != "black"
        else [start + come // 2, start + come, end - go, end - go + go // 2]
    )
    opacity_line = seen.read(cover, "opacity")
    if isinstance(opacity_line, tuple):
        bend_frames += [start + moment - cover.start for moment, _ in opacity_line]
        if come or go:  # two straight lines on each other are none: frame by frame
            bend_frames += [*range(start, start + come), *range(end - go, end)]
    return bend_frames


def _opacity(seen: Seen, cover: Cover, at: int, end: int, start: int, until: int) -> tuple[Opacity | None, Opacity]:
    """(of the black under it, of the cover itself) in story frames [a, b), between two of its bends."""
    if not cover.settings and not seen.wide:
        return None, OPAQUE
    come, go = int(cover.settings["appear"]), int(cover.settings["leave"])
    base = _own_opacity(seen, cover, start - at, until - at)
    if seen.read(cover, "through") == "black":
        return _through_black(base, start - at, end - start, come, go)
    title = cover.source == TITLE  # one that slides or is written stays as clear as it is
    if come and start < at + come and not (title and seen.read(cover, "enters") not in ("fade", "rise")):
        base = times(base, Opacity.rising(come, start - at))
    if go and end - go <= start < end and not (title and seen.read(cover, "goes") not in ("fade", "rise")):
        base = times(base, Opacity.falling(go, start - (end - go)))
    return None, base


def _own_opacity(seen: Seen, cover: Cover, start: int, until: int) -> Opacity:
    """What is set on a cover, over its frames [start, until), which lie between two of its moments."""
    opacity_line = seen.read(cover, "opacity")
    if not isinstance(opacity_line, tuple):
        return steady(opacity_line)
    first, last = (round(10 * on_line(opacity_line, cover.start + edge_frame)) for edge_frame in (start, until))
    if first != last:
        return Opacity(first * (until - start), last - first, 1000 * (until - start))
    return OPAQUE if first == 1000 else Opacity(first, 0, 1000)


def _through_black(base: Opacity, since: int, left: int, come: int, go: int) -> tuple[Opacity | None, Opacity]:
    """(of the black, of the cover) of a cover that comes and goes through black, from its frame `since` on, with so
    many frames `left` of it."""
    unseen = Opacity(0, 0, 1)
    rest = go - go // 2
    if since < come // 2:
        return Opacity.rising(come // 2, since), unseen
    if since < come:
        return OPAQUE, times(base, Opacity.rising(come - come // 2, since - come // 2))
    if go and left <= rest:
        return Opacity.falling(rest, rest - left), unseen
    if go and left <= go:
        return OPAQUE, times(base, Opacity.falling(go // 2, go - left))
    return None, base


RISE = 0.06  # of the picture's height: how far a title rises as it comes


def _moving(
    seen: Seen, cover: Cover, layers: tuple[Layer, ...], at: int, end: int, start: int, until: int
) -> tuple[Layer, ...]:
    """A title as it slides, rises, is written or rolls in story frames [a, b), which begin frame 0 of the run."""
    come, go = int(cover.settings["appear"]), int(cover.settings["leave"])
    enters, goes = seen.read(cover, "enters"), seen.read(cover, "goes")
    drift: tuple[tuple[float, float, float], ...] = ()
    letters = OPAQUE
    if seen.read(cover, "rolls"):
        lines = cover.title.count("\n") + 1
        high = lines * seen.read(cover, "size") / 100 * LINE
        drift = ((at - start, 0.0, 1.0), (end - 1 - start, 0.0, -high))
    elif come and start < at + come:
        if enters == "letter by letter":
            letters = Opacity.rising(come, start - at)
        elif enters in ("slide", "rise"):
            off = (-1.0, 0.0) if enters == "slide" else (0.0, RISE)
            drift = ((at - 1 - start, *off), (at + come - start, 0.0, 0.0))
    elif go and start >= end - go and goes in ("slide", "rise"):
        off = (1.0, 0.0) if goes == "slide" else (0.0, -RISE)
        drift = ((end - go - 1 - start, 0.0, 0.0), (end - start, *off))
    ease: Ease = "none" if seen.read(cover, "rolls") else "both"
    return tuple(replace(layer, letters=letters, part=replace(layer.part, drift=drift, ease=ease)) for layer in layers)
