"""Nothing that is finished is ever spoilt: not by a step that is handed out once more and stopped, not by two that
make the same at once; and what is short all the same (an older version's folder, a failing disk) is found, told, and
made again."""

import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from kovel.core.errors import Invalid
from kovel.core.plan.retimed import Retimed
from kovel.data_folder import DataFolder, media_facts
from kovel.jobs.kinds import JobStep, SoFar
from kovel.media import clean, derive, listen, pieces, retimed_sound, soundtrack
from kovel.media.whole_files import MACHINE, left_parts, own_part, placed, standing, written_whole
from kovel.media.wholeness import shortcomings, take_apart
from kovel.services import doctor
from kovel.services.footage import preparing
from kovel.services.footage.intake import prepare
from kovel.services.footage.mending import mend, mend_all
from kovel.services.handoff.rendering import start_output
from kovel.services.job_kinds import scheduler_for
from kovel.store import jobs, stories
from kovel.store.recordings import Recording
from kovel.web.app import create_app
from tests import made
from tests.conftest import finish
from tests.desk import Desk

Coded = tuple[DataFolder, dict[str, Recording]]
PACE = Retimed("", (25, 1), 0, 200, (0, 1), (2, 1), 0, (), False, False, True).to_json()


class Stopped(Exception):
    """As if the step had been killed here."""


@pytest.fixture(scope="module")
def talk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """12 s of coded pictures with sound, in short groups: its own pictures can be shown."""
    path = tmp_path_factory.mktemp("talk") / "talk.mp4"
    made.clip(path, 2, 300, size=(320, 180), gop=10)
    return path


def state(folder: Path) -> dict[str, tuple[int, bytes]]:
    """Every file of a folder: which one it is on the disk, and what is in it."""
    return {
        str(p.relative_to(folder)): (p.stat().st_ino, p.read_bytes()) for p in sorted(folder.rglob("*")) if p.is_file()
    }


def steps_of(src: Path, out: Path) -> dict[str, Callable[[Any], Any]]:
    """Every step that writes into a recording's folder, by its name: a call that takes what is told of its progress."""
    path, folder, rate = str(src), str(out), [25, 1]
    return {
        "sound": lambda told: soundtrack.make_sound(path, folder, rate, True, 300, told),
        "heard sound": lambda told: listen.make_heard_sound(path, folder, rate, True, 300, told),
        "look": lambda told: derive.make_look(path, folder, rate, 300, told),
        "pieces": lambda told: pieces.make_pieces(path, folder, rate, 300, 0, None, told),
        "listen": lambda told: listen.listen(folder, 1, told),
        "pulse": lambda told: listen.pulse(folder, 1, told),
        "clean": lambda told: clean.clean(folder, 1, "clean-0123456789ab", {"low_cut": 80}, told),
        "retime": lambda told: retimed_sound.retime(folder, 1, "pace-0123456789ab", PACE, told),
        "derive": lambda told: derive.derive(path, folder, rate, True, True, 300, told),
        "finish": lambda told: derive.finish(path, folder, rate, True, True, 300, told),
    }


NEEDS = {
    "listen": ["sound"],
    "pulse": ["sound"],
    "clean": ["sound", "listen"],
    "retime": ["sound"],
    "finish": ["sound", "pieces"],
}


@pytest.mark.parametrize(
    "name", ["sound", "heard sound", "look", "pieces", "listen", "pulse", "clean", "retime", "derive"]
)
def test_a_step_that_is_stopped_over_what_another_try_has_finished_leaves_it_alone(
    name: str, talk: Path, tmp_path: Path
) -> None:
    """Two tries at a step: while the first is under way the second makes all of it; then the first is stopped, or
    goes on to its end."""
    for how in ("stopped", "goes on"):
        folder = tmp_path / f"{name} {how}"
        steps = steps_of(talk, folder)
        for before in NEEDS.get(name, ()):
            steps[before](lambda x: None)
        whole: dict[str, tuple[int, bytes]] = {}

        def overtaken(x: float, steps: Any = steps, folder: Path = folder, whole: Any = whole, how: str = how) -> None:
            if whole:
                return
            steps[name](lambda x: None)
            whole.update(
                {k: v for k, v in state(folder).items() if not k.endswith((".part", ".raw")) and "growing-" not in k}
            )
            if how == "stopped":
                raise Stopped

        try:
            steps[name](overtaken)
        except Stopped:
            assert how == "stopped"
        assert whole
        now = state(folder)
        for file, (node, body) in whole.items():
            assert now[file][1] == body, f"{file} was changed"
            assert how == "goes on" or now[file][0] == node, f"{file} was written again"
        steps[name](lambda x: None)  # once more over what is whole: the sound, above all, is not even opened
        for file in ("sound.pcm", "peaks.bin", "power.npy", "made/clean-0123456789ab.pcm"):
            assert file not in whole or state(folder)[file] == now[file]


def test_a_file_is_there_whole_or_not_at_all(tmp_path: Path) -> None:
    path = tmp_path / "a.bin"
    path.write_bytes(b"before")
    with pytest.raises(Stopped), written_whole(path) as part:
        part.write_bytes(b"half")
        assert path.read_bytes() == b"before"
        raise Stopped
    assert path.read_bytes() == b"before" and list(tmp_path.iterdir()) == [path]
    with written_whole(path) as one, written_whole(tmp_path / "b.bin") as other:
        assert one != other
        one.write_bytes(b"after")
        other.write_bytes(b"")
    assert path.read_bytes() == b"after"


def test_a_recording_is_finished_once(talk: Path, tmp_path: Path) -> None:
    """The cause of the silent interviews: while "finish" is out, or has been, no other step is handed out."""
    params = {"path": str(talk), "out": str(tmp_path), "rate": [25, 1], "picture": True, "sound": True, "frames": 300}
    long = {**params, "frames": 90_000}  # so long that it is made in steps
    job = jobs.Job(1, 1, 1, "prepare", long, "working", 0, None, None, "", None)
    last = JobStep("finish", "finish", {}, 1)
    assert preparing.steps(job, SoFar((last,), here=2)) == []
    derive.derive(*params.values(), lambda x: None)  # type: ignore[arg-type]
    before = state(tmp_path)
    assert [s.name for s in preparing.steps(job, SoFar(here=2))] == ["finish"] and preparing.steps(
        job, SoFar((last,), here=2)
    ) == []
    told = derive.finish(*params.values(), lambda x: None)  # type: ignore[arg-type]
    assert told["frames"] == 300 and state(tmp_path) == before


def spoilt(folder: Path, what: str) -> None:
    """What earlier versions, and disks, have left: files that are shorter than media.json says."""
    size = {
        "sound.pcm": 96_000 * 8,
        "peaks.bin": 100,
        "power.npy": 200,
        "proxy.mp4": 5_000,
        "proxy.idx": 40,
        "greys.npy": 300,
        "small-0.jpg": 0,
    }
    with (folder / what).open("r+b") as f:
        f.truncate(size[what])


@pytest.mark.parametrize(
    "what", ["sound.pcm", "peaks.bin", "power.npy", "proxy.mp4", "proxy.idx", "greys.npy", "small-0.jpg"]
)
def test_what_is_short_is_found_and_made_again(what: str, talk: Path, tmp_path: Path) -> None:
    params = (str(talk), str(tmp_path), [25, 1], True, True, 300, lambda x: None)
    derive.derive(*params)
    assert shortcomings(tmp_path) == "" and take_apart(tmp_path) == ""
    good = state(tmp_path)
    spoilt(tmp_path, what)
    short = shortcomings(tmp_path)
    assert short.startswith("its ")
    assert what != "sound.pcm" or short == "its sound had 8.0 of 12.0 s"
    assert take_apart(tmp_path) == short and not (tmp_path / "media.json").exists()
    kept = (
        {"sound.pcm", "peaks.bin", "power.npy"}
        if what not in ("sound.pcm", "peaks.bin", "power.npy")
        else {"proxy.mp4", "proxy.idx"}
    )
    assert all(state(tmp_path)[k] == good[k] for k in kept)  # what is whole is not made again
    derive.derive(*params)
    assert shortcomings(tmp_path) == "" and all(state(tmp_path)[k] == good[k] for k in kept)
    again = state(tmp_path)
    assert again.keys() == good.keys() and again["sound.pcm"][1] == good["sound.pcm"][1]
    assert made.codes(tmp_path / "proxy.mp4") == [(2, n) for n in range(300)]


def test_a_folder_that_an_earlier_version_spoilt_mends_itself_and_says_so(coded: Coded) -> None:
    data, r = coded
    talk = r["talk"]
    folder = data.derived(talk.id)
    assert mend_all(data) == [] and [x.well for x in doctor.examined(data.root) if x.what == "Recordings"] == [True]
    spoilt(folder, "sound.pcm")
    np.save(folder / "levels.npy", np.zeros((800, 3), np.float32))  # listened to as far as it went
    (row,) = [x for x in doctor.examined(data.root) if x.what == "Recordings"]
    assert not row.well and "talk: its sound had 8.0 of 40.0 s" in row.found
    foreman = scheduler_for(data)
    assert foreman.start()
    foreman.stop()
    (job,) = [j for j in jobs.of_project(data.db, 1, "prepare") if j.params.get("mended")]
    finish(data)
    done = jobs.get(data.db, job.id)
    assert done.state == "done" and done.message == "It was prepared again: its sound had 8.0 of 40.0 s."
    assert shortcomings(folder) == "" and (folder / "sound.pcm").stat().st_size == 96_000 * 40
    assert len(np.load(folder / "levels.npy")) == 4_000 and mend_all(data) == []


def test_a_page_that_is_promised_sound_hears_why_it_is_not_there(coded: Coded) -> None:
    data, r = coded
    talk = r["talk"]
    app = create_app(data, [], jobs=False)
    with TestClient(app, base_url="http://localhost:8463", headers={"x-kovel": "1"}) as page:
        asked = {"range": f"bytes={96_000 * 20}-{96_000 * 21 - 1}"}
        assert page.get(f"/media/{talk.id}/sound.pcm", headers=asked).status_code == 206
        spoilt(data.derived(talk.id), "sound.pcm")
        answer = page.get(f"/media/{talk.id}/sound.pcm", headers={**asked, "accept": "application/json"})
        said = "talk is being prepared again: its sound had 8.0 of 40.0 s."
        assert (answer.status_code, answer.json()["error"]) == (503, said)
        facts = page.get(f"/media/{talk.id}/media.json").json()
        assert facts["mended"] == said and not facts["sounded"]
        assert said in page.get("/p/1/footage/list").text
        assert (
            len([j for j in jobs.in_state(data.db, "waiting") if j.kind == "prepare"]) == 1
        )  # however often it is asked


def test_what_is_not_whole_is_not_measured_and_not_delivered(coded: Coded) -> None:
    data, r = coded
    kept = stories.load(data.db, stories.current(data.db, 1))
    stories.edit(data.db, kept.id, kept.revision, "add_at_end", {"source": r["talk"].id, "start": 0, "length": 500})
    spoilt(data.derived(r["talk"].id), "sound.pcm")
    with pytest.raises(Invalid, match=r"talk is being prepared again: its sound had 8.0 of 40.0 s"):
        start_output(data, kept.id)
    assert not jobs.of_project(data.db, 1, "render")


def test_a_step_that_comes_out_short_is_made_again_and_at_last_told(
    coded: Coded, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What a disk loses between the making and the end: found before the recording counts as ready, made again,
    three times."""
    data, r = coded
    folder = data.derived(r["boat"].id)
    shutil.rmtree(folder)
    job = prepare(data, r["boat"])
    foreman = scheduler_for(data, workers=1)
    handed: list[str] = []

    class Cutting(Desk):
        """Makes what is asked for, and loses the end of it."""

        def submit(self, key: str, name: str, params: dict[str, Any], urgency: float = 0, **how: Any) -> None:
            if name != "derive":
                self.answers[key] = {"result": {}}
                return
            handed.append(name)
            self.answers[key] = {"result": derive.derive(**{k: v for k, v in params.items()}, progress=lambda x: None)}
            with (folder / "greys.npy").open("r+b") as f:
                f.truncate(200)

    foreman.places = [Cutting()]
    for _ in range(8):
        foreman.step()
    ended = jobs.get(data.db, job.id)
    assert handed == ["derive"] * 3 and ended.state == "failed"
    assert ended.message == (
        "It did not come out whole, 3 times: its movement was not measured to its end. The disk may be failing; "
        "look at it, then try again."
    )
    assert [json.loads(x)["ended"] for x in (data.logs / "jobs.log").read_text().splitlines()].count("short") == 3
    assert mend(data, r["boat"].id) == "" and not (media_facts(data, r["boat"].id) or {})["whole"]


def test_a_late_try_gives_way_and_a_file_asked_for_anew_replaces_the_old_one(tmp_path: Path) -> None:
    """Two tries at the same, side by side: what was whole first stays, byte for byte; nothing of either is left."""
    final = tmp_path / "film.mp4"
    final.write_bytes(b"of last week")
    before = standing(final)
    quick, late = own_part(final), own_part(final)
    assert quick != late
    quick.write_bytes(b"quick")
    late.write_bytes(b"late")
    assert (
        left_parts(final) == sorted([quick, late]) == left_parts(final, MACHINE) and left_parts(final, "ffffff") == []
    )
    placed(quick, final, before)
    assert final.read_bytes() == b"quick"
    placed(late, final, before)
    assert final.read_bytes() == b"quick" and not left_parts(final)
    stems, made = tmp_path / "stems", tmp_path / "stems.part"
    for folder, body in ((stems, b"old"), (made, b"new")):
        folder.mkdir()
        (folder / "music.wav").write_bytes(body)
    placed(made, stems, standing(stems))
    assert (stems / "music.wav").read_bytes() == b"new" and not made.exists()
    assert standing(tmp_path / "none") is None
