"""What a story can be made into: kinds of file, their size, and what of the story goes into them.

kind      holds                          for
mp4       H.264 and AAC                  the web, anywhere
webm      VP9 and Opus                   the web, open
av1       AV1 and Opus in WebM           the web, open, smaller, slower to make
prores    ProRes 422 and PCM in MOV      going on elsewhere, archive
dnxhr     DNxHR and PCM in MOV           the same
draft     small MP4, times burnt in      a review
wav flac m4a    the sound alone          stems    a WAV a lane       still    one picture
"""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from fractions import Fraction
from math import floor
from typing import Any

from kovel.core.plan.plan import Plan, size_of
from kovel.core.story.model import Refused, Story
from kovel.core.story.settings import NONE, SHAPES
from kovel.core.time.rate import SAMPLE_RATE, Rate

QUALITIES = ("high", "small")
LOWEST, HIGHEST = 120, 4320  # lines
START = 1.5  # seconds before anything is made
MOST = 60  # frames a second of an output's own


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of output. `bits`: of the picture a second, at 1920 x 1080 and 25 frames, high and small; `tight`: its rate is
    held, whatever the rate of frames; `speed`: frames of 1080 lines a second (measured on two slow cores, with looks and titles).

    The bits of ProRes and DNxHR are what libav's encoders made of the demo, within a tenth; the others are asked for."""

    name: str
    label: str
    ending: str
    bits: tuple[int, int] = (0, 0)
    sound: int = 0  # bits a second of its sound
    tight: bool = False
    speed: float = 10.0

    @property
    def seen(self) -> bool:
        """Whether it is a film."""
        return bool(self.bits[0])


PCM = SAMPLE_RATE * 2 * 24
KINDS = {
    k.name: k
    for k in (
        Kind("mp4", "MP4: H.264 and AAC", ".mp4", (8_000_000, 2_500_000), 192_000, speed=10),
        Kind("webm", "WebM: VP9 and Opus", ".webm", (5_000_000, 1_600_000), 160_000, speed=8),
        Kind("av1", "WebM: AV1 and Opus", ".webm", (3_600_000, 1_200_000), 160_000, speed=9),
        Kind("prores", "MOV: ProRes 422 and PCM", ".mov", (122_000_000, 85_000_000), PCM, True, 4),
        Kind("dnxhr", "MOV: DNxHR and PCM", ".mov", (185_000_000, 121_000_000), PCM, True, 11),
        Kind("draft", "Draft for a review, times and names burnt in", ".mp4", (1_500_000, 800_000), 128_000, speed=8),
        Kind("wav", "Sound alone: WAV, 24 bit", ".wav", sound=PCM),
        Kind("flac", "Sound alone: FLAC", ".flac", sound=PCM * 2 // 5),
        Kind("m4a", "Sound alone: AAC in M4A", ".m4a", sound=256_000),
        Kind("stems", "Stems: a WAV for each lane", "", sound=PCM),
        Kind("still", "Still: PNG of one frame", ".png"),
    )
}


@dataclass(frozen=True, slots=True)
class Output:
    """What is asked for. `height` 0, `rate` none and `shape` "as the story" are the story's own; `start` to `end` in its
    frames, `end` none: to its end; `captions`: burnt in."""

    kind: str = "mp4"
    quality: str = "high"
    shape: str = "as the story"
    height: int = 0
    rate: Rate | None = None
    start: int = 0
    end: int | None = None
    captions: bool = False

    def to_json(self) -> dict[str, Any]:
        """What differs from the plain whole."""
        rows = {f.name: getattr(self, f.name) for f in fields(self) if getattr(self, f.name) != f.default}
        return rows | ({"rate": [self.rate.num, self.rate.den]} if self.rate else {})

    @staticmethod
    def from_json(d: dict[str, Any]) -> Output:
        return Output(**{**d, "rate": Rate(*d["rate"]) if d.get("rate") else None})


def checked(o: Output, story: Story) -> Output:
    """The output with its end said; `Refused` for what cannot be made."""
    if not story.pieces:
        raise Refused("The story is empty: there is nothing to render yet.")
    if o.kind not in KINDS:
        raise Refused(f"A render is one of these kinds: {', '.join(KINDS)}.")
    if o.quality not in QUALITIES:
        raise Refused("Quality is high or small.")
    if o.shape not in ("as the story", *(s for s in SHAPES if SHAPES[s])):
        raise Refused(f"A shape is one of: {', '.join(s for s in SHAPES if SHAPES[s])}.")
    if o.height and not LOWEST <= o.height <= HIGHEST:
        raise Refused(f"A picture is made {LOWEST} to {HIGHEST} lines high.")
    if o.rate and not 1 <= o.rate.fps <= MOST:
        raise Refused(f"A film is made at 1 to {MOST} frames a second.")
    end = story.length if o.end is None else min(o.end, story.length)
    if not 0 <= o.start < story.length:
        raise Refused("It would begin behind the end of the story." if o.start > 0 else "It would begin before the story does.")
    if end <= o.start:
        raise Refused("It would end before it begins. Set its end after its beginning.")
    return replace(o, end=end)


def shaped(story: Story, shape: str) -> Story:
    """The story in another shape of the picture."""
    if shape == "as the story":
        return story
    wide = dict(story.settings)
    wide["story"] = wide.get("story", NONE).with_value("shape", shape)
    return replace(story, settings=tuple(sorted(wide.items())))


def size_made(o: Output, story: Story, width: int, height: int) -> tuple[int, int]:
    """Width and height of the picture that is made, in a project of that size: even, of the story's shape."""
    w, h = size_of(shaped(story, o.shape), width, height)
    lines = o.height or (min(h, max(360, h // 2)) if o.kind == "draft" else h)
    return (w, h) if lines == h else (max(2, round(w * lines / h / 2) * 2), max(2, round(lines / 2) * 2))


def bit_rate(o: Output, size: tuple[int, int], rate: Rate) -> int:
    """Picture bits a second: in proportion to pixels, and to the root of the rate (in proportion, where it is held)."""
    k, pixels = KINDS[o.kind], size[0] * size[1] / (1920 * 1080)
    fps = float(rate.fps) / 25
    return int(k.bits[QUALITIES.index(o.quality)] * pixels * (fps if k.tight else fps**0.5))


def expected(o: Output, size: tuple[int, int], clock: Rate, length: int, lanes: int = 1) -> tuple[int, float]:
    """(bytes, seconds to make) of an output of `length` story frames: bit rate times length (common practice)."""
    k, lasts = KINDS[o.kind], length / clock.fps
    if o.kind == "still":
        return size[0] * size[1] // 2, START
    rate = o.rate or clock
    sound = k.sound * (lanes if o.kind == "stems" else 1)
    total = int((bit_rate(o, size, rate) + sound) * lasts / 8)
    if not k.seen:
        return total, START + float(lasts) / 60
    return total, START + float(lasts * rate.fps) * size[0] * size[1] / (1920 * 1080) / k.speed


def between(plan: Plan, a: int, b: int) -> Plan:
    """Frames [a, b) of a plan as one of their own. What is heard across its edges begins before 0 or ends behind it.

    plan    [ A ...... ][ B ...... ]        between(5, 15):  [ A .][ B .]
    """
    if (a, b) == (0, plan.length):
        return plan
    first, last = plan.rate.frame_to_sample(a), plan.rate.frame_to_sample(b)
    runs = [r.part(max(a, r.at), min(b, r.end)) for r in plan.pictures if r.at < b and r.end > a]
    sounds = tuple(replace(h, at=h.at - first, end=h.end - first) for h in plan.sounds if h.at < last and h.end > first)
    return replace(
        plan,
        length=b - a,
        pictures=tuple(replace(r, at=r.at - a, end=r.end - a) for r in runs),
        sounds=sounds,
        dips=tuple((s - first, db) for s, db in plan.dips),
    )


def frames_made(length: int, clock: Rate, rate: Rate | None) -> int:
    """Frames of an output of `length` story frames: at another rate as many as fill the same time."""
    return length if rate is None or rate == clock else max(1, floor(length * rate.fps / clock.fps + Fraction(1, 2)))


def story_frame(k: int, length: int, clock: Rate, rate: Rate | None) -> int:
    """The story frame that frame k of an output shows: the one that stands at its time."""
    return k if rate is None or rate == clock else min(length - 1, floor(k * clock.fps / rate.fps))
