"""Workers on other machines, by a real Redis: who is gone is noticed, what he had goes to another, each result
counts once."""

import itertools
import json
import os
import secrets
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st
from redis import Redis

from kovel.cli.worker_commands import worker as worker_command
from kovel.data_folder import DataFolder
from kovel.jobs import remote_worker
from kovel.jobs.call_queue import Plain
from kovel.jobs.remote_workers import (
    CREW,
    EPOCH,
    SERVER,
    TOKEN,
    Crew,
    Unfit,
    form,
    kept_token,
    linked,
    queue_of,
    without_secret,
)
from kovel.jobs.scheduler import Scheduler
from kovel.jobs.shared_folders import Shared, moved, parsed, paths_of, reached
from kovel.media.files import Unusable
from kovel.services.footage.intake import prepare
from kovel.services.handoff import rendering
from kovel.services.job_kinds import scheduler_for
from kovel.store import jobs, projects, recordings, stories
from kovel.store.recordings import Recording
from tests.test_jobs import FACTS, Desk, noted

pytestmark = pytest.mark.skipif(sys.platform != "linux", reason="Debian's redis-server")
LEASE = 2.0


@dataclass
class Server:
    """A Redis of one's own."""

    folder: Path
    port: int = 0
    secret: str = field(default_factory=lambda: secrets.token_hex(8))
    process: subprocess.Popen[bytes] | None = None

    def url(self, host: str = "127.0.0.1") -> str:
        return f"redis://:{self.secret}@{host}:{self.port}/0"

    def start(self) -> None:
        if not self.port:
            with socket.socket() as s:
                s.bind(("127.0.0.1", 0))
                self.port = s.getsockname()[1]
        told = [
            "--port",
            str(self.port),
            "--bind",
            "0.0.0.0",
            "--requirepass",
            self.secret,
            "--save",
            "",
            "--dir",
            str(self.folder),
        ]
        self.process = subprocess.Popen(["redis-server", *told], stdout=subprocess.DEVNULL)
        until(lambda: self.answers(), "Redis answers")

    def answers(self) -> bool:
        try:
            return bool(Redis.from_url(self.url()).ping())
        except Exception:
            return False

    def kill(self) -> None:
        if self.process:
            self.process.kill()
            self.process.wait()


def until(done: Callable[[], Any], what: str, most: float = 120) -> Any:
    end = time.monotonic() + most
    while not (found := done()):
        assert time.monotonic() < end, f"never: {what}"
        time.sleep(0.02)
    return found


@pytest.fixture(scope="module")
def kept_redis(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    server = Server(tmp_path_factory.mktemp("redis"))
    server.start()
    yield server
    server.kill()


@pytest.fixture
def redis(kept_redis: Server) -> Server:
    if not kept_redis.answers():
        kept_redis.start()
    Redis.from_url(kept_redis.url()).flushall()
    return kept_redis


class Worker:
    """Stands in for a worker: lives by hand, and answers what the test says."""

    def __init__(self, url: str, name: str, roots: list[str], slots: int = 1) -> None:
        self.name, self.count = name, itertools.count()
        self.redis = Redis(connection_pool=linked(url, text=True))
        self.queue = queue_of(linked(url), name)
        self.who = {"epoch": self.redis.get(EPOCH), "slots": slots, "node": f"machine of {name}", "roots": roots}
        self.beat()

    def beat(self) -> None:
        self.redis.hset(CREW, self.name, json.dumps({**self.who, "beat": next(self.count)}))

    def asked(self) -> tuple[str, str, dict[str, Any]] | None:
        task = self.queue.huey.dequeue()
        return task.args if task else None

    def answer(self, key: str, **told: Any) -> None:
        self.queue.huey.put(f"answer {key}", told)

    def told_to_stop(self, key: str) -> bool:
        return self.queue.huey.get(f"cancel {key}", peek=True) is not None


@pytest.fixture
def foreman(data: DataFolder, redis: Server, monkeypatch: pytest.MonkeyPatch) -> Iterator[Scheduler]:
    monkeypatch.setattr("kovel.jobs.scheduler.begin", lambda *a: None)
    crew = Crew(redis.url(), data.root, lease=LEASE)
    f = scheduler_for(data, workers=1, crew=crew)
    f.queue = Desk()  # type: ignore[assignment]
    crew.start()
    projects.create(data.db, "Ferry")
    until(lambda: crew.settled, "settled")
    yield f
    crew.stop()


def seen(foreman: Scheduler, n: int) -> None:
    until(lambda: foreman.crew and len(foreman.crew.hands) == n, f"{n} workers")


def test_who_is_free_gets_it_and_each_result_counts_once(data: DataFolder, redis: Server, foreman: Scheduler) -> None:
    """Copies stay at home; what one worker cannot reach, and a second transcription, stays with those that can."""
    anna = Worker(redis.url(), "anna", [str(data.root)], slots=3)
    seen(foreman, 1)
    film = jobs.add(data.db, 1, "render", {"out": str(data.root / "a.mp4"), "path": str(data.root / "x")})
    outside = jobs.add(data.db, 1, "render", {"out": "/elsewhere/b.mp4"})
    foreman.step()
    key, call, params = until(anna.asked, "asked")
    assert (call, params["out"], key.split(".")[0]) == ("render", str(data.root / "a.mp4"), str(film.id))
    desk: Any = foreman.queue
    assert [k.split(".")[0] for k in desk.out] == [str(outside.id)] and anna.asked() is None
    anna.answer(key, result={"path": "done by anna"})
    anna.beat()
    foreman.step()
    foreman.step()
    assert jobs.get(data.db, film.id).result == {"path": "done by anna"}
    assert [(x["job"], x["where"]) for x in noted(data)] == [(film.id, "machine of anna")]
    assert anna.queue.result(key) is None  # taken, once
    copy = jobs.add(data.db, 1, "copy", {"out": str(data.root / "copied")})
    foreman.step()
    assert anna.asked() is None and jobs.get(data.db, copy.id).state == "waiting"  # its own worker is busy still
    jobs.end(data.db, outside.id, "cancelled")
    foreman.step()
    assert len(desk.told) == 1 and jobs.get(data.db, copy.id).state == "waiting"


def test_what_a_lost_worker_had_goes_to_another_and_his_answer_is_passed_over(
    data: DataFolder, redis: Server, foreman: Scheduler
) -> None:
    desk: Any = foreman.queue
    here = jobs.add(data.db, 1, "render", {"out": "/elsewhere/b.mp4"})  # keeps this machine's own worker
    foreman.step()
    anna = Worker(redis.url(), "anna", [str(data.root)])
    seen(foreman, 1)
    film = jobs.add(data.db, 1, "render", {"out": str(data.root / "a.mp4")})
    long = recordings.add(data.db, 1, str(data.root / "a.mov"), "a", "interview", {**FACTS, "frames": 40_000})
    begun = data.root / "a.mp4.4711.part"
    foreman.step()
    first = until(anna.asked, "asked")[0]
    begun.touch()
    bert = Worker(redis.url(), "bert", [str(data.root)])

    def gone() -> bool:
        bert.beat()
        foreman.step()
        return len(desk.out) == 1 and not any(o.hand.name == "anna" for o in foreman._out.values())

    began = time.monotonic()
    until(gone, "anna is gone")
    assert time.monotonic() - began > LEASE and not begun.exists()
    foreman.step()
    second = until(bert.asked, "given to bert")[0]
    assert second != first and jobs.get(data.db, film.id).attempt == 2
    anna.answer(first, result={"path": "late"})
    foreman.step()
    assert jobs.get(data.db, film.id).state == "working"
    bert.answer(second, result={"path": "by bert"})
    bert.beat()
    foreman.step()
    assert jobs.get(data.db, film.id).result == {"path": "by bert"}
    assert [(x["job"], x["ended"], x["where"]) for x in noted(data)] == [
        (film.id, "lost", "machine of anna"),
        (film.id, "done", "machine of bert"),
    ]
    anna.beat()  # back, but under a name that is gone
    time.sleep(0.3)
    assert foreman.crew and "anna" not in foreman.crew.hands
    # a step of a preparation that is lost is given out again, within the same try
    prepare(data, long)
    bert.beat()
    foreman.step()
    step = until(bert.asked, "a step")
    bert.redis.hdel(CREW, "bert")  # it ended, and said so
    seen(foreman, 0)
    cleo = Worker(redis.url(), "cleo", [str(data.root)])
    seen(foreman, 1)
    foreman.step()
    again = until(cleo.asked, "the step again")
    assert step[1:] == again[1:] and step[0] != again[0] and step[0].split(" ")[0] == again[0].split(" ")[0]
    assert jobs.get(data.db, here.id).state == "working"


def test_a_redis_that_begins_anew_or_does_not_answer_loses_nothing(
    data: DataFolder, redis: Server, foreman: Scheduler
) -> None:
    anna = Worker(redis.url(), "anna", [str(data.root)])
    seen(foreman, 1)
    crew, desk = foreman.crew, foreman.queue
    assert crew is not None and isinstance(desk, Desk)
    film = jobs.add(data.db, 1, "render", {"out": str(data.root / "a.mp4")})
    foreman.step()
    until(anna.asked, "asked")
    before = crew.epoch
    redis.kill()
    until(lambda: crew.away, "Redis is away")
    other = jobs.add(data.db, 1, "render", {"out": str(data.root / "b.mp4")})
    foreman.step()
    assert [k.split(".")[0] for k in desk.out] == [str(other.id)] and jobs.get(data.db, film.id).state == "working"
    redis.start()
    until(lambda: crew.epoch != before, "it is told to be another start")
    assert Redis.from_url(redis.url()).get(EPOCH).decode() == crew.epoch
    bert = Worker(redis.url(), "bert", [str(data.root)])

    def given() -> Any:
        bert.beat()
        foreman.step()
        return bert.asked()

    assert until(given, "given to bert")[2]["out"] == str(data.root / "a.mp4")
    assert jobs.get(data.db, film.id).attempt == 2


def test_a_server_takes_its_queue_back_only_once_nobody_works_for_its_earlier_start(
    data: DataFolder, redis: Server
) -> None:
    first = Crew(redis.url(), data.root, lease=LEASE)
    first.start()
    anna = Worker(redis.url(), "anna", [str(data.root)])
    until(lambda: first.hands, "anna")
    with pytest.raises(Unfit, match=r"queue of another Kovel.*redis://HOST/1"):
        Crew(redis.url(), data.root / "other").look_first()
    first._stop.set()  # as if it was killed: it says nothing more
    second = Crew(redis.url(), data.root, lease=LEASE)
    second.start()
    time.sleep(4 * LEASE / 20)
    assert not second.settled and not second.hands and second.epoch != first.epoch
    anna.redis.hdel(CREW, "anna")
    until(lambda: second.settled, "settled", 2 * LEASE)
    second.stop()
    assert anna.redis.get(SERVER) is None  # workers end at once
    with pytest.raises(Unfit, match=r"redis://127\.0\.0\.1:1/0 cannot be used"):
        Crew("redis://:secret@127.0.0.1:1/0", data.root).look_first()
    with pytest.raises(Unfit, match="no address of a queue"):
        Crew("http://127.0.0.1/", data.root)
    assert "secret" not in without_secret("redis://:secret@there:6379/2")


def test_a_server_that_takes_over_while_redis_is_away_tries_again(
    data: DataFolder, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The lock of the folder is let go with the queue that could not be had: the next try gets both."""
    monkeypatch.setattr("kovel.jobs.scheduler.begin", lambda *a: None)
    foreman = scheduler_for(data, workers=1, crew=Crew("redis://127.0.0.1:1/0", data.root))
    for _ in range(2):
        with pytest.raises(Unfit, match="cannot be used"):
            foreman.start()
    alone = scheduler_for(data, workers=1)
    assert alone.start()
    alone.stop()


def test_a_worker_of_another_version_or_without_the_folders_is_refused(
    data: DataFolder, tmp_path: Path, redis: Server
) -> None:
    footage = tmp_path / "footage"
    footage.mkdir()
    server = {
        "node": "anna",
        "form": form(),
        "roots": [str(data.root), str(footage)],
        "lease": 5,
        "token": kept_token(data.root),
    }
    assert kept_token(data.root) == server["token"] != kept_token(footage)
    assert remote_worker.fitting(server, (str(data.root),)).pairs == ((str(data.root), str(data.root)),)
    link = tmp_path / "mounted"
    link.symlink_to(data.root)
    pairs = remote_worker.fitting(server, (f"{data.root}={link}", str(footage))).pairs
    assert pairs == ((str(data.root), str(link)), (str(footage), str(footage)))
    with pytest.raises(Unfit, match="Install the same here"):
        remote_worker.fitting({**server, "form": "0.0.1 (00000000)"}, (str(data.root),))
    with pytest.raises(Unfit, match="is not the server's"):
        remote_worker.fitting({**server, "token": kept_token(tmp_path)}, (str(data.root),))
    (data.root / TOKEN).write_text("")
    with pytest.raises(Unfit, match="is not the server's"):
        remote_worker.fitting(server, (str(data.root),))
    for media in ((), (str(footage),), (f"{data.root}=/nowhere",)):
        with pytest.raises(Unfit, match="is not shared"):
            remote_worker.fitting(server, media)
    crew = Crew(redis.url(), data.root, lease=LEASE)
    crew.start()
    try:
        p = subprocess.run(
            [sys.executable, "-m", "kovel", "worker", "--media", str(footage)],
            capture_output=True,
            text=True,
            env={**os.environ, "KOVEL_QUEUE": redis.url()},
            check=False,
        )
    finally:
        crew.stop()
    assert (
        p.returncode == remote_worker.REFUSED
        and f"{data.root} is not shared" in p.stderr
        and redis.secret not in p.stderr
    )
    told = CliRunner().invoke(worker_command, ["--queue", "nonsense"])
    assert isinstance(told.exception, Unfit)


# --- paths


def test_paths_are_changed_where_they_are_and_nothing_else_is() -> None:
    call = {
        "out": "/k/renders/1/a.mp4",
        "parts": "/k/parts/1",
        "tables": "",
        "model": "base.en",
        "plan": {"text": "/k/is no path", "path": "/k/x"},
        "files": {
            "3": {"path": "/srv/day 1/a.mov", "pcm": None, "made": {"x": "/k/derived/3/made/x.pcm"}, "name": "/k"}
        },
        "members": [{"out": "/k/derived/1"}],
        "made": 3,
    }
    shared = Shared(parsed(["/k/=/mnt/kovel", "/srv=/nas", "/srv/day 1=/fast"]))
    here = shared.call(call)
    assert (
        here["out"] == "/mnt/kovel/renders/1/a.mp4" and here["files"]["3"]["path"] == "/fast/a.mov"
    )  # the nearest folder
    assert here["files"]["3"]["made"] == {"x": "/mnt/kovel/derived/3/made/x.pcm"} and here["members"] == [
        {"out": "/mnt/kovel/derived/1"}
    ]
    assert {k: here[k] for k in ("plan", "model", "tables", "made")} == {
        k: call[k] for k in ("plan", "model", "tables", "made")
    }
    assert shared.result(here) == call  # and back
    assert reached(call, ["/k", "/srv"]) and not reached(call, ["/k"]) and not reached({"out": "/k/../etc"}, ["/k"])
    for bad in ("/etc/passwd", "/k/../etc/passwd", "../k/x", "/kk/x", "k/x"):
        with pytest.raises(Unusable, match="shared with this machine"):
            shared.here(bad)


@given(
    st.recursive(
        st.none() | st.text(max_size=5) | st.integers(),
        lambda x: (
            st.lists(x, max_size=3)
            | st.dictionaries(
                st.sampled_from(["path", "out", "files", "members", "made", "plan", "name"]), x, max_size=4
            )
        ),
        max_leaves=12,
    )
)
def test_what_moves_nothing_changes_nothing(told: Any) -> None:
    assert moved(told, lambda p: p) == told
    assert Plain().deserialize(Plain().serialize(told)) == told
    if isinstance(told, dict):
        assert all("/" in p for p in paths_of(told))


# --- two machines


class Host:
    """A machine of its own, as far as a network goes: a namespace, and a cable to this one."""

    def __init__(self, n: int) -> None:
        self.name = f"kovel{os.getpid() % 100_000}x{n}"
        self.cable = f"kv{os.getpid() % 100_000}x{n}"
        net = f"10.{77 + n}.{os.getpid() // 250 % 250}"
        self.server, own = f"{net}.1", f"{net}.2"
        run("netns", "add", self.name)
        run("link", "add", self.cable, "type", "veth", "peer", "name", "eth0", "netns", self.name)
        run("addr", "add", f"{self.server}/24", "dev", self.cable)
        run("link", "set", self.cable, "up")
        run("-n", self.name, "addr", "add", f"{own}/24", "dev", "eth0")
        run("-n", self.name, "link", "set", "eth0", "up")
        run("-n", self.name, "link", "set", "lo", "up")
        self.process: subprocess.Popen[str] | None = None

    def works(self, redis: Server, folders: list[Path]) -> None:
        shared = [x for f in folders for x in ("--media", str(f))]
        self.process = subprocess.Popen(
            ["ip", "netns", "exec", self.name, sys.executable, "-m", "kovel", "worker", *shared, "--at-once", "1"],
            env={**os.environ, "KOVEL_QUEUE": redis.url(self.server)},
            stderr=subprocess.PIPE,
            text=True,
        )

    def cut(self, *, off: bool) -> None:
        run("link", "set", self.cable, "down" if off else "up")

    def end(self) -> str:
        told = ""
        if self.process:
            self.process.terminate()
            told = self.process.communicate(timeout=60)[1]
        subprocess.run(["ip", "link", "del", self.cable], check=False)
        subprocess.run(["ip", "netns", "del", self.name], check=False)
        return told


def run(*args: str) -> None:
    subprocess.run(["ip", *args], check=True, capture_output=True)


@pytest.mark.skipif(not shutil.which("ip") or os.geteuid() != 0, reason="network namespaces are made by root")
def test_two_machines_one_cut_off_in_the_middle(redis: Server, coded: tuple[DataFolder, dict[str, Recording]]) -> None:
    """The film that one of them makes when its cable is pulled is made by the other; the one comes back by itself."""
    data, r = coded
    for _ in range(2):
        stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": 0, "length": 450})
    footage = Path(r["talk"].path).parent
    crew = Crew(redis.url(), data.root, [footage], lease=6.0)
    foreman = scheduler_for(data, workers=1, crew=crew)
    hosts = [Host(0), Host(1)]
    told = []
    try:
        assert foreman.start()
        for h in hosts:
            h.works(redis, [data.root, footage])
        until(lambda: len(crew.there()) == 2, "both work")
        film = rendering.start_output(data, 1)
        out = until(lambda: next((o for o in foreman._out.values() if o.hand.name), None), "one of them has it")
        until(lambda: jobs.get(data.db, film.id).progress > 0.02, "it is under way")
        with Redis.from_url(redis.url()) as link:
            pids = {k.decode(): json.loads(v)["pid"] for k, v in link.hgetall(CREW).items()}
        cut = next(h for h in hosts if h.process and pids[out.hand.name] in children_of(h.process.pid))
        cut.cut(off=True)
        until(lambda: jobs.get(data.db, film.id).attempt > 1, "it is taken from the one that is cut off")
        done = until(lambda: (j := jobs.get(data.db, film.id)).state not in ("waiting", "working") and j, "it is made")
        assert done.state == "done" and done.result and done.result["frames"] == 900, done.message
        cut.cut(off=False)
        until(lambda: len(crew.there()) == 2, "the one that was cut off is back")
    finally:
        foreman.stop()
        told = [h.end() for h in hosts]
    assert all("works for" in t for t in told) and sum("goes to others" in t for t in told) == 1, told
    ended = [(x["ended"], x.get("where")) for x in noted(data) if x["job"] == film.id]
    assert [e for e, _ in ended] == ["lost", "done"]
    assert not list(data.root.rglob("*.part")) and Path(done.result["path"]).stat().st_size == done.result["bytes"]


def children_of(pid: int) -> set[int]:
    """The processes below one, however deep."""
    below: dict[int, list[int]] = {}
    for p in Path("/proc").glob("[0-9]*/stat"):
        try:
            parent = int(p.read_text().rsplit(")", 1)[1].split()[1])
        except OSError:
            continue
        below.setdefault(parent, []).append(int(p.parent.name))
    found, todo = set(), [pid]
    while todo:
        for c in below.get(todo.pop(), []):
            found.add(c)
            todo.append(c)
    return found
