"""Jobs end once: by attempt, their result applied together with the end; a stopped try cannot end the next one."""

import errno
import json
import shutil
import sqlite3
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import av
import numpy as np
import pytest
from bench import faults

from kovel.core.errors import Invalid
from kovel.core.plan.outputs import Output
from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.jobs.kinds import Hold, JobKind, Outcome
from kovel.jobs.scheduler import Scheduler
from kovel.jobs.workplaces import answered
from kovel.media.child import call
from kovel.media.encode import PictureFile
from kovel.media.files import NoRoom, Unusable, refused
from kovel.services.footage.intake import prepare
from kovel.services.job_kinds import scheduler_for
from kovel.store import jobs, projects, recordings, stories
from kovel.store.db import Database
from kovel.store.jobs import JobState
from tests.desk import Desk


def until(what: Callable[[], bool]) -> None:
    end = time.monotonic() + 60
    while not what():
        assert time.monotonic() < end
        time.sleep(0.05)


@pytest.fixture
def foreman(data: DataFolder) -> Scheduler:
    f = scheduler_for(data)
    f.places = [Desk()]
    projects.create(data.db, "Ferry")
    return f


def noted(data: DataFolder) -> list[dict[str, Any]]:
    """What logs/jobs.log says of the calls that ended."""
    return [json.loads(x) for x in (data.logs / "jobs.log").read_text().splitlines()]


FACTS = {
    "size": 1,
    "rate": [25, 1],
    "frames": 100,
    "picture": True,
    "sound": False,
    "width": 16,
    "height": 9,
    "channels": 1,
    "start_timecode": "",
    "remarks": [],
}


def test_a_stopped_try_does_not_end_the_next_one(data: DataFolder, foreman: Scheduler) -> None:
    desk: Any = foreman.places[0]
    job = jobs.add(data.db, 1, "render", {"out": "x.mp4"})
    foreman.step()
    (first,) = desk.out
    with pytest.raises(Invalid, match="under way"):
        jobs.again(data.db, job.id)  # a second tab, a double click
    jobs.end(data.db, job.id, "cancelled")
    jobs.again(data.db, job.id)
    foreman.step()
    assert desk.told == [first] and desk.out == [first]  # not begun again while the first one still ends
    desk.answers[first] = {"result": {"path": "old"}}
    foreman.step()
    foreman.step()
    assert jobs.get(data.db, job.id).state == "working" and len(desk.out) == 2 and desk.out[1] != first
    desk.answers[desk.out[1]] = {"result": {"path": "new"}}
    foreman.step()
    done = jobs.get(data.db, job.id)
    assert (done.state, done.result, desk.answers) == ("done", {"path": "new"}, {})
    rows = noted(data)
    assert [(x["job"], x["attempt"], x["ended"]) for x in rows] == [
        (job.id, 1, "done, passed over"),
        (job.id, 2, "done"),
    ]
    assert all(x["kind"] == "render" and x["seconds"] >= 0 and x["at"].endswith("Z") for x in rows)


def test_a_result_that_cannot_be_kept_is_tried_again_and_then_told(
    data: DataFolder, foreman: Scheduler, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk: Any = foreman.places[0]
    r = recordings.add(data.db, 1, "/a.mov", "a", "interview", FACTS)
    job = prepare(data, r)
    foreman.step()
    desk.answers[desk.out[0]] = {"result": {"checksum": "c" * 64, "frames": 99}}
    broken = True
    real = jobs.end

    def end(*a: Any, **k: Any) -> None:
        real(*a, **k)
        if broken and a[2] == "done":
            raise OSError("the disk is full")

    monkeypatch.setattr("kovel.jobs.scheduler.jobs.end", end)
    for _ in range(3):
        with pytest.raises(OSError):
            foreman.step()
        assert (
            not recordings.get(data.db, r.id).checksum and jobs.get(data.db, job.id).state == "working"
        )  # both, or neither
    broken = False
    foreman.step()
    assert recordings.get(data.db, r.id).checksum and jobs.get(data.db, job.id).state == "done"
    other = prepare(data, r)
    foreman.step()
    broken = True
    desk.answers[desk.out[-1]] = {"result": {"checksum": "d" * 64, "frames": 99}}
    for _ in range(4):
        with pytest.raises(OSError):
            foreman.step()
    foreman.step()
    ended = jobs.get(data.db, other.id)
    assert ended.state == "failed" and "could not be kept" in ended.message and not foreman._out
    assert [(x["job"], x["ended"]) for x in noted(data)] == [
        (job.id, "done"),
        (other.id, "done"),
        (other.id, "not kept"),
    ]
    assert "could not be kept" in noted(data)[-1]["why"]


def test_what_the_stories_show_is_prepared_first(data: DataFolder, foreman: Scheduler, tmp_path: Path) -> None:
    desk: Any = foreman.places[0]
    rows = [recordings.add(data.db, 1, f"/{k}.mov", f"r{k}", "interview", FACTS) for k in range(4)]
    made = [prepare(data, r) for r in rows]
    stories.edit(data.db, 1, None, "add_at_end", {"source": rows[3].id, "start": 0, "length": 20})
    foreman.step()
    assert [k.split(".")[0] for k in desk.out] == [str(made[3].id), str(made[0].id)]


def test_what_the_disk_holds_up_waits_says_why_and_goes_on_by_itself(
    data: DataFolder, foreman: Scheduler, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk: Any = foreman.places[0]
    job = jobs.add(data.db, 1, "render", {"out": "x.mp4"})
    foreman.step()
    desk.answers[desk.out[0]] = {"held": "The disk is full. Make room on it: it goes on by itself."}
    foreman.step()
    now = jobs.get(data.db, job.id)
    assert now.state == "waiting" and "goes on by itself" in now.message and len(desk.out) == 1
    foreman.step()
    assert len(desk.out) == 1  # not at once
    monkeypatch.setattr(foreman, "_held", {})  # the time is over
    foreman.step()
    assert len(desk.out) == 2 and jobs.get(data.db, job.id).message == ""
    desk.answers[desk.out[1]] = {"result": {"path": "x.mp4"}}
    foreman.step()
    assert jobs.get(data.db, job.id).state == "done" and [x["ended"] for x in noted(data)] == ["held", "done"]


def test_a_call_that_cannot_be_begun_is_begun_again(
    data: DataFolder, foreman: Scheduler, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk: Any = foreman.places[0]
    job = jobs.add(data.db, 1, "render", {"out": str(data.root / "x.mp4")})

    def none_left(*_: object, **how: object) -> None:
        raise RuntimeError("can't start new thread")

    with monkeypatch.context() as m:
        m.setattr(desk, "submit", none_left)
        for _ in range(2):
            with pytest.raises(RuntimeError):
                foreman.step()
    assert jobs.get(data.db, job.id).state == "working" and not desk.out
    foreman.step()
    foreman.step()
    assert len(desk.out) == 1 and jobs.get(data.db, job.id).attempt == 1  # once
    assert [x["ended"] for x in noted(data)] == ["lost", "lost"]


def test_what_is_lost_is_made_again_and_a_late_answer_counts_for_nothing(data: DataFolder, foreman: Scheduler) -> None:
    """Nobody knows what became of a call: it is made again. What an earlier try has begun to write is swept away."""
    here, there = foreman.places = [Desk(1), Desk(2, is_here=False, reaches=str(data.root))]
    film = jobs.add(data.db, 1, "render", {"out": str(data.root / "a.mp4")})
    elsewhere = jobs.add(data.db, 1, "render", {"out": "/elsewhere/b.mp4"})
    foreman.step()
    (first,), begun = there.out, data.root / "a.mp4.1d6f40-4711.0a.part"
    assert [k.split(".")[0] for k in here.out] == [str(elsewhere.id)]  # the others do not reach its files
    begun.touch()
    there.answers[first] = {"lost": "its machine is gone"}
    there.slots = 0  # the cluster is away
    here.answers[here.out[0]] = {"result": {"path": "b"}}
    foreman.step()
    foreman.step()
    again = here.out[-1]
    assert not begun.exists() and again.split(".")[0] == str(film.id) and again != first
    there.answers[first] = {"result": {"path": "late"}}
    foreman.step()
    assert jobs.get(data.db, film.id).state == "working"
    begun.touch()  # by a machine that went down, whose call its cluster gave on
    here.answers[again] = {"result": {"path": "by another"}}
    foreman.step()
    assert not begun.exists()
    assert jobs.get(data.db, film.id).result == {"path": "by another"}
    assert [(x["job"], x["ended"], x.get("where")) for x in noted(data)] == [
        (film.id, "lost", "anna"),
        (elsewhere.id, "done", None),
        (film.id, "done", None),
    ]


def test_what_is_swept_away_at_the_end_is_never_another_jobs(data: DataFolder, foreman: Scheduler) -> None:
    """A film is stopped and asked for again at once, under the same name: as the first one ends, what the second has
    begun stays."""
    desk: Any = foreman.places[0]
    first = jobs.add(data.db, 1, "render", {"out": str(data.root / "a.mp4")})
    foreman.step()
    jobs.end(data.db, first.id, "cancelled")
    second = jobs.add(data.db, 1, "render", {"out": str(data.root / "a.mp4")})
    foreman.step()
    begun = data.root / "a.mp4.1d6f40-4711.0a.part"
    begun.touch()
    desk.answers[desk.out[0]] = {"cancelled": True}
    foreman.step()
    assert begun.exists() and len(desk.out) == 2
    desk.answers[desk.out[1]] = {"result": {"path": "a.mp4"}}
    foreman.step()
    assert not begun.exists() and jobs.get(data.db, second.id).is_done


def test_copies_stay_at_home_and_what_waits_is_shared_out(data: DataFolder, foreman: Scheduler) -> None:
    here, there = foreman.places = [Desk(2), Desk(3, is_here=False)]
    for kind in ("copy", "copy", "render", "render", "render", "render"):
        jobs.add(data.db, 1, kind, {"out": str(data.root / kind)})
    foreman.step()
    assert {here.asked[k][0] for k in here.out} == {"copy"} and len(here.out) == 2
    assert [there.asked[k][0] for k in there.out] == ["render"] * 3
    here.answers[here.out[0]] = {"unusable": "It is damaged."}
    foreman.step()
    assert here.asked[here.out[-1]][0] == "render"  # what waits comes here as well


def test_a_database_that_could_not_be_written_is_opened_anew(data: DataFolder) -> None:
    """A connection that was opened while the disk was read only stays so, by itself; one whose end fails keeps
    nothing open."""
    sid = stories.current(data.db, projects.create(data.db, "P").id)
    stuck = data.db.read()
    stuck.execute("PRAGMA query_only = 1")
    for _ in range(2):
        with pytest.raises(sqlite3.OperationalError, match="readonly"):
            stories.edit(data.db, sid, None, "insert_space", {"at": 0, "length": 10})
        stories.edit(data.db, sid, None, "insert_space", {"at": 0, "length": 10})
        data.db.read().execute("PRAGMA query_only = 1")
    assert data.db.read() is not stuck and stories.load(data.db, sid).revision == 2
    data.db.read().execute("PRAGMA query_only = 0")
    with pytest.raises(RuntimeError), data.db.write():
        stories.edit(data.db, sid, None, "insert_space", {"at": 0, "length": 10})  # part of what is taken back
        raise RuntimeError
    kept, _ = stories.edit(data.db, sid, None, "insert_space", {"at": 0, "length": 7})
    assert kept.revision == 3 and kept.story.length == stories.load(Database(data.db.path), sid).story.length == 27


def test_it_goes_on_by_itself_after_every_fault_of_the_disk(tmp_path: Path) -> None:
    """The harness of bench/faults.py, shortly."""
    if not shutil.which("gcc"):
        pytest.skip("the library that stands for the disk is made by gcc")
    kept = faults.run(tmp_path, 4)
    assert kept.wrong == [] and kept.done["refused"] > 3 and kept.done["edit"] > 0


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A file system of 300 kB."""
    folder = tmp_path / "small"
    folder.mkdir()
    if subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=300k", "none", str(folder)], capture_output=True, check=False
    ).returncode:
        pytest.skip("file systems are mounted by root")
    yield folder
    subprocess.run(["umount", "-l", str(folder)], check=True)


def test_a_disk_that_is_really_full_is_no_fault_of_the_file(small_disk: Path, clips: dict[str, Path]) -> None:
    """Whether it was seen before or amid a film: it can be made once there is room, so it waits and does not fail."""
    pictures = np.random.default_rng(1)
    film = PictureFile(small_disk / "p.part", Output(), (640, 360), Rate(25))
    with pytest.raises(OSError) as full:
        for _ in range(400):
            film.add(av.VideoFrame.from_ndarray(pictures.integers(0, 255, (540, 640), np.uint8), "yuv420p"))
        film.finish()
    told = refused(full.value)
    assert isinstance(told, NoRoom) and told.what == "The disk is full." and str(told).endswith("then try again.")
    out = {"path": str(clips["talk"]), "out": str(small_disk), "rate": [25, 1], "picture": True, "frames": 1000}
    with pytest.raises(NoRoom, match="There is no room"):
        call("make_heard_sound", out)
    for number, kind in ((errno.EROFS, NoRoom), (errno.EIO, NoRoom), (errno.ENAMETOOLONG, Unusable)):
        assert type(refused(OSError(number, "x"))) is kind
    assert "goes on by itself" in answered(lambda: call("make_heard_sound", out))["held"]
    assert "unusable" in answered(lambda: call("probe", {"path": str(small_disk / "none.mov")}))


def test_what_somebody_waits_for_finds_a_place_whatever_goes_on(data: DataFolder, foreman: Scheduler) -> None:
    """Two workers: of what takes long one at a time; with both at work, a sound that was brought in begins all the
    same."""
    desk: Any = foreman.places[0]
    for n in range(2):
        jobs.add(data.db, 1, "meaning", {"out": f"/m{n}", "texts": f"/t{n}"})
    foreman.step()
    assert len(desk.out) == 1  # the other one waits
    for n in range(3):
        jobs.add(data.db, 1, "listen", {"out": f"/l{n}"})
    foreman.step()
    assert len(desk.out) == 2
    long = FACTS | {"sound": True, "frames": 90_000}
    for n in range(2):
        prepare(data, recordings.add(data.db, 1, f"/{n}.mov", f"r{n}", "interview", long), own=0)
    foreman.step()
    foreman.step()
    assert len(desk.out) == 3 and " sound " in desk.out[-1]  # and the next one when a place is free
    desk.answers[desk.out[1]] = {"result": {"seconds": 1}}
    foreman.step()
    assert len(desk.out) == 4 and (" look " in desk.out[-1] or " sound " in desk.out[-1])


def test_beside_what_a_recording_opens_with_other_work_goes_on(data: DataFolder, foreman: Scheduler) -> None:
    """Two workers and the spare one: sound and look, and the first pieces of the picture."""
    desk: Any = foreman.places[0]
    prepare(
        data, recordings.add(data.db, 1, "/a.mov", "a", "interview", FACTS | {"sound": True, "frames": 90_000}), own=0
    )
    foreman.step()
    assert [k.split()[1] for k in desk.out] == ["sound", "look", "pieces"]


@pytest.mark.parametrize("begun", [False, True])
def test_words_do_not_wait_for_a_sound_that_never_comes(data: DataFolder, foreman: Scheduler, begun: bool) -> None:
    """Found by a thousand kills: a recording that could not be prepared, and a transcription that waited for it for
    ever."""
    desk: Any = foreman.places[0]
    r = recordings.add(data.db, 1, "/a.wav", "a", "interview", FACTS | {"sound": True})
    folder = data.derived(r.id)
    folder.mkdir(parents=True)
    (folder / "sound.pcm").write_bytes(bytes(200_000_000 if begun else 2))
    prepared = prepare(data, r)
    job = jobs.add(data.db, 1, "transcribe", {"out": str(folder)}, r.id)
    foreman.step()
    foreman.step()  # its sound is under way now
    assert jobs.get(data.db, job.id).state == ("working" if begun else "waiting")
    jobs.end(data.db, prepared.id, "failed", "The disk is full.")
    foreman.step()
    told = jobs.get(data.db, job.id)
    assert told.state == "failed" and "Its sound is not there: The disk is full. Try again in Footage" in told.message
    foreman.step()
    assert desk.out and {*desk.told} == {*desk.out}  # what is under way is stopped


def test_a_new_kind_of_job_is_one_entry(data: DataFolder, clips: dict[str, Path]) -> None:
    """Its call, how urgent it is, why it waits and what becomes of its result; and a kind that nobody knows is said,
    not tried for ever."""
    ready: list[int] = []
    counted = JobKind(
        "counted",
        "probe",
        take=lambda data, job, result: Outcome(f"{result['frames']} frames", {"frames": result["frames"]}),
        hold=lambda data, job: (
            None if job.id in ready else Hold("No such clip.") if job.params["path"] == "none" else Hold()
        ),
    )
    projects.create(data.db, "P")
    waits, never = (jobs.add(data.db, 1, "counted", {"path": path}) for path in (str(clips["boat"]), "none"))
    unknown = jobs.add(data.db, 1, "from a later version", {})
    scheduler = Scheduler(data, [counted], workers=1)
    assert scheduler.start()
    try:
        until(lambda: not jobs.get(data.db, unknown.id).is_open and not jobs.get(data.db, never.id).is_open)
        assert jobs.get(data.db, waits.id).state is JobState.WAITING
        ready.append(waits.id)
        until(lambda: not jobs.get(data.db, waits.id).is_open)
    finally:
        scheduler.stop()
    done = jobs.get(data.db, waits.id)
    assert (done.state, done.message, done.result) == (JobState.DONE, "300 frames", {"frames": 300})
    assert jobs.get(data.db, never.id).message == "No such clip."
    assert "A newer version of Kovel started this (“from a later version”)" in jobs.get(data.db, unknown.id).message
