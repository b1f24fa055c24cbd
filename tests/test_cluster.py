"""Workers on other machines, by a real Dask cluster: who is gone loses nothing, each result counts once, and nobody
without a certificate gets anything."""

import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from distributed import Client, Security
from hypothesis import given
from hypothesis import strategies as st

from kovel.cli.worker_commands import certs as certs_command
from kovel.cli.worker_commands import worker as worker_command
from kovel.core.errors import Invalid
from kovel.data_folder import DataFolder
from kovel.jobs import cluster_worker
from kovel.jobs.certificates import make_certificates
from kovel.jobs.cluster import TOKEN, Cluster, Unfit, form, kept_token, resource, secured
from kovel.jobs.scheduler import Scheduler
from kovel.jobs.shared_folders import Shared, moved, parsed, paths_of, roots_needed
from kovel.media.files import Unusable
from kovel.services.doctor import examined
from kovel.services.handoff import rendering
from kovel.services.job_kinds import scheduler_for
from kovel.store import jobs, stories
from kovel.store.recordings import Recording
from tests.test_jobs import noted

Coded = tuple[DataFolder, dict[str, Recording]]
SRC = str(Path(cluster_worker.__file__).parents[2])


def until(done: Callable[[], Any], what: str, most: float = 120) -> Any:
    end = time.monotonic() + most
    while not (found := done()):
        assert time.monotonic() < end, f"never: {what}"
        time.sleep(0.05)
    return found


class Machines:
    """A Dask scheduler and workers for Kovel, as processes of their own; `inside`: what each is begun through."""

    def __init__(self, folder: Path, *, tls: bool = False, host: str = "127.0.0.1") -> None:
        self.folder, self.host = folder, host
        self.certs = folder / "certs" if tls else None
        if self.certs:
            make_certificates(self.certs)
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        self.scheduler: subprocess.Popen[bytes] | None = None
        self.workers: list[subprocess.Popen[str]] = []

    def address(self, host: str = "") -> str:
        return f"{'tls' if self.certs else 'tcp'}://{host or self.host}:{self.port}"

    def start(self) -> None:
        told = ["--host", f"{'tls' if self.certs else 'tcp'}://0.0.0.0" if self.certs else self.host]
        told += ["--port", str(self.port), "--no-dashboard"]
        for option, name in (("ca-file", "authority"), ("cert", "kovel"), ("key", "kovel-key")):
            told += [f"--tls-{option}", str(self.certs / f"{name}.pem")] if self.certs else []
        env = {**os.environ, "DASK_DISTRIBUTED__COMM__TIMEOUTS__TCP": "12s"}
        program = [sys.executable, "-m", "distributed.cli.dask_scheduler"]
        self.scheduler = subprocess.Popen([*program, *told], env=env, stderr=(self.folder / "dask.log").open("ab"))
        until(self._listens, "the scheduler listens")

    def _listens(self) -> bool:
        with socket.socket() as s:
            return s.connect_ex(("127.0.0.1", self.port)) == 0

    def work(
        self, *media: str, at_once: int = 1, inside: tuple[str, ...] = (), host: str = ""
    ) -> subprocess.Popen[str]:
        shared = [x for m in media for x in ("--media", m)]
        args = [*inside, sys.executable, "-m", "kovel", "worker", "--cluster", self.address(host), *shared]
        args += ["--at-once", str(at_once), *(["--certs", str(self.certs)] if self.certs else [])]
        env = {**os.environ, "PYTHONPATH": SRC, "DASK_DISTRIBUTED__COMM__TIMEOUTS__TCP": "12s"}
        process = subprocess.Popen(args, env=env, stderr=subprocess.PIPE, text=True)
        self.workers.append(process)
        return process

    def end(self) -> list[str]:
        told = []
        for process in self.workers:
            process.kill()
            told.append(process.communicate(timeout=60)[1])
        if self.scheduler:
            self.scheduler.kill()
            self.scheduler.wait()
        return told


@pytest.fixture
def machines(tmp_path: Path) -> Iterator[Machines]:
    one = Machines(tmp_path)
    one.start()
    yield one
    one.end()


def film(data: DataFolder, r: dict[str, Recording], frames: int = 450) -> jobs.Job:
    for _ in range(2):
        stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": 0, "length": frames})
    return rendering.start_output(data, 1)


def served(data: DataFolder, machines: Machines, *media: Path) -> tuple[Cluster, Scheduler]:
    cluster = Cluster(machines.address(), data.root, list(media), machines.certs)
    cluster.start()
    scheduler = scheduler_for(data, workers=1, elsewhere=[cluster])
    assert scheduler.start()
    return cluster, scheduler


def ended(data: DataFolder, job: jobs.Job) -> jobs.Job:
    return until(lambda: (now := jobs.get(data.db, job.id)) and not now.is_open and now, f"{job.kind} ends", 240)


def test_the_film_of_a_worker_that_is_killed_is_made_by_another(machines: Machines, coded: Coded) -> None:
    """Then of a cluster that goes away: at home. Then of a server that is gone: nobody works on it any more."""
    data, r = coded
    footage = Path(r["talk"].path).parent
    link = machines.folder / "mounted"
    link.symlink_to(data.root)
    cluster, scheduler = served(data, machines, footage)
    try:
        shared = [f"{data.root}={link}", str(footage)]
        two = [machines.work(*shared), machines.work(*shared)]
        until(lambda: cluster.slots == 2, "two work")
        job = film(data, r)
        until(lambda: jobs.get(data.db, job.id).progress > 0.02, "it is under way")
        assert jobs.get(data.db, job.id).machine == socket.gethostname()
        busy = until(lambda: next((w for w in two if children_of(w.pid, "kovel-child")), None), "one makes it")
        busy.send_signal(signal.SIGKILL)
        done = ended(data, job)
        assert done.result and done.result["frames"] == 900 and done.attempt == 1, done.message  # Dask gave it on
        assert Path(done.result["path"]).stat().st_size == done.result["bytes"] and done.result["differs"] == []
        # stopped by the editor: its child is ended at once
        stopped = film(data, r)
        other = next(w for w in two if w is not busy)
        until(lambda: jobs.get(data.db, stopped.id).progress > 0.02, "the second is under way")
        jobs.end(data.db, stopped.id, "cancelled")
        until(lambda: not children_of(other.pid, "kovel-child"), "its child is gone", 30)
        # the cluster goes away
        again = film(data, r)
        until(lambda: jobs.get(data.db, again.id).progress > 0.02, "the third is under way")
        assert machines.scheduler
        machines.scheduler.kill()
        machines.scheduler.wait()
        done = ended(data, again)
        assert done.result and done.attempt == 2 and done.machine == "" and cluster.away and cluster.slots == 0
        machines.start()
        until(lambda: cluster.slots, "the cluster is back, with its worker", 180)
        last = film(data, r)
        until(lambda: children_of(other.pid, "kovel-child"), "the fourth is under way there")
    finally:
        scheduler.stop()
    until(lambda: not children_of(other.pid, "kovel-child"), "nobody wants it any more", 30)
    assert jobs.get(data.db, last.id).is_open and not list((data.root / "renders").rglob("*.part"))
    rows = [(x["job"], x["ended"]) for x in noted(data) if x["job"] >= job.id]
    assert rows[0] == (job.id, "done") and (again.id, "lost") in rows and (again.id, "done") in rows
    assert len([x for x in rows if x[1] == "done"]) == 2  # each once


def children_of(pid: int, name: str) -> list[int]:
    """The processes of that name below one, however deep."""
    parents: dict[int, int] = {}
    names: dict[int, str] = {}
    for p in Path("/proc").glob("[0-9]*/stat"):
        try:
            head, rest = p.read_text().rsplit(")", 1)
        except OSError:
            continue
        number = int(p.parent.name)
        parents[number], names[number] = int(rest.split()[1]), head.split("(", 1)[1]
    found = []
    for number, called in names.items():
        up = number
        while up in parents and up != pid:
            up = parents[up]
        if up == pid and called == name:
            found.append(number)
    return found


def test_a_worker_of_another_version_or_without_the_folders_is_refused(
    data: DataFolder, tmp_path: Path, machines: Machines
) -> None:
    footage = tmp_path / "footage"
    footage.mkdir()
    token = kept_token(data.root)
    server = {"node": "anna", "form": form(), "roots": [str(data.root), str(footage)]}
    assert kept_token(data.root) == token != kept_token(footage)
    fitting = cluster_worker.fitting
    assert fitting(server, token, (str(data.root),)).pairs == ((str(data.root), str(data.root)),)
    link = tmp_path / "mounted"
    link.symlink_to(data.root)
    pairs = fitting(server, token, (f"{data.root}={link}", str(footage))).pairs
    assert pairs == ((str(data.root), str(link)), (str(footage), str(footage)))
    with pytest.raises(Unfit, match="Install the same here"):
        fitting({**server, "form": "0.0.1 (00000000)"}, token, (str(data.root),))
    with pytest.raises(Unfit, match="is not the server's"):
        fitting(server, kept_token(tmp_path), (str(data.root),))
    for media in ((), (str(footage),), (f"{data.root}=/nowhere",)):
        with pytest.raises(Unfit, match="is not shared"):
            fitting(server, token, media)
    assert cluster_worker.chosen({}, ()) is None
    old = {"old": {**server, "form": "0.0.1"}, token: server}
    assert cluster_worker.chosen(old, (str(data.root),)) is not None  # one that fits is enough
    (data.root / TOKEN).write_text("")
    with pytest.raises(Unfit, match="is not the server's"):
        fitting(server, token, (str(data.root),))
    cluster = Cluster(machines.address(), data.root)
    cluster.start()
    try:
        worker = machines.work(str(footage))
        assert worker.wait(180) == 2 and worker.stderr and f"{data.root} is not shared" in worker.stderr.read()
        with Client(machines.address(), set_as_default=False) as other:  # any Dask worker is not one of Kovel's
            assert cluster.workers_seen() == ([], 0) and other.get_metadata(["kovel", cluster.token])["form"] == form()
        row = next(x for x in examined(data.root, machines.address()) if x.what == "Workers")
        assert not row.well and row.found == "none works for this folder"
    finally:
        cluster.close()
    row = next(x for x in examined(data.root, "tcp://127.0.0.1:1") if x.what == "Workers")
    assert not row.well and "does not answer" in row.found


def test_what_a_cluster_must_be(data: DataFolder, tmp_path: Path) -> None:
    for address, why in (
        ("http://127.0.0.1:8786", "no address of a cluster"),
        ("tcp://127.0.0.1", "no address of a cluster"),
        ("tcp://10.1.1.1:8786", "open to everybody on the network"),
        ("tls://10.1.1.1:8786", "--certs DIR"),
    ):
        with pytest.raises(Unfit, match=why):
            secured(address, None)
    with pytest.raises(Unfit, match=r"127\.0\.0\.1:1 does not answer .* leave --cluster out"):
        Cluster("tcp://127.0.0.1:1", data.root).start()
    assert secured("tcp://127.0.0.1:8786", None).require_encryption is not True
    run = CliRunner().invoke
    for args in (["--queue", "redis://x/0"], []):
        told = run(worker_command, args)
        assert told.exit_code and "--cluster tls://HOST:8786" in told.output
    folder = tmp_path / "certs"
    assert run(certs_command, [str(folder)]).exit_code == 0
    assert secured("tls://10.1.1.1:8786", folder).require_encryption
    authority, own = (x509.load_pem_x509_certificate((folder / n).read_bytes()) for n in ("authority.pem", "kovel.pem"))
    own.verify_directly_issued_by(authority)
    assert isinstance(own.public_key(), ec.EllipticCurvePublicKey)
    assert all((folder / n).stat().st_mode & 0o077 == 0 for n in ("kovel-key.pem", "authority-key.pem"))
    with pytest.raises(Invalid, match=r"holds authority\.pem"):
        make_certificates(folder)


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
    assert here["out"] == "/mnt/kovel/renders/1/a.mp4"
    assert here["files"]["3"]["path"] == "/fast/a.mov"  # the nearest folder
    assert here["files"]["3"]["made"] == {"x": "/mnt/kovel/derived/3/made/x.pcm"}
    assert here["members"] == [{"out": "/mnt/kovel/derived/1"}]
    same = ("plan", "model", "tables", "made")
    assert {k: here[k] for k in same} == {k: call[k] for k in same}
    assert shared.result(here) == call  # and back
    assert roots_needed(call, ["/k", "/srv"]) == {"/k", "/srv"} and roots_needed(call, ["/k"]) is None
    assert roots_needed(call, ["/k", "/srv", "/srv/day 1"]) == {"/k", "/srv/day 1"}
    assert roots_needed({"out": "/k/../etc"}, ["/k"]) is None and roots_needed({}, ["/k"]) == set()
    for bad in ("/etc/passwd", "/k/../etc/passwd", "../k/x", "/kk/x", "k/x"):
        with pytest.raises(Unusable, match="shared with this machine"):
            shared.here(bad)
    assert resource("0123456789abcdef", "/k") == f"kovel 0123456789ab {form()} /k"


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
        self.inside = ("ip", "netns", "exec", self.name)

    def cut(self, *, off: bool) -> None:
        run("link", "set", self.cable, "down" if off else "up")

    def end(self) -> None:
        subprocess.run(["ip", "link", "del", self.cable], check=False)
        subprocess.run(["ip", "netns", "del", self.name], check=False)


def run(*args: str) -> None:
    subprocess.run(["ip", *args], check=True, capture_output=True)


@pytest.mark.skipif(not shutil.which("ip") or os.geteuid() != 0, reason="network namespaces are made by root")
def test_two_machines_over_tls_one_cut_off_in_the_middle(tmp_path: Path, coded: Coded) -> None:
    """The film that one of them makes when its cable is pulled is made by the other; the one comes back by itself.
    A peer whose certificate is of another authority gets nothing."""
    data, r = coded
    footage = Path(r["talk"].path).parent
    machines = Machines(tmp_path, tls=True)
    hosts = [Host(0), Host(1)]
    told: list[str] = []
    scheduler: Scheduler | None = None
    try:
        machines.start()
        cluster, scheduler = served(data, machines, footage)
        two = [machines.work(str(data.root), str(footage), inside=h.inside, host=h.server) for h in hosts]
        until(lambda: cluster.slots == 2, "both work")
        other = tmp_path / "other"
        make_certificates(other)
        for address, security in (
            (machines.address(), secured("tls://127.0.0.1:1", other)),
            (machines.address().replace("tls", "tcp"), Security()),
        ):
            with pytest.raises(OSError):
                Client(address, security=security, timeout=3, set_as_default=False)
        job = film(data, r)
        until(lambda: jobs.get(data.db, job.id).progress > 0.02, "it is under way")
        pair = list(zip(hosts, two, strict=True))
        cut = until(lambda: next((h for h, w in pair if children_of(w.pid, "kovel-child")), None), "one makes it")
        cut.cut(off=True)
        done = ended(data, job)
        assert done.result and done.result["frames"] == 900, done.message
        cut.cut(off=False)
        until(lambda: cluster.slots == 2, "the one that was cut off is back")
    finally:
        if scheduler:
            scheduler.stop()
        told = machines.end()
        for h in hosts:
            h.end()
    assert all("works on the cluster" in t for t in told), told
    assert [x["ended"] for x in noted(data) if x["job"] == job.id][-1] == "done"
    assert [x["ended"] for x in noted(data) if x["job"] == job.id].count("done") == 1
    assert Path(done.result["path"]).stat().st_size == done.result["bytes"]
    assert not list((data.root / "renders").rglob("*.part"))
