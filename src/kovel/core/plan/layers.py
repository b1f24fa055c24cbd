"""What fills the picture: a stack of layers, bottom first, for a run of story frames. One routine draws a layer.

frames [at, end)   a stack, each layer: an image, its look, the part of it shown, its place in the picture, its opacity
dissolve           two layers, the upper one's opacity rises from 0 to 1
fade, dip          one layer over black whose opacity falls; then another one whose opacity rises
split screen       layers with places
group as one       a layer of layers: put together first, then looked, framed and laid as one image
filled letters     the same, of which only what the letters of a title cover is seen
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, fields, replace
from fractions import Fraction
from typing import Any, Literal, NamedTuple

from kovel.core.story.model import Card, Sources
from kovel.core.time.rate import Rate

LINE = 1.35  # from line to line of a title, in sizes


@dataclass(frozen=True, slots=True)
class TitleImage:
    """A title as it is drawn once: its settings, by name."""

    rows: tuple[tuple[str, Any], ...]


@dataclass(frozen=True, slots=True)
class Image:
    """A recording from story frame `start` on (on its clock), a card, a title, layers put together, or (none of them)
    black.

    Of layers (`stack`, bottom first, on black; of story group `group`, if of any) only what the letters of `cut`
    cover is there, if that is given. A retimed shot shows `speed` = (frames of the shot, frames of the story);
    `skip` story frames of it have gone by. With fewer than 0 frames of the shot it runs backwards, `skip` story
    frames before it comes to `start`.
    """

    source: int | None = None
    start: int = 0
    card: Card | None = None
    speed: tuple[int, int] = (1, 1)
    skip: int = 0
    title: TitleImage | None = None
    stack: tuple[Layer, ...] = ()
    cut: Layer | None = None
    group: int = 0

    def later(self, frames: int) -> Image:
        """The same image as it goes on `frames` later."""
        if self.stack and frames:
            cut = self.cut.later(frames) if self.cut else None
            return replace(self, stack=tuple([layer.later(frames) for layer in self.stack]), cut=cut)
        if self.source is None or not frames:
            return self
        on = (frames, 0) if self.speed == (1, 1) else (0, frames if self.speed[0] > 0 else -frames)
        return Image(self.source, self.start + on[0], self.card, self.speed, self.skip + on[1])

    def steps(self, ratio: Fraction) -> tuple[int, int, int]:
        """(base, num, den): k frames on, the recording shows its own frame floor((base + k * num) / den)."""
        p, q = self.speed
        rn, rd = ratio.as_integer_ratio()
        return (self.start * q + self.skip * abs(p)) * rn, p * rn, q * rd


@dataclass(frozen=True, slots=True)
class Opacity:
    """Straight with time: (first + k * step) / of at frame k of the run, held between 0 and 1."""

    first: int = 1
    step: int = 0
    of: int = 1

    def at(self, k: int) -> float:
        """Opacity (0 to 1) at frame k."""
        return min(1.0, max(0.0, (self.first + k * self.step) / self.of))

    def later(self, frames: int) -> Opacity:
        """The same line, begun so many frames later."""
        return Opacity(self.first + frames * self.step, self.step, self.of) if self.step else self

    @staticmethod
    def rising(n: int, first: int = 0) -> Opacity:
        """Over n frames from 1/(n+1) to n/(n+1), `first` of them gone by."""
        return Opacity(first + 1, 1, n + 1)

    @staticmethod
    def falling(n: int, first: int = 0) -> Opacity:
        """A fall over n frames, from its frame `first` on; the frame after the last would be clear."""
        return Opacity(n - first, -1, n + 1)


Move = tuple[float, float, float, float]  # (frame of the run, zoom, x, y)
Ease = Literal["both", "in", "out", "none"]


def eased(t: float, ease: Ease) -> float:
    """How much of a move is done after share `t` of its time: soft at its beginning ("in"), its end ("out"), both or
    none.

    Squares and the cubic 3t² - 2t³ (common practice, no source).
    """
    if ease == "both":
        return t * t * (3 - 2 * t)
    return t * t if ease == "in" else t * (2 - t) if ease == "out" else t


@dataclass(frozen=True, slots=True)
class Part:
    """Which part of the image is shown: at `zoom` percent, lying at `x`, `y` of the room that leaves (0 left or top).

    moves    zoom   100 ____/‾‾‾‾ 112        moments of the run, eased between; as at its ends beyond them

    `turn` in degrees clockwise about the middle of its place, `flip` mirrors left and right, `crop` cuts shares off
    the image's left, top, right and bottom; `fit` says how an image of another shape fills its place; `border` is a
    black edge inside of the place, in shares of the picture's width; `blur` makes it a ground to stand on, and
    around one that is `clear` what is under it is seen instead of black. `drift` moves the whole about the picture,
    in shares of its width and height: moments of the run like `moves`.
    """

    zoom: float = 100.0
    x: float = 0.5
    y: float = 0.4
    turn: float = 0.0
    flip: bool = False
    crop: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    fit: Literal["whole", "filled"] = "whole"
    border: float = 0.0
    blur: bool = False
    clear: bool = False
    moves: tuple[Move, ...] = ()
    ease: Ease = "both"
    drift: tuple[tuple[float, float, float], ...] = ()

    def at(self, k: float) -> tuple[float, float, float]:
        """(zoom, x, y) at frame k of the run."""
        if not self.moves:
            return self.zoom, self.x, self.y
        before = self.moves[0]
        for move in self.moves:
            if k < move[0]:
                if k <= before[0]:
                    return before[1:]
                share = eased((k - before[0]) / (move[0] - before[0]), self.ease)
                z, x, y = (start + (end - start) * share for start, end in zip(before[1:], move[1:], strict=True))
                return z, x, y
            before = move
        return before[1:]

    def drifted(self, k: float) -> tuple[float, float]:
        """How far it has moved at frame k, in shares of the picture's width and height."""
        if not self.drift:
            return 0.0, 0.0
        (a, x0, y0), (b, x1, y1) = self.drift[0], self.drift[-1]
        share = eased(min(1.0, max(0.0, (k - a) / max(1, b - a))), self.ease)
        return x0 + (x1 - x0) * share, y0 + (y1 - y0) * share

    def later(self, frames: int) -> Part:
        """The same framing, begun so many frames later: moves lie so much earlier."""
        if not (self.moves or self.drift) or not frames:
            return self
        moves = tuple((move_frame - frames, z, x, y) for move_frame, z, x, y in self.moves)
        return replace(self, moves=moves, drift=tuple((drift_frame - frames, x, y) for drift_frame, x, y in self.drift))

    def to_json(self) -> dict[str, Any]:
        """What differs from the whole image."""
        return {
            field.name: getattr(self, field.name)
            for field in fields(self)
            if getattr(self, field.name) != field.default
        }

    @staticmethod
    def from_json(stored: dict[str, Any]) -> Part:
        """What `to_json` wrote."""
        stored_rows = dict(stored)
        if "crop" in stored_rows:
            stored_rows["crop"] = tuple(stored_rows["crop"])
        if "moves" in stored_rows:
            stored_rows["moves"] = tuple(tuple(move_row) for move_row in stored_rows["moves"])
        if "drift" in stored_rows:
            stored_rows["drift"] = tuple(tuple(drift_row) for drift_row in stored_rows["drift"])
        return Part(**stored_rows)


@dataclass(frozen=True, slots=True)
class Place:
    """Where in the picture the layer stands, in shares of its width and height."""

    x: float = 0.0
    y: float = 0.0
    w: float = 1.0
    h: float = 1.0


Look = tuple[
    tuple[tuple[str, Any], ...], ...
]  # settings of looks that follow each other: recording's, story's, its own
OPAQUE, WHOLE, EVERYWHERE = Opacity(), Part(), Place()


@dataclass(frozen=True, slots=True)
class Layer:
    """One picture in the stack."""

    image: Image
    opacity: Opacity = OPAQUE
    part: Part = WHOLE
    place: Place = EVERYWHERE
    look: Look = ()
    letters: Opacity = OPAQUE  # the share of a title's letters that are written

    def later(self, frames: int) -> Layer:
        """The same layer, begun so many frames later."""
        if not frames:
            return self
        return replace(
            self,
            image=self.image.later(frames),
            opacity=self.opacity.later(frames),
            part=self.part.later(frames),
            letters=self.letters.later(frames),
        )

    @property
    def plain(self) -> bool:
        """Whether it fills the picture and hides what is under it."""
        return self.opacity == OPAQUE and self.place == EVERYWHERE and not self.part.clear and not self.image.cut

    def to_json(self, ratio: Mapping[int | None, Fraction]) -> list[Any]:
        """[source, base, num, den], and what is more than that in an object: see `Image.steps`. `ratio`: see
        `ratios`."""
        image = self.image
        more: dict[str, Any] = {}
        if image.stack:
            more["stack"] = [layer.to_json(ratio) for layer in image.stack]
        if image.cut:
            more["cut"] = image.cut.to_json(ratio)
        if image.card:
            more["card"] = [image.card.colour, image.card.text]
        if image.title:
            more["title"] = dict(image.title.rows)
        if self.letters != OPAQUE:
            more["letters"] = [self.letters.first, self.letters.step, self.letters.of]
        if self.opacity != OPAQUE:
            more["opacity"] = [self.opacity.first, self.opacity.step, self.opacity.of]
        if self.part != WHOLE:
            more["part"] = self.part.to_json()
        if self.look:
            more["look"] = [dict(look_rows) for look_rows in self.look]
        if self.place != EVERYWHERE:
            more["place"] = [self.place.x, self.place.y, self.place.w, self.place.h]
        return [image.source, *image.steps(ratio.get(image.source, Fraction(1))), *([more] if more else [])]

    @staticmethod
    def from_json(row: list[Any]) -> Stacked:
        """A layer as `to_json` wrote it, and its steps; its image has no start of its own then."""
        more_stored: dict[str, Any] = row[4] if len(row) > 4 else {}
        title = TitleImage(tuple(more_stored["title"].items())) if "title" in more_stored else None
        image = Image(row[0], card=Card(*more_stored["card"]) if "card" in more_stored else None, title=title)
        look_stored = tuple(tuple(sorted(d.items())) for d in more_stored.get("look", ()))
        layer = Layer(
            image,
            Opacity(*more_stored.get("opacity", ())),
            Part.from_json(more_stored.get("part", {})),
            Place(*more_stored.get("place", ())),
            look_stored,
            Opacity(*more_stored.get("letters", ())),
        )
        cut_stored = Layer.from_json(more_stored["cut"]).layer if "cut" in more_stored else None
        return Stacked(
            layer,
            (row[1], row[2], row[3]),
            tuple(Layer.from_json(stacked_layer) for stacked_layer in more_stored.get("stack", ())),
            cut_stored,
        )


class Stacked(NamedTuple):
    """A layer as it is read from a plan's JSON: `steps` say which frame of its recording is seen, `stack` and `cut`
    what it is put together from."""

    layer: Layer
    steps: tuple[int, int, int]
    stack: tuple[Stacked, ...] = ()
    cut: Layer | None = None

    def flat(self) -> Iterator[Stacked]:
        """It, or all that it is put together from, bottom first."""
        if not self.stack:
            yield self
        for stacked in self.stack:
            yield from stacked.flat()


def flat(layers: Iterable[Layer]) -> Iterator[Layer]:
    """Layers without those of layers: what they are put together from instead, bottom first, with the look of the
    whole."""
    for layer in layers:
        if layer.image.stack:
            yield from (
                replace(other, look=(*other.look, *layer.look)) if layer.look else other
                for other in flat(layer.image.stack)
            )
        else:
            yield layer


BLACK = Layer(Image())


@dataclass(frozen=True, slots=True)
class Run:
    """Picture of story frames [at, end). `cover` is the id of the cover it comes from, None for the dialogue's own."""

    at: int
    end: int
    layers: tuple[Layer, ...]
    cover: int | None = None

    @property
    def image(self) -> Image:
        """The image at the bottom."""
        return next(flat(self.layers)).image

    @property
    def source(self) -> int | None:
        """The recording of the lowest layer; None for black."""
        return self.image.source

    @property
    def start(self) -> int:
        """The frame of it that is shown first."""
        return self.image.start

    def part(self, start: int, end: int) -> Run:
        """Frames [a, b) of this run."""
        if (start, end) == (self.at, self.end):
            return self
        if start == self.at:
            return Run(start, end, self.layers, self.cover)
        return Run(start, end, tuple([layer.later(start - self.at) for layer in self.layers]), self.cover)

    def runs_on(self, next_: Run) -> bool:
        """Whether the next run shows the same, going on."""
        if self.cover != next_.cover or self.end != next_.at or len(self.layers) != len(next_.layers):
            return False
        on = next_.at - self.at
        for first_layer, second_layer in zip(self.layers, next_.layers, strict=True):
            first_image, second_image = (
                first_layer.image,
                second_layer.image,
            )  # most differ here, and need no more looking at
            if first_image.source != second_image.source or (
                first_image.speed == (1, 1)
                and first_image.source is not None
                and first_image.start + on != second_image.start
            ):
                return False
        return tuple(layer.later(on) for layer in self.layers) == next_.layers


def joined(all_runs: Iterable[Run]) -> tuple[Run, ...]:
    """Without empty runs, and those that run on as one."""
    runs: list[Run] = []
    for run in all_runs:
        if run.end <= run.at:
            continue
        if runs and runs[-1].runs_on(run):
            runs[-1] = replace(runs[-1], end=run.end)
        else:
            runs.append(run)
    return tuple(runs)


def own_frame(image: Image, k: int, clock: Rate, recording: Rate) -> int:
    """The recording's own frame that an image shows k story frames after its beginning."""
    base, num, den = image.steps(recording.fps / clock.fps)
    return (base + k * num) // den


def ratios(sources: Sources, clock: Rate) -> dict[int | None, Fraction]:
    """Recording frames to a story frame, by source."""
    return {key: source.rate.fps / clock.fps for key, source in sources.items()}
