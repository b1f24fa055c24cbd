"""Where somebody speaks in a recording and where not, read from its kept levels."""

from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path

import numpy as np

from kovel.core.sound.levels import Levels, Mask
from kovel.core.sound.pauses import Pause, Settings, pauses, speech
from kovel.core.story.lined_page import spoken
from kovel.core.story.model import Piece
from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.store import transcripts


@lru_cache(24)
def _levels(path: Path, stamp: int) -> Levels:
    return Levels.from_array(np.load(path))


def levels(data_folder: DataFolder, recording: int) -> Levels | None:
    """The kept levels, as far as they are heard by now; None while there are none."""
    path = data_folder.derived(recording) / "levels.npy"
    try:
        return _levels(path, path.stat().st_mtime_ns)
    except (OSError, ValueError):
        return None


@lru_cache(64)
def _speech(path: Path, stamp: int, settings: Settings) -> Mask:
    return speech(_levels(path, stamp), settings)


def speaking(data_folder: DataFolder, recording: int, settings: Settings) -> Mask:
    """For each tick, whether somebody speaks under settings; kept, as only island and threshold change it."""
    path = data_folder.derived(recording) / "levels.npy"
    return _speech(path, path.stat().st_mtime_ns, Settings(island=settings.island, threshold=settings.threshold))


def found_pauses(
    data_folder: DataFolder, recording: int, settings: Settings | None = None, words: Sequence[Word] | None = None
) -> list[Pause]:
    """Pauses of a recording under settings; none while nothing was heard of it."""
    heard_levels = levels(data_folder, recording)
    if heard_levels is None:
        return []
    settings = settings or Settings()
    said_words = transcripts.words(data_folder.db, recording) if words is None else words
    return pauses(heard_levels, settings, said_words, mask=speaking(data_folder, recording, settings))


def spoken_in(data_folder: DataFolder, piece: Piece, start: int, length: int, frame_rate: Rate) -> Sequence[Word]:
    """The words heard in frames [start, start + length) of a piece's clock, in samples of that clock."""

    def words(source: int, a: int, n: int) -> list[Word]:
        return transcripts.words_between(
            data_folder.db, source, frame_rate.frame_to_sample(a), frame_rate.frame_to_sample(a + n)
        )

    return spoken(piece, words, start, length, frame_rate)
