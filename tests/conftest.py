"""Shared: a data folder, made recordings (made once for all), projects with prepared recordings."""

import fcntl
import hashlib
import html
import re
import shutil
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from fastapi.testclient import TestClient
from httpx import Response
from hypothesis import settings

from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.demo.project import FOOTAGE
from kovel.services.footage.intake import bring_in
from kovel.services.job_kinds import scheduler_for
from kovel.services.tighten.quick_cuts import find
from kovel.store import jobs, projects, recordings
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from tests import made

settings.register_profile("kovel", deadline=None)  # a busy machine is no failing example
settings.load_profile("kovel")

ROOT = Path(__file__).parent.parent


def once(config: pytest.Config, name: str, make: Callable[[Path], object], *of: Path | str) -> Path:
    """A folder that `make` fills once for all workers and later runs, again when the code changes that has a hand in
    it (`of`: only these files, those of the application by their place in it)."""
    whole = (
        p
        for d in ("core", "media", "store", "jobs", "services")
        for p in (ROOT / "src/kovel" / d).rglob("*.*")
        if "pyc" not in p.suffix
    )
    code = sorted(ROOT / "src/kovel" / p for p in of) if of else sorted(whole)
    key = hashlib.sha256(b"".join(p.read_bytes() for p in (*code, ROOT / "tests/made.py", Path(__file__)))).hexdigest()[
        :16
    ]
    folder = config.cache.mkdir(f"made-{name}")
    with (folder / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (folder / key / "done").exists():
            for old in folder.iterdir():
                if old.is_dir():
                    shutil.rmtree(old)
            (folder / key).mkdir()
            make(folder / key)
            (folder / key / "done").touch()
    return folder / key


@pytest.fixture(scope="session")
def clips(pytestconfig: pytest.Config) -> dict[str, Path]:
    """Three coded recordings: an interview of 40 s, another of 24 s at 50 frames a second, a shot of 12 s."""

    def make(d: Path) -> None:
        made.clip(d / "talk.mov", 1, 1000)
        made.clip(d / "fifty.mov", 2, 1200, Rate(50))
        made.clip(d / "boat.mp4", 3, 300, size=(1280, 720), gop=10)  # its own pictures are shown

    d = once(pytestconfig, "clips", make)
    return {"talk": d / "talk.mov", "fifty": d / "fifty.mov", "boat": d / "boat.mp4"}


@pytest.fixture
def data(tmp_path: Path) -> DataFolder:
    return DataFolder(tmp_path / "data")


def finish(data: DataFolder) -> None:
    """Run this folder's jobs until none is left; fail if one failed."""
    foreman = scheduler_for(data)
    assert foreman.start()
    try:
        while jobs.unfinished(data.db):
            time.sleep(0.05)
    finally:
        foreman.stop()
    assert not jobs.in_state(data.db, "failed"), [j.message for j in jobs.in_state(data.db, "failed")]


@pytest.fixture(scope="session")
def prepared(pytestconfig: pytest.Config, clips: dict[str, Path]) -> Path:
    """A data folder with project 1 and the coded recordings, prepared; to be copied, not changed."""

    def make(d: Path) -> None:
        data = DataFolder(d / "making")
        p = projects.create(data.db, "Coded", "25", "1280x720")
        for name, path in clips.items():
            bring_in(data, p.id, path, name=name, kind="b-roll" if name == "boat" else "interview")
        finish(data)
        data.db.read().execute("PRAGMA wal_checkpoint(TRUNCATE)")
        shutil.copytree(d / "making", d / "data", ignore=shutil.ignore_patterns("*-wal", "*-shm", "lock"))

    return once(pytestconfig, "prepared", make) / "data"


@pytest.fixture
def coded(prepared: Path, tmp_path: Path) -> tuple[DataFolder, dict[str, Recording]]:
    """A copy of the prepared project of one's own, and its recordings by name."""
    shutil.copytree(prepared, tmp_path / "data")
    data = DataFolder(tmp_path / "data")
    return data, {r.name: r for r in recordings.of_project(data.db, 1)}


@pytest.fixture(scope="session")
def spoken_folder(pytestconfig: pytest.Config) -> Path:
    """A data folder with two of the demo's interviews, its music and a shot with sound, prepared and listened to."""

    def make(d: Path) -> None:
        data = DataFolder(d / "making")
        p = projects.create(data.db, "Spoken", "25", "1280x720")
        for name, file, kind in SPOKEN:
            path = FOOTAGE / file
            if kind == "interview":  # its sound alone: pictures take their time
                path = made.sound_of(path, d / f"{name}.wav")
            bring_in(data, p.id, path, name=name, kind=kind)
        finish(data)
        find(data, next(r.id for r in recordings.of_project(data.db, p.id) if r.kind == "music"))
        finish(data)
        data.db.read().execute("PRAGMA wal_checkpoint(TRUNCATE)")
        shutil.copytree(d / "making", d / "data", ignore=shutil.ignore_patterns("*-wal", "*-shm", "lock"))

    return once(pytestconfig, "spoken", make) / "data"


SPOKEN = (
    ("maren", "maren-a.mp4", "interview"),
    ("odile", "odile.mp4", "interview"),
    ("bed", "bed.flac", "music"),
    ("creek", "creek.mp4", "b-roll"),
)


@pytest.fixture
def spoken(spoken_folder: Path, tmp_path: Path) -> tuple[DataFolder, dict[str, Recording]]:
    """A copy of that of one's own, and its recordings by name."""
    shutil.copytree(spoken_folder, tmp_path / "spoken")
    data = DataFolder(tmp_path / "spoken")
    return data, {r.name: r for r in recordings.of_project(data.db, 1)}


@pytest.fixture(scope="session")
def shown_folder(pytestconfig: pytest.Config) -> Path:
    """A data folder with two of the demo's shots and three seconds of two of its speakers, prepared."""

    def make(d: Path) -> None:
        data = DataFolder(d / "making")
        p = projects.create(data.db, "Shown", "25", "1280x720")
        for name, kind in (("bell", "b-roll"), ("rope", "b-roll"), ("maren-a", "interview"), ("tobin", "interview")):
            path = FOOTAGE / f"{name}.mp4"
            if kind == "interview":
                path = made.beginning_of(path, d / f"{name}.mp4", 75)
            bring_in(data, p.id, path, name=name, kind=kind)
        finish(data)
        data.db.read().execute("PRAGMA wal_checkpoint(TRUNCATE)")
        shutil.copytree(d / "making", d / "data", ignore=shutil.ignore_patterns("*-wal", "*-shm", "lock"))

    return once(pytestconfig, "shown", make) / "data"


@pytest.fixture
def shown(shown_folder: Path, tmp_path: Path) -> tuple[DataFolder, dict[str, Recording]]:
    """A copy of it of one's own, and its recordings by name."""
    shutil.copytree(shown_folder, tmp_path / "data")
    data = DataFolder(tmp_path / "data")
    return data, {r.name: r for r in recordings.of_project(data.db, 1)}


@pytest.fixture
def room(coded: tuple[DataFolder, dict[str, Recording]]) -> TestClient:
    """The application over HTTP, as its pages ask it; jobs stay in the queue."""
    app = create_app(coded[0], [], jobs=False)
    return TestClient(app, base_url="http://localhost:8463", headers={"hx-request": "true", "x-kovel": "1"})


def said(r: Response) -> str:
    """What the report line of an answer says."""
    m = re.search(r'<div id="report".*?>(.*?)</div>', r.text, re.S)
    return html.unescape(re.sub(r"<[^>]+>", " ", m[1])).strip() if m else ""


@pytest.fixture
def finished() -> Callable[[DataFolder], None]:
    return finish
