"""A text without times beside what was heard: which of its words are which, and where the others are to be looked
for."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from difflib import SequenceMatcher

import numpy as np

from kovel.core.sound.levels import Mask
from kovel.core.words.align import spoken
from kovel.core.words.transcript import Word


def anchors(said: Sequence[str], heard: Sequence[Word], nearly: bool = True) -> Iterator[tuple[int, int, int]]:
    """(word of the text, start, end in samples) for each that was heard, in order; `nearly` the same will do (ferry,
    fairy).

    Spoken words are compared, so `twenty three` is heard in `23`.
    """
    spoken_left = [(spoken_word, index) for index, word in enumerate(said) for spoken_word in spoken(word)]
    right: list[tuple[str, int, int]] = []
    for word in heard:
        parts = spoken(word.text)
        for index, word_part in enumerate(parts):
            right.append(
                (
                    word_part,
                    word.start + (word.end - word.start) * index // len(parts),
                    word.start + (word.end - word.start) * (index + 1) // len(parts),
                )
            )
    ours, theirs = [spoken_word for spoken_word, _ in spoken_left], [spoken_word for spoken_word, _, _ in right]
    spans: dict[int, list[tuple[int, int]]] = {}
    i = j = 0
    for block in SequenceMatcher(None, ours, theirs, autojunk=False).get_matching_blocks():
        pairs = (
            [
                (i + our_index, j + their_index)
                for our_index, their_index in alike(ours[i : block.a], theirs[j : block.b])
            ]
            if nearly
            else []
        )
        i, j = block.a + block.size, block.b + block.size
        for our_index, their_index in [
            *pairs,
            *((block.a + word_index, block.b + word_index) for word_index in range(block.size)),
        ]:
            spans.setdefault(spoken_left[our_index][1], []).append(right[their_index][1:])
    for index, found_span in spans.items():
        if len(found_span) == len(spoken(said[index])):
            yield index, found_span[0][0], found_span[-1][1]


def alike(a: Sequence[str], b: Sequence[str], least: float = 0.5) -> list[tuple[int, int]]:
    """Pairs of words that are spelled at least half alike, in order, so that they are most alike together.

    Global alignment by dynamic programming (Needleman and Wunsch, 1970), a gap costing nothing.
    """
    if not a or not b or len(a) * len(b) > 40_000:
        return []
    same = [[SequenceMatcher(None, first_word, y).ratio() - least + 0.01 for y in b] for first_word in a]
    best = np.zeros((len(a) + 1, len(b) + 1))
    for first_index in range(len(a)):
        for second_index in range(len(b)):
            best[first_index + 1, second_index + 1] = max(
                best[first_index, second_index] + same[first_index][second_index],
                best[first_index, second_index + 1],
                best[first_index + 1, second_index],
            )
    matched_words, first_index, second_index = [], len(a), len(b)
    while first_index and second_index:
        if best[first_index, second_index] == best[first_index - 1, second_index]:
            first_index -= 1
        elif best[first_index, second_index] == best[first_index, second_index - 1]:
            second_index -= 1
        else:
            first_index, second_index = first_index - 1, second_index - 1
            matched_words.append((first_index, second_index))
    return matched_words[::-1]


def windows(
    words: Sequence[str], at: int | None, until: int | None, talking: Mask
) -> list[tuple[Sequence[str], int, int]]:
    """The words between two anchors, and the ticks [first, last) each run of them is looked for in.

    Where far more is said than they are, they stand beside their anchors: up to the end of a sentence after the one
    before,
    the rest before the one that follows.
        text      ... [anchor] was twenty three. And then [anchor] ...
        recording     [anchor][was twenty three]███████[and then][anchor]
    """
    first, last = at or 0, len(talking) if until is None else until
    heard_ticks = np.cumsum(talking[first:last])
    need = 45 * len(words) + 30  # ticks: about as slowly as anybody speaks
    if not len(heard_ticks) or heard_ticks[-1] <= 2 * need:
        return [(words, first, last)]
    closes = next(
        (index + 1 for index, word in enumerate(words) if word.rstrip("\"')").endswith((".", "?", "!"))), len(words)
    )
    before = 0 if at is None else len(words) if until is None else closes
    left_tick = first + int(np.searchsorted(heard_ticks, 45 * before + 30))
    right = first + int(np.searchsorted(heard_ticks, heard_ticks[-1] - 45 * (len(words) - before) - 30))
    return [
        window_row
        for window_row in ((words[:before], first, left_tick), (words[before:], right, last))
        if window_row[0]
    ]
