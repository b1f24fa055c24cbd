"""From the story to runs of layers: how each thing in it is seen, and the dialogue's own pictures with their blends."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
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
from kovel.core.story.model import TITLE, Cover, Piece, Source, Sources, Story, Transition, frames_to
from kovel.core.story.settings import (
    FRAMING,
    LAYERING,
    LOOK,
    PLACES,
    SETTINGS,
    TITLE_DRAWN,
    Between,
    Fit,
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
STATIC = tuple(name for name in FRAMING if name not in (*MOVED, "ease", "place"))
Over = tuple[
    int, Opacity, tuple[Layer, ...]
]  # layers of a piece: of which group seen as one picture, how see-through they are


class Seen:
    """How the things of a story are seen: their settings, all scopes met. At its quickest where nothing is set."""

    def __init__(self, story: Story, sources: Sources) -> None:
        self.story, self.sources, self.read = story, sources, story.reading(sources)
        self._alike: dict[Any, tuple[Part, Place, str, Look]] = {}
        wide = {
            name
            for values in (*dict(story.settings).values(), *(source.settings for source in sources.values()))
            for name in values
        }
        self.wide = bool(wide & {*FRAMING, *LOOK, *LAYERING})
        self.whole = {int(name.split()[1]): self._whole(values) for name, values in story.settings if values["as_one"]}
        self._one = {piece.id: piece.group for piece in story.pieces if piece.group in self.whole} if self.whole else {}

    def _whole(self, values: Values) -> Layer:
        """What a group that is seen as one picture is put together into, empty."""
        place = Place(*PLACES[values["place"]])
        look_values = tuple((name, values[name]) for name in values if name in LOOK)
        return Layer(
            Image(),
            steady(values["opacity"]),
            _part(lambda n: values[n]),
            EVERYWHERE if place == EVERYWHERE else place,
            (look_values,) if look_values else (),
        )

    def whole_of(self, clip: Piece | Cover) -> int:
        """The group that it is seen in as one picture: a piece's, a cover's by its tether; 0 for none."""
        return self._one.get(clip.tether.piece if isinstance(clip, Cover) else clip.id, 0)

    def together(self, overlays: Sequence[Over]) -> tuple[Layer, ...]:
        """Pieces over each other; those of a group that is seen as one picture as one layer."""
        layers: list[Layer] = []
        for group, same in groupby(overlays, key=itemgetter(0)):
            some = list(same)
            if not group:
                layers += [
                    layer
                    for _, opacity, layers in some
                    for layer in (layers if opacity == OPAQUE else with_opacity(layers, opacity))
                ]
                continue
            stack = tuple(
                layer
                for _, opacity, layers in some
                for layer in (layers if opacity == OPAQUE or len(some) == 1 else with_opacity(layers, opacity))
            )
            one = self.whole[group]
            opacity = times(one.opacity, some[0][1]) if len(some) == 1 else one.opacity
            layers.append(replace(one, image=Image(stack=stack, group=group), opacity=opacity))
        return tuple(layers)

    def piece(self, piece: Piece, k: int = 0) -> tuple[Layer, ...]:
        """What a piece shows from its frame k on, bottom first; of one with a ramp, that frame alone."""
        source = self.sources.get(piece.source) if piece.source is not None else None
        if not (source and source.picture and piece.take != "sound"):
            return (Layer(Image(card=piece.card)) if piece.card else BLACK,)
        clock = piece.clock
        if clock.as_shot or source.frames is None:
            return later(self._layers(piece, source, Image(piece.source, piece.start), OPAQUE), k)
        if self.by_frame(piece):
            return self._alone(piece, source, clock.moment(piece.start + k), k)
        n, d = clock.speed.as_integer_ratio()
        if clock.held is not None:
            image = Image(piece.source, clock.held, speed=(0, 1))
        elif clock.backwards:
            image = Image(piece.source, clock.anchor, speed=(-n, d), skip=clock.anchor - 1 - piece.start)
        else:
            image = Image(piece.source, clock.anchor, speed=(n, d), skip=piece.start - clock.anchor)
        return later(self._layers(piece, source, image, OPAQUE), k)

    def by_frame(self, clip: Piece | Cover) -> bool:
        """Whether each of its frames is laid out alone: it has a ramp, or what lies between two of its frames is
        blended."""
        if not clip.settings or clip.source == TITLE:
            return False
        clock = clip.clock
        return clock.ramp is not None or (
            not clip.as_shot and clock.held is None and self.read(clip, "between") == Between.BLENDED
        )

    def _alone(self, clip: Piece | Cover, source: Source, now: int | Fraction, k: int) -> tuple[Layer, ...]:
        """Frame k of a thing, which shows moment `now`, alone: the frame there, or (blended) it and the next one
        over it."""
        if self.read(clip, "between") != Between.BLENDED:
            return self._still(clip, source, now, k)
        ratio = source.rate.fps / self.story.rate.fps
        own_frame = floor(now * ratio)
        share = round((now * ratio - own_frame) * SHARES)
        last = (source.frames or 1) - 1
        own_frame, share = (min(own_frame + 1, last), 0) if share == SHARES else (own_frame, share)
        here, after = (self._still(clip, source, (n + Fraction(1, 2)) / ratio, k) for n in (own_frame, own_frame + 1))
        if not share or own_frame >= last:
            return here
        return (*here, *(replace(layer, opacity=Opacity(share, 0, SHARES)) for layer in after))

    def _still(self, clip: Piece | Cover, source: Source, now: int | Fraction, k: int) -> tuple[Layer, ...]:
        """The frame of a thing at moment `now`, framed as in its frame k."""
        part_of_frame = floor((now - floor(now)) * FINE)
        image = (
            Image(clip.source, floor(now), speed=(part_of_frame, FINE), skip=1)
            if part_of_frame
            else Image(clip.source, floor(now))
        )
        return tuple(replace(layer, part=layer.part.later(k)) for layer in self._layers(clip, source, image, OPAQUE))

    def cover(self, cover: Cover, k: int = 0) -> tuple[Layer, ...]:
        """What a cover shows from its frame k on, were it to hide what is under it; of one with a ramp, that frame
        alone."""
        if cover.source == TITLE:
            return (Layer(Image(title=self._title(cover)), part=Part(clear=True)),)
        source = self.sources[cover.source]
        still = source.frames is None
        if still:
            return self._layers(cover, source, Image(cover.source), OPAQUE)
        if self.by_frame(cover):
            return self._alone(cover, source, cover.shown(k), k)
        speed = (cover.span, cover.length) if cover.span else (1, 1)
        if cover.settings and cover.settings["backwards"]:  # each frame of it, from the last one on
            image = Image(cover.source, cover.start, speed=(-cover.used, cover.length), skip=cover.length - 1)
        else:
            image = Image(cover.source, cover.start, speed=speed)
        return later(self._layers(cover, source, image, OPAQUE), k)

    def _layers(self, clip: Piece | Cover, source: Source, image: Image, opacity: Opacity) -> tuple[Layer, ...]:
        if not self.wide and not clip.settings.rows:
            return (Layer(image, opacity),)
        key = (clip.source, clip.group, clip.settings)
        if (
            key not in self._alike
        ):  # what moves does so on its own clock; all else is the same for all that is set alike
            place = Place(*PLACES[self.read(clip, "place")])
            part = _part(lambda n: self.read(clip, n), lambda own, lines: self._moves(clip, own, lines))
            found_layers = (
                part,
                EVERYWHERE if place == EVERYWHERE else place,
                self.read(clip, "fit"),
                self.look(clip, source),
            )
            if not found_layers[0].moves:
                self._alike[key] = found_layers
        else:
            found_layers = self._alike[key]
        part, place, fit, look_rows = found_layers
        layer = Layer(image, opacity, part, place, look_rows)
        if fit != "blurred":
            return (layer,)
        behind = Part(fit="filled", blur=True, flip=part.flip, border=part.border)
        return (replace(layer, part=behind), replace(layer, part=replace(part, fit="whole", clear=True)))

    def _title(self, cover: Cover) -> TitleImage:
        return TitleImage(tuple((name, self.read(cover, name)) for name in TITLE_DRAWN))

    def look(self, clip: Piece | Cover, source: Source) -> Look:
        """The looks of all scopes, from wide to near."""
        scopes = reaching(LOOK[0], self.story.scopes(clip, self.sources))
        looks_by_scope = (tuple((name, values[name]) for name in values if name in LOOK) for values in scopes)
        return tuple(look_row for look_row in looks_by_scope if look_row)

    def _moves(self, clip: Piece | Cover, own: dict[str, Value], lines: dict[str, Line]) -> tuple[Move, ...]:
        """The lines as moments of the run that begins with the first frame of the thing."""
        moves: list[Move] = []
        for moment in sorted({moment for value_line in lines.values() for moment, _ in value_line}):
            zoom, across, down = (on_line(v, moment) if isinstance(v, tuple) else float(v) for v in own.values())
            moves.append((float(frames_to(clip, moment)), zoom, across / 100, down / 100))
        return tuple(sorted(moves))  # backwards, the last comes first


def _part(read: Callable[[str], Any], moves: Callable[..., tuple[Move, ...]] = lambda own, lines: ()) -> Part:
    """The part that is shown, by what its settings say; `moves` of those that are lines."""
    own_part: dict[str, Any] = {name: read(name) for name in MOVED}
    rest = {name: read(name) for name in STATIC}
    lines: dict[str, Line] = {name: value for name, value in own_part.items() if isinstance(value, tuple)}
    flat: dict[str, float] = {
        name: float(SETTINGS[name].default if name in lines else value)  # type: ignore[arg-type]
        for name, value in own_part.items()
    }
    crop = tuple(rest[f"crop_{side}"] / 100 for side in ("left", "top", "right", "bottom"))
    fit = rest["fit"]
    if fit == Fit.AS_IT_FITS:
        fit = "whole" if read("place") == PLACE else "filled"
    return Part(
        flat["zoom"],
        flat["across"] / 100,
        flat["down"] / 100,
        rest["turn"],
        rest["flip"],
        (crop[0], crop[1], crop[2], crop[3]),
        "filled" if fit == "filled" else "whole",
        rest["border"] / 100,
        clear=any(crop),
        moves=moves(own_part, lines),
        ease=read("ease") if lines else "both",
    )


def steady(percent: float) -> Opacity:
    """An opacity that stays as it is."""
    return OPAQUE if percent == 100 else Opacity(round(10 * percent), 0, 1000)


def dialogue_runs(story: Story, sources: Sources) -> list[Run]:
    """The dialogue line's own pictures, blends as runs of their own.

    |  A       |  B      |   dissolve of 4   ->   [ A ...][A B↗][ B ... ]
    |  A       |  B      |   dip of 4        ->   [ A ...][A↘][B↗][ B ... ]
    """
    seen = Seen(story, sources)
    layers = [seen.piece(piece) for piece in story.pieces]
    ramped = {index for index, piece in enumerate(story.pieces) if piece.settings and seen.by_frame(piece)}
    count = len(layers)
    if not story.transitions and not ramped and not seen.whole:
        return [
            Run(story.starts[piece_index], story.starts[piece_index + 1], layers[piece_index])
            for piece_index in range(count)
        ]
    dialogue_there = _Dialogue(story, seen, layers, ramped)
    between = [story.transition(seam_index) for seam_index in range(count + 1)]
    foot, head = zip(
        *(_around(transition, 0 < seam_index < count) for seam_index, transition in enumerate(between)), strict=True
    )
    for piece_index in range(count):
        start, end = story.starts[piece_index], story.starts[piece_index + 1]
        if between[piece_index].length:
            dialogue_there.blend(piece_index, between[piece_index], foot[piece_index], head[piece_index])
        x, y = start + head[piece_index], end - foot[piece_index + 1]
        if x > y:  # a fade in and a fade out on the only piece meet in its middle
            x = y = (x + y) // 2
            dialogue_there.cut_at(x)
        dialogue_there.show(x, y, (piece_index, OPAQUE))
    if (size := between[count].length) and count:
        start = max(story.length - size, dialogue_there.runs[-1].end)
        dialogue_there.show(start, story.length, (count - 1, Opacity.falling(size, start - (story.length - size))))
    return dialogue_there.runs


def _around(transition: Transition, inner: bool) -> tuple[int, int]:
    """How much of a blend lies before its seam and how much after it; one at either end lies wholly on its piece."""
    half = transition.length // 2
    return (half, transition.length - half) if inner else (transition.length, transition.length)


@dataclass
class _Dialogue:
    """The dialogue line's runs, as far as they are made. `ramped`: pieces that have to be seen frame by frame."""

    story: Story
    seen: Seen
    layers: list[tuple[Layer, ...]]
    ramped: set[int]
    runs: list[Run] = field(default_factory=list)

    def show(self, start: int, end: int, *parts: tuple[int, Opacity]) -> None:
        """Story frames [start, end): these pieces over each other, each with its opacity; frame by frame where one has
        a ramp."""
        pieces, starts = self.story.pieces, self.story.starts
        step = 1 if any(piece_index in self.ramped for piece_index, _ in parts) else max(1, end - start)
        for t in range(start, end, step):
            shown_layers = [
                (
                    self.seen.whole_of(pieces[piece_index]),
                    opacity.later(t - start),
                    self.of(piece_index, t - starts[piece_index]),
                )
                for piece_index, opacity in parts
            ]
            self.runs.append(Run(t, t + step, self.seen.together(shown_layers)))

    def of(self, i: int, k: int) -> tuple[Layer, ...]:
        """The layers of a piece from its frame k on."""
        return self.seen.piece(self.story.pieces[i], k) if i in self.ramped else later(self.layers[i], k)

    def blend(self, i: int, transition: Transition, before: int, after: int) -> None:
        """The blend into the piece at index i: so many frames before its seam, so many after it."""
        start, size = self.story.starts[i], transition.length
        if not i:
            self.show(start, start + after, (i, Opacity.rising(size)))
        elif transition.blend == "dip":  # neither side needs material beyond its edge
            down, up = Opacity(size - 1, -2, size + 1), Opacity(2 * before + 1 - size, 2, size + 1)
            self.show(start - before, start, (i - 1, down))
            self.show(start, start + after, (i, up))
        else:
            self.show(start - before, start + after, (i - 1, OPAQUE), (i, Opacity.rising(size)))

    def cut_at(self, frame: int) -> None:
        """Take away what was made from a story frame on."""
        while self.runs and self.runs[-1].end > frame:
            last = self.runs.pop()
            if last.at < frame:
                self.runs.append(last.part(last.at, frame))


def later(layers: tuple[Layer, ...], frames: int) -> tuple[Layer, ...]:
    return layers if not frames else tuple([layer.later(frames) for layer in layers])


def with_opacity(layers: tuple[Layer, ...], opacity: Opacity) -> tuple[Layer, ...]:
    """These layers as one that is so see-through.

    Two frames blended, the upper one with a share f, at an opacity o: upper o f, lower o (1 - f) / (1 - o f).
    """
    upper = next((layer.opacity for layer in layers if layer.opacity != OPAQUE), None)
    if upper is None:
        return tuple([replace(layer, opacity=opacity) for layer in layers])
    if opacity == OPAQUE:
        return layers
    o, f = Fraction(min(max(opacity.first, 0), opacity.of), opacity.of), Fraction(upper.first, upper.of)
    low, high = (o * (1 - f) / (1 - o * f), o * f)
    both = {True: Opacity(low.numerator, 0, low.denominator), False: Opacity(high.numerator, 0, high.denominator)}
    return tuple([replace(layer, opacity=both[layer.opacity == OPAQUE]) for layer in layers])


def times(first_opacity: Opacity, second_opacity: Opacity) -> Opacity:
    """One on the other, of which one at most changes in these frames."""
    if first_opacity.step and second_opacity.step:
        first_opacity = Opacity(first_opacity.first, 0, first_opacity.of)  # a run of one frame
    return Opacity(
        first_opacity.first * second_opacity.first,
        first_opacity.step * second_opacity.first + second_opacity.step * first_opacity.first,
        first_opacity.of * second_opacity.of,
    )
