"""The film strip's view: where blocks lie, how many small frames they have, what is told of them."""

from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from kovel.web.rooms.picture.film_strip import WIDE, film
from kovel.web.rooms.picture.pace_line import Pace, pace_of
from kovel.web.small_frames import Face
from tests.core.stories import SOURCES, R, do, three

FACE = Face("/media/1/small-0-0.jpg", 160, 90)


def laid():
    s = do(three(), "lay_cover", source=3, at=120, until=180, start=10)
    s = do(s, "lay_cover", source=4, at=130, until=170, start=0, lane=3)
    return do(s, "lay_title", at=10, text="Maren / ferrywoman", how="lower third", length=60)


@given(st.floats(0.02, 40))
def test_blocks_lie_at_their_time_and_never_on_each_other(px: float) -> None:
    s = laid()
    f = film(s, SOURCES, px, lambda source, frame: FACE)
    assert [r.lane for r in f.rows] == ["cover 3", "cover 1", "dialogue"] and f.width == round(s.length * px) + 1
    assert {x.id for r in f.rows for x in r.shots} == {x.id for x in (*s.pieces, *s.covers)}
    for r in f.rows:
        for x, y in zip(r.shots, r.shots[1:], strict=False):
            assert x.at + x.length <= y.at and (x.left + x.width <= y.left or x.width == 2)
        for x in r.shots:
            assert x.left == round(x.at * px) and x.width >= 2
            if x.kind != "title" and x.width > 6:  # small frames fill it, none begins behind its end
                assert len(x.faces) == -(-(x.width + 1) // WIDE) and all(k < x.width + 1 for k, _ in x.faces)
    assert all(0 <= x <= f.width for x, _ in f.ticks) and f.ticks[0] == (0, "0:00")
    assert all(b[0] - a[0] >= 69 for a, b in zip(f.ticks, f.ticks[1:], strict=False))


def test_small_frames_are_those_of_the_moment() -> None:
    asked: list[tuple[int, int]] = []

    def face(source: int, frame: int) -> None:
        asked.append((source, frame))

    film(three(), SOURCES, 1.0, face)
    first = three().pieces[0]
    assert asked[0] == (1, first.start) and asked[1] == (1, first.start + WIDE)


def test_what_is_set_is_told() -> None:
    s = do(do(laid(), "push", items=[1], last=112), "set_value", to=1, setting="warmth", value=10)
    f = film(s, SOURCES, 2.0, lambda source, frame: None)
    shots = {x.id: x for r in f.rows for x in r.shots}
    assert shots[1].marks == "framed, look" and "warmth 10 %" in shots[1].tells and not shots[2].marks
    title = next(x for x in shots.values() if x.kind == "title")
    assert title.name == "Maren / ferrywoman" and title.marks == "comes, goes" and not title.faces
    assert film(do(s, "extract", a=0, b=s.length - 1), SOURCES, 1.0, lambda source, frame: None).rows[-1].shots


def test_a_speed_is_drawn_over_its_shot() -> None:
    """Its moments where they are on the shot and how fast; the line between them runs at the speed that is shown
    there."""
    s = do(three(), "lay_cover", source=3, at=120, until=180, start=10)
    (c,) = s.covers
    flat = pace_of(c, s, SOURCES, R)
    assert flat and not flat.moments and flat.percent == "100" and len({y for _, y in drawn(flat)}) == 1
    s = do(s, "set_ramp", item=4, line=[[10, 100], [40, 400], [70, 100]])
    (c,) = s.covers
    p = pace_of(c, s, SOURCES, R)
    assert p and (p.begin, p.end) == (10, 70) and [m.at for m in p.moments] == [10, 40, 70]
    assert [m.left for m in p.moments] == [0, 50, 100] and p.moments[0].top == p.moments[2].top > p.moments[1].top
    ramp, line = c.ramp, drawn(p)
    assert ramp and line == sorted(line)
    for x, y in line:
        m = p.begin + x * (p.end - p.begin) / 1000
        if 10 < m < 69:  # how much of the shot goes by in a thousandth of a frame about that moment
            t = ramp.time(Fraction(round(m)))
            shown = float(ramp.moment(t + Fraction(1, 2000)) - ramp.moment(t - Fraction(1, 2000))) * 1e5
            assert abs(10 * 100 ** (1 - y / 300) - shown) < 0.005 * shown, (m, shown)
    in_steps = do(s, "set_ramp", item=4, steps=True)
    stepped = pace_of(in_steps.covers[0], in_steps, SOURCES, R)
    assert stepped and {round(10 * 100 ** (1 - y / 300)) for _, y in drawn(stepped)} == {100, 400}
    piece = do(s, "set_ramp", item=1, line=[[100, 100], [150, 400], [200, 100]])
    p = pace_of(piece.pieces[0], piece, SOURCES, R)
    assert (
        p
        and (p.begin, p.end, p.heard, p.between) == (100, 200, "pitch kept", None)
        and [m.left for m in p.moments] == [0, 50, 100]
    )
    slow = do(piece, "set_speed", item=1, percent=50)
    p = pace_of(slow.pieces[0], slow, SOURCES, R)
    assert p and (p.percent, p.length, p.between) == ("50", "0:08+00", "repeated") and not p.moments
    held = do(s, "hold_frame", item=1, at=0, length=9)
    assert [pace_of(x, s, SOURCES, R) is None for x in (held.pieces[0], *laid().covers)] == [
        True,
        *(not c.source for c in laid().covers),
    ]


def drawn(p: Pace) -> list[tuple[float, float]]:
    return [(float(x), float(y)) for x, y in (m.split(",") for m in p.path.split())]
