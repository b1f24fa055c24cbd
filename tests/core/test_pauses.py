"""Pauses, levels and edges, on drawn recordings: one letter is 100 ms.

#  speech, loud     .  silence     ~  loud and not speech     +  speech the detector hears, and no level
"""

import numpy as np
import pytest

from kovel.core.sound.band_level import LevelMaker
from kovel.core.sound.levels import (
    QUIETEST,
    RATE,
    TICK,
    Levels,
    filled,
    hysteresis,
    local_floor,
    runs,
    stretch_to_ticks,
)
from kovel.core.sound.pauses import (
    VOICE,
    Pause,
    Settings,
    hills,
    nearest_pause,
    noise_floor,
    pauses,
    speech,
)
from kovel.core.words.transcript import Word

CLEAR, STREET = -52.0, -34.0  # of silence, where speech is -20: between 28 and 36 dB under it, and less than that


def drawn(picture: str, quiet: float = -75.0, loud: float = -20.0, certain: float = 1.0) -> Levels:
    """Ten ticks a letter; the floor is the quiet level."""
    of = {"#": (certain, loud), ".": (0.0, quiet), "~": (0.0, loud), "+": (certain, quiet)}
    rows = np.repeat(np.array([of[letter] for letter in picture]).reshape(-1, 2), 10, axis=0).astype(np.float32)
    return Levels(rows[:, 0].copy(), rows[:, 1].copy(), np.full(len(rows), quiet, np.float32))


def seen(mask: np.ndarray) -> str:
    """Back to letters: what most of each 100 ms is."""
    return "".join("#" if part.sum() > 5 else "." for part in mask.reshape(-1, 10))


def spans(mask: np.ndarray) -> list[tuple[int, int]]:
    return list(zip(*(side.tolist() for side in runs(mask)), strict=True))


# --- levels


def test_the_level_is_that_of_the_band_of_speech_whatever_the_blocks() -> None:
    """A sine of amplitude a has the level 20 log a - 3.01 dB; a Butterworth band of order 4 falls by 24 dB an octave
    (handbooks of filters): 50 Hz lies two octaves under 200 Hz."""
    time = np.arange(RATE) / RATE

    def level_of(hertz: float, blocks: int) -> np.ndarray:
        maker, sine = LevelMaker(), (0.5 * np.sin(2 * np.pi * hertz * time)).astype(np.float32)
        for start in range(0, len(sine), blocks):
            maker.feed(sine[start : start + blocks])
        return maker.finish()

    whole, parts = level_of(1000, RATE), level_of(1000, 777)
    assert len(whole) == 100 and np.allclose(whole, parts, atol=1e-3)
    assert abs(whole[20:].mean() - (20 * np.log10(0.5) - 3.0103)) < 0.05
    assert abs(level_of(50, 800)[30:].mean() - (whole[20:].mean() - 48)) < 1.5
    for samples, ticks in ((79, 0), (80, 1), (160, 1), (239, 1), (240, 2)):
        maker = LevelMaker()
        maker.feed(np.zeros(samples, np.float32))
        assert maker.finish().tolist() == pytest.approx([-90.0] * ticks, abs=1e-3)


def test_the_floor_is_what_a_tenth_of_the_time_around_stays_under() -> None:
    """Half a minute with a quiet fifth, then half a minute without: 20 s around are looked at (numpy's percentile)."""
    level = np.concatenate([np.tile(np.repeat([-60.0, -20.0, -20.0, -20.0, -20.0], 20), 30), np.full(6000, -30.0)])
    level = level.astype(np.float32)
    floor = local_floor(level)
    assert len(floor) == len(level) and floor[1000] == pytest.approx(-60, abs=0.1)
    assert floor[8000] == pytest.approx(-30, abs=0.1) and -60 < floor[4000] <= -30
    assert local_floor(level[:0]).tolist() == []
    assert local_floor(level, 2.0, 50)[300] == pytest.approx(-20, abs=0.1)


def test_loud_and_quiet_are_told_apart_within_half_a_minute() -> None:
    second = np.repeat([-60.0, -20.0], 100)
    level = np.concatenate([np.tile(second, 30), np.full(6000, -40.0)]).astype(np.float32)
    spread = Levels(level, level, level).spread
    assert len(spread) == len(level)
    assert spread[1500] == pytest.approx(40, abs=0.1) and spread[11_000] == pytest.approx(0, abs=0.1)
    odd = Levels(level[:151], level[:151], level[:151])
    assert len(odd.spread) == 151 and odd.between(0, 481).level.tolist() == level[:2].tolist()
    assert odd.between(480, 960).level.tolist() == level[1:2].tolist() and not odd.heard
    kept = Levels.from_array(drawn("#.~+").to_array())
    assert kept.heard and kept.speech.tolist() == drawn("#.~+").speech.tolist() and kept.level[0] == -20


def test_a_detectors_windows_become_ticks() -> None:
    """Windows of 512 samples whose values rise by one each: a straight line through their middles, flat at the ends."""
    rising = stretch_to_ticks(np.arange(5, dtype=np.float32), 16)
    middles = np.arange(16) * 160 + 80
    assert rising.tolist() == pytest.approx(np.clip((middles - 256) / 512, 0, 4).tolist())
    assert stretch_to_ticks(np.zeros(0, np.float32), 3).tolist() == [0, 0, 0]


def test_runs_and_what_is_filled_of_them() -> None:
    mask = np.array([1, 1, 0, 1, 0, 0, 1], bool)
    assert spans(mask) == [(0, 2), (3, 4), (6, 7)] and spans(mask[:0]) == [] and spans(np.zeros(3, bool)) == []
    assert (filled(7, *runs(mask)) == mask).all()
    assert spans(filled(6, np.array([1, 2]), np.array([4, 9]))) == [(1, 6)]  # overlapping, and over the end
    values = np.array([0, 2, 3, 2, 0, 2, 2, 0, 3, 3], np.float32)
    assert spans(hysteresis(values, 2.5, 1)) == [(1, 4), (8, 10)]
    assert spans(hysteresis(values, 2.5, 1, 2)) == [(8, 10)]
    assert spans(hysteresis(values, 2, 0)) == [(1, 4), (8, 10)]  # over, not at


# --- speech


@pytest.mark.parametrize(
    ("picture", "quiet", "found"),
    [
        # in a quiet room the level shows each edge, up to 150 ms from where the detector has it
        ("....#####....", -75, "....#####...."),
        ("....~#####~...", -75, "....#######..."),
        ("....+#####+...", -75, ".....#####...."),
        # a closure of less than 100 ms in a word is no pause, silence of 100 ms may be one
        ("...###.###...", -75, "...###.###..."),
        # the detector's speech that no level stands behind, and sound that it heard no speech near
        ("...++++....#####...", -75, "...........#####..."),
        ("...~~~~....#####...", -75, "...........#####..."),
        # a clear signal moves an edge by at most 250 ms
        ("....~~#####~~~~~....", CLEAR, "....#########......."),
        ("....++#####++......", CLEAR, "......#####........"),
        ("....++#####+++++....", CLEAR, "......##########...."),  # farther than that it stays where it was heard
        # a street: it grows by at most 80 ms, where it stands out, and never shrinks
        ("....~~#####~~~~~....", STREET, ".....#######........"),
        ("....++#####+++++....", STREET, "....############...."),
    ],
)
def test_where_speech_begins_and_ends(picture: str, quiet: float, found: str) -> None:
    around = "." * 20 + "#" * 20 + "." * 20  # so that loud and quiet stand there in any case
    mask = speech(drawn(around + picture + around, quiet))
    assert seen(mask[len(around) * 10 : -len(around) * 10]) == found


def test_an_edge_moves_no_farther_than_it_may() -> None:
    long = "." * 30 + "~" * 10 + "#" * 20 + "~" * 10 + "." * 30
    assert spans(speech(drawn(long, CLEAR))) == [(400 - 25, 600 + 25)]
    assert spans(speech(drawn(long, STREET))) == [(400 - 8, 600 + 8)]
    inward = "." * 30 + "+" * 2 + "#" * 20 + "+" * 2 + "." * 30
    assert spans(speech(drawn(inward, CLEAR))) == [(320 - 1, 520 + 1)]  # the level is a mean of three ticks
    far = "." * 30 + "+" * 4 + "#" * 20 + "+" * 4 + "." * 30
    assert spans(speech(drawn(far, CLEAR))) == [(300, 580)]  # farther than that it is left where it was heard


def test_clicks_are_no_speech() -> None:
    ticks = drawn("." * 30 + "#" * 20 + "." * 30)
    for length, kept in ((7, False), (8, True)):
        one = Levels(ticks.speech.copy(), ticks.level.copy(), ticks.floor)
        one.speech[100 : 100 + length], one.level[100 : 100 + length] = 1, -20
        assert any(a < 110 for a, _ in spans(speech(one))) is kept
    assert spans(speech(ticks, Settings(island=3.0))) == []


def test_what_was_not_listened_to_yet_is_told_by_level_alone() -> None:
    half = drawn("." * 20 + "~" * 20 + "." * 20, STREET)
    half.speech[:] = -1
    assert spans(speech(half)) == [(199, 401)] and not half.heard  # a mean of three ticks reaches one farther
    faint = Levels(half.speech, np.where(half.level > -30, STREET + 8, half.level), half.floor)
    assert spans(speech(faint)) == []  # it has to stand 9 dB over the floor somewhere


def test_a_threshold_set_by_hand_decides_alone() -> None:
    stairs = drawn("." * 10)
    stairs.level[20:40], stairs.level[40:60], stairs.level[70:80] = -42, -38, -42
    assert spans(speech(stairs, Settings(threshold=-40))) == [(21, 59)]  # it goes on 3 dB under it
    assert spans(speech(stairs, Settings(threshold=-38))) == []
    assert spans(speech(stairs, Settings(threshold=-50))) == [(21, 60), (71, 79)]  # a mean of three ticks is looked at


# --- pauses


def test_a_pause_is_as_sure_as_it_is_deep_and_quiet() -> None:
    """0.6 of it by the detector, 0.4 by depth, of which 20 dB are enough (our own scale)."""
    found = pauses(drawn("." * 5 + "#" * 30 + "." * 10 + "#" * 30 + "." * 2))
    assert [(p.start, p.end) for p in found] == [(0, 24_000), (168_000, 216_000)]  # the last is too short
    assert found[1].depth == pytest.approx(55, abs=0.5) and found[1].sure == 1.0
    shallow = drawn("#" * 30 + "." * 10 + "#" * 30, -30)
    shallow.speech[300:400] = 0.2
    (one,) = pauses(shallow)
    assert (one.start, one.end, one.depth) == (144_480, 191_520, 10.0)  # where it is not clear, speech grows
    assert one.sure == pytest.approx(0.6 * 0.8 + 0.4 * 0.5, abs=0.001)
    assert pauses(drawn("")) == []


def test_a_pause_is_as_long_as_asked_give_or_take_half_a_tick() -> None:
    picture = drawn("#" * 20 + "." * 5 + "#" * 20 + "." * 20 + "#")
    assert len(pauses(picture, Settings(shortest=0.5))) == 2 == len(pauses(picture, Settings(shortest=0.505)))
    assert len(pauses(picture, Settings(shortest=0.5051))) == 1


def test_no_pause_takes_in_a_word() -> None:
    picture = drawn("#" * 20 + "." * 20 + "#" * 20)
    whole, inside = (96_000, 192_000), [Word("oh", 130_000, 140_000)]

    def with_words(*words: Word) -> list[tuple[int, int]]:
        return [(p.start, p.end) for p in pauses(picture, words=words)]

    assert with_words() == [whole] == with_words(Word("haul", 90_000, 100_000), Word("by", 188_000, 199_000))
    assert with_words(*inside) == [(96_000, 130_000), (140_000, 192_000)]
    assert with_words(Word("haul", 90_000, 104_000)) == [(104_000, 192_000)]  # its middle lies in the pause
    assert with_words(Word("by", 180_000, 200_000)) == [(96_000, 180_000)]
    assert with_words(Word(VOICE, 130_000, 140_000)) == [whole]
    assert with_words(Word("a", 130_000, 140_000), Word("b", 135_000, 138_000)) == [
        (96_000, 130_000),
        (140_000, 192_000),
    ]


def test_what_would_be_cut_leaves_its_air() -> None:
    pause = Pause(48_000, 96_000, 40, 1)
    assert pause.cut(Settings()) == (48_000 + 5_760, 96_000 - 3_840)
    least = Settings(before=0.5, after=0.49)
    assert pause.cut(least) == (48_000 + 23_520, 96_000 - 24_000) and pause.cut(least)[1] - pause.cut(least)[0] == TICK
    assert pause.cut(Settings(before=0.5, after=0.4901)) is None


def test_the_nearest_pause_is_entered_by_no_more_than_150_ms() -> None:
    short, long = Pause(48_000, 52_800, 40, 1), Pause(96_000, 144_000, 40, 1)
    both = [short, long]
    assert nearest_pause(both, 40_000, 48_000) == 50_400  # the middle of one of 100 ms
    assert nearest_pause(both, 90_000, 48_000) == 96_000 + 7_200
    assert nearest_pause(both, 150_000, 48_000) == 144_000 - 7_200
    assert nearest_pause(both, 120_000, 48_000) == 120_000
    assert nearest_pause(both, 150_000, 13_200) == 136_800 and nearest_pause(both, 150_000, 13_199) is None
    assert nearest_pause([], 0, 10**9) is None


def test_the_noise_floor_is_the_usual_level_of_silence() -> None:
    picture = drawn("#" * 30 + "." * 30)
    picture.level[300:600] = np.linspace(-70, -60, 300)
    assert noise_floor(picture) == pytest.approx(-65, abs=0.05)
    deaf = Levels(np.full(600, -1, np.float32), picture.level, picture.floor)
    assert noise_floor(deaf) == pytest.approx(float(np.percentile(picture.level, 10)), abs=0.01)
    assert noise_floor(drawn("")) == QUIETEST == noise_floor(drawn("#...", -120))
    no_silence = drawn("#####")
    assert noise_floor(no_silence) == -20


def test_two_hills_are_counted_in_steps_of_one_decibel() -> None:
    picture = drawn("#" * 3 + "." * 5, -75, -20.5)
    mask = speech(picture)
    found = hills(picture, mask, Settings())
    assert found.low == -90 and len(found.speech) == 91
    assert found.speech[-21 + 90] == 30 and found.speech.sum() == 30
    assert found.background[-75 + 90] == 50 and found.background.sum() == 50
    assert found.threshold == -62 + 3 and hills(picture, mask, Settings(threshold=-33)).threshold == -33
    assert hills(drawn("#..", STREET), mask[:30], Settings()).threshold == STREET + 3
