"""Open formats out, read back by OpenTimelineIO and its EDL adapter, equal to our own plan."""

import json
from itertools import pairwise

import opentimelineio as otio
import pytest

from kovel.core.plan.plan import make_plan
from kovel.core.story.settings import Values
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import format_timecode, parse_entry
from kovel.data_folder import DataFolder
from kovel.exchange.edl_out import to_edl
from kovel.exchange.otio_out import to_otio
from kovel.exchange.timelines import TIMELINES
from kovel.store import projects, recordings, stories
from kovel.store.recordings import Recording
from tests.sent import timeline

Kept = tuple[stories.Kept, projects.Project, dict[int, Recording]]


@pytest.fixture(params=["25", "29.97 drop", "23.976"])
def told(data: DataFolder, request: pytest.FixtureRequest) -> Kept:
    """Two interviews, a jump, a space, covers on two lanes; recordings with start timecodes."""
    rate, _, drop = request.param.partition(" ")
    p = projects.create(data.db, "Ferry", rate, start="01:00:00:00", drop=bool(drop))
    for name, kind, tc, own in (
        ("Maren A", "interview", "14:22:05:10", p.rate),
        ("Tobin", "interview", "", p.rate),
        ("boat", "b-roll", "00:59:58:00", p.rate),
        ("fifty", "b-roll", "", Rate(50)),
    ):
        facts = {
            "size": 1,
            "rate": [own.num, own.den],
            "frames": 3000,
            "picture": True,
            "sound": name != "boat",
            "width": 16,
            "height": 9,
            "channels": 1,
            "start_timecode": tc,
            "remarks": [],
        }
        recordings.add(data.db, p.id, f"/media/{name}.mov", name, kind, facts, roll=name[0] + "1")
    do = lambda name, **v: stories.edit(data.db, 1, None, name, v)  # noqa: E731
    for source, start, length in ((1, 100, 1900), (1, 2100, 60), (2, 0, 80)):
        do("add_at_end", source=source, start=start, length=length)
    do("insert_space", at=1960, length=24)
    do("lay_cover", source=3, at=1880, until=1990, start=7)
    do("lay_cover", source=4, at=1890, until=1900, start=50)
    rows = {r.id: r for r in recordings.of_project(data.db, p.id)}
    return stories.load(data.db, 1), p, rows


def test_otio_says_the_same(told: Kept) -> None:
    """`flatten_stack` and `range_of_all_children` of OpenTimelineIO make of the export what our plan makes of the
    story."""
    kept, p, rows = told
    tl = otio.adapters.read_from_string(
        otio.adapters.write_to_string(to_otio(kept.story, kept.name, p, rows), "otio_json"), "otio_json"
    )
    fps = float(p.rate.fps)
    assert tl.global_start_time.to_frames() == p.start_frame and tl.duration().to_frames() == kept.story.length
    assert [t.name for t in tl.video_tracks()] == ["Dialogue", "Cover 1", "Cover 2"]
    ranges = tl.video_tracks()[0].range_of_all_children()
    assert [ranges[c].start_time.to_frames() for c in tl.video_tracks()[0]] == list(kept.story.starts[:-1])
    names = {r.name: i for i, r in rows.items()}
    plan = make_plan(kept.story, {i: r.source for i, r in rows.items()})
    flat, t = [], 0
    zero = {"Maren A": 1, "boat": 1}
    track = otio.algorithms.flatten_stack(tl.video_tracks())
    for item in track:
        n = item.duration().to_frames()
        if isinstance(item, otio.schema.Clip):
            first = item.media_reference.available_range.start_time.to_frames()
            assert (first > 0) == (item.name in zero) and item.media_reference.target_url.startswith("file:///media/")
            flat.append((t, t + n, names[item.name], item.source_range.start_time.to_frames() - first))
        else:
            flat.append((t, t + n, None, 0))
        t += n
    assert flat == [(x.at, x.end, x.source, x.start if x.source else 0) for x in plan.pictures]
    assert all(c.source_range.duration.rate == fps for c in tl.find_clips())


def test_edl_reads_back_equal(told: Kept) -> None:
    """otio-cmx3600-adapter (PyPI) reads the list to the same events: what is seen on V, what is heard on A."""
    kept, p, rows = told
    text = to_edl(kept.story, kept.name, p, rows)
    plan = make_plan(kept.story, {i: r.source for i, r in rows.items()})
    fps = float(p.rate.fps)
    # the adapter knows one rate: events of the recording at 50 are read here
    fast = [k for k, x in enumerate(text.splitlines()) if x[5:].startswith("F1 ")]
    lines = text.splitlines()
    (k, m2) = fast
    begins, ends = ([int(v) for v in x.split(":")] for x in lines[k].split()[4:6])
    plan_row = next(x for x in plan.pictures if x.source == 4)
    own = [((h * 60 + m) * 60 + s) * 50 + f for h, m, s, f in (begins, ends)]
    assert own[0] == plan_row.start * 50 // p.rate.fps and abs(own[1] - own[0] - 10 * 50 / p.rate.fps) <= 0.5
    assert lines[m2] == f"M2   F1             050.0                {lines[k].split()[4]}"
    text = "\n".join(x for i, x in enumerate(lines) if not k <= i <= k + 3)
    tl = otio.adapters.read_from_string(text, "cmx_3600", rate=fps)
    by_kind = {t.kind: t for t in tl.tracks}
    names = {r.name: i for i, r in rows.items()}
    first = {
        i: otio.opentime.from_timecode(r.start_timecode, fps).to_frames() if r.start_timecode else 0
        for i, r in rows.items()
    }

    def events(track: otio.schema.Track) -> list[tuple[int, int, int, int]]:
        out = []
        for clip in track.find_clips():
            at = clip.range_in_parent()
            if isinstance(clip.media_reference, otio.schema.GeneratorReference):
                continue
            i = names[clip.name]
            out.append(
                (
                    at.start_time.to_frames(),
                    at.end_time_exclusive().to_frames(),
                    i,
                    clip.source_range.start_time.to_frames() - first[i],
                )
            )
        return out

    seen = [(x.at, x.end, x.source, x.start) for x in plan.pictures if x.source not in (None, 4)]
    assert events(by_kind["Video"]) == seen
    heard = [
        (a, a + q.length, q.source, q.start)
        for a, q in zip(kept.story.starts, kept.story.pieces, strict=False)
        if q.source
    ]
    assert events(by_kind["Audio"]) == heard
    assert f"{format_timecode(p.start_frame, p.rate, p.drop)}" in text and all(
        len(x.split()[1]) <= 8 for x in text.splitlines() if x[:3].isdigit()
    )


def test_what_a_list_cannot_hold_is_said_and_lanes_are_as_in_the_plan(told: Kept, data: DataFolder) -> None:
    _, p, _ = told
    do = lambda name, **v: stories.edit(data.db, 1, None, name, v)  # noqa: E731
    rows = {r.id: r for r in recordings.of_project(data.db, p.id)}
    s = stories.load(data.db, 1).story
    do("set_blend", piece=s.pieces[1].id, blend="dissolve", length=10)
    do("insert_card", at=0, length=20, text="The Last Haul")
    do("lay_sound", source=2, at=30, until=90, start=0, kind="effect")
    do("retime_cover", cover=s.covers[0].id, span=220)
    text = to_edl(stories.load(data.db, 1).story, "cut", p, rows)
    told_ = text[text.index("* NOT IN THIS LIST") :]
    assert "dissolve of 10 frames: written as a cut" in told_ and "card “The Last Haul”: written as black" in told_
    of_cover = lambda t: [x.split() for x in t.splitlines() if x[:3].isdigit() and x.split()[1] == "B1"]  # noqa: E731
    before = of_cover(text)
    do("set_value", to=s.covers[0].id, setting="opacity", value=40)
    do("set_value", to=s.pieces[0].id, setting="level", value=-3)
    through = to_edl(stories.load(data.db, 1).story, "cut", p, rows)
    after = of_cover(through)  # what lies on top is listed, from its first frame to its last
    assert (after[0][4], after[0][6], after[-1][5], after[-1][7]) == (
        before[0][4],
        before[0][6],
        before[-1][5],
        before[-1][7],
    )
    gaps = lambda rows: [(x[7], y[6]) for x, y in pairwise(rows) if x[7] != y[6]]  # noqa: E731
    assert gaps(after) == gaps(before)
    assert ": opacity 40 %" in through and ": level -3.0 dB" in through
    assert (
        "effect “Tobin”, 60 frames" in told_ and "M2   B1             0" in text
    )  # 110 frames of the story, 220 of the shot
    for lane, track in (("dialogue", "Dialogue sound"), ("effect", "Sound 1"), ("cover 1", "Cover 1")):
        do("set_muted", lane=lane, muted=True)
        made = to_otio(stories.load(data.db, 1).story, "cut", p, rows)
        assert not [c for t in made.tracks if t.name == track for c in t if isinstance(c, otio.schema.Clip)]
        do("set_muted", lane=lane, muted=False)
    do("set_muted", lane="dialogue", muted=True)
    assert " A     C" not in to_edl(stories.load(data.db, 1).story, "cut", p, rows)


def test_start_timecode_counts_at_the_recordings_own_rate(data: DataFolder) -> None:
    """ST 12-1: 0.4 s after 01:00:00;40 at 59.94 is 01:00:01;04, whatever the story's rate."""
    p = projects.create(data.db, "Ferry", "29.97", start="01:00:00:00", drop=True)
    facts = {
        "size": 1,
        "rate": [60000, 1001],
        "frames": 3000,
        "picture": True,
        "sound": True,
        "width": 16,
        "height": 9,
        "channels": 1,
        "start_timecode": "01:00:00;40",
        "remarks": [],
    }
    r = recordings.add(data.db, p.id, "/media/fast.mov", "fast", "interview", facts)
    stories.edit(data.db, 1, None, "add_at_end", {"source": r.id, "start": 12, "length": 30})
    kept = stories.load(data.db, 1)
    assert "FAST     V     C        01:00:01;04 01:00:02;04 01:00:00;00" in to_edl(kept.story, "cut", p, {r.id: r})
    (clip, *_) = to_otio(kept.story, "cut", p, {r.id: r}).find_clips()
    whole = clip.media_reference.available_range
    assert (whole.start_time.rate, whole.duration.value) == (pytest.approx(60000 / 1001), 3000)
    assert otio.opentime.to_timecode(whole.start_time, 60000 / 1001, True) == "01:00:00;40"
    assert clip.source_range.start_time.to_seconds() == pytest.approx(
        whole.start_time.to_seconds() + 12 * 1001 / 30000, abs=0.017
    )


def test_what_is_set_is_kept_in_otio_and_said_of_an_edl(told: Kept, data: DataFolder) -> None:
    """Pushes, looks, titles and comings go out as metadata and classes of the standard, and read back equal."""
    _, p, rows = told
    do = lambda name, **v: stories.edit(data.db, 1, None, name, v)  # noqa: E731
    do("push", items=[1], last=112)
    do("set_value", to=5, setting="brightness", value=0.5)
    do("set_value", to=5, setting="appear", value=8)
    do("set_value", to="story", setting="shape", value="9:16")
    do("lay_title", at=30, text="Maren / ferrywoman", how="lower third", length=60)
    do("set_group", ids=[x.id for x in stories.load(data.db, 1).story.pieces[:2]])
    do("set_as_one", piece=1)
    group = f"group {stories.load(data.db, 1).story.piece(1).group}"
    do("set_value", to=group, setting="saturation", value=-100)
    kept = stories.load(data.db, 1)
    written = otio.adapters.write_to_string(to_otio(kept.story, kept.name, p, rows), "otio_json")
    tl = json.loads(otio.adapters.write_to_string(otio.adapters.read_from_string(written, "otio_json"), "otio_json"))
    clips = [c for track in tl["tracks"]["children"] for c in track["children"] if c["OTIO_SCHEMA"].startswith("Clip")]
    own = {
        c["name"]: Values.from_json(c["metadata"]["kovel"]["settings"])
        for c in clips
        if "settings" in c["metadata"].get("kovel", {})
    }
    title = next(c for c in kept.story.covers if c.title)
    assert own == {
        "Maren A": kept.story.piece(1).settings,
        "boat": kept.story.cover(5).settings,
        "Maren / ferrywoman": title.settings,
    }
    made = next(c for c in clips if c["name"] == "Maren / ferrywoman")["media_references"]["DEFAULT_MEDIA"]
    assert made["generator_kind"] == "Title" and Values.from_json(made["parameters"]) == title.settings
    assert Values.from_json(tl["metadata"]["kovel"]["settings"]["story"]) == dict(kept.story.settings)["story"]
    text = to_edl(kept.story, kept.name, p, rows)
    events = [line for line in text.splitlines() if line[:3].isdigit() and line.split()[2] == "V"]
    assert events[0].split()[4:6] == [format_timecode(h, p.rate, False) for h in _source(rows[1])]
    said = text.split("NOT IN THIS LIST:")[1]
    assert "2 pieces seen as one picture: saturation -100 %" in said
    assert timeline(written, p, rows).story.settings == kept.story.settings
    assert (
        "title “Maren / ferrywoman”" in said and "brightness +0.5 stops" in said and "zoom a line of 2 moments" in said
    )


def _source(r: Recording) -> tuple[int, int]:
    """In and out of the first shot as the list has them: it ends where the first cover is wholly there."""
    return r.first + 100, r.first + 100 + 1884


def test_older_programs_get_the_schemas_they_know(told: Kept) -> None:
    """OpenTimelineIO 0.15 gave a clip several media references (Clip.2); what is written for 0.14 has none, and says
    the same."""
    kept, p, rows = told
    new, old = (TIMELINES[name].write(kept.story, kept.name, p, rows) for name in ("otio", "otio-0.14"))
    assert '"Clip.2"' in new and '"Clip.2"' not in old and '"Clip.1"' in old and '"media_references"' not in old
    first, second = (otio.adapters.read_from_string(text, "otio_json") for text in (new, old))
    assert first.is_equivalent_to(second)


def test_a_ramp_is_one_event_at_its_mean_speed_and_kept_whole_in_otio(told: Kept, data: DataFolder) -> None:
    """The list's layout knows one speed an event: the mean, and the line is named; OTIO keeps the line beside a time
    warp."""
    _, p, rows = told
    cover = next(c for c in stories.load(data.db, 1).story.covers if c.id == 5)
    line = [[cover.start, 100.0], [cover.start + 20, 200.0], [cover.start + 40, 100.0]]
    stories.edit(data.db, 1, None, "set_ramp", {"item": 5, "line": line, "keep": "place"})
    kept = stories.load(data.db, 1)
    c = next(c for c in kept.story.covers if c.id == 5)
    assert c.used > c.length
    (clip,) = [x for x in to_otio(kept.story, kept.name, p, rows).find_clips() if x.effects]
    assert clip.effects[0].time_scalar == pytest.approx(c.used / c.length)
    assert [list(m) for m in clip.metadata["kovel"]["settings"]["speed"]] == line
    lines = to_edl(kept.story, kept.name, p, rows).splitlines()
    events = [lines[i : i + 2] for i, x in enumerate(lines) if x[:3].isdigit() and x.split()[1:3] == ["B1", "V"]]
    assert len(events) == 2  # another cover is seen in its middle
    for _, speed in events:
        assert float(speed.split()[2]) == pytest.approx(float(rows[3].rate.fps) * c.used / c.length, abs=0.06)
    assert any("speed a line of 3 moments" in x for x in lines)


def test_a_shot_that_runs_backwards_is_written_so(told: Kept, data: DataFolder) -> None:
    """A LinearTimeWarp below zero; in the list a negative number of frames a second, and the stretch that is used."""
    _, p, rows = told
    stories.edit(data.db, 1, None, "set_value", {"to": 5, "setting": "backwards", "value": True})
    kept = stories.load(data.db, 1)
    tl = to_otio(kept.story, kept.name, p, rows)
    warps = [e.time_scalar for c in tl.find_clips() for e in c.effects if isinstance(e, otio.schema.LinearTimeWarp)]
    assert warps == [-1.0]
    lines = to_edl(kept.story, kept.name, p, rows).splitlines()
    i = next(k for k, line in enumerate(lines) if line.startswith("M2"))
    assert float(lines[i].split()[2]) == pytest.approx(-float(p.rate.fps), abs=0.06)
    used = [parse_entry(t, rows[3].rate) for t in lines[i - 1].split()[4:6]]
    first = parse_entry(rows[3].start_timecode, rows[3].rate)
    assert first + 7 <= used[0] < used[1] <= first + 7 + 110
