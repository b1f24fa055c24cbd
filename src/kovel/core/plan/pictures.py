"""From the story to runs of layers: how each thing in it is seen, and the dialogue's own pictures with their blends."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from fractions import Fraction
from itertools import groupby
from math import floor
from operator import itemgetter
from typing import Any

from kovel.core.plan.layers import (
    BLACK,
    EVERYWHERE,
    OPAQUE,
    Image,
    Layer,
    Look,
    Move,
    Opacity,
    Part,
    Place,
    Run,
    TitleImage,
)
from kovel.core.story.model import TITLE, Cover, Piece, Source, Sources, Story, frames_to
from kovel.core.story.settings import (
    BETWEEN,
    FITS,
    FRAMING,
    LAYERING,
    LOOK,
    PLACES,
    SETTINGS,
    TITLE_DRAWN,
    Line,
    Value,
    Values,
    on_line,
    reaching,
)

SHARES = 64  # of a frame that is blended with the next one
FINE = 1 << 16  # a ramp stands at parts of a frame this small, for recordings of more frames a second than the story
MOVED = ("zoom", "across", "down")
PLACE = next(iter(PLACES))
STATIC = tuple(n for n in FRAMING if n not in (*MOVED, "ease", "place"))
Over = tuple[int, Opacity, tuple[Layer, ...]]  # layers of a piece: of which group seen as one picture, how see-through they are


class Seen:
    """How the things of a story are seen: their settings, all scopes met. At its quickest where nothing is set."""

    def __init__(self, story: Story, sources: Sources) -> None:
        self.story, self.sources, self.read = story, sources, story.reading(sources)
        self._alike: dict[Any, tuple[Part, Place, str, Look]] = {}
        wide = {n for v in (*dict(story.settings).values(), *(s.settings for s in sources.values())) for n in v}
        self.wide = bool(wide & {*FRAMING, *LOOK, *LAYERING})
        self.whole = {int(k.split()[1]): self._whole(v) for k, v in story.settings if v["as_one"]}
        self._one = {p.id: p.group for p in story.pieces if p.group in self.whole} if self.whole else {}

    def _whole(self, v: Values) -> Layer:
        """What a group that is seen as one picture is put together into, empty."""
        place = Place(*PLACES[v["place"]])
        look = tuple((n, v[n]) for n in v if n in LOOK)
        return Layer(
            Image(), steady(v["opacity"]), _part(lambda n: v[n]), EVERYWHERE if place == EVERYWHERE else place, (look,) if look else ()
        )  # fmt: skip

    def whole_of(self, x: Piece | Cover) -> int:
        """The group that it is seen in as one picture: a piece's, a cover's by its tether; 0 for none."""
        return self._one.get(x.tether.piece if isinstance(x, Cover) else x.id, 0)

    def together(self, rows: Sequence[Over]) -> tuple[Layer, ...]:
        """Pieces over each other; those of a group that is seen as one picture as one layer."""
        out: list[Layer] = []
        for group, same in groupby(rows, key=itemgetter(0)):
            some = list(same)
            if not group:
                out += [x for _, o, layers in some for x in (layers if o == OPAQUE else with_opacity(layers, o))]
                continue
            stack = tuple(
                x for _, o, layers in some for x in (layers if o == OPAQUE or len(some) == 1 else with_opacity(layers, o))
            )
            one = self.whole[group]
            opacity = times(one.opacity, some[0][1]) if len(some) == 1 else one.opacity
            out.append(replace(one, image=Image(stack=stack, group=group), opacity=opacity))
        return tuple(out)

    def piece(self, p: Piece, k: int = 0) -> tuple[Layer, ...]:
        """What a piece shows from its frame k on, bottom first; of one with a ramp, that frame alone."""
        s = self.sources.get(p.source) if p.source is not None else None
        if not (s and s.picture and p.take != "sound"):
            return (Layer(Image(card=p.card)) if p.card else BLACK,)
        clock = p.clock
        if clock.as_shot or s.frames is None:
            return later(self._layers(p, s, Image(p.source, p.start), OPAQUE), k)
        if self.by_frame(p):
            return self._alone(p, s, clock.moment(p.start + k), k)
        n, d = clock.speed.as_integer_ratio()
        if clock.held is not None:
            image = Image(p.source, clock.held, speed=(0, 1))
        elif clock.backwards:
            image = Image(p.source, clock.anchor, speed=(-n, d), skip=clock.anchor - 1 - p.start)
        else:
            image = Image(p.source, clock.anchor, speed=(n, d), skip=p.start - clock.anchor)
        return later(self._layers(p, s, image, OPAQUE), k)

    def by_frame(self, x: Piece | Cover) -> bool:
        """Whether each of its frames is laid out alone: it has a ramp, or what lies between two of its frames is blended."""
        if not x.settings or x.source == TITLE:
            return False
        clock = x.clock
        return clock.ramp is not None or (not x.as_shot and clock.held is None and self.read(x, "between") == BETWEEN[1])

    def _alone(self, x: Piece | Cover, s: Source, now: int | Fraction, k: int) -> tuple[Layer, ...]:
        """Frame k of a thing, which shows moment `now`, alone: the frame there, or (blended) it and the next one over it."""
        if self.read(x, "between") != BETWEEN[1]:
            return self._still(x, s, now, k)
        ratio = s.rate.fps / self.story.rate.fps
        own = floor(now * ratio)
        share = round((now * ratio - own) * SHARES)
        last = (s.frames or 1) - 1
        own, share = (min(own + 1, last), 0) if share == SHARES else (own, share)
        here, after = (self._still(x, s, (n + Fraction(1, 2)) / ratio, k) for n in (own, own + 1))
        if not share or own >= last:
            return here
        return (*here, *(replace(y, opacity=Opacity(share, 0, SHARES)) for y in after))

    def _still(self, x: Piece | Cover, s: Source, now: int | Fraction, k: int) -> tuple[Layer, ...]:
        """The frame of a thing at moment `now`, framed as in its frame k."""
        part = floor((now - floor(now)) * FINE)
        image = Image(x.source, floor(now), speed=(part, FINE), skip=1) if part else Image(x.source, floor(now))
        return tuple(replace(y, part=y.part.later(k)) for y in self._layers(x, s, image, OPAQUE))

    def cover(self, c: Cover, k: int = 0) -> tuple[Layer, ...]:
        """What a cover shows from its frame k on, were it to hide what is under it; of one with a ramp, that frame alone."""
        if c.source == TITLE:
            return (Layer(Image(title=self._title(c)), part=Part(clear=True)),)
        s = self.sources[c.source]
        still = s.frames is None
        if still:
            return self._layers(c, s, Image(c.source), OPAQUE)
        if self.by_frame(c):
            return self._alone(c, s, c.shown(k), k)
        speed = (c.span, c.length) if c.span else (1, 1)
        if c.settings and c.settings["backwards"]:  # each frame of it, from the last one on
            image = Image(c.source, c.start, speed=(-c.used, c.length), skip=c.length - 1)
        else:
            image = Image(c.source, c.start, speed=speed)
        return later(self._layers(c, s, image, OPAQUE), k)

    def _layers(self, x: Piece | Cover, s: Source, image: Image, opacity: Opacity) -> tuple[Layer, ...]:
        if not self.wide and not x.settings.rows:
            return (Layer(image, opacity),)
        key = (x.source, x.group if isinstance(x, Piece) else -1, x.settings)
        if key not in self._alike:  # what moves does so on its own clock; all else is the same for all that is set alike
            place = Place(*PLACES[self.read(x, "place")])
            part = _part(lambda n: self.read(x, n), lambda own, lines: self._moves(x, own, lines))
            found = part, EVERYWHERE if place == EVERYWHERE else place, self.read(x, "fit"), self.look(x, s)
            if not found[0].moves:
                self._alike[key] = found
        else:
            found = self._alike[key]
        part, place, fit, look = found
        layer = Layer(image, opacity, part, place, look)
        if fit != "blurred":
            return (layer,)
        behind = Part(fit="filled", blur=True, flip=part.flip, border=part.border)
        return (replace(layer, part=behind), replace(layer, part=replace(part, fit="whole", clear=True)))

    def _title(self, c: Cover) -> TitleImage:
        return TitleImage(tuple((n, self.read(c, n)) for n in TITLE_DRAWN))

    def look(self, x: Piece | Cover, s: Source) -> Look:
        """The looks of all scopes, from wide to near."""
        scopes = reaching(LOOK[0], self.story.scopes(x, self.sources))
        rows = (tuple((n, v[n]) for n in v if n in LOOK) for v in scopes)
        return tuple(r for r in rows if r)

    def _moves(self, x: Piece | Cover, own: dict[str, Value], lines: dict[str, Line]) -> tuple[Move, ...]:
        """The lines as moments of the run that begins with the first frame of the thing."""
        out: list[Move] = []
        for m in sorted({m for line in lines.values() for m, _ in line}):
            zoom, across, down = (on_line(v, m) if isinstance(v, tuple) else float(v) for v in own.values())
            out.append((float(frames_to(x, m)), zoom, across / 100, down / 100))
        return tuple(sorted(out))  # backwards, the last comes first


def _part(read: Callable[[str], Any], moves: Callable[..., tuple[Move, ...]] = lambda own, lines: ()) -> Part:
    """The part that is shown, by what its settings say; `moves` of those that are lines."""
    own: dict[str, Any] = {n: read(n) for n in MOVED}
    rest = {n: read(n) for n in STATIC}
    lines: dict[str, Line] = {n: v for n, v in own.items() if isinstance(v, tuple)}
    flat = {n: float(SETTINGS[n].default if n in lines else v) for n, v in own.items()}  # type: ignore[arg-type]
    crop = tuple(rest[f"crop_{side}"] / 100 for side in ("left", "top", "right", "bottom"))
    fit = rest["fit"]
    if fit == FITS[0]:
        fit = "whole" if read("place") == PLACE else "filled"
    return Part(
        flat["zoom"], flat["across"] / 100, flat["down"] / 100, rest["turn"], rest["flip"],
        (crop[0], crop[1], crop[2], crop[3]), "filled" if fit == "filled" else "whole", rest["border"] / 100, clear=any(crop),
        moves=moves(own, lines), ease=read("ease") if lines else "both",
    )  # fmt: skip


def steady(percent: float) -> Opacity:
    """An opacity that stays as it is."""
    return OPAQUE if percent == 100 else Opacity(round(10 * percent), 0, 1000)


def dialogue_runs(story: Story, sources: Sources) -> list[Run]:
    """The dialogue line's own pictures, blends as runs of their own.

    |  A       |  B      |   dissolve of 4   ->   [ A ...][A B↗][ B ... ]
    |  A       |  B      |   dip of 4        ->   [ A ...][A↘][B↗][ B ... ]
    """
    seen = Seen(story, sources)
    pieces = story.pieces
    layers = [seen.piece(p) for p in pieces]
    ramped = {i for i, p in enumerate(pieces) if p.settings and seen.by_frame(p)}
    n = len(layers)
    out: list[Run] = []

    def of(i: int, k: int) -> tuple[Layer, ...]:
        return seen.piece(pieces[i], k) if i in ramped else later(layers[i], k)

    def run(a: int, b: int, *parts: tuple[int, Opacity]) -> None:
        """Story frames [a, b): these pieces over each other, each with its opacity; frame by frame where one has a ramp."""
        step = 1 if any(i in ramped for i, _ in parts) else max(1, b - a)
        for t in range(a, b, step):
            rows = [(seen.whole_of(pieces[i]), o.later(t - a), of(i, t - story.starts[i])) for i, o in parts]
            out.append(Run(t, t + step, seen.together(rows)))

    if not story.transitions and not ramped and not seen.whole:
        return [Run(story.starts[i], story.starts[i + 1], layers[i]) for i in range(n)]
    between = [story.transition(i) for i in range(n + 1)]
    head = [j.length - j.length // 2 if 0 < i < n else j.length for i, j in enumerate(between)]  # of a blend after its seam
    foot = [j.length // 2 if 0 < i < n else j.length for i, j in enumerate(between)]  # and before it
    for i in range(n):
        a, b = story.starts[i], story.starts[i + 1]
        if size := between[i].length:
            before = foot[i] if i else 0
            if not i:
                run(a, a + head[i], (i, Opacity.rising(size)))
            elif between[i].blend == "dip":  # neither side needs material beyond its edge
                down, up = Opacity(size - 1, -2, size + 1), Opacity(2 * before + 1 - size, 2, size + 1)
                run(a - before, a, (i - 1, down))
                run(a, a + head[i], (i, up))
            else:
                run(a - before, a + head[i], (i - 1, OPAQUE), (i, Opacity.rising(size)))
        x, y = a + head[i], b - foot[i + 1]
        if x > y:  # a fade in and a fade out on the only piece meet in its middle
            x = y = (x + y) // 2
            while out and out[-1].end > x:
                last = out.pop()
                out += [last.part(last.at, x)] if last.at < x else []
        run(x, y, (i, OPAQUE))
    if (size := between[n].length) and n:
        a = max(story.length - size, out[-1].end)
        run(a, story.length, (n - 1, Opacity.falling(size, a - (story.length - size))))
    return out


def later(layers: tuple[Layer, ...], frames: int) -> tuple[Layer, ...]:
    return layers if not frames else tuple([x.later(frames) for x in layers])


def with_opacity(layers: tuple[Layer, ...], opacity: Opacity) -> tuple[Layer, ...]:
    """These layers as one that is so see-through.

    Two frames blended, the upper one with a share f, at an opacity o: upper o f, lower o (1 - f) / (1 - o f).
    """
    upper = next((x.opacity for x in layers if x.opacity != OPAQUE), None)
    if upper is None:
        return tuple([replace(x, opacity=opacity) for x in layers])
    if opacity == OPAQUE:
        return layers
    o, f = Fraction(min(max(opacity.first, 0), opacity.of), opacity.of), Fraction(upper.first, upper.of)
    low, high = (o * (1 - f) / (1 - o * f), o * f)
    both = {True: Opacity(low.numerator, 0, low.denominator), False: Opacity(high.numerator, 0, high.denominator)}
    return tuple([replace(x, opacity=both[x.opacity == OPAQUE]) for x in layers])


def times(x: Opacity, y: Opacity) -> Opacity:
    """One on the other, of which one at most changes in these frames."""
    if x.step and y.step:
        x = Opacity(x.first, 0, x.of)  # a run of one frame
    return Opacity(x.first * y.first, x.step * y.first + y.step * x.first, x.of * y.of)
