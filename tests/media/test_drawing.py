"""The renderer's drawing against the plainest arithmetic: ramps under a warp, letters over a picture, looks on colours.

References: the definition of an affine map (every pixel by itself), porter and duff's "over" (1984) in floats, and
the chroma siting of H.264 (ITU-T H.264 annex E, chroma_sample_loc_type 0: left in its pair of columns, between its
two lines).
"""

from pathlib import Path

import av
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import maximum_filter, minimum_filter

from kovel.core.picture.look import looked
from kovel.core.plan.geometry import standing
from kovel.core.plan.layers import Image, Layer, Opacity, Part, Place, Stacked, TitleImage
from kovel.core.story.model import Card
from kovel.media.drawing import Lettering, Pictures, even, kept_in, over, planes_of, still_black, warped, written
from kovel.media.reader import rgb_of
from kovel.media.title_pictures import SERIF, font_file

W, H = 320, 180
Ramp = tuple[float, float, float]


def ramp(of: Ramp, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    return of[0] + of[1] * x + of[2] * y


def frame(y: np.ndarray, u: np.ndarray, v: np.ndarray) -> av.VideoFrame:
    flat = np.concatenate([np.clip(p + 0.5, 0, 255).astype(np.uint8).reshape(-1) for p in (y, u, v)])
    return av.VideoFrame.from_ndarray(flat.reshape(y.shape[0] * 3 // 2, y.shape[1]), "yuv420p")


def ramps(w: int, h: int, of: tuple[Ramp, Ramp, Ramp]) -> av.VideoFrame:
    """Luma and chroma that rise evenly over the picture, each where its samples lie: in pixels, from the upper left
    corner."""
    x, y = np.meshgrid(np.arange(w) + 0.5, np.arange(h) + 0.5)
    cx, cy = np.meshgrid(2 * np.arange(w // 2) + 0.5, 2 * np.arange(h // 2) + 1.0)
    return frame(ramp(of[0], x, y), ramp(of[1], cx, cy), ramp(of[2], cx, cy))


parts = st.builds(
    lambda zoom, x, y, turn, flip: Part(zoom, x, y, turn, flip),
    st.floats(100, 300),
    st.floats(0, 1),
    st.floats(0, 1),
    st.sampled_from([0.0, 0.0, 7.5, -20.0]),
    st.booleans(),
)


@given(parts)
@settings(deadline=None, max_examples=60)
def test_every_plane_is_warped_to_where_the_geometry_says(part: Part) -> None:
    """A ramp under an affine map is a ramp: its value at each sample is that of the place it came from, chroma
    included."""
    of = ((40.0, 0.3, 0.25), (90.0, 0.12, -0.05), (150.0, -0.1, 0.14))
    source = ramps(W, H, of)
    s = standing((W, H), (W, H), part, Place())
    planes, _ = warped(planes_of(source), s, (W, H), Layer(Image(1), part=part))
    a, b, c, d, e, f = s.matrix
    inverse = np.linalg.inv(np.array([[a, c, e], [b, d, f], [0, 0, 1.0]]))
    for n, plane in enumerate(planes):
        h, w = plane.shape
        half = 1 if n == 0 else 2
        x, y = np.meshgrid(half * np.arange(w) + 0.5, half * np.arange(h) + (0.5 if n == 0 else 1.0))
        u, v = (inverse[k, 0] * x + inverse[k, 1] * y + inverse[k, 2] for k in (0, 1))
        inside = (u > 3) & (u < W - 3) & (v > 3) & (v < H - 3)
        assert np.abs(plane - ramp(of[n], u, v))[inside].max() < 1.6, (
            n,
            part,
        )  # both are whole numbers; cv2 counts in 32nds


@given(st.integers(-40, W), st.integers(-40, H), st.floats(0.05, 1), st.integers(0, 99))
@settings(deadline=None, max_examples=60)
def test_letters_lie_over_a_picture_as_over_is_defined(x: int, y: int, share: float, seed: int) -> None:
    rng = np.random.default_rng(seed)
    rgba = np.zeros((61, 83, 4), np.uint8)
    rgba[7:50, 5:70] = rng.integers(0, 256, 4)
    base = ramps(W, H, ((60.0, 0.2, 0.1), (110.0, 0.05, 0.0), (140.0, 0.0, 0.05)))
    got = [p.astype(float) for p in planes_of(written(base, Lettering(rgba), x, y, share))]
    alpha, colour = np.zeros((H, W)), rgba[7, 5, :3] / 255
    top, left = max(0, y + 7), max(0, x + 5)
    alpha[top : max(0, y + 50), left : max(0, x + 70)] = rgba[7, 5, 3] / 255 * round(share * 256) / 256
    luma = colour @ [0.2126, 0.7152, 0.0722]  # BT.709
    want = 16 + 219 * luma, 128 + 224 * (colour[2] - luma) / 1.8556, 128 + 224 * (colour[0] - luma) / 1.5748
    quarter = alpha.reshape(H // 2, 2, W // 2, 2).mean((1, 3))
    for n, (plane, under) in enumerate(zip(got, planes_of(base), strict=True)):
        a = alpha if n == 0 else quarter
        assert np.abs(plane - (under + (want[n] - under) * a)).max() < 1.8, n


@given(st.floats(0, 1), st.integers(0, 100), st.integers(0, 60))
@settings(deadline=None, max_examples=40)
def test_one_picture_over_another_by_its_share_and_mask(share: float, left: int, top: int) -> None:
    base, upper = (
        ramps(W, H, ((60.0, 0.2, 0.1), (110, 0, 0), (140, 0, 0))),
        ramps(64, 48, ((200, 0, 0), (60, 0, 0), (220, 0, 0))),
    )
    mask = np.zeros((48, 64), np.uint8)
    mask[:, 16:] = 255
    corner = 2 * (left // 2), 2 * (top // 2)
    for m in (None, mask):
        out = [p.astype(float) for p in planes_of(over(base, planes_of(upper), share, corner, m))]
        for n, (plane, under, above) in enumerate(zip(out, planes_of(base), planes_of(upper), strict=True)):
            half = 1 if n == 0 else 2
            want = under.astype(float)
            t, le = corner[1] // half, corner[0] // half
            a = share * (np.ones(above.shape) if m is None else m[::half, ::half] / 255)
            part = want[t : t + above.shape[0], le : le + above.shape[1]]
            part += (above - part) * a
            assert np.abs(plane - want).max() < 1.2


def stacked(x: Layer) -> Stacked:
    return Layer.from_json(x.to_json({}))


def drawn(layers: list[Layer], k: int = 0) -> np.ndarray:
    got = Pictures({}, W, H).frame([stacked(x) for x in layers], k)
    return rgb_of(got.reformat(format="yuv444p")).astype(int)


def test_a_stack_is_drawn_from_the_bottom() -> None:
    """What hides, what is half there, what has a place; a frame that is handed on is never drawn into."""
    red, blue = (Layer(Image(card=Card(c))) for c in ("#c02020", "#2040c0"))
    half = Layer(blue.image, Opacity(1, 0, 2))
    assert np.abs(drawn([red, half]) - (drawn([red]) + drawn([blue])) / 2).max() < 3
    quarter = Layer(blue.image, place=Place(0.5, 0.5, 0.5, 0.5))
    seen = drawn([red, quarter])
    assert (
        np.abs(seen[: H // 2 - 2] - drawn([red])[: H // 2 - 2]).max() < 3
        and np.abs(seen[H // 2 + 2 :, W // 2 + 2 :] - drawn([blue])[0, 0]).max() < 3
    )
    assert np.array_equal(drawn([red, Layer(blue.image, Opacity(0, 0, 1))]), drawn([red]))
    rising = Layer(blue.image, Opacity.rising(3))
    shares = [drawn([red, rising], k)[0, 0, 2] for k in range(3)]
    assert shares == sorted(shares) and shares[0] < shares[2]
    assert drawn([])[0, 0].max() == 0
    p = Pictures({}, W, H)
    plain = p.frame([stacked(red)], 0)
    before = [q.copy() for q in planes_of(plain)]
    p.frame([stacked(red), stacked(half)], 0)
    assert all(np.array_equal(x, y) for x, y in zip(before, planes_of(plain), strict=True))


def test_a_border_is_black_and_bars_are_as_see_through_as_their_picture() -> None:
    white, red = (Layer(Image(card=Card(c))) for c in ("#ffffff", "#c02020"))
    edged = Layer(white.image, part=Part(fit="filled", border=0.1), place=Place(0.25, 0.0, 0.5, 1.0))
    seen = drawn([red, edged])
    assert (
        np.abs(seen[:, : W // 4 - 2] - drawn([red])[0, 0]).max() < 4 and seen[5, W // 4 + 6 : W * 3 // 4 - 6].max() < 4
    )
    assert seen[H // 2, W // 2].min() > 250
    small = Layer(white.image, Opacity(1, 0, 2), Part(50.0, 0.5, 0.5))
    bars = drawn([red, small])[4, 4]
    assert np.abs(bars - drawn([red])[4, 4] / 2).max() < 6  # half of black over it
    clear = Layer(white.image, part=Part(50.0, 0.5, 0.5, clear=True))
    assert np.abs(drawn([red, clear])[4, 4] - drawn([red])[4, 4]).max() < 3


def test_a_look_is_that_of_the_core(tmp_path: Path) -> None:
    """Colours of a card through the renderer's filters, against the exact curve."""
    for n, look in enumerate(({"brightness": 0.5, "contrast": 20}, {"night": 80}, {"saturation": -60, "warmth": 40})):
        colours = [(n * 37 + 50 * k) % 200 + 20 for k in range(3)]
        card = Layer(Image(card=Card("#{:02x}{:02x}{:02x}".format(*colours))), look=(tuple(sorted(look.items())),))
        want = looked(np.array([[c / 255 for c in colours]]), look)[0] * 255
        assert np.abs(drawn([card])[H // 2, W // 2] - want).max() < 3, look
    (tmp_path / "x.cube").write_text("LUT_1D_SIZE 2\n1 1 1\n0 0 0\n")
    kept = kept_in(tmp_path)
    table = kept("x")
    assert table is not None and table[0].tolist() == [1, 1, 1]
    for name in ("../x", ".x", "none", "a/b"):
        assert kept(name) is None and kept_in(None)(name) is None
        assert font_file(tmp_path, name) == SERIF


@pytest.mark.parametrize(("x", "want"), [(0, 0), (0.9, 0), (1.0, 0), (1.1, 2), (3.0, 2), (3.1, 4), (319.99, 320)])
def test_even_numbers_are_the_nearest(x: float, want: int) -> None:
    assert even(x) == want and even(x) % 2 == 0


def test_black_is_black() -> None:
    assert [int(p.max()) for p in planes_of(still_black(W, H))] == [16, 128, 128]


def test_what_is_put_together_is_seen_as_one_picture() -> None:
    """Two halves put together, then framed, looked and half see-through as one: as if they were one image; and one
    within another. Definition of the group in the plan, no source."""
    red, blue, grey = (Layer(Image(card=Card(c))) for c in ("#c02020", "#2040c0", "#808080"))
    halves = (Layer(red.image, place=Place(0, 0, 0.5, 1)), Layer(blue.image, place=Place(0.5, 0, 0.5, 1)))
    one = Layer(Image(stack=halves))
    assert np.abs(drawn([one]) - drawn([*halves])).max() < 2
    small = drawn([grey, Layer(one.image, place=Place(0.5, 0.5, 0.5, 0.5))])
    assert (
        np.abs(small[H * 3 // 4, [W * 5 // 8, W * 7 // 8]] - drawn([*halves])[H // 2, [W // 4, W * 3 // 4]]).max() < 3
    )
    assert np.abs(small[: H // 2 - 1] - drawn([grey])[: H // 2 - 1]).max() < 2
    see_through = drawn([grey, Layer(Image(stack=(one,)), Opacity(1, 0, 2))])
    away = np.abs(see_through - (drawn([grey]) + drawn([*halves])) / 2)
    assert away.mean() < 0.6 and away.max() < 8  # chroma is half as fine
    look = ((("saturation", -100),),)
    flat = drawn([Layer(one.image, look=look)])[H // 2, [W // 4, W * 3 // 4]]
    assert np.ptp(flat, axis=1).max() <= 3 and np.ptp(drawn([one])[H // 2, W // 4]) > 100


def test_letters_show_what_fills_them() -> None:
    """Inside of the letters the filling, outside what is under them, between by how much of a letter there is
    (Porter and Duff 1984, "in", then "over")."""
    red, blue = (Layer(Image(card=Card(c))) for c in ("#c02020", "#2040c0"))
    rows = {
        "text": "MM",
        "font": "Sans",
        "size": 50.0,
        "under": 100,
        "weight": 900,
        "colour": "#ffffff",
        "edge": 0.0,
        "box": 0,
    }
    title = Image(
        title=TitleImage((*rows.items(), ("aligned", "middle"), ("title_x", 50.0), ("title_y", 50.0), ("rolls", False)))
    )
    cut = Layer(title, part=Part(clear=True))
    seen = drawn([red, Layer(Image(stack=(blue,), cut=cut))])
    there = drawn([Layer(Image(card=Card("#000000"))), cut])[..., 1:2] / 255  # how much of a letter there is
    want = drawn([red]) * (1 - there) + drawn([blue]) * there
    sure = (maximum_filter(there, (5, 5, 1)) - minimum_filter(there, (5, 5, 1)))[
        ..., 0
    ] < 0.01  # chroma is half as fine
    assert np.abs(seen - want)[sure].max() < 4 and np.abs(seen - want).mean() < 2 and 0.1 < there.mean() < 0.6
    half = drawn([red, Layer(Image(stack=(blue,), cut=cut), Opacity(1, 0, 2))])
    assert np.abs(half - (seen + drawn([red])) / 2).max() < 4
