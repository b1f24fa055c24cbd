"""What is offered for an exposed jump, and where a story uses its recordings, by worked examples.

three(): | A 100..200 | A 300..360 | B 0..80 |, seams at 100 (jump) and 160 (clean), 25 frames a second
"""

from dataclasses import replace

import pytest

from kovel.core.checks.offers import (
    Shot,
    angles,
    cover_span,
    meeting_in_words,
    offers,
    pauses_between,
    stems,
    use_in_words,
    worth_of,
)
from kovel.core.story.compare import compare
from kovel.core.story.model import Source, Story, Sync
from kovel.core.story.seams import seams
from kovel.core.story.usage import Use, by_source, ranges_used, times_used, uses
from kovel.core.words.transcript import Word
from tests.core.stories import SOURCES, R, do, three

SECOND = 48_000
SYNCED = SOURCES | {
    1: replace(SOURCES[1], sync=Sync(1, 0)),
    8: Source(8, "A2", R, 2000, setup="z", sync=Sync(1, SECOND)),  # begins a second later
}


def words(*spans: tuple[int, int, str]) -> list[tuple[int, int, Word]]:
    return [(a, b, Word(text, 0, 1)) for a, b, text in spans]


def every(step: int, until: int = 240) -> list[tuple[int, int, Word]]:
    """A word from each `step` to the next."""
    return words(*((at, at + step, "ferry") for at in range(0, until, step)))


# --- covers


def test_words_meet_by_their_stems() -> None:
    assert stems("Boats, hauling") == stems("boat haul") == {"boat", "haul"}
    assert stems("The ferries were tied and we waved") == {"ferri", "tied", "wav"}
    assert stems("ferry") == stems("ferries") and stems("boy days") == {"boy", "day"}
    assert stems("it is of us") == set() and stems("Fähren") == {"fähren"}


@pytest.mark.parametrize(
    ("edges", "most", "span"),
    [
        (list(range(0, 240, 10)), 300, (70, 160)),  # 3.5 s, 1.2 s of it before the seam at 100
        (list(range(0, 240, 10)), 40, (70, 110)),
        ([0, 97, 103, 200], 300, (97, 200)),  # 3 frames to spare are enough
        ([0, 98, 103, 150], 300, (75, 150)),  # 2 are not: then it begins a second before the seam
        ([], 300, (75, 162)),  # no words: a second before the seam, three and a half long
        ([90, 102], 300, (90, 177)),  # no word ends behind the seam
        ([30, 210], 80, (30, 110)),
        ([30, 210], 72, None),  # the shot is too short to hide it from a word on
    ],
)
def test_a_cover_lies_from_word_to_word(edges: list[int], most: int, span: tuple[int, int] | None) -> None:
    story = three()
    assert cover_span(story, 100, edges, most) == span


def test_a_cover_ends_with_the_story() -> None:
    assert cover_span(three(), 160, [], 300) == (135, 222)
    short = do(do(Story(R), "add_at_end", source=1, start=0, length=30), "add_at_end", source=1, start=90, length=20)
    assert cover_span(short, 30, [], 300) == (5, 50)


def test_a_shot_is_worth_what_it_shares_less_for_every_use() -> None:
    boat = Shot(3, 0, 300, "boat", "boat on the river")
    assert worth_of(boat, {"boat"}) == 2 and worth_of(boat, {"boat", "river"}) == 4 and worth_of(boat, ()) == 0
    assert worth_of(replace(boat, used=2), ()) == -3
    assert worth_of(replace(boat, near=0.2), ()) == pytest.approx(0.8) and worth_of(replace(boat, near=0.19), ()) == 0
    assert meeting_in_words(boat, {"river", "boat"}) == "meets “boat, river”" and meeting_in_words(boat, ()) == ""
    assert meeting_in_words(replace(boat, near=0.2), ()) == "near in meaning"
    assert [use_in_words(replace(boat, used=n)) for n in (0, 1, 2)] == ["not used yet", "used once", "used 2 times"]


def test_what_is_offered_for_a_jump_best_first() -> None:
    story = three()
    seam = seams(story, SOURCES)[0]
    shots = [
        Shot(3, 0, 300, "gulls", "gulls"),
        Shot(3, 0, 74, "ferry", "the ferries"),  # short of three seconds
        Shot(3, 0, 75, "ferry, long", "the ferries"),
        Shot(3, 40, 290, "ferry again", "ferries", used=1),
    ]
    found = offers(story, SOURCES, seam, shots, every(10))
    assert [(o.kind, o.name) for o in found] == [
        ("cover", "ferry, long"),
        ("cover", "ferry"),
        ("cover", "ferry again"),
        ("punch-in", "Show the second piece at 125 %"),
        ("soft cut", "Dissolve over 15 frames"),
    ]
    assert [o.score for o in found[:3]] == [2.5, 1, 1] and found[0].why == "meets “ferri”, not used yet"
    assert found[2].why == "meets “ferri”, used once"
    # a third of what is not needed of the shot goes before: 290 - 90 = 200
    assert found[2].command == "lay_cover" and found[2].params == {"source": 3, "at": 70, "until": 160, "start": 106}
    assert found[3].params == {"to": story.pieces[1].id, "setting": "zoom", "value": 125}
    assert found[4].params == {"piece": story.pieces[1].id, "blend": "dissolve", "length": 15}
    far = [(at, end, word) for at, end, word in every(10) if not -200 < at + 5 - 100 < 200]
    assert all("meets" not in o.why for o in offers(story, SOURCES, seam, shots, far))


def test_a_punch_in_goes_back_where_there_is_one() -> None:
    for before, then in ((100, 125), (119, 149), (120, 100), (200, 100)):
        story = three()
        if before != 100:
            story = do(story, "set_value", to=story.pieces[0].id, setting="zoom", value=before)
        seam = seams(story, SOURCES)[0]
        punch = next(o for o in offers(story, SOURCES, seam, [], []) if o.kind == "punch-in")
        assert punch.params["value"] == then, before


def test_no_dissolve_is_offered_without_handles() -> None:
    """Half of it is needed on each side; under four frames it is none, and three fifths of a second are enough."""
    for spare, lengths in ((1, []), (2, [4]), (3, [6]), (8, [15])):
        story = Story(R)
        for start, end in ((0, 2000 - spare), (spare, 100)):
            story = do(story, "add_at_end", source=1, start=start, length=end - start)
        soft = [o for o in offers(story, SOURCES, seams(story, SOURCES)[0], [], []) if o.kind == "soft cut"]
        assert [o.params["length"] for o in soft] == lengths


# --- other cameras


def test_pauses_lie_where_a_word_ends_and_none_begins_soon() -> None:
    talk = words((0, 10, "a"), (12, 20, "b"), (24, 30, "c"), (29, 40, "d"))
    assert pauses_between(talk) == [20, 40] and pauses_between(talk, 2) == [10, 20, 40]
    assert pauses_between(talk, 5) == [40] and pauses_between([]) == []


@pytest.mark.parametrize(
    ("begin", "edges", "length", "until", "why"),
    [
        (0, (), None, 125, "the same moment, in step for 100 frames, then on over the jump"),
        (20, (), 50, 70, "the same moment, in step for 50 frames"),
        (20, (60, 75), 50, 75, "the same moment, in step for 55 frames"),  # on to the pause
        (20, (121,), 50, 70, "the same moment, in step for 50 frames"),  # two seconds and more away
        (20, (120,), 50, 120, "the same moment, in step for 80 frames, then on over the next piece"),
        (20, (), 78, 103, "the same moment, in step for 80 frames, then on over the jump"),  # it ends two frames early
        (20, (), 77, 97, "the same moment, in step for 77 frames"),
        (100, (), 60, 160, "the same moment, in step for 60 frames"),
        (230, (), None, None, ""),  # of B there is no other camera
        (-1, (), None, None, ""),
        (240, (), None, None, ""),
    ],
)
def test_another_camera_at_the_same_moment(
    begin: int, edges: tuple[int, ...], length: int | None, until: int | None, why: str
) -> None:
    """A cutaway to another angle is 5 s at first (common practice); A2 began a second later: its frames are 25 less."""
    found = angles(three(), SYNCED, begin, edges, length)
    if until is None:
        assert found == []
        return
    (one,) = found
    start = begin + 100 - 25 if begin < 100 else begin - 100 + 300 - 25
    assert one.params == {"source": 8, "at": begin, "until": until, "start": start} and one.why == why
    assert (one.kind, one.name, one.command) == ("angle", "A2", "lay_cover")


def test_a_camera_that_has_no_picture_there_is_not_offered() -> None:
    for other in (
        replace(SYNCED[8], picture=False),
        replace(SYNCED[8], frames=75),
        replace(SYNCED[8], sync=Sync(2, 0)),
    ):
        assert angles(three(), SYNCED | {8: other}, 0) == []
    (short,) = angles(three(), SYNCED | {8: replace(SYNCED[8], frames=105)}, 0)
    assert short.params["until"] == 30  # as far as it goes
    late = SYNCED | {8: replace(SYNCED[8], sync=Sync(1, 10 * SECOND))}
    assert angles(three(), late, 0) == [] and angles(three(), SOURCES, 0) == []
    card = do(Story(R), "insert_card", at=0, length=50)
    assert angles(card, SYNCED, 0) == []


def test_pieces_that_run_on_stay_in_step() -> None:
    story = Story(R)
    for start, length in ((100, 50), (150, 50), (400, 50)):
        story = do(story, "add_at_end", source=1, start=start, length=length)
    (one,) = angles(story, SYNCED, 10)
    assert one.why.startswith("the same moment, in step for 90 frames, then on over")


# --- what is used


def test_where_the_ranges_of_a_recording_are_used() -> None:
    story = do(three(), "lay_cover", source=3, at=90, until=140, start=20)
    found = uses(story)
    assert found == [
        Use(1, 100, 200, 0),
        Use(3, 20, 70, 90, True),
        Use(1, 300, 360, 100),
        Use(2, 0, 80, 160),
    ]
    assert {source: len(rows) for source, rows in by_source(found).items()} == {1: 2, 3: 1, 2: 1}
    assert ranges_used(found, 1) == [(100, 200), (300, 360)] and ranges_used(found, 9) == []
    more = [*found, Use(1, 200, 210, 0), Use(1, 190, 195, 0), Use(1, 361, 365, 0)]
    assert ranges_used(more, 1) == [(100, 210), (300, 360), (361, 365)]


@pytest.mark.parametrize(
    ("start", "end", "times"),
    [
        (100, 200, 1),
        (0, 149, 0),  # 49 of 100 are shared
        (0, 150, 1),
        (190, 210, 1),  # half of the shorter one
        (191, 211, 0),
        (200, 300, 0),
        (0, 1000, 2),
        (150, 150, 0),
    ],
)
def test_a_use_counts_where_half_of_the_shorter_is_shared(start: int, end: int, times: int) -> None:
    assert times_used(uses(three()), 1, start, end) == times
    assert times_used(uses(three()), 9, start, end) == 0


# --- what differs


def test_what_differs_between_two_stories() -> None:
    """The picture in the docstring: A trimmed, C removed, D added, B moved."""
    old, new = Story(R), Story(R)
    for source, start, length in ((1, 100, 100), (2, 0, 50), (1, 900, 40)):
        old = do(old, "add_at_end", source=source, start=start, length=length)
    for source, start, length in ((2, 0, 50), (1, 110, 70), (7, 0, 30)):
        new = do(new, "add_at_end", source=source, start=start, length=length)
    rows = [(d.kind, d.at, d.was, d.frames) for d in compare(old, new)]
    assert rows == [("trimmed", 50, 0, -30), ("added", 120, None, 30), ("removed", None, 150, -40)]
    back = [(d.kind, d.at, d.was, d.frames) for d in compare(new, old)]
    assert ("trimmed", 0, 50, 30) in back and ("added", 150, None, 40) in back and ("removed", None, 120, -30) in back
    assert compare(old, old) == [] and [d.kind for d in compare(Story(R), old)] == ["added"] * 3
    swapped = Story(R)
    for source, start, length in ((1, 900, 40), (1, 100, 100), (2, 0, 50)):
        swapped = do(swapped, "add_at_end", source=source, start=start, length=length)
    assert [(d.kind, d.at, d.was, d.frames) for d in compare(old, swapped)] == [("moved", 0, 150, 0)]
    apart = do(Story(R), "add_at_end", source=1, start=200, length=50)  # touches, shares no frame
    assert {d.kind for d in compare(three(), apart)} == {"added", "removed"}


def test_what_shares_most_frames_is_the_one_that_was_trimmed() -> None:
    old = Story(R)
    for start, length in ((100, 50), (140, 100)):
        old = do(old, "add_at_end", source=1, start=start, length=length)
    new = do(Story(R), "add_at_end", source=1, start=130, length=60)
    assert [(d.kind, d.was, d.frames) for d in compare(old, new)] == [("removed", 0, -50), ("trimmed", 50, -40)]
