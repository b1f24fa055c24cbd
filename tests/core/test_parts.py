"""Small parts by property: splices, the plan's numbers for the player, peaks, seams under many covers."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kovel.core.plan.parts import ANCHOR, LEAST, MOST, divided, name_of, stretches
from kovel.core.plan.plan import make_plan, window_plan
from kovel.core.plan.sounds import alone
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
    """The player reads floor((base + k x num) / den) from the JSON: the same frame as the core's, and exact in a
    double."""
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


def test_what_is_chosen_is_heard_alone() -> None:
    s = do(
        do(three(), "lay_sound", source=6, at=20, until=60, start=0),
        "lay_cover",
        source=4,
        at=110,
        until=150,
        start=0,
        natural=True,
    )
    bed, shot = s.sounds[0].id, s.covers[0].id
    heard = lambda *ids: {h.of for h in make_plan(alone(s, ids), SOURCES).sounds}  # noqa: E731
    assert heard(bed) == {bed} and heard(shot, 2) == {shot, 2} and heard() == set()
    assert make_plan(alone(s, [1, 2, 3, bed, shot]), SOURCES).sounds == make_plan(s, SOURCES).sounds


@settings(max_examples=40)
@given(st.lists(st.integers(1, 3000), min_size=1, max_size=8), st.integers(0, 2**31), st.sampled_from([1, 2]))
def test_peaks_hold_every_swing(blocks: list[int], seed: int, channels: int) -> None:
    """However it arrives: each pair encloses its samples, no wider than one step of 8 bits; coarser levels enclose
    finer."""
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
def test_a_seam_is_covered_exactly_when_some_cover_reaches_over_it(laid: list[tuple[int, int, int]]) -> None:
    s = three()
    for at, n, lane in laid:
        s = do(s, "lay_cover", source=3, at=at, until=at + n, start=0, lane=lane)
    for x in seams(s, SOURCES):
        hidden = any(a <= x.at - SPARE and b >= x.at + SPARE for a, b, _ in s.spans)
        assert (x.kind == "covered") == hidden, (x.at, s.spans)
    assert {x.at for x in exposed(s, SOURCES)} == {x.at for x in seams(s, SOURCES) if x.kind == "jump"} <= {100}


@given(st.lists(st.tuples(st.integers(1, 250), st.integers(0, 5)), min_size=1, max_size=40), st.integers(0, 999))
def test_parts_fill_the_film_and_do_not_hang_on_where_they_stand(shown: list[tuple[int, int]], later: int) -> None:
    """Index ranges without gap or overlap; none over MOST that could be shorter, none that ends by itself under
    LEAST; the same runs later in a film make the same parts under the same names."""

    def rows(at: int) -> list[list[object]]:
        out: list[list[object]] = []
        for n, source in shown:
            out.append([at, at := at + n, [[source, 0, 1, 1]]])
        return out

    here = rows(0)
    parts = stretches(here)
    assert [k for a, b in parts for k in range(a, b)] == list(range(len(here)))
    long = [here[b - 1][1] - here[a][0] for a, b in parts]  # type: ignore[operator]
    assert all(n <= MOST or b - a == 1 for n, (a, b) in zip(long, parts, strict=True))
    for n, (a, b) in zip(
        long[:-1], parts[:-1], strict=True
    ):  # one under LEAST ended for the next would not have fitted
        assert n >= LEAST or n + here[b][1] - here[b][0] > MOST, (a, b)  # type: ignore[operator]
    assert stretches(rows(later)) == parts
    assert [name_of(rows(later)[a:b], 1) for a, b in parts] == [name_of(here[a:b], 1) for a, b in parts]
    assert len({name_of(here[:1], way) for way in range(9)}) == 9


@given(
    st.integers(0, 600),
    st.integers(1, 900),
    st.sampled_from([None, 50, 30, 200, 400]),
    st.integers(0, 40),
    st.booleans(),
)
def test_long_runs_are_cut_by_the_recordings_own_clock(
    start: int, length: int, percent: int | None, trimmed: int, backwards: bool
) -> None:
    """Every frame is as it was; a run forwards is cut where the recording's clock passes a multiple of ANCHOR, so
    one that was trimmed at its beginning is cut at the same frames."""
    s = do(Story(Rate(25)), "add_at_end", source=1, start=start, length=length)
    s = s if percent is None else do(s, "set_speed", item=1, percent=percent)
    s = do(s, "trim", piece=1, edge="in", delta=min(trimmed, s.length - 1)) if trimmed and s.length > 1 else s
    s = do(s, "run_backwards", items=1, backwards=True) if backwards else s
    plan = make_plan(s, SOURCES)
    cut = divided(plan)
    assert [x for r in cut.pictures for x in (r.at, r.end)][1:-1:2] == [r.at for r in cut.pictures[1:]]
    frames = lambda p: [p.recording_frame(t, SOURCES) for t in range(p.length)]  # noqa: E731
    assert frames(cut) == frames(plan) and cut.length == plan.length
    for r in cut.pictures[:-1]:
        last, first = (x[1] for t in (r.end - 1, r.end) if (x := plan.recording_frame(t, SOURCES)))
        assert r.end - r.at == ANCHOR if backwards else last // ANCHOR < first // ANCHOR
    for r in cut.pictures:  # and where it passes one there is a cut, if what is left is long
        shown = [x[1] for t in range(r.at, r.end) if (x := plan.recording_frame(t, SOURCES))]
        assert r.end - r.at <= ANCHOR or shown[0] // ANCHOR == shown[-1] // ANCHOR, (r.at, r.end)


def test_a_frame_that_is_held_for_long_is_cut_too() -> None:
    s = do(do(Story(Rate(25)), "add_at_end", source=1, start=0, length=100), "hold_frame", item=1, at=50, length=600)
    cuts = divided(make_plan(s, SOURCES)).pictures
    assert [(r.at, r.end) for r in cuts] == [(0, 50), (50, 300), (300, 550), (550, 650), (650, 700)]
    assert {r.image.start for r in cuts[1:4]} == {50} and cuts[2].image.speed == (0, 1)
