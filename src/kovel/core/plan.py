"""The plan: the story flattened to what is seen and heard. Player, renderer and exports read this and nothing else.

dialogue  [ A ....... ][ B ...... ]          picture  [ A .][ boat ...][ B .. ]
cover          [ boat ... ]            ->    sound    [ A ....... ][ B ...... ]
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from kovel.core.rate import Rate
from kovel.core.story import Card, Piece, Source, Sources, Story

RAMP = 192  # samples: 4 ms at 48 kHz


@dataclass(frozen=True, slots=True)
class Image:
    """What fills a run of frames: a recording from story frame `start` on (on its clock), a card, or (neither) black.

    A retimed shot shows `speed` = (frames of the shot, frames of the story); `skip` story frames of it have gone by.
    """

    source: int | None = None
    start: int = 0
    zoom: int = 100
    card: Card | None = None
    speed: tuple[int, int] = (1, 1)
    skip: int = 0

    def later(self, frames: int) -> Image:
        """The same image as it goes on `frames` later."""
        if self.source is None or not frames:
            return self
        on = (frames, 0) if self.speed == (1, 1) else (0, frames)
        return Image(self.source, self.start + on[0], self.zoom, self.card, self.speed, self.skip + on[1])

    def steps(self, ratio: Fraction) -> tuple[int, int, int]:
        """(base, num, den): k frames on, the recording shows its own frame floor((base + k * num) / den)."""
        p, q = self.speed
        rn, rd = ratio.as_integer_ratio()
        return (self.start * q + self.skip * p) * rn, p * rn, q * rd


@dataclass(frozen=True, slots=True)
class Mix:
    """A run's blend into another image: frames `first` on, of `of` in all.

    dissolve: the other's share grows from 1/(of+1) to of/(of+1); dip: the first fades out to black, then the other in.
    """

    to: Image
    kind: str
    first: int
    of: int

    def shares(self, k: int) -> tuple[float, float]:
        """How much of the first and of the other image frame k of the run shows; the rest is black."""
        w = (self.first + k + 1) / (self.of + 1)
        return (1 - w, w) if self.kind == "dissolve" else (max(0.0, 1 - 2 * w), max(0.0, 2 * w - 1))


@dataclass(frozen=True, slots=True)
class Shown:
    """Picture of story frames [at, end). `cover` is the id of the cover it comes from, None for the dialogue's own."""

    at: int
    end: int
    image: Image
    cover: int | None = None
    mix: Mix | None = None

    @property
    def source(self) -> int | None:
        return self.image.source

    @property
    def start(self) -> int:
        return self.image.start

    def part(self, a: int, b: int) -> Shown:
        """Frames [a, b) of this run."""
        if (a, b) == (self.at, self.end):
            return self
        k = a - self.at
        mix = self.mix and replace(self.mix, to=self.mix.to.later(k), first=self.mix.first + k)
        return Shown(a, b, self.image.later(k), self.cover, mix)


@dataclass(frozen=True, slots=True)
class Heard:
    """Sound of story samples [at, end): source samples from `start` on, times `gain`.

    It comes in over `rise` samples and goes out over `fall`: straight up to RAMP, in a quarter sine (equal power) beyond.
    """

    at: int
    end: int
    source: int
    start: int
    gain: float = 1.0
    rise: int = RAMP
    fall: int = RAMP


@dataclass(frozen=True)
class Plan:
    """`pictures` fill [0, length) without gap or overlap; `sounds` are in order of their beginnings and may overlap."""

    rate: Rate
    length: int
    pictures: tuple[Shown, ...]
    sounds: tuple[Heard, ...]

    @property
    def samples(self) -> int:
        return self.rate.frame_to_sample(self.length)

    @property
    def sources(self) -> set[int]:
        """The recordings that are seen or heard."""
        seen = {i.source for x in self.pictures for i in (x.image, x.mix and x.mix.to) if i and i.source is not None}
        return seen | {h.source for h in self.sounds}

    def picture_at(self, frame: int) -> Shown:
        """What is seen at a story frame (0 <= frame < length)."""
        lo, hi = 0, len(self.pictures) - 1
        while lo < hi:
            mid = (lo + hi) // 2
            if self.pictures[mid].end > frame:
                hi = mid
            else:
                lo = mid + 1
        return self.pictures[lo]

    def recording_frame(self, frame: int, sources: Sources) -> tuple[int, int] | None:
        """(source, its own frame) on screen at a story frame; None for black or a card. Of a blend, the first image."""
        s = self.picture_at(frame)
        if s.source is None:
            return None
        return s.source, own_frame(s.image, frame - s.at, self.rate, sources[s.source].rate)

    def to_json(self, sources: Sources) -> dict[str, Any]:
        """For player and renderer. A picture run is [at, end, source, base, num, den]: k frames after `at` the recording
        shows its own frame floor((base + k * num) / den). What is more than that follows in an object."""
        one = Fraction(1)
        ratio: dict[int | None, Fraction] = {i: s.rate.fps / self.rate.fps for i, s in sources.items()}

        def row(i: Image) -> list[Any]:
            return [i.source, *i.steps(ratio.get(i.source, one))]

        def more(i: Image) -> dict[str, Any]:
            return ({"zoom": i.zoom} if i.zoom != 100 else {}) | ({"card": [i.card.colour, i.card.text]} if i.card else {})

        pictures = []
        for p in self.pictures:
            i = p.image
            extra = more(i) if i.card or i.zoom != 100 else {}
            if p.mix:
                extra["mix"] = [p.mix.kind, p.mix.first, p.mix.of, row(p.mix.to), more(p.mix.to)]
            pictures.append([p.at, p.end, *row(i), extra] if extra else [p.at, p.end, *row(i)])
        return {
            "rate": [self.rate.num, self.rate.den],
            "length": self.length,
            "samples": self.samples,
            "ramp": RAMP,
            "pictures": pictures,
            "sounds": [
                [h.at, h.end, h.source, h.start, h.gain, *([h.rise, h.fall] if (h.rise, h.fall) != (RAMP, RAMP) else [])]
                for h in self.sounds
            ],
        }


def own_frame(image: Image, k: int, clock: Rate, recording: Rate) -> int:
    """The recording's own frame that an image shows k story frames after its beginning."""
    base, num, den = image.steps(recording.fps / clock.fps)
    return (base + k * num) // den


def _shown(rows: Iterable[Shown]) -> tuple[Shown, ...]:
    """Drop empty runs and join those that run on."""
    out: list[Shown] = []
    for r in rows:
        if r.end <= r.at:
            continue
        last = out[-1] if out else None
        if (
            last
            and last.end == r.at
            and last.cover == r.cover
            and last.mix is None is r.mix
            and last.image.source == r.image.source
            and last.image.later(r.at - last.at) == r.image
        ):
            out[-1] = replace(last, end=r.end)
        else:
            out.append(r)
    return tuple(out)


def _image(p: Piece, sources: Sources) -> Image:
    s = sources.get(p.source) if p.source is not None else None
    if s and s.picture and p.take != "sound":
        return Image(p.source, p.start, p.zoom)
    return Image(card=p.card)


def _dialogue(story: Story, sources: Sources) -> list[Shown]:
    """The dialogue line's own pictures, blends as runs of their own.

    |  A       |  B      |   dissolve of 4   ->   [ A ...][A>B][ B ... ]
    """
    out: list[Shown] = []
    images = [_image(p, sources) for p in story.pieces]
    n = len(images)
    if not story.joins:
        return [Shown(story.starts[i], story.starts[i + 1], images[i]) for i in range(n)]
    joins = [story.join(i) for i in range(n + 1)]
    head = [j.length - j.length // 2 if 0 < i < n else j.length for i, j in enumerate(joins)]  # of a blend after its seam
    foot = [j.length // 2 if 0 < i < n else j.length for i, j in enumerate(joins)]  # and before it
    for i in range(n):
        a, b = story.starts[i], story.starts[i + 1]
        if joins[i].length:
            before = foot[i] if i else 0
            left = images[i - 1].later(story.pieces[i - 1].length - before) if i else Image()
            right = images[i].later(-before)
            if joins[i].blend == "dip" and i:  # neither side needs material beyond its edge
                out.append(Shown(a - before, a, left, None, Mix(Image(), "dip", 0, joins[i].length)))
                out.append(Shown(a, a + head[i], Image(), None, Mix(images[i], "dip", before, joins[i].length)))
            else:
                out.append(Shown(a - before, a + head[i], left, None, Mix(right, "dissolve", 0, joins[i].length)))
        x, y = a + head[i], b - foot[i + 1]
        if x > y:  # a fade in and a fade out on the only piece meet in its middle
            x = y = (x + y) // 2
        out.append(Shown(x, y, images[i].later(x - a)))
    if joins[n].length and n:
        a = story.length - joins[n].length
        last = out[-1]
        out.append(Shown(max(a, last.end), story.length, images[-1].later(max(a, last.end) - story.starts[n - 1]), None,
                         Mix(Image(), "dissolve", max(0, last.end - a), joins[n].length)))  # fmt: skip
    return out


def _dialogue_sound(story: Story, sources: Sources) -> list[Heard]:
    """The pieces' own sound; split edits and crossfades move its edges, never its sync.

    Sample `frame_to_sample(t)` of the story carries sample `frame_to_sample(source frame)` of the recording.
    """
    out: list[Heard] = []
    to = story.rate.frame_to_sample
    samples = [to(t) for t in story.starts]
    n = len(story.pieces)
    for i, p in enumerate(story.pieces):
        s = sources.get(p.source) if p.source is not None else None
        if not s or not s.sound or p.take == "picture":
            continue
        x, y, start, rise, fall = samples[i], samples[i + 1], to(p.start), RAMP, RAMP
        if story.joins:
            j, k = story.join(i), story.join(i + 1)
            x = to(story.starts[i] + j.split - j.cross // 2)
            y = to(story.starts[i + 1] + k.split + k.cross - k.cross // 2)
            start -= samples[i] - x
            rise = to(j.cross) or (to(j.length) if i == 0 and j.length else RAMP)
            fall = to(k.cross) or (to(k.length) if i == n - 1 and k.length else RAMP)
        last = out[-1] if out else None
        if last and last.end == x and last.source == s.id and last.start + x - last.at == start and last.fall == rise == RAMP:
            out[-1] = Heard(last.at, y, s.id, last.start, last.gain, last.rise, fall)
        else:
            out.append(Heard(x, y, s.id, start, 1.0, rise, fall))
    return out


def _laid_sound(story: Story, sources: Sources) -> list[Heard]:
    """Sounds, and the natural sound of covers that have it on; cut off where the story ends."""
    to = story.rate.frame_to_sample
    out = []
    for s in story.sounds:
        at = story.at(s)
        end = min(at + s.length, story.length)
        if end > at and s.source in sources and audible(story, s.kind):
            cut = at + s.length - end
            fall = RAMP if cut else to(s.fall) or RAMP
            out.append(Heard(to(at), to(end), s.source, to(s.start), 10 ** (s.level / 200), to(s.rise) or RAMP, fall))
    for a, b, c in story.spans:
        if (
            c.natural
            and not c.span
            and c.source in sources
            and f"cover {c.lane}" not in story.muted
            and audible(story, "natural")
        ):
            out.append(Heard(to(a), to(min(b, story.length)), c.source, to(c.start), 0.5))
    return out


def audible(story: Story, lane: str) -> bool:
    """Whether a lane is heard: not muted, and on solo if any is."""
    return lane not in story.muted and (not story.soloed or lane in story.soloed)


def make_plan(story: Story, sources: Sources) -> Plan:
    """Flatten a story. In a frame shared by covers the highest lane is seen; a cover past the story's end is cut there."""
    dialogue = _dialogue(story, sources)
    sounds = _dialogue_sound(story, sources) if audible(story, "dialogue") else []
    laid = _laid_sound(story, sources) if story.sounds or any(c.natural for c in story.covers) else []
    if laid:
        sounds = sorted([*sounds, *laid], key=lambda h: (h.at, h.end, h.source))
    spans = [
        (a, min(b, story.length), c) for a, b, c in story.spans if c.source in sources and f"cover {c.lane}" not in story.muted
    ]
    if not spans:
        return Plan(story.rate, story.length, _shown(dialogue), tuple(sounds))
    edges = sorted(
        {0, story.length, *(e for a, b, _ in spans for e in (a, b)), *(d.at for d in dialogue), *(d.end for d in dialogue)}
    )
    spans.sort(key=lambda r: r[0])
    rows, live, i, k = [], [], 0, 0
    for a, b in pairwise(edges):
        while i < len(spans) and spans[i][0] <= a:
            live.append(spans[i])
            i += 1
        if live:
            live = [r for r in live if r[1] > a]
        while dialogue[k].end <= a:
            k += 1
        if live:
            at, _, c = live[0] if len(live) == 1 else max(live, key=lambda r: (r[2].lane, r[0]))
            still = sources[c.source].frames is None
            image = Image(c.source, 0 if still else c.start, speed=(c.span, c.length) if c.span else (1, 1))
            rows.append(Shown(a, b, image if still else image.later(a - at), c.id))
        else:
            rows.append(dialogue[k].part(a, b))
    return Plan(story.rate, story.length, _shown(rows), tuple(sounds))


def window_plan(rate: Rate, s: Source) -> Plan:
    """One whole recording as a plan, so that it plays through the same player. A still lasts five seconds."""
    n = s.length(rate) or rate.nominal * 5
    sounds = (Heard(0, rate.frame_to_sample(n), s.id, 0),) if s.sound else ()
    return Plan(rate, n, (Shown(0, n, Image(s.id if s.picture else None)),), sounds)


def ramped(
    block: npt.NDArray[np.float32], offset: int, length: int, gain: float = 1.0, rise: int = RAMP, fall: int = RAMP
) -> npt.NDArray[np.float32]:
    """Samples [offset, offset+len) of a sound run of `length` samples, with its gain and both ramps applied.

    Shapes: (n,) or (n, channels). Up to RAMP samples a ramp is straight: 0 at the first sample, 1 from sample RAMP on. A
    longer one is a quarter sine, so that two that cross add up to the same power: -3.01 dB each in the middle.
    """
    i = np.arange(offset, offset + len(block), dtype=np.float32)
    up, down = np.minimum(i / np.float32(rise), 1), np.minimum((length - i) / np.float32(fall), 1)
    if rise > RAMP:
        up = np.sin(up * np.float32(np.pi / 2))
    if fall > RAMP:
        down = np.sin(down * np.float32(np.pi / 2))
    env = (np.minimum(up, down) * np.float32(gain)).astype(np.float32)
    return np.asarray(block * (env if block.ndim == 1 else env[:, None]), dtype=np.float32)
