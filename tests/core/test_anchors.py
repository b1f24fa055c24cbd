"""A text beside what was heard. `difflib` (Python's library) is the reference for what is the same; spoken numbers:
common usage."""

from difflib import SequenceMatcher
from itertools import pairwise

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kovel.core.words.transcript import Word
from kovel.core.words.transcript_match import alike, anchors, windows

SOME = ["ferry", "fairy", "chain", "chained", "creek", "we", "haul", "hall", "by", "hand", "tide", "um"]


def heard(text: str) -> list[Word]:
    """A word each half second, 24,000 samples."""
    return [Word(w, 24_000 * i, 24_000 * i + 20_000) for i, w in enumerate(text.split())]


def test_words_are_found_as_they_stand_nearly_and_in_figures() -> None:
    said = ["We", "haul", "the", "ferry,", "twenty", "three", "of", "us."]
    rows = heard("well we haul the fairy 23 of us")
    found = {said[i]: (a, b) for i, a, b in anchors(said, rows)}
    assert list(found) == said  # each of them
    assert found["We"] == (24_000, 44_000) and found["ferry,"] == (96_000, 116_000)
    assert found["twenty"] == (120_000, 130_000) and found["three"] == (130_000, 140_000)  # the figure's two halves
    assert "ferry," not in {said[i] for i, *_ in anchors(said, rows, nearly=False)}
    (one,) = anchors(["23"], heard("so twenty three it was"))
    assert one == (0, 24_000, 68_000)  # from the first spoken word to the end of the last
    assert list(anchors(["23"], heard("so twenty four it was"))) == []  # half of it is not it
    assert list(anchors([], rows)) == list(anchors(said, [])) == list(anchors(["…"], rows)) == []


@given(st.lists(st.sampled_from(SOME), max_size=12), st.lists(st.sampled_from(SOME), max_size=12))
def test_what_is_alike_is_in_order_and_the_best_there_is(a: list[str], b: list[str]) -> None:
    pairs = alike(a, b)
    assert all(i < j and p < q for (i, p), (j, q) in pairwise(pairs))
    worth = lambda x, y: SequenceMatcher(None, x, y).ratio() - 0.49  # noqa: E731
    assert all(worth(a[i], b[j]) > 0 for i, j in pairs)
    best = {(-1, -1): 0.0}  # every way there is, by the recursion's definition
    for i in range(-1, len(a)):
        for j in range(-1, len(b)):
            if i >= 0 or j >= 0:
                ways = [best[i - 1, j]] if i >= 0 else []
                ways += [best[i, j - 1]] if j >= 0 else []
                ways += [best[i - 1, j - 1] + worth(a[i], b[j])] if i >= 0 and j >= 0 else []
                best[i, j] = max(ways)
    assert abs(sum(worth(a[i], b[j]) for i, j in pairs) - best[len(a) - 1, len(b) - 1]) < 1e-9


def test_unheard_words_stand_beside_their_anchors() -> None:
    """Ticks of 10 ms; somebody speaks all the time but in 1000-1500."""
    talking = np.ones(4000, bool)
    talking[1000:1500] = False
    three = ["was", "it.", "Then"]
    assert windows(three, 100, 300, talking) == [(three, 100, 300)]  # as much time as they may take: anywhere in it
    before, after = windows(three, 100, 3900, talking)
    assert before[0] == ["was", "it."] and before[1] == 100 and 150 < before[2] <= 250  # to the end of the sentence
    assert after[0] == ["Then"] and after[2] == 3900 and 3780 < after[1] < 3880
    ((rest, first, last),) = windows(three, 950, None, talking)
    assert rest == three and first == 950 and 1600 < last < 1700  # silence is no time in which they could be
    ((rest, first, last),) = windows(three, None, 3000, talking)
    assert rest == three and last == 3000 and 2800 < first < 2900
    assert windows(three, 1000, 1500, talking) == [(three, 1000, 1500)]  # nothing is said there: nowhere better
