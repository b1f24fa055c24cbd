"""What the queue for other machines costs, and how far it would reach: `./kovel bench workers [RECORDINGS] [SECONDS]`
(20 of 20 s).

Recordings of the demo's interviews are prepared and transcribed by so many workers: this machine's own, and the same
number of which all but one come over Redis, in turns, so that both meet the machine alike. Then the foreman's own
time for a round with many calls out is measured, and a thousand hours are laid out over 1 to 50 machines by the
times of the jobs that were recorded (what is simulated is said so). Needs redis-server and ffmpeg.
"""

import heapq
import json
import os
import secrets
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from redis import Redis

from kovel.data_folder import DataFolder
from kovel.jobs.call_queue import on_this_machine
from kovel.jobs.remote_workers import CREW, EPOCH, Crew
from kovel.services.footage.intake import bring_in
from kovel.services.job_kinds import scheduler_for
from kovel.services.log import transcription
from kovel.store import jobs, projects
from kovel.store.jobs import JobState

FOOTAGE = Path(__file__).parent.parent / "src" / "kovel" / "demo" / "footage"
HOURS, EACH = 1000, 1.0  # of footage, in recordings of so many hours
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


def worked(root: Path, files: list[Path], slots: int, url: str = "") -> tuple[float, list[dict[str, object]]]:
    """Seconds until all is prepared and transcribed, and the log of its calls."""
    data = DataFolder(root)
    projects.create(data.db, "P", "25", "1280x720")
    crew = Crew(url, data.root, [files[0].parent]) if url else None
    foreman = scheduler_for(data, workers=1 if url else slots, crew=crew)
    assert foreman.start()
    process = None
    if crew and slots > 1:
        shared = [x for d in (data.root, files[0].parent) for x in ("--media", str(d))]
        args = [sys.executable, "-m", "kovel", "worker", *shared, "--at-once", str(slots - 1)]
        process = subprocess.Popen(
            args, env={**os.environ, "KOVEL_QUEUE": url, "PYTHONPATH": "src"}, stderr=subprocess.DEVNULL
        )
        while not crew.there():
            time.sleep(0.05)
    began = time.perf_counter()
    for f in files:
        r = bring_in(data, 1, f, kind="interview")
        transcription.transcribe(data, r.id)
    while jobs.unfinished(data.db):
        time.sleep(0.05)
    took = time.perf_counter() - began
    assert not jobs.in_state(data.db, JobState.FAILED)
    foreman.stop()
    if process:
        process.terminate()
        process.wait()
    log = [json.loads(x) for x in (data.logs / "jobs.log").read_text().splitlines()]
    data.db.close()
    return took, log


def a_round(root: Path, url: str, out: int) -> float:
    """Seconds that a round of the foreman takes with so many calls on other machines, none of which has ended."""
    data = DataFolder(root)
    projects.create(data.db, "P")
    crew = Crew(url, data.root)
    foreman = scheduler_for(data, workers=1, crew=crew)
    foreman.queue = on_this_machine(str(data.queue))
    crew.start()
    link = Redis.from_url(url)
    epoch = link.get(EPOCH).decode()
    for n in range(out // AT_ONCE):
        row = {"epoch": epoch, "slots": AT_ONCE, "node": f"m{n}", "roots": [str(data.root)], "beat": 1}
        link.hset(CREW, f"m{n}", json.dumps(row))
    with data.db.write():
        for n in range(out):
            jobs.add(data.db, 1, "render", {"out": str(data.root / f"{n}.mp4")})
    while len(crew.there()) < out // AT_ONCE or not crew.settled:
        time.sleep(0.05)
    foreman.workers = 0
    foreman.step()
    assert len(foreman._out) == out // AT_ONCE * AT_ONCE
    times = []
    for _ in range(10):
        began = time.perf_counter()
        foreman.step()
        times.append(time.perf_counter() - began)
    crew.stop()
    data.db.close()
    return statistics.median(times)


def laid_out(machines: int, hour: dict[str, float], each_call: float) -> float:
    """Hours until HOURS of footage are done: every call as long as recorded, the foreman gives and takes one after
    the other."""
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


def main() -> None:
    count, seconds = (int(sys.argv[k]) if len(sys.argv) > k else 20 for k in (1, 2))
    with tempfile.TemporaryDirectory() as name, socket.socket() as s:
        folder = Path(name)
        s.bind(("127.0.0.1", 0))
        port, secret = s.getsockname()[1], secrets.token_hex(8)
        s.close()
        redis = subprocess.Popen(
            ["redis-server", "--port", str(port), "--requirepass", secret, "--save", "", "--dir", name],
            stdout=subprocess.DEVNULL,
        )
        url = f"redis://:{secret}@127.0.0.1:{port}/0"
        try:
            time.sleep(1)
            (folder / "footage").mkdir()
            files = footage(folder / "footage", count, seconds)
            log: list[dict[str, object]] = []
            for slots in (1, 2, 4):
                own, log = worked(folder / f"own {slots}", files, slots)
                far, _ = worked(folder / f"far {slots}", files, slots, url)
                again, _ = worked(folder / f"again {slots}", files, slots)
                mean = (own + again) / 2
                print(
                    f"{count} recordings of {seconds} s, {slots} at a time: {own:.1f} and {again:.1f} s by this "
                    "machine's queue,"
                    f" {far:.1f} s with {slots - 1} over Redis; ratio {far / mean:.3f}",
                    flush=True,
                )
            total: Counter[str] = Counter()
            for x in log:
                total[
                    "transcribe" if x["kind"] == "transcribe" else "sound" if x["kind"] == "listen" else "pictures"
                ] += float(str(x["seconds"]))
            hour = {k: v / (count * seconds) * 3600 for k, v in total.items()}
            print("an hour of footage, by the log: " + ", ".join(f"{k} {v:.0f} s" for k, v in hour.items()))
            rounds = {n: a_round(folder / f"round {n}", url, n) for n in (4, 40, 200)}
            print(
                "a round of the foreman: "
                + ", ".join(f"{1000 * t:.1f} ms with {n} calls out" for n, t in rounds.items())
            )
            each = rounds[200] / 20 + 0.15 / 20  # of 200 calls that are out, at least 20 a round end in the worst case
            alone = laid_out(1, hour, each)
            for machines in (1, 2, 4, 10, 25, 50):
                h = laid_out(machines, hour, each)
                print(
                    f"simulated: {HOURS} hours on {machines:>2} machines, {AT_ONCE} calls each: {h:7.1f} hours, "
                    f"{alone / h / machines:.2f} of ideal"
                )
        finally:
            redis.terminate()
            redis.wait()


if __name__ == "__main__":
    main()
