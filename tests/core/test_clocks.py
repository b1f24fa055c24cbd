"""Retimed pieces: frames by the exact course, in exact reverse backwards, words and levels on their moments, landing
exactly."""

from fractions import Fraction
from math import floor

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from kovel.core.plan.layers import own_frame
from kovel.core.plan.plan import make_plan
from kovel.core.plan.retimed import RETIMED, Retimed
from kovel.core.story.catalogue import run
from kovel.core.story.clocks import AS_SHOT, Clock, clock_of
from kovel.core.story.lined_page import lined
from kovel.core.story.model import Refused, Story, frames_to, moment_of
from kovel.core.story.ramps import ramp_of
from kovel.core.story.seams import seams
from kovel.core.words.transcript import Word
from tests.core.stories import EMPTY, SOURCES, R, do, three

percents = st.floats(10, 1000).map(lambda v: round(v, 3))
lines = st.lists(st.tuples(st.integers(0, 400), percents), min_size=1, max_size=5, unique_by=lambda m: m[0]).map(
    lambda rows: tuple(sorted(rows))
)
clocks = st.builds(clock_of, lines, st.booleans(), st.booleans(), st.just(-1))


def alone(start: int, length: int) -> Story:
    return do(EMPTY, "add_at_end", source=1, start=start, length=length)


def frames(s: Story, i: int) -> list[int]:
    """The recording's own frames that piece i shows."""
    plan, p, out = make_plan(s, SOURCES), s.pieces[i], []
    for t in range(s.starts[i], s.starts[i + 1]):
        r = plan.picture_at(t)
        assert r.source == p.source
        out.append(own_frame(r.image, t - r.at, R, SOURCES[p.source or 0].rate))
    return out


@given(clocks, st.integers(-500, 500))
def test_a_clock_reads_back_what_it_shows(clock: Clock, x: int) -> None:
    """`at` undoes `moment` and `when` undoes `passing`, to the rounding of a root (2^-50 of a frame)."""
    assert abs(clock.at(clock.moment(x)) - x) < Fraction(1, 2**40)
    assert abs(clock.when(clock.passing(x)) - x) < Fraction(1, 2**40)
    step = Fraction(clock.moment(x + 1)) - clock.moment(x)
    assert step < 0 if clock.backwards else step > 0
    assert clock.moment(x) == clock.passing(x + 1) if clock.backwards else clock.moment(x) == clock.passing(x)


@given(clocks, st.integers(1, 600))
def test_a_clock_reaches_exactly_as_far_as_its_recording(clock: Clock, total: int) -> None:
    lo, hi = clock.reach(total)
    inside = lambda x: 0 <= floor(clock.moment(x)) < total  # noqa: E731
    assert not inside(lo - 1) and not inside(hi)
    assert hi <= lo or (inside(lo) and inside(hi - 1))
    assert AS_SHOT.reach(total) == (0, total) and clock_of((), False, False, -1).as_shot


@given(lines, st.booleans(), st.integers(0, 300), st.integers(2, 60))
def test_a_ramped_piece_shows_the_exact_integral(
    line: tuple[tuple[int, float], ...], steps: bool, start: int, length: int
) -> None:
    """Frame k is the moment at which k frames of the story have gone by: the integral of one over the speed (its
    definition)."""
    s = alone(start, length)
    try:
        s, _ = run(
            s, SOURCES, "set_ramp", {"item": 1, "line": [list(m) for m in line], "steps": steps, "keep": "place"}
        )
    except Refused:
        assume(False)
    p, ramp = s.pieces[0], ramp_of(line, not steps)
    assume(p.settings)
    first = p.clock.moment(p.start)
    for k, seen in enumerate(frames(s, 0)):
        gone = ramp.time(p.clock.moment(p.start + k)) - ramp.time(first) if len(line) > 1 else Fraction(k)
        assert abs(gone - k) < Fraction(1, 2**40)
        assert seen == floor(Fraction(floor(p.clock.moment(p.start + k) * 2**16), 2**16))


@given(percents, st.integers(0, 200), st.integers(20, 200))
def test_a_piece_backwards_is_the_exact_reverse(percent: float, start: int, length: int) -> None:
    s = alone(start, length)
    if percent != 100:
        s = do(s, "set_speed", item=1, percent=percent)
    back = do(s, "run_backwards", items=1, backwards=True)
    assert frames(back, 0) == frames(s, 0)[::-1]
    assert back.pieces[0].length == s.pieces[0].length
    assume(back.pieces[0].length > 3)
    again = do(back, "run_backwards", items=1, backwards=False)
    assert again.pieces == s.pieces and frames(do(back, "trim", piece=1, edge="in", delta=3), 0) == frames(back, 0)[3:]


@given(st.integers(0, 100), st.integers(40, 400), percents)
def test_the_length_follows_the_speed(start: int, length: int, percent: float) -> None:
    """400 % makes a quarter of the length (common practice, no source); and back to the same piece."""
    s = alone(start, length)
    assume(percent != 100)
    fast = do(s, "set_speed", item=1, percent=percent)
    assert abs(fast.pieces[0].length - max(1, length * 100 / percent)) <= 0.51
    if percent <= 100:  # nothing of it is lost by rounding then
        assert do(fast, "set_speed", item=1, percent=100).pieces[0] == s.pieces[0]
    filled = do(s, "fill_length", item=1, length=max(2, length // 3))
    assert filled.pieces[0].length == max(2, length // 3) and frames(filled, 0)[0] == start
    assert frames(filled, 0)[-1] < start + length


def test_no_speed_comes_out_that_could_not_be_read_again() -> None:
    """Less than a frame of the shot cannot fill ten: it would run at 3.2 %, and the story could not be opened."""
    slow = do(do(alone(100, 40), "set_speed", item=1, percent=31.8), "trim", piece=1, edge="out", delta=-125)
    assert slow.pieces[0].length == 1
    with pytest.raises(Refused, match="less than 10 or more than 1000 %"):
        run(slow, SOURCES, "fill_length", {"item": 1, "length": 10})


@settings(max_examples=20)
@given(st.integers(1, 99), st.integers(1, 99), lines, st.booleans())
def test_a_moment_lands_on_its_frame(at: int, to: int, line: tuple[tuple[int, float], ...], ramped: bool) -> None:
    """Off by 0 frames, also along a ramp."""
    s = alone(300, 100)
    try:
        if ramped:
            rows = [[m + 250, v] for m, v in line]
            s, _ = run(s, SOURCES, "set_ramp", {"item": 1, "line": rows, "keep": "place"})
        wanted = frames(s, 0)[at]
        s, _ = run(s, SOURCES, "land_on", {"item": 1, "at": at, "until": to})
    except Refused:
        assume(False)
    assert frames(s, 0)[to] == wanted and s.pieces[0].length == 100


@given(st.integers(0, 99), st.integers(1, 60), st.sampled_from([25, 100, 250]))
def test_a_frame_is_held_between_what_was_before_and_after(at: int, length: int, percent: int) -> None:
    s = do(three(), "set_speed", item=1, percent=percent) if percent != 100 else three()
    was = frames(s, 0)
    at = min(at, len(was) - 1)
    s = do(s, "hold_frame", item=1, at=at, length=length)
    n = 3 if at else 2
    assert [x for i in range(n) for x in frames(s, i)] == was[:at] + [was[at]] * length + was[at:]
    assert not any(
        h.at < R.frame_to_sample(at + length) and h.end > R.frame_to_sample(at) for h in make_plan(s, SOURCES).sounds
    )


@pytest.mark.parametrize("percent", [50, 80, 125, 200])
def test_words_and_covers_stay_on_their_moments(percent: int) -> None:
    """The same words in the same order, so much sooner or later; a cover stays on its word."""
    said = [
        Word(f"w{k}", 192_000 + k * 19_200, 192_000 + k * 19_200 + 9_600) for k in range(10)
    ]  # every 10 frames from 100 on
    words = lambda source, a, n: [w for w in said if source == 1 and a * 1920 <= w.start < (a + n) * 1920]  # noqa: E731
    s = do(three(), "lay_cover", source=3, at=52, until=70)
    fast = do(s, "set_speed", item=1, percent=percent)
    rows = [
        (w.text, b.story_frame(f))
        for b in lined(fast, SOURCES, words, 10, 200).blocks[:1]
        for x in b.lines
        for f, w in x.words
    ]
    assert [t for t, _ in rows] == [w.text for w in said]
    assert all(abs(f - k * 1000 / percent) < 1.01 for k, (_, f) in enumerate(rows))
    assert abs(fast.at(fast.covers[0]) - 52 * 100 / percent) <= 0.51 and fast.covers[0].length == 18
    muted = do(fast, "set_value", to=1, setting="heard", value="not heard")
    assert not [w for b in lined(muted, SOURCES, words, 10, 200).blocks[:1] for x in b.lines for w in x.words]
    assert not any(h.of == 1 for h in make_plan(muted, SOURCES).sounds)


def test_a_level_line_and_a_push_stay_on_their_moments() -> None:
    s = do(three(), "set_value", to=1, setting="level", value=[[110, 0.0], [150, -12.0]])
    s = do(do(s, "push", items=[1], first=100, last=120), "set_speed", item=1, percent=200)
    plan = make_plan(s, SOURCES)
    heard = next(h for h in plan.sounds if h.of == 1)
    assert [(round(i / 1920), db) for i, db in heard.line] == [(5, 0.0), (25, -12.0)]
    assert heard.gains(np.array([15 * 1920]))[0] == pytest.approx(10 ** (-6 / 20))
    assert [m[:2] for m in plan.pictures[0].layers[0].part.moves] == [(0.0, 100.0), (49.5, 120.0)]
    assert (moment_of(s.pieces[0], 10), frames_to(s.pieces[0], 120)) == (120, 10)


def test_the_sound_of_a_retimed_piece_is_named_by_how_it_is_made() -> None:
    """A trim within its stretch reads the same file; another speed, pitch or cleaned sound another one; written and
    read back."""
    s = do(three(), "set_speed", item=1, percent=50)
    name = lambda t: next(h.made for h in make_plan(t, SOURCES).sounds if h.of == 1)  # noqa: E731
    first = name(s)
    assert first.startswith(RETIMED) and name(do(s, "trim", piece=1, edge="out", delta=-9)) == first
    others = [
        do(s, "set_value", to=1, setting="heard", value="with the speed"),
        do(s, "set_speed", item=1, percent=51),
        do(s, "run_backwards", items=1, backwards=True),
    ]
    assert len({first, *(name(t) for t in others)}) == 4
    pace = next(h.pace for h in make_plan(s, SOURCES).sounds if h.of == 1)
    assert Retimed.from_json(pace.to_json()) == pace and pace.name == first
    course = pace.course()
    assert len(course) == pace.length + 1 == len(pace.frames()) and course[100 - pace.first] == 100 * 1920
    assert np.allclose(np.diff(course), 960)


@pytest.mark.parametrize(
    ("name", "params", "words"),
    [
        ("set_speed", {"item": 1, "percent": 10, "keep": "shot"}, None),
        ("set_speed", {"item": 1, "percent": 0}, "in percent"),
        ("set_speed", {"item": 1, "percent": float("nan")}, "far too large"),
        ("set_ramp", {"item": 1, "line": [[5, 100, 3]]}, "moments of the shot"),
        ("set_speed", {"item": 3, "percent": 1000, "keep": "place"}, None),
        ("hold_frame", {"item": 1, "at": 20, "length": 10**7}, "how long"),
        ("land_on", {"item": 1, "at": 0, "until": 50}, "after its first frame"),
        ("run_backwards", {"items": [1, 1], "backwards": False}, "runs like that"),
    ],
)
def test_what_cannot_be_is_refused_in_words(name: str, params: dict, words: str | None) -> None:
    s = three()
    if words is None:
        after, _ = run(s, SOURCES, name, params)
        p = after.piece(params["item"])
        assert p.used[0] >= 0 and p.used[1] <= (SOURCES[p.source or 0].length(R) or 0)
        return
    with pytest.raises(Refused, match=words):
        run(s, SOURCES, name, params)


def test_a_card_a_space_and_a_still_have_no_speed() -> None:
    s = do(
        do(do(three(), "insert_card", at=0, length=20), "insert_space", at=20, length=20),
        "add_at_end",
        source=5,
        start=0,
        length=30,
    )
    for p, what in ((s.pieces[0], "card"), (s.pieces[1], "card"), (s.pieces[-1], "still")):
        with pytest.raises(Refused, match=f"A {what} has no speed"):
            run(s, SOURCES, "set_speed", {"item": p.id, "percent": 200})


def shares(s: Story, t: int) -> dict[int, Fraction]:
    """What each own frame of recording 1 has of the picture at story frame t, from the bottom up; the rest is black."""
    run_ = make_plan(s, SOURCES).picture_at(t)
    out: dict[int, Fraction] = {}
    for x in run_.layers:
        o = Fraction(min(max(x.opacity.first + (t - run_.at) * x.opacity.step, 0), x.opacity.of), x.opacity.of)
        out = {f: w * (1 - o) for f, w in out.items()}
        f = own_frame(x.image, t - run_.at, R, SOURCES[1].rate)
        out[f] = out.get(f, Fraction(0)) + o
    return out


@pytest.mark.parametrize("percent", [25, 40, 50, 80])
def test_blended_slow_motion_is_straight_between_two_frames(percent: int) -> None:
    """Each frame has what its moment is short of the next one; under a fade both by as much less, exactly."""
    s = do(
        do(alone(100, 40), "set_speed", item=1, percent=percent), "set_value", to=1, setting="between", value="blended"
    )
    p = s.pieces[0]
    for t in range(s.length):
        m = Fraction(p.clock.moment(p.start + t))
        got, f = shares(s, t), m - floor(m)
        assert sum(got.values()) == 1
        assert all(abs(w - {floor(m): 1 - f, floor(m) + 1: f}.get(k, 0)) <= Fraction(1, 128) for k, w in got.items())
    faded = do(s, "set_blend", piece=1, blend="dip", length=10)
    for t in range(10):
        plain, dim = shares(s, t), shares(faded, t)
        assert dim == {k: w * Fraction(t + 1, 11) for k, w in plain.items()}
    story = do(
        do(alone(100, 40), "set_speed", item=1, percent=percent),
        "set_value",
        to="story",
        setting="between",
        value="blended",
    )
    assert make_plan(story, SOURCES).pictures == make_plan(s, SOURCES).pictures


def test_a_held_frame_has_a_length_and_no_speed() -> None:
    s = do(three(), "hold_frame", item=1, at=40, length=25)
    held = s.pieces[1]
    assert held.clock.held == 140 and held.used == (140, 141) and held.clock.words([Word("w", 0, 10)], R) == []
    for name, params in (
        ("set_speed", {"percent": 50}),
        ("fill_length", {"length": 9}),
        ("hold_frame", {"at": 45, "length": 9}),
    ):
        with pytest.raises(Refused, match="holds a frame"):
            run(s, SOURCES, name, {"item": held.id, **params})
    longer = do(do(s, "trim", piece=held.id, edge="out", delta=500), "trim", piece=held.id, edge="in", delta=-200)
    assert longer.pieces[1].length == 725 and set(frames(longer, 1)) == {140}
    assert {x.kind for x in seams(longer, SOURCES)[:2]} == {"through"}  # nothing jumps: it stands, and goes on


def test_a_push_goes_the_way_it_is_seen() -> None:
    """Backwards as well: from the first frame that is shown to the last."""
    s = do(do(three(), "run_backwards", items=1, backwards=True), "push", items=[1], first=100, last=120)
    moves = make_plan(s, SOURCES).pictures[0].layers[0].part.moves
    assert [m[:2] for m in moves] == [(0.0, 100.0), (99.0, 120.0)]
    s = do(do(three(), "lay_cover", source=3, at=20, until=60, start=5), "run_backwards", items=4, backwards=True)
    told = run(s, SOURCES, "push", {"items": [4], "first": 130, "last": 110})
    moves = make_plan(told[0], SOURCES).picture_at(30).layers[0].part.moves
    assert [round(m[1]) for m in moves] == [130, 110] and "pulled out from 130 to 110 %" in told[1].did
