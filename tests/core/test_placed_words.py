"""Words put where they sound, on drawn speech: `#` is a tick (10 ms) of speech."""

import numpy as np

from kovel.core.sound.levels import TICK
from kovel.core.words.align import Clip, clips, snap, sounds, spoken
from kovel.core.words.transcript import Word


def mask(*spans: tuple[int, int], length: int = 400) -> np.ndarray:
    out = np.zeros(length, bool)
    for start, end in spans:
        out[start:end] = True
    return out


def placed(talking: np.ndarray, *words: tuple[str, int, int], **how: object) -> list[tuple[str, int, int]]:
    """Words by ticks, in and out."""
    found = snap([Word(t, a * TICK, b * TICK) for t, a, b in words], talking, **how)  # type: ignore[arg-type]
    return [(w.text, w.start // TICK, w.end // TICK) for w in found]


def test_spelling_becomes_phones() -> None:
    """Phones as the CMU Pronouncing Dictionary has them for plain words (ARPAbet), from memory."""
    for word, phones in {
        "fish": "F IH SH",
        "thing": "TH IH NG",
        "queen": "K W IY N",
        "knock": "N AA K",
        "moon": "M UW N",
        "butter": "B AH T ER",
        "station": "S T AE SH AH N",
        "hill": "HH IH L",
        "Ship,": "SH IH P",
        "made": "M AE D",
        "the": "TH EH",
        "egg": "EH G",
        "123": "",
    }.items():
        assert sounds(word) == phones, word


def test_figures_are_spoken() -> None:
    """As English counts (any handbook); what begins with a nought or is very long is read digit by digit."""
    for text, words in {
        "1,204": "one thousand two hundred four",
        "0": "zero",
        "19": "nineteen",
        "20": "twenty",
        "21": "twenty one",
        "99": "ninety nine",
        "100": "one hundred",
        "110": "one hundred ten",
        "999,999": "nine hundred ninety nine thousand nine hundred ninety nine",
        "1000": "one thousand",
        "1000000": "one zero zero zero zero zero zero",
        "007": "zero zero seven",
        "5%": "five percent",
        "R&D": "r and d",
        "don’t, 'twas": "don't twas",
        "…": "",
    }.items():
        assert " ".join(spoken(text)) == words, text


def test_edges_leave_proven_silence() -> None:
    talking = mask((100, 200), (250, 300))
    # the picture in the docstring: a start in silence moves on, an end in silence back
    assert placed(talking, ("we", 90, 120), ("haul", 120, 210), ("it", 240, 300)) == [
        ("we", 100, 120),
        ("haul", 120, 200),
        ("it", 250, 300),
    ]
    # a first word takes the beginning and a last one the end, up to 300 ms; one farther away does not
    assert placed(talking, ("we", 130, 170)) == [("we", 100, 200)]
    assert placed(talking, ("we", 131, 190))[0][1] == 131
    assert placed(talking, ("we", 140, 190), near=45)[0][1] == 100
    # words in the middle of a stretch stay where they are
    assert placed(talking, ("we", 100, 120), ("haul", 140, 150), ("it", 180, 200))[1] == ("haul", 140, 150)


def test_the_last_word_fades_as_long_as_its_letters_take() -> None:
    """80 ms a letter, beside what an edge is off by anyway, and half a second at most."""
    talking = mask((100, 200))
    assert placed(talking, ("we", 100, 110), ("go", 130, 150))[1] == ("go", 130, 150)  # 500 ms from the end
    assert placed(talking, ("we", 100, 110), ("gone", 140, 152))[1] == ("gone", 140, 200)  # 300 + 320 - 120 ms
    assert placed(talking, ("we", 100, 110), ("gone", 140, 149))[1] == ("gone", 140, 149)  # 510 ms: too far


def test_words_keep_their_order_and_do_not_overlap() -> None:
    talking = mask((100, 300))
    rows = placed(talking, ("a", 100, 160), ("b", 150, 155), ("c", 150, 200))
    assert rows[0][2] <= rows[1][1] and rows[1][2] <= rows[2][1] and all(b - a >= 2 for _, a, b in rows)
    assert placed(mask(), ("a", 5, 9)) == [("a", 5, 9)]  # nothing sounds at all: nothing is known


def test_what_the_recogniser_made_up_goes() -> None:
    talking = mask((100, 200), (380, 400))
    heard = [("we", 100, 150), ("go", 160, 200)]
    assert placed(talking, *heard, ("thanks", 250, 280)) == heard  # 1 s of silence, and nobody begins soon after
    kept = placed(talking, *heard, ("thanks", 250, 280), whole=True)
    assert [w[0] for w in kept] == ["we", "go", "thanks"]
    assert placed(talking, *heard, ("so", 330, 350))[-1] == ("so", 380, 400)  # within 0.6 s of the next
    assert placed(talking, ("go", 190, 240)) == [("go", 190, 200)]
    assert placed(talking, ("go", 210, 240))[-1][2] == 200  # after all of it: the end of the stretch before


def test_a_word_over_a_pause_stands_in_its_longer_part() -> None:
    assert placed(mask((100, 160), (190, 220)), ("hauling", 110, 215)) == [("hauling", 100, 160)]
    assert placed(mask((100, 120), (150, 220)), ("hauling", 105, 219)) == [("hauling", 150, 220)]
    # a quarter of a second of silence may stand in a word, no more
    assert placed(mask((100, 160), (184, 220)), ("hauling", 110, 215)) == [("hauling", 100, 220)]
    assert placed(mask((100, 160), (185, 220)), ("hauling", 110, 215)) == [("hauling", 100, 160)]
    # its end in the next stretch counts from 60 ms on
    assert placed(mask((100, 160), (170, 220)), ("haul", 110, 175), ("it", 180, 220))[0] == ("haul", 100, 160)
    assert placed(mask((100, 160), (170, 220)), ("haul", 110, 176), ("it", 180, 220))[0] == ("haul", 100, 176)


# --- what is heard at once


def test_speech_is_cut_into_clips_in_its_pauses() -> None:
    talking = mask((100, 200), (220, 300), (1000, 1100), (4000, 4100), length=5000)
    assert clips(talking, 28, 0.4) == [Clip(((60, 340), (960, 1140), (3960, 4140)))]
    assert clips(talking, 4.65, 0.4) == [Clip(((60, 340), (960, 1140))), Clip(((3960, 4140),))]
    assert clips(talking, 4.55, 0.4) == [Clip(((60, 340),)), Clip(((960, 1140), (3960, 4140)))]
    assert clips(mask((0, 10), length=12), 28, 0.4) == [Clip(((0, 12),))] and clips(mask()) == []


def test_who_talks_on_without_a_pause_is_cut_in_equal_parts() -> None:
    parts = clips(np.ones(7000, bool), 28, 0.4)
    assert [c.parts for c in parts] == [((0, 2333),), ((2333, 4666),), ((4666, 7000),)]
    assert clips(np.ones(2800, bool), 28) == [Clip(((0, 2800),))] and len(clips(np.ones(2801, bool), 28)) == 2


def test_a_clip_knows_its_place() -> None:
    clip = Clip(((10, 20), (50, 55), (90, 120)))
    assert clip.length == 45
    assert [clip.on_recording(t) for t in (0, 9, 10, 14, 15, 44, 45, 99)] == [10, 19, 50, 54, 90, 119, 120, 120]
    assert [clip.on_recording(t, end=True) for t in (10, 15, 45)] == [20, 55, 120]
    assert clip.halves() == (Clip(((10, 20), (50, 55))), Clip(((90, 120),)))
    assert Clip(((10, 21),)).halves() == (Clip(((10, 15),)), Clip(((15, 21),)))
    assert Clip(((0, 100), (200, 210), (300, 310))).halves() == (Clip(((0, 100),)), Clip(((200, 210), (300, 310))))
