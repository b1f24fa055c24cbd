"""From the story to what is heard: the pieces' own sound, what is laid beside it, each with its gain line and ramps."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from kovel.core.story.model import Cover, Sources, Story
from kovel.core.story.settings import Line

RAMP = 192  # samples: 4 ms at 48 kHz
HALF = 0.5  # a cover's own sound under talk: half amplitude to start with (common practice)

GainLine = tuple[tuple[int, float], ...]  # samples since the sound's beginning, dB; straight in dB between them


@dataclass(frozen=True, slots=True)
class Heard:
    """Sound of story samples [at, end): source samples from `start` on, times `gain` and, if there is one, its gain line.

    It comes in over `rise` samples and goes out over `fall`: straight up to RAMP, in a quarter sine (equal power) beyond.
    """

    at: int
    end: int
    source: int
    start: int
    gain: float = 1.0
    rise: int = RAMP
    fall: int = RAMP
    line: GainLine = ()

    def gains(self, offsets: npt.NDArray[np.floating | np.integer]) -> npt.NDArray[np.float64]:
        """What it is multiplied by at samples since its beginning, ramps left out."""
        if not self.line:
            return np.full(offsets.shape, self.gain)
        moments, levels = zip(*self.line, strict=True)
        return np.asarray(self.gain * 10 ** (np.interp(offsets, moments, levels) / 20), np.float64)


def audible(story: Story, lane: str) -> bool:
    """Whether a lane is heard: not muted, and on solo if any is."""
    return lane not in story.muted and (not story.soloed or lane in story.soloed)


def dialogue_sound(story: Story, sources: Sources) -> list[Heard]:
    """The pieces' own sound; split edits and crossfades move its edges, never its sync.

    Sample `frame_to_sample(t)` of the story carries sample `frame_to_sample(source frame)` of the recording.
    """
    out: list[Heard] = []
    to = story.rate.frame_to_sample
    samples = [to(t) for t in story.starts]
    n = len(story.pieces)
    read = story.reading(sources)
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
        gain, line = _level(story, read(p, "level"), start)
        new = Heard(x, y, s.id, start, gain, rise, fall, line)
        last = out[-1] if out else None
        if last and _runs_on(last, new):
            out[-1] = replace(last, end=y, fall=fall)
        else:
            out.append(new)
    return out


def _runs_on(a: Heard, b: Heard) -> bool:
    same = (a.end, a.source, a.gain) == (b.at, b.source, b.gain) and a.start + b.at - a.at == b.start
    return same and a.fall == b.rise == RAMP and not a.line and not b.line


def laid_sound(story: Story, sources: Sources) -> list[Heard]:
    """Sounds, and the natural sound of covers that have it on; cut off where the story ends."""
    to, read = story.rate.frame_to_sample, story.reading(sources)
    out = []
    for s in story.sounds:
        at = story.at(s)
        end = min(at + s.length, story.length)
        if end > at and s.source in sources and audible(story, s.kind):
            cut = at + s.length - end
            fall = RAMP if cut else to(s.settings["fade_out"]) or RAMP
            gain, line = _level(story, read(s, "level"), to(s.start))
            rise = to(s.settings["fade_in"]) or RAMP
            out.append(Heard(to(at), to(end), s.source, to(s.start), gain, rise, fall, line))
    if audible(story, "natural"):
        for a, b, c in story.spans:
            if read(c, "natural") and f"cover {c.lane}" not in story.muted and with_its_sound(story, c, sources):
                gain, line = _level(story, read(c, "level"), to(c.start))
                end = to(min(b, story.length))
                out.append(Heard(to(a), end, c.source, to(c.start), HALF * gain, line=line))
    return out


def with_its_sound(story: Story, c: Cover, sources: Sources) -> bool:
    """Whether a cover is heard as well: its natural sound is on, it has one, and runs as it was shot."""
    s = sources.get(c.source)
    return bool(s and s.sound and not c.span and story.value(c, "natural", sources))


def _level(story: Story, level: float | Line, start: int) -> tuple[float, GainLine]:
    """What a level multiplies samples from `start` of its recording on by: one gain, or a line."""
    if isinstance(level, tuple):
        return 1.0, tuple((story.rate.frame_to_sample(m) - start, db) for m, db in level)
    return (10 ** (float(level) / 20) if level else 1.0), ()


def heard(story: Story, sources: Sources) -> tuple[Heard, ...]:
    """Everything that is heard, in order of its beginning."""
    talk = dialogue_sound(story, sources) if audible(story, "dialogue") else []
    laid = laid_sound(story, sources)
    return tuple(sorted([*talk, *laid], key=lambda h: (h.at, h.end, h.source)) if laid else talk)


def ramped(block: npt.NDArray[np.float32], offset: int, h: Heard) -> npt.NDArray[np.float32]:
    """Samples [offset, offset+len) of a sound, with its gain and both ramps applied.

    Shapes: (n,) or (n, channels). Up to RAMP samples a ramp is straight: 0 at the first sample, 1 from sample RAMP on. A
    longer one is a quarter sine, so that two that cross add up to the same power: -3.01 dB each in the middle.
    """
    length = h.end - h.at
    i = np.arange(offset, offset + len(block), dtype=np.float32)
    up, down = np.minimum(i / np.float32(h.rise), 1), np.minimum((length - i) / np.float32(h.fall), 1)
    if h.rise > RAMP:
        up = np.sin(up * np.float32(np.pi / 2))
    if h.fall > RAMP:
        down = np.sin(down * np.float32(np.pi / 2))
    gain = h.gains(np.arange(offset, offset + len(block))) if h.line else np.float32(h.gain)
    env = (np.minimum(up, down) * gain).astype(np.float32)
    return np.asarray(block * (env if block.ndim == 1 else env[:, None]), dtype=np.float32)
