"""One folder holds everything Kovel keeps: the database, the job queue, what was uploaded, and what it derived."""

import fcntl
import json
import os
from functools import lru_cache
from pathlib import Path
from typing import Any

import platformdirs

from kovel.store.db import Database


def default_folder() -> Path:
    return Path(os.environ.get("KOVEL_DATA") or platformdirs.user_data_dir("kovel"))


class Data:
    """Paths inside a data folder, and its database."""

    def __init__(self, root: Path) -> None:
        self.root = root.expanduser().resolve()
        self.root.mkdir(parents=True, exist_ok=True)
        self.db = Database(self.root / "kovel.db")

    def derived(self, recording: int) -> Path:
        return self.root / "derived" / str(recording)

    def uploads(self, project: int) -> Path:
        return self.root / "uploads" / str(project)

    def renders(self, project: int) -> Path:
        return self.root / "renders" / str(project)

    @property
    def drawn(self) -> Path:
        """Cards and titles as pictures, each in a file named after what it shows."""
        return self.root / "drawn"

    @property
    def queue(self) -> Path:
        return self.root / "queue.db"

    def lock(self) -> int | None:
        """Become the one process that runs jobs for this folder: a file descriptor to hold, or None if another does."""
        fd = os.open(self.root / "jobs.lock", os.O_RDWR | os.O_CREAT, 0o600)
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(fd)
            return None
        return fd


def media_facts(data: Data, recording: int) -> dict[str, Any] | None:
    """What media.json says of a recording; None while there is none. Read once as long as it stays as it is."""
    path = data.derived(recording) / "media.json"
    try:
        st = path.stat()
        return _read(path, st.st_mtime_ns, st.st_size)
    except (OSError, ValueError):
        return None


@lru_cache(4096)
def _read(path: Path, changed: int, size: int) -> dict[str, Any]:
    facts: dict[str, Any] = json.loads(path.read_text())
    return facts
