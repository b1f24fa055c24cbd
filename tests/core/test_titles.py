"""Titles: what is drawn where, how they come and go, and what a story says of them."""

from pathlib import Path

import numpy as np
import pytest
from PIL import features

from kovel.core.checks.picture_checks import picture_checks
from kovel.core.plan.layers import Layer
from kovel.core.plan.plan import make_plan
from kovel.core.story.model import TITLE, Story
from kovel.core.story.seams import exposed
from kovel.media.drawing import Pictures, letters_at
from kovel.media.files import Unusable
from kovel.media.title_pictures import check_font, drawn_title
from tests.core.stories import SOURCES, R, do, three

NO = lambda *_: (0.0, 0.0)  # noqa: E731


def titled(text: str = "Maren", **more: object) -> Story:
    s = do(three(), "lay_title", at=100, text=text, length=50)
    for name, value in more.items():
        s = do(s, "set_value", to=s.covers[0].id, setting=name, value=value)
    return s


def spec(s: Story) -> dict:
    layer = next(x for r in make_plan(s, SOURCES).pictures for x in r.layers if x.image.title)
    assert layer.image.title
    return dict(layer.image.title.rows)


def box(s: Story, **more: object) -> tuple[int, int, int, int]:
    found = drawn_title(spec(s) | more, 640, 360).getchannel("A").getbbox()
    assert found
    return found


def test_what_is_under_a_title_is_seen_around_it() -> None:
    """A title is a layer with a clear ground: the dialogue goes on under it, a jump under it stays exposed."""
    s = titled()
    assert len(exposed(s, SOURCES)) == len(exposed(three(), SOURCES)) == 1
    layers = make_plan(s, SOURCES).picture_at(125).layers
    assert [x.image.title is not None for x in layers] == [False, True] and layers[0].image.source == 1
    assert make_plan(s, SOURCES).seen == {1, 2} and s.covers[0].source == TITLE


def test_it_fades_in_and_out_as_long_as_was_set() -> None:
    plan = make_plan(titled(appear=10, leave=5), SOURCES)
    share = lambda t: next(x.opacity.at(t - r.at) for r in [plan.picture_at(t)] for x in r.layers if x.image.title)  # noqa: E731
    assert [round(share(t) * 11) for t in (100, 104, 109)] == [1, 5, 10] and share(110) == share(144) == 1
    assert [round(share(t) * 6) for t in (145, 149)] == [5, 1]


def test_it_slides_rises_rolls_and_is_written() -> None:
    at = lambda s, t: next(  # noqa: E731
        (x, t - r.at) for r in [make_plan(s, SOURCES).picture_at(t)] for x in r.layers if x.image.title
    )
    slide = [at(titled(enters="slide", appear=10), t) for t in (100, 105, 109, 110)]
    xs = [x.part.drifted(k)[0] for x, k in slide]
    assert xs == sorted(xs) and xs[0] < -0.9 and xs[-1] == 0 and all(x.opacity.at(k) == 1 for x, k in slide)
    rolls = titled("a\nb\nc", rolls=True, size=10)
    ys = [x.part.drifted(k)[1] for x, k in (at(rolls, t) for t in range(100, 150))]
    assert ys[0] == 1 and ys[-1] == pytest.approx(-0.405) and np.allclose(np.diff(ys), np.diff(ys)[0])  # at one speed
    assert drawn_title(spec(rolls), 640, 360).height == round(3 * 36 * 1.35)  # as high as the plan counts on
    written = [at(titled(enters="letter by letter", appear=11, text="Maren Vosk"), t) for t in range(100, 112)]
    counts = [letters_at("Maren Vosk", x.letters.at(k)) for x, k in written]
    assert counts[0] == 0 and counts[-1] == 10 and counts == sorted(counts)
    plan_json = make_plan(titled(enters="letter by letter"), SOURCES).to_json(SOURCES)
    assert all("letters" in r[2][-1][4] for r in plan_json["pictures"] if r[0] == 100)


def test_where_its_letters_stand() -> None:
    """Size is the share of the height from line to line; aligned and placed by its middle or an end; long ones are
    broken."""
    x0, y0, x1, y1 = box(titled("HHH", size=10, edge=0.0))
    assert abs((x0 + x1) / 2 - 320) < 3 and abs((y0 + y1) / 2 - 180) < 8 and 20 < y1 - y0 < 36
    x0, _, _, y1 = box(titled("HHH", aligned="left", title_x=5, title_y=90, edge=0.0))
    assert abs(x0 - 32) < 4 and 300 < y1 < 345
    long = box(titled("so many words that they never stand on one line of a picture whatever one does " * 3, size=12))
    assert long[0] >= 20 and long[2] <= 620 and long[1] >= 8 and long[3] <= 352
    one = box(titled("Maren", edge=0.0), text="M")
    part = drawn_title(spec(titled("Maren", edge=0.0)), 640, 360, letters=1).getchannel("A").getbbox()
    assert part and part[2] - part[0] == one[2] - one[0] and part[0] < one[0]  # what is written does not move after


@pytest.mark.skipif(not features.check("raqm"), reason="no shaping on this machine")
def test_scripts_from_right_to_left_are_set_rightly() -> None:
    """Hebrew runs from right to left (Unicode bidirectional algorithm, UAX 9): the first letter stands on the right."""
    font = Path("/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf")
    if not font.exists():
        pytest.skip("no font with Hebrew letters here")
    s = spec(titled("אי", edge=0.0)) | {"font": font.stem, "aligned": "left", "title_x": 10.0}
    both = drawn_title(s, 640, 360, fonts=font.parent).getchannel("A")
    wide = lambda text: drawn_title(s | {"text": text}, 640, 360, fonts=font.parent).getchannel("A").getbbox()  # noqa: E731
    alef, both_box = wide("א"), both.getbbox()
    assert alef and both_box
    right = np.asarray(both)[:, both_box[2] - (alef[2] - alef[0]) : both_box[2]]
    own = np.asarray(drawn_title(s | {"text": "א"}, 640, 360, fonts=font.parent).getchannel("A"))[:, alef[0] : alef[2]]
    assert np.abs(right.astype(int) - own).mean() < 3  # alef, which is said first


def test_a_file_that_is_no_font_is_refused(tmp_path: Path) -> None:
    bad = tmp_path / "x.ttf"
    bad.write_bytes(b"no font" * 100)
    with pytest.raises(Unusable, match="no font that can be read"):
        check_font(bad)


def test_the_renderer_lays_it_over_the_picture() -> None:
    plan = make_plan(titled("HHH", edge=0.0, colour="#ffffff", appear=0, leave=0), SOURCES)
    title = plan.picture_at(120).layers[-1]
    frame = Pictures({}, 640, 360).frame([Layer.from_json(title.to_json({}))], 0)
    y = np.frombuffer(frame.planes[0], np.uint8).reshape(360, -1)[:, :640]
    want = np.asarray(
        drawn_title(spec(titled("HHH", edge=0.0, colour="#ffffff", appear=0, leave=0)), 640, 360).getchannel("A")
    )
    assert np.abs(y.astype(float) - (16 + 219 * (want / 255.0))).max() < 1.5


def test_what_is_told_of_titles_and_frames() -> None:
    """Three words a second and half a second to spare (common practice); the safe area leaves 5 % (EBU R 95)."""
    told = lambda s, where=None, cut=NO: {  # noqa: E731
        f.kind: f.text for f in picture_checks(s, SOURCES, 16 / 9, cut, lambda c: where)
    }
    assert told(titled("one two three four", appear=0)) == {}  # 46 frames would do, 50 are there
    assert "50 frames for 5 words, 54 frames would do" in told(titled("one two three four five"))["unread"]
    assert "safe area" in told(titled(), (4, 50, 60, 60))["unsafe"] and told(titled(), (5, 50, 95, 60)) == {}
    s = do(three(), "set_value", to=1, setting="zoom", value=80)
    assert "shown at 80 %" in told(s)["edges"]
    s = do(do(three(), "set_value", to=1, setting="turn", value=5), "set_value", to=1, setting="zoom", value=110)
    assert "turned by 5°, which needs 115 %" in told(s)["edges"]  # cos 5° + 16/9 sin 5° = 1.151
    assert told(do(s, "set_value", to=1, setting="zoom", value=116)) == {}
    bright = do(three(), "set_value", to=1, setting="brightness", value=2)
    assert "12 % of it to white" in told(bright, cut=lambda x: (0.0, 12.0))["cut off"] and told(bright) == {}


def test_a_dissolve_between_covers_without_material_is_told() -> None:
    """The shot before has 20 frames left where 30 are asked for; with 20, through black, or elsewhere nothing is
    said."""
    total = SOURCES[3].length(R)
    assert total is not None
    s = do(three(), "lay_cover", source=3, at=100, until=150, start=total - 70)
    s = do(s, "lay_cover", source=4, at=150, until=200, start=0, lane=1)
    new = max(c.id for c in s.covers)
    told = lambda t: {f.kind: f.text for f in picture_checks(t, SOURCES, 16 / 9, NO, lambda c: None)}  # noqa: E731
    bared = do(s, "set_value", to=new, setting="appear", value=30)
    assert "ends 10 frames before the dissolve" in told(bared)["handle"]
    for name, value in (("appear", 20), ("through", "black")):
        assert "handle" not in told(do(bared, "set_value", to=new, setting=name, value=value)), name
    assert "handle" not in told(do(bared, "move_cover", cover=new, at=160))
