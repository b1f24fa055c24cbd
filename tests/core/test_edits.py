"""Each edit by example: what it does, what it reports, what it refuses. Values are common practice, no source."""

import pytest

from kovel.core.story.catalogue import run
from kovel.core.story.covers import three_points
from kovel.core.story.lined_page import lined
from kovel.core.story.model import Cover, Refused, Story, Tether
from kovel.core.story.patch import cover_from, cover_row
from kovel.core.story.removals import taken_out
from kovel.core.story.seams import seams
from kovel.core.story.settings import Values
from kovel.core.words.transcript import Word, lines, words_in
from tests.core.stories import EMPTY, SOURCES, R, do, three


def shape(s: Story) -> list[tuple[int | None, int, int]]:
    return [(p.source, p.start, p.length) for p in s.pieces]


def test_dialogue_edits() -> None:
    s = three()
    assert s.starts == (0, 100, 160, 240)
    assert shape(do(s, "insert", at=50, source=2, start=5, length=10))[:3] == [(1, 100, 50), (2, 5, 10), (1, 150, 50)]
    assert shape(do(s, "overwrite", at=90, source=2, start=5, length=20)) == [
        (1, 100, 90),
        (2, 5, 20),
        (1, 310, 50),
        (2, 0, 80),
    ]
    assert shape(do(s, "overwrite", at=230, source=2, start=5, length=20))[-2:] == [(2, 0, 70), (2, 5, 20)]
    assert shape(do(s, "lift", a=90, b=170)) == [(1, 100, 90), (None, 0, 80), (2, 10, 70)]
    assert shape(do(s, "extract", a=20, b=30)) == [(1, 100, 20), (1, 130, 70), (1, 300, 60), (2, 0, 80)]
    assert shape(do(s, "split", at=100 + 7))[1:3] == [(1, 300, 7), (1, 307, 53)]
    assert shape(do(s, "trim", piece=2, edge="in", delta=10))[1] == (1, 310, 50)
    assert shape(do(s, "trim", piece=2, edge="out", delta=-10))[1] == (1, 300, 50)
    assert shape(do(s, "move", piece=3, before=1))[0] == (2, 0, 80)
    assert shape(do(s, "swap", first=1, second=3)) == [(2, 0, 80), (1, 300, 60), (1, 100, 100)]
    assert shape(do(s, "remove", piece=2)) == [(1, 100, 100), (2, 0, 80)]


def test_cover_stays_on_its_word_through_edits_before_it() -> None:
    s = do(three(), "lay_cover", source=3, at=120, until=180, start=10)
    (c,) = s.covers
    assert (c.tether.piece, c.tether.moment, s.at(c)) == (2, 320, 120)
    for name, values, at in (
        ("insert", {"at": 0, "source": 2, "start": 0, "length": 33}, 153),
        ("extract", {"a": 10, "b": 60}, 70),
        ("trim", {"piece": 2, "edge": "in", "delta": 5}, 115),
        ("move", {"piece": 2, "before": 1}, 20),
        ("split", {"at": 110}, 120),  # its word is now in the right half
        ("swap", {"first": 2, "second": 3}, 200),
    ):
        t = do(s, name, **values)
        (d,) = t.covers
        assert d.tether.moment == 320 and t.at(d) == at, name


def test_cover_comes_loose_and_returns() -> None:
    s = do(three(), "lay_cover", source=3, at=120, until=180)
    cut, report = run(s, SOURCES, "extract", {"a": 118, "b": 180})
    assert not cut.covers and [c.id for c in cut.loose] == [4] and report.loosened == (4,)
    assert "came loose" in report.notes[0]
    back, report = run(cut, SOURCES, "trim", {"piece": 2, "edge": "out", "delta": 3})
    assert back.at(back.covers[0]) == 120 and report.returned == (4,)
    laid = do(cut, "move_cover", cover=4, at=10)
    assert laid.at(laid.covers[0]) == 10 and not laid.loose


@pytest.mark.parametrize(
    ("name", "params", "at", "start", "length"),
    [  # | A 100..200 | A 300..360 | B 0..80 |, a cover over [120, 180) from frame 10 of the shot on
        ("trim", {"piece": 2, "edge": "in", "delta": 21}, 100, 11, 59),  # its first word is trimmed away
        ("trim", {"piece": 2, "edge": "in", "delta": 19}, 101, 10, 60),  # the one before it
        ("extract", {"a": 110, "b": 140}, 110, 30, 40),  # first words: begins at the first that stays
        ("extract", {"a": 130, "b": 150}, 120, 10, 40),  # middle: runs on, shorter
        ("extract", {"a": 170, "b": 200}, 120, 10, 50),  # last words: ends with the last that stays
        ("take_out", {"cuts": [[115, 125], [130, 135], [175, 240]]}, 115, 15, 45),
        ("trim", {"piece": 3, "edge": "in", "delta": 1}, 120, 10, 59),
        ("lift", {"a": 130, "b": 150}, 120, 10, 60),  # a space in the middle: every frame is over its word still
        ("lift", {"a": 110, "b": 140}, 140, 30, 40),
        ("overwrite", {"at": 150, "source": 2, "start": 900, "length": 60}, 120, 10, 30),
        ("overwrite", {"at": 130, "source": 2, "start": 900, "length": 10}, 120, 10, 60),
        ("roll", {"piece": 2, "delta": 30}, 130, 20, 50),
        ("roll", {"piece": 3, "delta": 5}, 120, 10, 60),  # five of its words gone, others in their place
        ("move", {"piece": 3, "before": 1}, 200, 10, 60),  # no word gone: it runs on over what comes
        ("insert", {"at": 150, "source": 2, "start": 900, "length": 10}, 120, 10, 60),
        ("slip", {"piece": 2, "delta": 30}, 100, 20, 50),
    ],
)
def test_a_cover_and_a_sound_lose_what_their_words_lost(
    name: str, params: dict, at: int, start: int, length: int
) -> None:
    s = do(three(), "lay_cover", source=3, at=120, until=180, start=10)
    s = do(s, "lay_sound", source=6, at=120, until=180, start=10, kind="effect")
    t, report = run(s, SOURCES, name, params)
    for (c,) in (t.covers, t.sounds):
        assert (t.at(c), c.start, c.length) == (at, start, length)
    told = [n for n in report.notes if "shorter" in n]
    assert len(told) == (2 if length < 60 else 0) and not report.loosened
    if told:
        assert f"{60 - length} frame" in told[0]


def test_a_bed_longer_than_the_story_stays_as_long_and_retimed_covers_keep_their_speed() -> None:
    s = do(three(), "lay_sound", source=6, at=20, until=420, start=0, kind="music")
    t = do(s, "trim", piece=3, edge="out", delta=-10)
    assert t.sounds[0].length == 390 and t.at(t.sounds[0]) == 20  # it hangs over the end as far as before
    s = do(three(), "lay_cover", source=3, at=120, until=180, start=10, end=130, fit=True)  # at 200 %
    (c,) = do(s, "extract", a=110, b=140).covers
    assert (c.start, c.length, c.span) == (50, 40, 80)
    (c,) = do(s, "extract", a=170, b=200).covers
    assert (c.start, c.length, c.span) == (10, 50, 100)


def test_two_covers_that_meet_keep_their_words() -> None:
    s = do(three(), "lay_cover", source=3, at=80, until=110, lane=1)
    s = do(s, "lay_cover", source=3, at=165, until=175, lane=1)
    t, report = run(s, SOURCES, "move", {"piece": 3, "before": 2})
    assert [(t.at(c), c.lane) for c in t.covers] == [(80, 1), (105, 2)]
    assert any("lane 2" in n for n in report.notes)


def test_three_points() -> None:
    assert three_points(at=10, until=30, start=5, end=None, most=99) == (10, 5, 20)
    assert three_points(at=10, until=30, start=None, end=50, most=99) == (10, 30, 20)  # back-timed in the shot
    assert three_points(at=None, until=30, start=5, end=15, most=99) == (20, 5, 10)  # back-timed in the story
    assert three_points(at=10, until=None, start=5, end=None, most=99) == (10, 5, 94)
    for bad in (
        {"at": None, "until": None, "start": 1, "end": 2},
        {"at": 5, "until": 5, "start": 0, "end": None},
        {"at": 5, "until": None, "start": 9, "end": 9},
    ):
        with pytest.raises(Refused):
            three_points(**bad, most=99)


@pytest.mark.parametrize(
    ("name", "params", "says"),
    [
        ("insert", {"at": 0, "source": 1, "start": 1990, "length": 20}, "10 frames past the end of A"),
        ("insert", {"at": 0, "source": 1, "start": 5, "length": 0}, "empty"),
        ("insert", {"at": 999, "source": 1, "start": 5, "length": 5}, "past the end"),
        ("insert", {"at": 0, "source": 99, "start": 5, "length": 5}, "not in this project"),
        ("trim", {"piece": 1, "edge": "in", "delta": -101}, "A has 100 frames before this in point, not 101"),
        ("trim", {"piece": 1, "edge": "in", "delta": 100}, "nothing of A"),
        ("trim", {"piece": 1, "edge": "middle", "delta": 1}, "either in or out"),
        ("extract", {"a": 5, "b": 5}, "empty"),
        ("extract", {"a": 5, "b": 500}, "past the end"),
        ("split", {"at": 100}, "already a seam"),
        ("move", {"piece": 2, "before": 3}, "already there"),
        ("swap", {"first": 2, "second": 2}, "different"),
        ("lay_cover", {"source": 6, "at": 0, "until": 9, "start": 0}, "no picture"),
        ("lay_cover", {"source": 3, "at": 240, "until": 250, "start": 0}, "over the story"),
        ("lay_cover", {"source": 3, "at": 0, "until": 240, "start": 100}, "40 frames past the end of boat"),
        ("remove_cover", {"cover": 77}, "no longer"),
        ("nonsense", {}, "no edit called"),
    ],
)
def test_refusals_say_why(name: str, params: dict, says: str) -> None:
    with pytest.raises(Refused, match=says):
        run(three(), SOURCES, name, params)


def test_locks() -> None:
    s = do(do(three(), "lay_cover", source=3, at=0, until=9, start=0), "set_lock", lane="cover 1", locked=True)
    with pytest.raises(Refused, match="cover 1 lane is locked"):
        do(s, "trim_cover", cover=4, edge="out", delta=1)
    assert do(s, "extract", a=20, b=30).covers == s.covers
    with pytest.raises(Refused, match="dialogue lane is locked"):
        do(do(s, "set_lock", lane="dialogue", locked=True), "split", at=5)


def test_seams_tell_what_the_viewer_sees() -> None:
    s = do(three(), "split", at=130)
    kinds = lambda st: [x.kind for x in seams(st, SOURCES)]  # noqa: E731
    assert kinds(s) == ["jump", "through", "clean"]  # same setup; runs on; other setup
    assert kinds(do(s, "lay_cover", source=3, at=97, until=103, start=0))[0] == "covered"
    assert kinds(do(s, "lay_cover", source=3, at=98, until=110, start=0))[0] == "jump"  # too little to spare before it
    _, report = run(do(s, "lay_cover", source=3, at=97, until=103, start=0), SOURCES, "remove_cover", {"cover": 5})
    assert report.exposed == (100,) and "exposed" in report.notes[-1]


def test_words_stand_at_their_time() -> None:
    said = [Word(f"w{i}", 48000 * i, 48000 * i + 24000, "M") for i in range(8)]
    inside = words_in(said, R, 100, 60)  # 4 s to 6.4 s: w4, w5, and w6 only by its first 0.4 s of 0.5
    assert [w.text for _, w in inside] == ["w4", "w5", "w6"]
    assert [w.text for _, w in words_in(said, R, 100, 54)] == ["w4", "w5"]
    rows = lines(inside, start=100, length=60, frames_per_row=25, line_count=2, chars=40)
    assert [(r.top, [w.text for _, w in r.words]) for r in rows] == [(0, ["w4"]), (1, ["w5", "w6"])]
    story = do(three(), "lay_cover", source=3, at=90, until=120, start=0)
    asked = []

    def words(source: int, start: int, length: int) -> list[Word]:
        asked.append((source, start, length))
        return said if source == 1 else []

    page = lined(story, SOURCES, words, 50, 40)
    assert [(x.a, x.b, x.seen) for x in page.stretches] == [
        (0, 90, True),
        (90, 100, False),
        (100, 120, False),
        (120, 160, True),
        (160, 240, True),
    ]
    assert page.columns == ("A", "B") and EMPTY.length == 0
    asked.clear()
    part = lined(
        story, SOURCES, words, 50, 40, view=(110, 150)
    )  # a screenful: what reaches into it, at the same places
    assert [b.piece.id for b in part.blocks] == [2] and asked == [(1, 310, 40)] and part.columns == page.columns
    assert [(x.a, x.b, x.seen) for x in part.stretches] == [
        (110, 120, False),
        (120, 150, True),
    ] and part.covers == page.covers


def test_lanes_that_go_along_are_cut_and_closed_up() -> None:
    """| A | A | B | with a bed on the story's clock over [10, 200): what goes along is cut where something comes in or out."""
    s = do(three(), "lay_sound", source=6, at=10, until=200, start=50, kind="music", clock_bound=True)
    s = do(s, "lay_sound", source=6, at=220, until=235, start=400, kind="music", clock_bound=True)
    t, report = run(s, SOURCES, "insert", {"at": 100, "source": 2, "start": 900, "length": 30})
    assert [(t.at(x), x.start, x.length) for x in t.sounds] == [(10, 50, 190), (220, 400, 15)]
    assert any("Music on the story's clock stays" in n and "30 frames earlier" in n for n in report.notes)
    along = do(s, "set_along", lane="music")
    t, report = run(along, SOURCES, "insert", {"at": 100, "source": 2, "start": 900, "length": 30})
    assert [(t.at(x), x.start, x.length) for x in t.sounds] == [(10, 50, 90), (130, 140, 100), (250, 400, 15)]
    assert not any("clock stays" in n for n in report.notes)
    t, _ = run(along, SOURCES, "extract", {"a": 50, "b": 120})
    assert [(t.at(x), x.start, x.length) for x in t.sounds] == [(10, 50, 40), (50, 160, 80), (150, 400, 15)]
    t, report = run(do(along, "set_lock", lane="sounds", locked=True), SOURCES, "extract", {"a": 50, "b": 120})
    assert len(t.sounds) == 2 and any(
        "70 frames later" in n for n in report.notes
    )  # a locked lane does not go along, and it is told
    for bad in ({"lane": "music"}, {"lane": "choir"}):
        with pytest.raises(Refused):
            do(along, "set_along", **bad)
    # several stretches at once are the same as one after the other, from the last
    cuts = [[30, 50], [90, 110], [120, 125]]
    t, report = run(along, SOURCES, "take_out", {"cuts": cuts})
    one_by_one = along
    for a, b in reversed(cuts):
        one_by_one = do(one_by_one, "extract", a=a, b=b)
    heard = lambda x: [(x.at(q), q.start, q.length) for q in sorted(x.sounds, key=x.at)]  # noqa: E731
    assert heard(t) == heard(one_by_one) == [(10, 50, 20), (30, 90, 40), (70, 150, 10), (80, 165, 75), (175, 400, 15)]
    assert not any("clock stays" in n for n in report.notes)
    t, report = run(s, SOURCES, "take_out", {"cuts": cuts})
    assert len(t.sounds) == 2 and any("up to 45 frames later" in n for n in report.notes)


def test_a_gap_on_all_lanes_and_several_shots_at_once() -> None:
    s = do(three(), "lay_several", at=80, ranges=[[3, 10, 40], [3, 100, 30]])
    assert [(s.at(c), c.start, c.length, c.lane) for c in s.covers] == [(80, 10, 40, 1), (120, 100, 30, 1)]
    t = do(s, "insert_space", at=100, length=25, all_lanes=True)
    assert [(t.at(c), c.start, c.length) for c in t.covers] == [(80, 10, 20), (125, 30, 20), (145, 100, 30)]
    assert [t.pieces[1].source, t.pieces[1].length] == [None, 25]
    plain = do(s, "insert_space", at=100, length=25)  # else covers run on over it
    assert [(plain.at(c), c.length) for c in plain.covers] == [(80, 40), (145, 30)]
    with pytest.raises(Refused, match="do not all begin over the story"):
        do(three(), "lay_several", at=200, ranges=[[3, 0, 40], [3, 50, 40]])


def test_only_the_picture_or_only_the_sound_goes() -> None:
    s = do(three(), "lay_cover", source=3, at=120, until=140)
    t = do(s, "take_only", a=90, b=130, what="sound")
    assert [(p.start, p.length, p.take) for p in t.pieces] == [
        (100, 90, "both"),
        (190, 10, "picture"),
        (300, 30, "picture"),
        (330, 30, "both"),
        (0, 80, "both"),
    ]
    assert t.length == s.length and t.at(t.covers[0]) == 120
    u = do(t, "take_only", a=100, b=130, what="picture")  # nothing of it is left: a space
    assert [(p.source, p.length) for p in u.pieces][1:3] == [(1, 10), (None, 30)]
    with pytest.raises(Refused, match="no sound of the dialogue's own"):
        do(u, "take_only", a=100, b=130, what="sound")


def test_a_length_that_is_typed_and_where_the_playhead_stays() -> None:
    s = do(do(three(), "lay_cover", source=3, at=120, until=140), "lay_sound", source=6, at=10, until=50, start=0)
    cover, sound = s.covers[0].id, s.sounds[0].id
    assert do(s, "set_length", item=2, length=75).pieces[1].length == 75
    assert do(s, "set_length", item=cover, length=33).covers[0].length == 33
    assert do(s, "set_length", item=sound, length=12).sounds[0].length == 12
    with pytest.raises(Refused, match="one frame or longer"):
        do(s, "set_length", item=2, length=0)
    for name, params, piece in (("tail", {"at": 130}, 2), ("match_length", {"piece": 2}, 2)):
        t, report = run(s, SOURCES, name, params)
        assert report.playhead is not None and t.pieces[t.index_at(report.playhead)].id == piece  # still on it


def test_several_are_punched_in_and_overwriting_only_sound_leaves_the_picture() -> None:
    s = do(three(), "set_value", to=[1, 3], setting="zoom", value=120)
    assert [p.settings["zoom"] for p in s.pieces] == [120, 100, 120]
    s = do(three(), "lay_cover", source=3, at=20, until=60, start=10)
    t = do(s, "overwrite", at=30, source=2, start=900, length=80, take="sound")
    seen = {c.source: (t.at(c), c.start, c.length) for c in t.covers if c.source == 3}
    assert seen == {3: (20, 10, 40)} and not t.loose
    late = do(
        do(three(), "lay_cover", source=3, at=40, until=60, start=10),
        "overwrite",
        at=30,
        source=2,
        start=900,
        length=80,
        take="sound",
    )
    assert [(late.at(c), c.length) for c in late.covers if c.source == 3] == [(40, 20)]


def test_a_piece_is_repeated_after_itself() -> None:
    s = do(do(three(), "set_value", to=2, setting="zoom", value=130), "lay_cover", source=3, at=170, until=200, start=0)
    t, report = run(s, SOURCES, "repeat", {"piece": 2, "times": 2})
    assert [(p.source, p.start, p.length) for p in t.pieces][1:4] == [(1, 300, 60)] * 3
    assert [p.settings["zoom"] for p in t.pieces] == [100, 130, 130, 130, 100]
    assert t.at(t.covers[0]) == 290 and report.playhead == 280  # what lay on B is on B still
    for bad in (0, 101):
        with pytest.raises(Refused, match="1 to 100 times"):
            do(s, "repeat", piece=2, times=bad)


def test_what_was_taken_out_between_two_pieces() -> None:
    """Where the recording goes on later, at the same pace: cards, other recordings, what stands earlier or next to
    it are none."""
    s = EMPTY
    for source, start, length in (
        (1, 0, 50),
        (1, 70, 30),
        (1, 100, 10),
        (2, 150, 20),
        (1, 200, 20),
        (1, 10, 20),
        (1, 60, 40),
    ):
        s = do(s, "add_at_end", source=source, start=start, length=length)
    gone = lambda story: [(at, p.id, n) for at, p, n in taken_out(story, SOURCES)]  # noqa: E731
    assert gone(s) == [(50, 1, 20), (150, 6, 30)]
    assert gone(do(s, "set_speed", item=2, percent=50)) == [(180, 6, 30)]
    assert gone(do(s, "insert_card", at=50, length=5)) == [(155, 6, 30)] and gone(
        do(s, "insert_space", at=150, length=5)
    ) == [(50, 1, 20)]


def test_a_cover_kept_before_covers_had_groups_is_read_as_it_was() -> None:
    """The three forms a row has had, as journals and archives hold them. Common practice, no source."""
    settings = {"opacity": 50}
    now = cover_row(Cover(4, 2, 10, 30, Tether(1, 5), 2, settings=Values.from_json(settings)))
    assert now == [4, 2, 10, 30, 1, 5, 2, 0, settings]
    assert cover_from(now) == cover_from([4, 2, 10, 30, 1, 5, 2, settings])
    assert cover_from([*now[:7], 9, settings]).group == 9
    assert cover_from([4, 2, 10, 30, 1, 5, 2, 1, 60]).settings.to_json() == {"natural": True, "span": 60}
