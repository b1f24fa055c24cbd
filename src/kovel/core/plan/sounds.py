"""From the story to what is heard: the pieces' own sound, what is laid beside it, each with its gain line and ramps."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import numpy as np
import numpy.typing as npt

from kovel.core.plan.retimed import Retimed, retimed
from kovel.core.story.covers import heard_as
from kovel.core.story.model import Cover, Item, Piece, Sound, Source, Sources, Story, T, frames_to, with_setting
from kovel.core.story.settings import CLEANING, HEARD, Line, added
from kovel.core.time.rate import SAMPLE_RATE

RAMP = 192  # samples: 4 ms at 48 kHz
CLEANED = 2  # how cleaning works: another number makes every cleaned sound anew
HALF = 0.5  # a cover's own sound under talk: half amplitude to start with (common practice)

Read = Callable[[Item, str], Any]  # a setting of an item, all scopes met
Mix = tuple[float, float, float, float]  # left of left, left of right, right of left, right of right
AS_IT_IS: Mix = (1.0, 0.0, 0.0, 1.0)
PICKED: dict[str, Mix] = {
    "as recorded": AS_IT_IS,
    "left": (1.0, 0.0, 1.0, 0.0),
    "right": (0.0, 1.0, 0.0, 1.0),
    "both as one": (0.5, 0.5, 0.5, 0.5),
}
GainLine = tuple[tuple[int, float], ...]  # samples since the sound's beginning, dB; straight in dB between them


@dataclass(frozen=True, slots=True)
class Heard:
    """Sound of story samples [at, end): source samples from `start` on, times `gain` and, if there is one, its gain line.

    It comes in over `rise` samples and goes out over `fall`: straight up to RAMP or if told so (`straight`), in a quarter
    sine (equal power) beyond. `mix` says how left and right come of the recording's left and right; `of` is the piece,
    cover or sound it belongs to; `made` names the sound made of the recording that is heard instead of the raw one, and
    `pace`, where it is retimed, how that is made.
    """

    at: int
    end: int
    source: int
    start: int
    gain: float = 1.0
    rise: int = RAMP
    fall: int = RAMP
    line: GainLine = ()
    straight: bool = False
    mix: Mix = AS_IT_IS
    of: int = 0
    made: str = ""
    pace: Retimed | None = None

    def gains(self, offsets: npt.NDArray[np.floating | np.integer]) -> npt.NDArray[np.float64]:
        """What it is multiplied by at samples since its beginning, ramps left out."""
        if not self.line:
            return np.full(offsets.shape, self.gain)
        return np.asarray(self.gain * 10 ** (along(self.line, offsets) / 20), np.float64)

    def ramps(self, offsets: npt.NDArray[np.float32]) -> npt.NDArray[np.float32]:
        """What its fades multiply it by at samples since its beginning (see `ramped`)."""
        up = np.minimum(offsets / np.float32(self.rise), 1)
        down = np.minimum((self.end - self.at - offsets) / np.float32(self.fall), 1)
        if self.rise > RAMP and not self.straight:
            up = np.sin(up * np.float32(np.pi / 2))
        if self.fall > RAMP and not self.straight:
            down = np.sin(down * np.float32(np.pi / 2))
        return np.asarray(np.minimum(up, down), np.float32)

    def to_json(self) -> list[Any]:
        """[at, end, source, start, gain, rise, fall, of], and what is more than that in an object."""
        more: dict[str, Any] = {}
        if self.line:
            more["line"] = [list(m) for m in self.line]
        if self.straight:
            more["straight"] = True
        if self.mix != AS_IT_IS:
            more["mix"] = list(self.mix)
        if self.made:
            more["made"] = self.made
        row = [self.at, self.end, self.source, self.start, self.gain, self.rise, self.fall, self.of]
        return [*row, more] if more else row

    @staticmethod
    def from_json(row: list[Any]) -> Heard:
        more: dict[str, Any] = row[8] if len(row) > 8 else {}
        line = tuple((int(i), float(db)) for i, db in more.get("line", ()))
        mix: Mix = tuple(more["mix"]) if "mix" in more else AS_IT_IS
        at, end, source, start, gain, rise, fall, of = row[:8]
        return Heard(at, end, source, start, gain, rise, fall, line, bool(more.get("straight")), mix, of, more.get("made", ""))


def along(line: GainLine, at: npt.NDArray[np.floating | np.integer]) -> npt.NDArray[np.float64]:
    """The dB of a line at each of these samples: straight between its moments."""
    moments, levels = zip(*line, strict=True)
    return np.asarray(np.interp(at, moments, levels), np.float64)


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
        if not s or not s.sound or p.take == "picture" or read(p, "mute") or not sounds_on(p):
            continue
        x, y, start, rise, fall = samples[i], samples[i + 1], to(p.start), _ramp(p, "fade_in", to), _ramp(p, "fade_out", to)
        if story.transitions:
            j, k = story.transition(i), story.transition(i + 1)
            x = to(story.starts[i] + j.split - j.cross // 2)
            y = to(story.starts[i + 1] + k.split + k.cross - k.cross // 2)
            start -= samples[i] - x
            rise = to(j.cross) or (to(j.length) if i == 0 and j.length else rise)
            fall = to(k.cross) or (to(k.length) if i == n - 1 and k.length else fall)
        new = _heard(story, p, read, s, (x, y, start), (rise, fall))
        last = out[-1] if out else None
        if last and _runs_on(last, new):
            out[-1] = replace(last, end=y, fall=fall)
        else:
            out.append(new)
    return out


def _ramp(x: Item, name: str, to: Callable[[int], int]) -> int:
    """Samples over which something comes or goes by its own fade; the one at the end gives way where both are too long."""
    own = x.settings
    if not own:
        return RAMP
    n = min(own[name], x.length - (min(own["fade_in"], x.length) if name == "fade_out" else 0))
    return to(max(0, n)) or RAMP


def _heard(
    story: Story, x: Item, read: Read, s: Source, place: tuple[int, int, int], ramps: tuple[int, int], start_gain: float = 1.0
) -> Heard:
    """What is heard of something at a place (at, end, first sample on its clock), with all that is set on it."""
    to, first = story.rate.frame_to_sample, place[2]
    duck = read(x, "duck") if not isinstance(x, Piece) else ()
    pace = _pace(story, x, s, place)
    if pace is None:
        gain, line = _level(read(x, "level"), duck, lambda m: to(m) - first)
        made = made_of(s)
    else:
        begin = to(x.start) - first if isinstance(x, Piece) else 0  # a split edit may begin before the picture
        frame = SAMPLE_RATE / story.rate.fps
        gain, line = _level(read(x, "level"), duck, lambda m: round(frames_to(x, m) * frame) + begin)
        made = pace.name
        place = (place[0], place[1], first - to(pace.first))
    mix, balance = PICKED[read(x, "channels")], read(x, "balance")
    if balance:
        left, right = min(1.0, 1 - balance / 100), min(1.0, 1 + balance / 100)
        mix = (mix[0] * left, mix[1] * left, mix[2] * right, mix[3] * right)
    straight = read(x, "fade") == "straight"
    return Heard(place[0], place[1], s.id, place[2], start_gain * gain, *ramps, line, straight, mix, x.id, made, pace)


def sounds_on(x: Piece | Cover) -> bool:
    """Whether what is retimed is still heard: a frame that is held has no sound."""
    return x.as_shot or (x.clock.held is None and heard_as(x) != HEARD[-1])


def _pace(story: Story, x: Item, s: Source, place: tuple[int, int, int]) -> Retimed | None:
    """How the sound of something retimed is made, a little more of it than is heard; None for what runs as it was shot."""
    if isinstance(x, Sound) or x.as_shot:
        return None
    start: int | Fraction = 0
    ends = tuple(map(story.rate.sample_to_frame, (place[2], place[2] + place[1] - place[0])))
    if isinstance(x, Cover):  # it begins between two frames of its clock
        start, ends = x.first, (0, x.length - 1)
    return retimed(x.clock, start, (ends[0], ends[1] + 1), story.rate, made_of(s), heard_as(x) == HEARD[1])


def made_of(s: Source) -> str:
    """The name of the sound made of a recording by what is set on it to clean it; empty where nothing is."""
    rows = [(n, v) for n, v in s.settings.rows if n in CLEANING]
    if not rows or not s.sound:
        return ""
    return "clean-" + hashlib.sha256(json.dumps([CLEANED, rows]).encode()).hexdigest()[:12]


def _runs_on(a: Heard, b: Heard) -> bool:
    same = (a.end, a.source, a.made, a.gain, a.mix) == (
        b.at,
        b.source,
        b.made,
        b.gain,
        b.mix,
    ) and a.start + b.at - a.at == b.start
    return same and a.fall == b.rise == RAMP and not a.line and not b.line


def laid_sound(story: Story, sources: Sources) -> list[Heard]:
    """Sounds, and the natural sound of covers that have it on; cut off where the story ends."""
    to, read = story.rate.frame_to_sample, story.reading(sources)
    out = []
    for x in story.sounds:
        at = story.at(x)
        end = min(at + x.length, story.length)
        if end > at and x.source in sources and audible(story, x.kind) and not read(x, "mute"):
            fall = RAMP if at + x.length > end else _ramp(x, "fade_out", to)
            place = (to(at), to(end), to(x.start) + int(x.settings["slip"]))
            out.append(_heard(story, x, read, sources[x.source], place, (_ramp(x, "fade_in", to), fall)))
    if audible(story, "natural"):
        for a, b, c in story.spans:
            if f"cover {c.lane}" in story.muted or read(c, "mute"):
                continue
            if read(c, "natural") and with_its_sound(story, c, sources):
                place = (to(a), to(min(b, story.length)), to(c.start) if c.as_shot else 0)
                quiet = 1.0 if "level" in c.settings else HALF  # until its own level is set
                ramps = (_ramp(c, "fade_in", to), _ramp(c, "fade_out", to))
                out.append(_heard(story, c, read, sources[c.source], place, ramps, quiet))
    return out


def with_its_sound(story: Story, c: Cover, sources: Sources) -> bool:
    """Whether a cover is heard as well: its natural sound is on, it has one, and is not silent for being retimed."""
    s = sources.get(c.source)
    return bool(s and s.sound and story.value(c, "natural", sources) and sounds_on(c))


def _level(level: float | Line, duck: Line, when: Callable[[int], int]) -> tuple[float, GainLine]:
    """What level and ducking multiply its samples by: one gain, or a line. `when` says how many samples after it begins a
    moment of the recording is heard."""
    if not isinstance(level, tuple) and not duck:
        return (10 ** (float(level) / 20) if level else 1.0), ()
    both = added([level, duck] if duck else [level])
    assert isinstance(both, tuple)
    return 1.0, tuple(sorted((when(m), db) for m, db in both))


def alone(story: Story, ids: Collection[int]) -> Story:
    """The story with everything mute but these: what is chosen, heard alone."""

    def mute(rows: tuple[T, ...]) -> tuple[T, ...]:
        return tuple(x if x.id in ids else with_setting(x, "mute", True) for x in rows)

    return replace(story, pieces=mute(story.pieces), covers=mute(story.covers), sounds=mute(story.sounds))


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
    gain = h.gains(np.arange(offset, offset + len(block))) if h.line else np.float32(h.gain)
    env = (h.ramps(np.arange(offset, offset + len(block), dtype=np.float32)) * gain).astype(np.float32)
    return np.asarray(block * (env if block.ndim == 1 else env[:, None]), dtype=np.float32)
