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

Live = tuple[int, int, Cover, int]  # where a cover begins and ends, and its last frames that only the next one is seen over


def covered(story: Story, sources: Sources, dialogue: list[Run]) -> list[Run]:
    """The dialogue's runs with covers over them. In a frame shared by covers the highest lane is seen, and of one lane the
    later; through one that is see-through, what lies under it. What runs past the story's end is cut there.

    dialogue  [ A ............ ][ B ...... ]
    cover          [boat ...]        [hands ..........)      ->   [ A .][boat ...][ A ][ B .][hands ]

    A cover that comes in over n frames where another of its lane ends is a dissolve between them: that other one goes on
    under it for as long as its shot lasts.
    """
    spans = _in_place(story, sources)
    if not spans:
        return dialogue
    seen = Seen(story, sources)
    edges = {
        0,
        story.length,
        *(e for a, b, _, _ in spans for e in (a, b)),
        *(d.at for d in dialogue),
        *(d.end for d in dialogue),
    }
    for a, b, c, extra in spans:
        edges.update(e for e in _bends(seen, c, a, b - extra) if a < e < min(b, story.length))
    rows: list[Run] = []
    live: list[Live] = []
    i = k = 0
    for a, b in pairwise(sorted(edges)):
        while i < len(spans) and spans[i][0] <= a:
            live.append(spans[i])
            i += 1
        if live:
            live = [r for r in live if r[1] > a]
        while dialogue[k].end <= a:
            k += 1
        if not live:
            rows.append(dialogue[k].part(a, b))
            continue
        over = sorted(live, key=lambda r: (r[2].lane, r[0]), reverse=True) if len(live) > 1 else live
        rows.append(Run(a, b, _over(seen, over, dialogue[k], a, b), over[0][2].id))
    return rows


def _over(seen: Seen, over: list[Live], under: Run, a: int, b: int) -> tuple[Layer, ...]:
    """Story frames [a, b) of a run with what lies over it, from the top down. What is tied to a group that is seen as one
    picture there is put together with it, up to the lane from which on something else lies over it."""
    group = next((x.image.group for x in under.layers if x.image.group), 0) if seen.whole else 0
    n = 0
    while group and n < len(over) and seen.whole_of(over[-1 - n][2]) == group:
        n += 1
    outer = _stacked(seen, over[: len(over) - n], a, b)
    if outer and outer[0].plain:
        return outer
    below = under.part(a, b).layers
    if n:
        put = _stacked(seen, over[len(over) - n :], a, b)
        hides = put[0].plain
        below = tuple(
            replace(x, image=replace(x.image, stack=put if hides else (*x.image.stack, *put))) if x.image.group == group else x
            for x in below
        )
    return (*below, *outer)


def _stacked(seen: Seen, over: Sequence[Live], a: int, b: int) -> tuple[Layer, ...]:
    """Covers and titles in story frames [a, b), bottom first, as far as nothing hides them."""
    stack: list[Layer] = []
    filling: tuple[Layer, Opacity, int] | None = None  # letters that wait for what fills them, and where in the stack
    for at, end, c, extra in over:
        layers = seen.cover(c, a - at)
        black, opacity = _opacity(seen, c, at, end - extra, a, b)
        if c.source == TITLE:
            layers = _moving(seen, c, layers, at, end - extra, a, b)
            stack[:0] = with_opacity(layers, opacity)
            filling = (_letters(layers[0]), opacity, len(stack)) if seen.read(c, "filled") == FILLED[1] else filling
            continue
        if filling:  # seen in the letters alone
            (cut, share, above), filling = filling, None
            shown = (*([replace(BLACK, opacity=black)] if black else ()), *with_opacity(layers, opacity))
            stack.insert(len(stack) - above + 1, Layer(Image(stack=shown, cut=cut), share))
            continue
        stack[:0] = [*([replace(BLACK, opacity=black)] if black else []), *with_opacity(layers, opacity)]
        if (opacity == OPAQUE and layers[0].plain) or black == OPAQUE:
            break
    return tuple(stack)


def _letters(title: Layer) -> Layer:
    """A title's letters alone, to cut something out by."""
    assert title.image.title
    rows = tuple((n, {"box": 0, "edge": 0.0}.get(n, v)) for n, v in title.image.title.rows)
    return replace(title, image=Image(title=TitleImage(rows)))


def _in_place(story: Story, sources: Sources) -> list[Live]:
    """Covers in order of their beginnings, as far as they are seen."""
    rows = [
        r
        for r in story.spans
        if r[0] < story.length  # one on the story's clock may lie behind its end
        and (r[2].source in sources or r[2].source == TITLE)
        and f"cover {r[2].lane}" not in story.muted
    ]
    rows.sort(key=itemgetter(0))
    comes = {(a, c.lane): int(c.settings["appear"]) for a, _, c in rows if c.settings and c.settings["appear"]}
    out: list[Live] = []
    for a, b, c in rows:
        over = comes.get((b, c.lane), 0) if comes else 0
        over = min(over, room_behind(c, sources, story)) if over else 0
        out.append((a, min(b + over, story.length), c, min(b + over, story.length) - min(b, story.length)))
    return out


def room_behind(c: Cover, sources: Sources, story: Story) -> int:
    """Story frames for which a cover's shot could go on behind its out point."""
    total = source_of(sources, c.source).length(story.rate)
    if total is None:
        return 10**9
    return max(0, ceil(c.gone(total)) - c.length) if not c.settings["backwards"] else c.start * c.length // c.used


def _bends(seen: Seen, c: Cover, a: int, b: int) -> list[int]:
    """Story frames at which the opacity of a cover from a to b changes its course."""
    if not c.settings and not seen.wide:
        return []
    own = c.settings
    if seen.by_frame(c):
        return [*range(a, b)]
    come, go = int(own["appear"]), int(own["leave"])
    out = [a + come, b - go] if seen.read(c, "through") != "black" else [a + come // 2, a + come, b - go, b - go + go // 2]
    line = seen.read(c, "opacity")
    if isinstance(line, tuple):
        out += [a + m - c.start for m, _ in line]
        if come or go:  # two straight lines on each other are none: frame by frame
            out += [*range(a, a + come), *range(b - go, b)]
    return out


def _opacity(seen: Seen, c: Cover, at: int, end: int, a: int, b: int) -> tuple[Opacity | None, Opacity]:
    """(of the black under it, of the cover itself) in story frames [a, b), between two of its bends."""
    if not c.settings and not seen.wide:
        return None, OPAQUE
    come, go = int(c.settings["appear"]), int(c.settings["leave"])
    line = seen.read(c, "opacity")
    if isinstance(line, tuple):
        x, y = (round(10 * on_line(line, c.start + t - at)) for t in (a, b))
        base = Opacity(x * (b - a), y - x, 1000 * (b - a)) if x != y else OPAQUE if x == 1000 else Opacity(x, 0, 1000)
    else:
        base = steady(line)
    if seen.read(c, "through") == "black":
        if a < at + come // 2:
            return Opacity.rising(come // 2, a - at), Opacity(0, 0, 1)
        if a < at + come:
            return OPAQUE, times(base, Opacity.rising(come - come // 2, a - at - come // 2))
        if a >= end - go + go // 2 and go:
            rest = go - go // 2
            return Opacity.falling(rest, a - (end - rest)), Opacity(0, 0, 1)
        if a >= end - go and go:
            return OPAQUE, times(base, Opacity.falling(go // 2, a - (end - go)))
        return None, base
    title = c.source == TITLE  # one that slides or is written stays as clear as it is
    if come and a < at + come and not (title and seen.read(c, "enters") not in ("fade", "rise")):
        base = times(base, Opacity.rising(come, a - at))
    if go and a >= end - go and not (title and seen.read(c, "goes") not in ("fade", "rise")):
        base = times(base, Opacity.falling(go, a - (end - go))) if a < end else base
    return None, base


RISE = 0.06  # of the picture's height: how far a title rises as it comes


def _moving(seen: Seen, c: Cover, layers: tuple[Layer, ...], at: int, end: int, a: int, b: int) -> tuple[Layer, ...]:
    """A title as it slides, rises, is written or rolls in story frames [a, b), which begin frame 0 of the run."""
    come, go = int(c.settings["appear"]), int(c.settings["leave"])
    enters, goes = seen.read(c, "enters"), seen.read(c, "goes")
    drift: tuple[tuple[float, float, float], ...] = ()
    letters = OPAQUE
    if seen.read(c, "rolls"):
        lines = c.title.count("\n") + 1
        high = lines * seen.read(c, "size") / 100 * LINE
        drift = ((at - a, 0.0, 1.0), (end - 1 - a, 0.0, -high))
    elif come and a < at + come:
        if enters == "letter by letter":
            letters = Opacity.rising(come, a - at)
        elif enters in ("slide", "rise"):
            off = (-1.0, 0.0) if enters == "slide" else (0.0, RISE)
            drift = ((at - 1 - a, *off), (at + come - a, 0.0, 0.0))
    elif go and a >= end - go and goes in ("slide", "rise"):
        off = (1.0, 0.0) if goes == "slide" else (0.0, -RISE)
        drift = ((end - go - 1 - a, 0.0, 0.0), (end - a, *off))
    ease: Ease = "none" if seen.read(c, "rolls") else "both"
    return tuple(replace(x, letters=letters, part=replace(x.part, drift=drift, ease=ease)) for x in layers)
