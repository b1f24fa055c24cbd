"""Looks against what is published and against `colour-science` (BSD), which knows nothing of Kovel."""

from pathlib import Path

import colour
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kovel.core.picture.colour import cube_text
from kovel.core.picture.look import (
    BadTable,
    applied,
    balance,
    decorrelated,
    grid,
    looked,
    made,
    matching,
    neutral,
    read_cube,
)
from kovel.core.story.settings import LOOK, SETTINGS

GREYS = np.repeat(np.linspace(0, 1, 101)[:, None], 3, 1)
RNG = np.random.default_rng(11)
COLOURLESS = [n for n in LOOK if n not in ("warmth", "tint", "table")]
values = st.fixed_dictionaries(
    {}, optional={n: st.floats(SETTINGS[n].low, SETTINGS[n].high) for n in LOOK if n != "table"}
)


def test_tables_are_read_and_applied_as_colour_science_does(tmp_path: Path) -> None:
    """Cube LUT Specification 1.0: the same file, the same colours, to a thousandth (our table has 33 points, 8-bit
    eyes)."""
    look = [{"brightness": 0.4, "contrast": 25, "saturation": -30, "warmth": 20}, {"night": 60}]
    file = tmp_path / "x.cube"
    file.write_text(cube_text(made(look)))
    theirs = colour.read_LUT(str(file))
    points = RNG.random((2_000, 3))
    ours = applied(made(look), points)
    assert np.abs(theirs.apply(points, interpolator=colour.algebra.table_interpolation_trilinear) - ours).max() < 1e-5
    exact = points
    for one in look:
        exact = looked(exact, one)
    assert np.abs(ours - exact).mean() < 1 / 255  # what the points between cost

    # written by them: of another size, with other bounds, of one dimension
    lut = colour.LUT3D(colour.LUT3D.linear_table(17) ** 0.8, "x", np.array([[0, 0, 0], [1, 1, 1]]))
    colour.write_LUT(lut, str(file))
    assert np.abs(applied(read_cube(file.read_text()), points) - lut.apply(points)).max() < 0.01
    file.write_text("LUT_1D_SIZE 3\n0 0 0\n0.25 0.5 0.75\n1 1 1\n")
    flat = colour.read_LUT(str(file))
    assert np.abs(applied(read_cube(file.read_text()), points) - flat.apply(points)).max() < 0.01
    file.write_text('# c\nTITLE "t"\nDOMAIN_MIN -1 -1 -1\nDOMAIN_MAX 1 1 1\nLUT_1D_SIZE 2\n0 0 0\n1 1 1\n')
    assert np.abs(applied(read_cube(file.read_text()), points) - (points + 1) / 2).max() < 1e-5


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "how large"),
        ("LUT_3D_SIZE 2\n0 0 0\n", "1 colours where 8"),
        ("LUT_3D_SIZE 1\n0 0 0\n", "1 points wide"),
        ("LUT_3D_SIZE 300\n", "300 points wide"),
        ("LUT_3D_SIZE 2\n0 0 zero\n", "Line 2"),
        ("LUT_3D_SIZE 2\n" + "0 0 nan\n" * 8, "Line 2"),
        ("LUT_3D_SIZE 2\n" + "0 0 0\n" * 9, "9 colours where 8"),
        ("\x00\x01binary", "Line 1"),
        ("DOMAIN_MIN 1 1 1\nLUT_1D_SIZE 2\n0 0 0\n1 1 1\n", "do not go upwards"),
    ],
)
def test_a_broken_table_is_refused_saying_where(text: str, why: str) -> None:
    with pytest.raises(BadTable, match=why):
        read_cube(text)


@given(st.fixed_dictionaries({}, optional={n: st.floats(SETTINGS[n].low, SETTINGS[n].high) for n in COLOURLESS}))
def test_grey_stays_grey_and_light_stays_in_order(look: dict) -> None:
    out = looked(GREYS, look)
    assert np.ptp(out, axis=1).max() < 1e-9 and (np.diff(out[:, 0]) > -1e-9).all()
    assert out.min() >= 0 and out.max() <= 1 + 1e-12


@given(values)
def test_every_look_stays_within_the_picture(look: dict) -> None:
    out = made([look], size=9)
    assert np.isfinite(out).all() and out.min() >= 0 and out.max() <= 1


def test_what_each_setting_means() -> None:
    """A stop doubles the light (BT.1886: the display's 2.4); contrast turns about middle grey; nothing set changes
    nothing."""
    half = np.array([[0.18 ** (1 / 2.4)] * 3])
    assert np.allclose(looked(half, {"brightness": 1.0}) ** 2.4, 0.36)
    assert np.allclose(looked(half, {"contrast": 60}), half) and np.allclose(
        looked(GREYS, {"contrast": 60})[[0, -1]], [[0] * 3, [1] * 3]
    )
    assert np.array_equal(made([]), grid().astype(np.float32)) and np.array_equal(looked(GREYS, {}), GREYS)
    red = looked(np.array([[0.8, 0.2, 0.2]]), {"saturation": -100})
    assert np.allclose(red, 0.8 * 0.2126 + 0.2 * (1 - 0.2126))  # BT.709's luma
    assert (looked(half, {"warmth": 50})[0, [0, 2]] - half[0, 0]).tolist() == pytest.approx([0.03, -0.035], abs=0.02)
    day = np.array([[0.7, 0.3, 0.2], [0.2, 0.3, 0.7]])
    night = looked(day, {"night": 100})
    assert night[0].max() < night[1].max() < 0.5  # at night red goes first (Purkinje)
    follow = made([{"brightness": 0.3}, {"brightness": -0.1}])  # a nearer look changes what the wider one made
    assert np.abs(follow - made([{"brightness": 0.2}])).mean() < 0.01


@given(st.lists(st.floats(0.15, 0.85), min_size=3, max_size=3))
def test_white_is_found_by_what_was_grey(rgb: list) -> None:
    warmth, tint = neutral(rgb)
    if abs(warmth) == 100 or abs(tint) == 100:
        return  # out of reach
    out = looked(np.array([rgb]), {"warmth": warmth, "tint": tint})
    assert np.ptp(out) < 0.02


@given(st.floats(-100, 100), st.floats(-100, 100))
def test_a_balance_keeps_the_luminance_of_grey(warmth: float, tint: float) -> None:
    assert balance(warmth, tint) @ [0.2126, 0.7152, 0.0722] == pytest.approx(1)


def test_one_camera_matched_to_another() -> None:
    """Within 2 of 255 in mean and spread, on pairs made of one picture (Reinhard et al. 2001)."""
    y, x = np.mgrid[0:90, 0:160] / 160
    scene = np.stack([0.3 + 0.4 * x + 0.1 * np.sin(9 * y), 0.35 + 0.3 * y, 0.25 + 0.3 * x * y + 0.1], -1)
    scene = np.clip(scene + RNG.normal(0, 0.02, scene.shape), 0.05, 0.95).reshape(-1, 3)
    for look in ({"warmth": 30, "brightness": -0.5}, {"tint": -25, "contrast": -20}, {"warmth": -40, "saturation": 20}):
        other = looked(scene, look)
        got = applied(matching(scene, other), scene)
        assert np.abs(got.mean(0) - other.mean(0)).max() < 2 / 255, look
        assert np.abs(got.std(0) - other.std(0)).max() < 2 / 255, look
    back = decorrelated(scene)
    assert np.corrcoef(back.T)[0, 1] < 0.9 and back.shape == scene.shape
