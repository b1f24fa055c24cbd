"""Footage in order: bins, many set at once, names by a pattern, posters; with 500 recordings; each taken back by
undo."""

import json
import random
import re
import time

import pytest
from click.testing import CliRunner
from fastapi.testclient import TestClient

from kovel.cli import main
from kovel.core.errors import Invalid
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.services.footage import binning
from kovel.services.footage.binning import Shown, natural, shown
from kovel.services.log import transcription
from kovel.store import bin_rows, projects, recordings, steps, transcripts
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from tests.conftest import said

Coded = tuple[DataFolder, dict[str, Recording]]
FACTS = {
    "size": 5_000_000,
    "rate": [25, 1],
    "frames": 250,
    "picture": True,
    "sound": True,
    "width": 1920,
    "height": 1080,
    "channels": 2,
    "start_timecode": "",
    "remarks": [],
    "changed": 0,
}


def test_bins_are_made_filled_and_emptied(room: TestClient, coded: Coded) -> None:
    data, r = coded
    talk, boat, fifty = (r[n].id for n in ("talk", "boat", "fifty"))
    assert "Bin Best made, with 2 in it" in said(
        room.post("/p/1/footage/bins", data={"name": " Best ", "ids": [talk, boat]})
    )
    (best,) = bin_rows.of_project(data.db, 1)
    assert best.recordings == {talk, boat}
    assert "is a bin called best already" in said(room.post("/p/1/footage/bins", data={"name": "best"}))
    assert "Choose one or more" in said(room.post("/p/1/footage/bins/put", data={"to": best.id}))
    room.post("/p/1/footage/bins", data={"name": "River", "ids": [talk]})
    river = next(b for b in bin_rows.of_project(data.db, 1) if b.name == "River")
    room.post("/p/1/footage/bins/put", data={"to": best.id, "ids": [fifty, talk]})
    room.post("/p/1/footage/bins/put", data={"to": best.id, "ids": [boat], "out": "1"})
    assert bin_rows.get(data.db, 1, best.id).recordings == {talk, fifty} and bin_rows.get(
        data.db, 1, river.id
    ).recordings == {talk}
    assert "not in Best" in said(room.post("/p/1/footage/bins/put", data={"to": best.id, "ids": [boat], "out": "1"}))

    def listed(query: str) -> list[int]:
        page = room.get(f"/p/1/footage/list?{query}").text
        return [i for i in (talk, boat, fifty) if f'data-recording="{i}"' in page]

    assert (
        listed(f"bin={best.id}") == [talk, fifty]
        and listed("bin=none") == [boat]
        and listed("bin=") == [talk, boat, fifty]
    )
    assert listed("bin=kind:b-roll") == [boat] and listed("q=boa") == [boat] and listed("q=boa+interview") == []
    assert "Nothing here is like that" in room.get("/p/1/footage/list?q=zebra").text
    kept = room.post(f"/p/1/recordings/{boat}", data={"day": "7"}, headers={"x-shown": Shown("day:7").query}).text
    assert (
        f'data-recording="{boat}"' in kept and f'data-recording="{talk}"' not in kept
    )  # the page stays with what it shows
    recordings.remove(data.db, fifty)
    assert bin_rows.get(data.db, 1, best.id).recordings == {talk}
    for what, want in (
        ("fifty taken out", None),
        ("boat changed", None),
        ("1 out of bin Best", {talk, boat, fifty}),
        ("1 into bin Best", {talk, boat}),
    ):
        got = said(room.post("/p/1/footage/undo"))
        assert got == f"Undone: {what}."
        if want:
            assert bin_rows.get(data.db, 1, best.id).recordings == want
    assert "The bin is called Good" in said(room.post(f"/p/1/footage/bins/{best.id}/name", data={"name": "Good"}))
    copy = projects.duplicate(data.db, 1)
    assert [(b.name, len(b.recordings)) for b in bin_rows.of_project(data.db, copy.id)] == [("Good", 2), ("River", 1)]
    room.post(f"/p/1/footage/bins/{river.id}/remove")
    assert [b.name for b in bin_rows.of_project(data.db, 1)] == ["Good"] and len(recordings.of_project(data.db, 1)) == 3
    steps.undo_or_redo(data.db, 1)
    assert [b.name for b in bin_rows.of_project(data.db, 1)] == ["Good", "River"]
    other = projects.create(data.db, "Other")
    assert room.post(f"/p/{other.id}/footage/bins/{best.id}/remove").status_code == 404
    assert room.post(f"/p/{other.id}/footage/bins", data={"name": "x", "ids": [talk]}).status_code == 404


def test_many_are_set_and_named_at_once(room: TestClient, coded: Coded) -> None:
    data, r = coded
    ids = [r[n].id for n in ("talk", "boat", "fifty")]
    before = [recordings.get(data.db, i) for i in ids]
    assert "2 recordings: day 3, camera B" in said(
        room.post(
            "/p/1/footage/set", data={"ids": ids[:2], "day": " 3 ", "camera": "B", "roll": " ", "kind": "", "aside": ""}
        )
    )
    assert [(x.day, x.camera, x.roll, x.kind) for x in map(lambda i: recordings.get(data.db, i), ids[:2])] == [
        ("3", "B", before[0].roll, before[0].kind),
        ("3", "B", before[1].roll, before[1].kind),
    ]
    for bad in ({"ids": ids}, {"day": "3"}, {"ids": ids, "kind": "opera"}):
        assert room.post("/p/1/footage/set", data=bad).status_code == 422
    assert "language French" in said(room.post("/p/1/footage/set", data={"ids": ids[:2], "language": "fr"}))
    assert [recordings.get(data.db, i).tongue for i in ids[:2]] == ["fr", "fr"]
    room.post("/p/1/footage/set", data={"ids": ids[:1], "language": "auto"})
    assert recordings.get(data.db, ids[0]).tongue == ""
    for _ in range(2):
        steps.undo_or_redo(data.db, 1)
    room.post("/p/1/footage/set", data={"ids": ids, "aside": "1"})
    assert all(recordings.get(data.db, i).aside for i in ids)
    steps.undo_or_redo(data.db, 1)
    steps.undo_or_redo(data.db, 1)
    assert [recordings.get(data.db, i) for i in ids] == before
    steps.undo_or_redo(data.db, 1, redo=True)
    would = room.post("/p/1/footage/names", data={"ids": ids[:2], "pattern": "day {day} {camera}-{n:3} {name}"}).text
    assert (
        "day 3 B-001 talk" in would and "day 3 B-002 boat" in would and recordings.get(data.db, ids[0]).name == "talk"
    )
    assert "2 recordings renamed" in said(
        room.post("/p/1/footage/names", data={"ids": ids[:2], "pattern": "{camera}{n}", "sure": "1"})
    )
    assert [recordings.get(data.db, i).name for i in ids] == ["B1", "B2", "fifty"]
    steps.undo_or_redo(data.db, 1)
    assert [recordings.get(data.db, i).name for i in ids] == ["talk", "boat", "fifty"]
    for pattern, why in (
        ("x", "Two recordings would be called x"),
        ("{n", "a brace that stands alone"),
        ("{date}{n}", "cannot hold date"),
        (" ", "Type a pattern"),
        ("fifty{roll}", "would be called"),
        ("{roll}", "Give it a name"),
    ):
        with pytest.raises(Invalid, match=why):
            binning.rename(data, 1, ids[:2], pattern)
    assert "2 chosen, 0:52" in room.get("/p/1/footage/chosen", params={"ids": [ids[0], ids[1]]}).text
    assert "none chosen" in room.get("/p/1/footage/chosen").text


def test_orders_and_what_is_kept_of_them() -> None:
    rows = ["clip 10", "Clip 2", "clip 1b", "take", "1", ""]
    assert sorted(rows, key=natural) == ["", "1", "clip 1b", "Clip 2", "clip 10", "take"]
    rng = random.Random(3)
    for _ in range(200):
        s = Shown(
            rng.choice(["", "5", "day:a&b=c", "kind:b-roll", "none"]),
            rng.choice(["", "a b", "ü&%"]),
            rng.choice([*binning.ORDERS]),
            rng.random() < 0.5,
            rng.choice([100, 200, 4000]),
        )
        assert shown(s.query) == s
    assert shown("bin=1&order=x&count=9999999&frames=") == Shown("1") and shown("%%%=&&") == Shown()


def test_five_hundred_recordings_stay_quick(data: DataFolder) -> None:
    p = projects.create(data.db, "Large")
    with data.db.write():
        for n in range(500):
            recordings.add(
                data.db, p.id, f"/none/{n}.mov", f"clip {n}", "b-roll", FACTS, day=str(n % 7), camera="AB"[n % 2]
            )
    bin_rows.make(data.db, p.id, "Half", [r.id for r in recordings.of_project(data.db, p.id)[::2]])
    room = TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463", headers={"x-kovel": "1"})
    began = time.process_time()
    page = " ".join(room.get(f"/p/{p.id}/footage").text.split())
    took = time.process_time() - began
    assert page.count("data-recording=") == 100 and "100 of 500 shown" in page
    assert took < 3  # of computing; it takes a fifth of a second
    more = " ".join(room.get(f"/p/{p.id}/footage/list?count=200&order=name").text.split())
    names = re.findall(r'name="name" value="(clip \d+)"', more)
    assert names == [f"clip {n}" for n in range(200)]  # 2 before 10
    small = room.get(f"/p/{p.id}/footage/list?frames=1&bin=camera:A").text
    assert "data-recording=" not in small and small.count('name="ids"') == 100
    ids = [r.id for r in recordings.of_project(data.db, p.id)]
    binning.rename(data, p.id, ids, "{day}-{camera}-{n:4}")
    assert recordings.get(data.db, ids[499]).name == "2-B-0500"
    steps.undo_or_redo(data.db, p.id)
    assert recordings.get(data.db, ids[499]).name == "clip 499"


def test_a_frame_stands_for_a_recording(room: TestClient, coded: Coded) -> None:
    data, r = coded
    boat = r["boat"].id
    clock = projects.get(data.db, 1).rate
    assert r["boat"].face(clock) == 100
    assert "stands for it" in said(room.post(f"/p/1/recordings/{boat}/poster", data={"frame": 240}))
    assert recordings.get(data.db, boat).face(clock) == 240
    room.post(f"/p/1/recordings/{boat}/poster", data={"frame": 99_999})
    assert recordings.get(data.db, boat).face(clock) == 299
    steps.undo_or_redo(data.db, 1)
    steps.undo_or_redo(data.db, 1)
    assert recordings.get(data.db, boat).poster is None


def test_unsure_words_are_walked_and_corrections_learnt(room: TestClient, coded: Coded) -> None:
    data, r = coded
    rows = [
        Word(w, 48_000 * n, 48_000 * n + 20_000, "", s)
        for n, (w, s) in enumerate(
            [("We", 0.9), ("hall", 0.3), ("the", 0.95), ("ferry", 0.2), ("to", 0.9), ("corn", 0.39), ("wall.", 0.8)]
        )
    ]
    transcripts.set_words(data.db, r["talk"].id, rows)

    def walk(frame: int, back: bool = False) -> tuple[int | None, str]:
        got = room.get(f"/p/1/recordings/{r['talk'].id}/unsure", params={"frame": frame, "back": back}).json()
        return got["frame"], got["said"]

    assert walk(0) == (25, "“hall”: 30% sure; 3 in all. E corrects it.") and walk(25)[0] == 75 and walk(75)[0] == 125
    assert (
        walk(125) == (None, "No later word is unsure; 3 in all.")
        and walk(125, True)[0] == 75
        and walk(10, True)[0] is None
    )
    transcripts.change_words(
        data.db, r["talk"].id, 5, rows[5:], [Word("Cornwall.", rows[5].start, rows[6].end)], "corrected"
    )
    transcripts.change_words(
        data.db, r["talk"].id, 1, rows[1:2], [Word("haul", rows[1].start, rows[1].end)], "corrected"
    )
    assert "Cornwall" in transcription.names_of(data, 1) and "haul" not in transcription.names_of(data, 1)
    transcripts.set_words(
        data.db, r["fifty"].id, [Word("Typed", 0, 9), Word("Elsewhere", 10, 20)]
    )  # not heard by the recogniser
    assert "Elsewhere" not in transcription.names_of(data, 1)


def test_bins_on_the_command_line(coded: Coded) -> None:
    data, _ = coded

    def kovel(*args: str, ok: bool = True) -> str:
        got = CliRunner().invoke(main, ["bin", *args, "--data", str(data.root)])
        assert (got.exit_code == 0) is ok, got.output
        return got.output

    assert "no bins yet" in kovel("list")
    assert kovel("make", "Best", "talk", "boat") == "Best: talk, boat\n"
    assert json.loads(kovel("put", "Best", "talk", "--out", "--json"))["bins"][0]["recordings"] == ["boat"]
    assert "talk: 1-interview" in kovel("rename", "{n}-{kind}", "talk", "fifty", "--dry")
    kovel("rename", "{n}-{kind}", "talk", "fifty")
    assert {r.name for r in recordings.of_project(data.db, 1)} == {"1-interview", "2-interview", "boat"}
    assert "no bins" in kovel("remove", "Best")
    kovel("put", "Best", "boat", ok=False)
    kovel("rename", "{x}", "boat", ok=False)
