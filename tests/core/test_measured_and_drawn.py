"""Small computations to the last number: loudness by its equations, beats as an editor puts them right, ducking,
faces, framings, and the rows that stories are kept in."""

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
import pytest

from kovel.core.picture.faces import Face, across_for, down_for, moving, path, track
from kovel.core.plan.layers import Image, Opacity, Part, eased
from kovel.core.sound.beats import Beats, doubled, halved, moved, tapped
from kovel.core.sound.ducking import Ducking, ducked, spans_joined
from kovel.core.sound.hits import Cut, Hit, Quick, at_sensitivity, quick_cut, thinned
from kovel.core.sound.loudness import (
    STEP,
    PowerMaker,
    TruePeaks,
    Weigher,
    decibels,
    integrated,
    loudness_range,
    lufs,
    sliding,
)
from kovel.core.story.patch import Splice, cover_from, cover_row, piece_from, piece_row, sound_from, sound_row
from kovel.core.story.settings import NONE
from tests.core.examples import BEFORE

# --- loudness


def power(*loud: float) -> np.ndarray:
    return np.array([10 ** ((x + 0.691) / 10) for x in loud])


def test_gates_of_integrated_loudness() -> None:
    """BS.1770-5, equations 2 to 7, by hand: blocks of 400 ms under -70 LUFS are left out, and those 10 LU under the
    mean of the others."""
    assert integrated(power(-20, -20, -20)) is None and integrated(power(*[-20] * 4)) == pytest.approx(-20)
    assert integrated(power(*[-71] * 9)) is None and integrated(power(*[-69.9] * 9)) == pytest.approx(-69.9)
    two = power(*[-20] * 40, *[-80] * 40)  # of the blocks over the edge, those with a tenth and more of it count
    over = [k / 4 for k in (4, 3, 2, 1)]
    blocks = [1.0] * 36 + over
    kept = [b for b in blocks if 10 * np.log10(b) > 10 * np.log10(np.mean(blocks)) - 10]
    assert integrated(two) == pytest.approx(-20 + 10 * np.log10(np.mean(kept)), abs=1e-3)
    quiet = power(*[-20] * 400, *[-31] * 40)
    assert integrated(quiet) == pytest.approx(-20, abs=0.03)
    near = power(*[-20] * 400, *[-29] * 400)
    assert integrated(near) == pytest.approx(10 * np.log10((10**-2 + 10**-2.9) / 2), abs=0.03)


def test_windows_that_slide_end_at_their_step() -> None:
    found = sliding(power(-20, -20, -20, -20, -60, -60, -60, -60), 4)
    assert found[:4].tolist() == pytest.approx([-20 + 10 * np.log10(k / 4) for k in (1, 2, 3, 4)])
    assert found[7] == pytest.approx(-60) and len(found) == 8
    assert (
        lufs(0.0) == pytest.approx(-120, abs=0.001)
        and decibels(0.0) == -120
        and decibels(0.5) == pytest.approx(-6.0206)
    )


def test_the_range_is_between_the_tenth_and_the_ninety_fifth_of_a_hundred() -> None:
    """EBU Tech 3342 on levels that change too slowly for the window of 3 s to matter."""
    steps = np.repeat(np.linspace(-30, -10, 21), 300)
    assert loudness_range(power(*steps)) == pytest.approx(17, abs=0.4)
    with_silence = np.concatenate([power(*steps), power(*[-75] * 3000)])
    assert loudness_range(with_silence) == pytest.approx(17, abs=0.6)
    under = np.concatenate([power(*[-10] * 6000), power(*[-33] * 3000)])  # 20 LU under the rest do not count
    assert loudness_range(under) == pytest.approx(0, abs=0.1)
    assert loudness_range(power(*[-20] * 29)) is None and loudness_range(power(*[-20] * 30)) == 0
    assert loudness_range(power(*[-71] * 90)) is None


def test_one_channel_is_heard_from_both_sides() -> None:
    """The same sound on one channel and on two gives the same rows; 997 Hz at full scale on one of two is -3.01 LKFS
    (BS.1770-5, annex 1)."""
    sine = np.sin(2 * np.pi * 997 * np.arange(96_000) / 48_000)
    mono = (32767 * sine).astype(np.int16)[:, None]

    def rows(x: np.ndarray, block: int = 10_007) -> np.ndarray:
        maker = PowerMaker()
        for start in range(0, len(x), block):
            maker.feed(x[start : start + block])
        return maker.finish()

    one, both = rows(mono), rows(np.repeat(mono, 2, axis=1))
    assert np.allclose(one, both, rtol=1e-4) and one.shape == (20, 3)
    left = rows(np.concatenate([mono, mono * 0], axis=1))
    assert lufs(left[5:, 0]).tolist() == pytest.approx([-3.01] * 15, abs=0.02)
    assert one[3, 1] == pytest.approx(32766 / 32768) and left[3, 0] == pytest.approx(one[3, 0] / 2, rel=1e-3)
    assert np.allclose(rows(mono, 96_000), one, rtol=1e-4)
    weigher = Weigher()
    weigher.feed(np.repeat(sine[:, None], 2, axis=1))
    assert weigher.finish()[5:].tolist() == pytest.approx(one[5:, 0].tolist(), rel=1e-3)
    for samples, count in ((0, 0), (1, 1), (STEP, 1), (STEP + 1, 2), (20 * STEP, 20), (20 * STEP + 1, 21)):
        assert len(rows(np.ones((samples, 1), np.int16))) == count, samples
    full = np.zeros((STEP * 2, 2), np.int16)
    full[10:14, 0], full[20, 1], full[30] = 32767, -32768, 32766
    assert rows(full)[:, 2].tolist() == [5, 0]
    last = rows(np.full((STEP + STEP // 2, 1), 16_384, np.int16))
    assert last[1, 1] == 0.5


def test_true_peaks_stand_in_their_step_and_the_last_is_not_lost() -> None:
    def peaks(x: np.ndarray, step: int, block: int) -> np.ndarray:
        maker = TruePeaks(step)
        for start in range(0, len(x), block):
            maker.feed(x[start : start + block])
        return maker.finish()

    for length, count in ((0, 0), (1, 1), (99, 1), (100, 1), (101, 2), (1000, 10), (1024, 11)):
        x = np.zeros((length, 2))
        assert len(peaks(x, 100, 200)) == count, length
    x = np.zeros((1050, 2))
    x[1049, 0], x[350, 1] = 0.5, -0.25
    found = peaks(x, 100, 200)
    assert found[10] == pytest.approx(0.5, abs=0.01) and found[3] == pytest.approx(0.25, abs=0.01)
    assert found[[0, 1, 6, 7]].max() < 0.01
    assert np.allclose(found, peaks(x, 100, 400), atol=1e-9) and np.allclose(found, peaks(x, 100, 1100), atol=1e-9)


# --- beats and hits


GRID = Beats(tuple(range(1000, 10_000, 1000)), 2880.0, first=2, bar=4)


def test_beats_are_put_right_by_hand() -> None:
    assert GRID.downbeats == (3000, 7000)
    twice = doubled(GRID)
    assert twice.beats[:4] == (1000, 1500, 2000, 2500) and twice.beats[-1] == 9000 and len(twice.beats) == 17
    assert (twice.tempo, twice.first, twice.downbeats[0]) == (5760, 4, 3000)
    half = halved(GRID)
    assert half.beats == (1000, 3000, 5000, 7000, 9000) and (half.tempo, half.first) == (1440, 1)
    assert halved(replace(GRID, first=3)).beats == (2000, 4000, 6000, 8000)
    assert moved(GRID, -1000).beats == tuple(range(0, 9000, 1000)) and moved(GRID, -1001).beats[0] == 999
    assert moved(GRID, 5).beats[0] == 1005


def test_taps_give_the_tempo_and_the_place() -> None:
    taps = [20_000, 44_000, 68_000, 116_000]  # one is left out
    found = tapped(replace(GRID, beats=(10, 200_000)), taps)
    assert found.tempo == 120 and found.first == 0 and found.bar == 4
    assert found.beats == (*range(20_000, 200_000 + 12_001, 24_000),)  # to half a beat behind what was there
    early = tapped(Beats((), 0), [50_000, 74_000, 98_000])
    assert early.beats == (2000, 26_000, 50_000, 74_000, 98_000)
    assert tapped(GRID, []) == GRID and tapped(Beats((), 0), [5, 6]) == Beats((), 0)
    assert tapped(GRID, [3100]).beats == moved(GRID, 100).beats == tapped(GRID, [3100, 9000]).beats
    assert tapped(GRID, [9000, 3100]).beats == moved(GRID, 100).beats


def test_hits_stand_apart_and_the_stronger_stays() -> None:
    hits = [Hit(48_000, 5, 0.1), Hit(48_100, 9, 0.2), Hit(96_000, 3, 0.5), Hit(150_000, 2, 0.49)]
    hits = [replace(h) for h in hits]
    assert [h.sample for h in at_sensitivity(hits)] == [48_100, 150_000]  # at 0.5 it needs more
    assert [h.sample for h in at_sensitivity(hits, 0.15)] == [48_000] and at_sensitivity(hits, 0) == []
    assert [h.sample for h in at_sensitivity(hits, 0.51)] == [48_100, 96_000, 150_000]


def spans(cuts: list[Cut]) -> list[tuple[int, int]]:
    return [(c.start, c.end) for c in cuts]


def test_quick_pieces_begin_before_their_hit_and_end_before_the_next() -> None:
    """Pieces of 5 frames (DESIGN: 5, at most 10), a frame before the hit."""
    plain = Quick(ring=False)
    assert spans(quick_cut([10, 50, 52, 99], [9] * 4, 100, plain)) == [(9, 14), (49, 51), (51, 56), (98, 100)]
    assert spans(quick_cut([0, 30], [9] * 2, 100, plain)) == [(0, 5), (29, 34)]
    ringing = Quick(most=20)
    assert spans(quick_cut([10, 50], [3, 8], 100, ringing)) == [(9, 14), (49, 58)]
    assert spans(quick_cut([10, 50], [60, 60], 60, ringing)) == [(9, 29), (49, 60)]
    intro = Quick(ring=False, intro=25)
    got = quick_cut([10, 20, 34, 35, 60], [1] * 5, 100, intro)
    assert spans(got) == [(9, 34), (34, 39), (59, 64)] and [c.hit for c in got] == [None, 3, 4]
    assert quick_cut([], [], 100, intro) == [] and spans(quick_cut([10], [1], 20, intro))[0] == (9, 20)
    assert quick_cut([10, 10], [1, 1], 100, plain)[0].end == 10  # two on one frame: one frame is left


@pytest.mark.parametrize(("target", "kept"), [(50, range(10)), (49, 9), (25, 5), (12, 2), (10, 2), (1, 2)])
def test_thinned_from_the_middle(target: int, kept: range | int) -> None:
    cuts = [Cut(i * 10, i * 10 + 5, i) for i in range(10)]
    found = thinned(cuts, target)
    assert len(found) == (len(kept) if isinstance(kept, range) else kept)
    assert found[0] == cuts[0] and found[-1] == cuts[-1]
    assert len(found) == 2 or sum(c.end - c.start for c in found) <= target
    steps = np.diff([c.hit for c in found])
    assert steps.max() - steps.min() <= 1
    assert (
        thinned(cuts[:2], 1) == cuts[:2]
        and quick_cut([0, 20, 40], [1] * 3, 50, Quick(ring=False, target=10))[1].hit == 2
    )


# --- ducking


def test_music_goes_down_before_the_first_word_and_back_after_the_last() -> None:
    """DESIGN's figures, common practice: down within 8 frames, held for 25, back within 25."""
    how = Ducking(-12, 8, 25, 25)
    one = ducked([(100, 140)], (0, 400), how)
    assert one == ((0, 0.0), (92, 0.0), (100, -12), (165, -12), (190, 0.0), (400, 0.0))
    assert ducked([(100, 140), (198, 210)], (0, 400), how)[3] == (235, -12)  # 58 frames apart: it stays down
    apart = ducked([(100, 140), (199, 210)], (0, 400), how)
    assert apart[3:6] == ((165, -12), (190, 0.0), (191, 0.0)) and apart[-2] == (260, 0.0)
    assert ducked([(0, 100)], (100, 400), how) == () == ducked([(400, 500)], (100, 400), how) == ducked([], (0, 9), how)
    assert ducked([(90, 120)], (100, 150), how) == ((100, -12), (145, -12), (150, -9.6))
    assert ducked([(104, 120)], (100, 130), how)[0] == (100, -6)  # amid its way down
    steep = ducked([(100, 140)], (0, 400), Ducking(-6, 0, 0, 0))
    assert steep == ((0, 0.0), (99, 0.0), (100, -6), (140, -6), (141, 0.0), (400, 0.0))
    assert spans_joined([(5, 9), (0, 3), (3, 3), (11, 12)], 1) == [(0, 3), (5, 9), (11, 12)]
    assert spans_joined([(5, 9), (0, 3), (11, 12), (6, 7)], 2) == [(0, 12)]


# --- faces and framings


def test_one_face_goes_through_and_a_mistake_is_passed_over() -> None:
    row = [[Face(i, 0.4 + i / 1000, 0.5, 0.2)] for i in range(6)]
    assert track(row) == [r[0] for r in row] and track([]) == [] == track([[], []])
    far = Face(2, 0.9, 0.5, 0.1)
    assert track([row[0], row[1], [far], row[3]]) == [row[0][0], row[1][0], row[3][0]]
    assert track([row[0], row[1], [far, row[2][0]], []])[2] == row[2][0]


def test_a_path_is_smooth_and_slow() -> None:
    still = [Face(i, 0.5 + (0.039 if i == 3 else 0), 0.4, 0.2) for i in range(7)]
    assert path(still) == [(0, 0.5, 0.4)] and path([]) == []
    walk = [Face(i * 5, 0.2 + i * 0.04, 0.4, 0.2) for i in range(6)]
    found = path(walk)
    assert [f for f, _, _ in found] == [0, 5, 10, 15, 20, 25]
    assert [round(x, 3) for _, x, _ in found] == [0.22, 0.24, 0.28, 0.32, 0.36, 0.38]  # medians of three
    leap = [Face(0, 0.2, 0.4, 0.2), Face(1, 0.2, 0.4, 0.2), Face(2, 0.8, 0.9, 0.2), Face(12, 0.8, 0.9, 0.2)]
    assert [(f, round(x, 3), round(y, 3)) for f, x, y in path(leap)] == [
        (0, 0.2, 0.4),
        (1, 0.2, 0.4),
        (2, 0.21, 0.41),
        (12, 0.31, 0.51),
    ]


def test_what_moves_is_found_where_it_moves() -> None:
    still, moving_ = np.zeros((4, 8)), np.zeros((4, 8))
    moving_[1, 6] = 0.5
    assert moving([still, moving_], 7) == [(7, 6.5 / 8, 1.5 / 4)] and moving([still], 7) == [] == moving([still] * 3, 7)
    moving_[1, 6] = 0.059
    assert moving([still, moving_], 7) == []
    two = np.zeros((4, 8))
    two[1, 1], two[1, 5] = 0.2, 0.4  # by the square of the change
    assert moving([still, two], 0)[0][1] == pytest.approx((1.5 * 0.04 + 5.5 * 0.16) / 0.2 / 8)


def test_a_window_has_the_face_in_its_middle() -> None:
    assert [across_for(x, 0.5) for x in (0.1, 0.25, 0.5, 0.6, 0.9)] == [0, 0, 50, 70, 100]
    assert across_for(0.3, 1) == 50 and down_for(0.3, 1) == 40 and across_for(0.3, 1.2) == 50
    assert down_for(0.42, 0.5) == pytest.approx(42.0) and down_for(0.1, 0.5) == 0 and down_for(0.9, 0.5) == 100


@pytest.mark.parametrize(("ease", "quarter", "half"), [("both", 0.15625, 0.5), ("in", 0.0625, 0.25), ("out", 0.4375, 0.75), ("none", 0.25, 0.5)])  # fmt: skip
def test_moves_are_eased(ease: str, quarter: float, half: float) -> None:
    assert [eased(t, ease) for t in (0, 0.25, 0.5, 1)] == [0, quarter, half, 1]  # type: ignore[arg-type]
    part = Part(moves=((10, 100, 0, 0), (50, 200, 1, 0.5)), ease=ease)  # type: ignore[arg-type]
    assert part.at(0) == part.at(10) == (100, 0, 0) and part.at(50) == part.at(99) == (200, 1, 0.5)
    assert part.at(20) == pytest.approx((100 + 100 * quarter, quarter, quarter / 2))
    assert part.later(10).at(10) == part.at(20) and part.later(0) is part
    drift = Part(drift=((10, 0, 0), (50, 0.4, -0.2)), ease=ease)  # type: ignore[arg-type]
    assert drift.drifted(5) == (0, 0) and drift.drifted(70) == pytest.approx((0.4, -0.2))
    assert drift.drifted(20) == pytest.approx((0.4 * quarter, -0.2 * quarter))
    assert drift.later(10).drifted(10) == drift.drifted(20) and Part().drifted(5) == (0, 0)
    assert Part(drift=((10, 0, 0), (10, 0.4, 0))).drifted(11) == pytest.approx((0.4, 0))
    assert Part().later(5) == Part() and Part(zoom=120).at(3) == (120, 0.5, 0.4)


def test_opacities_of_a_dissolve() -> None:
    rise, fall = Opacity.rising(4), Opacity.falling(4)
    assert [rise.at(k) for k in range(4)] == pytest.approx([0.2, 0.4, 0.6, 0.8])
    assert [fall.at(k) for k in range(5)] == pytest.approx([0.8, 0.6, 0.4, 0.2, 0])
    assert Opacity.rising(4, 2).at(0) == rise.at(2) == rise.later(2).at(0) and Opacity.falling(4, 1).at(0) == fall.at(1)
    assert rise.at(9) == 1 and fall.at(9) == 0 and Opacity().later(5) == Opacity()
    backwards = Image(1, 100, speed=(-2, 1), skip=30)
    assert backwards.later(10).skip == 20 and Image(1, 100, speed=(2, 1)).later(10).skip == 10
    assert Image(1, 100).later(10).start == 110 and Image().later(10) == Image()


# --- rows


def every_row() -> Iterator[tuple[object, object]]:
    for name in BEFORE:
        story = BEFORE[name]()
        for items, write, read in (
            (story.pieces, piece_row, piece_from),
            ((*story.covers, *story.loose), cover_row, cover_from),
            ((*story.sounds, *story.loose_sounds), sound_row, sound_from),
        ):
            for item in items:  # type: ignore[attr-defined]
                yield item, read(write(item))  # type: ignore[operator]


def test_rows_are_read_as_they_were_written() -> None:
    assert all(a == b for a, b in every_row())


def test_rows_of_before_there_were_settings() -> None:
    assert piece_from([1, 2, 3, 4]).settings == NONE and piece_from([1, 2, 3, 4]).take == "both"
    old = piece_from([1, None, 0, 4, ["#000000", "x"], "picture", 120, 7])
    assert old.card is not None and (old.card.text, old.take, old.group, old.settings["zoom"]) == (
        "x",
        "picture",
        7,
        120,
    )
    short = piece_from([1, 2, 3, 4, None, "sound", 100, 0])
    assert (short.take, short.group, short.card) == ("sound", 0, None)
    cover = cover_from([1, 3, 5, 50, 2, 110, 2])
    assert (cover.tether.piece, cover.tether.moment, cover.lane, cover.settings) == (2, 110, 2, NONE)
    cover = cover_from([1, 3, 5, 50, 2, 110, 2, 1, 40])
    assert cover.settings["natural"] is True and cover.settings["span"] == 40
    sound = sound_from([1, 6, 5, 50, 2, 110, 1, "music", -65, 3, 9, 4])
    assert (sound.kind, sound.group, sound.settings["level"]) == ("music", 4, -6.5)
    assert (sound.settings["fade_in"], sound.settings["fade_out"]) == (3, 9)


def test_a_splice_is_the_smallest_change_and_goes_back() -> None:
    for a, b, index, old, new in (
        ((1, 2, 3), (1, 9, 3), 1, (2,), (9,)),
        ((1, 2, 3), (1, 2, 3), 3, (), ()),
        ((1, 2), (1, 2, 2), 2, (), (2,)),
        ((1, 1, 1), (1,), 1, (1, 1), ()),
        ((), (4, 5), 0, (), (4, 5)),
        ((7, 1), (8, 7, 1), 0, (), (8,)),
    ):
        splice = Splice.between(a, b)
        assert splice == Splice(index, old, new)
        assert splice.apply(a) == b and splice.inverse().apply(b) == a
    with pytest.raises(ValueError, match="does not fit"):
        Splice(1, (2,), (9,)).apply((1, 3))
