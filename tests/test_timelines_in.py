"""Stories made elsewhere: OpenTimelineIO and edit lists in. Our own come back equal; others as far as they can be
taken, told."""

import os
import random
from pathlib import Path
from typing import Any

import opentimelineio as otio
import pytest
from fastapi.testclient import TestClient

from kovel.core.errors import Invalid
from kovel.core.plan.plan import Plan, make_plan
from kovel.core.story.catalogue import run
from kovel.core.story.model import Refused, Story
from kovel.data_folder import DataFolder
from kovel.exchange.edl_out import to_edl
from kovel.exchange.otio_out import to_otio
from kovel.media.files import Unusable
from kovel.services.story.timeline_import import bring_in
from kovel.store import history, projects, recordings, stories
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from tests.core.test_invariants import NAMES, Editing
from tests.sent import edit_list, timeline

Rows = dict[int, Recording]


@pytest.fixture
def shoot(data: DataFolder) -> tuple[Project, Rows]:
    """Recordings like those of the core's stories, with timecodes of their own."""
    from tests.core.stories import SOURCES

    p = projects.create(data.db, "Ferry", "25", start="01:00:00:00")
    for s in SOURCES.values():
        facts = {
            "size": s.id,
            "rate": [s.rate.num, s.rate.den],
            "frames": s.frames,
            "picture": s.picture,
            "sound": s.sound,
            "width": 16,
            "height": 9,
            "channels": 2,
            "start_timecode": "10:00:05:10" if s.id in (1, 3) else "",
            "remarks": [],
        }
        kind = "interview" if s.id < 3 else "b-roll" if s.picture else "sound"
        recordings.add(data.db, p.id, f"/media/{s.name}.mov", s.name, kind, facts, roll=s.name[0].upper() + str(s.id))
    return p, {r.id: r for r in recordings.of_project(data.db, p.id)}


def edited(seed: int, steps: int = 25) -> Story:
    """A story after random edits of every sort."""
    r = random.Random(seed)
    machine = Editing()
    for _ in range(4):
        machine.do("add_at_end", source=r.choice([1, 2, 4, 7]), start=r.randint(0, 300), length=r.randint(20, 120))
    for _ in range(steps):
        name = r.choice(NAMES)
        machine.do(name, **machine.anything(name, r))
    return machine.story


@pytest.mark.parametrize("part", range(4))
def test_stories_come_back_equal(part: int, shoot: tuple[Project, Rows]) -> None:
    """Whatever is in them: as many as KOVEL_STORIES says (a thousand were seen)."""
    p, rows = shoot
    count = int(os.environ.get("KOVEL_STORIES", "160")) // 4
    sources = {i: r.source for i, r in rows.items()}
    for seed in range(part * count, part * count + count):
        s = edited(seed)
        text = otio.adapters.write_to_string(to_otio(s, "cut", p, rows), "otio_json")
        taken = timeline(text, p, rows)
        assert not taken.left and taken.story == s, seed
        assert make_plan(taken.story, sources) == make_plan(s, sources)


def bare(tl: otio.schema.Timeline) -> str:
    """As somebody else would have written it: without what Kovel adds."""
    tl.metadata.clear()
    for c in tl.find_clips():
        c.metadata.clear()
    return otio.adapters.write_to_string(tl, "otio_json")


def shown(plan: Plan, rows: Rows) -> list[Any]:
    sources = {i: r.source for i, r in rows.items()}
    found = (plan.recording_frame(t, sources) for t in range(plan.length))
    return [(x[0], 0) if x and rows[x[0]].frames is None else x for x in found]  # a still has but one


def plainly(seed: int) -> Story:
    """Cuts, covers at speeds, dissolves, split edits, spaces, sounds: what other programs know as well."""
    from tests.core.stories import SOURCES, three

    r, s = random.Random(seed), three()
    for _ in range(12):
        name, params = r.choice(
            [
                (
                    "add_at_end",
                    {"source": r.choice([1, 2, 4]), "start": r.randint(0, 300), "length": r.randint(10, 90)},
                ),
                (
                    "lay_cover",
                    {
                        "source": r.choice([3, 4, 5]),
                        "at": (a := r.randint(0, 200)),
                        "until": a + r.randint(5, 40),
                        "start": r.randint(0, 100),
                    },
                ),
                ("insert_space", {"at": r.choice([0, 100, 160]), "length": r.randint(1, 30)}),
                ("split", {"at": r.randint(1, 230)}),
                ("extract", {"a": (a := r.randint(0, 100)), "b": a + r.randint(1, 30)}),
                ("split_edit", {"piece": 2, "frames": r.randint(-8, 8)}),
                (
                    "lay_sound",
                    {
                        "source": 6,
                        "at": (a := r.randint(0, 150)),
                        "until": a + r.randint(5, 60),
                        "start": r.randint(0, 200),
                        "clock_bound": True,
                    },
                ),
            ]
        )
        try:
            s, _ = run(s, SOURCES, name, params)
        except Refused:
            continue
    return s


@pytest.mark.parametrize("seed", range(30))
def test_a_timeline_that_others_wrote_shows_and_plays_the_same(seed: int, shoot: tuple[Project, Rows]) -> None:
    """Without any word of ours in it: the same frames at the same times, the same samples heard."""
    p, rows = shoot
    s = plainly(seed)
    sources = {i: r.source for i, r in rows.items()}
    taken = timeline(bare(to_otio(s, "cut", p, rows)), p, rows)
    want, got = make_plan(s, sources), make_plan(taken.story, sources)
    assert got.length == want.length and shown(got, rows) == shown(want, rows), taken.left

    def heard(plan: Plan) -> list[tuple[int, int, int]]:
        """(source, first sample) of all that sounds, every tenth of a second."""
        return [
            sorted((h.source, h.start + t - h.at) for h in plan.sounds if h.at <= t < h.end)
            for t in range(0, plan.samples, 4800)
        ]  # type: ignore[misc]

    assert heard(got) == heard(want)


@pytest.mark.parametrize("seed", range(20))
def test_an_edit_list_shows_and_plays_the_same(seed: int, shoot: tuple[Project, Rows]) -> None:
    p, rows = shoot
    s = plainly(seed)
    sources = {i: r.source for i, r in rows.items()}
    taken = edit_list(to_edl(s, "cut", p, rows), p, rows)
    want, got = make_plan(s, sources), make_plan(taken.story, sources)
    assert shown(got, rows)[: want.length] == shown(want, rows)[: got.length], taken.left
    talk = {p.source for p in s.pieces}
    for t in range(0, min(got.samples, want.samples), 4800):
        a, b = (
            {
                (h.source, h.start + t - h.at)
                for h in x.sounds
                if h.at <= t < h.end and h.source in talk and h.source != 6
            }
            for x in (got, want)
        )
        assert {(i, n // 1920) for i, n in a} == {(i, n // 1920) for i, n in b}


def test_what_cannot_be_taken_is_told_line_by_line(shoot: tuple[Project, Rows], data: DataFolder) -> None:
    p, rows = shoot
    tl = to_otio(plainly(3), "cut", p, rows)
    clips = list(tl.find_clips())
    clips[0].name, clips[0].media_reference = "nobody", otio.schema.MissingReference()
    clips[1].effects.append(otio.schema.Effect(effect_name="Sparkle"))
    clips[2].source_range = otio.opentime.TimeRange(otio.opentime.RationalTime(0, 25), clips[2].source_range.duration)
    taken = timeline(bare(tl), p, rows)
    told = "\n".join(taken.left)
    assert "nobody is not among the recordings, or could be" in told and "the effect Sparkle" in told
    text = to_edl(plainly(3), "cut", p, rows).replace("001  ", "001  ", 1)
    odd = (
        text.replace("SOURCE FILE: A.mov", "SOURCE FILE: Zed.mov")
        .replace("FROM CLIP NAME: A\n", "FROM CLIP NAME: Zed\n")
        .replace(" A1 ", " ZZ ")
    )
    assert any("Zed.mov is not among the recordings" in x for x in edit_list(odd, p, rows).left)
    for bad, why in (("tea", "no event"), ("TITLE: x\n", "no event")):
        with pytest.raises(Unusable, match=why):
            edit_list(bad, p, rows)
    for bad in ("tea", "{}", '{"OTIO_SCHEMA": "Clip.1"}'):
        with pytest.raises(Unusable):
            timeline(bad, p, rows)
    before = len(stories.of_project(data.db, p.id))
    with pytest.raises(Invalid, match=r"cannot read a\.doc as a timeline"):
        bring_in(data, p.id, "doc", "a.doc", b"tea")
    with pytest.raises(Invalid, match=r"Nothing of x\.edl"):
        bring_in(
            data,
            p.id,
            "edl",
            "x.edl",
            b"001  ZZ       V     C        00:00:00:00 00:00:01:00 01:00:00:00 01:00:01:00\n",
        )
    assert len(stories.of_project(data.db, p.id)) == before
    sid, name, left = bring_in(
        data,
        p.id,
        "otio",
        "cut.otio",
        otio.adapters.write_to_string(to_otio(plainly(5), "cut", p, rows), "otio_json").encode(),
    )
    assert (
        name == "cut"
        and not left
        and stories.current(data.db, p.id) == sid
        and stories.load(data.db, sid).story == plainly(5)
    )
    assert not history.undo(data.db, sid)[0].story.pieces


def test_nothing_is_guessed(shoot: tuple[Project, Rows], data: DataFolder) -> None:
    """A name that nobody has is told although its reel is known; a reel alone is enough where one recording has it,
    or one whose timecode reaches there."""
    p, _ = shoot
    for i, tc in ((1, "10:00:00:00"), (2, "11:00:00:00"), (3, "10:00:00:00")):
        with data.db.write() as c:
            c.execute(
                "UPDATE recording SET roll = ?, start_timecode = ? WHERE id = ?", ("M1" if i < 3 else "B7", tc, i)
            )
    rows = {r.id: r for r in recordings.of_project(data.db, p.id)}
    line = "001  {0:<8} V     C        {1}:00:04:00 {1}:00:06:00 01:00:00:00 01:00:02:00\n"
    for reel, hour, name, want in (
        ("B7", "10", "", 3),
        ("M1", "10", "", 1),
        ("M1", "11", "", 2),
        ("M1", "12", "", None),
        ("B7", "10", "* FROM CLIP NAME: Nobody\n", None),
        ("B7", "10", "* FROM CLIP NAME: B\n", 2),
    ):
        taken = edit_list(line.format(reel, "11" if want == 2 else hour) + name, p, rows)
        assert [x.source for x in taken.story.pieces] == ([want] if want else []), (reel, hour, name)
        assert want or "could be several of them" in taken.left[0]


def test_a_list_with_a_dissolve_and_a_motion_line_as_books_show_it(shoot: tuple[Project, Rows]) -> None:
    """The common event layout: a dissolve is a D event with its length; M2 tells frames a second. From memory."""
    p, rows = shoot
    text = """TITLE: BY HAND
FCM: NON-DROP FRAME

001  A1       B     C        10:00:09:10 10:00:11:10 01:00:00:00 01:00:02:00
002  B2       B     C        00:00:01:00 00:00:03:00 01:00:02:00 01:00:04:00
003  B2       V     D    012 00:00:10:00 00:00:12:00 01:00:04:00 01:00:06:00
004  B3       V     C        10:00:05:10 10:00:09:10 01:00:06:00 01:00:08:00
M2   B3       050.0                10:00:05:10
* FROM CLIP NAME: boat
"""
    taken = edit_list(text, p, rows)
    s = taken.story
    assert taken.name == "BY HAND" and s.length == 200
    assert [(x.source, x.start, x.length, x.take) for x in s.pieces[:3]] == [
        (1, 100, 50, "both"),
        (2, 25, 50, "both"),
        (2, 250, 50, "picture"),
    ]
    assert [(j.blend, j.length) for j in s.transitions] == [("dissolve", 12)]
    fast = s.pieces[3]
    assert (fast.used, fast.length, fast.clock.speed) == ((0, 99), 50, 2) and not taken.left


def test_in_the_browser_and_by_command(shoot: tuple[Project, Rows], data: DataFolder, tmp_path: Path) -> None:
    from kovel.web.app import create_app

    p, rows = shoot
    page = TestClient(
        create_app(data, [], jobs=False),
        base_url="http://localhost:8463",
        headers={"hx-request": "true", "x-kovel": "1"},
    )
    text = to_edl(plainly(8), "cut", p, rows)
    got = page.post(f"/p/{p.id}/timeline.in", files={"file": ("cut.edl", text.encode())})
    assert got.status_code == 204 and got.headers["hx-redirect"] == f"/p/{p.id}/story"
    assert len(stories.of_project(data.db, p.id)) == 2
    bad = page.post(f"/p/{p.id}/timeline.in", files={"file": ("cut.otio", b"tea")})
    assert bad.status_code == 422 and "no timeline that can be read" in bad.text
