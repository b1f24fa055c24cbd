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
from kovel.core.story.settings import HeardAs
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
        """The story frame of a frame of its source."""
        return self.at + source_frame - self.piece.start


Words = Callable[[int, int, int], Sequence[Word]]  # of (recording, start, length), in story frames on its clock


def spoken(piece: Piece, words: Words, start: int, length: int, frame_rate: Rate) -> Sequence[Word]:
    """The words heard in frames [start, start + length) of a piece's clock, in samples of that clock."""
    if piece.source is None:
        return []
    if not piece.settings or (clock := piece.clock).as_shot:
        return words(piece.source, start, length)
    if piece.settings["heard"] == HeardAs.NOT_HEARD:
        return []
    begin, end = clock.used(start, length)
    return clock.words(list(words(piece.source, begin, end - begin)), frame_rate)


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

    `words(source, start, length)` gives the words of a range of a recording, in story frames on its clock. With
    `view` only what reaches into those story frames is laid out (words, lines and all), so that a screenful of a
    two-hour story costs no more than one of a short film; columns and seams are always those of the whole story.
    """
    lowest, highest = view or (0, story.length)
    columns = _columns(story, sources)
    number = {column: index for index, column in enumerate(columns)}
    near_covers = sorted(
        (
            (start, min(end, story.length), cover)
            for start, end, cover in story.spans
            if end > lowest and start < min(highest, story.length)
        ),
        key=lambda x: x[0],
    )
    hides = {cover.id for _, _, cover in hiding(story, sources)}  # through the others he is seen
    under = _run_together(
        [(start, end) for start, end, cover in near_covers if cover.id in hides and cover.source in sources]
    )
    stretches: list[Stretch] = []
    blocks: list[Block] = []
    for piece_index in range(max(0, bisect_right(story.starts, lowest, 0, len(story.pieces)) - 1), len(story.pieces)):
        piece, at = story.pieces[piece_index], story.starts[piece_index]
        if at >= highest:
            break
        start, end = max(at, lowest), min(at + piece.length, highest)
        blocks.append(_block(story, piece, at, start, end, words, frames_per_row, chars))
        source = sources.get(piece.source) if piece.source is not None else None
        if source is not None:
            out_of_sight = under if source.picture and piece.take != "sound" else [(start, end)]
            stretches += _coverage(number[_column(source)], start, end, out_of_sight)
    lanes = max((cover.lane for cover in story.covers), default=1)
    return LinedPage(
        tuple(blocks),
        tuple(columns.values()),
        tuple(stretches),
        tuple(near_covers),
        tuple(seams(story, sources)),
        lanes,
    )


def _column(source: Source) -> str:
    """What has a coverage line of its own: a camera setup."""
    return source.setup or str(source.id)


def _columns(story: Story, sources: Sources) -> dict[str, str]:
    """The coverage lines of the whole story, in the order they begin, with the name of what began each."""
    column_styles: dict[str, str] = {}
    for piece in story.pieces:
        source = sources.get(piece.source) if piece.source is not None else None
        if source:
            column_styles.setdefault(_column(source), source.name)
    return column_styles


def _block(
    story: Story, piece: Piece, at: int, begin: int, end: int, words: Words, frames_per_row: float, chars: int
) -> Block:
    """A piece with the words of its story frames [a, b) set in lines."""
    start, length = piece.start + begin - at, end - begin
    said_words = (
        words_in(spoken(piece, words, start, length, story.rate), story.rate, start, length)
        if piece.source and length > 0
        else []
    )
    row_count = max(1, int(piece.length / frames_per_row + 0.3))  # a last row may hang over by a quarter
    set_in = lines(
        said_words,
        start=piece.start,
        length=piece.length,
        frames_per_row=frames_per_row,
        line_count=row_count,
        chars=chars,
    )
    return Block(piece, at, tuple(set_in), next((word.speaker for _, word in said_words if word.speaker), ""))


def _run_together(spans: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Spans in order of where they begin as runs that do not touch."""
    joined_spans: list[tuple[int, int]] = []
    for start, end in spans:
        if joined_spans and start <= joined_spans[-1][1]:
            joined_spans[-1] = (joined_spans[-1][0], max(joined_spans[-1][1], end))
        else:
            joined_spans.append((start, end))
    return joined_spans


def _coverage(column: int, start: int, end: int, under: Sequence[tuple[int, int]]) -> Iterator[Stretch]:
    """Story frames [a, b) of a coverage line: wavy where they are `under` a cover (runs apart, in order), else
    straight."""
    t = start
    for x, y in under[bisect_right(under, start, key=lambda run: run[1]) :]:
        if x >= end:
            break
        if x > t:
            yield Stretch(column, t, x, True)
        yield Stretch(column, max(x, t), min(y, end), False)
        t = min(y, end)
    if t < end:
        yield Stretch(column, t, end, True)
