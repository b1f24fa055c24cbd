"""Two voices told apart, measured on recorded human speech (see tests/recorded.py) that nothing was tuned to."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.signal import butter, sosfilt

from kovel.core.sound.voices import Apart, cepstra, told_apart
from kovel.core.words.transcript import Word
from kovel.services.log.speaker_separation import spans_of, with_voices
from tests.recorded import SR, talk


def said_by(language: str, room: str, seed: int, count: int) -> list[np.ndarray]:
    """Prompts of a second and more, as they sound in a room."""
    t = talk(180, seed, language)
    x = t.sound[room]
    long = [x[round(p.start * SR) : round(p.end * SR)] for p in t.prompts if p.end - p.start > 1]
    return long[:count]


def right(found: Apart, who: list[int]) -> float:
    same = np.mean([a == b for a, b in zip(found.voices, who, strict=True)])
    return float(max(same, 1 - same))


@pytest.mark.parametrize("room", ["room", "fan", "drift"])
@pytest.mark.parametrize("pair", [("en", "fr"), ("fr", "es")])
def test_nine_of_ten_sentences_are_given_to_whoever_says_them(pair: tuple[str, str], room: str) -> None:
    a, b = said_by(pair[0], room, 31, 28), said_by(pair[1], room, 31, 14)  # one says less, as who asks does
    frames, who = [cepstra(x) for x in (*a, *b)], [0] * len(a) + [1] * len(b)
    found = told_apart(frames)
    assert found.two and right(found, who) >= 0.9, (found.gain, right(found, who))
    assert sorted(set(found.voices), key=lambda v: -found.voices.count(v)) == [0, 1]  # who says more is the first
    wrong = [s for s, v, w in zip(found.sure, found.voices, who, strict=True) if v != w]
    assert not wrong or np.mean(wrong) < np.mean(found.sure)  # what is wrong was less sure


@pytest.mark.parametrize("language", ["en", "fr"])
def test_one_voice_is_not_plainly_two(language: str) -> None:
    for room in ("room", "fan"):
        found = told_apart([cepstra(x) for x in said_by(language, room, 31, 40)])
        assert not found.plain, (room, found.gain)


def test_neither_level_nor_order_counts() -> None:
    a, b = said_by("en", "room", 31, 12), said_by("fr", "room", 31, 12)
    rng = np.random.default_rng(3)
    order = rng.permutation(24)
    both = [*a, *b]
    plain = told_apart([cepstra(x) for x in both])
    loud = told_apart([cepstra((both[i] * 10 ** (rng.uniform(-12, 0) / 20)).astype(np.float32)) for i in order])
    assert [plain.voices[i] for i in order] in (list(loud.voices), [1 - v for v in loud.voices])
    # nor does it for one who stands further off, where the highs are less
    far = butter(1, 2500, "low", fs=SR, output="sos")
    there = told_apart([cepstra(x) for x in (*a, *(sosfilt(far, x).astype(np.float32) for x in b))])
    assert right(there, [0] * 12 + [1] * 12) >= 0.9


def test_too_little_tells_nothing() -> None:
    x = said_by("en", "room", 31, 3)
    for sounds in ([], x, [np.zeros(100, np.float32)] * 9, [np.zeros(16_000, np.float32)] * 9):
        found = told_apart([cepstra(s) for s in sounds])
        assert not found.two and found.voices == (0,) * len(sounds)
    mixed = told_apart(
        [cepstra(s) for s in (*said_by("en", "room", 31, 8), np.zeros(500, np.float32), *said_by("fr", "room", 31, 8))]
    )
    assert mixed.two and len(mixed.voices) == 17  # one that is too short is given to somebody


# --- names


def words(*who: str) -> list[Word]:
    return [Word(f"w{i}.", 48_000 * i, 48_000 * i + 40_000, name) for i, name in enumerate(who)]


def test_names_that_were_given_are_kept_where_they_tell_who_speaks() -> None:
    named, names = with_voices(words("", "", "", ""), [0, 0, 0, 1])
    assert names == ("Voice 1", "Voice 2") and [w.speaker for w in named] == ["Voice 1"] * 3 + ["Voice 2"]
    named, names = with_voices(words("Maren", "", "", "", ""), [0, 0, 0, 1, 1])  # named once
    assert names == ("Maren", "Voice 2") and [w.speaker for w in named] == ["Maren"] * 3 + ["Voice 2"] * 2
    named, names = with_voices(words(*["Maren"] * 6), [0, 0, 0, 0, 1, 1])  # all of it was thought to be hers
    assert names == ("Maren", "Voice 2") and [w.speaker for w in named] == ["Maren"] * 4 + ["Voice 2"] * 2
    by_hand = words("Maren", "Maren", "Maren", "interviewer", "interviewer", "Tobin")
    named, names = with_voices(by_hand, [0, 0, 0, 1, 1, 1])
    assert names == ("Maren", "interviewer") and named == by_hand
    assert with_voices(words("Voice 2", ""), [0, 1])[1] == ("Voice 2", "Voice 3")


@given(st.lists(st.tuples(st.sampled_from(["", "Maren", "Tobin", "Voice 1"]), st.integers(0, 1)), max_size=30))
def test_only_names_change(rows: list[tuple[str, int]]) -> None:
    said, voice = words(*(n for n, _ in rows)), [v for _, v in rows]
    named, names = with_voices(said, voice)
    assert names[0] != names[1] and all(names)
    assert [(w.text, w.start, w.end, w.sure) for w in named] == [(w.text, w.start, w.end, w.sure) for w in said]
    assert all(w.speaker for w in named)
    again, _ = with_voices(named, voice)
    assert [w.speaker for w in again] == [w.speaker for w in named]
    for w, v, (had, _) in zip(named, voice, rows, strict=True):
        assert w.speaker == had or w.speaker == names[v]  # kept, or whoever says it
    spans = spans_of(said)
    assert [i for a, b in spans for i in range(a, b)] == list(range(len(said)))
