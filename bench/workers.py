"""What work on a cluster costs, and how far it would reach: `./kovel bench workers [RECORDINGS] [SECONDS]` (20 of 20 s).

Recordings of the demo's interviews are prepared and transcribed by so many calls at once: on this machine alone, and
with all but one of them on workers of a Dask cluster on loopback, in turns, so that both meet the machine alike. Then
what a call through the cluster takes is measured, alone and with many in flight, and a thousand hours are laid out over
1 to 50 machines by the times of the jobs that were recorded (what is simulated is said so). Last a film is made in one
call and in parts on 1, 2 and 4 workers, and one of two hours laid out over as many machines. Needs ffmpeg.
"""

import heapq
import json
import os
import socket
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from kovel.data_folder import DataFolder
from kovel.jobs.cluster import Cluster
from kovel.media.film_parts import GROUP
from kovel.services.footage.intake import bring_in
from kovel.services.handoff.rendering import start_output, trim_parts
from kovel.services.job_kinds import scheduler_for
from kovel.services.log import transcription
from kovel.store import jobs, projects, recordings, stories
from kovel.store.jobs import JobState

FOOTAGE = Path(__file__).parent.parent / "src" / "kovel" / "demo" / "footage"
HOURS, EACH = 1000, 1.0  # of footage, in recordings of so many hours
FILM = 7200  # seconds
AT_ONCE = 4  # calls a machine works on
STRETCH = 150 * 48 / 25 / 3600  # hours of pictures in one call, at most


def footage(folder: Path, count: int, seconds: int) -> list[Path]:
    """Beginnings of the demo's interviews, each from another moment of them."""
    sources = sorted(p for p in FOOTAGE.glob("*.mp4") if p.stem.startswith(("maren-a", "tobin", "odile")))
    out = []
    for n in range(count):
        path = folder / f"talk {n + 1}.mp4"
        args = [
            "-ss",
            str(3 * n % 20),
            "-stream_loop",
            "-1",
            "-i",
            str(sources[n % len(sources)]),
            "-t",
            str(seconds),
            "-c",
            "copy",
        ]
        subprocess.run(["ffmpeg", "-v", "error", "-y", *args, str(path)], check=True)
        out.append(path)
    return out


def worked(root: Path, files: list[Path], slots: int, address: str = "") -> tuple[float, list[dict[str, object]]]:
    """Seconds until all is prepared and transcribed, and the log of its calls."""
    data = DataFolder(root)
    projects.create(data.db, "P", "25", "1280x720")
    cluster = Cluster(address, data.root, [files[0].parent]) if address else None
    process = None
    if cluster:
        cluster.start()
        process = begun(address, [data.root, files[0].parent], slots - 1)
        while cluster.slots < slots - 1:
            time.sleep(0.05)
    scheduler = scheduler_for(data, 1 if cluster else slots, [cluster] if cluster else [])
    assert scheduler.start()
    began = time.perf_counter()
    for f in files:
        r = bring_in(data, 1, f, kind="interview")
        transcription.transcribe(data, r.id)
    while jobs.unfinished(data.db):
        time.sleep(0.05)
    took = time.perf_counter() - began
    assert not jobs.in_state(data.db, JobState.FAILED)
    scheduler.stop()
    if process:
        process.terminate()
        process.wait()
    log = [json.loads(x) for x in (data.logs / "jobs.log").read_text().splitlines()]
    data.db.close()
    return took, log


def begun(address: str, folders: list[Path], slots: int) -> "subprocess.Popen[bytes]":
    """A worker of the cluster."""
    shared = [x for folder in folders for x in ("--media", str(folder))]
    args = [sys.executable, "-m", "kovel", "worker", "--cluster", address, *shared, "--at-once", str(slots)]
    return subprocess.Popen(args, env={**os.environ, "PYTHONPATH": "src"}, stderr=subprocess.DEVNULL)


def in_flight(root: Path, path: Path, address: str, calls: int) -> float:
    """Seconds a call takes through the cluster, as so many are handed to it at once and nothing is done: what the
    engine itself costs. (The file is none, so that the child refuses it at once; the worker answers all the same.)"""
    data = DataFolder(root)
    cluster = Cluster(address, data.root, [path.parent])
    cluster.start()
    process = begun(address, [data.root, path.parent], 1)
    while not cluster.slots:
        time.sleep(0.05)
    began = time.perf_counter()
    for n in range(calls):
        cluster.submit(f"bench {calls} {n}", "no such call", {"path": str(path)})
    while any(cluster.result(f"bench {calls} {n}") is None for n in range(calls)):
        time.sleep(0.01)
    took = (time.perf_counter() - began) / calls
    cluster.close()
    process.terminate()
    process.wait()
    data.db.close()
    return took


def laid_out(machines: int, hour: dict[str, float], each_call: float) -> float:
    """Hours until HOURS of footage are done: every call as long as recorded, the engine takes one after the
    other."""
    calls: list[float] = []
    for _ in range(int(HOURS / EACH)):
        pictures = hour["pictures"] * EACH
        n = max(1, round(EACH / STRETCH))
        calls += [hour["transcribe"] * EACH, hour["sound"] * EACH, *[pictures / n] * n]
    calls.sort(reverse=True)
    free = [0.0] * (machines * AT_ONCE)
    heapq.heapify(free)
    busy = end = 0.0
    for c in calls:
        at = max(heapq.heappop(free), busy)
        busy = at + each_call
        heapq.heappush(free, busy + c)
        end = max(end, busy + c)
    return end / 3600


def film(root: Path, seconds: int) -> None:
    """A story of so many seconds, of all recordings in turn."""
    data = DataFolder(root)
    ids, at, turn = [r.id for r in recordings.of_project(data.db, 1)], 0, 0
    while at < seconds * 25:
        source = recordings.get(data.db, ids[turn % len(ids)])
        length = min(60 + 17 * turn % 90, source.frames or 60)
        start = 23 * turn % max(1, (source.frames or 60) - length)
        stories.edit(data.db, 1, None, "add_at_end", {"source": source.id, "start": start, "length": length})
        at, turn = at + length, turn + 1
    data.db.close()


def rendered(root: Path, media: Path, workers: int, address: str) -> tuple[float, list[float], float]:
    """Seconds a film takes with so many workers and nobody here (0: here alone); each call that made parts of it, and
    what joined them."""
    data = DataFolder(root)
    trim_parts(data, 0)
    cluster = Cluster(address, data.root, [media]) if workers else None
    crew = []
    if cluster:
        cluster.start()
        crew = [begun(address, [data.root, media], 1) for _ in range(workers)]
        while cluster.slots < workers:
            time.sleep(0.05)
    scheduler = scheduler_for(data, 1, [cluster] if cluster else [])
    if cluster:
        scheduler.places[0].slots = 0  # type: ignore[attr-defined]
    assert scheduler.start()
    job = start_output(data, 1)
    began = time.perf_counter()
    while (now := jobs.get(data.db, job.id)).is_open:
        time.sleep(0.02)
    took = time.perf_counter() - began
    assert now.result and not now.result["differs"], now.message
    scheduler.stop()
    for process in crew:
        process.terminate()
        process.wait()
    rows = [json.loads(x) for x in (data.logs / "jobs.log").read_text().splitlines()]
    mine = {x["step"]: float(x["seconds"]) for x in rows if x["job"] == job.id}
    data.db.close()
    return took, [t for step, t in mine.items() if step != "film"], mine["film"]


def long_film(machines: int, group: float, join: float, each_call: float) -> float:
    """Seconds of a film of FILM seconds on so many machines, one call each at a time; the engine takes calls one after
    the other, one machine joins."""
    free = [0.0] * machines
    end = 0.0
    for number in range(round(FILM * 25 / GROUP)):
        begins = max(heapq.heappop(free), number * each_call)
        heapq.heappush(free, begins + group)
        end = max(end, begins + group)
    return end + join


def of_a_film(folder: Path, media: Path, root: Path, address: str, each_call: float, seconds: int = 120) -> None:
    film(root, seconds)
    alone, _, _ = rendered(root, media, 0, address)
    print(f"a film of {seconds} s in one call on this machine: {alone:.1f} s", flush=True)
    for workers in (1, 2, 4):
        took, groups, join = rendered(root, media, workers, address)
        print(
            f"in {len(groups)} calls on {workers} workers of this machine's cores: {took:.1f} s, ratio "
            f"{took / alone:.3f}; joined in {join:.1f} s",
            flush=True,
        )
        if workers == 1:
            group, joined = sum(groups) / seconds / 25 * GROUP, join / seconds * FILM
    one = long_film(1, group, joined, each_call)
    for machines in (1, 2, 4, 10, 25, 50):
        long = long_film(machines, group, joined, each_call)
        print(
            f"simulated: a film of two hours on {machines:>2} machines like this: {long / 60:6.1f} min, of them "
            f"{joined / 60:.1f} to join; {one / long:.1f} times as quick as on one"
        )


def main() -> None:
    count, seconds = (int(sys.argv[k]) if len(sys.argv) > k else 20 for k in (1, 2))
    with tempfile.TemporaryDirectory() as name, socket.socket() as s:
        folder = Path(name)
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
        s.close()
        program = [sys.executable, "-m", "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--no-dashboard"]
        engine = subprocess.Popen([*program, "--port", str(port)], stderr=subprocess.DEVNULL)
        address = f"tcp://127.0.0.1:{port}"
        try:
            time.sleep(4)
            (folder / "footage").mkdir()
            files = footage(folder / "footage", count, seconds)
            log: list[dict[str, object]] = []
            for slots in (2, 4):
                own, log = worked(folder / f"own {slots}", files, slots)
                far, _ = worked(folder / f"far {slots}", files, slots, address)
                again, _ = worked(folder / f"again {slots}", files, slots)
                print(
                    f"{count} recordings of {seconds} s, {slots} at a time: {own:.1f} and {again:.1f} s on this machine,"
                    f" {far:.1f} s with {slots - 1} on the cluster; ratio {2 * far / (own + again):.3f}",
                    flush=True,
                )
            total: Counter[str] = Counter()
            for x in log:
                kind = "transcribe" if x["kind"] == "transcribe" else "sound" if x["kind"] == "listen" else "pictures"
                total[kind] += float(str(x["seconds"]))
            hour = {k: v / (count * seconds) * 3600 for k, v in total.items()}
            print("an hour of footage, by the log: " + ", ".join(f"{k} {v:.0f} s" for k, v in hour.items()))
            cost = {n: in_flight(folder / f"flight {n}", files[0], address, n) for n in (1, 100, 1000)}
            print("a call costs: " + ", ".join(f"{1000 * t:.1f} ms with {n} in flight" for n, t in cost.items()))
            alone = laid_out(1, hour, cost[1000])
            for machines in (1, 2, 4, 10, 25, 50):
                h = laid_out(machines, hour, cost[1000])
                print(
                    f"simulated: {HOURS} hours on {machines:>2} machines, {AT_ONCE} calls each: {h:7.1f} hours, "
                    f"{alone / h / machines:.2f} of ideal"
                )
            of_a_film(folder, folder / "footage", folder / "own 2", address, cost[1000])
        finally:
            engine.terminate()
            engine.wait()


if __name__ == "__main__":
    main()
