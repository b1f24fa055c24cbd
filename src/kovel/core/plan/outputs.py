"""What a story can be made into: kinds of file, their size, and what of the story goes into them.

kind      holds                          for
mp4       H.264 and AAC                  the web, anywhere
webm      VP9 and Opus                   the web, open
av1       AV1 and Opus in WebM           the web, open, smaller, slower to make
prores    ProRes 422 and PCM in MOV      going on elsewhere, archive
dnxhr     DNxHR and PCM in MOV           the same
draft     small MP4, times burnt in      a review
wav flac m4a mp3                         the sound alone
stems     a WAV a lane                   a mix elsewhere
still     one picture
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
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
class Coding:
    """How a kind is coded, by libav's names: container, sound encoder, picture encoder with its pixel format, and the
    picture encoder's options for high and for small."""

    container: str
    sound: str
    picture: str = ""
    pixels: str = "yuv420p"
    high: Mapping[str, str] = field(default_factory=dict)
    small: Mapping[str, str] = field(default_factory=dict)

    def options(self, quality: str) -> dict[str, str]:
        """The picture encoder's options for a quality."""
        return dict(self.small if quality == "small" else self.high)


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of output, with everything that is decided by its kind. `bits`: of the picture a second, at 1920 x 1080
    and 25 frames, high and small; `tight`: its rate is held, whatever the rate of frames; `speed`: frames of 1080 lines
    a second (measured on two slow cores, with looks and titles).

    The bits of ProRes and DNxHR are what libav's encoders made of the demo, within a tenth; the others are asked
    for."""

    name: str
    label: str
    ending: str
    bits: tuple[int, int] = (0, 0)
    sound: int = 0  # bits a second of its sound
    tight: bool = False
    speed: float = 10.0
    coding: Coding | None = None  # none: written by `media/soundfiles.py`, or as a picture

    @property
    def seen(self) -> bool:
        """Whether it is a film."""
        return bool(self.bits[0])


PCM = SAMPLE_RATE * 2 * 24
H264 = Coding("mp4", "aac", "libx264", high={"preset": "veryfast"}, small={"preset": "veryfast"})
QUICK = {"preset": "ultrafast"}
VP9 = {"deadline": "realtime", "cpu-used": "6", "row-mt": "1"}
PRORES = Coding("mov", "pcm_s24le", "prores_ks", "yuv422p10le", high={"profile": "standard"}, small={"profile": "lt"})
DNXHR = Coding("mov", "pcm_s24le", "dnxhd", "yuv422p", high={"profile": "dnxhr_hq"}, small={"profile": "dnxhr_sq"})
OUTPUT_KINDS = {
    kind.name: kind
    for kind in (
        Kind("mp4", "MP4: H.264 and AAC", ".mp4", (8_000_000, 2_500_000), 192_000, speed=10, coding=H264),
        Kind(
            "webm",
            "WebM: VP9 and Opus",
            ".webm",
            (5_000_000, 1_600_000),
            160_000,
            speed=8,
            coding=Coding("webm", "libopus", "libvpx-vp9", high=VP9, small=VP9),
        ),
        Kind(
            "av1",
            "WebM: AV1 and Opus",
            ".webm",
            (3_600_000, 1_200_000),
            160_000,
            speed=9,
            coding=Coding("webm", "libopus", "libsvtav1", high={"preset": "9"}, small={"preset": "10"}),
        ),
        Kind("prores", "MOV: ProRes 422 and PCM", ".mov", (122_000_000, 85_000_000), PCM, True, 4, PRORES),
        Kind("dnxhr", "MOV: DNxHR and PCM", ".mov", (185_000_000, 121_000_000), PCM, True, 11, DNXHR),
        Kind(
            "draft",
            "Draft for a review, times and names burnt in",
            ".mp4",
            (1_500_000, 800_000),
            128_000,
            speed=8,
            coding=replace(H264, high=QUICK, small=QUICK),
        ),
        Kind("wav", "Sound alone: WAV, 24 bit", ".wav", sound=PCM),
        Kind("flac", "Sound alone: FLAC", ".flac", sound=PCM * 2 // 5, coding=Coding("flac", "flac")),
        Kind("m4a", "Sound alone: AAC in M4A", ".m4a", sound=256_000, coding=Coding("ipod", "aac")),
        Kind("mp3", "Sound alone: MP3", ".mp3", sound=192_000, coding=Coding("mp3", "libmp3lame")),
        Kind("stems", "Stems: a WAV for each lane", "", sound=PCM),
        Kind("still", "Still: PNG of one frame", ".png"),
    )
}


@dataclass(frozen=True, slots=True)
class Output:
    """What is asked for. `height` 0, `rate` none and `shape` "as the story" are the story's own; `start` to `end` in
    its frames, `end` none: to its end; `captions`: burnt in."""

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
        given_fields = {
            field.name: getattr(self, field.name)
            for field in fields(self)
            if getattr(self, field.name) != field.default
        }
        return given_fields | ({"rate": [self.rate.num, self.rate.den]} if self.rate else {})

    @staticmethod
    def from_json(stored: dict[str, Any]) -> Output:
        """What `to_json` wrote."""
        return Output(**{**stored, "rate": Rate(*stored["rate"]) if stored.get("rate") else None})


def checked(output: Output, story: Story) -> Output:
    """The output with its end said; `Refused` for what cannot be made."""
    if not story.pieces:
        raise Refused("The story is empty: there is nothing to render yet.")
    if output.kind not in OUTPUT_KINDS:
        raise Refused(f"A render is one of these kinds: {', '.join(OUTPUT_KINDS)}.")
    if output.quality not in QUALITIES:
        raise Refused("Quality is high or small.")
    if output.shape not in ("as the story", *(shape for shape in SHAPES if SHAPES[shape])):
        raise Refused(f"A shape is one of: {', '.join(shape for shape in SHAPES if SHAPES[shape])}.")
    if output.height and not LOWEST <= output.height <= HIGHEST:
        raise Refused(f"A picture is made {LOWEST} to {HIGHEST} lines high.")
    if output.rate and not 1 <= output.rate.fps <= MOST:
        raise Refused(f"A film is made at 1 to {MOST} frames a second.")
    end = story.length if output.end is None else min(output.end, story.length)
    if not 0 <= output.start < story.length:
        raise Refused(
            "It would begin behind the end of the story."
            if output.start > 0
            else "It would begin before the story does."
        )
    if end <= output.start:
        raise Refused("It would end before it begins. Set its end after its beginning.")
    return replace(output, end=end)


def shaped(story: Story, shape: str) -> Story:
    """The story in another shape of the picture."""
    if shape == "as the story":
        return story
    wide = dict(story.settings)
    wide["story"] = wide.get("story", NONE).with_value("shape", shape)
    return replace(story, settings=tuple(sorted(wide.items())))


def size_made(output: Output, story: Story, width: int, height: int) -> tuple[int, int]:
    """Width and height of the picture that is made, in a project of that size: even, of the story's shape."""
    w, h = size_of(shaped(story, output.shape), width, height)
    lines = output.height or (min(h, max(360, h // 2)) if output.kind == "draft" else h)
    return (w, h) if lines == h else (max(2, round(w * lines / h / 2) * 2), max(2, round(lines / 2) * 2))


def coding_of(kind: str) -> Coding:
    """How a kind of output is coded."""
    coding = OUTPUT_KINDS[kind].coding
    assert coding, kind
    return coding


def bit_rate(output: Output, size: tuple[int, int], frame_rate: Rate) -> int:
    """Picture bits a second: in proportion to pixels, and to the root of the rate (in proportion, where it is held)."""
    kind, pixels = OUTPUT_KINDS[output.kind], size[0] * size[1] / (1920 * 1080)
    fps = float(frame_rate.fps) / 25
    return int(kind.bits[QUALITIES.index(output.quality)] * pixels * (fps if kind.tight else fps**0.5))


def expected(output: Output, size: tuple[int, int], clock: Rate, length: int, lanes: int = 1) -> tuple[int, float]:
    """(bytes, seconds to make) of an output of `length` story frames: bit rate times length (common practice)."""
    kind, lasts = OUTPUT_KINDS[output.kind], length / clock.fps
    if output.kind == "still":
        return size[0] * size[1] // 2, START
    frame_rate = output.rate or clock
    sound = kind.sound * (lanes if output.kind == "stems" else 1)
    total = int((bit_rate(output, size, frame_rate) + sound) * lasts / 8)
    if not kind.seen:
        return total, START + float(lasts) / 60
    return total, START + float(lasts * frame_rate.fps) * size[0] * size[1] / (1920 * 1080) / kind.speed


def between(plan: Plan, start: int, end: int) -> Plan:
    """Frames [a, b) of a plan as one of their own. What is heard across its edges begins before 0 or ends behind it.

    plan    [ A ...... ][ B ...... ]        between(5, 15):  [ A .][ B .]
    """
    if (start, end) == (0, plan.length):
        return plan
    first, last = plan.rate.frame_to_sample(start), plan.rate.frame_to_sample(end)
    runs = [
        run.part(max(start, run.at), min(end, run.end)) for run in plan.pictures if run.at < end and run.end > start
    ]
    sounds = tuple(
        replace(heard_sound, at=heard_sound.at - first, end=heard_sound.end - first)
        for heard_sound in plan.sounds
        if heard_sound.at < last and heard_sound.end > first
    )
    return replace(
        plan,
        length=end - start,
        pictures=tuple(replace(run, at=run.at - start, end=run.end - start) for run in runs),
        sounds=sounds,
        dips=tuple((dip_sample - first, db) for dip_sample, db in plan.dips),
    )


def frames_made(length: int, clock: Rate, rate: Rate | None) -> int:
    """Frames of an output of `length` story frames: at another rate as many as fill the same time."""
    return length if rate is None or rate == clock else max(1, floor(length * rate.fps / clock.fps + Fraction(1, 2)))


def story_frame(k: int, length: int, clock: Rate, rate: Rate | None) -> int:
    """The story frame that frame k of an output shows: the one that stands at its time."""
    return k if rate is None or rate == clock else min(length - 1, floor(k * clock.fps / rate.fps))
