"""The lined page: where everything of a story stands on a script page down which time runs.

    time | words                      | Maren | Tobin | cover
    0:00 | We haul the ferry across   |   |   |       |
    0:02 | by hand, two of us         |   ≀   |       | [boat]     straight: seen; wavy: heard under a cover
    ---- seam: jump, covered ---------|   ≀   |       | [    ]

All places are story frames; what a frame measures on a screen is the page's affair.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import islice

from kovel.core.story.model import Cover, Piece, Sources, Story
from kovel.core.story.seams import Seam, hiding, seams
from kovel.core.story.settings import HEARD
from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Line, Word, lines, words_in


@dataclass(frozen=True, slots=True)
class Stretch:
    """A run of a coverage line: column, story frames [a, b), seen (straight) or only heard, as under a cover (wavy)."""

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

    def story_frame(self, source_frame: int) -> int:
        return self.at + source_frame - self.piece.start


Words = Callable[[int, int, int], Sequence[Word]]  # of (recording, start, length), in story frames on its clock


def spoken(p: Piece, words: Words, start: int, length: int, rate: Rate) -> Sequence[Word]:
    """The words heard in frames [start, start + length) of a piece's clock, in samples of that clock."""
    if p.source is None:
        return []
    if not p.settings or (clock := p.clock).as_shot:
        return words(p.source, start, length)
    if p.settings["heard"] == HEARD[-1]:
        return []
    a, b = clock.used(start, length)
    return clock.words(list(words(p.source, a, b - a)), rate)


@dataclass(frozen=True, slots=True)
class LinedPage:
    blocks: tuple[Block, ...]
    columns: tuple[str, ...]
    stretches: tuple[Stretch, ...]
    covers: tuple[tuple[int, int, Cover], ...]
    seams: tuple[Seam, ...]
    lanes: int


def lined(
    story: Story,
    sources: Sources,
    words: Words,
    frames_per_row: float,
    chars: int,
    view: tuple[int, int] | None = None,
) -> LinedPage:
    """Lay a story out. A row is `frames_per_row` frames tall and holds about `chars` characters.

    `words(source, start, length)` gives the words of a range of a recording, in story frames on its clock. With `view`
    only what reaches into those story frames is laid out (words, lines and all), so that a screenful of a two-hour story
    costs no more than one of a short film; columns and seams are always those of the whole story.
    """
    spans = [(a, min(b, story.length), c) for a, b, c in story.spans]
    lo, hi = view or (0, story.length)
    columns: dict[str, int] = {}
    names: list[str] = []
    for p in story.pieces:
        s = sources.get(p.source) if p.source is not None else None
        if s and (s.setup or str(s.id)) not in columns:
            columns[s.setup or str(s.id)] = len(columns)
            names.append(s.name)
    stretches: list[Stretch] = []
    blocks: list[Block] = []
    hides = {c.id for _, _, c in hiding(story, sources)}
    passed = 0  # covers that end before the piece at hand
    near = sorted((x for x in spans if x[1] > lo and x[0] < hi), key=lambda x: x[0])
    first = max(0, bisect_right(story.starts, lo, 0, len(story.pieces)) - 1)
    for i in range(first, len(story.pieces)):
        p, at = story.pieces[i], story.starts[i]
        end = at + p.length
        if at >= hi:
            break
        seen_from, seen_to = max(at, lo), min(end, hi)
        start, length = p.start + seen_from - at, seen_to - seen_from
        said = (
            words_in(spoken(p, words, start, length, story.rate), story.rate, start, length) if p.source and length > 0 else []
        )
        rows = max(1, int(p.length / frames_per_row + 0.3))  # a last row may hang over by a quarter
        speaker = next((w.speaker for _, w in said if w.speaker), "")
        set_in = lines(said, start=p.start, length=p.length, frames_per_row=frames_per_row, rows=rows, chars=chars)
        blocks.append(Block(p, at, tuple(set_in), speaker))
        s = sources.get(p.source) if p.source is not None else None
        if s is None:
            continue
        column, t = columns[s.setup or str(s.id)], seen_from
        if not s.picture or p.take == "sound":
            stretches.append(Stretch(column, seen_from, seen_to, False))
            continue
        while passed < len(near) and near[passed][1] <= seen_from:
            passed += 1
        for a, b, c in islice(near, passed, None):
            if a >= seen_to:
                break
            if c.id not in hides or c.source not in sources:  # he is seen through it
                continue
            if b <= t:
                continue
            if a > t:
                stretches.append(Stretch(column, t, a, True))
            stretches.append(Stretch(column, max(a, t), min(b, seen_to), False))
            t = min(b, seen_to)
        if t < seen_to:
            stretches.append(Stretch(column, t, seen_to, True))
    lanes = max((c.lane for c in story.covers), default=1)
    return LinedPage(tuple(blocks), tuple(names), tuple(stretches), tuple(near), tuple(seams(story, sources)), lanes)
