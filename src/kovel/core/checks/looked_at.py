"""What the checks of a story look at: the story, its seams, and what was measured of its recordings."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

from kovel.core.story.model import TITLE, Cover, Piece, Sources, Story
from kovel.core.story.seams import Seam, seams
from kovel.core.story.settings import on_line
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import stamp


@dataclass(frozen=True)
class LookedAt:
    """A story as the checks see it.

    :param strength: measures a jump, 0 to 100; None where that cannot be said
    :param cuts_word: the word that a cut at a frame of a recording goes through; empty where none
    :param level: speech and background of a range [a, b) of a recording, in dBFS
    """

    story: Story
    sources: Sources
    strength: Callable[[Seam], int | None]
    cuts_word: Callable[[int, int], str]
    level: Callable[[int, int, int], tuple[float, float] | None]

    @property
    def rate(self) -> Rate:
        """The story's frame rate."""
        return self.story.rate

    @cached_property
    def seams(self) -> list[Seam]:
        """Every join of two pieces."""
        return seams(self.story, self.sources)

    @cached_property
    def covers(self) -> list[tuple[int, int, Cover]]:
        """The covers that are seen, as (first frame, end, cover), by where they begin; titles are none."""
        length = self.story.length
        seen = [
            (at, min(end, length), cover)
            for at, end, cover in self.story.spans
            if f"cover {cover.lane}" not in self.story.muted
        ]
        return sorted((seen_row for seen_row in seen if seen_row[2].source != TITLE), key=lambda row: row[:2])

    def name(self, source: int | None) -> str:
        """What a recording is called."""
        return self.sources[source].name if source is not None and source in self.sources else "A recording"

    def clock(self, frame: int) -> str:
        """A story frame as it is told."""
        return stamp(frame, self.rate)

    def level_as_set(self, piece: Piece, moment: int) -> tuple[float, float] | None:
        """Speech and background of a piece (dBFS) at the level it is set to at a moment of its recording; None where
        it is muted."""
        heard_level = None if piece.source is None else self.level(piece.source, *piece.used)
        if heard_level is None or self.story.value(piece, "mute", self.sources):
            return None
        level = self.story.value(piece, "level", self.sources)
        db = on_line(level, moment) if isinstance(level, tuple) else float(level)
        return heard_level[0] + db, heard_level[1] + db
