"""Each room over HTTP, without a browser: what its forms do, what they answer, what they refuse."""

import html
import io
import json
import math
import re
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner
from fastapi.testclient import TestClient
from PIL import Image

from kovel.cli import main
from kovel.core.story.model import Sync
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.services.log import transcription
from kovel.store import caption_rows, jobs, markers, projects, recordings, stories, subclips, transcripts
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from kovel.web.pages import environment
from tests.conftest import said

Coded = tuple[DataFolder, dict[str, Recording]]


def test_footage(room: TestClient, coded: Coded) -> None:
    data, r = coded
    talk, fifty, boat = (r[n].id for n in ("talk", "fifty", "boat"))
    names = lambda: [x.name for x in recordings.of_project(data.db, 1)]  # noqa: E731
    assert names() == ["talk", "fifty", "boat"]
    room.post(f"/p/1/recordings/{boat}/order", data={"before": talk})
    assert names() == ["boat", "talk", "fifty"]
    room.post(f"/p/1/recordings/{boat}/order", data={"step": 1})
    assert names() == ["talk", "boat", "fifty"]
    for _ in range(3):  # past the end it stays last
        room.post(f"/p/1/recordings/{boat}/order", data={"step": 1})
    assert names() == ["talk", "fifty", "boat"]
    assert said(room.post(f"/p/1/recordings/{talk}", data={"name": "  Maren   Oskel "})) == "Maren Oskel changed."
    room.post(f"/p/1/recordings/{talk}", data={"roll": "M1", "camera": "A", "day": "2"})
    room.post(f"/p/1/recordings/{fifty}", data={"roll": "M1", "camera": "A", "aside": "1"})
    a, b = recordings.get(data.db, talk), recordings.get(data.db, fifty)
    assert (a.name, a.roll, a.day, b.aside) == ("Maren Oskel", "M1", "2", True)
    assert a.source.setup == b.source.setup == "M1/A" != recordings.get(data.db, boat).source.setup
    assert room.post(f"/p/1/recordings/{talk}", data={"kind": "opera"}).status_code == 422
    assert "Give it a name" in said(room.post(f"/p/1/recordings/{talk}", data={"name": "\x00 "}))
    stories.edit(data.db, 1, None, "add_at_end", {"source": talk, "start": 0, "length": 10})
    assert "The story uses this recording" in said(room.post(f"/p/1/recordings/{talk}/remove"))
    path = Path(recordings.get(data.db, boat).path)
    assert "its file was not touched" in said(room.post(f"/p/1/recordings/{boat}/remove")) and path.exists()
    assert boat not in recordings.sources(data.db, 1) and data.derived(boat).exists() and data.derived(talk).exists()
    room.post(f"/p/1/recordings/{fifty}/retry")
    assert "data-poll" in room.get("/p/1/footage/list").text
    room.post(f"/p/1/recordings/{fifty}/cancel")
    assert (
        jobs.latest_of_recordings(data.db, 1)[fifty].state == "cancelled"
        and "data-poll" not in room.get("/p/1/footage/list").text
    )
    page = room.get("/p/1/footage").text
    assert page.count('data-recording="') == 2


def test_log(room: TestClient, coded: Coded) -> None:
    data, r = coded
    url = f"/p/1/recordings/{r['talk'].id}/subclips"
    ok = room.post(
        url,
        data={
            "start": "50",
            "end": "4:00",
            "name": "A <bite>",
            "note": "n",
            "tags": "Flood, bell,flood",
            "verdict": "maybe",
        },
    )
    (c,) = subclips.of_project(data.db, 1)
    assert (
        (c.start, c.length, c.tags, c.verdict) == (50, 50, ("flood", "bell"), "maybe")
        and "A &lt;bite&gt;" in ok.text
        and "<bite>" not in ok.text
    )
    for values, why in (
        ({}, "Set an in and an out point first"),
        ({"start": "50", "end": "50"}, "out point is at the same frame as the in point"),
        ({"start": "60", "end": "50"}, "out point is before the in point"),
        ({"start": "0", "end": "1001"}, "past the end of talk"),
        ({"start": "x", "end": "9"}, "In: “x” is not a time"),
        ({"start": "0", "end": "9", "verdict": "great"}, "keep, maybe or drop"),
    ):
        answer = room.post(url, data=values)
        assert answer.status_code == 422 and why in said(answer)
    assert len(subclips.of_project(data.db, 1)) == 1
    room.post(f"/p/1/subclips/{c.id}", data={"verdict": "keep", "name": "Bite"})
    assert subclips.get(data.db, c.id).name == "Bite"
    assert "in the story, at the end" in said(room.post(f"/p/1/subclips/{c.id}/to-story"))
    assert [(p.start, p.length) for p in stories.load(data.db, 1).story.pieces] == [(50, 50)]
    assert "no longer in the log" in said(room.post(f"/p/1/subclips/{c.id}/remove")) and not subclips.of_project(
        data.db, 1
    )
    assert stories.load(data.db, 1).story.length == 50  # what is in the story stays
    assert room.get("/p/1/time", params={"text": "+1:05", "now": 10}).json() == {
        "frame": 40,
        "said": "0:01+15, 40 frames",
    }
    plan = room.get(f"/p/1/recordings/{r['fifty'].id}/plan").json()
    assert (
        plan["length"] == 600
        and plan["pictures"] == [[0, 600, [[r["fifty"].id, 0, 2, 1]]]]
        and plan["frames"] == {str(r["fifty"].id): 1200}
    )
    transcripts.set_words(
        data.db, r["talk"].id, [Word("<i>flood</i>", 48000, 60000, "Maren"), Word("came.", 60000, 90000, "Maren")]
    )
    found = room.get("/p/1/search", params={"q": "flood"}).text
    assert (
        f"log?rec={r['talk'].id}#25" in found
        and "&lt;i&gt;<mark" in found.replace("</span>", "")
        and "1 sentence<" in found
    )


def test_a_long_story_on_one_screen(data: DataFolder) -> None:
    """Two hours on 600 pixels: no two seams nearer than two pixels, no exposed jump without one drawn where it
    stands."""
    from bench.edits import made as long_story

    from kovel.core.story.seams import seams

    long_story(data)
    story, sources = stories.load(data.db, 1).story, recordings.sources(data.db, 1)
    room = TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463")
    text = " ".join(room.get("/p/1/story/page", params={"zoom": 0}).text.split())
    px = float(re.search(r'data-px="([\d.e-]+)"', text)[1])  # type: ignore[index]
    drawn = [(k, int(at)) for k, at in re.findall(r'class="seam" data-kind="(\w+)" data-at="(\d+)"', text)]
    assert 'class="lined-in crowded"' in text and len(text) < 1_200_000 and round(story.length * px) == 600
    places = [at for _, at in drawn]
    assert len(drawn) < 330 and all(
        (b - a) * px >= 1.9 or k == "jump" for a, (k, b) in zip(places, drawn[1:], strict=False)
    )
    jumps = [at for k, at in drawn if k == "jump"]
    for s in seams(story, sources):
        if s.kind == "jump":
            assert min(abs(s.at - at) for at in jumps) * px < 4
    near = " ".join(room.get("/p/1/story/page", params={"zoom": 2}).text.split())
    assert "crowded" not in near and near.count('class="seam"') > 30


def test_lined_page_puts_everything_at_its_time(room: TestClient, coded: Coded) -> None:
    """24 pixels are a line, a line is `zoom` seconds: places on the page are the story's frames."""
    data, r = coded
    transcripts.set_words(
        data.db, r["talk"].id, [Word(f"w{i}", 24000 * i, 24000 * i + 20000, "Maren") for i in range(80)]
    )
    for start in (100, 300):
        stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": start, "length": 75})
    stories.edit(data.db, 1, None, "lay_cover", {"source": r["boat"].id, "at": 60, "until": 110, "start": 0})
    for zoom, px in ((1, 24 / 25), (2, 12 / 25), (4, 6 / 25), (8, 3 / 25)):
        text = " ".join(room.get("/p/1/story/page", params={"zoom": zoom}).text.split())
        tops = [
            (int(a), float(t), float(h))
            for a, t, h in re.findall(
                r'data-piece="\d+"\s+data-at="(\d+)".*?style="top:([\d.]+)px;\s*height:([\d.]+)px"', text, re.S
            )
        ]
        assert [(a, round(t / px), round(h / px)) for a, t, h in tops] == [(0, 0, 75), (75, 75, 75)]
        cover = re.search(
            r'data-cover="\d+"\s+data-lane="1"\s+data-at="60".*?top:([\d.]+)px;\s*height:([\d.]+)px', text, re.S
        )
        assert cover and round(float(cover[1]) / px) == 60 and round(float(cover[2]) / px) == 50
        assert text.count('class="seam"') == 1 and 'data-kind="covered"' in text
        words = re.findall(r'class="w[^"]*" data-f="(\d+)" data-e="(\d+)">(w\d+)<', text)
        for f, e, w in words:
            assert (
                int(f)
                == max(0, int(w[1:]) * 25 // 2 + (0 if int(w[1:]) < 20 else 75) - (100 if int(w[1:]) < 20 else 300))
                and int(f) < int(e) <= 150
            )
        both = [f"w{i}" for i in (8, 9, 10, 11, 12, 13)] + [f"w{i}" for i in (24, 25, 26, 27, 28, 29)]
        assert [w for *_, w in words] == (both if zoom < 8 else [])  # a piece lower than a line has no room for words
        assert text.count("<path d=") == 2 and text.count("<line ") == 2  # seen, heard | heard, seen
    assert room.get("/p/1/story/page", headers={"x-view": "80-90"}).text.count("<article") == 1
    assert room.get("/p/1/story/page", headers={"x-view": "nonsense"}).text.count("<article") == 2
    assert (
        "came loose" not in room.get("/p/1/story/history").text
        and room.get("/p/1/story/history").text.count("<li") == 4
    )
    now = re.search(r'data-revision="(\d+)"', room.get("/p/1/story").text)
    assert now and room.get("/p/1/story/revision", params={"seen": now[1]}).status_code == 204
    assert "changed elsewhere" in said(room.get("/p/1/story/revision", params={"seen": 0}))
    undone = room.post("/p/1/story/undo", data={"revision": now[1]})
    assert "Undone: boat laid over" in said(undone) and "data-cover=" not in undone.text
    assert room.post("/p/1/story/redo", data={"revision": now[1]}).status_code == 409  # that page is old by now
    assert "Done again" in said(room.post("/p/1/story/redo"))
    assert "nothing to redo" in said(room.post("/p/1/story/redo"))


def test_handoff(room: TestClient, coded: Coded) -> None:
    data, r = coded
    assert "story is empty" in said(room.post("/p/1/handoff/render")) and "disabled" in room.get("/p/1/handoff").text
    for start in (0, 300):
        stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": start, "length": 250})
    stories.edit(data.db, 1, None, "lay_cover", {"source": r["boat"].id, "at": 400, "until": 420, "start": 0})
    stories.edit(data.db, 1, None, "lift", {"a": 390, "b": 430})
    page = html.unescape(room.get("/p/1/handoff").text)
    assert "Exposed jump at 0:10+00 in talk" in page and "boat is loose" in page and "A space of 40 frames" in page
    # 20 s at 1280x720: (8 Mbit/s x 4/9 + 192 kbit/s) / 8 x 20 s, bit rate times length (common practice)
    assert "1280 × 720 · 0:20+00 · about 9.4 MB" in page
    assert "Rendering Coded - Story cut.mp4" in said(room.post("/p/1/handoff/render", data={"quality": "small"}))
    (job,) = jobs.of_project(data.db, 1, "render")
    assert (
        job.state == "waiting"
        and job.params["width"] == 1280
        and 'hx-trigger="every' in room.get("/p/1/handoff/renders").text
    )
    assert "Nothing half made" in said(room.post(f"/p/1/handoff/renders/{job.id}/cancel"))
    assert jobs.get(data.db, job.id).state == "cancelled"
    room.post(f"/p/1/handoff/renders/{job.id}/retry")
    assert jobs.get(data.db, job.id).state == "waiting"
    assert (
        room.get(f"/p/1/handoff/renders/{job.id}/file").status_code == 404
        and room.post("/p/1/handoff/renders/999/cancel").status_code == 404
    )
    assert room.post("/p/1/handoff/render", data={"quality": "best"}).status_code == 422
    for kind, mark in (("otio", "OTIO_SCHEMA"), ("edl", "TITLE: Coded - Story cut")):
        got = room.get(f"/p/1/export/{kind}")
        assert mark in got.text and got.headers["content-disposition"] == f'attachment; filename="Coded.{kind}"'


def test_projects(room: TestClient, coded: Coded) -> None:
    data, _ = coded
    assert (
        room.post(
            "/projects",
            data={"name": "New", "rate": "29.97", "size": "1080x1920", "start": "10:00:00;00", "drop": "true"},
        ).headers["hx-redirect"]
        == "/p/2/footage"
    )
    p = projects.get(data.db, 2)
    assert (str(p.rate), p.height, p.drop, p.start_timecode, p.timecode(1800)) == (
        "29.97",
        1920,
        True,
        "10:00:00;00",
        "10:01:00;02",
    )
    for values, why in (
        ({"name": ""}, "Give it a name"),
        ({"name": "x", "rate": "12"}, "not a frame rate"),
        ({"name": "x", "size": "1x1"}, "one of these sizes"),
        ({"name": "x", "start": "tea"}, "Start timecode"),
        ({"name": "x", "drop": "true"}, "29.97 and 59.94"),
    ):
        answer = room.post("/projects", data=values)
        assert answer.status_code == 422 and why in said(answer)
    assert "Renamed to Other" in said(room.post("/projects/2/rename", data={"name": "Other"}))
    assert "put in the archive" in said(room.post("/projects/2/archive")) and projects.listing(data.db)[-1].archived
    assert "taken out of the archive" in said(room.post("/projects/2/archive"))
    assert "being prepared" in said(room.post("/projects/1/duplicate"))
    assert len(jobs.in_state(data.db, "waiting")) == 3 and [p.name for p in projects.listing(data.db)] == [
        "Coded (copy)",
        "Other",
        "Coded",
    ]
    gone = room.post("/projects/1/delete")
    assert "Bring it back" in gone.text and room.get("/p/1/story").status_code == 404
    assert "Coded is back" in said(room.post("/projects/1/restore")) and room.get("/p/1/story").status_code == 200
    assert (
        room.get("/p/1/nowhere").status_code == 404
        and "There is no such page" in room.get("/p/1/nowhere", headers={"hx-request": ""}).text
    )


def test_media_by_range(room: TestClient, coded: Coded) -> None:
    data, r = coded
    i = r["talk"].id
    whole = (data.derived(i) / "sound.pcm").read_bytes()
    part = room.get(f"/media/{i}/sound.pcm", headers={"range": "bytes=96000-191999"})
    assert (
        part.status_code == 206
        and part.content == whole[96000:192000]
        and part.headers["content-range"].endswith(f"/{len(whole)}")
    )
    assert room.get(f"/media/{i}/sound.pcm", headers={"range": f"bytes={len(whole) + 5}-"}).status_code == 416
    for name in ("media.json", "pieces/0", "pieces/10", "peaks.bin", "small-0.jpg"):
        assert room.get(f"/media/{i}/{name}").status_code == 200
    for name in ("kovel.db", "small-x.jpg", "..%2f1%2fmedia.json", "small-99999.jpg", "small-7-0.jpg", "look-0-0.jpg"):
        assert room.get(f"/media/{i}/{name}").status_code == 404
    sheet, alone = (
        np.asarray(Image.open(io.BytesIO(room.get(f"/media/{i}/small-0{x}.jpg").content)), float) for x in ("", "-13")
    )
    h, w, _ = alone.shape
    assert np.abs(alone - sheet[h : 2 * h, 3 * w : 4 * w]).mean() < 2  # the frame in row 1, column 3
    (data.derived(i) / "small-0.singles").unlink()  # as a folder of an older version is
    old = np.asarray(Image.open(io.BytesIO(room.get(f"/media/{i}/small-0-13.jpg").content)), float)
    assert np.abs(alone - old).mean() < 2


def test_a_story_whose_recording_is_gone_still_opens(room: TestClient, coded: Coded) -> None:
    """A piece taken out, then its recording, then undo: the room opens, the piece is there, without its file; and a
    recording brought in later is another one."""
    data, r = coded
    add = {"command": "add_at_end", "source": r["fifty"].id, "start": 0, "length": 50}
    assert room.post("/p/1/story/edit", json=add).status_code == 200
    assert (
        room.post(
            "/p/1/story/edit", json={"command": "lay_cover", "source": r["boat"].id, "at": 5, "until": 30, "start": 0}
        ).status_code
        == 200
    )
    assert room.post("/p/1/story/edit", json={"command": "extract", "a": 0, "b": 50}).status_code == 200
    room.post("/p/1/story/edit", json={"command": "remove_cover", "cover": 2})
    for name in ("fifty", "boat"):
        assert room.post(f"/p/1/recordings/{r[name].id}/remove").status_code == 200
    for _ in range(2):
        assert room.post("/p/1/story/undo").status_code == 200
    for path in (
        "story",
        "story/page",
        "story/plan",
        "story/checks",
        "story/history",
        "handoff",
        "export/otio",
        "export/edl",
        "log",
        "tighten",
    ):
        got = room.get(f"/p/1/{path}")
        assert got.status_code == 200, (path, got.text[:300])
    facts = {
        "size": 1,
        "rate": [25, 1],
        "frames": 100,
        "picture": True,
        "sound": True,
        "width": 16,
        "height": 9,
        "channels": 1,
        "start_timecode": "",
        "remarks": [],
    }
    assert recordings.add(data.db, 1, "/new.mov", "new", "interview", facts).id > max(x.id for x in r.values())


def test_a_bite_kept_again_changes_the_first_only_if_asked(room: TestClient, coded: Coded) -> None:
    data, r = coded
    keep = lambda **v: room.post(f"/p/1/recordings/{r['talk'].id}/subclips", data={"name": "Chain", **v})  # noqa: E731
    assert keep(start="25", end="50").status_code == 200
    assert keep(start="25", end="75").status_code == 202 and len(subclips.of_project(data.db, 1)) == 1
    assert keep(start="25", end="75", again="change").status_code == 200
    assert [(c.start, c.end) for c in subclips.of_project(data.db, 1)] == [(25, 75)]
    assert keep(start="1:00", end="0:04+00", again="both").status_code == 200
    assert [(c.start, c.end) for c in subclips.of_project(data.db, 1)] == [(25, 75), (25, 100)]


def test_typed_times_are_read_alike_and_other_projects_left_alone(room: TestClient, coded: Coded) -> None:
    data, r = coded
    for kind, text, frame in (
        ("length", "4s", 100),
        ("delta", "-2s", -50),
        ("minutes", "1:00", 1500),
        ("moment", "+12", 22),
        ("seconds", "0.35", 9),
        ("seconds", "9f", 9),
        ("seconds", ",5 s", 13),
    ):
        got = room.get("/p/1/time", params={"text": text, "kind": kind, "now": 10}).json()
        assert got["frame"] == frame and got["said"]
    for kind, text in (("length", "-2s"), ("length", "abc"), ("moment", "-9"), ("minutes", "0"), ("seconds", "nan")):
        got = room.get("/p/1/time", params={"text": text, "kind": kind}, headers={"accept": "application/json"})
        assert got.status_code == 422 and text in got.json()["error"]
    first = {"text": "0:01:00;00", "rate": "29.97", "drop": True}
    assert room.get("/timecode", params=first).json() == {"frame": 1800, "said": "00:01:00;02"}
    for bad in ({"rate": "31"}, {"text": "-1"}, {"text": "soon"}):
        assert room.get("/timecode", params=first | bad, headers={"accept": "application/json"}).status_code == 422
    other = projects.create(data.db, "Other").id
    for path in ("remove", "cancel", "retry", "order", "sync"):
        assert room.post(f"/p/{other}/recordings/{r['talk'].id}/{path}").status_code == 404
        assert room.post(f"/p/1/recordings/987654/{path}").status_code == 404
    assert room.post(f"/p/1/recordings/{r['talk'].id}/order", data={"before": "987654"}).status_code == 404
    assert len(recordings.of_project(data.db, 1)) == 3


def test_one_moment_heard_by_two_cameras_is_found_once(room: TestClient, coded: Coded) -> None:
    data, r = coded

    def said_(at: int) -> list[Word]:
        rows = enumerate(["we", "haul", "the", "ferry."])
        return [Word(w, at + 12_000 * i, at + 12_000 * i + 9_000, "Maren") for i, w in rows]

    transcripts.set_words(data.db, r["talk"].id, said_(240_000))
    transcripts.set_words(data.db, r["fifty"].id, said_(144_000))
    found = lambda: room.get("/p/1/search", params={"q": "ferry"}).text  # noqa: E731
    assert "2 sentences" in found()
    recordings.set_sync(
        data.db, [(r["talk"].id, Sync(1, 0), 1.0, "sound"), (r["fifty"].id, Sync(1, 96_000), 1.0, "sound")]
    )
    assert "1 sentence<" in found() and ("talk and fifty" in found() or "fifty and talk" in found())
    recordings.set_sync(data.db, [(r["fifty"].id, Sync(1, 0), 1.0, "sound")])  # two seconds apart: two moments
    assert "2 sentences" in found()


def test_a_recordings_setting_holds_in_every_story_and_is_undone_in_the_log(room: TestClient, coded: Coded) -> None:
    data, r = coded
    talk = r["talk"].id
    stories.edit(data.db, 1, None, "add_at_end", {"source": talk, "start": 0, "length": 50})
    gain = lambda: round(20 * math.log10(room.get("/p/1/story/plan").json()["sounds"][0][4]), 3)  # noqa: E731
    put = lambda **v: room.post(f"/p/1/recordings/{talk}/settings", json=v, headers={"accept": "application/json"})  # noqa: E731
    assert put(setting="level", value=-6.0).json() == {"did": "talk: level -6.0 dB", "settings": {"level": -6.0}}
    stories.edit(data.db, 1, None, "set_value", {"to": "story", "setting": "level", "value": 2.5})
    assert gain() == -3.5
    assert put(setting="level").status_code == 200 and gain() == 2.5
    room.post("/p/1/log/undo")
    assert gain() == -3.5
    for bad in (
        {"setting": "level", "value": 99},
        {"setting": "fade_in", "value": 5},
        {"setting": "shine", "value": 1},
        {"value": 1},
    ):
        assert put(**bad).status_code == 422 and gain() == -3.5


def test_nothing_of_another_project_can_be_named(room: TestClient, coded: Coded) -> None:
    """Every route that names something by its number, walked: with another project's it answers 404 and does
    nothing."""
    data, r = coded
    other = projects.create(data.db, "Another", "25", "1280x720").id
    talk = r["talk"].id
    transcripts.set_words(data.db, talk, [Word("we", 0, 4800), Word("haul", 4800, 9600)])
    ids = {
        "recording": talk,
        "subclip": subclips.add(data.db, talk, 5, 20, name="Kept").id,
        "marker": markers.add(data.db, talk, 7).id,
        "story": stories.current(data.db, 1),
        "job": jobs.latest_of_recordings(data.db, 1)[talk].id,
    }
    app = create_app(data, [], jobs=False)
    walked = 0
    before = "\n".join(x for x in data.db.read().iterdump() if "INSERT" in x)
    for template, methods in app.openapi()["paths"].items():
        if not template.startswith("/p/{project}") or not any(f"{{{k}}}" in template for k in ids):
            continue
        path = re.sub(r"\{(\w+)\}", lambda m: str({**ids, "project": other}.get(m[1], "csv")), template)
        for method in methods:
            walked += 1
            for url in (path, re.sub(r"\d+", "99999", path)):
                assert room.request(method.upper(), url).status_code == 404, (method, url)
    assert walked > 40
    assert "\n".join(x for x in data.db.read().iterdump() if "INSERT" in x) == before


def test_captions_are_read_typed_and_brought_in(room: TestClient, coded: Coded) -> None:
    """From the words of the story; a text typed for one stays with its words; a file stands instead until it is
    taken off."""
    data, r = coded
    assert "story is empty" in room.get("/p/1/captions").text
    words = [
        Word(w, 48_000 * (2 + i), 48_000 * (3 + i) - 9_600, "maren")
        for i, w in enumerate(["We", "haul", "it", "by", "hand."])
    ]
    transcripts.set_words(data.db, r["talk"].id, words)
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": 0, "length": 250})
    page = room.get("/p/1/captions").text
    assert "We haul it by hand." in page and "0:02+00" in page
    key = f"{r['talk'].id}-96000"
    got = room.post(f"/p/1/captions/{key}", data={"text": "We pull it\r\nby hand."})
    assert "We pull it\nby hand." in got.text and "typed" in got.text
    srt = room.get("/p/1/captions.srt")
    assert (
        "00:00:02,000 --> " in srt.text
        and "We pull it\nby hand." in srt.text
        and srt.headers["content-disposition"].endswith('.srt"')
    )
    stories.edit(data.db, 1, None, "insert_space", {"at": 0, "length": 25})  # it goes where its words go
    assert (
        "00:00:03.000 --> " in room.get("/p/1/captions.vtt").text
        and "We pull it" in room.get("/p/1/captions.ttml").text
    )
    room.post(f"/p/1/captions/{key}", data={"text": ""})
    assert "We haul it by hand." in room.get("/p/1/captions.vtt").text
    for key_, text, status in (("9-9", "x", 422), ("tea", "x", 404), (key, "x" * 500, 422)):
        assert room.post(f"/p/1/captions/{key_}", data={"text": text}).status_code == status
    assert room.get("/p/1/captions.doc").status_code == 404
    body = b"WEBVTT\n\n00:01.000 --> 00:02.000\n<v Odile>Once &amp; twice\n\n00:05.000 --> 00:04.000\nno\n"
    assert "1 captions brought in" in said(room.post("/p/1/captions.in", files={"file": ("a.vtt", body)}))
    assert "Once &amp; twice" in room.get("/p/1/captions.vtt").text and "a.vtt" in room.get("/p/1/captions").text
    assert "no captions that can be read" in said(room.post("/p/1/captions.in", files={"file": ("b.txt", b"tea")}))
    assert "changed" in room.post("/p/1/captions/0-0", data={"text": "changed"}).text
    assert (
        "follow the words" in said(room.post("/p/1/captions.words"))
        and "We haul it" in room.get("/p/1/captions.vtt").text
    )
    (piece,) = [p.id for p in stories.load(data.db, 1).story.pieces if p.source]
    stories.edit(data.db, 1, None, "set_heading", {"piece": piece, "heading": "By hand"})
    assert "By hand" in room.get("/p/1/captions.chapters").text
    assert re.search(r"^\d:\d\d By hand$", room.get("/p/1/captions.chapter-list").text, re.M)


def test_shots_for_what_is_said(room: TestClient, coded: Coded) -> None:
    data, r = coded
    talk, boat = r["talk"].id, r["boat"].id
    url, ask = "/p/1/story/covers", {"accept": "application/json"}
    assert "Nothing more is said" in room.get(url, params={"at": 0}, headers=ask).json()["error"]
    transcripts.set_words(
        data.db,
        talk,
        [
            Word(w, 19_200 * i, 19_200 * i + 19_000)
            for i, w in enumerate(["We", "row", "the", "boat.", "Then", "it", "rains."])
        ],
    )
    sid = stories.current(data.db, 1)
    stories.edit(data.db, sid, None, "insert_several", {"at": 0, "ranges": [[talk, 0, 100]]})
    page = room.get(url, params={"at": 15}).text
    assert "We row the boat." in page and "Then" not in page and "meets “boat”, not used yet" in page
    laid = json.loads(html.unescape(re.findall(r'data-lay="([^"]+)"', page)[0]))
    assert laid["command"] == "lay_cover" and laid["params"]["source"] == boat and laid["params"]["until"] == 40
    room.post("/p/1/story/edit", json={"command": laid["command"], **laid["params"]})
    (cover,) = stories.load(data.db, sid).story.covers
    assert cover.source == boat and cover.length == 40 and "used once" in room.get(url, params={"at": 15}).text
    assert "Then it rains." in room.get(url, params={"at": 41, "until": 80}).text
    for odd in ({"at": 50, "until": 50}, {"at": 900, "until": 999}, {"at": 99}):
        assert room.get(url, params=odd, headers=ask).status_code == 422
    recordings.update(data.db, boat, aside=1)
    assert "no shots to cover with" in room.get(url, params={"at": 0}, headers=ask).json()["error"]


def test_captions_are_undone_step_by_step(room: TestClient, coded: Coded) -> None:
    """Texts typed and files brought in, back to the beginning and on to the end; a new change forgets what was
    undone."""
    data, r = coded
    transcripts.set_words(
        data.db, r["talk"].id, [Word(w, 48_000 * i, 48_000 * i + 40_000) for i, w in enumerate(["We", "haul", "it."])]
    )
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": 0, "length": 250})
    key, now = f"{r['talk'].id}-0", lambda: room.get("/p/1/captions.srt").text
    turn = lambda redo: said(room.post("/p/1/captions.undo", data={"redo": redo}))  # noqa: E731
    assert turn("0") == "There is nothing to undo in these captions." and turn("1").startswith(
        "There is nothing to do again"
    )
    seen = [now()]
    typed = room.post(f"/p/1/captions/{key}", data={"text": "We pull it."}).text
    assert re.search(r'id="caption-undo".*?<button(?:(?!disabled).)*?>Undo</button>.*?disabled>Redo', typed, re.S)
    seen.append(now())
    room.post(f"/p/1/captions/{key}", data={"text": "We pull it."})  # the same again is no step
    room.post(f"/p/1/captions/{key}", data={"text": "We drag it."})
    seen.append(now())
    room.post("/p/1/captions.in", files={"file": ("a.vtt", b"WEBVTT\n\n00:01.000 --> 00:02.000\nOnce\n")})
    seen.append(now())
    room.post("/p/1/captions/0-0", data={"text": "Twice"})
    seen.append(now())
    room.post("/p/1/captions.words")
    seen.append(now())
    assert len({*seen}) == 5 and seen[-1] == seen[2]
    for want in reversed(seen[:-1]):
        assert turn("0").startswith("Undone: ") and now() == want
    for want in seen[1:]:
        assert turn("1").startswith("Done again: ") and now() == want
    for _ in range(3):
        turn("0")
    assert now() == seen[2]
    room.post(f"/p/1/captions/{key}", data={"text": ""})
    assert now() == seen[0] and "nothing to do again" in turn("1") and caption_rows.can(data.db, 1) == (True, False)
    for n in range(caption_rows.STEPS + 20):
        caption_rows.change(data.db, 1, (r["talk"].id, 0), "We haul it.", f"Text {n}")
    for _ in range(caption_rows.STEPS):
        caption_rows.undo_or_redo(data.db, 1)
    assert caption_rows.can(data.db, 1) == (False, True) and "Text 19" in now()


def test_shots_are_laid_from_the_command_line(coded: Coded, monkeypatch: pytest.MonkeyPatch) -> None:
    data, r = coded
    monkeypatch.setenv("KOVEL_DATA", str(data.root))
    transcripts.set_words(
        data.db,
        r["talk"].id,
        [Word(w, 19_200 * i, 19_200 * i + 19_000) for i, w in enumerate(["We", "row", "the", "boat."])],
    )
    stories.edit(data.db, 1, None, "insert_several", {"at": 0, "ranges": [[r["talk"].id, 0, 100]]})
    run = lambda *a: CliRunner().invoke(main, ["story", "shots", "-p", "1", *a])  # noqa: E731
    told = json.loads(run("--at", "0", "--json").output)
    assert told["said"] == "We row the boat." and [x["name"] for x in told["shots"]] == ["boat"] and told["until"] == 40
    assert run("--at", "0", "--lay", "2").exit_code == 1 and not stories.load(data.db, 1).story.covers
    assert "boat laid over" in run("--at", "0", "--lay", "1").output
    (cover,) = stories.load(data.db, 1).story.covers
    assert (cover.source, cover.length) == (r["boat"].id, 40)


def test_names_are_told_to_the_recogniser_in_any_letters(coded: Coded) -> None:
    """Of recordings (an accent may be a letter of its own in a file name), of names within names of soundbites, and
    of tags; the first word of a soundbite is none by its capital alone."""
    data, r = coded
    recordings.update(data.db, r["talk"].id, name="E\u0301lodie at Ødegård, 1b")
    subclips.add(data.db, r["talk"].id, 0, 50, name="When Zoé rowed to Łódź", tags="Étang")
    told = transcription.names_of(data, 1)
    assert {"Élodie", "Ødegård", "Zoé", "Łódź", "étang"} <= set(told) and "When" not in told and "at" not in told


def test_attributes_keep_their_distance_where_indentation_is_not_sent() -> None:
    """A block tag takes its line's end with it: the blank that stays is what parts two attributes."""
    source = '<input type="checkbox"\n       {% if on %}checked{% endif %}\n       aria-label="Out">\n    <b>x</b>'
    drawn = environment().from_string(source).render(on=True)
    assert drawn == '<input type="checkbox"\nchecked aria-label="Out">\n <b>x</b>'
