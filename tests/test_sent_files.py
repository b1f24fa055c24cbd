"""What somebody sends: whatever is in it, it is refused in words or taken, the server answers the next request, and
nothing is half made."""

import json
import os
import resource
import zipfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import av
import numpy as np
import opentimelineio as otio
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from kovel.core.plan.captioned import SAFE, letters_for
from kovel.core.plan.outputs import Output
from kovel.core.words.text_coding import NotText, text_in
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.demo.project import FOOTAGE
from kovel.exchange.cells import begins_formula
from kovel.exchange.otio_out import to_otio
from kovel.media.child import call
from kovel.media.files import Unusable
from kovel.services.footage.intake import bring_in_all
from kovel.services.handoff.archiving import start_archive
from kovel.services.handoff.rendering import start_output
from kovel.store import jobs, projects, recordings, stories, transcripts
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from kovel.web.security import Guard, Sessions, Tries
from tests import made
from tests.conftest import finish, said

Coded = tuple[DataFolder, dict[str, Recording]]
LOCALHOST = "http://localhost:8463"


@pytest.fixture
def page(coded: Coded) -> Iterator[TestClient]:
    with TestClient(
        create_app(coded[0], [], jobs=False),
        base_url=LOCALHOST,
        raise_server_exceptions=False,
        headers={"hx-request": "true", "x-kovel": "1"},
    ) as client:
        yield client


def sent(page: TestClient, name: str, body: bytes) -> Any:
    return page.post("/p/1/timeline.in", files={"file": (name, body)})


def timeline(**change: Any) -> dict[str, Any]:
    """A timeline of one clip as the library writes it, with some of its values changed."""
    rate = change.get("rate", 25)
    span = lambda a, n: {  # noqa: E731
        "OTIO_SCHEMA": "TimeRange.1",
        "start_time": {"OTIO_SCHEMA": "RationalTime.1", "rate": rate, "value": a},
        "duration": {"OTIO_SCHEMA": "RationalTime.1", "rate": rate, "value": n},
    }
    clip = {
        "OTIO_SCHEMA": "Clip.1",
        "name": "talk",
        "metadata": change.get("of_clip", {}),
        "source_range": change.get("range", span(10, change.get("length", 50))),
        "media_reference": {"OTIO_SCHEMA": "ExternalReference.1", "target_url": "file:///x/talk.mov"},
        "effects": change.get("effects", []),
    }
    track = {"OTIO_SCHEMA": "Track.1", "name": "V1", "kind": "Video", "children": change.get("children", [clip])}
    stack = {"OTIO_SCHEMA": "Stack.1", "name": "tracks", "children": [track], "metadata": {}, "markers": []}
    return {
        "OTIO_SCHEMA": "Timeline.1",
        "name": "odd",
        "metadata": change.get("metadata", {}),
        "tracks": change.get("tracks", stack),
    }


def odd() -> dict[str, bytes]:
    """Timelines that nobody writes on purpose."""
    deep: Any = {}
    for _ in range(400):
        deep = {"a": deep}
    warp = [
        {"OTIO_SCHEMA": "LinearTimeWarp.1", "time_scalar": x, "effect_name": "w", "name": ""} for x in (0, -1e9, 1e300)
    ]
    rows = {
        **{f"rate {r}": timeline(rate=r) for r in (0, -25, 1e-9, 1e9)},
        **{f"length {n}": timeline(length=n) for n in (0, -5, 1e18, 10**9)},
        "no tracks": timeline(tracks=None),
        "no range": timeline(range=None),
        "deep": timeline(metadata=deep),
        "kovel a number": timeline(metadata={"kovel": 7}),
        "kovel a list": timeline(metadata={"kovel": [1]}),
        "kovel a story": timeline(metadata={"kovel": {"story": {"rate": [0, 0]}, "recordings": 5, "fingerprint": "x"}}),
        "settings": timeline(of_clip={"kovel": {"settings": {"zoom": "x", "look": [[[]]]}}}),
        "settings a list": timeline(of_clip={"kovel": {"settings": [1]}}),
        **{f"warp {i}": timeline(effects=[w]) for i, w in enumerate(warp)},
        "children": timeline(children=[None, 5, {"OTIO_SCHEMA": "Nothing.1"}]),
    }
    text = {k: json.dumps(v).encode() for k, v in rows.items()}
    text |= {
        "NaN": json.dumps(timeline(rate=25)).replace('"value": 10', '"value": NaN').encode(),
        "Infinity": json.dumps(timeline()).replace("50", "Infinity").encode(),
    }
    text |= {
        "brackets": b"[" * 200_000,
        "braces": b'{"a":' * 200_000,
        "nothing": b"",
        "zeros": bytes(5_000),
        "half": json.dumps(timeline()).encode()[:200],
    }
    return text


def test_odd_timelines_are_refused_in_words_or_taken(page: TestClient, coded: Coded) -> None:
    for name, text in sorted(odd().items()):
        before = len(stories.of_project(coded[0].db, 1))
        answer = sent(page, f"{name}.otio", text)
        assert answer.status_code in (204, 422), (name, answer.status_code, answer.text[:300])
        taken = len(stories.of_project(coded[0].db, 1)) - before
        assert taken == (answer.status_code == 204), name
        if not taken:
            assert f"{name}.otio" in said(answer) and "Traceback" not in answer.text, name
        for room in ("/", "/p/1/story", "/p/1/handoff"):
            assert page.get(room).status_code == 200, name


def test_a_story_written_beside_a_timeline_is_held_to_what_edits_hold(page: TestClient, coded: Coded) -> None:
    """Ours, unchanged, with a range far outside of its recording: not taken as it stands."""
    data, r = coded
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": 0, "length": 100})
    kept = stories.load(data.db, 1)
    tl = to_otio(kept.story, kept.name, projects.get(data.db, 1), {x.id: x for x in r.values()})
    good = otio.adapters.write_to_string(tl, "otio_json")
    assert sent(page, "same.otio", good.encode()).status_code == 204
    assert stories.load(data.db, stories.current(data.db, 1)).story == kept.story
    text = json.loads(good)
    text["metadata"]["kovel"]["story"]["pieces"][0][2] = 10**7
    assert sent(page, "far.otio", json.dumps(text).encode()).status_code == 204  # by its clips then
    s = stories.load(data.db, stories.current(data.db, 1)).story
    assert all(p.used[0] >= 0 and p.used[1] <= 1000 for p in s.pieces)


def test_an_edit_list_of_another_hour_is_moved_and_says_so(page: TestClient, coded: Coded) -> None:
    line = "001  TALK     V     C        00:00:04:00 00:00:06:00 01:00:10:00 01:00:12:00\n* FROM CLIP NAME: talk\n"
    assert sent(page, "hour.edl", line.encode()).status_code == 204
    data = coded[0]
    s = stories.load(data.db, stories.current(data.db, 1))
    assert s.story.pieces[0].source and s.story.length == 50
    assert stories.not_taken(data.db, s.id) == [
        "The list begins at 01:00:10:00, the story at 00:00:00:00: everything was moved to the story’s start."
    ]


def test_captions_in_any_coding_keep_their_letters(page: TestClient, coded: Coded) -> None:
    stories.edit(coded[0].db, 1, None, "add_at_end", {"source": coded[1]["talk"].id, "start": 0, "length": 300})
    text = "1\n0:0:1.5 --> 0:0:4.5\nÇa va, “Zoë”… – 5 €\n\n2\n00:00:05,000 --> later\nlost\n"
    for coding in ("utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "cp1252"):
        answer = page.post("/p/1/captions.in", files={"file": ("fr.srt", text.encode(coding))})
        assert answer.status_code == 200 and "1 captions" in said(answer), coding
        assert "Line 6 was left out: its times cannot be read" in said(answer), coding
        assert (
            "Ça va, “Zoë”… – 5 €" in page.get("/p/1/captions.srt").text
            or "Zoë" in page.get("/p/1/handoff/captions").text
        )


def test_text_by_its_bytes() -> None:
    """Encodings: Unicode Standard 16, chapter 3.10 (byte order marks); WHATWG Encoding (windows-1252), from memory."""
    assert text_in("Zoë £5".encode("latin-1")) == "Zoë £5" and text_in(b"") == "" and text_in(b"plain") == "plain"
    for bad in (b"\x81\x8d\x00\x01\x02", b"\xef\xbb\xbf\xff\xff", b"\xff\xfe\x00\xd8"):
        with pytest.raises(NotText):
            text_in(bad)


def archive_of(data: DataFolder, tmp_path: Path, change: Any = None, **members: bytes) -> Path:
    """An archive of project 1, its rows changed."""
    out = tmp_path / "film.kovel.zip"
    start_archive(data, 1, "none", out)
    finish(data)
    return with_rows(out, out, change, **members)


def with_rows(archive: Path, out: Path, change: Any = None, **members: bytes) -> Path:
    """The archive with its rows changed, written to `out`."""
    with zipfile.ZipFile(archive) as z:
        about = json.loads(z.read("project.json"))
    if change:
        change(about["tables"])
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("project.json", json.dumps(about))
        for name, body in members.items():
            z.writestr(name.replace("__", "/"), body)
    return out


def changed(table: str, **values: Any) -> Any:
    def change(tables: dict[str, list[dict[str, Any]]]) -> None:
        tables[table][0].update(values)

    return change


WRONG_ROWS = [
    (changed("project", rate_num=0), "its frame rate, size or start is none"),
    (changed("project", rate_den=0), "its frame rate, size or start is none"),
    (changed("project", width=-5), "its frame rate, size or start is none"),
    (changed("project", start_frame=10**12), "its start timecode is none"),
    (changed("recording", rate_num=0), "has no frame rate"),
    (changed("recording", frames=-1), "has no length"),
    (changed("recording", kind="playlist"), "damaged"),
    (changed("recording", path="../../etc/passwd"), "has no file"),
    (changed("recording", remarks="{"), "damaged"),
    (changed("piece", start=10**9), "holds ranges or numbers that no story can have"),
    (changed("piece", length=-4), "damaged"),
    (changed("piece", length="x"), ""),
    (changed("journal", patch="[]"), ""),
    (changed("story", settings="[[["), ""),
    (lambda tables: tables.update(project=[]), ""),
]


def test_rows_of_an_archive_are_held_to_what_anything_typed_is(page: TestClient, coded: Coded, tmp_path: Path) -> None:
    data, r = coded
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": 0, "length": 100})
    right = archive_of(data, tmp_path)
    before = projects.listing(data.db)
    for number, (change, why) in enumerate(WRONG_ROWS):
        wrong = with_rows(right, tmp_path / f"film {number}.zip", change)
        answer = page.post("/projects.in", files={"file": (wrong.name, wrong.read_bytes())})
        assert answer.status_code == 422 and why in said(answer) and wrong.name in said(answer), (number, said(answer))
        assert projects.listing(data.db) == before, number
        assert page.get("/").status_code == 200 and page.get("/p/1/story").status_code == 200, number
        assert not list((data.root / "archives").glob("in-*")), number


def test_one_broken_project_breaks_no_other_and_can_be_deleted(page: TestClient, coded: Coded) -> None:
    data, _ = coded
    for name, spoil in (
        ("None", "UPDATE project SET rate_num = 0 WHERE id = ?"),
        ("Bad", "UPDATE story SET settings = '[[' WHERE project = ?"),
    ):
        p = projects.create(data.db, name)
        with data.db.write() as c:
            c.execute(spoil, (p.id,))
        start = page.get("/")
        assert start.status_code == 200 and "Coded" in start.text and f'data-damaged="{p.id}"' in start.text
        assert page.get(f"/p/{p.id}/story").status_code != 200 and page.get("/p/1/story").status_code == 200
        assert f"{name} deleted" in said(page.post(f"/projects/{p.id}/delete"))
        assert f'data-damaged="{p.id}"' not in page.get("/").text


def test_a_row_does_not_open_what_lies_outside(coded: Coded, tmp_path: Path) -> None:
    """An archive whose recording is somebody's file elsewhere on the machine: it is not prepared, not played, not
    rendered, and does not go into another archive."""
    data, r = coded
    private = tmp_path / "private" / "diary.mp4"
    private.parent.mkdir()
    made.clip(private, 1, 100, gop=10)
    facts = call("probe", {"path": str(private)})

    def elsewhere(tables: Any) -> None:
        row = next(x for x in tables["recording"] if x["name"] == "boat")
        row.update(path=str(private), size=facts["size"], checksum="", frames=100)

    stories.edit(data.db, 1, None, "add_at_end", {"source": r["boat"].id, "start": 0, "length": 50})
    out = archive_of(data, tmp_path, elsewhere)
    with TestClient(create_app(data, [FOOTAGE], jobs=False), base_url=LOCALHOST, headers={"x-kovel": "1"}) as page:
        there = page.post("/projects.in", files={"file": ("film.zip", out.read_bytes())}).headers["hx-redirect"]
        number = int(there.split("/")[2])
        boat = next(x for x in recordings.of_project(data.db, number) if x.name == "boat")
        assert boat.path == str(private) and not [
            j for j in jobs.in_state(data.db, "waiting") if j.recording == boat.id
        ]
        for address in ("pieces/0", "proxy.mp4", "media.json"):
            assert page.get(f"/media/{boat.id}/{address}", headers={"accept": "application/json"}).status_code in (
                404,
                422,
            )
        assert (
            "lies outside the folders"
            in page.post(f"/p/{number}/recordings/{boat.id}/retry", headers={"accept": "application/json"}).text
        )
        with pytest.raises(Exception, match="lies outside the folders Kovel may read"):
            start_output(data, stories.current(data.db, number))
        assert "boat" in start_archive(data, number, "all")[1].missing
    with TestClient(
        create_app(data, [private.parent], jobs=False), base_url=LOCALHOST
    ) as page:  # where it may be read, it can
        assert page.get(f"/media/{boat.id}/pieces/0").status_code == 200


def test_an_archive_cannot_hold_more_than_such_files_do(page: TestClient, coded: Coded, tmp_path: Path) -> None:
    """A table of 300 MB in a few hundred kilobytes: refused before it is unpacked, the server's memory where it was."""
    data, _ = coded
    out = archive_of(data, tmp_path, None, tables__big=b"", media__x=b"")
    with zipfile.ZipFile(out, "a", zipfile.ZIP_DEFLATED) as z, z.open("tables/bomb.cube", "w", force_zip64=True) as f:
        for _ in range(300):
            f.write(bytes(1_000_000))
    assert out.stat().st_size < 2_000_000
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    answer = page.post("/projects.in", files={"file": ("bomb.zip", out.read_bytes())})
    assert answer.status_code == 422 and "bomb.cube in it is larger than such a file can be (300 MB)" in said(answer)
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 60_000  # kilobytes
    for body in (b"PK\x03\x04" + os.urandom(500), b"", out.read_bytes()[:5_000]):
        assert page.post("/projects.in", files={"file": ("odd.zip", body)}).status_code == 422


def test_fonts_and_tables_are_read_apart(page: TestClient, coded: Coded) -> None:
    for address, field, name in (("/p/1/picture/fonts", "font", "a.ttf"), ("/p/1/picture/tables", "table", "a.cube")):
        for body in (b"", os.urandom(4_000), b"\0\1\0\0" + bytes(2_000), b"LUT_3D_SIZE 64\n0 0 0\n"):
            answer = page.post(address, files={field: (name, body)}, headers={"accept": "application/json"})
            assert answer.status_code == 422 and name in answer.json()["error"], answer.text
    with pytest.raises(Unusable):
        call("read_font", {"path": "/etc/hostname"})


@pytest.mark.parametrize("shape", ["9:16", "1:1", "16:9"])
def test_burnt_in_captions_stay_inside_any_shape(shape: str, coded: Coded, tmp_path: Path) -> None:
    data, r = coded
    text = "We never thought anyone would come across the water on such a night but there they were, wonderfully wet"
    transcripts.set_words(
        data.db, r["talk"].id, [Word(w, 12_000 * i, 12_000 * i + 11_000) for i, w in enumerate(text.split())]
    )
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": 0, "length": 130})
    job = start_output(data, 1, Output(kind="mp4", shape=shape, height=640, captions=True), tmp_path / "up.mp4")
    titles = {
        x["title"]["text"]
        for row in job.params["plan"]["pictures"]
        for layer in row[2]
        for x in layer[4:]
        if "title" in x
    }
    ratio = job.params["width"] / job.params["height"]
    assert titles and all(
        len(t.split("\n")) <= 2 and max(map(len, t.split("\n"))) <= letters_for(ratio) for t in titles
    )
    if shape != "9:16":  # the narrowest is looked at as a file
        return
    finish(data)
    assert (jobs.get(data.db, job.id).result or {})["differs"] == []
    with av.open(str(tmp_path / "up.mp4")) as c:
        frames = [f.to_ndarray(format="gray8") for f in c.decode(video=0)]
    high = frames[20].shape[0]
    letters = np.flatnonzero((frames[20][high // 2 :] > 250).any(1)) + high // 2
    assert len(letters) and letters.max() < high * (1 - SAFE / 100)


def test_uploads_of_one_name_at_once_each_keep_their_own(page: TestClient, coded: Coded, tmp_path: Path) -> None:
    data, _ = coded
    bodies = []
    for n in range(6):
        Image.new("RGB", (64, 48), (40 * n, 0, 0)).save(tmp_path / f"{n}.png")
        bodies.append((tmp_path / f"{n}.png").read_bytes())
    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(lambda b: page.post("/p/1/footage/upload", files={"files": ("clip.png", b)}), bodies))
    assert all("1 recording brought in" in said(a) for a in answers)
    rows = [x for x in recordings.of_project(data.db, 1) if x.name.startswith("clip")]
    assert len({x.name for x in rows}) == 6 and {Path(x.path).read_bytes() for x in rows} == set(bodies)
    assert not list(data.uploads(1).glob(".*"))


def test_a_name_that_is_no_text_is_passed_over_and_the_rest_goes_on(coded: Coded, tmp_path: Path) -> None:
    folder = tmp_path / "card"
    folder.mkdir()
    for name in (b"a.png", b"caf\xe9.png", b"z.png"):
        Image.new("RGB", (64, 48)).save(tmp_path / "x.png")
        Path(os.fsdecode(bytes(folder) + b"/" + name)).write_bytes((tmp_path / "x.png").read_bytes())
    with TestClient(create_app(coded[0], [tmp_path], jobs=False), base_url=LOCALHOST, headers={"x-kovel": "1"}) as page:
        answer = page.post("/p/1/footage/path", data={"path": str(folder)})
        assert "2 recordings brought in" in said(
            answer
        ) and "caf\ufffd.png was left out: its name is in a coding of another system" in said(answer)
    assert (
        len([x for x in bring_in_all(coded[0], 1, sorted(folder.iterdir()))[1] if "Rename it" in x]) == 1
    )  # also beside the page


def test_frames_of_prores_say_what_they_are(coded: Coded, tmp_path: Path) -> None:
    """ProRes frame header: colour primaries, transfer and matrix, bytes 14 to 16 behind "icpf" (SMPTE RDD 36,
    5.1.1), 1 for BT.709."""
    data, r = coded
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": 0, "length": 5})
    start_output(data, 1, Output(kind="prores", height=180), tmp_path / "a.mov")
    finish(data)
    body = (tmp_path / "a.mov").read_bytes()
    at, seen = body.find(b"icpf"), []
    while at >= 0:
        seen.append(tuple(body[at + 4 + 14 : at + 4 + 17]))
        at = body.find(b"icpf", at + 4)
    assert len(seen) == 5 and set(seen) == {(1, 1, 1)}, set(seen)


def test_who_signed_out_is_out_and_forty_strangers_lock_nobody_out(tmp_path: Path) -> None:
    data = DataFolder(tmp_path / "data")
    app = create_app(data, [], passphrase="chain ferry", jobs=False)
    with TestClient(app, base_url=LOCALHOST, headers={"x-kovel": "1"}) as page:
        assert page.get("/", follow_redirects=False).status_code == 303
        page.post("/login", data={"passphrase": "chain ferry"})
        noted = page.cookies["kovel"]
        assert page.get("/").status_code == 200
        again = create_app(DataFolder(tmp_path / "data"), [], passphrase="chain ferry", jobs=False)
        with TestClient(again, base_url=LOCALHOST, cookies={"kovel": noted}) as restarted:
            assert restarted.get("/").status_code == 200
        page.post("/logout")
        page.cookies.clear()
        assert page.get("/", headers={"cookie": f"kovel={noted}"}, follow_redirects=False).status_code == 303
    tries = Tries()
    for n in range(400):
        tries.failed(f"203.0.113.{n % 100}")
    assert tries.wait("192.0.2.7") == 0 and tries.pause() == Tries.SLOWER
    for _ in range(6):
        tries.failed("192.0.2.7")
    assert tries.wait("192.0.2.7") > 50
    kept: list[str] = []
    sessions = Sessions([], lambda rows: kept.__setitem__(slice(None), rows))
    one = sessions.open()
    assert sessions.is_open(one) and one not in kept and not sessions.is_open(kept[0]) and not sessions.is_open(True)


@pytest.mark.parametrize(
    "host",
    [
        "127.0.0.1:8823@evil.com",
        "evil.com",
        "127.0.0.1.evil.com",
        "localhost:80:80",
        "[::1]x",
        "",
        "local host",
        "127.0.0.1/",
    ],
)
def test_only_its_own_names(host: str) -> None:
    headers = type("Headers", (dict,), {})({"host": host})
    assert Guard(None, set(), None)._refusal({"method": "GET"}, headers) is not None  # type: ignore[arg-type]
    for good in ("127.0.0.1", "localhost:8463", "[::1]:80", "LOCALHOST."):
        assert Guard(None, set(), None)._refusal({"method": "GET"}, type(headers)({"host": good})) is None  # type: ignore[arg-type]


def test_cells_are_no_formulas() -> None:
    assert all(
        begins_formula(x) for x in ("=1", "＝1", "＋1", "－1", "＠a", " =1", "\u3000＝1", "\t=1", "@x")
    ) and not any(map(begins_formula, ("", " ", "a=1", "1-2")))
