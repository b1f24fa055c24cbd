"""Captions burnt in: they are titles over everything else, at the lower edge.

picture   [ A ........ ][ B ... ]
captions    [one ] [two   ]          ->   [A][A one][A][A two][B two][B .]
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from kovel.core.plan.layers import Image, Layer, Part, Run, TitleImage
from kovel.core.plan.plan import Plan
from kovel.core.story.settings import SETTINGS, TITLE_DRAWN
from kovel.core.words.subtitles import Cue

STYLE = {
    "font": "Sans",
    "size": 5.6,
    "weight": 500,
    "colour": "#ffffff",
    "edge": 0.0,
    "box": 75,
    "title_x": 50.0,
    "title_y": 86.0,
}


def with_captions(plan: Plan, rows: Sequence[Cue]) -> Plan:
    """The plan with captions over it, as titles at its lower edge."""
    out: list[Run] = []
    base = {n: SETTINGS[n].default for n in TITLE_DRAWN} | STYLE
    marks = sorted({min(max(t, 0), plan.length) for c in rows for t in (c.at, c.end)})
    for r in plan.pictures:
        edges = [r.at, *(t for t in marks if r.at < t < r.end), r.end]
        for a, b in pairwise(edges):
            part = r.part(a, b)
            shown = next((c for c in rows if c.at <= a < c.end), None)
            if shown:
                title = TitleImage(tuple((base | {"text": "\n".join(shown.lines)}).items()))
                part = Run(a, b, (*part.layers, Layer(Image(title=title), part=Part(clear=True))), part.cover)
            out.append(part)
    return replace(plan, pictures=tuple(out))
