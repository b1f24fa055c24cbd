"""The log over HTTP: words corrected, slices pulled, several at once, storyboard, undo, CSV and OTIO in and out."""

import csv
import io
import json
from collections.abc import Callable

import numpy as np
import opentimelineio as otio
from fastapi.testclient import TestClient

from kovel.core.picture.shots import MotionMaker, best_stretch, look
from kovel.core.sound.levels import Levels
from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Word, replaced
from kovel.data_folder import DataFolder
from kovel.demo.project import FOOTAGE
from kovel.media.listen import save
from kovel.services.log.speaker_separation import spans_of
from kovel.services.log.transcription import take_words
from kovel.store import jobs, markers, stories, subclips, transcripts
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from tests.conftest import said

Coded = tuple[DataFolder, dict[str, Recording]]


def text(data: DataFolder, r: Recording) -> list[tuple[str, int, int, str]]:
    return [(w.text, w.start, w.end, w.speaker) for w in transcripts.words(data.db, r.id)]


def test_words_are_corrected_with_their_times(room: TestClient, coded: Coded) -> None:
    data, r = coded
    talk, url = r["talk"], f"/p/1/recordings/{r['talk'].id}/words"
    transcripts.set_words(
        data.db,
        talk.id,
        [Word("The", 0, 900), Word("fairycame", 1000, 2900), Word("a", 3000, 3900), Word("cross.", 4000, 5000)],
    )
    first = text(data, talk)
    room.post(
        f"{url}/correct", data={"start": 1000, "was": "fairycame", "text": "ferry came", "first": 0, "count": 4}
    )  # a space splits: 6 + 5 shares
    assert text(data, talk)[1:3] == [("ferry", 1000, 2036, ""), ("came", 2036, 2900, "")]
    room.post(f"{url}/correct", data={"start": 3000, "was": "a", "how": "join", "first": 0, "count": 5})
    assert text(data, talk)[-1] == ("across.", 3000, 5000, "")
    assert "changed elsewhere" in said(
        room.post(f"{url}/correct", data={"start": 1000, "was": "fairycame", "text": "x", "first": 0, "count": 5})
    )
    room.post(f"{url}/speaker", data={"start": 0, "count": 4, "name": " Maren  Oskel "})
    assert {w[3] for w in text(data, talk)} == {"Maren Oskel"}
    room.post(f"{url}/speaker", data={"start": 0, "count": 1, "name": "Tobin", "everywhere": "true"})
    assert {w[3] for w in text(data, talk)} == {"Tobin"}
    transcripts.set_words(
        data.db, r["fifty"].id, [Word("Ferry", 0, 100), Word("came,", 100, 200), Word("ferry", 300, 400)]
    )
    assert "Replaced 2 times, in talk, fifty" in said(
        room.post(f"{url}/replace", data={"find": "FERRY came", "put": "boat went", "everywhere": "true"})
    )
    assert [w[0] for w in text(data, r["fifty"])] == ["boat", "went,", "ferry"]
    assert "does not stand" in said(room.post(f"{url}/replace", data={"find": "zeppelin", "put": "x"}))
    assert len(transcripts.search(data.db, 1, '"boat went"')) == 2
    for _ in range(4):
        assert "Undone" in said(room.post("/p/1/log/undo", params={"rec": talk.id}))
    assert {w[3] for w in text(data, talk)} == {"Maren Oskel"}
    for _ in range(3):
        room.post("/p/1/log/undo", params={"rec": talk.id})
    assert (
        text(data, talk) == first
        and not transcripts.search(data.db, 1, "across")
        and len(transcripts.search(data.db, 1, "fairycame")) == 1
    )
    for _ in range(2):
        room.post("/p/1/log/undo", params={"rec": talk.id, "redo": "true"})
    assert [w[0] for w in text(data, talk)] == ["The", "ferry", "came", "across."]
    assert replaced([Word("Um,", 0, 5), Word("yes", 5, 9)], "um", "")[0] == [Word("yes", 5, 9)]


def test_slices_and_marks_go_to_pauses(room: TestClient, coded: Coded) -> None:
    """Talk in seconds 0-4, 6-10, 12-16: pauses of 2 s; a mark lands 0.15 s inside the pause, on its nearer side."""
    data, r = coded
    talk = r["talk"]
    on = np.zeros(4000, np.float32)
    for s in range(0, 40, 6):
        on[s * 100 : s * 100 + 400] = 1
    level = np.where(on > 0, -20, -70).astype(np.float32)
    save(data.derived(talk.id), Levels(on, level, np.full(4000, -70, np.float32)))
    url = f"/p/1/recordings/{talk.id}"
    got = room.get(f"{url}/pull", params={"start": 98, "end": 152}).json()
    assert got == {"start": 103, "end": 146, "found": [True, True]}  # the frames of 4.15 s and 5.85 s
    assert room.get(f"{url}/pull", params={"start": 50}).json()["found"] == [False, False]
    for a, b in ((0, 97), (97, 155), (155, 250)):
        room.post(f"{url}/subclips", data={"start": a, "end": b, "verdict": "open"})
    assert "to judge" in room.get("/p/1/log", params={"rec": talk.id}).text
    assert "3 slices pulled" in said(room.post(f"{url}/pull"))
    assert [(c.start, c.end) for c in subclips.of_recording(data.db, talk.id)] == [(0, 103), (103, 146), (146, 253)]
    (first, *_) = subclips.of_recording(data.db, talk.id)
    room.post(f"/p/1/subclips/{first.id}", data={"tags": "one, two", "note": "so", "verdict": "maybe"})
    room.post(
        f"/p/1/subclips/{first.id}", data={"tags": "", "note": "", "verdict": "open"}
    )  # an emptied field is emptied
    now = subclips.get(data.db, first.id)
    assert (now.tags, now.note, now.verdict) == ((), "", "")
    for _ in range(2):
        room.post("/p/1/log/undo", params={"rec": talk.id})
    along = room.get(f"{url}/marks").json()
    assert [100, 150] in along["pauses"] and along["used"] == []
    assert "Undone: slices pulled" in said(room.post("/p/1/log/undo", params={"rec": talk.id}))
    assert [(c.start, c.end) for c in subclips.of_recording(data.db, talk.id)] == [(0, 97), (97, 155), (155, 250)]


def test_the_whole_log(room: TestClient, coded: Coded) -> None:
    data, r = coded
    talk, boat = r["talk"].id, r["boat"].id
    transcripts.set_words(
        data.db,
        talk,
        [
            Word(w, 48000 * i, 48000 * i + 30000, "Maren")
            for i, w in enumerate(["we", "haul", "the", "ferry", "across", "by", "hand"])
        ],
    )
    ids = [
        c.id
        for c in subclips.add_all(
            data.db,
            1,
            [
                subclips.New(talk, 0, 75, "haul", "", "work, chain"),
                subclips.New(talk, 75, 175, "by hand", "good", "work", "maybe"),
                subclips.New(boat, 10, 60, "wide", "", "ferry", "drop"),
            ],
            "three",
        )
    ]
    whole = lambda **q: room.get("/p/1/log/whole", params=q).text  # noqa: E731
    rows = lambda t: [int(x) for x in __import__("re").findall(r'data-id="(\d+)"', t)]  # noqa: E731
    assert rows(whole()) == ids and "we haul the" in whole() and "MAREN" in whole().upper()
    assert rows(whole(sort="length")) == [ids[1], ids[0], ids[2]] and rows(whole(sort="name")) == [
        ids[1],
        ids[0],
        ids[2],
    ]
    assert (
        rows(whole(verdict="maybe")) == [ids[1]]
        and rows(whole(tag="chain")) == [ids[0]]
        and rows(whole(q="FERRY across")) == [ids[1]]
    )
    assert rows(whole(speaker="Maren")) == ids[:2] and rows(whole(rec=boat)) == [ids[2]]
    assert rows(whole(group="tag")) == [ids[0], ids[2], ids[0], ids[1]]  # chain, ferry, work
    several = lambda do, pick=(), q="", **v: room.post(f"/p/1/log/several?{q}", data={"do": do, "ids": list(pick), **v})  # noqa: E731
    assert "Choose at least one" in said(several("verdict", verdict="keep"))
    several("verdict", ids[1:], verdict="keep")
    several("tags", ids[:2], tags="Best; work")
    assert [subclips.get(data.db, i).verdict for i in ids] == ["keep"] * 3
    assert subclips.get(data.db, ids[0]).tags == ("work", "chain", "best") and subclips.get(data.db, ids[1]).tags == (
        "work",
        "best",
    )
    several("board", [ids[0], ids[2]])
    room.post("/p/1/log/board?view=board", data={"ids": [ids[2], ids[0]]})
    assert rows(whole(view="board")) == [ids[2], ids[0]]
    assert "Choose at least one" in said(several("to-end", (), "view=board"))  # nothing is sent unasked
    assert "2 pieces, 125 frames, at the end" in said(
        several("to-end", (), "view=board", all="true")
    )  # all shown, in their order
    several("to-playhead", [ids[1]], at=50)
    pieces = [(p.source, p.start, p.length) for p in stories.load(data.db, 1).story.pieces]
    assert pieces == [(boat, 10, 50), (talk, 75, 100), (talk, 0, 75)]
    room.post("/p/1/story/undo")
    assert len(stories.load(data.db, 1).story.pieces) == 2  # one step
    assert rows(whole(used="yes")) == [ids[0], ids[2]] and rows(whole(used="no")) == [ids[1]]
    stories.edit(data.db, 1, None, "add_at_end", {"source": talk, "start": 300, "length": 40})
    assert "1 range the story uses" in said(room.post(f"/p/1/recordings/{talk}/keep-used"))
    assert (300, 340) in {(c.start, c.end) for c in subclips.of_recording(data.db, talk)}
    assert "not in the log already" in said(room.post("/p/1/log/keep-used"))
    markers.add(data.db, talk, 99, "bell")
    made = otio.adapters.read_from_string(room.get("/p/1/log.otio").text, "otio_json")
    whole_talk = made[0]
    assert (whole_talk.markers[0].name, whole_talk.markers[0].marked_range.start_time.value) == ("bell", 99) and len(
        made
    ) == 5
    assert [c.source_range.duration.value for c in made[1:]] == [75, 100, 40, 50]
    assert list(made[1].metadata["kovel"]["tags"]) == ["work", "chain", "best"]
    assert room.get("/p/1/log/print").text.count("<tr>") == 5
    several("remove", ids)
    assert len(subclips.of_project(data.db, 1)) == 1
    room.post("/p/1/log/undo")
    assert [c.id for c in subclips.of_project(data.db, 1) if c.id in ids] == ids


def test_a_csv_log_comes_back_as_it_went(room: TestClient, coded: Coded) -> None:
    data, r = coded
    new = [
        subclips.New(r["talk"].id, 25, 80, '=cmd, "x"', "a\nnote", "one,two", "maybe"),
        subclips.New(r["boat"].id, 0, 300, "whole", "", "", "drop"),
    ]
    before = [
        (c.recording, c.start, c.end, c.name, c.note, c.tags, c.verdict)
        for c in subclips.add_all(data.db, 1, new, "two")
    ]
    body = room.get("/p/1/log.csv").text
    sheet = list(csv.DictReader(io.StringIO(body)))
    assert [(x["in"], x["out"], x["length"]) for x in sheet] == [
        ("00:00:01:00", "00:00:03:05", "00:00:02:05"),
        ("00:00:00:00", "00:00:12:00", "00:00:12:00"),
    ]
    assert sheet[0]["name"].startswith("'=")
    room.post("/p/1/log/several", data={"do": "remove", "ids": [c.id for c in subclips.of_project(data.db, 1)]})
    extra = "odd,nowhere,0,1s\nodd,talk,5s,3s\nodd,talk,5s,10:00:00:00\nodd,talk,tea,5s\n,,,\nodd,talk,2s,4s,,great\nlast,boat.mp4,1s,+10\n"
    rows = body + "".join(f"{line}\r\n" if line.strip(",") else ",\r\n" for line in extra.splitlines())
    told = room.post("/p/1/log/csv", files={"sheet": ("log.csv", rows.encode())})
    assert "3 subclips taken" in said(told)
    for why in (
        "no recording called “nowhere”",
        "out point is not after",
        "past the end of talk",
        "is not a time",
        "“great” is no verdict",
    ):
        assert why in said(told)
    after = [(c.recording, c.start, c.end, c.name, c.note, c.tags, c.verdict) for c in subclips.of_project(data.db, 1)]
    assert set(before) < set(after) and (r["boat"].id, 25, 35) in {x[:3] for x in after}
    assert "columns recording, in and out" in said(room.post("/p/1/log/csv", files={"sheet": ("x.csv", b"a;b\n1;2\n")}))
    assert room.post("/p/1/log/csv", files={"sheet": ("x.csv", bytes(range(256)))}).status_code == 422


def test_transcribing_is_refused_in_words(room: TestClient, coded: Coded) -> None:
    data, r = coded
    boat, talk = r["boat"], r["talk"]
    if not boat.sound:
        assert "no sound" in said(room.post(f"/p/1/recordings/{boat.id}/transcribe"))
    assert "being transcribed on this machine" in said(room.post(f"/p/1/recordings/{talk.id}/transcribe"))
    assert "already" in said(room.post(f"/p/1/recordings/{talk.id}/transcribe"))
    (job,) = jobs.of_project(data.db, 1, "transcribe")
    assert "talk" not in job.params["names"] and job.params["model"] == ""
    room.post(f"/p/1/recordings/{talk.id}/hearing/cancel")
    assert jobs.get(data.db, job.id).state == "cancelled"
    assert "outside the folders" in said(room.post("/p/1/recogniser", data={"model": "/etc"}))
    other = TestClient(
        create_app(data, [], jobs=False),
        base_url="http://localhost:8463",
        headers={"hx-request": "true", "x-kovel": "1"},
    )
    other.post("/projects", data={"name": "Other"})
    for path in (
        f"/p/2/recordings/{talk.id}/words",
        f"/p/2/recordings/{talk.id}/plan",
        f"/p/2/recordings/{talk.id}/marks",
        "/p/2/subclips/1/x",
    ):
        assert room.get(path).status_code in (404, 405)
    assert json.loads(room.get(f"/p/1/recordings/{talk.id}/words.json").text) == {"words": []}


def test_two_voices_of_a_recording_are_told_apart(spoken: Coded, finished: Callable[[DataFolder], None]) -> None:
    """An interview whose words nobody is named for; the names are one step of the log."""
    data, r = spoken
    odile = r["odile"]
    room = TestClient(
        create_app(data, [], jobs=False),
        base_url="http://localhost:8463",
        headers={"hx-request": "true", "x-kovel": "1"},
    )
    assert "has no words yet" in said(room.post(f"/p/1/recordings/{r['maren'].id}/voices"))
    rows = json.loads((FOOTAGE / "odile.json").read_text())["words"]
    take_words(data, odile, "odile.json", json.dumps({"words": [{**w, "speaker": ""} for w in rows]}))
    assert "being told apart" in said(room.post(f"/p/1/recordings/{odile.id}/voices"))
    assert "Telling the voices apart" in room.get(f"/p/1/recordings/{odile.id}/hearing").text
    assert "already" in said(room.post(f"/p/1/recordings/{odile.id}/transcribe"))
    finished(data)
    assert "Two voices: Voice 1 (" in room.get(f"/p/1/log?rec={odile.id}").text
    who = {"odile": "Voice 1", "interviewer": "Voice 2"}
    words = transcripts.words(data.db, odile.id)
    spans = spans_of(words)
    right = sum(words[a].speaker == who[rows[a]["speaker"]] for a, _ in spans)
    assert right >= 0.9 * len(spans), right / len(spans)
    assert [(w.text, w.start) for w in transcripts.words(data.db, odile.id)] == [
        (x["text"], round(x["start"] * 48000)) for x in rows
    ]
    assert "told apart" in said(room.post("/p/1/log/undo"))
    assert {w.speaker for w in transcripts.words(data.db, odile.id)} == {""}
    # words that were changed while it listened keep what they are
    room.post(f"/p/1/recordings/{odile.id}/voices")
    transcripts.set_words(data.db, odile.id, transcripts.words(data.db, odile.id)[5:])
    finished(data)
    assert "changed meanwhile" in room.get(f"/p/1/log?rec={odile.id}").text


def test_the_best_of_a_shot() -> None:
    """A made shot: shaken, then still, then black. The picture moves by known steps; the best stretch is the still
    one."""
    rng = np.random.default_rng(3)
    base = np.kron(rng.integers(40, 220, (18, 32)), np.ones((4, 4))).astype(np.uint8)
    maker = MotionMaker()
    shift = []
    for n in range(300):
        dx, dy = (rng.integers(-3, 4), rng.integers(-2, 3)) if n < 100 else (n - 100, 0) if n < 220 else (0, 0)
        x = np.roll(np.roll(base, dy, 0), dx, 1)[:36, :64]
        shift.append((int(dx), int(dy)))
        maker.feed((x if n < 220 else x // 30).copy())
    rows = maker.finish()
    moved = np.diff(np.array(shift[:100]), axis=0)
    assert np.abs(rows[1:100, 2:4] - moved).mean() < 0.5  # shift right and down, in pixels
    seen = look(rows, 25.0)
    assert seen.steady[:90].mean() < 0.45 < 0.7 < seen.steady[120:200].mean()
    found = best_stretch(seen, 25.0)
    assert found and found[1] - found[0] == 88 and found[0] >= 90 and found[1] <= 222
    assert best_stretch(look(rows[:60], 25.0), 25.0) is None and Rate(25).nominal == 25
