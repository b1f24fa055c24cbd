"""Numbers as editors type them (common practice, no source): units, commas, a true minus; times where frames count."""

import pytest

from kovel.core.story.settings import SETTINGS
from kovel.core.story.typed_values import ValueTyped, typed_number, typed_value
from kovel.core.time.rate import Rate

R = Rate(25)


@pytest.mark.parametrize(
    ("text", "number"),
    [("-6", -6), ("−6 dB", -6), ("1,5", 1.5), (" 120 % ", 120), ("+3dB", 3), ("80 Hz", 80), ("2 stops", 2), ("7°", 7)],
)
def test_a_number_is_read_with_its_unit(text: str, number: float) -> None:
    assert typed_number(text) == number


@pytest.mark.parametrize("text", ["", "loud", "1:30", "nan", "inf", "6 dB dB", "1 2", "dB"])
def test_what_is_no_number_is_told_in_words(text: str) -> None:
    with pytest.raises(ValueTyped, match="is not a number"):
        typed_number(text)


def test_a_push_has_two_ends_and_frames_may_be_times() -> None:
    assert typed_value("zoom", "100 to 112,5 %", R) == (100, 112.5) and typed_value("zoom", "100>120", R) == (100, 120)
    assert SETTINGS["fade_out"].unit == "frames"
    for text, frames in (("50", 50), ("50 frames", 50), ("2s", 50), ("0:02+00", 50), ("50f", 50)):
        assert typed_value("fade_out", text, R) == frames
    with pytest.raises(ValueTyped, match="is not a time"):
        typed_value("fade_out", "soon", R)
    with pytest.raises(ValueTyped, match="“2s” is not a number"):
        typed_value("level", "2s", R)
