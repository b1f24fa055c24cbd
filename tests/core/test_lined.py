"""The lined page says what the plan shows: who is seen, who is only heard, which words stand where; whole or in
part."""

import random
from collections.abc import Sequence

import pytest

from kovel.core.plan.plan import make_plan
from kovel.core.story.lined_page import LinedPage, lined
from kovel.core.story.model import Refused, Story
from kovel.core.words.transcript import Word
from tests.core.stories import EMPTY, SOURCES, R, do

ROW = 50.0  # frames: two seconds a line


def said(source: int, start: int, length: int) -> Sequence[Word]:
    """A word each half second of every recording: word 7 of recording 2 is `2-7`, from 3.5 s on."""
    a, b = R.frame_to_sample(start), R.frame_to_sample(start + length)
    found = [Word(f"{source}-{i}", i * 24_000, i * 24_000 + 20_000, f"S{source}") for i in range(200)]
    return [w for w in found if w.end > a and w.start < b]


def some_story(r: random.Random) -> Story:
    s = EMPTY
    for _ in range(r.randint(3, 9)):
        s = do(s, "add_at_end", source=r.choice([1, 1, 2, 4, 6, 7]), start=r.randint(0, 200), length=r.randint(10, 160))
    for _ in range(r.randint(0, 8)):
        n = s.length
        asks = [
            (
                "lay_cover",
                {
                    "source": r.choice([3, 5]),
                    "at": (a := r.randint(0, n - 12)),
                    "until": a + r.randint(5, 60),
                    "start": 0,
                },
            ),
            ("insert_space", {"at": r.randint(0, n), "length": 20}),
            ("lift", {"a": (a := r.randint(0, n - 20)), "b": a + 9}),
            (
                "place",
                {"what": "insert", "source": 1, "at": r.randint(0, n), "start": 900, "length": 30, "take": "sound"},
            ),
            ("set_muted", {"lane": f"cover {r.randint(1, 2)}", "muted": r.random() < 0.5}),
            ("split", {"at": r.randint(1, n - 1)}),
        ]
        try:
            s = do(s, *(x := r.choice(asks))[:1], **x[1])
        except (Refused, TypeError):
            continue
    return s


def at_frame(page: LinedPage, frame: int) -> list[tuple[int, bool]]:
    return [(x.column, x.seen) for x in page.stretches if x.a <= frame < x.b]


@pytest.mark.parametrize("seed", range(40))
def test_lines_are_straight_where_seen_and_wavy_where_only_heard(seed: int) -> None:
    s = some_story(random.Random(seed))
    page, plan = lined(s, SOURCES, said, ROW, 50), make_plan(s, SOURCES)
    setup = {i: x.setup or str(i) for i, x in SOURCES.items()}
    order = list(dict.fromkeys(setup[p.source] for p in s.pieces if p.source))
    assert len(page.columns) == len(order)  # a line for each camera position, in the order they come
    for t in range(s.length):
        p, shown = s.pieces[s.index_at(t)], plan.picture_at(t)
        want = [(order.index(setup[p.source]), shown.cover is None and shown.source == p.source)] if p.source else []
        assert at_frame(page, t) == want, (t, p)


@pytest.mark.parametrize("seed", range(40))
def test_a_part_of_the_page_is_that_part_of_the_whole(seed: int) -> None:
    """Every word heard stands once, in order, in no earlier line than its time; any view shows what the whole page
    does."""
    r = random.Random(seed)
    s = some_story(r)
    whole = lined(s, SOURCES, said, ROW, 50)
    assert [b.piece for b in whole.blocks] == list(s.pieces) and [b.at for b in whole.blocks] == list(s.starts[:-1])
    for b in whole.blocks:
        a, z = (R.frame_to_sample(f) for f in (b.piece.start, b.piece.end))
        heard = said(b.piece.source, b.piece.start, b.piece.length) if b.piece.source else []
        set_in = [(line.top, f, w) for line in b.lines for f, w in line.words]
        assert [w for _, _, w in set_in] == [w for w in heard if a <= (w.start + w.end) // 2 < z]
        last = max(1, int(b.piece.length / ROW + 0.3)) - 1
        for top, f, w in set_in:
            assert f == max(b.piece.start, w.frames(R)[0]) and min(int((f - b.piece.start) / ROW), last) <= top <= last
    lo = r.randint(0, s.length)
    hi = r.randint(lo, s.length)
    part = lined(s, SOURCES, said, ROW, 50, (lo, hi))
    assert part.columns == whole.columns and part.seams == whole.seams and part.lanes == whole.lanes
    assert all(at_frame(part, t) == at_frame(whole, t) for t in range(lo, hi))
    near = lambda a, b: a < hi and b > lo  # noqa: E731
    assert [b.piece for b in part.blocks if near(b.at, b.at + b.piece.length)] == [
        b.piece for b in whole.blocks if near(b.at, b.at + b.piece.length)
    ]
    assert [x for x in part.covers if near(*x[:2])] == [x for x in whole.covers if near(*x[:2])]
