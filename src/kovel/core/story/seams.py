"""Seams: the joins between neighbouring pieces, and what kind each is."""

from __future__ import annotations

from dataclasses import dataclass

from kovel.core.story.model import Piece, Sources, Story

PUNCH = 1.2  # from this change of size on a jump is taken for another framing (common practice, no source)
SPARE = 3  # frames by which a cover must overlap a join on each side to hide it (common practice, no source)


@dataclass(frozen=True, slots=True)
class Seam:
    """The join at story frame `at` between pieces `left` and `right`.

    kind: `jump` (same camera setup on both sides, seen), `covered` (a cover hides it with frames to spare), `soft` (a
    dissolve, a dip or a punch-in takes the jolt out), `clean` (different setups, a card or a space), `through` (the
    recording simply runs on).
    """

    at: int
    left: Piece
    right: Piece
    kind: str

    @property
    def key(self) -> tuple[int, int, int]:
        """What makes it the same jump before and after an edit: the source frames that meet."""
        return (self.left.source or 0, self.left.end, self.right.start)


def seams(story: Story, sources: Sources) -> list[Seam]:
    """Every join of the dialogue line, in order. Remembered with the story, which never changes."""
    key = tuple((i, s.setup, s.settings) for i, s in sources.items())
    memo: dict[object, list[Seam]] = story.__dict__.setdefault("_seams", {})
    if key not in memo:
        memo[key] = _seams(story, sources)
    return memo[key]


def _seams(story: Story, sources: Sources) -> list[Seam]:
    starts = story.starts
    joins = [(starts[i + 1], a, b) for i, (a, b) in enumerate(zip(story.pieces, story.pieces[1:], strict=False))]
    hiding = [  # a see-through cover hides nothing
        (a, b, c)
        for a, b, c in story.spans
        if f"cover {c.lane}" not in story.muted and story.value(c, "opacity", sources) == 100
    ]
    spans = sorted((a, b) for a, b, _ in hiding)
    begins = {a: c for a, _, c in hiding}
    ends = {b: c for _, b, c in hiding}
    setup: dict[int | None, str | int | None] = {p.source: _setup(p, sources) for p in story.pieces}
    zoom = {p.id: float(story.value(p, "zoom", sources)) for p in story.pieces}
    out, i, reach = [], 0, 0
    for at, a, b in joins:
        # furthest end among covers that begin early enough to hide this join (spans are sorted, joins too)
        while i < len(spans) and spans[i][0] <= at - SPARE:
            reach = max(reach, spans[i][1])
            i += 1
        if a.source is None or b.source is None:
            kind = "clean"
        elif a.source == b.source and a.end == b.start and zoom[a.id] == zoom[b.id]:
            kind = "through"
        elif reach >= at + SPARE:
            kind = "covered"
        elif setup[a.source] != setup[b.source] or "sound" in (a.take, b.take):
            kind = "clean"
        elif (at in begins and _of(begins[at].source, sources) != setup[a.source]) or (
            at in ends and _of(ends[at].source, sources) != setup[b.source]
        ):
            kind = "clean"  # one side of it is never seen: the picture changes to or from a cover just here
        elif max(zoom[a.id], zoom[b.id]) >= PUNCH * min(zoom[a.id], zoom[b.id]) or (
            story.joins and story.join(story.index_of(b.id)).length
        ):
            kind = "soft"
        else:
            kind = "jump"
        out.append(Seam(at, a, b, kind))
    return out


def exposed(story: Story, sources: Sources) -> list[Seam]:
    """The jump cuts that the viewer sees."""
    return [s for s in seams(story, sources) if s.kind == "jump"]


def _of(source: int, sources: Sources) -> str | int:
    s = sources.get(source)
    return (s.setup or s.id) if s else source


def _setup(p: Piece, sources: Sources) -> str | int | None:
    return None if p.source is None else _of(p.source, sources)
