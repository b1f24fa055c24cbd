"""What talk can do without, and words as they are written down, by worked examples.

Words are 100 ms long, 50 ms apart; `...` behind one is a second of silence. [x] is proposed to go.
"""

import itertools
import re

import numpy as np
import pytest

from kovel.core.sound.levels import Levels
from kovel.core.sound.pauses import VOICE, Pause, Settings
from kovel.core.time.rate import Rate
from kovel.core.words.fillers import Proposal, kept, proposals, questions, voiced_between, word_proposals
from kovel.core.words.text_coding import NotText, text_in
from kovel.core.words.transcript import (
    Sentence,
    Word,
    corrected,
    joined,
    lines,
    replaced,
    sentences,
    with_speakers,
    words_in,
)

MS = 48


def said(text: str, speaker: str = "", at: int = 0) -> list[Word]:
    words = []
    for token in text.split():
        text_of_it = token.removesuffix("...") if len(token) > 3 else token
        words.append(Word(text_of_it, at, at + 100 * MS, speaker))
        at += (1100 if token.endswith("...") else 150) * MS
    return words


# --- what can go


@pytest.mark.parametrize(
    ("text", "kind", "sure"),
    [
        ("we {um} haul it", "filler", 0.9),
        ("we {you know} haul it", "filler", 0.4),  # it may mean what it says
        ("we haul, {you know} it", "filler", 0.7),  # a comma before it, or behind it, says that it does not
        ("we {you know,} haul it", "filler", 0.7),
        ("we {[voice]} haul", "voice", 0.5),
        ("we {the} the ferry", "repeat", 0.7),
        ("we very very early", "repeat", 0),  # said twice on purpose
        ("{the first winter} the first winter was hard", "false start", 0.85),
        ("{the first winter I was,} the first winter, I was alone", "false start", 0.85),
        ("the first winter ended. the first winter was hard", "false start", 0),  # another sentence
        ("{we went out to the river} we went out to the river", "false start", 0.85),
        ("{to the a b c d e} to the bank", "false start", 0.85),
        ("to the a b c d e f to the bank", "false start", 0),  # six words between are too many
        ("the a the ferry", "false start", 0),  # one word comes again too often by itself
    ],
)
def test_what_words_propose(text: str, kind: str, sure: float) -> None:
    found = [p for p in word_proposals(said(re.sub("[{}]", "", text))) if p.kind == kind]
    if not sure:
        assert found == []
        return
    first, last = (next(i for i, token in enumerate(text.split()) if mark in token) for mark in "{}")
    end = last * 150 * MS + 100 * MS  # 50 ms of air stay before what follows
    assert [(p.start, p.end, p.sure) for p in found] == [(first * 150 * MS, end, sure)]


def test_hesitation_between_a_word_said_twice() -> None:
    found = word_proposals(said("we the um the ferry"))
    assert [(p.kind, p.start // MS, p.end // MS) for p in found] == [("filler", 300, 400), ("false start", 150, 400)]


def test_what_goes_leaves_the_next_word_its_air() -> None:
    """A cut reaches to 50 ms before the next word, unless that comes half a second later or more."""

    def end_of(gap: int) -> int:
        words = [Word("um", 0, 4800), Word("we", 4800 + gap, 4800 + gap + 4800)]
        return word_proposals(words)[0].end

    assert end_of(0) == 4800 == end_of(2400) and end_of(9600) == 4800 + 9600 - 2400
    assert end_of(23_999) == 4800 + 23_999 - 2400 and end_of(24_000) == 4800
    assert word_proposals([Word("um", 0, 4800)])[0].end == 4800 and word_proposals([]) == []


def test_a_breath_is_eight_seconds_and_of_one_speaker() -> None:
    def repeated(second: Word) -> bool:
        return bool(word_proposals([Word("haul", 0, 4800), second]))

    assert repeated(Word("haul", 8 * 48_000, 8 * 48_000 + 1)) and not repeated(Word("haul", 8 * 48_000 + 1, 400_000))
    assert not repeated(Word("haul", 9600, 14_400, "Odile"))


def test_proposals_do_not_overlap() -> None:
    """A question goes before a false start, that before a word, that before a pause, which is cut down to what is
    left; what would be under 40 ms is left out."""

    def all_of(*rows: Proposal, pauses: tuple[Pause, ...] = ()) -> list[tuple[int, int, str]]:
        of = Settings(before=0, after=0)
        return [(p.start // 480, p.end // 480, p.kind) for p in proposals(pauses, of, rows)]

    def one(start: int, end: int, kind: str) -> Proposal:
        return Proposal(start * 480, end * 480, kind, "", 1)

    pause = Pause(100 * 480, 200 * 480, 30, 0.5)
    assert all_of(one(120, 150, "filler"), pauses=(pause,)) == [
        (100, 120, "pause"),
        (120, 150, "filler"),
        (150, 200, "pause"),
    ]
    assert all_of(one(104, 197, "filler"), pauses=(pause,)) == [(100, 104, "pause"), (104, 197, "filler")]
    order = ["question", "false start", "repeat", "filler", "voice"]
    for stronger, weaker in itertools.pairwise(order):
        assert all_of(one(0, 10, weaker), one(5, 20, stronger)) == [(5, 20, stronger)]
        assert all_of(one(0, 10, weaker), one(10, 20, stronger)) == [(0, 10, weaker), (10, 20, stronger)]
    assert all_of(one(0, 3, "filler")) == [] and all_of(one(0, 4, "filler")) == [(0, 4, "filler")]
    (first,) = proposals([pause], Settings(), [])
    assert (first.start, first.end, first.anchor, first.sure) == (53_760, 92_160, 48_000, 0.5)
    assert first.why == "1.0 s without speech"


def test_what_is_kept_is_what_is_left() -> None:
    assert kept(0, 20, [(5, 8), (12, 15)]) == [(0, 5), (8, 12), (15, 20)]
    assert kept(0, 20, [(12, 15), (5, 8), (6, 13)]) == [(0, 5), (15, 20)]
    assert kept(5, 20, [(0, 5), (20, 30)]) == [(5, 20)] and kept(5, 20, [(0, 6), (19, 30)]) == [(6, 19)]
    assert kept(5, 20, [(5, 20)]) == [] == kept(5, 20, [(0, 30)]) and kept(3, 3, []) == []


# --- who asks


def test_the_interviewer_is_known_by_name() -> None:
    words = [*said("where was it?", "interviewer"), *said("by the river.", "Odile", 3 * 48_000)]
    words += said("and then? and after?", "interviewer", 6 * 48_000)
    found = questions(words, None)
    assert [(p.start, p.end, p.sure) for p in found] == [
        (0, 400 * MS, 0.95),
        (6 * 48_000, 6 * 48_000 + 550 * MS, 0.95),  # two sentences less than a second apart are one
    ]
    assert questions(words[3:6], None) == []


def levels_at(words: list[Word], loud: dict[int, float], usual: float = -20) -> Levels:
    """By sentence: how loud each is."""
    level = np.full(words[-1].end // 480 + 10, -70, np.float32)
    for index, sentence in enumerate(sentences(words)):
        level[sentence.start // 480 : sentence.end // 480] = loud.get(index, usual)
    return Levels(np.ones_like(level), level, level)


@pytest.mark.parametrize(
    ("softer", "text", "found"),
    [(7.5, "where was it?", 0.8), (6.5, "where was it?", 0), (7.5, "there it was.", 0), (10.5, "there it was.", 0.6)],
)
def test_what_is_much_softer_is_asked_from_off_camera(softer: float, text: str, found: float) -> None:
    """Alone among few: 7 dB softer for a question, 10 for anything else."""
    words = [*said("we hauled it by hand every single day."), *said(text, at=3 * 48_000)]
    rows = questions(words, levels_at(words, {1: -20 - softer}))
    assert [p.sure for p in rows] == ([found] if found else [])


def test_two_groups_of_loudness_are_told_apart_where_the_softer_ones_ask() -> None:
    """Six dB apart, under what a single sentence needs; each group narrow (Otsu 1979)."""
    text = "Where was it? By the river there. Who rowed? My father did. And then? It went down."
    words = said(re.sub(r"(?<=[?.]) ", "... ", text))
    soft = {0: -26, 2: -26, 4: -26}
    found = questions(words, levels_at(words, soft))
    assert [p.sure for p in found] == [pytest.approx(0.9)] * 3
    assert questions(words, levels_at(words, {1: -26, 3: -26, 5: -26})) == []  # the softer ones answer
    assert questions(words, levels_at(words, {0: -24.5, 2: -24.5, 4: -24.5})) == []  # not apart enough
    spread = {0: -26, 2: -32, 4: -26, 1: -14, 3: -20, 5: -26}
    assert not [p for p in questions(words, levels_at(words, spread)) if p.sure > 0.85]


def test_sound_without_words_is_told() -> None:
    level = np.full(300, -20, np.float32)
    levels = Levels(np.ones_like(level), level, level)
    mask = np.zeros(300, bool)
    mask[20:100] = mask[150:260] = True
    words = [Word("we", 20 * 480, 80 * 480), Word("haul", 190 * 480, 257 * 480)]
    found = voiced_between(levels, words, mask=mask)
    assert [(w.text, w.start // 480, w.end // 480) for w in found] == [(VOICE, 83, 100), (VOICE, 150, 188)]
    assert [w.start // 480 for w in voiced_between(levels, words, 0.171, mask=mask)] == [150]


# --- words as they are written


def test_sentences_end_at_a_stop_a_speaker_or_a_pause() -> None:
    words = [*said("We haul it. By hand... two of us"), Word("yes", 3 * 48_000, 3 * 48_000 + 4800, "Tobin")]
    assert [(s.text, s.speaker, s.count) for s in sentences(words)] == [
        ("We haul it.", "", 3),
        ("By hand two of us", "", 5),
        ("yes", "Tobin", 1),
    ]
    long = [Word("we", 0, 4800), Word("haul", 4800 + 71_999, 90_000), Word("it", 90_000 + 72_000, 170_000)]
    assert [s.text for s in sentences(long)] == ["we haul", "it"] and sentences([]) == []
    assert sentences(long)[0] == Sentence(0, 90_000, "", "we haul", 2)


def test_corrected_words_share_the_time_by_their_letters() -> None:
    two = corrected(Word("wehaul", 0, 800, "Odile", 0.4), "we haul")  # 3 and 5 of 8 letters with their spaces
    assert [(w.text, w.start, w.end, w.speaker, w.sure) for w in two] == [
        ("we", 0, 300, "Odile", 1.0),
        ("haul", 300, 800, "Odile", 1.0),
    ]
    assert corrected(Word("x", 0, 10), "") == [] and joined(two) == Word("wehaul", 0, 800, "Odile")


def test_words_are_replaced_with_what_stood_around_them_kept() -> None:
    words, count = replaced(said("The ferri, they said. the Ferri goes"), "the ferri", "the ferry")
    assert [w.text for w in words] == ["The", "ferry,", "they", "said.", "the", "ferry", "goes"] and count == 2
    assert (words[0].start, words[1].end) == (0, 250 * MS)
    gone, count = replaced(said("we um haul um"), "um", "")
    assert [w.text for w in gone] == ["we", "haul"] and count == 2
    assert replaced(said("we haul"), "", "x")[1] == 0 == replaced(said("we haul"), "we haul it", "x")[1]
    assert [w.text for w in replaced(said("Anna went"), "Anna", "maren")[0]] == ["maren", "went"]


def test_a_speaker_stays_with_the_nearest_word() -> None:
    named = [Word("a", 0, 100, "Odile"), Word("b", 1000, 1100, "Tobin")]
    heard = with_speakers([Word("x", 500, 540), Word("y", 560, 580), Word("z", 5000, 5100)], named)
    assert [w.speaker for w in heard] == ["Odile", "Tobin", "Tobin"]
    assert with_speakers(heard, [Word("a", 0, 1)]) == heard


def test_a_word_belongs_to_the_side_that_keeps_more_of_it() -> None:
    rate = Rate(25)  # 1920 samples a frame
    words = [Word("a", 0, 1920), Word("b", 8 * 1920, 12 * 1920), Word("c", 18 * 1920, 23 * 1920)]
    assert [(f, w.text) for f, w in words_in(words, rate, 10, 10)] == [(10, "b")]
    assert [(f, w.text) for f, w in words_in(words, rate, 11, 10)] == [(18, "c")]
    assert [w.text for _, w in words_in(words, rate, 0, 10)] == ["a"]
    assert words[1].frames(rate) == (8, 12) and Word("d", 1919, 1920).frames(rate) == (0, 1)
    assert Word("e", 1920, 1920).frames(rate) == (1, 2) and Word("f", 1920, 1921).frames(rate) == (1, 2)


def test_a_full_line_pushes_words_down_while_there_are_lines() -> None:
    words = [(f, Word(t, 0, 1)) for f, t in ((0, "We"), (2, "haul"), (4, "the"), (6, "ferry"), (30, "home"))]

    def set_in(rows: int, chars: int) -> list[tuple[int, str]]:
        found = lines(words, start=0, length=40, frames_per_row=10, line_count=rows, chars=chars)
        return [(row.top, " ".join(w.text for _, w in row.words)) for row in found]

    assert set_in(4, 40) == [(0, "We haul the ferry"), (3, "home")]
    assert set_in(4, 7) == [(0, "We haul"), (1, "the"), (2, "ferry"), (3, "home")]
    assert set_in(2, 7) == [(0, "We haul"), (1, "the ferry home")] and set_in(0, 99)[0][0] == 0


# --- text of any program


@pytest.mark.parametrize("coding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "cp1252", "latin-1"])
def test_text_is_read_in_whatever_coding(coding: str) -> None:
    """Python's own codecs write it."""
    for text in ("plain", "café — Müller" if coding != "latin-1" else "café Müller", "ab"):
        assert text_in(text.encode(coding)) == text


def test_what_is_no_text_is_told() -> None:
    assert text_in(b"") == "" and text_in("日本語のテキスト".encode()) == "日本語のテキスト"
    with pytest.raises(NotText, match="cut off or is damaged"):
        text_in(b"\xef\xbb\xbfcaf\xc3")
    with pytest.raises(NotText, match="cut off or is damaged"):
        text_in("café".encode("utf-16") + b"\x00")
    with pytest.raises(NotText, match="Save it as UTF-8"):
        text_in(bytes([0x81, 0x01, 0xFF, 0x02]))
