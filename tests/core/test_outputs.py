"""What an output is asked to be, by worked examples: sizes, bytes, frames at other rates, and what is refused."""

from dataclasses import replace

import pytest

from kovel.core.plan.outputs import (
    OUTPUT_KINDS,
    Output,
    between,
    bit_rate,
    checked,
    expected,
    frames_made,
    size_made,
    story_frame,
)
from kovel.core.plan.plan import make_plan
from kovel.core.story.model import Refused, Story
from kovel.core.time.rate import Rate
from tests.core.planned import planned
from tests.core.stories import SOURCES, R, do, three


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        ({"kind": "xvid"}, "one of these kinds: mp4, webm"),
        ({"quality": "best"}, "high or small"),
        ({"shape": "round"}, "A shape is one of"),
        ({"height": 119}, "120 to 4320 lines"),
        ({"height": 4321}, "120 to 4320 lines"),
        ({"rate": Rate(61)}, "1 to 60 frames a second"),
        ({"rate": Rate(1, 2)}, "1 to 60 frames a second"),
        ({"start": 240}, "behind the end"),
        ({"start": -1}, "before the story does"),
        ({"start": 30, "end": 30}, "end before it begins"),
        ({"start": 30, "end": 20}, "end before it begins"),
    ],
)
def test_what_cannot_be_made_is_refused(asked: dict[str, object], says: str) -> None:
    with pytest.raises(Refused, match=says):
        checked(Output(**asked), three())  # type: ignore[arg-type]


def test_what_can_be_made_has_its_end_said() -> None:
    assert checked(Output(), three()).end == 240
    for asked in (
        {"height": 120},
        {"height": 4320},
        {"rate": Rate(60)},
        {"rate": Rate(1)},
        {"start": 239},
        {"end": 900},
        {"start": 30, "end": 31},
    ):
        one = checked(Output(**asked), three())  # type: ignore[arg-type]
        assert one.end == min(asked.get("end", 240), 240)  # type: ignore[type-var]
        assert Output.from_json(one.to_json()) == one
    assert Output().to_json() == {} and Output(rate=Rate(24)).to_json() == {"rate": [24, 1]}
    with pytest.raises(Refused, match="nothing to render"):
        checked(Output(), Story(R))


@pytest.mark.parametrize(
    ("asked", "size"),
    [
        ({}, (1920, 1080)),
        ({"height": 720}, (1280, 720)),
        ({"height": 481}, (856, 480)),  # even, as encoders ask (H.264, 4:2:0)
        ({"kind": "draft"}, (960, 540)),
        ({"kind": "draft", "height": 720}, (1280, 720)),
        ({"shape": "9:16"}, (1080, 1920)),  # the short side is kept
    ],
)
def test_sizes(asked: dict[str, object], size: tuple[int, int]) -> None:
    assert size_made(Output(**asked), three(), 1920, 1080) == size  # type: ignore[arg-type]


def test_small_drafts_are_not_made_smaller_than_they_can_be_read() -> None:
    assert size_made(Output(kind="draft"), three(), 1280, 720) == (640, 360)
    assert size_made(Output(kind="draft"), three(), 640, 360) == (640, 360)
    assert size_made(Output(kind="draft"), three(), 320, 180) == (320, 180)


def test_bytes_are_bit_rate_times_length() -> None:
    """Common practice: 8 Mbit/s and 192 kbit/s for a minute of 1080p25 are 61.4 MB."""
    full = (1920, 1080)
    assert bit_rate(Output(), full, R) == 8_000_000 and bit_rate(Output(quality="small"), full, R) == 2_500_000
    assert bit_rate(Output(), (1280, 720), R) == 8_000_000 * 4 // 9
    assert bit_rate(Output(), full, Rate(50)) == int(8_000_000 * 2**0.5)
    assert bit_rate(Output(kind="prores"), full, Rate(50)) == 2 * 122_000_000  # its rate is held
    size, seconds = expected(Output(), full, R, 1500)
    assert size == (8_000_000 + 192_000) * 60 // 8 and seconds == pytest.approx(1.5 + 1500 / 10)
    assert expected(Output(rate=Rate(50)), full, R, 1500)[1] == pytest.approx(1.5 + 3000 / 10)
    assert expected(Output(), (960, 540), R, 1500)[1] == pytest.approx(1.5 + 1500 / 40)
    wav, quick = expected(Output(kind="wav"), full, R, 1500)
    assert wav == 48_000 * 2 * 3 * 60 and quick == pytest.approx(2.5)
    assert expected(Output(kind="stems"), full, R, 1500, 3)[0] == 3 * wav
    assert expected(Output(), full, R, 1500, 3)[0] == size  # lanes count for stems alone
    assert expected(Output(kind="still"), full, R, 1500) == (1920 * 1080 // 2, 1.5)


def test_every_kind_knows_whether_it_is_a_film() -> None:
    assert {k.name for k in OUTPUT_KINDS.values() if not k.seen} == {"wav", "flac", "m4a", "mp3", "stems", "still"}
    for kind in OUTPUT_KINDS.values():
        assert kind.bits[0] >= kind.bits[1] and (kind.coding is not None or kind.name in ("wav", "stems", "still"))
        if kind.coding:
            assert kind.coding.options("high") == dict(kind.coding.high)
            assert kind.coding.options("small") == dict(kind.coding.small)


@pytest.mark.parametrize(
    ("length", "rate", "frames"),
    [(100, None, 100), (100, R, 100), (100, Rate(50), 200), (100, Rate(24), 96), (101, Rate(24), 97), (1, Rate(1), 1)],
)
def test_frames_at_another_rate_fill_the_same_time(length: int, rate: Rate | None, frames: int) -> None:
    assert frames_made(length, R, rate) == frames
    shown = [story_frame(k, length, R, rate) for k in range(frames)]
    assert shown[0] == 0 and shown == sorted(shown) and shown[-1] <= length - 1
    if rate == Rate(50):
        assert shown == [k // 2 for k in range(frames)]
    if rate is None or rate == R:
        assert shown == list(range(length))
    assert story_frame(10 * frames, length, R, Rate(24)) == length - 1


def test_a_part_of_a_plan_is_a_plan() -> None:
    story = do(three(), "lay_cover", source=3, at=90, until=140, start=20)
    plan = make_plan(story, SOURCES)
    assert between(plan, 0, 240) == plan
    part = between(plan, 95, 165)
    lines = [*planned(part)]
    assert part.length == 70 and lines[0].startswith("0-45 (cover") and lines[0].endswith("boat 25")
    assert [line.split(" ")[0] for line in lines if not line.startswith("heard")] == ["0-45", "45-65", "65-70"]
    for k in (0, 44, 45, 64, 65, 69):
        mine, whole = part.picture_at(k), plan.picture_at(95 + k)
        assert mine.layers[0].image.source == whole.layers[0].image.source
        assert mine.layers[0].image.start + k - mine.at == whole.layers[0].image.start + 95 + k - whole.at
    begins = [s.at for s in plan.sounds]
    assert begins == [0, 192_000, 307_200]
    assert [s.at for s in part.sounds] == [b - 95 * 1920 for b in begins]  # the first begins before the part
    assert len(between(plan, 0, 100).sounds) == 1 == len(between(plan, 100, 160).sounds)
    assert len(between(plan, 99, 161).sounds) == 3 and between(plan, 160, 240).pictures[0].at == 0
    dips = replace(plan, dips=((0, 0.0), (200_000, -3.0)))
    assert between(dips, 95, 165).dips == ((-182_400, 0.0), (17_600, -3.0))
