"""Shots for what is being said: which sentence is meant, which shots come first, and which part of them is laid."""

import numpy as np
import pytest

from kovel.core.checks.covering import LONGEST, covers_for, sentence_around
from kovel.core.checks.offers import Shot
from kovel.core.picture.shots import Look
from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Word

R = Rate(25)


def heard(text: str, at: int = 0, each: int = 10, speaker: str = "") -> list[tuple[int, int, Word]]:
    """Words of ten frames each in the story; `/` is a second and a half of silence."""
    out = []
    for w in text.split():
        if w == "/":
            at += 38
            continue
        out.append((at, at + each, Word(w, 0, 1, speaker)))
        at += each
    return out


WORDS = [
    *heard("We haul. By hand we haul it / over the creek", speaker="Maren"),
    *heard("She rings a bell.", 140, speaker="Odile"),
]


@pytest.mark.parametrize(
    ("at", "span"),
    [
        (0, (0, 20)),
        (19, (0, 20)),
        (20, (20, 70)),
        (69, (20, 70)),
        (80, (108, 138)),  # in a pause: the next one
        (137, (108, 138)),
        (139, (140, 180)),
        (179, (140, 180)),
        (180, None),
        (9999, None),
    ],
)
def test_the_sentence_that_is_meant(at: int, span: tuple[int, int] | None) -> None:
    assert sentence_around(WORDS, at, R) == span


def test_talk_without_a_stop_is_covered_for_a_while_only() -> None:
    a, b = sentence_around(heard("on " * 200), 1000, R) or (0, 0)
    assert a <= 1000 < b and b - a <= LONGEST * 25 and sentence_around([], 0, R) is None


def look(steady: list[float]) -> Look:
    n = len(steady)
    return Look(np.full(n, 0.5, np.float32), np.array(steady, np.float32), np.ones(n, np.float32))


def test_near_ones_come_first_and_used_and_short_ones_last() -> None:
    shots = [
        Shot(1, 0, 500, "Pier", "the pier", used=0),
        Shot(2, 0, 500, "Boats", "boats at the landing", used=0),
        Shot(3, 0, 500, "Boat again", "a boat", used=3),
        Shot(4, 0, 500, "Storm", "weather", near=0.6),
        Shot(5, 0, 30, "Gull", "gulls"),
        Shot(6, 0, 500, "Rain", "rain", near=0.1),
    ]
    rows = covers_for((100, 200), R, shots, "the boat came in the night", {})
    assert [o.name for o in rows] == ["Storm", "Boats", "Pier", "Rain", "Gull", "Boat again"]
    assert [o.why for o in rows][:2] == ["near in meaning, not used yet", "meets “boat”, not used yet"]
    assert rows[4].why == "not used yet, 2.8 s too short" and rows[4].params["until"] == 130
    assert all(o.command == "lay_cover" and o.params["at"] == 100 for o in rows)
    assert (
        len(covers_for((0, 9), R, shots * 3, "", {})) == 8
        and covers_for((0, 9), R, [Shot(1, 0, 0, "", "")], "", {}) == []
    )


@pytest.mark.parametrize("own", [Rate(25), Rate(50)])
def test_the_steadiest_stretch_is_laid_on_the_shots_own_clock(own: Rate) -> None:
    """Shaken but for frames 300 to 420 of the story's clock; a kept range is never left."""
    k = own.nominal // 25
    steady = [0.2] * (300 * k) + [1.0] * (120 * k) + [0.2] * (180 * k)
    (o,) = covers_for((0, 75), R, [Shot(7, 0, 600, "Pan", "")], "", {7: (look(steady), own)})
    assert 300 <= o.params["start"] <= 345 and "shaky" not in o.why
    (o,) = covers_for((0, 75), R, [Shot(7, 100, 150, "Pan", "")], "", {7: (look(steady), own)})
    assert 100 <= o.params["start"] <= 175 and "shaky" in o.why
    (o,) = covers_for((0, 75), R, [Shot(7, 100, 40, "Pan", "")], "", {7: (look(steady), own)})
    assert (o.params["start"], o.params["until"]) == (100, 40)
