"""A disk that fails: `./kovel bench faults [ROUNDS]` (60 unless said).

A server is worked with as in `bench kills`, while the disk below its folder is full, cannot be written, answers with
errors, now and then or always, or is slow (a library of our own stands before the system's, faults.c; needs gcc;
what libav writes by itself does not pass it: a disk that is really full is in tests/test_jobs.py). After each round:
nothing acknowledged is lost, what was refused was told in words, the server lives; at the end every job has gone on
by itself.
"""

import errno
import random
import struct
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass, field
from pathlib import Path

import httpx

from bench.kills import Kept, Served, look, settle, told, work

FAULTS = {  # what is told: error, every, milliseconds
    "full": (errno.ENOSPC, 1, 0),
    "full now and then": (errno.ENOSPC, 7, 0),
    "read only": (errno.EROFS, 1, 0),
    "errors": (errno.EIO, 1, 0),
    "errors now and then": (errno.EIO, 11, 0),
    "slow": (0, 0, 15),
}


@dataclass
class Disk:
    """The disk below a folder, as the library reads how it is."""

    told: Path
    library: Path
    root: Path
    env: dict[str, str] = field(init=False)

    def __post_init__(self) -> None:
        source = Path(__file__).with_name("faults.c")
        subprocess.run(
            ["gcc", "-shared", "-fPIC", "-O2", "-w", "-o", str(self.library), str(source), "-ldl"], check=True
        )
        self.well()
        self.env = {"LD_PRELOAD": str(self.library), "FAULTS_TOLD": str(self.told), "FAULTS_ROOT": str(self.root)}

    def is_(self, fault: str) -> None:
        self._tell(*FAULTS[fault])

    def well(self) -> None:
        self._tell(0, 0, 0)

    def _tell(self, error: int, every: int, wait: int) -> None:
        if not self.told.exists():
            self.told.write_bytes(bytes(12))
        with self.told.open("r+b") as f:
            f.write(struct.pack("iii", error, every, wait))


def run(root: Path, rounds: int, seed: int = 0) -> Kept:
    """So many faults, one after the other."""
    rng, kept = random.Random(seed), Kept()
    disk = Disk(root / "told", root / "faults.so", root / "data")
    served = Served(root, disk.env)
    head = {"x-kovel": "1", "accept": "application/json"}
    httpx.post(f"{served.url}/projects", data={"name": "Faulty"}, headers=head, timeout=60)
    names = [n for n in FAULTS for _ in range(-(-rounds // len(FAULTS)))][:rounds]
    rng.shuffle(names)
    for name in names:
        work(served.url, root, kept, rng, time.monotonic() + rng.uniform(0.05, 0.5))
        disk.is_(name)
        try:
            until = time.monotonic() + rng.uniform(0.3, 1.5)
            while time.monotonic() < until:
                r = httpx.post(
                    f"{served.url}/p/1/story/edit",
                    json={"command": "insert_space", "at": 0, "length": 5},
                    headers=head,
                    timeout=60,
                )
                if r.status_code == 200:
                    kept.revision = r.json()["revision"]
                elif r.status_code != 507 or (
                    "Nothing was changed" not in r.text and "nothing was changed" not in r.text
                ):
                    kept.wrong.append(f"{name}: {r.status_code} {r.text[:200]}")
                kept.done["edit" if r.status_code == 200 else "refused"] += 1
                shown = httpx.get(f"{served.url}/p/1/story", timeout=60)
                if shown.status_code != 200:
                    kept.wrong.append(f"{name}: the story is not shown: {shown.status_code}")
                kept.done["looked"] += 1
        finally:
            disk.well()
        kept.killed[name] += 1
        if served.process.poll() is not None:
            kept.wrong.append(f"{name}: the server ended")
            served = Served(root, disk.env)
        look(root, kept)
    settle(root, kept, served)
    look(root, kept)
    return kept


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    with tempfile.TemporaryDirectory() as root:
        began = time.monotonic()
        kept = run(Path(root), rounds, int(time.time()))
        well = "nothing lost, everything told in words, everything went on by itself"
        told(kept, f"{rounds} faults", time.monotonic() - began, well)


if __name__ == "__main__":
    main()
