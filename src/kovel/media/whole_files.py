"""Files that are there whole or not at all: each is written under a name of its own and takes its place in one step.

peaks.bin.1d6f40-9f3c02aa.5e11d0b2.part  |~~~~~~~~~~~|      whoever reads it sees the old one, or all of the new
peaks.bin                                |old .......|new ............|
                                                     ^ renamed over it

So the same call may be made twice, also by two machines that share the folder: neither touches what the other writes.
"""

import glob
import json
import os
import shutil
import socket
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from hashlib import sha256
from pathlib import Path
from secrets import token_hex
from typing import Any

MACHINE = sha256(socket.gethostname().encode()).hexdigest()[:6]
_try = f"{MACHINE}-{token_hex(4)}"  # what this process writes is named by


def name_try(name: str) -> None:
    """This process is the try of that name at a call: whoever began it can sweep away what it leaves behind."""
    global _try
    _try = name


def new_try() -> str:
    """A name for a try at a call that no other has, on whatever machine."""
    return f"{MACHINE}-{token_hex(4)}"


def own_part(path: Path) -> Path:
    """A name beside `path` to write under that nobody else has: of this try, on this machine."""
    return path.with_name(f"{path.name}.{_try}.{token_hex(4)}.part")


def left_parts(path: Path, which: str = "") -> list[Path]:
    """What tries have left beside `path`, or one of them by its name, or those of one machine."""
    middle = f"*{glob.escape(which)}*" if which else "*"
    return sorted(path.parent.glob(f"{glob.escape(path.name)}.{middle}.part"))


def sweep(path: Path) -> None:
    """Take away a file or a folder that somebody may take away as well."""
    with suppress(OSError):
        shutil.rmtree(path) if path.is_dir() else path.unlink()


@contextmanager
def written_whole(path: Path) -> Iterator[Path]:
    """Where to write what shall stand at `path`: it takes that place once the block ends well, and nothing is left of
    it otherwise.

    Two that write the same at once do not meet: each has a name of its own, and the later one replaces the earlier.
    """
    part_file = own_part(path)
    try:
        yield part_file
        os.replace(part_file, path)
    finally:
        part_file.unlink(missing_ok=True)


def standing(final: Path) -> tuple[int, int] | None:
    """Which file stands under a name, to be asked before one is made for it; None where none does."""
    with suppress(OSError):
        facts = final.stat()
        return facts.st_ino, facts.st_mtime_ns
    return None


def placed(part: Path, final: Path, before: tuple[int, int] | None) -> None:
    """What is whole takes its name in one step. Where another file than `before` stands there by now, another try at
    the same was quicker: that one stays."""
    if standing(final) == before:
        if part.is_dir() and final.is_dir():
            for path in part.iterdir():
                path.replace(final / path.name)
        else:
            part.replace(final)
    sweep(part)


def keep(path: Path, facts: dict[str, Any]) -> None:
    """A JSON file of facts that is there whole or not at all."""
    with written_whole(path) as part_file:
        part_file.write_text(json.dumps(facts))


def facts_in(path: Path) -> dict[str, Any] | None:
    """What a file of `keep` says; None where there is none that can be read."""
    try:
        facts: dict[str, Any] = json.loads(path.read_text())
    except (OSError, ValueError):
        return None
    return facts
