"""Killed at random moments: `./kovel bench kills [KILLS]` (1000 unless said).

A server is worked with over HTTP as pages do it: edits, recordings brought in, transcribed and synced by sound,
renders, copies of the database. The server, the parent of its children or the child at work is killed at a random moment (SIGKILL),
again and again. After each kill: nothing acknowledged is lost, no half file stands under a final name, jobs go on by
themselves, no process is left. Prints what was done, and what was found wrong.
"""

import contextlib
import os
import random
import re
import signal
import socket
import subprocess
import sys
import tempfile
import time
import wave
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

import httpx

from kovel.data_folder import DataFolder
from kovel.store import backup, jobs, recordings, stories
from kovel.store.jobs import JobState

PATIENT = 60.0  # seconds that anything may take on a busy machine
JOBS = ["bring in", "render", "transcribe", "sync"]
WAITING = 12  # jobs that wait before no more are asked for: an editor would look at what there is first


@dataclass
class Kept:
    """What was acknowledged: it must be there whatever is killed."""

    revision: int = 0
    recordings: int = 0
    done: Counter[str] = field(default_factory=Counter)
    killed: Counter[str] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)


def sound(path: Path, seconds: float) -> Path:
    """A recording of so many seconds: the beginning of a noise that all of them share, so that they can be synced."""
    with wave.open(str(path), "wb") as w:
        w.setparams((1, 2, 48_000, 0, "NONE", ""))
        w.writeframes(random.Random(5).randbytes(2 * int(48_000 * seconds)))
    return path


class Served:
    """A server process on a folder, and what it has started."""

    def __init__(self, root: Path, more: dict[str, str] | None = None) -> None:
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            port = s.getsockname()[1]
        self.url = f"http://127.0.0.1:{port}"
        args = [
            sys.executable,
            "-m",
            "kovel",
            "serve",
            "--data",
            str(root / "data"),
            "--port",
            str(port),
            "--no-browser",
            "--media",
            str(root),
        ]
        env = {**os.environ, "PYTHONPATH": "src", **(more or {})}
        self.process = subprocess.Popen(args, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        end = time.monotonic() + PATIENT
        while time.monotonic() < end:
            with contextlib.suppress(httpx.HTTPError):
                if httpx.get(f"{self.url}/health", timeout=2).status_code == 200:
                    return
            time.sleep(0.05)
        raise TimeoutError("the server did not start")

    def family(self) -> dict[str, list[int]]:
        """Process numbers by what they are: server, the parent of its children, child."""
        rows: dict[str, list[int]] = {"server": [self.process.pid], "parent": [], "child": []}
        parents: dict[int, int] = {}
        for p in Path("/proc").glob("[0-9]*"):
            with contextlib.suppress(OSError, IndexError):
                parents[int(p.name)] = int((p / "stat").read_text().rsplit(")", 1)[1].split()[1])
        for pid in parents:
            up, of_us = pid, False
            while up in parents:
                up = parents[up]
                of_us = of_us or up == self.process.pid
            if of_us:
                with contextlib.suppress(OSError):
                    name = Path(f"/proc/{pid}/comm").read_text().strip()  # as media/fork_server.py names them
                    if name.startswith("kovel-"):
                        rows["parent" if name == "kovel-parent" else "child"].append(pid)
        return rows

    def end(self) -> None:
        self.process.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.process.wait(10)
        self.process.kill()
        self.process.wait()


def work(url: str, root: Path, kept: Kept, rng: random.Random, until: float) -> None:
    """Do what an editor does until a moment; note what was acknowledged. What fails because all is dead counts for
    nothing."""
    db = DataFolder(root / "data").db
    with (
        contextlib.closing(db),
        httpx.Client(base_url=url, headers={"x-kovel": "1", "accept": "application/json"}, timeout=20) as c,
        contextlib.suppress(httpx.HTTPError),
    ):
        while time.monotonic() < until or not kept.done["edit"]:  # a slow machine has time for one
            what = rng.choice(
                ["edit"] * 12 + ["undo", "copy"] + (JOBS if len(jobs.in_state(db, JobState.WAITING)) < WAITING else [])
            )
            of = rng.sample(range(1, kept.recordings + 1), min(2, kept.recordings))
            if what == "edit":
                r = c.post("/p/1/story/edit", json={"command": "insert_space", "at": 0, "length": rng.randint(1, 40)})
                if r.status_code == 200:
                    kept.revision = r.json()["revision"]
            elif what == "undo":
                r = c.post("/p/1/story/undo", data={})
            elif what == "bring in":
                path = sound(root / f"sound {kept.done[what]} {rng.randint(0, 10**9)}.wav", rng.uniform(0.5, 6))
                r = c.post("/p/1/footage/path", data={"path": str(path)})
                kept.recordings += "brought in" in r.text and "Nothing" not in r.text
            elif what == "render":
                r = c.post("/p/1/handoff/render", data={"kind": rng.choice(["wav", "flac", "mp4"]), "height": "240"})
            elif what == "transcribe":
                r = c.post(f"/p/1/recordings/{(of or [1])[0]}/transcribe", data={})
            elif what == "sync":
                r = c.post("/p/1/footage/sync", data={"ids": of})
            else:
                backup.back_up(db, root / "copies" / f"{rng.randint(0, 10**9)}.db")
                kept.done["copy"] += 1
                continue
            kept.done[what] += r.status_code in (200, 204)
            time.sleep(rng.uniform(0, 0.25))


def look(root: Path, kept: Kept) -> None:
    """What stands on the disk after a kill."""
    db = DataFolder(root / "data").db
    (ok,) = db.read().execute("PRAGMA quick_check").fetchone()
    story = stories.load(db, 1)
    there = len(recordings.of_project(db, 1))
    wrong = [] if ok == "ok" else [f"database: {ok}"]
    wrong += [f"revision {story.revision} of {kept.revision}"] if story.revision < kept.revision else []
    wrong += [f"{there} recordings of {kept.recordings}"] if there < kept.recordings else []
    for p in (root / "copies").glob("*.db"):
        if bad := backup.damage(p):
            wrong.append(f"copy {p.name}: {bad}")
        p.unlink()  # seen once: nothing writes it again
    for j in jobs.of_project(db, 1, "render"):
        out = Path(j.params["out"])
        if j.is_done and out.exists() and out.stat().st_size != (j.result or {}).get("bytes"):
            wrong.append(f"{out.name}: {out.stat().st_size} bytes of {(j.result or {}).get('bytes')}")
    kept.revision, kept.recordings = max(kept.revision, story.revision), max(kept.recordings, there)
    kept.wrong += wrong
    db.close()


def settle(root: Path, kept: Kept, served: Served) -> None:
    """Jobs end by themselves; nothing half made is left, no process either."""
    db = DataFolder(root / "data").db
    end = time.monotonic() + PATIENT * 4
    while jobs.unfinished(db) and time.monotonic() < end:
        time.sleep(0.2)
    left = jobs.unfinished(db)
    kept.wrong += [f"job {j.id} ({j.kind}) never ended: {j.state}" for j in left]
    kept.wrong += [
        f"job {j.id} ({j.kind}): {j.message}"
        for j in jobs.in_state(db, JobState.FAILED)
        if "killed" not in j.message
        and "Story" not in j.message
        and not re.search("damaged or needs more memory", j.message)
    ]
    pids = [pid for rows in served.family().values() for pid in rows]
    served.end()
    time.sleep(1)
    kept.wrong += [f"process {p} is left" for p in pids if Path(f"/proc/{p}").exists() and _alive(p)]
    parts = [p for d in ("renders", "archives") for p in (root / "data" / d).rglob("*.part")]
    kept.wrong += [f"{p.name} is left half made" for p in parts]
    db.close()


def _alive(pid: int) -> bool:
    with contextlib.suppress(OSError, IndexError):
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
    return False


def run(root: Path, kills: int, seed: int = 0, most: float = 2.0, servers: float = 0.4) -> Kept:
    """So many kills, one after the other, `most` seconds apart; the server is hit in a share of them, and always
    while nothing else is at work."""
    rng, kept = random.Random(seed), Kept()
    served = Served(root)
    httpx.post(f"{served.url}/projects", data={"name": "Killed"}, headers={"x-kovel": "1"}, timeout=20)
    for _ in range(kills):
        work(served.url, root, kept, rng, time.monotonic() + rng.uniform(0.05, most))
        family, here = served.family(), time.monotonic()
        spared = rng.random() > servers
        while spared and not family["parent"] and time.monotonic() < here + 5:  # it has only just begun
            time.sleep(0.1)
            family = served.family()
        others = [k for k in ("parent", "child") if family[k]]
        victim = rng.choice(others) if others and spared else "server"
        for pid in family[victim] if victim != "child" else [rng.choice(family["child"])]:
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
        kept.killed[victim] += 1
        if victim == "server":
            served.process.wait()
            look(root, kept)
            served = Served(root)
        else:
            look(root, kept)
    settle(root, kept, served)
    look(root, kept)
    return kept


def told(kept: Kept, what: str, seconds: float, well: str) -> None:
    """What was done, and what was found wrong."""
    print(f"{what} in {seconds:.0f} s: {dict(kept.killed)}")
    print(f"acknowledged: revision {kept.revision}, {kept.recordings} recordings; done: {dict(kept.done)}")
    print("\n".join(kept.wrong) or well)


def main() -> None:
    kills = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    with tempfile.TemporaryDirectory() as root:
        began = time.monotonic()
        kept = run(Path(root), kills, int(time.time()))
        told(kept, f"{kills} kills", time.monotonic() - began, "nothing lost, nothing half made, nothing left")


if __name__ == "__main__":
    main()
