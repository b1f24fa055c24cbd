"""Recordings whose files moved: found again by checksum, renamed or not; another file at their place is told; better
versions."""

import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from click.testing import CliRunner
from fastapi.testclient import TestClient

from kovel.cli import main
from kovel.core.errors import Invalid
from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.services.footage.relinking import Found, offline, search
from kovel.services.handoff.rendering import start_output
from kovel.store import archive_rows, jobs, projects, recordings, stories
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from tests import made
from tests.conftest import finish, said

Coded = tuple[DataFolder, dict[str, Recording]]


def relink(data: DataFolder, project: int, folder: Path, better: bool = False) -> Found:
    """Looked for by a job, as the page and the command line do it."""
    job = search(data, project, folder, better)
    finish(data)
    done = jobs.get(data.db, job.id)
    assert done.result is not None
    return Found.of(done.result)


def away(data: DataFolder, r: Recording, to: Path) -> None:
    """Its file is elsewhere, and its old place empty."""
    to.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy(r.path, to)
    archive_rows.moved_to(data.db, r.id, str(to.parent / "gone" / Path(r.path).name))


def test_every_byte_is_held_against_what_was_brought_in(coded: Coded, tmp_path: Path) -> None:
    """One bit turned in a file of the same size and time is told; so is a file that is gone; by page and command."""
    data, r = coded
    app = TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463", headers={"x-kovel": "1"})
    assert "Every recording is being read." in app.post("/p/1/footage/verify").text
    assert "being verified already" in app.post("/p/1/footage/verify").text
    finish(data)
    page = app.get("/p/1/footage").text
    assert "3 recordings are, byte for byte, as brought in." in page
    for name in ("talk", "boat"):
        copy = tmp_path / Path(r[name].path).name
        shutil.copy2(r[name].path, copy)
        archive_rows.moved_to(data.db, r[name].id, str(copy), copy.stat().st_mtime_ns)
    talk, boat = (Path(recordings.get(data.db, r[name].id).path) for name in ("talk", "boat"))
    stamp, raw = talk.stat(), bytearray(talk.read_bytes())
    raw[len(raw) // 2] ^= 1
    talk.write_bytes(raw)
    os.utime(talk, ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
    boat.unlink()
    done = CliRunner().invoke(main, ["verify", "--data", str(data.root), "--json"])
    told = json.loads(done.stdout)
    assert done.exit_code == 1 and told == {"same": 1, "changed": ["talk"], "unread": ["boat"]}
    page = app.get("/p/1/footage").text
    assert "Another file by now: talk." in page and "Could not be read: boat." in page
    app.post("/p/1/footage/find/stop")
    assert "Another file by now" not in app.get("/p/1/footage").text
    empty = projects.create(data.db, "Empty", "25", "1280x720")
    assert "No recording has a checksum yet" in app.post(f"/p/{empty.id}/footage/verify").text


def test_found_by_checksum_wherever_and_whatever_it_is_called(coded: Coded, tmp_path: Path) -> None:
    data, r = coded
    away(data, r["talk"], tmp_path / "card" / "DCIM" / "renamed.mov")
    away(data, r["boat"], tmp_path / "card" / Path(r["boat"].path).name)
    raw = bytearray((tmp_path / "card" / Path(r["boat"].path).name).read_bytes())
    raw[-1] ^= 1
    (tmp_path / "card" / "a" / Path(r["boat"].path).name).parent.mkdir()
    (tmp_path / "card" / "a" / Path(r["boat"].path).name).write_bytes(raw)  # same name, same size, another film
    away(data, r["fifty"], tmp_path / "elsewhere" / "x.mp4")
    assert {x.name for x in offline(data, 1)} == {"talk", "boat", "fifty"}
    done = relink(data, 1, tmp_path / "card")
    assert dict(done.again)["talk"].endswith("renamed.mov") and dict(done.again)["boat"] == str(
        tmp_path / "card" / Path(r["boat"].path).name
    )
    assert done.missing == ("fifty",) and done.said == "2 found again, 1 still missing"
    with pytest.raises(Invalid, match="no files"):
        (tmp_path / "empty").mkdir()
        relink(data, 1, tmp_path / "empty")
    assert relink(data, 1, tmp_path / "elsewhere").missing == () and not offline(data, 1)


def test_another_film_at_its_place_is_not_rendered(coded: Coded, tmp_path: Path) -> None:
    data, r = coded
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": 0, "length": 30})
    there = tmp_path / "talk.mp4"
    shutil.copy(r["boat"].path, there)
    archive_rows.moved_to(data.db, r["talk"].id, str(there))
    with pytest.raises(Invalid, match="talk is another file now"):
        start_output(data, 1)


def test_a_better_version_takes_its_place_if_it_is_the_same_recording(
    coded: Coded, finished: Callable[[DataFolder], None], tmp_path: Path
) -> None:
    data, r = coded
    name = Path(r["boat"].path).stem
    made.clip(
        tmp_path / "good" / f"{name}.mov", 3, r["boat"].frames or 0, Rate(25), (480, 270), sound=r["boat"].sound
    ) if (tmp_path / "good").mkdir() is None else None
    (tmp_path / "short").mkdir()
    made.clip(tmp_path / "short" / f"{name}.mov", 3, 50, Rate(25), sound=r["boat"].sound)
    kept = relink(data, 1, tmp_path / "short", better=True)
    assert not kept.better and "lasts 50 frames" in kept.left[0]
    done = relink(data, 1, tmp_path / "good", better=True)
    assert dict(done.better) == {"boat": str(tmp_path / "good" / f"{name}.mov")}
    finished(data)
    now = recordings.get(data.db, r["boat"].id)
    assert (
        (now.width, now.height, now.ready) == (480, 270, True) and now.checksum and now.checksum != r["boat"].checksum
    )


def test_on_the_page(room: TestClient, coded: Coded, tmp_path: Path) -> None:
    data, r = coded
    assert "off-line." not in room.get("/p/1/footage/list").text
    away(data, r["talk"], tmp_path / "talk2.mov")
    assert "1 recording is off-line." in room.get("/p/1/footage/list").text
    assert "lies outside the folders" in said(room.post("/p/1/footage/find", data={"path": str(tmp_path)}))
    assert "Type the path" in said(room.post("/p/1/footage/find"))
    # within a folder that is allowed: a job, told while it looks and when it has looked, until that is put away
    web = TestClient(
        create_app(data, [tmp_path], jobs=False),
        base_url="http://localhost:8463",
        headers={"hx-request": "true", "x-kovel": "1"},
    )
    assert "is being looked through" in said(web.post("/p/1/footage/find", data={"path": str(tmp_path)}))
    assert "looking through" in web.get("/p/1/footage/list").text
    assert "already" in said(web.post("/p/1/footage/find", data={"path": str(tmp_path)}))
    assert "Stopped" in said(web.post("/p/1/footage/find/stop"))
    assert web.post("/p/1/footage/find/stop").status_code == 404
    web.post("/p/1/footage/find", data={"path": str(tmp_path)})
    finish(data)
    shown = web.get("/p/1/footage/list").text
    assert "1 found again. talk is at talk2.mov now." in shown and "off-line." not in shown
    assert (
        "Put away" in said(web.post("/p/1/footage/find/stop"))
        and "found again" not in web.get("/p/1/footage/list").text
    )


def test_on_the_command_line(coded: Coded, tmp_path: Path) -> None:
    data, r = coded
    away(data, r["talk"], tmp_path / "there" / "x.mov")
    away(data, r["boat"], tmp_path / "elsewhere" / "y.mov")
    told = CliRunner().invoke(main, ["relink", str(tmp_path / "there"), "--data", str(data.root), "--json"])
    value = json.loads(told.output)
    assert value["found"] == {"talk": str(tmp_path / "there" / "x.mov")} and value["missing"] == ["boat"]
    (tmp_path / "none").mkdir()
    told = CliRunner().invoke(main, ["relink", str(tmp_path / "none"), "--data", str(data.root)])
    assert told.exit_code == 1 and "no files in none" in told.output
