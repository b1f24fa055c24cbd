"""How fast covers run: frames by the exact ratio, in exact reverse backwards, held, landing where they were asked
to."""

from fractions import Fraction

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from kovel.core.plan.plan import make_plan
from kovel.core.plan.sounds import with_its_sound
from kovel.core.story.catalogue import run
from kovel.core.story.model import Refused, Story
from tests.core.stories import SOURCES, R, do, three

spans = st.integers(2, 60)


def laid(source: int = 4, start: int = 20, length: int = 40, span: int = 0) -> Story:
    s = do(three(), "lay_cover", source=source, at=100, until=100 + length, start=start)
    return do(s, "retime_cover", cover=4, span=span) if span and span != length else s


def frames(s: Story) -> list[int]:
    """The recording's own frames that its covers show, frame by frame."""
    plan, out = make_plan(s, SOURCES), []
    for a, b, c in sorted(s.spans, key=lambda r: r[0]):
        for t in range(a, min(b, s.length)):
            r = plan.picture_at(t)
            image = r.layers[-1].image
            assert image.source == c.source
            base, num, den = image.steps(SOURCES[c.source].rate.fps / R.fps)
            out.append((base + (t - r.at) * num) // den)
    return out


@given(st.integers(0, 50), st.integers(20, 80), st.integers(10, 120))
def test_a_speed_shows_the_frames_of_the_exact_ratio(start: int, length: int, span: int) -> None:
    """Frame k of a cover shows its shot at start + k * span / length, a recording of twice the rate at twice that."""
    s = laid(4, start, length, span)
    ratio = SOURCES[4].rate.fps / R.fps
    assert frames(s) == [int((start + Fraction(k * span, length)) * ratio) for k in range(length)]


@given(st.integers(0, 50), st.integers(20, 80), st.integers(10, 120))
def test_backwards_is_the_exact_reverse(start: int, length: int, span: int) -> None:
    s = laid(4, start, length, span)
    back = do(s, "set_value", to=4, setting="backwards", value=True)
    assert frames(back) == frames(s)[::-1]
    split = do(
        back, "trim_cover", cover=4, edge="in", delta=7
    )  # as it is trimmed, what is left still runs the same way
    assert len(frames(split)) == length - 7 and frames(split) == sorted(frames(split), reverse=True)


def test_four_hundred_percent_is_a_quarter() -> None:
    """Common practice, no source."""
    s = do(laid(3, 0, 80), "set_speed", item=4, percent=400)
    assert s.covers[0].length == 20 and frames(s) == list(range(0, 80, 4))
    assert frames(do(s, "set_speed", item=4, percent=100)) == list(range(80))
    slow = do(laid(3, 0, 40), "set_speed", item=4, percent=50, keep="place")
    assert slow.covers[0].length == 40 and frames(slow) == [k // 2 for k in range(40)]


@given(st.integers(1, 59), st.integers(1, 59), st.booleans())
def test_a_frame_is_held_and_what_came_before_stays(at: int, length: int, retimed: bool) -> None:
    s = laid(3, 5, 60, 90 if retimed else 0)
    was = frames(s)
    s = do(s, "hold_frame", item=4, at=100 + at, length=length)
    got = frames(s)
    assert len(got) == at + length and got[at:] == [was[at]] * length
    assert all(abs(a - b) <= 1 for a, b in zip(got[:at], was[:at], strict=True)) and (retimed or got[:at] == was[:at])


@given(st.integers(1, 59), st.integers(1, 59))
def test_a_moment_lands_on_its_frame(at: int, to: int) -> None:
    """Off by 0 frames: what was seen at `at` is seen at `to`."""
    s = laid(3, 0, 60)
    assume(at != to)
    wanted = frames(s)[at]
    try:
        s, _ = run(s, SOURCES, "land_on", {"item": 4, "at": 100 + at, "until": 100 + to})
    except Refused:
        assume(False)
    got = frames(s)
    assert got[to] == wanted  # slowed down it may have been there for some frames already


def test_what_becomes_of_its_sound_is_said() -> None:
    """Made at its speed and heard; not where it is told to be silent. Each time the editor is told."""
    s = do(laid(4, 20, 40), "set_value", to=4, setting="natural", value=True)
    assert with_its_sound(s, s.covers[0], SOURCES)
    for name, params in (
        ("set_speed", {"item": 4, "percent": 200}),
        ("set_value", {"to": 4, "setting": "backwards", "value": True}),
        ("set_ramp", {"item": 4, "line": [[20, 100], [50, 300]]}),
        ("fill_length", {"item": 4, "length": 25}),
    ):
        after, report = run(s, SOURCES, name, params)
        assert any("its pitch kept" in n for n in report.notes), name
        (heard,) = [h for h in make_plan(after, SOURCES).sounds if h.of == 4]
        c = after.covers[0]
        assert heard.pace and heard.end - heard.at == c.length * 1920 and heard.gain == 0.5
        course = heard.pace.course()[: c.length] / 1920
        back = bool(c.settings["backwards"])  # time within a frame runs backwards there, from the end of what is shown
        assert all(
            abs(course[k] - float(c.shown(k))) < 1e-6 or (back and abs(course[k] - float(c.shown(k)) - 1) < 1e-6)
            for k in range(c.length)
        )
        mute, told = run(after, SOURCES, "set_value", {"to": 4, "setting": "heard", "value": "not heard"})
        assert not with_its_sound(mute, mute.covers[0], SOURCES) and "its sound is not heard there" in told.notes[-1]
    with pytest.raises(Refused, match="still has no speed"):
        do(do(three(), "lay_cover", source=5, at=100, until=120), "set_speed", item=4, percent=200)
