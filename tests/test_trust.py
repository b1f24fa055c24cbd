"""What is kept, who is let in, and what brings nothing down: each was seen to go wrong once, or guards what people
put in."""

import errno
import json
import os
import re
import socket
import sqlite3
import stat
import struct
import subprocess
import sys
import threading
import time
import wave
import zlib
from collections.abc import Callable
from contextlib import closing
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import pytest
from bench import kills
from click.testing import CliRunner
from fastapi.testclient import TestClient

from kovel.cli import main
from kovel.core.errors import Invalid
from kovel.core.story import bounds, catalogue
from kovel.core.story.model import Refused, Story
from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder, jobs_lock
from kovel.media.child import call
from kovel.media.files import Unusable
from kovel.media.soundtrack import make_sound
from kovel.services.footage import relinking
from kovel.services.footage.intake import bring_in, remember
from kovel.services.handoff import rendering
from kovel.services.job_kinds import scheduler_for
from kovel.store import backup, history, jobs, projects, recordings, steps, stories, subclips, transcripts
from kovel.store.db import Database, Held, Unopened
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from tests.conftest import said

Coded = tuple[DataFolder, dict[str, Recording]]


def tone(path: Path, rate: int = 48_000, samples: int = 48_000) -> Path:
    with wave.open(str(path), "wb") as w:
        w.setparams((1, 2, rate, 0, "NONE", ""))
        w.writeframes(b"\x10\x00" * samples)
    return path


# --- copies of the database


def test_a_copy_made_amid_edits_is_whole_and_comes_back(data: DataFolder, tmp_path: Path) -> None:
    p = projects.create(data.db, "Kept")
    sid = stories.current(data.db, p.id)
    stories.edit(data.db, sid, None, "insert_space", {"at": 0, "length": 50})
    with data.db.write() as c:  # an edit that is under way is not in it
        c.execute("UPDATE project SET name = 'half' WHERE id = ?", (p.id,))
        other = Database(data.db.path)
        copy = backup.back_up(other, tmp_path / "safe" / "copy.db")
    assert backup.damage(copy) == "" and stat.S_IMODE(copy.stat().st_mode) == 0o600
    assert [p.name for p in (tmp_path / "safe").iterdir()] == ["copy.db"]
    there = Database(copy)
    assert projects.get(there, p.id).name == "Kept" and stories.load(there, 1).story.length == 50
    assert (
        history.undo(there, 1)[0].story.length == 0 and history.redo(there, 1)[0].story.length == 50
    )  # with its history
    there.close()
    run = CliRunner()
    stories.edit(data.db, sid, None, "insert_space", {"at": 0, "length": 25})
    data.db.close()
    lock = jobs_lock(data.root)
    busy = run.invoke(main, ["restore", str(copy), "--data", str(data.root)])
    assert busy.exit_code == 1 and "Kovel is running" in busy.output
    os.close(lock or 0)
    for bad, says in ((tmp_path / "nothing.db", "no file"), (Path(__file__), "not a database")):
        got = run.invoke(main, ["restore", str(bad), "--data", str(data.root)])
        assert got.exit_code == 1 and says in got.output
    got = run.invoke(main, ["restore", str(copy), "--data", str(data.root), "--json"])
    kept = Path(json.loads(got.output)["kept"])
    assert stories.load(DataFolder(data.root).db, sid).story.length == 50
    assert stories.load(Database(kept), sid).story.length == 75  # what was there is not lost


def test_copies_are_kept_by_day_and_week(tmp_path: Path) -> None:
    data = DataFolder(tmp_path / "data")
    first = date(2026, 1, 1)
    for n in range(90):
        backup.daily(data.db, data.backups, first + timedelta(n))
        assert backup.daily(data.db, data.backups, first + timedelta(n)) is None  # once a day
    days = [d for d, _ in backup.copies(data.backups)]
    last = first + timedelta(89)
    assert days[:7] == [last - timedelta(n) for n in range(7)]
    weeks = days[7:]
    assert len(weeks) == 4 and len({d.isocalendar()[:2] for d in weeks}) == 4 and weeks[-1] > last - timedelta(42)


def test_what_is_acknowledged_is_in_the_one_file_after_a_clean_end(data: DataFolder, tmp_path: Path) -> None:
    with TestClient(create_app(data, [], jobs=False), base_url="http://127.0.0.1:8463", headers={"x-kovel": "1"}) as c:
        c.post("/projects", data={"name": "Whole"})
    alone = tmp_path / "alone.db"
    alone.write_bytes(data.db.path.read_bytes())
    with closing(sqlite3.connect(alone)) as db:
        assert db.execute("SELECT name FROM project").fetchall() == [("Whole",)]


def test_a_damaged_or_newer_database_is_told_and_left_alone(tmp_path: Path) -> None:
    root = tmp_path / "data"
    data = DataFolder(root)
    projects.create(data.db, "P")
    backup.daily(data.db, data.backups, date.today())
    with data.db.write() as c:
        c.execute("PRAGMA user_version = 9000")
    data.db.close()
    before = data.db.path.read_bytes()
    with pytest.raises(Unopened, match="newer Kovel"):
        DataFolder(root)
    assert data.db.path.read_bytes() == before
    data.db.path.write_bytes(b"no database at all" * 400)
    run = CliRunner()
    got = run.invoke(main, ["list", "--data", str(root)])
    assert got.exit_code == 5 and "damaged" in got.output and "kovel restore" in got.output
    told = run.invoke(main, ["doctor", "--data", str(root), "--json"])
    assert told.exit_code == 1
    rows = {r["what"]: r for r in json.loads(told.output)}
    assert not rows["Database"]["well"] and "whole" in rows["Copies"]["found"] and rows["Encoders"]["well"]
    assert run.invoke(main, ["restore", "latest", "--data", str(root)]).exit_code == 0
    assert [p.name for p in projects.listing(DataFolder(root).db)] == ["P"]
    assert run.invoke(main, ["doctor", "--data", str(root)]).output.count("\n") > 7


# --- who is let in


@pytest.fixture
def guarded(data: DataFolder) -> TestClient:
    app = create_app(data, [], hosts={"studio"}, passphrase="two of us", jobs=False)
    return TestClient(app, base_url="http://studio:8463", headers={"x-kovel": "1"}, follow_redirects=False)


@pytest.mark.parametrize("left", [b"", b"0" * 20, b"\xff" * 64])
def test_an_unfit_key_is_never_trusted(data: DataFolder, left: bytes) -> None:
    """A first start on a full disk leaves an empty file: whoever knows that could sign a cookie with it."""
    key = data.root / "session.key"
    key.write_bytes(left)
    made = data.secret()
    assert re.fullmatch("[0-9a-f]{64}", made) and key.read_text() == made == DataFolder(data.root).secret()
    assert stat.S_IMODE(key.stat().st_mode) == 0o600


def test_signing_in_and_out_and_another_passphrase(data: DataFolder, guarded: TestClient) -> None:
    assert guarded.get("/health").json()["ok"] is True  # says nothing of what is in it
    assert guarded.post("/login", data={"passphrase": "two of us"}).status_code == 303
    assert "Sign out" in guarded.get("/").text
    cookie = guarded.cookies["kovel"]
    other = create_app(data, [], hosts={"studio"}, passphrase="three of us", jobs=False)
    c = TestClient(other, base_url="http://studio:8463", follow_redirects=False, cookies={"kovel": cookie})
    assert c.get("/").headers["location"] == "/login"  # the old cookie is void
    assert guarded.post("/logout").headers["location"] == "/login" and guarded.get("/").headers["location"] == "/login"
    tls = TestClient(
        create_app(data, [], hosts={"studio"}, passphrase="x", secure=True, jobs=False), base_url="https://studio"
    )
    signed = tls.post("/login", data={"passphrase": "x"}, headers={"x-kovel": "1"}, follow_redirects=False)
    assert "secure" in signed.headers["set-cookie"].lower() and "httponly" in signed.headers["set-cookie"].lower()


def test_wrong_passphrases_have_to_wait(guarded: TestClient) -> None:
    got = [guarded.post("/login", data={"passphrase": f"guess {n}"}).status_code for n in range(20)]
    assert got[:6] == [403] * 6 and got[6:] == [429] * 14
    late = guarded.post("/login", data={"passphrase": "two of us"})
    assert late.status_code == 429 and int(late.headers["retry-after"]) <= 61 and "Try again in" in late.text


def test_what_it_makes_is_nobody_elses(tmp_path: Path) -> None:
    data = DataFolder(tmp_path / "mine")
    assert stat.S_IMODE(data.root.stat().st_mode) == 0o700 and stat.S_IMODE(data.db.path.stat().st_mode) == 0o600
    (tmp_path / "shared").mkdir(0o755)
    DataFolder(tmp_path / "shared")
    assert stat.S_IMODE((tmp_path / "shared").stat().st_mode) == 0o755  # a folder that was there is left as it is


def test_a_child_has_no_network(tmp_path: Path) -> None:
    code = (
        "import socket; from kovel.media.child import without_network as f; print(f()); "
        "socket.create_connection(('127.0.0.1', {}))"
    )
    with socket.create_server(("127.0.0.1", 0)) as s:
        got = subprocess.run([sys.executable, "-c", code.format(s.getsockname()[1])], capture_output=True, text=True)
    if got.stdout.strip() == "True":  # where the system lets it
        assert got.returncode and ("refused" in got.stderr or "unreachable" in got.stderr)
    facts = call("probe", {"path": str(tone(tmp_path / "a.wav"))})  # and does its work
    assert facts["sound"]


# --- odd values


def test_no_edit_is_asked_for_without_end() -> None:
    empty = Story(Rate(25))
    for params in (
        {"at": 0, "length": 4_600_000_000_000_000_000},
        {"at": -(2**70), "length": 5},
        {"at": 0, "length": 25 * 3600 * 24 + 1},
        {"at": 0, "length": float("nan")},
    ):
        with pytest.raises(Refused):
            catalogue.run(empty, {}, "insert_space", params)
    story, _ = catalogue.run(empty, {}, "insert_space", {"at": 0, "length": 25 * 3600 * 24})
    with pytest.raises(Refused, match="24 hours at most"):
        catalogue.run(story, {}, "insert_space", {"at": 0, "length": 1})
    for bad in ("x" * (bounds.LETTERS + 1), "a\ud800"):
        with pytest.raises(Refused):
            bounds.asked({"text": bad})
    with pytest.raises(Refused, match="more than one edit"):
        bounds.asked({"rows": [[1, 2]] * 15_000})
    deep: Any = 1
    for _ in range(5000):
        deep = [deep]
    bounds.asked({"rows": deep})  # however deep, it ends


ODD = (str(2**63), "9" * 40, "-1", "x", "%00", "9" * 5000)
BODIES: tuple[tuple[bytes, str], ...] = (
    (b'{"command": "take_out", "piece": [[1]]}', "application/json"),
    (b'{"command": "split", "at": 9223372036854775808}', "application/json"),
    (b'{"command": "split", "at": 1e999}', "application/json"),
    (b'{"name": "\\ud800", "text": "\\ud800", "setting": "zoom", "value": "\\ud800"}', "application/json"),
    (b"[" * 50_000, "application/json"),
    (
        b"name=%ED%A0%80&path=%00&text=%FF&ids=99999999999999999999&on=1&kind=%00&step=1e9",
        "application/x-www-form-urlencoded",
    ),
    (
        b'--x\r\nContent-Disposition: form-data; name="file"; filename="\x00/../a"\r\n\r\n\x00\xff\r\n--x--\r\n',
        "multipart/form-data; boundary=x",
    ),
    (b"", "text/plain"),
)


def test_every_route_answers_odd_values_in_words(coded: Coded) -> None:
    """All routes there are, each with numbers no row has, letters that are none and bodies of the wrong kind: no
    server error."""
    data, _ = coded
    app = create_app(data, [data.root], jobs=False)
    c = TestClient(
        app,
        base_url="http://127.0.0.1:8463",
        headers={"x-kovel": "1", "accept": "application/json"},
        raise_server_exceptions=False,
        follow_redirects=False,
    )
    tried = 0
    for path, methods in app.openapi()["paths"].items():
        names = re.findall(r"{(\w+)}", path)
        for method, about in methods.items():
            odd = [ODD[(tried + k) % len(ODD)] for k in range(2)]  # each in turn
            rows = [dict.fromkeys(names, o) for o in odd] + [dict.fromkeys(names, "1")]
            for n, values in enumerate(rows):
                url = re.sub(r"{(\w+)(:\w+)?}", lambda m, v=values: v[m[1]], path)
                if method == "get":
                    query = "&".join(
                        f"{p['name']}={ODD[(tried + n) % len(ODD)]}"
                        for p in about.get("parameters", ())
                        if p["in"] == "query"
                    )
                    got = [c.get(f"{url}?{query}")]
                else:
                    bodies = BODIES[tried % 2 :: 2] if n == len(rows) - 1 else BODIES[n % len(BODIES) :][:1]
                    got = [
                        c.request(method, url, content=body, headers={"content-type": kind}) for body, kind in bodies
                    ]
                for r in got:
                    tried += 1
                    assert r.status_code < 500, (method, url, r.status_code, r.text[:300])
    assert tried > 600
    noted = data.root / "logs" / "kovel.log"
    assert '"failed"' not in (noted.read_text() if noted.exists() else "")  # nothing that was not foreseen


def test_bodies_are_held_to_a_size(room: TestClient) -> None:
    began = time.process_time()  # of this process: others may share the machine
    for path, body, kind in (
        ("/p/1/story/edit", b'{"command":"' + b"a" * 60_000_000 + b'"}', "application/json"),
        ("/projects", b"name=" + b"%20" * 20_000_000, "application/x-www-form-urlencoded"),
        ("/p/1/recordings/1/words", b"x" * 60_000_000, "multipart/form-data; boundary=x"),
    ):
        r = room.post(path, content=body, headers={"content-type": kind})
        assert r.status_code == 413 and "Nothing was changed" in r.text
    unsaid = room.post(
        "/p/1/story/edit",
        content=(b"name=" + b"a" * 1_000_000 for _ in range(60)),
        headers={"content-type": "application/json"},
    )  # in pieces, no length told
    assert unsaid.status_code == 413
    assert time.process_time() - began < 5
    for origin in ("http://[", "http://[::1", "\x00"):
        assert room.post("/projects", data={"name": "x"}, headers={"origin": origin}).status_code == 403


# --- the disk


def test_what_the_disk_refuses_is_told_in_words(
    room: TestClient, coded: Coded, monkeypatch: pytest.MonkeyPatch
) -> None:
    data, _ = coded

    def refused(e: Exception) -> tuple[int, str]:
        def fail(*_: object, **__: object) -> None:
            raise e

        monkeypatch.setattr(stories, "edit", fail)
        monkeypatch.setattr(projects, "create", fail)
        r = room.post("/projects", data={"name": "x"})
        return r.status_code, said(r)

    for e, status, says in (
        (sqlite3.OperationalError("database or disk is full"), 507, "disk is full"),
        (sqlite3.OperationalError("database is locked"), 507, "Another program"),
        (sqlite3.OperationalError("attempt to write a readonly database"), 507, "cannot be written"),
        (sqlite3.OperationalError("disk I/O error"), 507, "does not answer as it should"),
        (sqlite3.DatabaseError("database disk image is malformed"), 503, "kovel restore"),
        (OSError(errno.ENOSPC, "No space left on device"), 507, "Make room"),
    ):
        assert refused(e)[0] == status and says in refused(e)[1]
    folder = data.root / "closed"
    folder.mkdir(0o500)
    if os.geteuid():  # root may write anywhere
        with pytest.raises((Held, Unopened), match="cannot be written"):
            DataFolder(folder / "data")


def test_a_full_disk_holds_edits_up_and_loses_none(data: DataFolder) -> None:
    """SQLite's own limit of pages stands for a disk that is full."""
    p = projects.create(data.db, "P")
    sid = stories.current(data.db, p.id)
    c = data.db.read()
    pages = c.execute("PRAGMA page_count").fetchone()[0]
    c.execute(f"PRAGMA max_page_count = {pages + 3}")
    done = 0
    with pytest.raises(sqlite3.OperationalError, match="full"):
        for _ in range(2000):
            stories.edit(data.db, sid, None, "insert_space", {"at": 0, "length": 10})
            done += 1
    assert Database(data.db.path) and stories.load(Database(data.db.path), sid).story.length == 10 * done > 0
    c.execute("PRAGMA max_page_count = 1000000")  # room again: it goes on by itself
    stories.edit(data.db, sid, None, "insert_space", {"at": 0, "length": 10})
    assert stories.load(data.db, sid).story.length == 10 * (done + 1)


def test_a_small_file_cannot_fill_the_disk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(Unusable, match="sound cannot be read"):
        call("probe", {"path": str(tone(tmp_path / "slow.wav", rate=1))})
    with pytest.raises(Unusable, match="says it lasts"):
        call("probe", {"path": str(tone(tmp_path / "day.wav", rate=1000, samples=1000 * 90_000))})
    from kovel.media import files, soundtrack

    usage = type("Usage", (), {"free": 250_000_000})
    monkeypatch.setattr(files.shutil, "disk_usage", lambda _: usage)
    path = tone(tmp_path / "hour.wav", rate=1000, samples=1000 * 3600)
    with pytest.raises(Unusable, match=r"takes about 0\.3 GB and the disk has 0\.2 GB left"):
        make_sound(str(path), str(tmp_path / "out"), [25, 1], False, 25 * 3600, lambda x: None)
    monkeypatch.setattr(soundtrack, "LONGEST", 10)
    usage.free = 10**12
    with pytest.raises(Unusable, match="does not end"):  # whatever its head says
        make_sound(str(path), str(tmp_path / "out"), [25, 1], False, 25, lambda x: None)


def test_a_still_is_held_to_its_pixels(tmp_path: Path) -> None:
    """13,000 by 13,000 were let in: Pillow warns at its limit, and refuses at twice of it."""
    head = struct.pack(">IIBBBBB", 13_000, 13_000, 8, 2, 0, 0, 0)
    body = b"\x89PNG\r\n\x1a\n" + struct.pack(">I", 13) + b"IHDR" + head + struct.pack(">I", zlib.crc32(b"IHDR" + head))
    (tmp_path / "large.png").write_bytes(
        body + struct.pack(">I4s", 0, b"IDAT") + struct.pack(">I", zlib.crc32(b"IDAT"))
    )
    with pytest.raises(Unusable, match="too large: 13000 by 13000"):
        call("probe", {"path": str(tmp_path / "large.png")})


def test_folders_that_are_walked_lead_nowhere_else(room: TestClient, data: DataFolder, tmp_path: Path) -> None:
    inside = tmp_path / "media"
    (inside / "sub").mkdir(parents=True)
    secret = tone(tmp_path / "secret.wav")
    (inside / "sub" / "link.wav").symlink_to(secret)
    (inside / "elsewhere").symlink_to(tmp_path)
    os.mkfifo(inside / "pipe.wav")
    tone(inside / "sub" / "own.wav", samples=30_000)
    (inside / "sub" / "near.wav").symlink_to(inside / "sub" / "own.wav")
    from kovel.services.footage.intake import files_in

    assert [p.name for p in files_in(inside)] == ["near.wav", "own.wav"]
    with pytest.raises(Unusable, match="not a file"):
        call("probe", {"path": "/dev/zero"})
    began = time.monotonic()
    with pytest.raises(Unusable):
        call("probe", {"path": str(inside / "pipe.wav")})  # one that nobody writes to is not waited for
    assert time.monotonic() - began < 10


# --- recordings that were taken out, or are other files now


def test_a_recording_taken_out_comes_back_with_all_that_is_its(room: TestClient, coded: Coded) -> None:
    data, r = coded
    talk = r["talk"].id
    transcripts.set_words(data.db, talk, [Word("harbour", 48_000, 60_000, "Ann")])
    clip = subclips.add(data.db, talk, 10, 30, name="bite")
    made = data.derived(talk) / "media.json"
    told = room.post(f"/p/1/recordings/{talk}/remove").text
    assert "taken out" in told and "bring back" in told and made.exists()
    assert talk not in {x.id for x in recordings.of_project(data.db, 1)} and subclips.of_project(data.db, 1) == []
    assert transcripts.search(data.db, 1, "harbour") == [] and transcripts.has_words(data.db, 1) == set()
    assert f"rec={talk}" not in room.get("/p/1/log").text
    assert room.post(f"/p/1/recordings/{talk}", data={"name": "x"}).status_code == 404
    again = bring_in_told(data, Path(r["talk"].path))
    assert "Bring it back" in again
    assert "is back" in room.post(f"/p/1/footage/back/{talk}").text
    assert [c.id for c in subclips.of_project(data.db, 1)] == [clip.id] and len(
        transcripts.search(data.db, 1, "harbour")
    ) == 1
    assert steps.undo_or_redo(data.db, 1)[0] == "talk brought back" and talk not in recordings.sources(data.db, 1)
    assert steps.undo_or_redo(data.db, 1)[0] == "talk taken out" and talk in recordings.sources(data.db, 1)
    steps.undo_or_redo(data.db, 1, redo=True)
    other = projects.create(data.db, "Other")
    assert room.post(f"/p/{other.id}/footage/back/{talk}").status_code == 404
    file = Path(r["talk"].path).read_bytes()
    gone = room.post("/p/1/footage/empty")
    assert re.search(r"gone; [\d.]+ (kB|MB) freed", said(gone)) and not made.parent.exists()
    assert Path(r["talk"].path).read_bytes() == file
    with pytest.raises(LookupError):
        recordings.get(data.db, talk)
    with pytest.raises(LookupError, match="for good"):
        steps.undo_or_redo(data.db, 1)
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["boat"].id, "start": 0, "length": 20})
    used = room.post(f"/p/1/recordings/{r['boat'].id}/remove")
    assert used.status_code == 422 and "The story uses this recording" in said(used)


def bring_in_told(data: DataFolder, path: Path) -> str:
    with pytest.raises(Invalid) as e:
        bring_in(data, 1, path)
    return str(e.value)


def test_another_file_at_its_path_is_never_rendered(
    room: TestClient,
    coded: Coded,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    finished: Callable[[DataFolder], None],
) -> None:
    data, r = coded
    boat = r["boat"]
    mine = tmp_path / "boat.mp4"
    mine.write_bytes(Path(boat.path).read_bytes())
    recordings.replace_file(data.db, boat.id, str(mine), call("probe", {"path": str(mine)}))
    recordings.set_checksum(data.db, boat.id, boat.checksum)
    remember(data, mine)
    boat = recordings.get(data.db, boat.id)
    stories.edit(data.db, 1, None, "add_at_end", {"source": boat.id, "start": 0, "length": 20})
    os.utime(mine, (1, 1))
    assert relinking.there(boat)  # written anew, and the same
    body = bytearray(mine.read_bytes())
    body[len(body) // 2 : len(body) // 2 + 1000] = os.urandom(1000)
    mine.write_bytes(body)
    assert not relinking.there(boat) and boat.name in [x.name for x in relinking.offline(data, 1)]
    with pytest.raises(Invalid, match="another file now"):
        rendering.start_output(data, 1)
    assert "take the one that is there" in room.get("/p/1/footage").text
    assert "boat is off-line: another file" in room.get("/p/1/handoff").text
    monkeypatch.setattr(relinking, "AT_ONCE", 1000)  # as if it were large: compared by the render itself
    assert relinking.there(boat) and relinking.unsure(boat)
    job = rendering.start_output(data, 1)
    foreman = scheduler_for(data)
    foreman.start()
    while (now := jobs.get(data.db, job.id)).state in ("waiting", "working"):
        time.sleep(0.05)
    foreman.stop()
    assert now.state == "failed" and "another file now" in now.message and not Path(job.params["out"]).exists()
    monkeypatch.undo()
    jobs.forget_message(data.db, job.id)
    told = said(room.post(f"/p/1/recordings/{boat.id}/take"))
    assert "is the file that is there now" in told
    finished(data)
    assert (
        relinking.there(recordings.get(data.db, boat.id)) and recordings.get(data.db, boat.id).checksum != boat.checksum
    )
    with wave.open(str(mine), "wb") as w:
        w.setparams((1, 2, 8000, 0, "NONE", ""))
        w.writeframes(b"\x10\x00" * 8000)
    assert "cannot take the place" in said(room.post(f"/p/1/recordings/{boat.id}/take"))


def test_what_was_made_and_vanished_is_made_again(
    room: TestClient, coded: Coded, finished: Callable[[DataFolder], None]
) -> None:
    data, r = coded
    for p in data.derived(r["boat"].id).iterdir():
        p.unlink() if p.is_file() else None
    assert "What was made of it is gone" in room.get("/p/1/footage").text
    room.post(f"/p/1/recordings/{r['boat'].id}/retry")
    finished(data)
    assert "What was made of it is gone" not in room.get("/p/1/footage").text


# --- jobs


def test_killed_at_random_moments_nothing_is_lost(tmp_path: Path) -> None:
    """The harness of bench/kills.py, shortly: `./kovel bench kills` runs it a thousand times."""
    kept = kills.run(tmp_path, 12, seed=11, most=0.4, servers=0.05)
    assert kept.wrong == [] and sum(kept.killed.values()) == 12 and kept.done["edit"] > 0


def test_a_working_render_cannot_be_tried_again(coded: Coded) -> None:
    data, r = coded
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["boat"].id, "start": 0, "length": 20})
    job = rendering.start_output(data, 1)
    assert jobs.begin(data.db, job.id) is not None and jobs.begin(data.db, job.id) is None
    for _ in range(2):
        with pytest.raises(Invalid, match="under way"):
            jobs.again(data.db, job.id)
    assert jobs.get(data.db, job.id).attempt == 1


def test_another_server_takes_the_jobs_over(data: DataFolder, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("kovel.jobs.scheduler.TAKE_OVER", 0.1)
    p = projects.create(data.db, "P")
    first, second = scheduler_for(data), scheduler_for(DataFolder(data.root))
    first.start()
    second.start_or_wait()
    first.stop()
    r = bring_in(data, p.id, tone(tmp_path / "a.wav"))
    end = time.monotonic() + 60
    while jobs.unfinished(data.db) and time.monotonic() < end:
        time.sleep(0.05)
    second.stop()
    assert recordings.get(data.db, r.id).checksum


def test_hostile_files_hold_nobody_up(data: DataFolder, tmp_path: Path) -> None:
    """Forty files that are none, or lie, are looked at while somebody works: a page answers in between."""
    projects.create(data.db, "P")
    app = create_app(data, [tmp_path], jobs=False)
    room = TestClient(app, base_url="http://127.0.0.1:8463", headers={"x-kovel": "1"})
    bad = tmp_path / "media" / "bad"
    bad.mkdir(parents=True)
    good = tone(tmp_path / "t.wav").read_bytes()
    for n in range(40):
        head = struct.pack(">I4s", 2**31 - 1, b"ftyp") if n % 4 == 0 else good[: 44 + n * 10]
        body = {
            0: head + os.urandom(4000),
            1: head,
            2: b"\x1a\x45\xdf\xa3" + os.urandom(4000),
            3: b"RIFF" + b"\xff" * 4000,
        }[n % 4]
        (bad / f"{n}.mp4").write_bytes(body)
    told: list[str] = []
    t = threading.Thread(target=lambda: told.append(room.post("/p/1/footage/path", data={"path": str(bad)}).text))
    t.start()
    worst = 0.0
    while t.is_alive():
        began = time.monotonic()
        assert room.get("/health").status_code == 200
        worst = max(worst, time.monotonic() - began)
        time.sleep(0.02)
    t.join()
    assert "Traceback" not in told[0] and "damaged" in told[0]
    assert worst < 3  # 5 s were seen; a busy machine is no failure


def test_failures_are_noted_with_a_number_and_no_secrets(coded: Coded, monkeypatch: pytest.MonkeyPatch) -> None:
    data, _ = coded
    app = create_app(data, [], jobs=False)
    c = TestClient(app, base_url="http://127.0.0.1:8463", headers={"x-kovel": "1"}, raise_server_exceptions=False)
    assert re.fullmatch("[0-9a-f]{12}", c.get("/").headers["x-request-id"])
    monkeypatch.setattr(projects, "create", lambda *_a, **_k: 1 / 0)
    bad = c.post("/projects", data={"name": "a secret name"})
    assert bad.status_code == 500 and "unforeseen" in bad.text
    lines = (data.root / "logs" / "kovel.log").read_text().splitlines()
    (line,) = (noted for noted in lines if json.loads(noted)["status"] == 500)  # a busy machine notes what was slow
    row = json.loads(line)
    assert (
        row["path"] == "/projects"
        and row["status"] == 500
        and "ZeroDivisionError" in row["failed"]
        and "secret" not in line
    )
