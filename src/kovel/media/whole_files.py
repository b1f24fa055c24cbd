"""Files that are there whole or not at all: each is written under a name of its own and takes its place in one step.

peaks.bin.4711.9f3c.part  |~~~~~~~~~~~~~~~~|          whoever reads peaks.bin sees the old one, or all of the new
peaks.bin                 |old ............|new ............|
                                           ^ renamed over it
"""

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from secrets import token_hex
from typing import Any


@contextmanager
def written_whole(path: Path) -> Iterator[Path]:
    """Where to write what shall stand at `path`: it takes that place once the block ends well, and nothing is left of
    it otherwise.

    Two that write the same at once do not meet: each has a name of its own, and the later one replaces the earlier.
    """
    part_file = path.with_name(f"{path.name}.{os.getpid()}.{token_hex(4)}.part")
    try:
        yield part_file
        os.replace(part_file, path)
    finally:
        part_file.unlink(missing_ok=True)


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
