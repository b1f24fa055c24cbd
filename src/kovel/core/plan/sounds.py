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
from kovel.core.story.settings import CLEANING, HeardAs, Line, added
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
    """Sound of story samples [at, end): source samples from `start` on, times `gain` and, if there is one, its gain
    line.

    It comes in over `rise` samples and goes out over `fall`: straight up to RAMP or if told so (`straight`), in a
    quarter sine (equal power) beyond. `mix` says how left and right come of the recording's left and right; `of` is
    the piece, cover or sound it belongs to; `made` names the sound made of the recording that is heard instead of
    the raw one, and `pace`, where it is retimed, how that is made.
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
            more["line"] = [list(line_point) for line_point in self.line]
        if self.straight:
            more["straight"] = True
        if self.mix != AS_IT_IS:
            more["mix"] = list(self.mix)
        if self.made:
            more["made"] = self.made
        heard_row = [self.at, self.end, self.source, self.start, self.gain, self.rise, self.fall, self.of]
        return [*heard_row, more] if more else heard_row

    @staticmethod
    def from_json(row: list[Any]) -> Heard:
        """What `to_json` wrote."""
        more_stored: dict[str, Any] = row[8] if len(row) > 8 else {}
        gain_line = tuple((int(line_sample), float(db)) for line_sample, db in more_stored.get("line", ()))
        mix: Mix = tuple(more_stored["mix"]) if "mix" in more_stored else AS_IT_IS
        at, end, source, start, gain, rise, fall, of = row[:8]
        return Heard(
            at,
            end,
            source,
            start,
            gain,
            rise,
            fall,
            gain_line,
            bool(more_stored.get("straight")),
            mix,
            of,
            more_stored.get("made", ""),
        )


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
    dialogue_heard: list[Heard] = []
    read = story.reading(sources)
    for index, piece in enumerate(story.pieces):
        source = sources.get(piece.source) if piece.source is not None else None
        if not source or not source.sound or piece.take == "picture" or read(piece, "mute") or not sounds_on(piece):
            continue
        span, ramps = _edges_heard(story, index)
        new = _heard(story, piece, read, source, span, ramps)
        last = dialogue_heard[-1] if dialogue_heard else None
        if last and _runs_on(last, new):
            dialogue_heard[-1] = replace(last, end=new.end, fall=new.fall)
        else:
            dialogue_heard.append(new)
    return dialogue_heard


def _edges_heard(story: Story, index: int) -> tuple[tuple[int, int, int], tuple[int, int]]:
    """Of a piece's sound, in samples: ((where it begins in the story, ends, begins in its recording), (rise, fall))."""
    to_sample, piece = story.rate.frame_to_sample, story.pieces[index]
    begin, end, start = to_sample(story.starts[index]), to_sample(story.starts[index + 1]), to_sample(piece.start)
    rise, fall = _ramp(piece, "fade_in", to_sample), _ramp(piece, "fade_out", to_sample)
    if not story.transitions:
        return (begin, end, start), (rise, fall)
    before, after = story.transition(index), story.transition(index + 1)
    heard_from = to_sample(story.starts[index] + before.split - before.cross // 2)
    heard_until = to_sample(story.starts[index + 1] + after.split + after.cross - after.cross // 2)
    fades_up = to_sample(before.length) if index == 0 else 0
    fades_down = to_sample(after.length) if index == len(story.pieces) - 1 else 0
    return (
        (heard_from, heard_until, start - (begin - heard_from)),
        (to_sample(before.cross) or fades_up or rise, to_sample(after.cross) or fades_down or fall),
    )


def _ramp(item: Item, name: str, to: Callable[[int], int]) -> int:
    """Samples over which something comes or goes by its own fade; the one at the end gives way where both are too
    long."""
    own_values = item.settings
    if not own_values:
        return RAMP
    n = min(own_values[name], item.length - (min(own_values["fade_in"], item.length) if name == "fade_out" else 0))
    return to(max(0, n)) or RAMP


def _heard(
    story: Story,
    item: Item,
    read: Read,
    source: Source,
    place: tuple[int, int, int],
    ramps: tuple[int, int],
    start_gain: float = 1.0,
) -> Heard:
    """What is heard of something at a place (at, end, first sample on its clock), with all that is set on it."""
    to_sample, first = story.rate.frame_to_sample, place[2]
    duck = read(item, "duck") if not isinstance(item, Piece) else ()
    pace = _pace(story, item, source, place)
    if pace is None:
        gain, gain_line = _level(read(item, "level"), duck, lambda m: to_sample(m) - first)
        made_sound = made_of(source)
    else:
        begin = (
            to_sample(item.start) - first if isinstance(item, Piece) else 0
        )  # a split edit may begin before the picture
        frame = SAMPLE_RATE / story.rate.fps
        gain, gain_line = _level(read(item, "level"), duck, lambda m: round(frames_to(item, m) * frame) + begin)
        made_sound = pace.name
        place = (place[0], place[1], first - to_sample(pace.first))
    mix, balance = PICKED[read(item, "channels")], read(item, "balance")
    if balance:
        left_gain, right = min(1.0, 1 - balance / 100), min(1.0, 1 + balance / 100)
        mix = (mix[0] * left_gain, mix[1] * left_gain, mix[2] * right, mix[3] * right)
    straight = read(item, "fade") == "straight"
    return Heard(
        place[0],
        place[1],
        source.id,
        place[2],
        start_gain * gain,
        *ramps,
        gain_line,
        straight,
        mix,
        item.id,
        made_sound,
        pace,
    )


def sounds_on(clip: Piece | Cover) -> bool:
    """Whether what is retimed is still heard: a frame that is held has no sound."""
    return clip.as_shot or (clip.clock.held is None and heard_as(clip) != HeardAs.NOT_HEARD)


def _pace(story: Story, item: Item, source: Source, place: tuple[int, int, int]) -> Retimed | None:
    """How the sound of something retimed is made, a little more of it than is heard; None for what runs as it was
    shot."""
    if isinstance(item, Sound) or item.as_shot:
        return None
    start: int | Fraction = 0
    ends = tuple(map(story.rate.sample_to_frame, (place[2], place[2] + place[1] - place[0])))
    if isinstance(item, Cover):  # it begins between two frames of its clock
        start, ends = item.first, (0, item.length - 1)
    return retimed(
        item.clock, start, (ends[0], ends[1] + 1), story.rate, made_of(source), heard_as(item) == HeardAs.PITCH_KEPT
    )


def made_of(source: Source) -> str:
    """The name of the sound made of a recording by what is set on it to clean it; empty where nothing is."""
    cleaning_rows = [(name, value) for name, value in source.settings.rows if name in CLEANING]
    if not cleaning_rows or not source.sound:
        return ""
    return "clean-" + hashlib.sha256(json.dumps([CLEANED, cleaning_rows]).encode()).hexdigest()[:12]


def _runs_on(first_heard: Heard, second_heard: Heard) -> bool:
    same = (first_heard.end, first_heard.source, first_heard.made, first_heard.gain, first_heard.mix) == (
        second_heard.at,
        second_heard.source,
        second_heard.made,
        second_heard.gain,
        second_heard.mix,
    ) and first_heard.start + second_heard.at - first_heard.at == second_heard.start
    return same and first_heard.fall == second_heard.rise == RAMP and not first_heard.line and not second_heard.line


def laid_sound(story: Story, sources: Sources) -> list[Heard]:
    """Sounds, and the natural sound of covers that have it on; cut off where the story ends."""
    to_sample, read = story.rate.frame_to_sample, story.reading(sources)
    sounds_heard = []
    for sound in story.sounds:
        at = story.at(sound)
        end = min(at + sound.length, story.length)
        if end > at and sound.source in sources and audible(story, sound.kind) and not read(sound, "mute"):
            fall = RAMP if at + sound.length > end else _ramp(sound, "fade_out", to_sample)
            place = (to_sample(at), to_sample(end), to_sample(sound.start) + int(sound.settings["slip"]))
            sounds_heard.append(
                _heard(story, sound, read, sources[sound.source], place, (_ramp(sound, "fade_in", to_sample), fall))
            )
    if audible(story, "natural"):
        for start, until, cover in story.spans:
            if f"cover {cover.lane}" in story.muted or read(cover, "mute"):
                continue
            if read(cover, "natural") and with_its_sound(story, cover, sources):
                place = (
                    to_sample(start),
                    to_sample(min(until, story.length)),
                    to_sample(cover.start) if cover.as_shot else 0,
                )
                quiet = 1.0 if "level" in cover.settings else HALF  # until its own level is set
                ramps = (_ramp(cover, "fade_in", to_sample), _ramp(cover, "fade_out", to_sample))
                sounds_heard.append(_heard(story, cover, read, sources[cover.source], place, ramps, quiet))
    return sounds_heard


def with_its_sound(story: Story, cover: Cover, sources: Sources) -> bool:
    """Whether a cover is heard as well: its natural sound is on, it has one, and is not silent for being retimed."""
    source = sources.get(cover.source)
    return bool(source and source.sound and story.value(cover, "natural", sources) and sounds_on(cover))


def _level(level: float | Line, duck: Line, when: Callable[[int], int]) -> tuple[float, GainLine]:
    """What level and ducking multiply its samples by: one gain, or a line. `when` says how many samples after it
    begins a moment of the recording is heard."""
    if not isinstance(level, tuple) and not duck:
        return (10 ** (float(level) / 20) if level else 1.0), ()
    both = added([level, duck] if duck else [level])
    assert isinstance(both, tuple)
    return 1.0, tuple(sorted((when(moment), db) for moment, db in both))


def alone(story: Story, ids: Collection[int]) -> Story:
    """The story with everything mute but these: what is chosen, heard alone."""

    def mute(muted_items: tuple[T, ...]) -> tuple[T, ...]:
        return tuple(
            muted_item if muted_item.id in ids else with_setting(muted_item, "mute", True) for muted_item in muted_items
        )

    return replace(story, pieces=mute(story.pieces), covers=mute(story.covers), sounds=mute(story.sounds))


def heard(story: Story, sources: Sources) -> tuple[Heard, ...]:
    """Everything that is heard, in order of its beginning."""
    talk = dialogue_sound(story, sources) if audible(story, "dialogue") else []
    laid = laid_sound(story, sources)
    return tuple(sorted([*talk, *laid], key=lambda h: (h.at, h.end, h.source)) if laid else talk)


def ramped(block: npt.NDArray[np.float32], offset: int, sound: Heard) -> npt.NDArray[np.float32]:
    """Samples [offset, offset+len) of a sound, with its gain and both ramps applied.

    Shapes: (n,) or (n, channels). Up to RAMP samples a ramp is straight: 0 at the first sample, 1 from sample RAMP
    on. A longer one is a quarter sine, so that two that cross add up to the same power: -3.01 dB each in the middle.
    """
    gain = sound.gains(np.arange(offset, offset + len(block))) if sound.line else np.float32(sound.gain)
    env = (sound.ramps(np.arange(offset, offset + len(block), dtype=np.float32)) * gain).astype(np.float32)
    return np.asarray(block * (env if block.ndim == 1 else env[:, None]), dtype=np.float32)
