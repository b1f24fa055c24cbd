"""Ramps against what they are defined as: the area under the line of speed, worked out anew here."""

import random
from decimal import Decimal, getcontext
from fractions import Fraction
from itertools import pairwise
from math import floor

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from kovel.core.plan.plan import make_plan
from kovel.core.story.catalogue import run
from kovel.core.story.model import Refused, Story
from kovel.core.story.ramps import Ramp
from tests.core.stories import SOURCES, R, do, three
from tests.core.test_pace import frames

Line = list[tuple[int, float]]


def area(line: Line, soft: bool, time: Fraction) -> Fraction:
    """What of the shot has gone by `time` story frames after the line's first moment: the integral of speed over time,
    segment by segment, as trapezoids (soft) or rectangles."""
    done, t = Fraction(0), time
    for (a, v), (b, w) in pairwise(line):
        v0, v1 = Fraction(round(v * 10), 1000), Fraction(round((w if soft else v) * 10), 1000)
        lasts = (b - a) / ((v0 + v1) / 2)  # its mean speed is that of its middle
        part = min(t, lasts)
        done += part * (v0 + (v0 + (v1 - v0) * part / lasts)) / 2
        t -= part
        if not t:
            return done
    return done + t * Fraction(round(line[-1][1] * 10), 1000)


def any_line(rng: random.Random, most: int = 1000) -> Line:
    moments = sorted(rng.sample(range(0, 200), rng.randint(1, 5)))
    return [(m, rng.randint(100, most * 10) / 10) for m in moments]


def test_ten_thousand_ramps_show_the_frames_of_the_exact_integral() -> None:
    """From the line's first moment on, soft and in steps, inside of it and behind it."""
    rng = random.Random(14)
    for _ in range(10_000):
        line, soft = any_line(rng), rng.random() < 0.6
        ramp, first = Ramp(tuple(line), soft), line[0][0]
        k = rng.randint(0, 400)
        assert ramp.later(first, k) == first + area(line, soft, Fraction(k))
        m = rng.randint(first, first + 400)
        assert abs(first + area(line, soft, ramp.time(m)) - m) < Fraction(1, 2**50)


def test_from_the_middle_of_a_ramp_on() -> None:
    """Where the time of the first frame is a root: the same to sixty digits by the decimal module's own."""
    getcontext().prec = 60
    rng = random.Random(3)
    for _ in range(500):
        a, b, start = 0, rng.randint(20, 200), rng.randint(1, 19)
        v, w = (rng.randint(100, 10_000) for _ in range(2))
        ramp = Ramp(((a, v / 10), (b, w / 10)))
        v0, v1 = Decimal(v) / 1000, Decimal(w) / 1000
        bend = (v1 * v1 - v0 * v0) / (2 * (b - a))
        begun = (((v0 * v0 + 2 * bend * start).sqrt() - v0) / bend) if bend else start / v0
        k = rng.randint(0, 30)
        t, lasts = begun + k, 2 * (b - a) / (v0 + v1)
        want = v0 * t + bend * t * t / 2 if t <= lasts else b + (t - lasts) * v1
        got = ramp.later(start, k)
        assert abs(Decimal(got.numerator) / Decimal(got.denominator) - want) < Decimal(2) ** -50


def ramped(line: Line, start: int = 10, length: int = 40, steps: bool = False, source: int = 3) -> Story:
    s = do(three(), "lay_cover", source=source, at=110, until=110 + length, start=start)
    try:
        return do(s, "set_ramp", item=4, line=[list(m) for m in line], steps=steps, keep="place")
    except Refused:
        assume(False)
        raise


lines = st.lists(
    st.tuples(st.integers(0, 120), st.integers(20, 300)), min_size=2, max_size=4, unique_by=lambda m: m[0]
).map(sorted)


@given(lines, st.integers(0, 40), st.integers(2, 60), st.booleans(), st.sampled_from([3, 4]))
def test_the_plan_shows_it_and_backwards_is_its_reverse(
    line: Line, start: int, length: int, steps: bool, source: int
) -> None:
    """Frame by frame, also of a recording with twice the story's rate: its own frames between the story's are seen."""
    s = ramped(line, start, length, steps, source)
    ramp, ratio = s.covers[0].ramp, SOURCES[source].rate.fps / R.fps
    assert ramp is not None
    want = [floor(floor(ramp.later(start, k) * 2**16) * ratio / 2**16) for k in range(length)]
    assert frames(s) == want
    back = do(s, "set_value", to=4, setting="backwards", value=True)
    assert frames(back) == want[::-1]
    at = make_plan(back, SOURCES)
    assert at.length == s.length


@given(lines, st.integers(1, 30), st.booleans(), st.booleans())
def test_what_is_cut_off_leaves_the_rest_where_it_was(line: Line, cut: int, steps: bool, backwards: bool) -> None:
    """A trimmed cover shows at each story frame what it showed, to the nearest frame of the shot at the speed it has
    there."""
    s = ramped(line, 10, 40, steps)
    s = do(s, "set_value", to=4, setting="backwards", value=True) if backwards else s
    was, ramp = frames(s), s.covers[0].ramp
    assert ramp is not None
    near = 1 + max(v for _, v in line) / min(v for _, v in line)  # a part of a frame given up, at the fastest
    for edge, kept in (("in", was[cut:]), ("out", was[: 40 - cut])):
        got = frames(do(s, "trim_cover", cover=4, edge=edge, delta=cut if edge == "in" else -cut))
        assert len(got) == len(kept) and all(abs(a - b) <= near for a, b in zip(got, kept, strict=True))
        first = kept[-1] if backwards else kept[0]
        assert (got[-1] if backwards else got[0]) == first


@given(lines, st.integers(2, 39), st.integers(2, 39), st.booleans())
def test_a_moment_of_a_ramp_lands_on_its_frame(line: Line, at: int, to: int, steps: bool) -> None:
    """Off by 0 frames; the course of the ramp stays, all of it so much faster or slower."""
    s = ramped(line, 10, 40, steps)
    wanted = frames(s)[at]
    assume(wanted > 10)
    try:
        s, _ = run(s, SOURCES, "land_on", {"item": 4, "at": 110 + at, "until": 110 + to})
    except Refused:
        assume(False)
    assert frames(s)[to] == wanted


def test_four_hundred_percent_at_the_end_of_a_ramp() -> None:
    """From 100 to 400 % over 50 frames of the shot lasts 20 frames; from there on a quarter (common practice)."""
    s = do(three(), "lay_cover", source=3, at=110, until=200, start=10)
    s = do(s, "set_ramp", item=4, line=[[10, 100], [60, 400]])
    assert s.covers[0].length == 20 + 40 / 4
    assert frames(s)[20:] == [60 + 4 * k for k in range(10)]
    with pytest.raises(Refused, match="runs out of the shot: 1912 frames more"):
        do(
            do(three(), "lay_cover", source=3, at=0, until=240, start=60),
            "set_ramp",
            item=4,
            line=[[60, 900]],
            keep="place",
        )
