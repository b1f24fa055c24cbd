"""Preparing on a busy machine: `./kovel bench prepared [TIMES]` (20 unless said).

A fresh data folder, the demo's main interview (long enough to be made in steps) and two shots, every core kept busy
with something else, a server of jobs killed once on the way and begun again in every second turn. Prints how long it
took, and how often anything was short of what it should be: held against the recordings' own files, not against what
Kovel noted of them.
"""

import contextlib
import multiprocessing
import os
import sys
import tempfile
import time
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

import av

from kovel.data_folder import DataFolder
from kovel.demo.project import FOOTAGE
from kovel.media.wholeness import shortcomings
from kovel.services.footage.intake import bring_in
from kovel.services.job_kinds import scheduler_for
from kovel.store import jobs, projects
from kovel.store.jobs import JobState

FILES = ("maren-a.mp4", "gulls.mp4", "wheel.mp4")


def _burn() -> None:
    os.nice(5)  # as preparing itself is
    while True:
        pass


@contextlib.contextmanager
def busy(cores: int = os.cpu_count() or 2) -> Iterator[None]:
    """So many cores with something else to do."""
    others = [multiprocessing.get_context("fork").Process(target=_burn, daemon=True) for _ in range(cores)]
    for p in others:
        p.start()
    try:
        yield
    finally:
        for p in others:
            p.kill()


def lasts(path: Path) -> tuple[int, float]:
    """Pictures and seconds of sound that a file has, by decoding none of it but its packets."""
    with av.open(str(path)) as c:
        frames = sum(1 for p in c.demux(c.streams.video[0]) if p.size)
    with av.open(str(path)) as c:
        sound = next(iter(c.streams.audio), None)
        seconds = float(Fraction(sound.duration or 0) * (sound.time_base or 1)) if sound else 0.0
    return frames, seconds


def prepared(folder: Path, interrupted: bool) -> list[str]:
    """Prepare all of it in a fresh folder; what is short, in words."""
    data = DataFolder(folder)
    p = projects.create(data.db, "Busy", "25", "1280x720")
    made = {bring_in(data, p.id, FOOTAGE / f).id: FOOTAGE / f for f in FILES}
    foreman = scheduler_for(data)
    assert foreman.start()
    if interrupted:
        time.sleep(8)
        foreman.stop()
        foreman = scheduler_for(data)
        assert foreman.start()
    while jobs.unfinished(data.db):
        time.sleep(0.2)
    foreman.stop()
    short = [j.message for j in jobs.in_state(data.db, JobState.FAILED)]
    for i, path in made.items():
        frames, seconds = lasts(path)
        told = data.derived(i)
        if found := shortcomings(told):
            short.append(f"{path.name}: {found}")
        have = (told / "sound.pcm").stat().st_size / 96_000 if seconds else 0.0
        if abs(have - seconds) > 0.1:
            short.append(f"{path.name}: {have:.1f} of {seconds:.1f} s of sound")
        if (told / "proxy.idx").stat().st_size != 4 * frames:
            short.append(f"{path.name}: {(told / 'proxy.idx').stat().st_size // 4} of {frames} pictures")
    data.db.close()
    return short


def main() -> None:
    times = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    bad = 0
    for n in range(times):
        with tempfile.TemporaryDirectory(prefix="kovel-") as folder, busy():
            began = time.monotonic()
            short = prepared(Path(folder), bool(n % 2))
            bad += bool(short)
            print(
                f"{n + 1:3}: {time.monotonic() - began:5.0f} s{', begun again on the way' if n % 2 else ''}: "
                f"{'; '.join(short) or 'all whole'}",
                flush=True,
            )
    print(f"Short in {bad} of {times}.")


if __name__ == "__main__":
    main()
