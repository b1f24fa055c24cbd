"""Random edits by a state machine: what must always hold, after each of them (DESIGN.md, Edits)."""

import os
from itertools import pairwise

import numpy as np
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from kovel.core.commands import run
from kovel.core.patch import Patch, story_from_json, story_to_json
from kovel.core.plan import make_plan, ramped
from kovel.core.rate import frame_shown
from kovel.core.story import Refused
from tests.core.stories import EMPTY, SOURCES, R

small = st.integers(-60, 60)
frame = st.integers(0, 400)
source = st.sampled_from(list(SOURCES))
edge = st.sampled_from(["in", "out"])


class Editing(RuleBasedStateMachine):
    def __init__(self) -> None:
        super().__init__()
        self.story = EMPTY
        self.done: list[Patch] = []
        self.undone: list[Patch] = []
        self.log: list[tuple[str, dict]] = []

    def do(self, name: str, **params: object) -> None:
        before = self.story
        try:
            after, report = run(before, SOURCES, name, params)
        except Refused as e:
            assert str(e).endswith(".") and self.story is before
            return
        self.log.append((name, params))
        patch = Patch.from_json(Patch.between(before, after).to_json())
        assert patch.apply(before) == after and patch.inverse().apply(after) == before, self.log
        self.check_tethers(before, after, name)
        assert set(report.loosened) <= {c.id for c in after.loose}
        self.story = after
        self.done.append(patch)
        self.undone.clear()

    def check_tethers(self, before: object, after: object, name: str) -> None:
        """A cover that stays in place starts on the same source frame of its word, unless the edit was about that cover."""
        if name in ("trim_cover", "move_cover"):
            return
        old = {c.id: c for c in before.covers}  # type: ignore[attr-defined]
        for c in after.covers:  # type: ignore[attr-defined]
            if c.id in old:
                a, b = before.piece(old[c.id].tether.piece), after.piece(c.tether.piece)  # type: ignore[attr-defined]
                assert (a.source, old[c.id].tether.moment) == (b.source, c.tether.moment), self.log

    def a_piece(self, i: int) -> int:
        return self.story.pieces[i % len(self.story.pieces)].id if self.story.pieces else 0

    def a_cover(self, i: int) -> int:
        rows = (*self.story.covers, *self.story.loose)
        return rows[i % len(rows)].id if rows else 0

    @rule(s=source, start=frame, n=st.integers(0, 120))
    def add(self, s: int, start: int, n: int) -> None:
        self.do("add_at_end", source=s, start=start, length=n)

    @rule(name=st.sampled_from(["insert", "overwrite"]), at=frame, s=source, start=frame, n=st.integers(0, 90))
    def put(self, name: str, at: int, s: int, start: int, n: int) -> None:
        self.do(name, at=at, source=s, start=start, length=n)

    @rule(at=frame, rows=st.lists(st.tuples(source, frame, st.integers(0, 60)), max_size=3))
    def put_several(self, at: int, rows: list[tuple[int, int, int]]) -> None:
        self.do("insert_several", at=at, ranges=[list(r) for r in rows])

    @rule(edges=st.lists(frame, max_size=8))
    def take_several(self, edges: list[int]) -> None:
        """What is left is what a plain list of frames has left."""
        e = sorted(edges)[: len(edges) // 2 * 2]
        cuts = [[a, b] for a, b in zip(e[::2], e[1::2], strict=True)]
        said = lambda s: [(p.source, p.start + k) for p in s.pieces for k in range(p.length)]  # noqa: E731
        was, before = said(self.story), self.story
        self.do("take_out", cuts=cuts)
        if self.story is not before:
            gone = {f for a, b in cuts for f in range(a, b)}
            assert said(self.story) == [x for t, x in enumerate(was) if t not in gone]

    @rule(i=frame)
    def open_again(self, i: int) -> None:
        self.do("open_again", piece=self.a_piece(i))

    @rule(name=st.sampled_from(["lift", "extract"]), a=frame, n=small)
    def take(self, name: str, a: int, n: int) -> None:
        self.do(name, a=a, b=a + n)

    @rule(at=frame, n=st.integers(0, 40))
    def space(self, at: int, n: int) -> None:
        self.do("insert_space", at=at, length=n)

    @rule(at=frame)
    def split(self, at: int) -> None:
        self.do("split", at=at)

    @rule(i=frame, e=edge, d=small)
    def trim(self, i: int, e: str, d: int) -> None:
        self.do("trim", piece=self.a_piece(i), edge=e, delta=d)

    @rule(i=frame, j=frame, last=st.booleans())
    def move(self, i: int, j: int, last: bool) -> None:
        self.do("move", piece=self.a_piece(i), before=None if last else self.a_piece(j))

    @rule(i=frame, j=frame)
    def swap(self, i: int, j: int) -> None:
        self.do("swap", first=self.a_piece(i), second=self.a_piece(j))

    @rule(
        s=source,
        at=st.none() | frame,
        until=st.none() | frame,
        a=st.none() | frame,
        b=st.none() | frame,
        lane=st.none() | st.integers(1, 3),
    )
    def lay(self, s: int, at: int | None, until: int | None, a: int | None, b: int | None, lane: int | None) -> None:
        self.do("lay_cover", source=s, at=at, until=until, start=a, end=b, lane=lane)

    @rule(i=frame, e=edge, d=small)
    def trim_cover(self, i: int, e: str, d: int) -> None:
        self.do("trim_cover", cover=self.a_cover(i), edge=e, delta=d)

    @rule(i=frame, at=frame, lane=st.none() | st.integers(1, 3))
    def move_cover(self, i: int, at: int, lane: int | None) -> None:
        self.do("move_cover", cover=self.a_cover(i), at=at, lane=lane)

    @rule(i=frame)
    def remove_cover(self, i: int) -> None:
        self.do("remove_cover", cover=self.a_cover(i))

    @rule(lane=st.sampled_from(["dialogue", "cover 1", "cover 2"]), on=st.booleans())
    def lock(self, lane: str, on: bool) -> None:
        self.do("set_lock", lane=lane, locked=on)
        if on and lane == "dialogue":  # or nothing would happen for the rest of the run
            self.do("set_lock", lane=lane, locked=False)

    @rule(n=st.integers(1, 6))
    def undo(self, n: int) -> None:
        for _ in range(min(n, len(self.done))):
            p = self.done.pop()
            self.story = p.inverse().apply(self.story)
            self.undone.append(p)

    @rule(n=st.integers(1, 6))
    def redo(self, n: int) -> None:
        for _ in range(min(n, len(self.undone))):
            p = self.undone.pop()
            self.story = p.apply(self.story)
            self.done.append(p)

    @invariant()
    def sound(self) -> None:
        s = self.story
        assert story_from_json(story_to_json(s)) == s
        assert s.length == sum(p.length for p in s.pieces) and all(p.length > 0 for p in s.pieces)
        ids = [x.id for x in (*s.pieces, *s.covers, *s.loose)]
        assert len(ids) == len(set(ids)) and all(i < s.next_id for i in ids)
        for x in (*s.pieces, *s.covers, *s.loose):
            total = SOURCES[x.source].length(R) if x.source is not None else None
            assert x.source is None or (x.start >= 0 and (total is None or x.start + x.length <= total)), self.log
        lanes: dict[int, list[tuple[int, int]]] = {}
        for a, b, c in s.spans:
            assert 0 <= a < s.length
            lanes.setdefault(c.lane, []).append((a, b))
        for spans in lanes.values():
            spans.sort()
            assert all(x[1] <= y[0] for x, y in pairwise(spans)), self.log
        assert all(s.at_of(c.tether) is None for c in s.loose)

    @invariant()
    def plan_is_the_story(self) -> None:
        """Frame by frame against the plainest possible reading; lip-sync error 0 samples."""
        s, plan = self.story, make_plan(self.story, SOURCES)
        assert [p.at for p in plan.pictures] == [0, *(p.end for p in plan.pictures)][: len(plan.pictures)]
        assert (plan.pictures[-1].end if plan.pictures else 0) == s.length == plan.length
        spans = list(s.spans)
        for t in range(0, s.length, 7):
            i = s.index_at(t)
            p = s.pieces[i]
            over = [(c.lane, a, c) for a, b, c in spans if a <= t < b]
            if over:
                _, a, c = max(over, key=lambda r: r[0])
                want = (c.source, frame_shown(c.start + t - a, R, SOURCES[c.source].rate) if SOURCES[c.source].frames else 0)
            elif p.source is None or not SOURCES[p.source].picture:
                want = None
            else:
                want = (
                    p.source,
                    frame_shown(p.start + t - s.starts[i], R, SOURCES[p.source].rate) if SOURCES[p.source].frames else 0,
                )
            got = plan.recording_frame(t, SOURCES)
            assert (got if got is None or SOURCES[got[0]].frames else (got[0], 0)) == want, self.log
            sample = R.frame_to_sample(t)
            heard = next((h for h in plan.sounds if h.at <= sample < h.end), None)
            if p.source is not None and SOURCES[p.source].sound:
                assert (
                    heard
                    and heard.source == p.source
                    and heard.start + sample - heard.at == R.frame_to_sample(p.start + t - s.starts[i])
                )
            else:
                assert heard is None


TestEditing = Editing.TestCase
TestEditing.settings = settings(
    max_examples=int(os.environ.get("KOVEL_EXAMPLES", "25")),
    stateful_step_count=40,
    deadline=None,
    suppress_health_check=list(HealthCheck),
)


def test_ramps_meet_at_a_join_without_a_click() -> None:
    """A constant split in two runs: every step between neighbouring samples is at most one ramp step; 4 ms = 192 samples."""
    n = 1920
    whole = np.concatenate([ramped(np.ones(n, np.float32), 0, n), ramped(np.ones(n, np.float32), 0, n)])
    assert np.abs(np.diff(whole)).max() <= 1 / 192 + 1e-6 and whole[0] == 0 and whole[192] == 1 and whole[n - 193] == 1
    assert np.array_equal(ramped(np.ones(500, np.float32), 700, n), ramped(np.ones(n, np.float32), 0, n)[700:1200])
