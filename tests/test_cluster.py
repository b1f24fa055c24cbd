"""Workers on other machines, by a real Dask cluster: who is gone loses nothing, each result counts once, and nobody
without a certificate gets anything."""

import os
import shutil
import signal
import socket
from collections.abc import Iterator
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
from kovel.media import film_parts
from kovel.media.files import Unusable
from kovel.services.doctor import examined
from kovel.services.handoff import rendering
from kovel.services.job_kinds import scheduler_for
from kovel.store import jobs, stories
from kovel.store.recordings import Recording
from tests.machines import Host, Machines, children_of, until
from tests.test_jobs import noted

Coded = tuple[DataFolder, dict[str, Recording]]


@pytest.fixture
def machines(tmp_path: Path) -> Iterator[Machines]:
    one = Machines(tmp_path)
    one.start()
    yield one
    one.end()


def film(data: DataFolder, r: dict[str, Recording], frames: int = 450) -> jobs.Job:
    for start in (0, 40):
        stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": start, "length": frames})
    return rendering.start_output(data, 1)


def served(data: DataFolder, machines: Machines, *media: Path) -> tuple[Cluster, Scheduler]:
    cluster = Cluster(machines.address(), data.root, list(media), machines.certs)
    cluster.start()
    scheduler = scheduler_for(data, workers=1, elsewhere=[cluster])
    assert scheduler.start()
    return cluster, scheduler


def ended(data: DataFolder, job: jobs.Job) -> jobs.Job:
    return until(lambda: (now := jobs.get(data.db, job.id)) and not now.is_open and now, f"{job.kind} ends", 240)


def test_the_film_of_a_worker_that_is_killed_is_made_by_another(
    machines: Machines, coded: Coded, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In parts on two workers and here. Then of a cluster that goes away: at home. Then of a server that is gone:
    nobody works on it any more."""
    data, r = coded
    monkeypatch.setattr(film_parts, "GROUP", 150)
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
        until(lambda: socket.gethostname() in jobs.get(data.db, job.id).machine, "it is said where")
        busy = until(lambda: next((w for w in two if children_of(w.pid, "kovel-child")), None), "one makes it")
        busy.send_signal(signal.SIGKILL)
        done = ended(data, job)
        assert done.result and done.result["frames"] == 900 and done.attempt == 1, done.message  # Dask gave it on
        assert Path(done.result["path"]).stat().st_size == done.result["bytes"] and done.result["differs"] == []
        assert done.result["anew"] == done.result["parts"] == len(list((data.root / "parts" / "1").glob("*.mp4")))
        made = [x for x in noted(data) if x["job"] == job.id]
        assert {x["step"] for x in made} == {"film", *(f"parts {first}" for first, _, _ in done.params["groups"])}
        assert len(made) == len(done.params["groups"]) + 1 > 3 and {x["ended"] for x in made} == {"done"}
        assert any("where" in x for x in made) and any("where" not in x for x in made)  # there and here
        rendering.trim_parts(data, 0)
        monkeypatch.setattr(film_parts, "GROUP", 1000)  # and the others in one call
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
        assert done.result and done.attempt == 1 and done.machine == "" and cluster.away and cluster.slots == 0
        machines.start()
        until(lambda: cluster.slots, "the cluster is back, with its worker", 180)
        last = film(data, r)
        until(lambda: children_of(other.pid, "kovel-child"), "the fourth is under way there")
    finally:
        scheduler.stop()
    until(lambda: not children_of(other.pid, "kovel-child"), "nobody wants it any more", 30)
    assert jobs.get(data.db, last.id).is_open and not list((data.root / "renders").rglob("*.part"))
    rows = [(x["job"], x["ended"]) for x in noted(data) if x["job"] >= job.id]
    assert (again.id, "lost") in rows and rows.count((again.id, "done")) == 1  # each once


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
        assert worker.wait(180) == 2 and f"{data.root} is not shared" in machines.told(worker)
        with Client(machines.address(), set_as_default=False) as other:  # any Dask worker is not one of Kovel's
            assert cluster.workers_seen() == ([], 0) and other.get_metadata(["kovel", cluster.token])["form"] == form()
        row = next(x for x in examined(data.root, machines.address()) if x.what == "Workers")
        assert not row.well and row.found == "none works for this folder"
    finally:
        cluster.close()
    row = next(x for x in examined(data.root, "tcp://127.0.0.1:1") if x.what == "Workers")
    assert not row.well and "does not answer" in row.found


def test_what_a_cluster_must_be(data: DataFolder, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    for address, why in (
        ("http://127.0.0.1:8786", "no address of a cluster"),
        ("tcp://127.0.0.1", "no address of a cluster"),
        ("tcp://10.1.1.1:8786", "open to everybody on the network"),
        ("tls://10.1.1.1:8786", "--certs DIR"),
    ):
        with pytest.raises(Unfit, match=why):
            secured(address, None)
    nobody = Cluster("tcp://127.0.0.1:1", data.root)  # the server begins all the same
    nobody.start()
    assert nobody.away and nobody.slots == 0 and "127.0.0.1:1 is away" in capsys.readouterr().err
    nobody.close()
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
