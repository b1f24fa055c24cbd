"""Machines that fail: `./kovel bench machines [JOBS] [RUNS]` (200 jobs, 3 runs). Needs root, ip, gcc and ffmpeg.

A server, a Dask scheduler and four workers over TLS: two in networks of their own, one whose disk can be full, one that
is slow; beside them one of another version, one without the footage and a peer with a foreign certificate. Jobs of all
kinds are asked for, and all the while a worker is killed, a child is killed, a cable is pulled and put back, the
scheduler or the server is killed and begun again. At the end each job has ended once, every file is whole and what it
says, nothing half made is left, and strangers got nothing. Prints what was done, and what was found wrong.
"""

import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import av
import httpx
from distributed import Client
from tests.machines import SRC, Host, Machines, children_of, until

from bench.faults import Disk
from bench.workers import footage
from kovel.core.errors import Told
from kovel.core.plan.outputs import OUTPUT_KINDS, Output
from kovel.data_folder import DataFolder
from kovel.jobs.certificates import make_certificates
from kovel.jobs.cluster import secured
from kovel.media.wholeness import shortcomings
from kovel.services.footage import syncing, verifying
from kovel.services.footage.intake import bring_in
from kovel.services.handoff import archiving, rendering
from kovel.services.log import speaker_separation, transcription
from kovel.services.sound import derived_sounds
from kovel.services.tighten import quick_cuts
from kovel.store import jobs, projects, recordings, stories
from kovel.store.jobs import JobState

RECORDINGS = 12
SECONDS = 8
BETWEEN = (1.0, 5.0)  # seconds between two faults
LAST = 1200.0  # seconds all may take after the last fault


@dataclass
class Scene:
    """All machines of a run, and what was done to them."""

    root: Path
    rng: random.Random
    done: Counter[str] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.media = self.root / "footage"
        self.media.mkdir()
        self.files = footage(self.media, RECORDINGS, SECONDS)
        self.data = DataFolder(self.root / "data")
        projects.create(self.data.db, "Machines", "25", "1280x720")
        self.machines = Machines(self.root, tls=True)
        self.hosts = [Host(0), Host(1)]
        self.disk = Disk(self.root / "told", self.root / "faults.so", self.data.root)
        self.machines.start()
        self.server = self._serve()
        self.link = self.root / "mounted"
        self.link.symlink_to(self.data.root)
        self.crew: dict[str, subprocess.Popen[bytes]] = {}
        for name in ("far 1", "far 2", "disk", "slow"):
            self.begin(name)
        self.blind = self.machines.work(str(self.data.root))  # it reaches no footage

    def _serve(self) -> "subprocess.Popen[bytes]":
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            port = s.getsockname()[1]
        told = ["--cluster", self.machines.address(), "--certs", str(self.machines.certs), "--media", str(self.media)]
        args = [sys.executable, "-m", "kovel", "serve", "--data", str(self.data.root), "--port", str(port), *told]
        log = (self.root / "server.log").open("ab")
        env = {**os.environ, "PYTHONPATH": SRC}
        process = subprocess.Popen([*args, "--no-browser"], env=env, stdout=log, stderr=log)

        def answers() -> bool:
            with suppress(httpx.HTTPError):
                return httpx.get(f"http://127.0.0.1:{port}/health", timeout=2).status_code == 200
            return False

        until(answers, "the server answers")
        return process

    def begin(self, name: str) -> None:
        """A worker, on the machine of that name."""
        if name.startswith("far"):
            host = self.hosts[int(name[-1]) - 1]
            folders = (f"{self.data.root}={self.link}", str(self.media))
            self.crew[name] = self.machines.work(*folders, inside=host.inside, host=host.server)
        else:
            more = self.disk.env if name == "disk" else {}
            self.crew[name] = self.machines.work(str(self.data.root), str(self.media), more=more)

    # --- faults

    def kill_worker(self) -> None:
        name = self.rng.choice(list(self.crew))
        family = children_of(self.crew[name].pid, "kovel-parent") + children_of(self.crew[name].pid, "kovel-child")
        for pid in (self.crew[name].pid, *family):  # all of it, as when its machine goes down
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        self.crew[name].wait()
        self.begin(name)

    def kill_child(self) -> None:
        """As the system does where memory is short: its job has failed, says so, and the editor tries again."""
        for process in self.rng.sample(list(self.crew.values()), len(self.crew)):
            if found := children_of(process.pid, "kovel-child"):
                with suppress(ProcessLookupError):
                    os.kill(found[0], signal.SIGKILL)
                return

    def cut_cable(self) -> None:
        host = self.rng.choice(self.hosts)
        host.cut(off=True)
        time.sleep(self.rng.uniform(2, 20))
        host.cut(off=False)

    def kill_scheduler(self) -> None:
        assert self.machines.scheduler
        self.machines.scheduler.kill()
        self.machines.scheduler.wait()
        time.sleep(self.rng.uniform(0, 8))
        self.machines.start()

    def kill_server(self) -> None:
        self.server.kill()
        self.server.wait()
        time.sleep(self.rng.uniform(0, 3))
        self.server = self._serve()

    def full_disk(self) -> None:
        self.disk.is_("full")
        time.sleep(self.rng.uniform(1, 6))
        self.disk.well()

    def slow_worker(self) -> None:
        """Its children stand still for most of the time."""
        end = time.monotonic() + self.rng.uniform(3, 8)
        while time.monotonic() < end:
            family = children_of(self.crew["slow"].pid, "kovel-child")
            for sent, wait in ((signal.SIGSTOP, 0.5), (signal.SIGCONT, 0.1)):
                for pid in family:
                    with suppress(ProcessLookupError):
                        os.kill(pid, sent)
                time.sleep(wait)

    # --- who must get nothing

    def strangers(self) -> None:
        """Another version, and a foreign certificate."""
        other = self.root / "other version"
        shutil.copytree(SRC, other, ignore=shutil.ignore_patterns("*.mp4", "*.wav", "*.flac", "__pycache__"))
        (other / "kovel" / "core" / "errors.py").open("a").write("\n")
        late = self.machines.work(str(self.data.root), str(self.media), src=str(other))
        if late.wait(120) != 2 or "Install the same here" not in self.machines.told(late):
            self.wrong.append(f"another version was not refused: {self.machines.told(late)[-300:]}")
        make_certificates(self.root / "foreign")
        for security in (secured("tls://127.0.0.1:1", self.root / "foreign"), secured("tcp://127.0.0.1:1", None)):
            address = self.machines.address()
            with suppress(OSError):
                Client(
                    address if security.require_encryption else address.replace("tls", "tcp"),
                    security=security,
                    timeout=3,
                    set_as_default=False,
                )
                self.wrong.append("a peer with a foreign certificate was let in")
        self.done["stranger"] += 3

    def end(self) -> None:
        self.server.kill()
        self.machines.end()
        for host in self.hosts:
            host.end()


def ask(scene: Scene, most: int) -> None:
    """So many jobs of all kinds, what is asked for by an editor who does not wait."""
    data, rng = scene.data, scene.rng
    for number, path in enumerate(scene.files):
        bring_in(data, 1, path, kind="music" if number % 6 == 5 else "interview")
    ids = [recording.id for recording in recordings.of_project(data.db, 1)]
    for recording in ids[:6]:
        stories.edit(data.db, 1, None, "add_at_end", {"source": recording, "start": 20, "length": 120})
    kinds: list[Callable[[], object]] = [
        lambda: transcription.transcribe(data, rng.choice(ids)),
        lambda: speaker_separation.tell_apart(data, rng.choice(ids)),
        lambda: quick_cuts.find(data, rng.choice(ids)),
        lambda: syncing.sync_by_sound(data, 1, rng.sample(ids, 2)),
        lambda: verifying.verify(data, 1),
        lambda: derived_sounds.set_on_recording(data, rng.choice(ids), "low_cut", rng.choice([0.0, 60.0, 80.0])),
        lambda: archiving.start_archive(data, 1),
        *(lambda kind=kind: rendering.start_output(data, 1, Output(kind=kind, height=180)) for kind in OUTPUT_KINDS),
    ]
    while asked(scene) < most:
        try_again(scene)
        if len(jobs.unfinished(data.db)) < 25:
            with suppress(Told):  # not ready yet, or asked for already
                rng.choice(kinds)()
        time.sleep(0.05)


def try_again(scene: Scene) -> None:
    """What failed because its child was killed."""
    for job in jobs.in_state(scene.data.db, JobState.FAILED):
        if "more memory than allowed" in job.message:
            with suppress(Told):
                jobs.again(scene.data.db, job.id, JobState.FAILED)
            scene.done["tried again"] += 1


def asked(scene: Scene) -> int:
    (count,) = scene.data.db.read().execute("SELECT count(*) FROM job").fetchone()
    return int(count)


def looked(scene: Scene) -> Counter[str]:
    """How the jobs ended; what is wrong with what they made."""
    data, ended = scene.data, Counter[str]()
    for job in (jobs.get(data.db, number) for (number,) in data.db.read().execute("SELECT id FROM job").fetchall()):
        ended[f"{job.kind} {job.state}"] += 1
        if job.is_open or job.has_failed:
            scene.wrong.append(f"job {job.id} ({job.kind}) {job.state}: {job.message}")
        result = job.result or {}
        if job.kind in ("render", "archive") and job.is_done:
            path = Path(result["path"])
            size = sum(p.stat().st_size for p in path.iterdir()) if path.is_dir() else path.stat().st_size
            if size != result["bytes"] or result.get("differs"):
                scene.wrong.append(f"{path.name}: {size} of {result['bytes']} bytes, {result.get('differs')}")
            if job.kind == "render" and path.suffix in (".mp4", ".mov", ".webm"):
                with av.open(str(path)) as c:
                    frames = sum(1 for _ in c.decode(video=0))
                if frames != result["frames"]:
                    scene.wrong.append(f"{path.name}: {frames} frames of {result['frames']}")
    for recording in recordings.of_project(data.db, 1):
        if short := shortcomings(data.derived(recording.id)):
            scene.wrong.append(f"{recording.name} is not whole: {short}")
    scene.wrong += [
        f"{p.name} is left half made" for d in ("renders", "archives") for p in (data.root / d).rglob("*.part")
    ]
    return ended


def run(root: Path, most: int, seed: int) -> Scene:
    """One run; what was found wrong is in what it gives."""
    scene = Scene(root, random.Random(seed))
    faults = [
        scene.kill_worker,
        scene.kill_child,
        scene.cut_cable,
        scene.kill_scheduler,
        scene.kill_server,
        scene.full_disk,
        scene.slow_worker,
    ]
    try:
        asking = threading.Thread(target=ask, args=(scene, most), daemon=True)
        asking.start()
        scene.strangers()
        while asking.is_alive():
            for fault in scene.rng.sample(faults, len(faults)):
                time.sleep(scene.rng.uniform(*BETWEEN))
                fault()
                scene.done[fault.__name__.replace("_", " ")] += 1
        end = time.monotonic() + LAST
        while time.monotonic() < end:
            try_again(scene)
            if not jobs.unfinished(scene.data.db):
                break
            time.sleep(0.5)
        time.sleep(1)
        ended = looked(scene)
        log = [line for line in (scene.data.logs / "jobs.log").read_text().splitlines() if line]
        print(f"ended: {dict(sorted(ended.items()))}")
        lost, far = (sum(told in line for line in log) for told in ('"lost"', '"where"'))
        print(f"calls that ended: {len(log)}, of them on other machines {far}, lost {lost}")
    finally:
        scene.end()
    return scene


def main() -> None:
    most, runs = (int(sys.argv[k]) if len(sys.argv) > k else usual for k, usual in ((1, 200), (2, 3)))
    for number in range(runs):
        with tempfile.TemporaryDirectory() as name:
            began = time.monotonic()
            scene = run(Path(name), most, int(time.time()))
            print(
                f"run {number + 1}: {asked(scene)} jobs in {time.monotonic() - began:.0f} s through {dict(scene.done)}"
            )
            print("\n".join(scene.wrong) or "each result once, nothing half made, nothing lost, strangers got nothing")
            sys.stdout.flush()


if __name__ == "__main__":
    main()
