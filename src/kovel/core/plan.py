"""The plan: the story flattened to what is seen and heard. Player, renderer and exports read this and nothing else.

dialogue  [ A ....... ][ B ...... ]          picture  [ A .][ boat ...][ B .. ]
cover          [ boat ... ]            ->    sound    [ A ....... ][ B ...... ]
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from kovel.core.rate import Rate, frame_shown
from kovel.core.story import Source, Sources, Story

RAMP = 192  # samples: 4 ms at 48 kHz


@dataclass(frozen=True, slots=True)
class Shown:
    """Picture of story frames [at, end): source frames from `start` on, in story frames on the source's clock.

    `source` None is black. `cover` is the id of the cover it comes from, None for the dialogue's own picture.
    """

    at: int
    end: int
    source: int | None
    start: int
    cover: int | None = None


@dataclass(frozen=True, slots=True)
class Heard:
    """Sound of story samples [at, end): source samples from `start` on, times `gain`, ramped over RAMP at each end."""

    at: int
    end: int
    source: int
    start: int
    gain: float = 1.0


@dataclass(frozen=True)
class Plan:
    """`pictures` fill [0, length) without gap or overlap; `sounds` are in order and don't overlap in this version."""

    rate: Rate
    length: int
    pictures: tuple[Shown, ...]
    sounds: tuple[Heard, ...]

    @property
    def samples(self) -> int:
        return self.rate.frame_to_sample(self.length)

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
        """(source, its own frame) on screen at a story frame; None for black."""
        s = self.picture_at(frame)
        if s.source is None:
            return None
        return s.source, frame_shown(s.start + frame - s.at, self.rate, sources[s.source].rate)

    def to_json(self, sources: Sources) -> dict[str, Any]:
        """For the player. Each picture run carries the exact ratio from story frames to its recording's frames."""
        ratio = {i: (s.rate.fps / self.rate.fps).as_integer_ratio() for i, s in sources.items()}
        return {
            "rate": [self.rate.num, self.rate.den],
            "length": self.length,
            "samples": self.samples,
            "ramp": RAMP,
            "pictures": [
                [p.at, p.end, p.source, p.start, *(ratio[p.source] if p.source is not None else (1, 1))] for p in self.pictures
            ],
            "sounds": [[h.at, h.end, h.source, h.start, h.gain] for h in self.sounds],
        }


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
            and last.source == r.source
            and last.cover == r.cover
            and (r.source is None or last.start + r.at - last.at == r.start)
        ):
            out[-1] = Shown(last.at, r.end, last.source, last.start, last.cover)
        else:
            out.append(r)
    return tuple(out)


def make_plan(story: Story, sources: Sources) -> Plan:
    """Flatten a story. In a frame shared by covers the highest lane is seen; a cover past the story's end is cut there.

    Sound: sample `frame_to_sample(t)` of the story carries sample `frame_to_sample(source frame)` of the recording,
    so picture and sound of a piece keep the recording's own sync to the sample.
    """
    dialogue = []
    sounds: list[Heard] = []
    for at, p in zip(story.starts, story.pieces, strict=False):
        s = sources.get(p.source) if p.source is not None else None
        dialogue.append(Shown(at, at + p.length, p.source if s and s.picture else None, p.start))
        if s and s.sound:
            a, b = story.rate.frame_to_sample(at), story.rate.frame_to_sample(at + p.length)
            start = story.rate.frame_to_sample(p.start)
            last = sounds[-1] if sounds else None
            if last and last.end == a and last.source == s.id and last.start + a - last.at == start:
                sounds[-1] = Heard(last.at, b, s.id, last.start, last.gain)
            else:
                sounds.append(Heard(a, b, s.id, start))
    spans = [(a, min(b, story.length), c) for a, b, c in story.spans if c.source in sources]
    if not spans:
        return Plan(story.rate, story.length, _shown(dialogue), tuple(sounds))
    edges = sorted({0, story.length, *(e for a, b, _ in spans for e in (a, b)), *(d.at for d in dialogue)})
    spans.sort(key=lambda r: r[0])
    rows, live, i, k = [], [], 0, 0
    for a, b in pairwise(edges):
        while i < len(spans) and spans[i][0] <= a:
            live.append(spans[i])
            i += 1
        live = [r for r in live if r[1] > a]
        while dialogue[k].end <= a:
            k += 1
        if live:
            at, _, c = max(live, key=lambda r: (r[2].lane, r[0]))
            rows.append(Shown(a, b, c.source, c.start + a - at if sources[c.source].frames is not None else 0, c.id))
        else:
            d = dialogue[k]
            rows.append(Shown(a, b, d.source, d.start + a - d.at))
    return Plan(story.rate, story.length, _shown(rows), tuple(sounds))


def window_plan(rate: Rate, s: Source) -> Plan:
    """One whole recording as a plan, so that it plays through the same player. A still lasts five seconds."""
    n = s.length(rate) or rate.nominal * 5
    sounds = (Heard(0, rate.frame_to_sample(n), s.id, 0),) if s.sound else ()
    return Plan(rate, n, (Shown(0, n, s.id if s.picture else None, 0),), sounds)


def ramped(block: npt.NDArray[np.float32], offset: int, length: int, gain: float = 1.0) -> npt.NDArray[np.float32]:
    """Samples [offset, offset+len) of a sound run of `length` samples, with its gain and both ramps applied.

    Shapes: (n,) or (n, channels). Linear ramps over RAMP samples: 0 at the first sample, 1 from sample RAMP on.
    """
    i = np.arange(offset, offset + len(block), dtype=np.float32)
    env = np.minimum(np.minimum(i, length - i) / np.float32(RAMP), np.float32(1.0)) * np.float32(gain)
    return np.asarray(block * (env if block.ndim == 1 else env[:, None]), dtype=np.float32)
