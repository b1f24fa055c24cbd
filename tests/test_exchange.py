"""Open formats out, read back by OpenTimelineIO and its EDL adapter, equal to our own plan."""

import opentimelineio as otio
import pytest

from kovel.core.plan import make_plan
from kovel.core.rate import Rate
from kovel.core.timecode import format_timecode
from kovel.exchange.story import to_edl, to_otio
from kovel.store import projects, recordings, stories
from kovel.store.recordings import Recording
from kovel.work.data import Data

Kept = tuple[stories.Kept, projects.Project, dict[int, Recording]]


@pytest.fixture(params=["25", "29.97 drop", "23.976"])
def told(data: Data, request: pytest.FixtureRequest) -> Kept:
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
    """`flatten_stack` and `range_of_all_children` of OpenTimelineIO make of the export what our plan makes of the story."""
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
    tl = otio.adapters.read_from_string(text, "cmx_3600", rate=fps)
    by_kind = {t.kind: t for t in tl.tracks}
    names = {r.name: i for i, r in rows.items()}
    first = {
        i: otio.opentime.from_timecode(r.start_timecode, fps).to_frames() if r.start_timecode else 0 for i, r in rows.items()
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

    seen = [(x.at, x.end, x.source, x.start) for x in plan.pictures if x.source is not None]
    assert events(by_kind["Video"]) == seen
    heard = [
        (a, a + q.length, q.source, q.start) for a, q in zip(kept.story.starts, kept.story.pieces, strict=False) if q.source
    ]
    assert events(by_kind["Audio"]) == heard
    assert f"{format_timecode(p.start_frame, p.rate, p.drop)}" in text and all(
        len(x.split()[1]) <= 8 for x in text.splitlines() if x[:3].isdigit()
    )
