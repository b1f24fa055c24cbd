"""How Kovel and what it stands on are: versions, disk, database, copies, jobs, codecs, models; one row each."""

import os
import shutil
import sqlite3
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import av
import cv2

from kovel import __version__
from kovel.core.errors import Told
from kovel.core.plan.outputs import OUTPUT_KINDS
from kovel.media.face_finding import CASCADES
from kovel.media.files import Unusable
from kovel.media.models import of_english
from kovel.media.wholeness import shortcomings
from kovel.store import backup
from kovel.store.db import NEWEST

CODECS = tuple(  # by libav's names: what outputs are coded with
    dict.fromkeys(
        name
        for kind in OUTPUT_KINDS.values()
        if kind.coding
        for name in (kind.coding.picture, kind.coding.sound)
        if name
    )
)
LOW = 2_000_000_000  # bytes free on the disk that are little


@dataclass(frozen=True, slots=True)
class Row:
    """One thing that was looked at: whether it is well, and what was found."""

    what: str
    well: bool
    found: str


def examined(root: Path, cluster: str | None = None, certs: Path | None = None) -> list[Row]:
    """Everything that can be said of a data folder, this machine and a cluster; opens nothing for writing."""
    examined_rows = list(_rows(root.expanduser().resolve()))
    return [*examined_rows, _others(root, cluster, certs)] if cluster else examined_rows


def _others(root: Path, address: str, certs: Path | None) -> Row:
    """Who works elsewhere for this data folder, by what the cluster says."""
    try:
        from kovel.jobs.cluster import Cluster
    except ImportError:
        return Row("Workers", False, "the packages for a cluster are not installed: pip install 'kovel[cluster]'")
    try:
        workers, others = Cluster(address, root, certs=certs).workers_seen()
    except Told as error:
        return Row("Workers", False, str(error))
    found = ", ".join(f"{worker.node} (working on {worker.busy}, up to {worker.slots} at once)" for worker in workers)
    unfit = f"{others} more that are not for this folder, or of another version" if others else ""
    return Row("Workers", bool(workers), "; ".join(filter(None, (found or "none works for this folder", unfit))))


def _rows(root: Path) -> Iterator[Row]:
    versions = f"{__version__}, Python {sys.version.split()[0]}, SQLite {sqlite3.sqlite_version}, PyAV {av.__version__}"
    yield Row("Kovel", True, versions)
    if not root.is_dir():
        yield Row("Data folder", False, f"{root} is not there yet. `kovel serve` makes it.")
        return
    writable = os.access(root, os.W_OK | os.X_OK)
    yield Row("Data folder", writable, f"{root}{'' if writable else ' cannot be written'}")
    free = shutil.disk_usage(root).free
    yield Row("Disk", free > LOW, f"{free / 1e9:.1f} GB free")
    path = root / "kovel.db"
    wrong = backup.damage(path) if path.exists() else "there is none yet"
    yield Row("Database", not wrong, wrong or f"whole, form {NEWEST}, {path.stat().st_size / 1e6:.1f} MB")
    copies = backup.copies(root / "backups")[:3]
    kept = [f"{day} ({'damaged' if backup.damage(path) else 'whole'})" for day, path in copies]
    yield Row("Copies", bool(kept), ", ".join(kept) or "none yet; one is made each day that Kovel runs")
    if not wrong:
        yield from _kept_rows(root, path)
    yield from _tool_rows()


def _kept_rows(root: Path, path: Path) -> Iterator[Row]:
    """What the database says of recordings and jobs."""
    with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as connection:
        states = Counter(dict(connection.execute("SELECT state, count(*) FROM job GROUP BY state").fetchall()))
        failed = connection.execute(
            "SELECT message FROM job WHERE state = 'failed' AND message != '' ORDER BY id DESC LIMIT 3"
        ).fetchall()
        names = dict(connection.execute("SELECT id, name FROM recording ORDER BY id").fetchall())
    short = {name: found_lack for name in names if (found_lack := shortcomings(root / "derived" / str(name)))}
    told_lack = "; ".join(f"{names[recording_key]}: {found_lack}" for recording_key, found_lack in short.items())
    whole = f"{len(names)}, what is made of them is whole"
    yield Row("Recordings", not short, f"{told_lack}. `kovel serve` makes them again." if short else whole)
    yield Row("Jobs", not failed, ", ".join(f"{count} {state}" for state, count in sorted(states.items())) or "none")
    lines = root / "logs" / "jobs.log"
    yield Row("Log of jobs", True, str(lines) if lines.exists() else "nothing was done yet")
    for (why,) in failed:
        yield Row("Failed", False, why)


def _tool_rows() -> Iterator[Row]:
    """What the machine and the installation can do."""
    lacking = [codec for codec in CODECS if not _can(codec)]
    yield Row("Encoders", not lacking, f"lacking: {', '.join(lacking)}" if lacking else ", ".join(CODECS))
    try:
        model_there = (of_english() / "model.bin").is_file()
    except Unusable:
        model_there = False
    told_model = "its model is here" if model_there else "its model is not here: nothing can be transcribed"
    yield Row("Recogniser", model_there, told_model)
    faces = all((Path(cv2.__file__).parent / "data" / name).exists() for name in CASCADES)
    yield Row("Faces", faces, f"OpenCV {cv2.__version__}")
    script = "from kovel.media.child import without_network as f; raise SystemExit(0 if f() else 1)"
    alone = subprocess.run([sys.executable, "-c", script], check=False).returncode == 0
    listed = "kept from the network by lists of containers and protocols"
    yield Row("Decoders", True, "without a network" if alone else listed)


def _can(codec: str) -> bool:
    try:
        av.Codec(codec, "w")
    except av.codec.codec.UnknownCodecError:
        return False
    return True
