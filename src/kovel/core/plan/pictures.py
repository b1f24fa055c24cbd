"""From the story to runs of layers: the dialogue's own pictures with their blends, and the covers over them."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from itertools import pairwise
from math import ceil, floor
from operator import itemgetter
from typing import Any

from kovel.core.plan.layers import (
    BLACK,
    EVERYWHERE,
    LINE,
    OPAQUE,
    Ease,
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
from kovel.core.story.consequences import source_of
from kovel.core.story.model import TITLE, Cover, Piece, Source, Sources, Story, frames_to
from kovel.core.story.settings import (
    BETWEEN,
    FITS,
    FRAMING,
    LAYERING,
    LOOK,
    PLACES,
    SETTINGS,
    TITLE_STYLE,
    Line,
    Value,
    on_line,
)

SHARES = 64  # of a frame that is blended with the next one
FINE = 1 << 16  # a ramp stands at parts of a frame this small, for recordings of more frames a second than the story
MOVED = ("zoom", "across", "down")
PLACE = next(iter(PLACES))
STATIC = tuple(n for n in FRAMING if n not in (*MOVED, "ease", "place"))


class Seen:
    """How the things of a story are seen: their settings, all scopes met. At its quickest where nothing is set."""

    def __init__(self, story: Story, sources: Sources) -> None:
        self.story, self.sources, self.read = story, sources, story.reading(sources)
        self._alike: dict[Any, tuple[Part, Place, str, Look]] = {}
        wide = {n for v in (*dict(story.settings).values(), *(s.settings for s in sources.values())) for n in v}
        self.wide = bool(wide & {*FRAMING, *LOOK, *LAYERING})

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
            found = self._part(x), EVERYWHERE if place == EVERYWHERE else place, self.read(x, "fit"), self.look(x, s)
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
        return TitleImage(tuple((n, self.read(c, n)) for n in TITLE_STYLE if n not in ("enters", "goes")))

    def look(self, x: Piece | Cover, s: Source) -> Look:
        """The looks of all scopes, from wide to near."""
        scopes = self.story.scopes(x, self.sources)
        rows = (tuple((n, v[n]) for n in v if n in LOOK) for v in scopes)
        return tuple(r for r in rows if r)

    def _part(self, x: Piece | Cover) -> Part:
        own: dict[str, Any] = {n: self.read(x, n) for n in MOVED}
        rest = {n: self.read(x, n) for n in STATIC}
        lines: dict[str, Line] = {n: v for n, v in own.items() if isinstance(v, tuple)}
        flat = {n: float(SETTINGS[n].default if n in lines else v) for n, v in own.items()}  # type: ignore[arg-type]
        crop = tuple(rest[f"crop_{side}"] / 100 for side in ("left", "top", "right", "bottom"))
        fit = rest["fit"]
        if fit == FITS[0]:
            fit = "whole" if self.read(x, "place") == PLACE else "filled"
        return Part(
            flat["zoom"], flat["across"] / 100, flat["down"] / 100, rest["turn"], rest["flip"],
            (crop[0], crop[1], crop[2], crop[3]), "filled" if fit == "filled" else "whole", rest["border"] / 100, clear=any(crop),
            moves=self._moves(x, own, lines), ease=self.read(x, "ease") if lines else "both",
        )  # fmt: skip

    def _moves(self, x: Piece | Cover, own: dict[str, Value], lines: dict[str, Line]) -> tuple[Move, ...]:
        """The lines as moments of the run that begins with the first frame of the thing."""
        out: list[Move] = []
        for m in sorted({m for line in lines.values() for m, _ in line}):
            zoom, across, down = (on_line(v, m) if isinstance(v, tuple) else float(v) for v in own.values())
            out.append((float(frames_to(x, m)), zoom, across / 100, down / 100))
        return tuple(sorted(out))  # backwards, the last comes first


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
            rows = [
                _with(of(i, t - story.starts[i]), o.later(t - a)) if o != OPAQUE else of(i, t - story.starts[i])
                for i, o in parts
            ]
            out.append(Run(t, t + step, tuple(x for r in rows for x in r)))

    if not story.joins and not ramped:
        return [Run(story.starts[i], story.starts[i + 1], layers[i]) for i in range(n)]
    joins = [story.join(i) for i in range(n + 1)]
    head = [j.length - j.length // 2 if 0 < i < n else j.length for i, j in enumerate(joins)]  # of a blend after its seam
    foot = [j.length // 2 if 0 < i < n else j.length for i, j in enumerate(joins)]  # and before it
    for i in range(n):
        a, b = story.starts[i], story.starts[i + 1]
        if size := joins[i].length:
            before = foot[i] if i else 0
            if not i:
                run(a, a + head[i], (i, Opacity.rising(size)))
            elif joins[i].blend == "dip":  # neither side needs material beyond its edge
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
    if (size := joins[n].length) and n:
        a = max(story.length - size, out[-1].end)
        run(a, story.length, (n - 1, Opacity.falling(size, a - (story.length - size))))
    return out


def later(layers: tuple[Layer, ...], frames: int) -> tuple[Layer, ...]:
    return layers if not frames else tuple([x.later(frames) for x in layers])


def _with(layers: tuple[Layer, ...], opacity: Opacity) -> tuple[Layer, ...]:
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
        stack: list[Layer] = []  # from the top down to what hides the rest
        over = sorted(live, key=lambda r: (r[2].lane, r[0]), reverse=True) if len(live) > 1 else live
        for at, end, c, extra in over:
            layers = seen.cover(c, a - at)
            if c.source == TITLE:
                layers = _moving(seen, c, layers, at, end - extra, a, b)
            black, opacity = _opacity(seen, c, at, end - extra, a, b)
            stack[:0] = [*([replace(BLACK, opacity=black)] if black else []), *_with(layers, opacity)]
            if opacity == OPAQUE and layers[0].plain:
                break
            if black == OPAQUE:
                break
        under = () if stack[0].plain else dialogue[k].part(a, b).layers
        rows.append(Run(a, b, (*under, *stack), over[0][2].id))
    return rows


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
        base = OPAQUE if line == 100 else Opacity(round(10 * line), 0, 1000)
    if seen.read(c, "through") == "black":
        if a < at + come // 2:
            return Opacity.rising(come // 2, a - at), Opacity(0, 0, 1)
        if a < at + come:
            return OPAQUE, _times(base, Opacity.rising(come - come // 2, a - at - come // 2))
        if a >= end - go + go // 2 and go:
            rest = go - go // 2
            return Opacity.falling(rest, a - (end - rest)), Opacity(0, 0, 1)
        if a >= end - go and go:
            return OPAQUE, _times(base, Opacity.falling(go // 2, a - (end - go)))
        return None, base
    title = c.source == TITLE  # one that slides or is written stays as clear as it is
    if come and a < at + come and not (title and seen.read(c, "enters") not in ("fade", "rise")):
        base = _times(base, Opacity.rising(come, a - at))
    if go and a >= end - go and not (title and seen.read(c, "goes") not in ("fade", "rise")):
        base = _times(base, Opacity.falling(go, a - (end - go))) if a < end else base
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


def _times(x: Opacity, y: Opacity) -> Opacity:
    """One on the other, of which one at most changes in these frames."""
    if x.step and y.step:
        x = Opacity(x.first, 0, x.of)  # a run of one frame
    return Opacity(x.first * y.first, x.step * y.first + y.step * x.first, x.of * y.of)
