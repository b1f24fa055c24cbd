"""Where the pixels of an image come to stand in the picture: one rule for player and renderer.

image    [    u,v    ]   --fit, zoom, turn-->   place in the picture   [ ..X,Y.. ]
"""

from __future__ import annotations

from dataclasses import dataclass
from math import cos, radians, sin

from kovel.core.plan.layers import Part, Place

Rect = tuple[float, float, float, float]


@dataclass(frozen=True, slots=True)
class Standing:
    """An image stands in `clip` (x, y, width, height of the picture, in pixels); its pixel (u, v) at
    (a u + c v + e, b u + d v + f); of it only `cut` (left, top, right, bottom, in its own pixels) is there."""

    clip: Rect
    matrix: tuple[float, float, float, float, float, float]
    cut: Rect


def standing(
    image: tuple[float, float], picture: tuple[float, float], part: Part, place: Place, k: float = 0
) -> Standing:
    """How an image of that size stands in a picture of that size at frame k of its run.

    It is fitted into its place, whole or filling it; that, bars included, is seen at the part's zoom, lying at its
    share of the room that is left, or (under 100 %) of the room around it.
    """
    width, height = picture
    edge = part.border * width
    x0, y0 = place.x * width + edge, place.y * height + edge
    w, h = max(1.0, place.w * width - 2 * edge), max(1.0, place.h * height - 2 * edge)
    iw, ih = image
    scale = min(w / iw, h / ih) if part.fit == "whole" else max(w / iw, h / ih)
    zoom, x, y = part.at(k)
    z = zoom / 100
    cw, ch = max(w, iw * scale), max(h, ih * scale)  # its bars, or what of it does not fit, included
    left_edge = x0 + (w - cw * z) * x + (cw - iw * scale) / 2 * z
    top = y0 + (h - ch * z) * y + (ch - ih * scale) / 2 * z
    s = scale * z
    start, end, c, d, e, f = s, 0.0, 0.0, s, left_edge, top
    if part.flip:
        start, e = -s, left_edge + iw * s
    if part.turn:
        co, si = cos(radians(part.turn)), sin(radians(part.turn))
        mx, my = x0 + w / 2, y0 + h / 2
        start, end, c, d = co * start, si * start, -si * d, co * d
        e, f = mx + co * (e - mx) - si * (f - my), my + si * (e - mx) + co * (f - my)
    lc, tc, rc, bc = part.crop
    cut_edges = (iw * lc, ih * tc, iw * (1 - rc), ih * (1 - bc))
    return Standing((x0, y0, w, h), (start, end, c, d, e, f), cut_edges)


def quad(s: Standing) -> list[tuple[float, float]]:
    """The corners of what there is of the image, in the picture."""
    start, end, c, d, e, f = s.matrix
    l, t, r, o = s.cut  # noqa: E741
    return [(start * u + c * value + e, end * u + d * value + f) for u, value in ((l, t), (r, t), (r, o), (l, o))]


def fills(s: Standing) -> bool:
    """Whether the image fills its place: every corner of the place lies inside of it."""
    start, end, c, d, e, f = s.matrix
    det = start * d - end * c
    x0, y0, w, h = s.clip
    for x, y in ((x0, y0), (x0 + w, y0), (x0 + w, y0 + h), (x0, y0 + h)):
        u, v = (d * (x - e) - c * (y - f)) / det, (start * (y - f) - end * (x - e)) / det
        if not (s.cut[0] - 1e-6 <= u <= s.cut[2] + 1e-6 and s.cut[1] - 1e-6 <= v <= s.cut[3] + 1e-6):
            return False
    return True
