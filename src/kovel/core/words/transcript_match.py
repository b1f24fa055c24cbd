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
    left = [(s, index) for index, word in enumerate(said) for s in spoken(word)]
    right: list[tuple[str, int, int]] = []
    for word in heard:
        parts = spoken(word.text)
        for index, part in enumerate(parts):
            right.append(
                (
                    part,
                    word.start + (word.end - word.start) * index // len(parts),
                    word.start + (word.end - word.start) * (index + 1) // len(parts),
                )
            )
    ours, theirs = [s for s, _ in left], [s for s, _, _ in right]
    spans: dict[int, list[tuple[int, int]]] = {}
    i = j = 0
    for block in SequenceMatcher(None, ours, theirs, autojunk=False).get_matching_blocks():
        pairs = [(i + p, j + q) for p, q in alike(ours[i : block.a], theirs[j : block.b])] if nearly else []
        i, j = block.a + block.size, block.b + block.size
        for p, q in [*pairs, *((block.a + k, block.b + k) for k in range(block.size))]:
            spans.setdefault(left[p][1], []).append(right[q][1:])
    for index, found in spans.items():
        if len(found) == len(spoken(said[index])):
            yield index, found[0][0], found[-1][1]


def alike(a: Sequence[str], b: Sequence[str], least: float = 0.5) -> list[tuple[int, int]]:
    """Pairs of words that are spelled at least half alike, in order, so that they are most alike together.

    Global alignment by dynamic programming (Needleman and Wunsch, 1970), a gap costing nothing.
    """
    if not a or not b or len(a) * len(b) > 40_000:
        return []
    same = [[SequenceMatcher(None, x, y).ratio() - least + 0.01 for y in b] for x in a]
    best = np.zeros((len(a) + 1, len(b) + 1))
    for i in range(len(a)):
        for j in range(len(b)):
            best[i + 1, j + 1] = max(best[i, j] + same[i][j], best[i, j + 1], best[i + 1, j])
    out, i, j = [], len(a), len(b)
    while i and j:
        if best[i, j] == best[i - 1, j]:
            i -= 1
        elif best[i, j] == best[i, j - 1]:
            j -= 1
        else:
            i, j = i - 1, j - 1
            out.append((i, j))
    return out[::-1]


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
    heard = np.cumsum(talking[first:last])
    need = 45 * len(words) + 30  # ticks: about as slowly as anybody speaks
    if not len(heard) or heard[-1] <= 2 * need:
        return [(words, first, last)]
    closes = next(
        (index + 1 for index, word in enumerate(words) if word.rstrip("\"')").endswith((".", "?", "!"))), len(words)
    )
    before = 0 if at is None else len(words) if until is None else closes
    left = first + int(np.searchsorted(heard, 45 * before + 30))
    right = first + int(np.searchsorted(heard, heard[-1] - 45 * (len(words) - before) - 30))
    return [r for r in ((words[:before], first, left), (words[before:], right, last)) if r[0]]
