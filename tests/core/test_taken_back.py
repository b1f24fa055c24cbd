"""One's own edit taken back from under others'. Common practice, no source."""

from random import Random

import pytest

from kovel.core.story.catalogue import run
from kovel.core.story.model import Refused, Story
from kovel.core.story.taken_back import taken_back
from tests.core.stories import SOURCES, do, three
from tests.core.test_invariants import NAMES, Editing


def without_first(first: tuple[str, dict], *later: tuple[str, dict], start: Story | None = None) -> Story | None:
    before = start or three()
    after = do(before, first[0], **first[1])
    now = after
    for name, params in later:
        now = do(now, name, **params)
    return taken_back(before, after, now, SOURCES)


def test_the_edit_goes_and_what_others_did_stays() -> None:
    trim = ("trim", {"piece": 1, "edge": "out", "delta": -10})
    cover = ("lay_cover", {"source": 3, "at": 160, "until": 200})  # on the third piece, over the same words afterwards
    got = without_first(trim, cover)
    assert got is not None and got.pieces == three().pieces
    assert [(c.tether.piece, c.tether.moment, c.length) for c in got.covers] == [(3, 10, 40)] and got.at(
        got.covers[0]
    ) == 170
    loud = ("set_value", {"to": "story", "setting": "level", "value": 3})
    warm = ("set_value", {"to": "story", "setting": "warmth", "value": 9})
    got = without_first(loud, warm)
    assert got is not None and {n: v for _, x in got.settings for n, v in x.rows} == {"warmth": 9}
    swapped = without_first(
        ("swap", {"first": 1, "second": 3}), ("set_value", {"to": 2, "setting": "level", "value": -3})
    )
    assert (
        swapped is not None
        and [p.id for p in swapped.pieces] == [1, 2, 3]
        and swapped.pieces[1].settings["level"] == -3
    )
    music = do(three(), "lay_sound", source=6, at=20, until=230, start=20, kind="music", clock_bound=True)
    music = do(
        music, "fit_music", sound=4, ranges=[[38400, 96000], [134400, 480000]], at=20, until=240
    )  # parts lie over each other
    space = ("insert_space", {"at": 0, "length": 50})
    got = without_first(space, ("insert_card", {"at": 290, "length": 75}), start=music)
    assert got is not None and got.length == 240 + 75 and [p.length for p in got.pieces] == [100, 60, 80, 75]
    back = without_first(("extract", {"a": 100, "b": 160}), ("trim", {"piece": 3, "edge": "out", "delta": -5}))
    assert back is not None and [(p.id, p.length) for p in back.pieces] == [(1, 100), (2, 60), (3, 75)]


@pytest.mark.parametrize(
    ("first", "later"),
    [
        (("trim", {"piece": 1, "edge": "out", "delta": -10}), ("trim", {"piece": 1, "edge": "out", "delta": -3})),
        (
            ("insert", {"at": 100, "source": 2, "start": 9, "length": 50}),
            ("lay_cover", {"source": 3, "at": 105, "until": 140}),
        ),
        (("insert", {"at": 100, "source": 2, "start": 9, "length": 50}), ("remove", {"piece": 4})),
        (("swap", {"first": 1, "second": 3}), ("add_at_end", {"source": 2, "start": 0, "length": 9})),
        (
            ("set_value", {"to": 1, "setting": "level", "value": -3}),
            ("set_value", {"to": 1, "setting": "zoom", "value": 120}),
        ),
        (("split", {"at": 50}), ("swap", {"first": 4, "second": 2})),
    ],
)
def test_what_later_edits_build_on_cannot_go_alone(first: tuple[str, dict], later: tuple[str, dict]) -> None:
    assert without_first(first, later) is None


def test_whatever_is_taken_back_leaves_a_story_that_stands() -> None:
    """Random edits; any of them taken back from under the rest: nothing, or a story with all that must hold, and
    without it."""
    r, taken = Random(29), 0
    for _ in range(25):
        state = Editing()
        for source, start in ((1, 100), (2, 40), (1, 700), (6, 20), (2, 400)):
            state.story = do(state.story, "add_at_end", source=source, start=start, length=90)
        stories = [state.story]
        for _ in range(30):
            name = r.choice(NAMES)
            try:
                after, _ = run(state.story, SOURCES, name, state.anything(name, r))
            except Refused:
                continue
            state.story = after
            stories.append(after)
        for k in range(1, len(stories)):
            back = taken_back(stories[k - 1], stories[k], stories[-1], SOURCES)
            if k == len(stories) - 1:
                assert back is not None
                assert back == stories[k - 1] or back.next_id > stories[k - 1].next_id
            if back is not None:
                taken += 1
                state.story = back
                state.sound()
                state.plan_is_the_story()
    assert taken > 40
