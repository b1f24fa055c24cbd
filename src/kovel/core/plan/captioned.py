"""Captions burnt in: they are titles over everything else, at the lower edge.

picture   [ A ........ ][ B ... ]
captions    [one ] [two   ]          ->   [A][A one][A][A two][B two][B .]
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Any

from kovel.core.plan.layers import Image, Layer, Part, Run, TitleImage
from kovel.core.plan.plan import Plan
from kovel.core.story.settings import SETTINGS, TITLE_DRAWN
from kovel.core.words.subtitles import CHARS, Cue

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


UPRIGHT = {
    "size": 3.6,
    "title_y": 82.0,
}  # in a picture that is not wider than it is high: smaller, and clear of the lower edge
LETTER = 0.56  # mean width of a letter of the sans serif, in sizes (common practice, no source)
SAFE = (
    5.0  # percent of the picture's width and height that its edges are kept clear of (SMPTE ST 2046-1, safe title area)
)


def style_for(ratio: float) -> dict[str, Any]:
    """How captions are drawn in a picture of a shape (width over height)."""
    return STYLE if ratio > 1 else STYLE | UPRIGHT


def letters_for(ratio: float) -> int:
    """How many letters a line of captions holds in a picture of a shape."""
    room = (100 - 2 * SAFE - 2) * ratio
    return max(12, min(CHARS, int(room / (style_for(ratio)["size"] * LETTER))))


def with_captions(plan: Plan, cues: Sequence[Cue], ratio: float = 16 / 9) -> Plan:
    """The plan with captions over it, as titles at the lower edge of a picture of a shape (width over height)."""
    runs: list[Run] = []
    base = {name: SETTINGS[name].default for name in TITLE_DRAWN} | style_for(ratio) | {"caption": True}
    marks = sorted({min(max(t, 0), plan.length) for cue in cues for t in (cue.at, cue.end)})
    for run in plan.pictures:
        edges = [run.at, *(mark for mark in marks if run.at < mark < run.end), run.end]
        for start, end in pairwise(edges):
            run_part = run.part(start, end)
            shown = next((cue for cue in cues if cue.at <= start < cue.end), None)
            if shown:
                title = TitleImage(tuple((base | {"text": "\n".join(shown.lines)}).items()))
                run_part = Run(
                    start, end, (*run_part.layers, Layer(Image(title=title), part=Part(clear=True))), run_part.cover
                )
            runs.append(run_part)
    return replace(plan, pictures=tuple(runs))
