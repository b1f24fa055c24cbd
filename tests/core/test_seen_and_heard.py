"""What a shot is like, what the numbers of a picture mean, and what was delivered held against the plan."""

from dataclasses import replace

import numpy as np
import pytest

from kovel.core.checks.delivered import Difference, heard_differences, seen_difference
from kovel.core.checks.mix_loudness import mixed
from kovel.core.picture.colour import (
    BT709,
    BT2020,
    HLG,
    LINEAR,
    PQ,
    UNSPECIFIED,
    Coding,
    cube_text,
    hlg_light,
    pq_light,
    shown,
    table,
    toned_down,
)
from kovel.core.picture.shots import HIGH, WIDE, Look, MotionMaker, best_stretch, look
from kovel.core.plan.plan import make_plan
from kovel.core.sound.loudness import STEP, lufs
from kovel.core.story.model import Story
from tests.core.stories import SOURCES, R, do

# --- shots


def texture(right: float, down: float, seed: int = 3) -> np.ndarray:
    """A soft random picture moved by so many pixels, by the shift theorem of Fourier transforms."""
    rng = np.random.default_rng(seed)
    spectrum = np.fft.fft2(rng.normal(size=(HIGH, WIDE)))
    y, x = np.meshgrid(np.fft.fftfreq(HIGH), np.fft.fftfreq(WIDE), indexing="ij")
    spectrum *= np.exp(-80 * (x**2 + y**2)) * np.exp(-2j * np.pi * (x * right + y * down))
    moved = np.real(np.fft.ifft2(spectrum))
    return np.clip(128 + 60 * moved / moved.std(), 0, 255).astype(np.uint8)


def test_movement_is_measured_from_frame_to_frame() -> None:
    maker = MotionMaker()
    for step in range(4):
        maker.feed(texture(3 * step, -2 * step))
    maker.feed(texture(9, -6))
    rows = maker.finish().astype(float)
    assert rows.shape == (5, 4) and rows[0, 1:].tolist() == [0, 0, 0] == rows[4, 1:].tolist()
    assert np.allclose(rows[1:4, 2], 3, atol=0.35) and np.allclose(rows[1:4, 3], -2, atol=0.35)
    assert rows[0, 0] == pytest.approx(texture(0, 0).mean(), abs=0.1) and (rows[1:4, 1] > 1).all()
    first = texture(0, 0).astype(float)
    assert rows[1, 1] == pytest.approx(np.abs(texture(3, -2) - first).mean(), abs=0.05)
    assert maker.last[2] == 0 and MotionMaker().finish().shape == (0, 4)


def motion(shift: np.ndarray, bright: float = 128, change: float = 3) -> np.ndarray:
    rows = np.zeros((len(shift), 4), np.float16)
    rows[:, 0], rows[:, 1], rows[:, 2] = bright, change, shift
    return rows


def test_a_pan_is_steady_and_a_jolt_is_not() -> None:
    assert look(motion(np.zeros(0)), 25).bright.shape == (0,)
    pan = look(motion(np.full(200, 4.0)), 25)
    assert pan.steady.min() > 0.999 and pan.bright[0] == pytest.approx(128 / 255, abs=1e-3) and pan.change[9] == 3
    hand = np.zeros(200)
    hand[100] = 5
    jolted = look(motion(hand), 25).steady
    assert jolted[100] < 0.6 and jolted[:80].min() > 0.99 and jolted[120:].min() > 0.99
    # a mean over half a second (12 ticks) of what stands out of a path of 0.6 s (15): 5 * 14 / 15 at the jolt itself
    around = 5 / 15
    rough = (5 - around + 11 * around) / 12
    assert jolted[100] == pytest.approx(1 / (1 + 4 * rough), abs=0.02)
    cut = np.zeros(200)
    cut[100] = 30  # a leap counts as eight pixels at most
    assert look(motion(cut), 25).steady[100] == pytest.approx(1 / (1 + 4 * (8 - 8 / 15 + 11 * 8 / 15) / 12), abs=0.02)


def seen(count: int, **parts: np.ndarray | float) -> Look:
    of = {"bright": 0.5, "steady": 1.0, "change": 3.0, **parts}
    return Look(
        *(np.broadcast_to(np.asarray(of[n], np.float32), (count,)).copy() for n in ("bright", "steady", "change"))
    )


def test_the_best_few_seconds() -> None:
    """3.5 s of 25 frames are 88 frames; a still shot is best just clear of its ends."""
    assert best_stretch(seen(74), 25) is None and best_stretch(seen(75), 25) == (0, 75)
    assert best_stretch(seen(300), 25) == (12, 100)
    assert best_stretch(seen(100), 25) == (6, 94)  # less room: as clear of them as it can be
    steady = np.ones(300)
    steady[:150] = 0.5
    assert best_stretch(seen(300, steady=steady), 25)[0] >= 150  # type: ignore[index]
    for dull in (0.05, 0.97):
        bright = np.full(300, 0.5)
        bright[:160] = dull
        assert best_stretch(seen(300, bright=bright), 25)[0] >= 160  # type: ignore[index]
    change = np.zeros(300)
    change[170:270] = 6
    assert best_stretch(seen(300, change=change), 25)[0] in range(170, 183)  # type: ignore[index]
    wandering = np.full(300, 0.5)
    wandering[:150] += 0.2 * np.sin(np.arange(150))
    assert best_stretch(seen(300, bright=wandering), 25)[0] >= 149  # type: ignore[index]
    assert best_stretch(seen(300), 25, (1.0, 2.0)) == (12, 12 + 38)


# --- colour


def test_codings_are_settled_by_size_and_by_what_is_said() -> None:
    """BT.601 up to 576 lines, BT.709 above (common practice); what is said counts first."""
    assert Coding().settled(720, 576) == Coding(6, BT709, BT709, False)
    assert Coding().settled(1280, 576).matrix == BT709 == Coding().settled(720, 577).matrix
    assert Coding(5, 9, 14, True).settled(720, 576) == Coding(5, 9, 14, True)
    assert Coding(0).settled(1920, 1080).matrix == 0  # RGB
    assert Coding(3, 3, 3).settled(1920, 1080) == Coding(BT709, BT709, BT709, False)
    for tagged in (Coding(transfer=PQ), Coding(transfer=HLG), Coding(primaries=BT2020)):
        assert tagged.settled(1920, 1080).matrix == BT2020 == tagged.settled(1920, 1080).primaries
    assert Coding(matrix=10).settled(1920, 1080).primaries == BT2020 and Coding(UNSPECIFIED).full is None
    assert [Coding(1, p, t, False).plain for p, t in ((1, 1), (9, 1), (11, 1), (12, 1), (1, 8), (1, 16), (1, 18), (6, 14))] == [
        True, False, False, False, False, False, False, True,
    ]  # fmt: skip


def test_light_of_high_dynamic_range() -> None:
    """ITU-R BT.2100 and BT.2408: PQ 0.58 and HLG 0.75 are 203 cd/m2; PQ 1 is 10,000, HLG 1 is 1,000 and its 0.5 about
    50 on that display; SMPTE ST 2084: 0.508 is 100 cd/m2."""
    assert pq_light(np.array([0, 0.5081, 0.5806, 0.7518, 1])).tolist() == pytest.approx(
        [0, 100, 203, 1000, 10_000], rel=5e-3
    )
    grey = hlg_light(np.repeat([[0.5], [0.75], [1]], 3, axis=1))
    assert grey[:, 0].tolist() == pytest.approx([50.6, 203, 1000], rel=5e-3) and np.allclose(grey[:, 0], grey[:, 2])
    assert (hlg_light(np.zeros(3)) == 0).all()


def test_what_is_too_bright_is_toned_down() -> None:
    """BT.2446-1 method C: straight up to 58.5 cd/m2 on the display, without a step there; 203 comes to 90.7."""
    assert toned_down(np.array([0, 50])).tolist() == pytest.approx([0, 0.83802 * 50])
    knee = 58.5 / 0.83802
    below, above = toned_down(np.array([knee - 0.01, knee + 0.01]))
    assert below == pytest.approx(above, abs=0.06)
    assert toned_down(np.array([203, 1000])).tolist() == pytest.approx([90.7, 118], abs=0.5)


def test_colours_become_those_of_bt709() -> None:
    """White stays white; a colour inside both gamuts goes through XYZ as colorimetry has it (primaries of H.273)."""
    ramp = np.repeat(np.linspace(0, 1, 5)[:, None], 3, axis=1)
    assert np.allclose(shown(ramp, Coding(1, 1, 1, False)), ramp, atol=1e-9)
    assert np.allclose(shown(ramp, Coding(9, BT2020, 1, False)), ramp, atol=2e-3)
    assert np.allclose(shown(ramp, Coding(0, 11, 1, False)), ramp, atol=2e-3)
    assert np.allclose(shown(ramp, Coding(0, 1, LINEAR, False)), ramp ** (1 / 2.4), atol=1e-9)

    def xyz(primaries: list[list[float]]) -> np.ndarray:
        """RGB to XYZ from the chromaticities of red, green, blue, with the white of D65 (0.3127, 0.3290)."""
        x, y = np.array(primaries).T
        columns = np.stack([x / y, np.ones(3), (1 - x - y) / y])
        white = np.array([0.3127 / 0.3290, 1, (1 - 0.3127 - 0.3290) / 0.3290])
        return columns * np.linalg.solve(columns, white)

    of709 = xyz([[0.64, 0.33], [0.30, 0.60], [0.15, 0.06]])
    for primaries, chromaticities in (
        (BT2020, [[0.708, 0.292], [0.170, 0.797], [0.131, 0.046]]),
        (12, [[0.680, 0.320], [0.265, 0.690], [0.150, 0.060]]),
    ):
        inside = np.array([0.5, 0.55, 0.45])
        linear = np.linalg.solve(of709, xyz(chromaticities) @ inside**2.4)
        assert np.allclose(shown(inside, Coding(1, primaries, 1, False)), linear ** (1 / 2.4), atol=2e-3)


def test_reference_white_of_high_dynamic_range() -> None:
    """Its peak of 1000 cd/m2 becomes full white, BT.2408's reference white of 203 comes to 0.89, grey of 26 to 0.49."""
    pq, hlg = Coding(9, BT2020, PQ, False), Coding(9, BT2020, HLG, False)
    white, peak = np.full(3, 0.5806), np.full(3, 0.7518)
    assert shown(white, pq).tolist() == pytest.approx([0.89] * 3, abs=0.01)
    assert shown(peak, pq).tolist() == pytest.approx([1] * 3, abs=0.002) == shown(np.ones(3), pq).tolist()
    assert shown(np.full(3, 0.75), hlg).tolist() == pytest.approx([0.89] * 3, abs=0.01)
    assert shown(np.full(3, 0.38), pq).tolist() == pytest.approx([0.49] * 3, abs=0.02)


def test_a_table_has_red_fastest() -> None:
    """Cube LUT specification 1.0: the first column changes fastest."""
    colours = table(Coding(1, 1, 1, False), 3)
    assert colours.shape == (27, 3) and np.allclose(colours[:4], [[0, 0, 0], [0.5, 0, 0], [1, 0, 0], [0, 0.5, 0]])
    text = cube_text(colours).splitlines()
    assert text[:3] == ["LUT_3D_SIZE 3", "0.000000 0.000000 0.000000", "0.500000 0.000000 0.000000"] and len(text) == 28


# --- what was delivered


def measured(loud: float, seconds: float = 80, peak: float = 0.5) -> np.ndarray:
    """A recording that is as loud everywhere, LUFS: power, peak, samples at full scale each 100 ms."""
    power = 10 ** ((loud + 0.691) / 10)
    return np.tile(np.array([[power, peak, 0]], np.float32), (int(seconds * 10), 1))


def film() -> Story:
    """| A 4 s | B 4 s | A 4 s |"""
    story = Story(R)
    for source, start in ((1, 100), (2, 0), (1, 500)):
        story = do(story, "add_at_end", source=source, start=start, length=100)
    return story


NAMES = {1: "Maren", 2: "Odile"}.__getitem__


def test_what_a_file_lacks_is_named_with_its_time() -> None:
    plan = make_plan(film(), SOURCES)
    of = {(1, ""): measured(-20), (2, ""): measured(-24)}
    due = mixed(plan, of).power
    assert len(due) == 120 and lufs(due[20:21])[0] == pytest.approx(-20, abs=0.01)
    assert lufs(due[60:61])[0] == pytest.approx(-24, abs=0.01)
    assert heard_differences(plan, of, due, NAMES) == []
    gone = due.copy()
    gone[40:80] = 1e-12
    (one,) = heard_differences(plan, of, gone, NAMES)
    assert (round(one.start), round(one.end), one.what) == (4, 8, "Odile is not heard")
    assert str(one).endswith(": Odile is not heard") and str(one).startswith("0:0")
    soft = due.copy()
    soft[40:80] *= 10**-1
    (one,) = heard_differences(plan, of, soft, NAMES)
    assert one.what == "Odile is quieter than in the story (-34 LUFS instead of -24)"
    near = due.copy()
    near[40:80] *= 10**-0.58
    assert heard_differences(plan, of, near, NAMES) == []  # under 6 LU apart
    short = due.copy()
    short[60:63] = 1e-12
    assert heard_differences(plan, of, short, NAMES) == []  # shorter than half a second
    (cut_off,) = heard_differences(plan, of, due[:80], NAMES)
    assert cut_off.what == "Maren is not heard" and cut_off.end == 12


def test_what_a_file_has_too_much_of_is_told() -> None:
    story = do(film(), "insert_space", at=100, length=50)
    plan = make_plan(story, SOURCES)
    of = {(1, ""): measured(-20), (2, ""): measured(-24)}
    due = mixed(plan, of).power
    assert due[45] == 0 and heard_differences(plan, of, due, NAMES) == []
    more = due.copy()
    more[44:56] = 10 ** ((-40 + 0.691) / 10)
    (one,) = heard_differences(plan, of, more, NAMES)
    assert one.what == "something is heard that the story does not have (-40 LUFS)" and 4 <= one.start < one.end <= 6
    loud = due.copy()
    loud[70:90] *= 10**1.2
    (one,) = heard_differences(plan, of, loud, NAMES)
    assert one.what == "it is louder than the story (-12 LUFS instead of -24)"
    faint = due.copy()
    faint[44:56] = 10 ** ((-50 + 0.691) / 10)
    assert heard_differences(plan, of, faint, NAMES) == []  # 6 over what is not wanted at all is where it begins


def test_times_are_told_as_people_tell_them() -> None:
    assert str(Difference(64.2, 65.0, "x")) == "1:04: x" and str(Difference(59.9, 61.2, "x")) == "0:59 to 1:01: x"


def test_a_picture_that_is_black_or_another() -> None:
    grey = np.full((9, 16), 100, np.uint8)
    assert seen_difference(None, grey, "Maren", True) == "" == seen_difference(grey, grey + 24, "Maren", True)
    assert seen_difference(grey, grey + 25, "Maren", True) == "another picture than Maren at that moment"
    assert seen_difference(grey, grey + 90, "Maren", False) == ""
    assert seen_difference(grey, grey * 0 + 3, "Maren", False) == "black where Maren should be seen"
    assert (
        seen_difference(grey, grey * 0 + 4, "Maren", False)
        == ""
        == seen_difference(grey * 0 + 20, grey * 0, "M", False)
    )


# --- the mix


def test_the_mix_adds_powers_and_peaks_by_gain_and_time() -> None:
    story = do(film(), "set_value", to=film().pieces[0].id, setting="level", value=-6)
    plan = make_plan(story, SOURCES)
    mix = mixed(plan, {(1, ""): measured(-20), (2, ""): measured(-24, peak=0.25)})
    assert lufs(mix.power[20:21])[0] == pytest.approx(-26, abs=0.01) and mix.most[20] == pytest.approx(0.5 * 10**-0.3)
    assert lufs(mix.power[100:101])[0] == pytest.approx(-20, abs=0.01) and mix.most[60] == pytest.approx(0.25)
    dips = replace(plan, dips=((0, -3.0), (plan.samples, -3.0)))
    lower = mixed(dips, {(1, ""): measured(-20), (2, ""): measured(-24)})
    assert lufs(lower.power[100:101])[0] == pytest.approx(-23, abs=0.01)
    # a recording that was measured for four seconds is silent behind them: A is used from its fourth second on
    part = mixed(plan, {(1, ""): measured(-20, 5)})
    assert part.power[5] > 0 and part.power[12] == 0 == part.power[60] and STEP == 4800
    steps = measured(-20)
    steps[:, 0] = np.arange(len(steps))
    ramp = mixed(make_plan(film(), SOURCES), {(1, ""): steps})
    assert ramp.power[20] == pytest.approx(40 + 20)  # the 4 s it begins at, and two more
