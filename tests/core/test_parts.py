"""Small parts by property: splices, the plan's numbers for the player, peaks, seams under many covers."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kovel.core.plan.plan import make_plan, window_plan
from kovel.core.sound.peaks import BASE, LEVELS, PeakMaker
from kovel.core.story.model import Source, Story
from kovel.core.story.patch import Splice
from kovel.core.story.seams import SPARE, exposed, seams
from kovel.core.time.rate import RATES, Rate
from tests.core.stories import SOURCES, do, three

tuples = st.lists(st.integers(0, 3), max_size=12).map(tuple)


@given(tuples, tuples)
def test_a_splice_leads_there_and_back(a: tuple[int, ...], b: tuple[int, ...]) -> None:
    s = Splice.between(a, b)
    assert s.apply(a) == b and s.inverse().apply(b) == a
    assert not s.old or not s.new or (s.old[0] != s.new[0] and s.old[-1] != s.new[-1])  # nothing common is kept in it
    if s.old:
        try:
            s.apply(tuple(9 for _ in a))
        except ValueError:
            return
        raise AssertionError("a change was applied to a story it does not fit")


@given(st.sampled_from(RATES), st.sampled_from(RATES), st.integers(0, 90), st.integers(1, 60), st.integers(0, 200))
def test_player_numbers_are_the_plans(clock: Rate, own: Rate, start: int, n: int, t: int) -> None:
    """The player reads floor((base + k x num) / den) from the JSON: the same frame as the core's, and exact in a double."""
    src = Source(1, "x", own, 100_000)
    sources = {1: src}
    story = do(Story(Rate(25)), "add_at_end", source=1, start=0, length=1)
    story = Story(clock, (type(story.pieces[0])(1, 1, start + t * 1000, n),))
    plan = make_plan(story, sources)
    ((at, end, [[source, base, num, den]]),) = plan.to_json(sources)["pictures"]
    assert (at, end, source) == (0, n, 1)
    for k in (0, n - 1):
        assert int((base + (k - at) * num) / den) == plan.recording_frame(k, sources)[1]  # type: ignore[index]
        assert base + k * num < 2**53
    assert plan.samples == clock.frame_to_sample(n)


def test_a_recording_plays_as_a_plan_and_a_still_for_five_seconds() -> None:
    assert window_plan(Rate(25), SOURCES[4]).length == 400 and window_plan(Rate(25), SOURCES[5]).length == 125
    voice = window_plan(Rate(25), SOURCES[6])
    assert voice.pictures[0].source is None and voice.sounds[0].end == 900 * 1920


@settings(max_examples=40)
@given(st.lists(st.integers(1, 3000), min_size=1, max_size=8), st.integers(0, 2**31), st.sampled_from([1, 2]))
def test_peaks_hold_every_swing(blocks: list[int], seed: int, channels: int) -> None:
    """However it arrives: each pair encloses its samples, no wider than one step of 8 bits; coarser levels enclose finer."""
    x = np.random.default_rng(seed).integers(-32768, 32767, (sum(blocks), channels)).astype(np.int16)
    maker, at = PeakMaker(), 0
    for n in blocks:
        maker.feed(x[at : at + n] if channels == 2 else x[at : at + n, 0])
        at += n
    levels = maker.finish()
    pairs = (len(x) + BASE - 1) // BASE
    assert [len(v) for v in levels] == [(pairs + k - 1) // k for k in LEVELS]
    wide = x[np.arange(len(x)), np.abs(x.astype(int)).argmax(1)].astype(int)
    for i, (lo, hi) in enumerate(levels[0].astype(int)):
        part = wide[i * BASE : (i + 1) * BASE]
        part = np.append(part, 0) if len(part) < BASE else part
        assert lo * 256 <= part.min() < lo * 256 + 256 and (hi * 256 >= part.max() > hi * 256 - 256 or hi == 127)
    for fine, coarse, k in ((levels[0], levels[1], 8), (levels[0], levels[2], 64)):
        for i, (lo, hi) in enumerate(coarse):
            assert lo == fine[i * k : (i + 1) * k, 0].min() and hi == fine[i * k : (i + 1) * k, 1].max()


@settings(max_examples=60)
@given(st.lists(st.tuples(st.integers(0, 230), st.integers(1, 60), st.integers(1, 3)), max_size=8))
def test_a_join_is_covered_exactly_when_some_cover_reaches_over_it(laid: list[tuple[int, int, int]]) -> None:
    s = three()
    for at, n, lane in laid:
        s = do(s, "lay_cover", source=3, at=at, until=at + n, start=0, lane=lane)
    for x in seams(s, SOURCES):
        hidden = any(a <= x.at - SPARE and b >= x.at + SPARE for a, b, _ in s.spans)
        assert (x.kind == "covered") == hidden, (x.at, s.spans)
    assert {x.at for x in exposed(s, SOURCES)} == {x.at for x in seams(s, SOURCES) if x.kind == "jump"} <= {100}
