"""Cues of captions become words: each cue's time is shared out over what it says."""

from __future__ import annotations

import html
import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import groupby

from kovel.core.words.transcript import Word
from kovel.core.words.writing import named

_TAG = re.compile(r"<[^>]*>")
_MARKS = {0x200E: None, 0x200F: None, 0xA0: " "}  # marks of direction; a space that does not break


@dataclass(frozen=True, slots=True)
class SaidCue:
    """A cue of a caption file: samples [start, end), who speaks, and what is said, as (sample from which on, text)."""

    start: int
    end: int
    speaker: str
    parts: tuple[tuple[int, str], ...]


def plain(text: str) -> str:
    """What is said in a line of a caption file, without tags and signs that stand for others."""
    return " ".join(html.unescape(_TAG.sub("", text)).translate(_MARKS).split())


def words_of_cues(cues: Sequence[SaidCue]) -> list[Word]:
    """Words of cues. A cue without times for its words shares them out by their length. Where cues overlap, each stays
    whole and in the order they begin:

    cues    [we haul the ferry by hand──]        words   [we][haul][the][ferry][by][hand][you][count]
                             [you count────]
    """
    words: list[Word] = []
    groups = [list(group) for _, group in groupby(sorted(cues, key=lambda cue: cue.start), key=lambda cue: cue.start)]
    for group, after in zip(groups, [*groups[1:], None], strict=False):
        for index, cue in enumerate(group):  # cues that begin together have the time one after the other
            length = sum(len(text) for _, text in cue.parts)
            until = min(cue.end, after[0].start if after else cue.end)
            share = max(length + 1, (until - cue.start) // len(group))
            begin, end = (cue.start, cue.end)
            if len(cue.parts) == 1:
                begin, end = cue.start + index * share, cue.start + (index + 1) * share
            for word in _words(cue, begin, end):
                first = max(word.start, words[-1].end) if words else word.start
                words.append(Word(word.text, first, max(word.end, first + 480), word.speaker))
    return words


def _words(cue: SaidCue, begin: int, until: int) -> list[Word]:
    speaker, parts = cue.speaker, list(cue.parts)
    if not speaker:  # a name in capitals before what is said
        speaker, parts[0] = named(parts[0][1])[0], (parts[0][0], named(parts[0][1])[1])
    starts = [begin, *(max(begin, min(until, at)) for at, _ in parts[1:])]
    words: list[Word] = []
    for start, end, (_, text) in zip(starts, [*starts[1:], until], parts, strict=True):
        said_words = plain(text).split()
        weight = [len(word) + 1 for word in said_words]
        done = 0
        for word, letters in zip(said_words, weight, strict=True):
            first = start + (end - start) * done // sum(weight)
            done += letters
            words.append(Word(word, first, start + (end - start) * done // sum(weight), speaker))
    return [word for word in words if word.end > word.start]
