"""Recordings while they are being made, over HTTP: what is told, held, let go on; words as they come; lists in windows."""

import json
import re
from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder, look_at, looked_at, sounded
from kovel.services.footage import disk_space as disk
from kovel.services.footage.intake import prepare
from kovel.services.log.transcription import SoFar, take_heard, transcribe
from kovel.store import jobs, projects, recordings, stories, subclips, transcripts
from kovel.store.recordings import Recording
from kovel.store.subclips import New
from kovel.web.rooms.log import shot_routes
from kovel.web.rooms.story.page_drawing import Drawing, pixels_a_frame, short_names
from kovel.web.rooms.story.shelf import PAGE
from tests import made
from tests.conftest import said

Coded = tuple[DataFolder, dict[str, Recording]]


@pytest.fixture
def coming(coded: Coded) -> tuple[DataFolder, Recording, Path]:
    """The interview with nothing made of it but what is known from the start; its job waits."""
    data, r = coded
    talk = r["talk"]
    folder = data.derived(talk.id)
    for p in folder.iterdir():
        p.unlink()
    prepare(data, talk)
    return data, talk, folder


def test_how_far_a_recording_is(room: TestClient, coming: tuple[DataFolder, Recording, Path]) -> None:
    data, talk, folder = coming
    url = f"/p/1/recordings/{talk.id}"
    assert not sounded(str(folder)) and not sounded(str(folder), begun=True)
    (folder / "sound.pcm").write_bytes(bytes(96_000 * 61))
    far = room.get(f"{url}/making", params={"samples": 0})
    assert "Sound so far: 1:01." in far.text and json.loads(far.headers["hx-trigger"]) == {
        "grown": {"recording": talk.id}
    }
    assert "hx-trigger" not in room.get(f"{url}/making", params={"samples": 48_000 * 61}).headers  # nothing new
    assert "Sound so far" in room.get(f"/p/1/log?rec={talk.id}").text
    assert "pauses are found once it is there" in room.get(f"/p/1/tighten?rec={talk.id}").text
    assert room.post("/p/1/handoff/render", data={"quality": "small"}).status_code == 422
    made.whole_sound(folder)
    assert sounded(str(folder)) and "pictures are made where you look first" in room.get(f"{url}/making").text
    assert talk.id in looked_at(data) or room.get(f"/media/{talk.id}/media.json").status_code == 200
    assert talk.id in looked_at(data)


def test_preparing_is_held_and_let_go_on(room: TestClient, coming: tuple[DataFolder, Recording, Path]) -> None:
    data, talk, _ = coming
    url = f"/p/1/recordings/{talk.id}"
    (job,) = jobs.in_state(data.db, "waiting")
    assert "paused; what is made stays" in said(room.post(f"{url}/pause", data={"on": "1"}))
    assert jobs.get(data.db, job.id).paused and jobs.begin(data.db, job.id) is None
    listed = room.get("/p/1/footage/list").text
    assert (
        "paused at 0 %" in listed and "1 paused" in listed and "Go on with all" in listed and "Pause all" not in listed
    )
    assert "held already" in said(room.post(f"{url}/pause", data={"on": "1"}))
    in_log = room.post(f"{url}/pause", data={"on": "0", "where": "log"})
    assert 'id="making"' in in_log.text and "goes on" in said(in_log)
    assert "1 recording paused" in said(room.post("/p/1/footage/pause", data={"on": "1"}))
    assert "1 recording goes on" in said(room.post("/p/1/footage/pause", data={"on": "0"}))
    assert "Nothing is paused" in said(room.post("/p/1/footage/pause", data={"on": "0"}))
    begun = jobs.begin(data.db, job.id, 0.5)
    assert begun and begun.percent == 50 and begun.seconds_left is None  # what was made before says nothing of the pace
    room.post(f"{url}/cancel")
    assert "not being prepared" in said(room.post(f"{url}/pause", data={"on": "1"}))


def test_words_are_there_as_they_come(room: TestClient, coming: tuple[DataFolder, Recording, Path]) -> None:
    """From the front, behind what is there; what the editor corrected meanwhile stays; the end brings all of them."""
    data, talk, folder = coming
    job = transcribe(data, talk.id)  # while nothing of its sound is there: it waits
    rows = [[f"w{i}", 24_000 * i, 24_000 * i + 9000, 0.9] for i in range(40)]
    far = SoFar(data, job)
    far.take()
    for n in (5, 12):
        (folder / "heard.json").write_text(json.dumps({"words": rows[:n]}))
        far.take()
        assert [w.text for w in transcripts.words(data.db, talk.id)] == [f"w{i}" for i in range(n)]
    shown = room.get(f"/p/1/recordings/{talk.id}/hearing", params={"seen": 5}).text
    assert re.findall(r">(w\d+)</span>", shown) == [f"w{i}" for i in range(5, 12)] and "seen=12" in shown
    far.end({"words": rows})
    assert take_heard(data, talk.id, {"words": rows, "remark": "so"}) == "so"
    assert len(transcripts.words(data.db, talk.id)) == 40
    again = SoFar(data, job)  # it has words now: a new transcription does not touch them before its end
    (folder / "heard.json").write_text(json.dumps({"words": rows[:3]}))
    again.take()
    assert len(transcripts.words(data.db, talk.id)) == 40
    transcripts.set_words(data.db, talk.id, [])
    third = SoFar(data, job)
    (folder / "heard.json").write_text(json.dumps({"words": rows[:3]}))
    third.take()
    transcripts.change_words(
        data.db, talk.id, 1, transcripts.words(data.db, talk.id)[1:2], [Word("haul", 24_000, 33_000)], "corrected"
    )
    third.end({"words": rows})
    assert [w.text for w in transcripts.words(data.db, talk.id)] == ["w0", "haul", "w2"]


def test_long_lists_come_in_windows(room: TestClient, coded: Coded) -> None:
    data, r = coded
    talk = r["talk"].id
    rows = [New(recording=talk, start=k, end=k + 20, name=f"Clip {k}") for k in range(450)]
    subclips.add_all(data.db, 1, rows, "kept")
    first = room.get("/p/1/story").text
    assert first.count('data-kind="bite"') == PAGE and f"shelf/bites?start={PAGE}" in first
    seen = re.findall(r'data-name="(Clip \d+)"', first)
    at = PAGE
    while at:
        part = room.get("/p/1/story/shelf/bites", params={"start": at}).text
        seen += re.findall(r'data-name="(Clip \d+)"', part)
        more = re.search(r"start=(\d+)", part)
        at = int(more[1]) if more else 0
    assert seen == [f"Clip {k}" for k in range(450)]
    assert room.get("/p/1/story/shelf/attic").status_code == 422
    count = lambda text: text.count('data-id="')  # noqa: E731
    whole = room.get("/p/1/log/whole").text
    assert count(whole) == 120 and "330 more" in whole and '<b class="text-ink">450</b>' in whole
    assert count(room.get("/p/1/log/whole", params={"lines": 400}).text) == 400
    assert count(room.get("/p/1/log/whole", params={"lines": 600}).text) == 450
    assert count(room.get("/p/1/log/whole", params={"q": "Clip 44"}).text) == 14  # 44, 144, 244, 344, and 440 to 449


def test_the_page_is_worked_out_in_pixels(coded: Coded) -> None:
    """| talk 100-150 | talk 300-375 | with a cover over [40, 60): places in pixels, what is said, what is too small to draw."""
    data, r = coded
    talk, boat = r["talk"].id, r["boat"].id
    for start, length in ((100, 50), (300, 75)):
        stories.edit(data.db, 1, None, "add_at_end", {"source": talk, "start": start, "length": length})
    stories.edit(data.db, 1, None, "lay_cover", {"source": boat, "at": 40, "until": 60, "start": 0})
    story = stories.load(data.db, stories.current(data.db, 1)).story
    rows = {x.id: x for x in recordings.of_project(data.db, 1)}
    sources = {i: x.source for i, x in rows.items()}
    heard = [Word("haul", 48_000 * 13, 48_000 * 13 + 20_000, "Maren")]  # story frame 75, in the second piece

    def sheet(zoom: int, view: str = ""):
        words = lambda source, a, n: heard if source == talk and a <= 325 < a + n else []  # noqa: E731
        return Drawing(story, sources, rows, zoom, view, words, lambda s, f: None).sheet(revision=7)

    near = sheet(1)
    px = pixels_a_frame(story, 1)
    assert px == 24 / 25 and near.data["data-revision"] == 7 and near.data["data-jumps"] == 0
    assert [(b.at, b.place) for b in near.pieces] == [
        (0, f"top:0.00px;height:{50 * px:.2f}px"),
        (50, f"top:{50 * px:.2f}px;height:{75 * px:.2f}px"),
    ]
    (word,) = [w for b in near.pieces for row in b.rows for w in row.words]
    assert (word.text, word.frame) == ("haul", 75) and near.pieces[1].speaker == "Maren"
    (seam,) = near.seams
    assert seam.seam.said == "jump, covered" and seam.told == "covered" and seam.label.endswith("jump, covered")
    (cover,) = near.covers
    assert cover.place.startswith(f"top:{40 * px:.2f}px;height:{20 * px:.2f}px;left:") and "lane 1" in cover.label
    assert [x.wavy is None for x in near.coverage] == [True, False, False, True]
    far = sheet(64)
    assert far.crowded and not any(b.rows for b in far.pieces)  # no room for words
    assert [b.at for b in sheet(1, "60-100").pieces] == [50]  # only what is in view


def test_no_two_columns_have_the_same_name() -> None:
    two = ["Maren, camera A", "Maren, camera B", "Tobin in the boatyard"]
    assert short_names(two, 6) == ["MA", "MB", "Tobin"] and short_names(two[1:], 2) == ["Ma", "To"]
    assert short_names(["Maren A", "Marco A", "Max A", "Odile"], 2) == ["MA", "M2", "M3", "Od"]
    assert short_names([], 6) == []


def test_room_is_told_and_held(room: TestClient, coded: Coded) -> None:
    data, r = coded
    assert disk.of_project(data, 1) > disk.taken(data.derived(r["talk"].id)).all > 0
    assert "kept under 2.5 GB" in said(room.post("/room", data={"gb": "2,5 GB"}))
    assert 'value="2.5"' in room.get("/").text and disk.budget(data) == 2.5 * disk.GB
    assert room.post("/room", data={"gb": "plenty"}).status_code == 422 and disk.budget(data) == 2.5 * disk.GB
    assert "as much as there is" in said(room.post("/room", data={"gb": ""})) and disk.budget(data) is None
    look_at(data, 999)
    assert not data.derived(999).exists()
    p = projects.create(data.db, "Another", "25", "1280x720")
    assert disk.of_project(data, p.id) == 0


def test_shots_come_as_they_scroll_into_view(
    room: TestClient, coded: tuple[DataFolder, dict[str, Recording]], monkeypatch: pytest.MonkeyPatch
) -> None:
    data, r = coded
    recordings.update(data.db, r["fifty"].id, kind="b-roll")
    monkeypatch.setattr(shot_routes, "WINDOW", 1)
    first = room.get("/p/1/log/shots").text
    assert first.count('class="shot-hold"') == 1 and "/p/1/log/shots/more?start=1" in first
    rest = room.get("/p/1/log/shots/more?start=1").text
    assert rest.count('class="shot-hold"') == 1 and "more?start" not in rest and "<html" not in rest
    assert "No shots yet" not in first + rest and room.get("/p/1/log/shots/more?start=-1").status_code == 422
