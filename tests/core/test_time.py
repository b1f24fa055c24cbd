"""Rates and timecode against published facts and two reference libraries."""

import random
from fractions import Fraction

import opentimelineio as otio
import pytest
from hypothesis import given
from hypothesis import strategies as st
from timecode import Timecode

from kovel.core.time.rate import RATES, Rate, first_frame_showing, frame_shown, length_in
from kovel.core.time.timecode import TimeError, format_timecode, parse_entry, parse_length, stamp, timecode_to_frame

DF30, R25, R24 = Rate(30000, 1001), Rate(25), Rate(24)
rates = st.sampled_from(RATES)


def test_published_drop_frame_facts() -> None:
    """SMPTE ST 12-1: at 29.97 two numbers are dropped each minute but every tenth; 107 892 frames an hour."""
    assert format_timecode(1799, DF30, True) == "00:00:59;29"
    assert format_timecode(1800, DF30, True) == "00:01:00;02"
    assert format_timecode(17981, DF30, True) == "00:09:59;29"
    assert format_timecode(17982, DF30, True) == "00:10:00;00"
    assert format_timecode(107892, DF30, True) == "01:00:00;00"
    assert format_timecode(24 * 107892, DF30, True) == "00:00:00;00"
    assert format_timecode(3600, Rate(60000, 1001), True) == "00:01:00;04"  # four numbers at 59.94
    assert timecode_to_frame(0, 1, 0, 0, DF30, True) == 1800  # a number that does not exist: the next that does


@pytest.mark.parametrize(
    ("rate", "name", "drop"),
    [(r, str(r), False) for r in RATES] + [(DF30, "29.97", True), (Rate(60000, 1001), "59.94", True)],
)
def test_agrees_with_reference_libraries(rate: Rate, name: str, drop: bool) -> None:
    """Thousands of frames against `timecode` and OpenTimelineIO (both from PyPI), there and back."""
    rng = random.Random(name)
    n = rate.nominal
    frames = [rng.randrange(n * 86400 * 99 // 100) for _ in range(1500)] + [
        n * 60 * k + d for k in range(0, 130) for d in (-1, 0, 1, 2, 3, 4) if n * 60 * k + d >= 0
    ]
    fps = float(rate.fps)
    for f in frames:
        ours = format_timecode(f, rate, drop)
        ref = Timecode(name, force_non_drop_frame=not drop, frames=f + 1)
        assert ours.replace(";", ":") == str(ref).replace(";", ":").replace(".", ":")
        if otio.opentime.RationalTime.is_valid_timecode_rate(fps):
            assert ours == otio.opentime.to_timecode(otio.opentime.RationalTime(f, fps), fps, drop_frame=drop)
        h, m, s, ff = (int(x) for x in ours.replace(";", ":").split(":"))
        assert timecode_to_frame(h, m, s, ff, rate, drop) == f


@pytest.mark.parametrize(
    ("typed", "rate", "frame"),
    [
        ("3:15", Rate(30), 105),  # common practice, no source: 3:15 at 30 is 3.5 s
        ("3:30", Rate(30), 120),  # ... and 3:30 is entered for 4:00: frames past the rate carry over
        ("+12", R25, 1012),
        ("-1:00", R25, 975),
        ("1.5s", R25, 38),
        ("1.5s", R24, 36),
        ("00:00:03:15", R25, 90),
        ("0:28+15", R25, 715),
        ("1:00:02+03", R25, 90053),
        ("1m", R25, 1500),
        ("90s", R25, 2250),
        ("1m30s", R25, 2250),
        ("1h", R24, 86400),
        ("12f", R25, 12),
        ("-2s", R25, 950),
        ("+0:01+05", R25, 1030),
        ("1,5s", R25, 38),
        ("90", R25, 90),
        ("1:00:00", R25, 1500),
        (" 2s ", R25, 50),
        ("+0.04s", R25, 1001),
        ("10:00:01:00", R25, 25),
    ],
)
def test_entry_as_editors_type_it(typed: str, rate: Rate, frame: int) -> None:
    assert parse_entry(typed, rate, now=1000, start=36000 * rate.nominal) == frame


@pytest.mark.parametrize("typed", ["", "abc", "1:2:3:4:5", "--3", "1:", "s", "1e3", "٣:٤x", "5 5"])
def test_entry_refuses_in_words(typed: str) -> None:
    with pytest.raises(TimeError, match=r"not a time|more than"):
        parse_entry(typed, R25)


def test_lengths_as_they_are_typed() -> None:
    """The length of a film is minutes and seconds (common practice, no source); a length is one frame or longer."""
    for typed, frames in (
        ("1:00", 1500),
        ("4:30", 6750),
        ("90", 2250),
        ("1:00:00", 90000),
        ("2m", 3000),
        ("0:01+12", 37),
    ):
        assert parse_length(typed, R25, minutes=True) == frames
    assert parse_length("1:00", R25) == 25 and parse_length("1s", DF30) == 30
    for bad in ("0", "-5", "-2s"):
        with pytest.raises(TimeError, match="is no length"):
            parse_length(bad, R25)
    with pytest.raises(TimeError, match="longer than a day"):
        parse_entry("99999999999", R25)


@given(rates, st.integers(0, 10 * 3600 * 24))
def test_what_the_pages_print_can_be_typed(rate: Rate, f: int) -> None:
    assert parse_entry(stamp(f, rate), rate) == f


@given(rates, st.integers(0, 3 * 3600 * 60))
def test_samples_and_frames(rate: Rate, f: int) -> None:
    s = rate.frame_to_sample(f)
    assert abs(Fraction(s) - f * 48000 / rate.fps) <= Fraction(1, 2)
    assert rate.sample_to_frame(s) == f and rate.sample_to_frame(rate.frame_to_sample(f + 1) - 1) == f
    assert rate.seconds_to_frame(rate.frame_to_seconds(f)) == f


@given(rates, rates, st.integers(0, 700_000))
def test_changing_clocks(clock: Rate, rec: Rate, f: int) -> None:
    shown = frame_shown(f, clock, rec)
    assert shown / rec.fps <= f / clock.fps < (shown + 1) / rec.fps  # the frame under that moment
    n = first_frame_showing(shown, clock, rec)
    assert n <= f and frame_shown(n, clock, rec) >= shown and (n == 0 or frame_shown(n - 1, clock, rec) < shown)
    whole = length_in(f, rec, clock)
    assert whole / clock.fps <= f / rec.fps < (whole + 1) / clock.fps


def test_ntsc_agrees_with_otio_rescaling() -> None:
    for f in range(0, 200_000, 37):
        t = otio.opentime.RationalTime(f, 30000 / 1001)
        assert abs(float(DF30.frame_to_seconds(f)) - t.to_seconds()) < 1e-6
