"""From the story to runs of layers: the dialogue's own pictures with their blends, and the covers over them."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from operator import itemgetter
from typing import Any

from kovel.core.plan.layers import BLACK, OPAQUE, WHOLE, Image, Layer, Opacity, Part, Run
from kovel.core.story.model import Cover, Item, Piece, Sources, Story

Read = Callable[[Item, str], Any]  # a setting of an item, all scopes met


def of_piece(p: Piece, sources: Sources, read: Read) -> Layer:
    """What a piece shows from its first frame on."""
    s = sources.get(p.source) if p.source is not None else None
    if s and s.picture and p.take != "sound":
        return Layer(Image(p.source, p.start), OPAQUE, _part(p, read))
    return Layer(Image(card=p.card)) if p.card else BLACK


def of_cover(c: Cover, sources: Sources, read: Read) -> Layer:
    """What a cover shows from its first frame on."""
    still = sources[c.source].frames is None
    speed = (c.span, c.length) if c.span and not still else (1, 1)
    opacity = int(read(c, "opacity"))
    return Layer(
        Image(c.source, 0 if still else c.start, speed=speed),
        OPAQUE if opacity == 100 else Opacity(opacity, 0, 100),
        _part(c, read),
    )


def _part(x: Piece | Cover, read: Read) -> Part:
    zoom = read(x, "zoom")
    return WHOLE if zoom == 100 else Part(int(zoom))


def dialogue_runs(story: Story, sources: Sources) -> list[Run]:
    """The dialogue line's own pictures, blends as runs of their own.

    |  A       |  B      |   dissolve of 4   ->   [ A ...][A B↗][ B ... ]
    |  A       |  B      |   dip of 4        ->   [ A ...][A↘][B↗][ B ... ]
    """
    read = story.reading(sources)
    layers = [of_piece(p, sources, read) for p in story.pieces]
    n = len(layers)
    if not story.joins:
        return [Run(story.starts[i], story.starts[i + 1], (layers[i],)) for i in range(n)]
    out: list[Run] = []
    joins = [story.join(i) for i in range(n + 1)]
    head = [j.length - j.length // 2 if 0 < i < n else j.length for i, j in enumerate(joins)]  # of a blend after its seam
    foot = [j.length // 2 if 0 < i < n else j.length for i, j in enumerate(joins)]  # and before it
    for i in range(n):
        a, b = story.starts[i], story.starts[i + 1]
        if size := joins[i].length:
            before = foot[i] if i else 0
            left = layers[i - 1].later(story.pieces[i - 1].length - before) if i else None
            if left is None:
                out.append(Run(a, a + head[i], (_with(layers[i], Opacity.rising(size)),)))
            elif joins[i].blend == "dip":  # neither side needs material beyond its edge
                down, up = Opacity(size - 1, -2, size + 1), Opacity(2 * before + 1 - size, 2, size + 1)
                out.append(Run(a - before, a, (_with(left, down),)))
                out.append(Run(a, a + head[i], (_with(layers[i], up),)))
            else:
                right = _with(layers[i].later(-before), Opacity.rising(size))
                out.append(Run(a - before, a + head[i], (left, right)))
        x, y = a + head[i], b - foot[i + 1]
        if x > y:  # a fade in and a fade out on the only piece meet in its middle
            x = y = (x + y) // 2
        out.append(Run(x, y, (layers[i].later(x - a),)))
    if (size := joins[n].length) and n:
        a = max(story.length - size, out[-1].end)
        gone = a - (story.length - size)
        last = layers[-1].later(a - story.starts[n - 1])
        out.append(Run(a, story.length, (_with(last, Opacity.falling(size, gone)),)))
    return out


def _with(layer: Layer, opacity: Opacity) -> Layer:
    return Layer(layer.image, opacity, layer.part, layer.place)


def covered(story: Story, sources: Sources, dialogue: list[Run]) -> list[Run]:
    """The dialogue's runs with covers over them. In a frame shared by covers the highest lane is seen, and of one lane the
    later; through one that is see-through, what lies under it. What runs past the story's end is cut there.

    dialogue  [ A ............ ][ B ...... ]
    cover          [boat ...]        [hands ..........)      ->   [ A .][boat ...][ A ][ B .][hands ]
    """
    spans = [
        (a, min(b, story.length), c) for a, b, c in story.spans if c.source in sources and f"cover {c.lane}" not in story.muted
    ]
    if not spans:
        return dialogue
    edges = sorted(
        {0, story.length, *(e for a, b, _ in spans for e in (a, b)), *(d.at for d in dialogue), *(d.end for d in dialogue)}
    )
    spans.sort(key=itemgetter(0))
    read = story.reading(sources)
    rows: list[Run] = []
    live: list[tuple[int, int, Cover]] = []
    i = k = 0
    for a, b in pairwise(edges):
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
        stack: list[Layer] = []  # from the top down to what hides the rest
        over = sorted(live, key=lambda r: (r[2].lane, r[0]), reverse=True) if len(live) > 1 else live
        for at, _, c in over:
            layer = of_cover(c, sources, read)
            stack.insert(0, layer if sources[c.source].frames is None else layer.later(a - at))
            if layer.plain:
                break
        under = () if stack[0].plain else dialogue[k].part(a, b).layers
        rows.append(Run(a, b, (*under, *stack), over[0][2].id))
    return rows
