"""Which edit lays what is picked up, and over what."""

import pytest

from kovel.core.story.laying import InHand, Place, lays

SHOT = InHand("shot", source=3, start=10, length=50)
BITE = InHand("bite", source=1, start=200, length=300)
MUSIC = InHand("sound", source=6, length=400, sound="music")


@pytest.mark.parametrize(
    ("place", "at", "until"),
    [
        (Place(100), 100, 140),  # as long as was typed
        (Place(100, until=120), 100, 120),
        (Place(100, words=(60, 90)), 60, 90),  # as long as the words
        (Place(100, words=(60, 190)), 60, 110),  # never longer than the shot
        (Place(100, words=(60, 70), is_one_word=True), 60, 100),  # one word says where, not how long
        (Place(100, until=130, words=(60, 70), is_one_word=True), 100, 130),
    ],
)
def test_a_shot_lies_over_words_or_as_long_as_was_typed(place: Place, at: int, until: int) -> None:
    assert lays([SHOT], place, 40, 500) == ("lay_cover", {"source": 3, "at": at, "until": until, "start": 10})


def test_several_lie_one_after_the_other_and_the_tray_goes_to_its_place() -> None:
    several = lays([BITE, SHOT], Place(100), 40, 500)
    assert several == ("lay_several", {"at": 100, "ranges": [[1, 200, 40], [3, 10, 40]]})
    over = lays([BITE, SHOT], Place(100, words=(60, 90)), 40, 500)
    assert over == ("lay_several", {"at": 60, "ranges": [[1, 200, 300], [3, 10, 50]]})
    assert lays([InHand("loose", id=8)], Place(7), 0, 500) == ("move_cover", {"cover": 8, "at": 7})
    assert lays([InHand("loose-sound", id=9)], Place(7), 0, 500) == ("move_sound", {"sound": 9, "at": 7})


@pytest.mark.parametrize(
    ("place", "at", "until"),
    [
        (Place(100), 100, 500),  # to the end, and not beyond it
        (Place(100, span=(150, 250)), 100, 250),  # up to the marks
        (Place(100, span=(150, 250), is_chosen=True), 150, 250),  # under what is chosen
        (Place(300, span=(150, 250)), 300, 301),
        (Place(20), 20, 420),  # never longer than the music
    ],
)
def test_music_lies_under_what_is_chosen_or_to_the_end(place: Place, at: int, until: int) -> None:
    command, params = lays([MUSIC], place, 0, 500)
    assert (command, params["at"], params["until"], params["clock_bound"]) == ("lay_sound", at, until, True)
