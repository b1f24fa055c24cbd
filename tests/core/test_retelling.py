"""What is told twice, what goes together, and a first radio cut, on directions that are known: each subject is an axis
of its own."""

import numpy as np
import pytest

from kovel.core.words import radio_cut
from kovel.core.words.nearness import (
    AROUND,
    MANY,
    WIDTH,
    Said,
    alike,
    content,
    foreign,
    nearest,
    same_answer,
    with_context,
)
from kovel.core.words.radio_cut import Bite, Sentence, TooLittle, bites, proposal
from kovel.core.words.retold import telling, told_twice
from kovel.core.words.theme_groups import (
    LIKE,
    Statement,
    grouped,
    meant,
    names,
    nearest_theme,
    statements,
    words_of,
)
from kovel.core.words.transcript import Word

S = 48_000


def axis(*parts: tuple[int, float], english: bool = False) -> np.ndarray:
    """A direction of length 1 in each half of the numbers that is used."""
    row = np.zeros(WIDTH, np.float32)
    for index, much in parts:
        row[index] = much
        if english:
            row[MANY + index] = much
    for half in (slice(0, MANY), slice(MANY, WIDTH)):
        row[half] /= max(float(np.linalg.norm(row[half])), 1e-9)
    return row


def spoken(text: str, index: int, recording: int = 1, speaker: str = "Odile", gap: int = 0) -> Said:
    start = index * 4 * S + gap
    return Said(recording, start, start + 3 * S, speaker, text)


LONG = "the river came up the road"


# --- nearness


def test_a_question_of_another_language_is_told_by_its_small_words() -> None:
    assert [foreign(q) for q in ("who rowed the boat", "wer ruderte das Boot", "boat", "Fähre", "¿quién?")] == [
        False,
        True,
        False,
        True,
        True,
    ]
    assert content("Um, the the boat, uh, was ours") == "the boat, was ours" and content("um") == "um"
    assert content("No, no no, it is") == "No, it is" and content("—, we — we went") != ""


def test_likeness_adds_both_models_and_that_of_neighbours() -> None:
    """The picture in the module: 0.20 + AROUND * (0.51 + 0.32) / 2."""
    likeness = np.array([0.51, 0.20, 0.32, 0.9], np.float32)
    found = with_context(likeness, np.array([True, True, False]))
    assert found.tolist() == pytest.approx([0.51 + AROUND * 0.2, 0.2 + AROUND * 0.415, 0.32 + AROUND * 0.2, 0.9])
    assert with_context(likeness[:1], np.zeros(0, bool)).tolist() == likeness[:1].tolist()
    asked, rows = axis((0, 1), english=True), np.stack([axis((0, 0.6), (1, 0.8), english=True), axis((0, 1))])
    assert alike(asked, rows, True).tolist() == pytest.approx([1.2, 1.0])
    assert alike(asked, rows, False).tolist() == pytest.approx([0.6, 1.0])


def test_an_answer_is_of_one_speaker_without_three_seconds_of_silence() -> None:
    base = Said(1, 0, S, "Odile", "a")
    for other, same in (
        (Said(1, 4 * S - 1, 5 * S, "Odile", "b"), True),
        (Said(1, 4 * S, 5 * S, "Odile", "b"), False),
        (Said(1, 2 * S, 5 * S, "Tobin", "b"), False),
        (Said(2, 2 * S, 5 * S, "Odile", "b"), False),
    ):
        assert same_answer([base, other]).tolist() == [same]


def test_the_nearest_come_first_and_what_is_about_something_else_not_at_all() -> None:
    rows = np.stack([axis((0, 0.5), (1, 1)), axis((0, 1)), axis((2, 1)), axis((0, 0.17), (3, 0.985))])
    apart = np.zeros(3, bool)
    found = nearest(axis((0, 1)), rows, apart, "boat", 9)
    assert [i for i, _ in found] == [1, 0] and found[0][1] == pytest.approx(1)  # 0.17 is under what counts as near
    assert [i for i, _ in nearest(axis((0, 1)), rows, apart, "boat", 1)] == [1]
    assert nearest(axis((0, 1)), rows[:0], apart[:0], "boat", 9) == []
    english = np.stack([axis((0, 0.25), (1, 0.97), english=True), axis((2, 1), english=True)])
    english[0, :MANY] = axis((5, 1))[:MANY]  # only the English model finds it
    assert [i for i, _ in nearest(axis((0, 1), english=True), english, apart[:1], "who rowed", 9)] == [0]
    assert nearest(axis((0, 1), english=True), english, apart[:1], "wer ruderte das Boot", 9) == []


# --- told twice


def directions(count: int, seed: int = 4) -> np.ndarray:
    """Sentences that have nothing in common."""
    rng = np.random.default_rng(seed)
    rows = np.zeros((count, WIDTH), np.float32)
    rows[:, :MANY] = rng.normal(size=(count, MANY))
    return rows / np.linalg.norm(rows, axis=1, keepdims=True)


def test_the_pair_that_says_the_same_is_found_among_many() -> None:
    rows = directions(40)
    rows[30] = 0.95 * rows[3] + 0.3 * rows[30]
    rows[30] /= np.linalg.norm(rows[30])
    talk = [spoken(LONG, i, recording=i) for i in range(40)]
    (pair,) = told_twice(talk, rows)
    assert (pair.a, pair.b) == (3, 30) and pair.alike == pytest.approx(float(rows[3] @ rows[30]), abs=1e-4)
    short = [*talk[:3], spoken("yes it came up", 3, recording=3), *talk[4:]]
    assert told_twice(short, rows) == []  # under five words
    asked = [*talk[:3], spoken(LONG + "? ", 3, recording=3), *talk[4:]]
    assert told_twice(asked, rows) == [] == told_twice(talk[:1], rows[:1])
    assert told_twice(talk, rows, close=1.9) == []
    both = rows.copy()
    both[:, MANY:] = rows[:, : WIDTH - MANY]  # with both models a likeness is the mean of both cosines
    (pair,) = told_twice(talk, both)
    assert pair.alike == pytest.approx((rows[3] @ rows[30] + both[3, MANY:] @ both[30, MANY:]) / 2, abs=1e-4)


def test_what_is_nearly_alike_goes_with_the_nearest_only() -> None:
    rows = directions(60)
    for other, much in ((31, 0.9), (32, 0.55)):
        rows[other] = much * rows[3] + np.sqrt(1 - much**2) * rows[other]
        rows[other] /= np.linalg.norm(rows[other])
    talk = [spoken(LONG, i, recording=i) for i in range(60)]
    pairs = told_twice(talk, rows)
    assert (pairs[0].a, pairs[0].b) == (3, 31) and [p.alike for p in pairs] == sorted(p.alike for p in pairs)[::-1]
    rows[32] = rows[32] - 0.2 * rows[3]
    rows[32] /= np.linalg.norm(rows[32])  # under the least likeness there has to be
    assert [(p.a, p.b) for p in told_twice(talk, rows)] == [(3, 31)]


def test_what_is_said_around_counts_a_little() -> None:
    """Two sentences of middling likeness, each between its own neighbours, alike or not."""

    def found(alike_around: bool) -> bool:
        rows = directions(60)
        rows[41] = 0.52 * rows[11] + 0.854 * rows[41]
        rows[41] /= np.linalg.norm(rows[41])
        if alike_around:
            for k in (-2, -1, 1, 2):
                rows[41 + k] = rows[11 + k] = rows[20]
        recording = [1 if 9 <= i <= 13 else 2 if 39 <= i <= 43 else 100 + i for i in range(60)]
        talk = [spoken(LONG, i, recording=recording[i]) for i in range(60)]
        return any((p.a, p.b) == (11, 41) for p in told_twice(talk, rows, close=0.9))

    assert found(True) and not found(False)


def test_a_telling_is_less_fluent_for_stumbles_and_waiting() -> None:
    words = [
        Word(t, i * S // 2, i * S // 2 + S // 4)
        for i, t in enumerate(["we", "hauled", "it", "over", "by", "hand", "um", "alone"])
    ]
    one = telling(words)
    assert (one.words, one.length, one.stumbles, one.pauses) == (8, 7 * S // 2 + S // 4, 1, 0)
    assert one.fluent == pytest.approx(1 - 5 / 8) and one.pace == pytest.approx(8 * 60 / 3.75)
    waits = [Word("we", 0, S // 2), Word("hauled", S, 2 * S), Word("it", int(2.4 * S), 3 * S)]
    assert telling(waits).pauses == 0.5 and telling(waits).fluent == pytest.approx(1 - 0.5 / 3)
    assert telling([]).words == 0 and telling([Word("um", 0, 10)]).fluent == 0


# --- themes


def test_a_long_answer_is_cut_where_the_subject_changes() -> None:
    talk = [spoken(f"{LONG} {i}", i) for i in range(10)]
    rows = np.stack([axis((0 if i < 6 else 1, 1), (5 + i, 0.2)) for i in range(10)])
    found = statements(talk, rows)
    assert [(s.first, s.last) for s in found] == [(0, 6), (6, 10)]
    assert (found[0].start, found[0].end, found[0].speaker) == (0, 23 * S, "Odile") and found[1].text.endswith(" 9")
    assert [(s.first, s.last) for s in statements(talk[:8], rows[:8])] == [(0, 6), (6, 8)]
    assert len(statements(talk[:7], rows[:7])) == 1  # 27 s
    assert [(s.first, s.last) for s in statements([*talk[:3], spoken(LONG, 3, speaker="T"), *talk[4:6]], rows[:6])] == [
        (0, 3),
        (3, 4),
        (4, 6),
    ]
    slow = [Said(1, i * 20 * S, i * 20 * S + 18 * S, "Odile", LONG) for i in range(3)]
    assert len(statements(slow, rows[:3])) == 1 and statements([], rows[:0]) == []  # too few sentences to cut


def test_meaning_is_what_is_not_common_to_all() -> None:
    found = [Statement(1, 0, 1, "", "", i, i + 1) for i in range(3)]
    rows = np.stack([axis((0, 1), (i + 1, 0.5)) for i in range(3)])
    means = meant(found, rows)
    assert np.allclose(np.linalg.norm(means, axis=1), 1) and abs(means[:, 0]).max() < 1e-6
    assert means[0] @ means[1] == pytest.approx(-0.5, abs=1e-4)  # three directions that sum to nothing
    two = meant(found[:2], rows)
    assert two[0, 0] == pytest.approx(rows[0, 0], abs=1e-5) and meant([], rows).shape == (0, WIDTH)
    pair = meant([Statement(1, 0, 1, "", "", 0, 2)], rows)
    assert pair[0, 1] == pytest.approx(pair[0, 2]) and pair[0, 3] == 0


def test_groups_stand_by_size_and_new_ones_go_to_the_nearest() -> None:
    rows = np.stack([axis((g, 1), (50 + i, 0.2)) for i, g in enumerate([7, 3, 3, 7, 3, 9])])
    assert grouped(rows) == [1, 0, 0, 1, 0, 2] and grouped(rows[:1]) == [0] and grouped(rows[:0]) == []
    middles = {4: axis((0, 1)), 8: axis((1, 1))}
    assert nearest_theme(axis((0, 1), (1, 0.5)), middles) == 4 and nearest_theme(axis((1, 1)), middles) == 8
    assert nearest_theme(axis((2, 1)), middles) is None and nearest_theme(axis((0, 1)), {}) is None
    edge = np.zeros(WIDTH, np.float32)
    edge[0], edge[2] = LIKE, np.sqrt(1 - LIKE**2)
    assert nearest_theme(edge + np.float32(1e-6), middles) == 4


def test_a_theme_is_named_by_what_tells_it_from_the_others() -> None:
    """Log odds with the whole as prior (Monroe, Colaresi and Quinn 2008): what all say names none."""
    texts = ["the ferry chain river ferry", "ferry chain river", "market bread river", "bread market bread river"]
    named = names(texts, [0, 0, 1, 1])
    assert [set(named[group].split(", ")[:2]) for group in (0, 1)] == [{"ferry", "chain"}, {"market", "bread"}]
    assert names(texts, [0, 0, 1, 1], count=1) == {0: "ferry", 1: "bread"}
    meaning = np.stack([axis((0, 1)), axis((0, 1)), axis((1, 1)), axis((1, 1))])
    near = names(texts, [0, 0, 1, 1], meaning, {"chain": axis((0, 1)), "market": axis((1, 1))}, count=1)
    assert near == {0: "chain", 1: "market"}  # as good a word, and nearer in meaning
    assert names(["of the and"], [0]) == {0: "without words"} and names([], []) == {}
    assert words_of("The Ferry's chain, x and Gierseilfähre!") == ["ferry's", "chain", "gierseilfähre"]


# --- the radio cut


def sentence(index: int, seconds: float = 3, **how: object) -> Sentence:
    """One after the other, a second apart, cut 0.1 s before and after."""
    start = int(index * (seconds + 1) * S)
    said = Said(
        int(how.pop("recording", 1)),
        start,
        start + int(seconds * S),
        str(how.pop("speaker", "Odile")),  # type: ignore[call-overload]
        str(how.pop("text", "Maren rowed across the water")),
    )
    rest = {"theme": 0, "near": 0.5, "before": start - 4800, "after": said.end + 4800, **how}
    return Sentence(said, **rest)  # type: ignore[arg-type]


def test_bites_run_from_pause_to_pause_within_one_statement() -> None:
    rows = [sentence(0), sentence(1, before=None), sentence(2)]
    assert [(b.first, b.last) for b in bites(rows)] == [(0, 1), (0, 2), (0, 3), (2, 3)]
    one = bites(rows)[1]
    assert (one.start, one.end, one.length) == (-4800, 7 * S + 4800, 7 * S + 9600)
    assert [(b.first, b.last) for b in bites([sentence(0, after=None), sentence(1)])] == [(0, 2), (1, 2)]
    for other in ({"speaker": "Tobin"}, {"theme": 1}, {"recording": 2}, {"verdict": "drop"}):
        lone = other == {"verdict": "drop"}
        assert [(b.first, b.last) for b in bites([sentence(0), sentence(1, **other)])] == [(0, 1)] + [(1, 2)] * (
            not lone
        )
    far = [sentence(0), sentence(1)]
    later = Said(1, far[0].said.end + 3 * S, far[0].said.end + 5 * S, "Odile", "x")
    assert len(bites([far[0], Sentence(later, 0, 0.5, later.start, later.end)])) == 3
    later = Said(1, far[0].said.end + 3 * S + 1, far[0].said.end + 6 * S, "Odile", "x")
    assert len(bites([far[0], Sentence(later, 0, 0.5, later.start, later.end)])) == 2
    assert [b.last - b.first for b in bites([sentence(i) for i in range(9)]) if b.first == 0] == [1, 2, 3, 4, 5, 6]
    assert [b.last - b.first for b in bites([sentence(i, 9) for i in range(4)]) if b.first == 0] == [1, 2, 3]
    assert bites([sentence(0, 1.79)]) == [] and len(bites([sentence(0, 1.81)])) == 1  # two seconds with its air


def test_a_bite_is_worth_what_the_log_says_of_it() -> None:
    def worth(**how: object) -> float:
        return bites([sentence(0, **how)])[0].worth

    assert worth() == pytest.approx(0.5) and worth(verdict="keep") == pytest.approx(0.75)
    assert worth(verdict="maybe") == pytest.approx(0.58) and worth(fluent=0.5) == pytest.approx(0.5 - 0.075)
    assert worth(text="And then it went down") == pytest.approx(0.5 - 0.12)
    mean = bites([sentence(0, near=0.2), sentence(1, near=0.6)])[1]
    assert mean.worth == pytest.approx(0.4) and mean.alone


def test_a_sentence_stands_alone_that_leans_on_nothing() -> None:
    for text, stands in {
        "Maren rowed across the water": True,
        "Maren rowed across": False,
        "But Maren rowed across the water": False,
        "The water took him away": False,
        "The water took away him": True,  # not among the first four words
        "Water took him down": False,
    }.items():
        assert radio_cut.alone(text) is stands, text


def test_the_best_of_a_theme_is_told_to_the_length_and_nothing_twice() -> None:
    rows = [sentence(i, near=0.9 - i / 10, recording=i) for i in range(6)]
    meaning = np.stack([axis((i, 1)) for i in range(6)])
    each = rows[0].after - rows[0].before  # type: ignore[operator]
    cut = proposal(rows, meaning, 3 * each, [0])
    assert [c.bite.first for c in cut] == [0, 1, 2]
    assert cut[0].why == "1 sentence, 3.2 s; near the middle of the theme; brings the speaker in: it stands on its own"
    assert cut[1].why == "1 sentence, 3.2 s; near the middle of the theme"
    retold = proposal(rows, meaning, 3 * each, [0], [(0, 1)])
    assert [c.bite.first for c in retold] == [0, 2, 3] and "told twice" in retold[0].why
    picked = proposal(rows, meaning, 3 * each, [0], [(0, 1)], {(0, 1): 1})
    assert [c.bite.first for c in picked] == [1, 2, 3]
    like = meaning.copy()
    like[1] = axis((0, 0.8), (1, 0.6))
    assert [c.bite.first for c in proposal(rows, like, 3 * each, [0])] == [0, 2, 3]  # says the same in other words
    kept = [*rows[:5], sentence(5, near=0.6, recording=5, verdict="keep")]
    assert 5 in [c.bite.first for c in proposal(kept, meaning, 3 * each, [0])]
    assert "kept in the log" in next(c.why for c in proposal(kept, meaning, 3 * each, [0]) if c.bite.first == 5)


def test_what_leans_comes_after_its_speaker_was_brought_in() -> None:
    rows = [
        sentence(0, recording=1, text="And then it went down", near=0.9),
        sentence(1, recording=2, near=0.3),
        sentence(2, recording=3, speaker="Tobin", text="She rowed across to me", near=0.9),
    ]
    meaning = np.stack([axis((i, 1)) for i in range(3)])
    each = rows[0].after - rows[0].before  # type: ignore[operator]
    assert [c.bite.first for c in proposal(rows, meaning, 2 * each, [0])] == [1, 0]  # Tobin is never brought in
    with pytest.raises(TooLittle, match=r"6 s can be told .* 10 s were asked for"):
        proposal(rows, meaning, 3 * each, [0])


def test_themes_stand_in_their_order_or_all_by_time() -> None:
    rows = [sentence(i, recording=i, theme=i % 2, near=0.5) for i in range(4)]
    meaning = np.stack([axis((i, 1)) for i in range(4)])
    each = rows[0].after - rows[0].before  # type: ignore[operator]
    for themes, order, told in (
        ([0, 1], "theme", [0, 2, 1, 3]),
        ([1, 0], "theme", [1, 3, 0, 2]),
        ([1, 0], "time", [0, 1, 2, 3]),
    ):
        assert [c.bite.first for c in proposal(rows, meaning, 4 * each, themes, order=order)] == told  # type: ignore[arg-type]
    assert [c.theme for c in proposal(rows, meaning, 4 * each, [1, 0])] == [1, 1, 0, 0]


def test_a_length_is_met_by_exchanging_one_bite_for_another() -> None:
    """Long ones are worth most; the length asked for needs a long and two short ones: 5 % is what is promised."""
    lengths = [10.0, 10.0, 4.0, 4.0]
    rows, at = [], 0.0
    for i, seconds in enumerate(lengths):
        start = int(at * S)
        said = Said(i, start, start + int(seconds * S), "Odile", "Maren rowed across the water")
        rows.append(Sentence(said, 0, 0.9 - i / 20, start, said.end))
        at += 40
    meaning = np.stack([axis((i, 1)) for i in range(4)])
    for target in (10, 14, 18, 20, 24, 28):
        cut = proposal(rows, meaning, target * S, [0])
        assert sum(c.bite.length for c in cut) == target * S
    with pytest.raises(TooLittle):
        proposal(rows, meaning, 7 * S, [0])
    assert Bite(0, 1, 5, 9, 0, True).length == 4
