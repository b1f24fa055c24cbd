"""The lined page: where everything of a story stands on a script page down which time runs.

    time | words                      | Maren | Tobin | cover
    0:00 | We haul the ferry across   |   |   |       |
    0:02 | by hand, two of us         |   ≀   |       | [boat]     straight: seen; wavy: heard under a cover
    ---- seam: jump, covered ---------|   ≀   |       | [    ]

All places are story frames; what a frame measures on a screen is the page's affair.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from kovel.core.story.model import Cover, Piece, Source, Sources, Story
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
    lo, hi = view or (0, story.length)
    columns = _columns(story, sources)
    number = {column: n for n, column in enumerate(columns)}
    near = sorted(
        ((a, min(b, story.length), c) for a, b, c in story.spans if b > lo and a < min(hi, story.length)), key=lambda x: x[0]
    )
    hides = {c.id for _, _, c in hiding(story, sources)}  # through the others he is seen
    under = _run_together([(a, b) for a, b, c in near if c.id in hides and c.source in sources])
    stretches: list[Stretch] = []
    blocks: list[Block] = []
    for i in range(max(0, bisect_right(story.starts, lo, 0, len(story.pieces)) - 1), len(story.pieces)):
        p, at = story.pieces[i], story.starts[i]
        if at >= hi:
            break
        a, b = max(at, lo), min(at + p.length, hi)
        blocks.append(_block(story, p, at, a, b, words, frames_per_row, chars))
        s = sources.get(p.source) if p.source is not None else None
        if s is not None:
            out_of_sight = under if s.picture and p.take != "sound" else [(a, b)]
            stretches += _coverage(number[_column(s)], a, b, out_of_sight)
    lanes = max((c.lane for c in story.covers), default=1)
    return LinedPage(tuple(blocks), tuple(columns.values()), tuple(stretches), tuple(near), tuple(seams(story, sources)), lanes)


def _column(s: Source) -> str:
    """What has a coverage line of its own: a camera setup."""
    return s.setup or str(s.id)


def _columns(story: Story, sources: Sources) -> dict[str, str]:
    """The coverage lines of the whole story, in the order they begin, with the name of what began each."""
    out: dict[str, str] = {}
    for p in story.pieces:
        s = sources.get(p.source) if p.source is not None else None
        if s:
            out.setdefault(_column(s), s.name)
    return out


def _block(story: Story, p: Piece, at: int, a: int, b: int, words: Words, frames_per_row: float, chars: int) -> Block:
    """A piece with the words of its story frames [a, b) set in lines."""
    start, length = p.start + a - at, b - a
    said = words_in(spoken(p, words, start, length, story.rate), story.rate, start, length) if p.source and length > 0 else []
    rows = max(1, int(p.length / frames_per_row + 0.3))  # a last row may hang over by a quarter
    set_in = lines(said, start=p.start, length=p.length, frames_per_row=frames_per_row, rows=rows, chars=chars)
    return Block(p, at, tuple(set_in), next((w.speaker for _, w in said if w.speaker), ""))


def _run_together(spans: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Spans in order of where they begin as runs that do not touch."""
    out: list[tuple[int, int]] = []
    for a, b in spans:
        if out and a <= out[-1][1]:
            out[-1] = (out[-1][0], max(out[-1][1], b))
        else:
            out.append((a, b))
    return out


def _coverage(column: int, a: int, b: int, under: Sequence[tuple[int, int]]) -> Iterator[Stretch]:
    """Story frames [a, b) of a coverage line: wavy where they are `under` a cover (runs apart, in order), else straight."""
    t = a
    for x, y in under[bisect_right(under, a, key=lambda run: run[1]) :]:
        if x >= b:
            break
        if x > t:
            yield Stretch(column, t, x, True)
        yield Stretch(column, max(x, t), min(y, b), False)
        t = min(y, b)
    if t < b:
        yield Stretch(column, t, b, True)
