"""Framing: one geometry, faces that are followed steadily, pushes on the words' clock, covers that come and go."""

from fractions import Fraction
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kovel.core.picture.faces import EYES, FASTEST, Face, across_for, down_for, moving, path, track
from kovel.core.plan.geometry import fills, quad, standing
from kovel.core.plan.layers import Layer, Opacity, Part, Place, eased
from kovel.core.plan.plan import make_plan, size_of
from kovel.core.story.model import Story
from kovel.core.story.seams import seams
from tests.core.stories import SOURCES, do, three

HD = (1920, 1080)
shares = st.floats(0, 1)
zooms = st.floats(100, 400)


@given(zooms, shares, shares)
def test_at_a_hundred_percent_and_more_the_picture_is_filled(zoom: float, x: float, y: float) -> None:
    s = standing(HD, (960, 540), Part(zoom, x, y), Place())
    assert fills(s) and s.matrix[0] == pytest.approx(0.5 * zoom / 100)
    (left, top), _, (right, bottom), _ = quad(s)
    # the room that is left is shared out: nothing beyond the left edge at 0, nothing beyond the right one at 1
    assert left == pytest.approx((960 - 960 * zoom / 100) * x, abs=1e-6) and right - left == pytest.approx(9.6 * zoom)
    assert top == pytest.approx((540 - 540 * zoom / 100) * y, abs=1e-6) and bottom - top == pytest.approx(5.4 * zoom)


def test_shapes_are_filled_or_whole_with_bars() -> None:
    """A 4:3 image in 16:9: whole it is 3/4 of the width, filled it loses a quarter of its height; Euclid."""
    whole = quad(standing((640, 480), (1600, 900), Part(), Place()))
    assert [round(v) for v in (*whole[0], *whole[2])] == [200, 0, 1400, 900]
    filled = quad(standing((640, 480), (1600, 900), Part(fit="filled", y=0.5), Place()))
    assert [round(v) for v in (*filled[0], *filled[2])] == [0, -150, 1600, 1050]
    for share, top in ((0.0, 0), (1.0, -300)):  # what does not fit lies where the framing says
        filled = quad(standing((640, 480), (1600, 900), Part(fit="filled", y=share), Place()))
        assert [round(v) for v in (*filled[0], *filled[2])] == [0, top, 1600, top + 1200]
        tall = quad(
            standing((480, 640), (1600, 900), Part(200, x=share, y=share), Place())
        )  # its bars are moved with it
        assert [round(v) for v in (*tall[0], *tall[2])] == (
            [925, 0, 2275, 1800] if not share else [-675, -900, 675, 900]
        )
    wide = quad(standing((2000, 500), (1000, 500), Part(), Place()))  # a quarter of the height above and below
    assert [round(v) for v in (*wide[0], *wide[2])] == [0, 125, 1000, 375]
    half = standing(HD, (1600, 900), Part(fit="filled", border=0.01), Place(0.5, 0, 0.5, 1))
    assert half.clip == (816, 16, 768, 868) and fills(half)
    flipped = quad(standing(HD, HD, Part(flip=True), Place()))
    assert flipped[0] == (1920, 0) and flipped[1] == (0, 0)
    turned = quad(standing((100, 100), (100, 100), Part(turn=90), Place()))
    assert [tuple(round(v) for v in p) for p in turned] == [(100, 0), (100, 100), (0, 100), (0, 0)]  # clockwise
    assert not fills(standing(HD, HD, Part(turn=5), Place())) and fills(
        standing(HD, HD, Part(116, turn=5, y=0.5), Place())
    )
    cut = standing((1000, 500), (1000, 500), Part(200, x=0, y=1, crop=(0.1, 0.2, 0.3, 0.4)), Place())
    assert cut.cut == (100, 100, 700, 300) and quad(cut) == [(200, -300), (1400, -300), (1400, 100), (200, 100)]
    for side in range(4):
        cropped = [0.0] * 4
        cropped[side] = 0.1
        assert not fills(standing(HD, HD, Part(crop=tuple(cropped)), Place())), side  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("shape", "size"), [("9:16", (1080, 1920)), ("1:1", (1080, 1080)), ("4:5", (1080, 1350)), ("16:9", HD)]
)
def test_a_story_has_a_shape(shape: str, size: tuple[int, int]) -> None:
    assert size_of(do(three(), "set_value", to="story", setting="shape", value=shape), *HD) == size
    assert size_of(three(), 720, 576) == (720, 576)
    own = do(
        do(three(), "set_value", to="story", setting="shape", value="own"),
        "set_value",
        to="story",
        setting="ratio",
        value=2.39,
    )
    assert size_of(own, *HD) == (2582, 1080)  # even


@given(st.sampled_from(["both", "in", "out", "none"]), shares)
def test_easing_begins_and_ends_where_it_should(ease: str, t: float) -> None:
    assert eased(0, ease) == 0 and eased(1, ease) == 1 and 0 <= eased(t, ease) <= 1  # type: ignore[arg-type]
    assert (
        eased(t, "both") == pytest.approx(1 - eased(1 - t, "both")) and eased(t, "in") <= t <= eased(t, "out") + 1e-12
    )


def zoom_at(s: Story, t: int) -> float:
    r = make_plan(s, SOURCES).picture_at(t)
    return r.layers[0].part.at(t - r.at)[0]


def test_a_push_stays_with_its_words() -> None:
    """The same frame of the recording has the same zoom after a split, a trim, a move and a cut of its middle."""
    s = do(three(), "push", items=[1], last=120, ease="none")
    was = {100 + t: zoom_at(s, t) for t in range(100)}  # by the frame of the recording
    assert was[100] == 100 and was[199] == 120 and np.allclose(np.diff(list(was.values())), 20 / 99)
    for then in (
        do(s, "split", at=40),
        do(s, "trim", piece=1, edge="in", delta=17),
        do(s, "move", piece=1, before=None),
        do(s, "extract", a=30, b=60),
    ):
        for at, p in zip(then.starts, then.pieces, strict=False):
            if p.source == 1 and p.start < 200:
                assert all(zoom_at(then, at + k) == pytest.approx(was[p.start + k]) for k in range(p.length))


def test_punching_in_makes_jumps_soft() -> None:
    s = do(do(three(), "extract", a=40, b=50), "extract", a=60, b=70)
    before = sum(x.kind == "jump" for x in seams(s, SOURCES))
    after = do(s, "punch_in_jumps", zoom=125)
    assert before >= 3 and not any(x.kind == "jump" for x in seams(after, SOURCES))
    zooms_ = [p.settings["zoom"] for p in after.pieces if p.source == 1]
    assert zooms_ == [100, 125] * (len(zooms_) // 2) + [100] * (len(zooms_) % 2)


def cover(**more: object) -> Story:
    s = do(three(), "lay_cover", source=3, at=120, until=160, start=20)
    for name, value in more.items():
        s = do(s, "set_value", to=4, setting=name, value=value)
    return s


def stack(s: Story, t: int) -> list[tuple[int | None, float]]:
    r = make_plan(s, SOURCES).picture_at(t)
    return [(x.image.source, round(x.opacity.at(t - r.at), 3)) for x in r.layers]


def test_covers_come_and_go() -> None:
    s = cover(appear=9, leave=4)
    assert stack(s, 120) == [(1, 1), (3, 0.1)] and stack(s, 128) == [(1, 1), (3, 0.9)] and stack(s, 129) == [(3, 1)]
    assert stack(s, 155) == [(3, 1)] and stack(s, 156) == [(1, 1), (3, 0.8)] and stack(s, 159) == [(1, 1), (3, 0.2)]
    dip = cover(appear=8, through="black")
    assert [stack(dip, t)[1] for t in (120, 123)] == [(None, 0.2), (None, 0.8)] and stack(dip, 124) == [
        (None, 1),
        (3, 0.2),
    ]
    assert stack(dip, 128) == [(3, 1)]
    assert stack(do(cover(), "set_value", to="story", setting="opacity", value=40), 130) == [(1, 1), (3, 0.4)]
    line = cover(opacity=[[20, 0], [59, 100]])
    assert [stack(line, t)[-1][1] for t in (120, 139, 140)] == [0, round(19 / 39, 3), round(20 / 39, 3)]


def test_neighbouring_covers_dissolve_into_each_other() -> None:
    """The one before goes on under the next one, as far as its shot lasts; frames run on without a step."""
    s = do(cover(), "lay_cover", source=4, at=160, until=200, start=0, lane=1)
    new = max(c.id for c in s.covers)
    s = do(s, "set_value", to=new, setting="appear", value=10)
    assert stack(s, 159) == [(3, 1)] and stack(s, 160) == [(3, 1), (4, round(1 / 11, 3))] and stack(s, 170) == [(4, 1)]
    r = make_plan(s, SOURCES).picture_at(165)
    base, num, den = r.layers[0].image.steps(Fraction(1))
    assert (base + (165 - r.at) * num) // den == 20 + 45
    assert [x.kind for x in seams(s, SOURCES)] == ["jump", "clean"]  # the seam under the dissolve is never seen


def test_layers_are_the_same_after_a_file() -> None:
    s = do(cover(appear=9, zoom=130, turn=3.5, fit="blurred", warmth=20), "push", items=[1], last=110)
    for run_ in make_plan(s, SOURCES).pictures:
        for x in run_.layers:
            again = Layer.from_json(x.to_json({})).layer
            assert (again.part, again.place, again.look, again.opacity) == (x.part, x.place, x.look, x.opacity)


def test_a_face_is_followed_without_a_jump() -> None:
    rng = np.random.default_rng(3)
    true = 0.3 + 0.25 * np.sin(np.arange(0, 500, 10) / 90)
    found = [[Face(10 * k, x + rng.normal(0, 0.004), 0.4, 0.2)] for k, x in enumerate(true)]
    for k in (3, 11, 12, 30):
        found[k] = []  # not found
    found[20].append(Face(200, 0.9, 0.8, 0.25))  # a larger mistake elsewhere
    found[25] = [Face(250, 0.05, 0.9, 0.2)]
    got = path(track(found))
    steps = [abs(b[1] - a[1]) / (b[0] - a[0]) for a, b in pairwise(got)]
    assert max(steps) <= FASTEST + 1e-9 and len(got) >= 44
    assert max(abs(x - true[f // 10]) for f, x, _ in got) < 0.1 * 0.5
    still = path(track([[Face(10 * k, 0.4 + rng.normal(0, 0.003), 0.5, 0.2)] for k in range(20)]))
    assert len(still) == 1 and still[0][1] == pytest.approx(0.4, abs=0.01) and path(track([[], []])) == []


@given(shares, st.floats(0.1, 0.99))
def test_a_window_sits_on_the_face_as_far_as_the_picture_goes(x: float, window: float) -> None:
    left = across_for(x, window) / 100 * (1 - window)
    assert -1e-9 <= left <= 1 - window + 1e-9
    if window / 2 < x < 1 - window / 2:
        assert left + window / 2 == pytest.approx(x, abs=0.002)
    top = down_for(x, window) / 100 * (1 - window)
    if window * EYES < x < 1 - window * (1 - EYES):
        assert top + window * EYES == pytest.approx(x, abs=0.002)


def test_what_moves_is_found() -> None:
    greys = [np.zeros((90, 160)) for _ in range(6)]
    for k, g in enumerate(greys):
        g[20:40, 100 + 4 * k : 120 + 4 * k] = 1
    [(frame, x, y)] = moving(greys, 7)
    assert frame == 7 and x == pytest.approx(120 / 160, abs=0.05) and y == pytest.approx(30 / 90, abs=0.02)
    assert moving([np.zeros((9, 16))] * 3, 0) == [] and Opacity().at(3) == 1
