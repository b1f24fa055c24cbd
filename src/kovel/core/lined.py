"""The lined page: where everything of a story stands on a script page down which time runs.

    time | words                      | Maren | Tobin | cover
    0:00 | We haul the ferry across   |   |   |       |
    0:02 | by hand, two of us         |   ≀   |       | [boat]     straight: seen; wavy: heard under a cover
    ---- seam: jump, covered ---------|   ≀   |       | [    ]

All places are story frames; what a frame measures on a screen is the page's affair.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kovel.core.seams import Seam, seams
from kovel.core.story import Cover, Piece, Sources, Story
from kovel.core.words import Line, Word, lines, words_in


@dataclass(frozen=True, slots=True)
class Stretch:
    """A run of a coverage line: column, story frames [a, b), seen (straight) or heard under a cover (wavy)."""

    column: int
    a: int
    b: int
    seen: bool


@dataclass(frozen=True, slots=True)
class Block:
    """A piece on the page: story frames [at, at + piece.length), its lines of words, who speaks first in it."""

    piece: Piece
    at: int
    lines: tuple[Line, ...]
    speaker: str
    new_speaker: bool

    def story_frame(self, source_frame: int) -> int:
        return self.at + source_frame - self.piece.start


@dataclass(frozen=True, slots=True)
class LinedPage:
    blocks: tuple[Block, ...]
    columns: tuple[str, ...]
    stretches: tuple[Stretch, ...]
    covers: tuple[tuple[int, int, Cover], ...]
    seams: tuple[Seam, ...]
    lanes: int


def lined(story: Story, sources: Sources, words: Mapping[int, Sequence[Word]], frames_per_row: float, chars: int) -> LinedPage:
    """Lay a story out. A row is `frames_per_row` frames tall and holds about `chars` characters."""
    spans = [(a, min(b, story.length), c) for a, b, c in story.spans()]
    columns: dict[str, int] = {}
    names: list[str] = []
    stretches: list[Stretch] = []
    blocks: list[Block] = []
    before = ""
    order = sorted(spans, key=lambda s: s[0])
    first = 0
    for at, p in zip(story.starts, story.pieces, strict=False):
        end = at + p.length
        said = words_in(words.get(p.source, ()), story.rate, p.start, p.length) if p.source is not None else []
        rows = max(1, int(p.length / frames_per_row + 0.3))  # a last row may hang over by a quarter
        speaker = next((w.speaker for _, w in said if w.speaker), "")
        blocks.append(
            Block(
                p,
                at,
                tuple(lines(said, start=p.start, length=p.length, frames_per_row=frames_per_row, rows=rows, chars=chars)),
                speaker,
                speaker != before,
            )
        )
        before = speaker
        s = sources.get(p.source) if p.source is not None else None
        if s is None:
            continue
        key = s.setup or str(s.id)
        if key not in columns:
            columns[key] = len(columns)
            names.append(s.name)
        while first < len(order) and order[first][1] <= at and all(x[1] <= at for x in order[: first + 1]):
            first += 1
        t = at
        for a, b, _ in order[first:]:
            if a >= end:
                break
            if b <= t:
                continue
            if a > t:
                stretches.append(Stretch(columns[key], t, a, True))
            stretches.append(Stretch(columns[key], max(a, t), min(b, end), False))
            t = min(b, end)
        if t < end:
            stretches.append(Stretch(columns[key], t, end, True))
    lanes = max((c.lane for c in story.covers), default=1)
    return LinedPage(tuple(blocks), tuple(names), tuple(stretches), tuple(spans), tuple(seams(story, sources)), lanes)
