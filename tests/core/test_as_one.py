"""Layers put together: groups that are seen as one picture, letters filled with the cover below. No published
source: what the plan promises, held against the plan without it."""

from random import Random

import pytest

from kovel.core.checks.picture_checks import picture_checks
from kovel.core.plan.layers import Layer, Opacity, flat
from kovel.core.plan.plan import make_plan
from kovel.core.story.model import Refused, Story
from tests.core.stories import SOURCES, do, three


def grouped() -> Story:
    """| A 100-200 | A 300-360 | B 0-80 |, the first two a group, a cover tied to the second and one to the third, dissolves."""
    s = do(three(), "lay_cover", source=3, at=120, until=150, start=10)
    s = do(s, "lay_cover", source=4, at=170, until=220, start=0)
    s = do(do(s, "set_group", ids=[1, 2]), "set_blend", piece=2, blend="dissolve", length=12)
    return do(s, "set_blend", piece=3, blend="dip", length=10)


def stack(s: Story, t: int) -> tuple[Layer, ...]:
    r = make_plan(s, SOURCES).picture_at(t)
    return tuple(x.later(t - r.at) for x in r.layers)


def test_the_group_has_what_is_set_on_it_as_a_whole() -> None:
    s = grouped()
    group = f"group {s.pieces[0].group}"
    for setting, value in (("brightness", 0.5), ("zoom", 120), ("place", "left half"), ("opacity", 60)):
        s = do(s, "set_value", to=group, setting=setting, value=value)
    s = do(s, "set_value", to=1, setting="brightness", value=0.2)
    assert [x.look for x in stack(s, 50)] == [((("brightness", 0.5),), (("brightness", 0.2),))]  # piece by piece
    assert s.value(s.pieces[0], "zoom", SOURCES) == 120
    s = do(s, "set_as_one", piece=2)
    assert s.value(s.pieces[0], "zoom", SOURCES) == 100
    (one,) = stack(s, 50)
    assert (one.look, one.part.zoom, one.place.w, one.opacity.at(0)) == (((("brightness", 0.5),),), 120, 0.5, 0.6)
    (inner,) = one.image.stack
    assert (inner.look, inner.part.zoom, inner.place.w) == (((("brightness", 0.2),),), 100, 1.0)
    (one,) = stack(s, 100)  # the dissolve within it is put together first
    assert [x.image.source for x in one.image.stack] == [1, 1] and one.image.stack[1].opacity != Opacity()
    (one,) = stack(s, 130)  # and so is what is tied to it
    assert [x.image.source for x in flat([one])] == [3]
    (one,) = stack(s, 157)  # out of the group by way of black, on top of its own opacity
    assert one.image.group and 0 < one.opacity.at(0) < 0.6
    assert [x.image.source for x in stack(s, 180)] == [4]
    assert [x.look for x in flat(stack(s, 50))] == [
        ((("brightness", 0.2),), (("brightness", 0.5),))
    ]  # its own, then the whole's
    none = lambda *_: (0.0, 0.0)  # noqa: E731
    found = picture_checks(
        do(s, "set_value", to=group, setting="zoom", value=80), SOURCES, 16 / 9, none, lambda c: None
    )
    assert [f.text for f in found if f.kind == "edges"] == [
        "The edges of what is seen as one picture are seen at 0:00+00: shown at 80 %"
    ]
    with pytest.raises(Refused, match="in no group"):
        do(s, "set_as_one", piece=3)
    sounds = do(
        do(three(), "lay_sound", source=6, at=0, until=50, start=0, kind="effect"),
        "lay_sound",
        source=6,
        at=60,
        until=90,
        start=0,
        kind="effect",
    )
    sounds = do(sounds, "set_group", ids=[x.id for x in sounds.sounds])
    with pytest.raises(Refused, match="None of that group has a picture"):
        do(sounds, "set_value", to=f"group {sounds.sounds[0].group}", setting="as_one", value=True)


@pytest.mark.parametrize("seed", range(30))
def test_nothing_set_on_it_changes_nothing(seed: int) -> None:
    """Put together without a look, a framing or an opacity it shows the same, frame by frame, and lanes stay in
    their order; but where the group dissolves into another piece it does so with its covers."""
    r, s = Random(seed), three()
    for _ in range(r.randint(1, 4)):
        at = r.randint(0, 200)
        s = do(
            s,
            "lay_cover",
            source=r.choice([3, 4]),
            at=at,
            until=min(240, at + r.randint(5, 60)),
            start=0,
            lane=r.choice([1, 2, 3]),
        )
    for c in s.covers:
        s = do(s, "set_value", to=c.id, setting="opacity", value=50) if r.random() < 0.6 else s
    s = do(s, "set_blend", piece=2, blend=r.choice(["dissolve", "dip"]), length=12) if r.random() < 0.5 else s
    s = do(s, "set_group", ids=r.choice([[1, 2], [2, 3], [1, 2, 3]]))
    one = do(s, "set_as_one", piece=2)
    plain, put = make_plan(s, SOURCES), make_plan(one, SOURCES)
    assert any(x.image.stack for q in put.pictures for x in q.layers)
    for t in range(0, s.length, 3):
        a, b = plain.picture_at(t), put.picture_at(t)
        if any(x.image.group and x.opacity.at(t - b.at) < 1 for x in b.layers) and b.cover:
            continue
        want = [(x.image.later(t - a.at), x.opacity.at(t - a.at)) for x in a.layers]
        got = []
        for x in b.layers:
            share = x.opacity.at(t - b.at)
            got += [
                (y.image.later(t - b.at), y.opacity.at(t - b.at) * (share if len(x.image.stack) == 1 else 1))
                for y in flat([x])
            ]
        assert got == want, t


def test_letters_are_filled_with_the_cover_below() -> None:
    """It is seen in the letters alone while the title is there, and as it was before and after; without one they
    have their colour, and the checks say so."""
    s = do(three(), "lay_cover", source=3, at=100, until=160, start=10)
    s = do(s, "lay_title", text="RIVER", at=120, length=20)
    title = next(c for c in s.covers if c.title)
    s = do(
        do(s, "set_value", to=title.id, setting="appear", value=5),
        "set_value",
        to=title.id,
        setting="filled",
        value="the cover below",
    )
    assert [x.image.source for x in stack(s, 110)] == [3] and [x.image.source for x in stack(s, 145)] == [3]
    below, letters, filled = stack(s, 130)
    assert below.image.source == 1 and letters.image.title and [x.image.source for x in filled.image.stack] == [3]
    assert filled.image.cut and filled.image.cut.image.title and filled.opacity == letters.opacity and not filled.plain
    drawn = dict(filled.image.cut.image.title.rows)
    assert (drawn["text"], drawn["box"], drawn["edge"]) == ("RIVER", 0, 0.0) and "filled" not in drawn
    assert stack(s, 121)[2].opacity.at(0) == stack(s, 121)[1].opacity.at(0) < 1
    plan = make_plan(s, SOURCES)
    assert plan.seen == {1, 2, 3} and Layer.from_json(filled.to_json({})).cut == filled.image.cut
    none = lambda *_: (0.0, 0.0)  # noqa: E731
    told = lambda s: [f.text for f in picture_checks(s, SOURCES, 16 / 9, none, lambda c: None) if f.kind == "unfilled"]  # noqa: E731
    assert told(s) == []
    assert "could fill its letters" in told(do(s, "set_muted", lane=f"cover {s.covers[0].lane}", muted=True))[0]
    s = do(s, "remove_cover", cover=s.covers[0].id if not s.covers[0].title else s.covers[1].id)
    assert len(stack(s, 130)) == 2 and "could fill its letters" in told(s)[0]
