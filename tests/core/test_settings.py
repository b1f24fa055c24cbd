"""Settings at scopes: declared once, kept where they differ, met from wide to near; and the layers they end in."""

import json
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kovel.core.plan.layers import Layer, Opacity, Place
from kovel.core.plan.plan import make_plan
from kovel.core.plan.sounds import Heard, ramped
from kovel.core.story.catalogue import run
from kovel.core.story.lined_page import lined
from kovel.core.story.model import Refused, Source, Story
from kovel.core.story.patch import story_from_json, story_to_json
from kovel.core.story.seams import seams
from kovel.core.story.settings import MOMENTS, NONE, SETTINGS, Values, added, on_line, ranges, value_over_scopes
from tests.core.stories import SOURCES, R, do, three

levels = st.floats(-20, 6).map(lambda x: round(x, 1))
lines = st.dictionaries(st.integers(0, 500), levels, min_size=1, max_size=5).map(lambda d: tuple(sorted(d.items())))


def value(s: Story, item: int, name: str, sources: dict[int, Source] = SOURCES) -> object:
    return s.value(s.item(item), name, sources)


def test_each_scope_is_met_by_the_nearer_ones() -> None:
    """Levels in dB add up over recording, story, group and piece; a framing is replaced by the nearest that has one."""
    bright = SOURCES | {
        1: Source(1, "A", R, 2000, setup="x", settings=NONE.with_value("level", 2.0).with_value("zoom", 110))
    }
    s = do(three(), "set_group", ids=[1, 2], on=True)
    group = f"group {s.pieces[0].group}"
    for to, setting, v in (
        ("story", "level", 1.5),
        (group, "level", -3.0),
        (1, "level", -1.0),
        (group, "zoom", 120),
        (2, "zoom", 130),
    ):
        s = run(s, bright, "set_value", {"to": to, "setting": setting, "value": v})[0]
    assert [value(s, i, "level", bright) for i in (1, 2, 3)] == [-0.5, 0.5, 1.5]
    assert [value(s, i, "zoom", bright) for i in (1, 2, 3)] == [120, 130, 100]
    s, report = run(s, bright, "set_value", {"to": 1, "setting": "zoom", "value": 100})  # against the group's
    assert value(s, 1, "zoom", bright) == 100 and report.did == "A: zoom 100 %"
    s = run(s, bright, "reset_value", {"to": [1, 2], "setting": "zoom"})[0]
    assert [value(s, i, "zoom", bright) for i in (1, 2)] == [120, 120]
    s = run(s, bright, "reset_value", {"to": group, "setting": "zoom"})[0]
    assert [value(s, i, "zoom", bright) for i in (1, 2, 3)] == [110, 110, 100] and s.pieces[1].settings == NONE
    plan = make_plan(s, bright)
    assert [x.layers[0].part.zoom for x in plan.pictures] == [110, 110, 100]
    assert [h.gain for h in plan.sounds] == pytest.approx([10 ** (x / 20) for x in (-0.5, 0.5, 1.5)])
    assert story_from_json(json.loads(json.dumps(story_to_json(s)))) == s


def test_every_use_of_a_recording_in_this_story_and_what_replaces_what_is_inherited() -> None:
    """Looks follow each other and levels add up from wide to near, from the nearest scope on that replaces what it
    inherits."""
    bright = SOURCES | {
        1: Source(1, "A", R, 2000, setup="x", settings=NONE.with_value("brightness", 0.5).with_value("zoom", 110))
    }

    def looks(s: Story) -> list[list[float]]:
        return [[dict(row)["brightness"] for row in run_.layers[0].look] for run_ in make_plan(s, bright).pictures]

    def edited(s: Story, name: str, **params: object) -> Story:
        return run(s, bright, name, params)[0]

    plain, s = three(), three()
    for to, v in (("story", 0.25), ("recording 1", 1.0), (1, -0.5)):
        s = edited(s, "set_value", to=to, setting="brightness", value=v)
    assert looks(s) == [[0.5, 0.25, 1.0, -0.5], [0.5, 0.25, 1.0], [0.25]]
    assert looks(edited(s, "set_value", to="recording 1", setting="look_alone", value=True)) == [
        [1.0, -0.5],
        [1.0],
        [0.25],
    ]
    assert looks(edited(s, "set_value", to=1, setting="look_alone", value=True)) == [[-0.5], [0.5, 0.25, 1.0], [0.25]]
    assert looks(edited(s, "set_value", to="story", setting="look_alone", value=True))[1:] == [[0.25, 1.0], [0.25]]
    filmed = edited(s, "as_filmed", items=[1, 2, 3])  # and that is what is seen: nothing inherited, no framing either
    assert make_plan(filmed, bright).pictures == make_plan(plain, SOURCES).pictures
    with pytest.raises(Refused, match="as they were filmed already"):
        edited(filmed, "as_filmed", items=[1, 2, 3])

    s = edited(plain, "set_value", to="recording 1", setting="level", value=-3)
    s = edited(
        edited(s, "set_value", to="story", setting="level", value=2), "set_value", to=1, setting="level", value=-1
    )
    assert [value(s, i, "level", bright) for i in (1, 2, 3)] == [-2, -1, 2]
    told = run(s, bright, "set_value", {"to": 1, "setting": "level_alone", "value": True})
    assert (value(told[0], 1, "level", bright), told[1].did) == (-1, "A: level -1.0 dB")
    assert (
        run(s, bright, "change_level", {"items": [2], "by": 1})[1].did
        == "A: 1 dB louder, now own +1.0 dB, total +0.0 dB"
    )
    assert json.loads(json.dumps(story_to_json(s)))["settings"]["recording 1"] == {"level": -3.0}


def test_settings_go_where_what_they_belong_to_goes() -> None:
    s = do(three(), "set_value", to=1, setting="level", value=-4)
    s = do(do(s, "split", at=40), "move", piece=2, before=1)
    assert [value(s, p.id, "level") for p in s.pieces] == [0.0, -4.0, -4.0, 0.0]
    s = do(s, "copy_values", source=1, to=[2, 3], settings=["level"])
    assert [value(s, p.id, "level") for p in s.pieces] == [-4.0] * 4
    line = [[100, -12.0], [150, 0.0]]  # on the recording's clock: it stays with the words, whatever is cut before them
    s = do(three(), "set_value", to=1, setting="level", value=line)
    (a, *_) = make_plan(s, SOURCES).sounds
    (b, *_) = make_plan(do(s, "trim", piece=1, edge="in", delta=25), SOURCES).sounds
    assert (a.line, b.line) == (((0, -12.0), (50 * 1920, 0.0)), ((-25 * 1920, -12.0), (25 * 1920, 0.0)))
    at = lambda h, n: ramped(np.ones(1, np.float32), n, h)[0]  # noqa: E731
    assert at(a, 40 * 1920) == pytest.approx(at(b, 15 * 1920)) == pytest.approx(10 ** (-12 / 5 / 20))


@pytest.mark.parametrize(
    ("params", "why"),
    [
        ({"to": 1, "setting": "shine", "value": 1}, "no setting called shine"),
        ({"to": 1, "setting": "zoom", "value": 24}, "set to 25 to 400 %"),
        ({"to": 1, "setting": "contrast", "value": 10.5}, "set to -100 to 100 %"),
        ({"to": 1, "setting": "level", "value": float("nan")}, "-60 to 12 dB"),
        ({"to": 1, "setting": "level", "value": [[5, 0.0], [5, 1.0]]}, "-60 to 12 dB"),
        ({"to": 1, "setting": "natural", "value": True}, "is set on covers"),
        ({"to": [], "setting": "zoom", "value": 110}, "Choose something"),
        ({"to": "story", "setting": "fade_in", "value": 5}, "not on the story"),
        ({"to": "group 9", "setting": "level", "value": 5}, "no group 9"),
        ({"to": 4, "setting": "span", "value": 5}, "by retiming it"),
        ({"to": 4, "setting": "natural", "value": True}, "no sound of its own"),
        ({"to": 99, "setting": "zoom", "value": 110}, "no longer in the story"),
        ({"to": 1, "setting": "zoom", "value": 100}, "like that already"),
    ],
)
def test_what_cannot_be_set_is_refused_in_words(params: dict, why: str) -> None:
    s = do(three(), "lay_cover", source=3, at=20, until=60, start=10)  # id 4, a shot without sound
    with pytest.raises(Refused, match=why):
        run(s, SOURCES, "set_value", params)


@given(st.lists(st.one_of(levels, lines), min_size=1, max_size=4), st.integers(-20, 520))
def test_levels_and_lines_add_up(values: list, moment: int) -> None:
    """Where scopes meet, the level at any moment of the sum's own kind is the sum of what each says there."""
    scopes = [Values((("level", v),)) for v in values]
    whole = value_over_scopes("level", scopes)
    one = lambda v: on_line(v, moment) if isinstance(v, tuple) else v  # noqa: E731
    moments = {m for v in values if isinstance(v, tuple) for m, _ in v}
    assert moments or one(whole) == pytest.approx(sum(map(one, values)), abs=1e-6)
    for m in moments:  # at every moment that any of them names
        said = sum(on_line(v, m) if isinstance(v, tuple) else v for v in values)
        assert isinstance(whole, tuple) and dict(whole)[m] == pytest.approx(said, abs=1e-6)
    if isinstance(whole, tuple):  # between them it is straight, as the sum of straight lines is
        for (a, x), (b, y) in pairwise(whole):
            if a < moment < b:
                assert one(whole) == pytest.approx(x + (y - x) * (moment - a) / (b - a), abs=1e-6)
                assert one(whole) == pytest.approx(sum(map(one, values)), abs=1e-6)


@given(
    st.sampled_from(sorted(SETTINGS)),
    st.one_of(st.booleans(), st.integers(-99, 400), levels, lines, st.text(max_size=4)),
)
def test_only_values_of_their_kind_are_kept(name: str, v: object) -> None:
    kept = SETTINGS[name].as_kept(v)
    if kept is None:
        with pytest.raises(ValueError, match=name):
            Values.from_json({name: v})
        return
    own = NONE.with_value(name, kept)
    assert own[name] == kept and Values.from_json(json.loads(json.dumps(own.to_json()))) == own
    assert own.without(name) == NONE and (name in own) == (kept != SETTINGS[name].default)


@given(st.integers(1, 40), st.integers(0, 39), st.integers(0, 60))
def test_opacity_goes_straight_and_runs_on(n: int, k: int, later: int) -> None:
    """A dissolve of n frames rises from 1/(n+1) to n/(n+1); a part of a run shows what the whole shows there."""
    up, down = Opacity.rising(n), Opacity.falling(n)
    if k < n:
        assert up.at(k) == pytest.approx((k + 1) / (n + 1)) and down.at(k) == pytest.approx(1 - up.at(k))
    assert up.later(later).at(k) == up.at(k + later) and down.later(later).at(k) == down.at(k + later)
    layer = Layer(make_plan(three(), SOURCES).pictures[0].image, up, place=Place(0.5, 0, 0.5, 0.5))
    again, steps, *_ = Layer.from_json(json.loads(json.dumps(layer.to_json({}))))
    assert (again.opacity, again.place, again.part) == (up, layer.place, layer.part) and steps == (100, 1, 1)


def test_a_gain_line_is_straight_in_decibels() -> None:
    """-20 dB is a tenth of the amplitude, half-way in dB its root (definition of the decibel, IEC 60027-3)."""
    h = Heard(0, 1000, 1, 0, gain=0.5, rise=1, fall=1, line=((100, -20.0), (300, 0.0)))
    y = ramped(np.ones(1000, np.float32), 0, h)
    assert y[[50, 100, 200, 300, 900]] == pytest.approx([0.05, 0.05, 0.5 / 10**0.5, 0.5, 0.5], rel=1e-6)


def test_long_ramps_are_quarter_sines_and_short_ones_straight() -> None:
    """Equal power: -3.01 dB in the middle (common practice); up to 4 ms, or if told so, straight. Anywhere in the
    story alike."""
    for at in (0, 7000):
        y = ramped(np.ones(4000, np.float32), 0, Heard(at, at + 4000, 1, 0, rise=1000, fall=2000))
        assert y[[0, 500, 1000, 1999, 3000]] == pytest.approx([0, 0.5**0.5, 1, 1, 0.5**0.5], abs=2e-3)
        y = ramped(np.ones((4000, 2), np.float32), 0, Heard(at, at + 4000, 1, 0, rise=1000, fall=2000, straight=True))
        assert y[[0, 500, 1000, 1999, 3000]].T.tolist() == [pytest.approx([0, 0.5, 1, 1, 0.5], abs=2e-3)] * 2
    y = ramped(
        np.ones(1000, np.float32), 1000, Heard(0, 2000, 1, 0)
    )  # its second half: up to the end of 192 samples down
    assert y[[0, 807, 808, 904]] == pytest.approx([1, 1, 1, 0.5]) and y[-1] == pytest.approx(1 / 192)


def test_through_a_see_through_cover_one_sees_what_lies_under_it() -> None:
    """A at 100 % | B: a cover over their seam at 40 %, a second one over part of it: stacks from what hides the rest
    up."""
    s = do(
        do(three(), "lay_cover", source=3, at=80, until=120, start=0), "lay_cover", source=4, at=110, until=130, start=9
    )
    assert seams(s, SOURCES)[0].kind == "covered"
    s = do(s, "set_value", to=s.covers[0].id, setting="opacity", value=40)
    seen = [
        (r.at, r.end, [(x.image.source, x.opacity.at(0)) for x in r.layers]) for r in make_plan(s, SOURCES).pictures
    ]
    assert seen[:5] == [
        (0, 80, [(1, 1)]),
        (80, 100, [(1, 1), (3, 0.4)]),
        (100, 110, [(1, 1), (3, 0.4)]),
        (110, 130, [(4, 1)]),
        (130, 160, [(1, 1)]),
    ]
    assert seams(s, SOURCES)[0].kind == "jump"  # it hides nothing
    page = lined(s, SOURCES, lambda *_: [], 50, 50, (0, 240))
    assert [(x.a, x.b) for x in page.stretches if not x.seen] == [(110, 130)]  # nor the speaker
    s = do(s, "set_value", to=s.covers[1].id, setting="opacity", value=50)
    t = make_plan(s, SOURCES).picture_at(115)
    assert [(x.image.source, x.opacity.at(0)) for x in t.layers] == [
        (1, 1),
        (3, 0.4),
        (4, 0.5),
    ] and t.cover == s.covers[1].id


@pytest.mark.parametrize(
    ("name", "given", "kept"),
    [
        ("level", -60, -60.0),
        ("level", -60.1, None),
        ("level", 12, 12.0),
        ("level", 12.1, None),
        ("level", -6.04, -6.0),
        ("level", True, None),
        ("level", [[0, -3], [1, 2.5]], ((0, -3.0), (1, 2.5))),
        ("level", [[1, -3], [1, 2]], None),
        ("level", [[0, 12.1]], None),
        ("level", [[0, -60.1]], None),
        ("level", [[0.5, 1]], None),
        ("level", [[0, 1, 2]], None),
        ("level", [], None),
        ("level", [7], None),
        ("level", [[k, 0] for k in range(MOMENTS)], tuple((k, 0.0) for k in range(MOMENTS))),
        ("level", [[k, 0] for k in range(MOMENTS + 1)], None),
        ("duck", -6, None),
        ("duck", [[0, -6]], ((0, -6.0),)),
        ("appear", 3.0, 3),
        ("appear", 3.5, None),
        ("appear", -1, None),
        ("mute", 1, None),
        ("colour", "#AbCdEf", "#abcdef"),
        ("colour", "#abcde", None),
        ("colour", "abcdef", None),
        ("font", "x" * 80, "x" * 80),
        ("font", "x" * 81, None),
        ("font", "a\n", None),
        ("font", 3, None),
        ("fit", "filled", "filled"),
        ("fit", "Filled", None),
        ("text", " two  words / a line \n\n", "two words\na line"),
        ("text", "x" * 2000, "x" * 2000),
        ("text", "x" * 2001, None),
        ("text", "bell\a", None),
    ],
)
def test_what_is_kept_of_a_value(name: str, given: object, kept: object) -> None:
    """At the bounds of the catalogue: kinds, ranges, steps, lines. Common practice, no source."""
    assert SETTINGS[name].as_kept(given) == kept


def test_values_are_said() -> None:
    rows = (
        ("zoom", 125.0, "125 %"),
        ("level", -6.0, "-6.0 dB"),
        ("level", 2.0, "+2.0 dB"),
        ("brightness", 0.5, "+0.5 stops"),
        ("mute", True, "on"),
        ("mute", False, "off"),
        ("text", "a\nb", "“a / b”"),
        ("table", "", "none"),
        ("fit", "whole", "whole"),
        ("level", ((0, 1.0),), "a line of 1 moment"),
        ("level", ((0, 1.0), (4, 0.0)), "a line of 2 moments"),
        ("duck", (), "none"),
    )
    assert [SETTINGS[n].says(v) for n, v, _ in rows] == [told for _, _, told in rows]
    asked = {
        "mute": "on or off",
        "text": "a text of up to 2000 letters",
        "colour": "a colour like #f4eee2",
        "font": "the name of a font, or nothing",
        "fade": "one of: equal power, straight",
        "zoom": "25 to 400 %",
        "level": "-60 to 12 dB",
    }
    assert {n: SETTINGS[n].between for n in asked} == asked


def test_a_line_between_and_beyond_its_moments() -> None:
    line = ((10, 0.0), (20, 10.0), (40, -10.0))
    assert [on_line(line, m) for m in (-5, 9, 10, 11, 15, 19, 20, 21, 30, 39, 40, 41, 900)] == [
        0,
        0,
        0,
        1,
        5,
        9,
        10,
        9,
        0,
        -9,
        -10,
        -10,
        -10,
    ]
    assert (
        added([2.0, line, ((15, 1.0),)]) == ((10, 3.0), (15, 8.0), (20, 13.0), (40, -7.0))
        and added([1.0, -3.0]) == -2.0
    )


def test_pages_read_the_ranges_that_edits_hold_to() -> None:
    """What a page takes a dragged value for is what the edit takes, and a step more is refused."""
    for name in ("level", "zoom", "across"):
        own = ranges()[name]
        for value, more in ((own["low"], -own["step"]), (own["high"], own["step"])):
            assert SETTINGS[name].as_kept(value) == value and SETTINGS[name].as_kept(value + more) is None
    assert "font" not in ranges() and ranges()["dips"]["low"] == -24
