"""Each finding just where its rule begins, and not one frame before. The rules: DESIGN's list; figures common
practice."""

from collections.abc import Callable, Iterator
from dataclasses import replace

import pytest

from kovel.core.checks import cut_checks
from kovel.core.checks.cut_checks import checks
from kovel.core.checks.findings import Finding
from kovel.core.checks.looked_at import LookedAt
from kovel.core.story.catalogue import run
from kovel.core.story.model import Source, Sources, Story, Sync
from tests.core.stories import SOURCES, R, do, three

# three(): | A 100..200 | A 300..360 | B 0..80 |, seams at 100 (jump) and 160 (clean), 25 frames a second
SYNCED = SOURCES | {
    1: replace(SOURCES[1], sync=Sync(1, 0)),
    8: Source(8, "A2", R, 2000, setup="z", sync=Sync(1, 48_000)),  # begins a second later
}


def found(s: Story, sources: Sources = SOURCES, **how: Callable) -> list[tuple[str, int | None]]:
    """All findings but those the three pieces have anyway: the jump at 100."""
    rows = [(f.kind, f.at) for f in checks(s, sources, **how)]
    return [r for r in rows if r != ("jump", 100)]


def cover(s: Story, at: int, until: int, source: int = 3, start: int = 0) -> Story:
    return do(s, "lay_cover", source=source, at=at, until=until, start=start)


def test_nothing_is_found_where_nothing_is() -> None:
    assert found(three()) == [] and [f.kind for f in checks(three(), SOURCES)] == ["jump"]
    assert checks(Story(R), SOURCES) == []
    assert [f.kind for f in checks(cover(three(), 90, 140), SOURCES)] == []  # the jump is covered, for two seconds


@pytest.mark.parametrize(
    ("less", "more", "kind"),
    [
        ((10, 35), (10, 34), "short"),  # a cover under a second
        ((10, 160), (10, 161), "long"),  # over six seconds: well over its welcome of three to four
    ],
)
def test_covers_too_short_and_too_long(less: tuple[int, int], more: tuple[int, int], kind: str) -> None:
    assert kind not in dict(found(cover(three(), *less)))
    assert (kind, 10) in found(cover(three(), *more))


@pytest.mark.parametrize(("gap", "flash"), [(0, False), (1, True), (24, True), (25, False)])
def test_a_flash_between_two_covers(gap: int, flash: bool) -> None:
    s = cover(cover(three(), 10, 60), 60 + gap, 130, start=100)
    assert (("flash", 60) in found(s)) == flash
    if gap:  # a cover on another lane over the gap takes the flash away
        bridge = do(three(), "lay_cover", source=5, at=40, until=100, start=0, lane=2)
        assert ("flash", 60) not in found(cover(cover(bridge, 10, 60), 60 + gap, 130, start=100))


@pytest.mark.parametrize(("start", "twice"), [(50, False), (49, True), (0, True)])
def test_the_same_part_of_a_shot_seen_twice(start: int, twice: bool) -> None:
    s = cover(cover(three(), 10, 60), 150, 190, start=start)
    assert (("twice", 150) in found(s)) == twice
    assert "twice" not in dict(found(cover(cover(three(), 10, 60, source=5), 150, 190, source=5)))  # a still may be


def test_words_cut_in_two_on_either_side_of_a_seam() -> None:
    """Asked for the last frame of the left piece and the first of the right one; not where a recording runs on."""
    asked: list[tuple[int, int]] = []

    def cuts(source: int, frame: int) -> str:
        asked.append((source, frame))
        return "chain" if (source, frame) == (2, 0) else ""

    rows = checks(three(), SOURCES, cuts_word=cuts)
    assert asked == [(1, 200), (1, 300), (1, 360), (2, 0)]
    assert [(f.at, "B begins inside “chain”" in f.text) for f in rows if f.kind == "word"] == [(160, True)]
    asked.clear()
    checks(do(three(), "split", at=50), SOURCES, cuts_word=cuts)
    assert (1, 150) not in asked


@pytest.mark.parametrize(
    ("left", "right", "says"),
    [
        ((-20.0, -60.0), (-27.9, -60.0), None),
        ((-20.0, -60.0), (-28.1, -60.0), "voice steps by 8 dB"),
        ((-20.0, -60.0), (-20.0, -51.0), "room tone steps by 9 dB"),
    ],
)
def test_steps_of_level(left: tuple[float, float], right: tuple[float, float], says: str | None) -> None:
    """Voice and room on both sides of the seam inside A; a room of its own is expected of another recording."""
    rows = checks(three(), SOURCES, level=lambda source, a, b: left if (source, a) == (1, 100) else right)
    steps = [f for f in rows if f.kind == "step" and f.at == 100]
    assert [says in f.text for f in steps] == ([True] if says else [])
    other = checks(three(), SOURCES, level=lambda source, a, b: (-20.0, -60.0 if source == 1 else -40.0))
    assert not [f for f in other if f.kind == "step"]


def test_spaces_crumbs_and_loose_ends() -> None:
    s = do(three(), "insert_space", at=160, length=12)
    assert ("space", 160) in found(s) and ("space", 160) not in found(do(s, "close_space", piece=s.pieces[2].id))
    card = do(three(), "insert_card", at=160, length=30, colour="#000000", text="Later")
    assert "space" not in dict(found(card))
    assert ("short", 160) in found(do(three(), "insert", at=160, source=2, start=900, length=7))
    assert "short" not in dict(found(do(three(), "insert", at=160, source=2, start=900, length=8)))
    covered = cover(three(), 20, 60)
    assert ("loose", None) in found(do(covered, "extract", a=10, b=60))


@pytest.mark.parametrize(("until", "fall", "on"), [(240, 0, False), (300, 0, True), (300, 20, False)])
def test_sound_that_runs_on_after_the_end(until: int, fall: int, on: bool) -> None:
    """Music that is cut off where the story ends; a fade set on it means the end is wanted."""
    s = do(three(), "insert_space", at=240, length=60)
    s = do(s, "lay_sound", source=6, at=30, until=until, start=0, kind="music", clock_bound=True)
    if fall:
        s = do(s, "set_value", to=s.sounds[0].id, setting="fade_out", value=fall)
    s = do(s, "remove", piece=s.pieces[-1].id)
    assert (("runs on", 240) in found(s)) == on


def test_a_dissolve_that_uses_the_last_frame_there_is() -> None:
    s = three()
    roomy = do(s, "set_blend", piece=s.pieces[1].id, blend="dissolve", length=20)
    assert "handle" not in dict(found(roomy))
    edge = do(Story(R), "add_at_end", source=1, start=100, length=100)
    edge = do(edge, "add_at_end", source=1, start=10, length=100)
    tight = do(edge, "set_blend", piece=edge.pieces[1].id, blend="dissolve", length=20)  # ten before, ten after
    assert ("handle", 100) in [(f.kind, f.at) for f in checks(tight, SOURCES)]


@pytest.mark.parametrize("off", [0, 1, -3])
def test_another_camera_out_of_step_with_the_voice(off: int) -> None:
    """A2 begins a second after A: over A's frame 120 its own frame 95 is in step."""
    s = three()
    laid, _ = run(s, SYNCED, "lay_cover", {"source": 8, "at": 20, "until": 90, "start": 95 + off})
    assert (("angle", 20) in found(laid, SYNCED)) == (off != 0)


@pytest.mark.parametrize(
    ("at", "until", "on"), [(80, 98, True), (98, 130, True), (80, 95, False), (80, 105, False), (80, 125, False)]
)
def test_a_cover_that_ends_inside_a_dissolve_bares_part_of_it(at: int, until: int, on: bool) -> None:
    """A dissolve of 10 about frame 100 is [95, 105): a cover's edge strictly inside it shows half of it."""
    s = do(three(), "set_blend", piece=2, blend="dissolve", length=10)
    assert ("half" in dict(found(do(s, "lay_cover", source=3, at=at, until=until)))) == on


@pytest.mark.parametrize(("until", "on"), [(340, False), (339, True), (300, True), (80, False)])
def test_music_that_ends_before_the_pictures(until: int, on: bool) -> None:
    s = do(
        do(three(), "insert_space", at=240, length=100),
        "lay_sound",
        source=6,
        at=1,
        until=until,
        start=0,
        kind="music",
        clock_bound=True,
    )
    assert ("ends early" in dict(found(s))) == on
    assert "ends early" not in dict(found(do(s, "set_muted", lane="music", muted=True)))


def test_quick_cuts_are_one_finding() -> None:
    """Five pieces of at most ten frames of one shot are meant; nothing is said of each of them."""
    s = three()
    for k in range(5):
        s = do(s, "insert", at=100 + 8 * k, source=4, start=20 * k, length=8)
    told = found(s)
    assert ("quick", 100) in told and not [x for x in told if x[0] in ("jump", "short") and x[1] and 100 <= x[1] <= 140]
    two = do(do(three(), "insert", at=100, source=4, start=0, length=6), "insert", at=106, source=4, start=40, length=6)
    assert "quick" not in dict(found(two)) and ("short", 100) in found(two)


def test_what_is_longer_than_it_was_to_be_is_told() -> None:
    s = do(three(), "set_heading", piece=2, heading="River", target=60)
    told = [
        (f.at, f.text) for f in checks(do(s, "set_target", length=s.length - 10), SOURCES) if f.kind == "over length"
    ]
    assert told == [(s.starts[1], f"“River” is {round((s.length - s.starts[1] - 60) / 25)} s over its target length")]
    short = checks(do(s, "set_target", length=s.length - 60), SOURCES)
    assert (0, "The story is 2 s over its target length") in [(f.at, f.text) for f in short]


def test_a_new_check_is_a_function_in_the_list(monkeypatch: pytest.MonkeyPatch) -> None:
    def long_films(look: LookedAt) -> Iterator[Finding]:
        if look.story.length > 100:
            yield Finding("long film", 100, f"{look.name(1)} and more lasts {look.clock(look.story.length)}", 99)

    monkeypatch.setattr(cut_checks, "CHECKS", (*cut_checks.CHECKS, long_films))
    assert checks(three(), SOURCES)[0] == Finding("long film", 100, "A and more lasts 0:09+15", 99)
