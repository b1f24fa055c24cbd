"""One folder holds everything Kovel keeps: the database, what was uploaded, and what it derived."""

import contextlib
import fcntl
import json
import os
import re
import secrets
from functools import lru_cache
from pathlib import Path
from typing import Any

import platformdirs

from kovel.media.soundtrack import sound_file
from kovel.media.wholeness import sound_is_long_enough, sound_made, whole_sound
from kovel.store.db import Database, in_words


def default_folder() -> Path:
    return Path(os.environ.get("KOVEL_DATA") or platformdirs.user_data_dir("kovel"))


class DataFolder:
    """Paths inside a data folder, and its database."""

    def __init__(self, root: Path) -> None:
        self.roots: list[Path] | None = (
            None  # folders that recordings may be read from; None: wherever whoever runs it may
        )
        self.root = root.expanduser().resolve()
        try:
            self.root.mkdir(0o700, parents=True, exist_ok=True)  # nobody else's, where it is new
        except OSError as error:
            raise in_words(error) or error from None
        self.db = Database(self.root / "kovel.db")

    def derived(self, recording: int) -> Path:
        """The folder of what is made of a recording."""
        return self.root / "derived" / str(recording)

    def uploads(self, project: int) -> Path:
        """The folder of a project's uploads."""
        return self.root / "uploads" / str(project)

    def renders(self, project: int) -> Path:
        """The folder of a project's renders."""
        return self.root / "renders" / str(project)

    @property
    def drawn(self) -> Path:
        """Cards and titles as pictures, each in a file named after what it shows."""
        return self.root / "drawn"

    @property
    def tables(self) -> Path:
        """Tables of colours that were loaded or made, by name; one never changes under its name."""
        return self.root / "tables"

    @property
    def fonts(self) -> Path:
        """The editor's own fonts, by name."""
        return self.root / "fonts"

    @property
    def models(self) -> Path:
        """Recogniser models that were put together."""
        return self.root / "models"

    @property
    def logs(self) -> Path:
        """The folder of notebooks."""
        return self.root / "logs"

    @property
    def backups(self) -> Path:
        """The folder of copies of the database."""
        return self.root / "backups"

    def secret(self) -> str:
        """Signs the sign-in cookie; kept, so that a restart does not sign everybody out. One that is not whole is
        made anew."""
        path = self.root / "session.key"
        with contextlib.suppress(OSError, UnicodeError):
            if re.fullmatch("[0-9a-f]{64}", kept := path.read_text()):
                return kept
        new_secret = secrets.token_hex(32)
        part = path.with_suffix(".part")
        try:
            part.unlink(missing_ok=True)
            with open(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as key_file:
                key_file.write(new_secret)
                key_file.flush()
                os.fsync(key_file.fileno())
            part.replace(path)
        except OSError as error:
            raise in_words(error) or error from None
        return new_secret

    def lock(self) -> int | None:
        """Become the one process that runs jobs for this folder: a file descriptor to hold, or None if another does."""
        return jobs_lock(self.root)


def jobs_lock(root: Path) -> int | None:
    """The lock of a data folder, whatever state its database is in."""
    fd = os.open(root / "jobs.lock", os.O_RDWR | os.O_CREAT, 0o600)
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(fd)
        return None
    return fd


def media_facts(data_folder: DataFolder, recording: int) -> dict[str, Any] | None:
    """What is known of a recording's media; None while there is none.

    `whole` where everything is made; before that as far as it is: `samples` there are, `sounded` once that is all of
    them, `small` frames to look at if there are some.
    """
    folder = data_folder.derived(recording)
    whole = _facts(folder / "media.json")
    if whole is not None:
        return {**whole, "whole": True, "sounded": not whole["sound"] or sound_is_long_enough(folder, whole)}
    begun = _facts(folder / "begun.json")
    if begun is None:
        return None
    facts = {**begun, **(_facts(folder / "look.json") or {}), "whole": False}
    sound = sound_made(folder) if begun["sound"] else None
    if sound is not None:
        return {**facts, **sound, "sounded": True}
    facts["sounded"] = not begun["sound"]
    if begun["sound"]:
        try:
            facts["samples"] = sound_file(folder).stat().st_size // (2 * begun["channels"])
        except OSError:
            facts["samples"] = 0
    return facts


def _facts(path: Path) -> dict[str, Any] | None:
    """A file of facts, read once as long as it stays as it is."""
    try:
        st = path.stat()
        return _read(path, st.st_mtime_ns, st.st_size)
    except (OSError, ValueError):
        return None


@lru_cache(4096)
def _read(path: Path, changed: int, size: int) -> dict[str, Any]:
    facts: dict[str, Any] = json.loads(path.read_text())
    return facts


ENOUGH = 48_000 * 2 * 120  # bytes of sound.pcm from which on it is worth listening: a minute or two


def sounded(folder: str, begun: bool = False) -> bool:
    """Whether all of a recording's sound is there, by its folder; or (`begun`) some of it."""
    path = Path(folder)
    if whole_sound(path):
        return True
    with contextlib.suppress(OSError):
        return begun and sound_file(path).stat().st_size > ENOUGH
    return False


def look_at(data_folder: DataFolder, recording: int) -> None:
    """Remember that somebody looks at a recording now: it is made first, and thrown away last."""
    folder = data_folder.derived(recording)
    if folder.is_dir():
        (folder / "looked").touch()


def looked_at(data_folder: DataFolder) -> dict[int, float]:
    """When each recording was looked at last, in Unix seconds."""
    changed_files = {}
    for path in (data_folder.root / "derived").glob("*/looked"):
        with contextlib.suppress(OSError, ValueError):
            changed_files[int(path.parent.name)] = path.stat().st_mtime
    return changed_files
