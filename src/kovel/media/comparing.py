"""Files looked at for whether they are recordings that are missing, or better versions of some."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from kovel.media.derive import checksum
from kovel.media.files import Unusable
from kovel.media.probe import probe


def compare(sums: list[str], facts: list[str], progress: Callable[[float], None]) -> dict[str, Any]:
    """The checksums of some files and what others are, each by its path; one that cannot be read has none, or
    `unusable` and why."""
    sizes = {p: _size(p) for p in sums}
    total, done = sum(sizes.values()) + 1, 0
    found: dict[str, str] = {}
    for p in sums:
        try:
            found[p] = checksum(Path(p))
        except OSError:
            found[p] = ""
        done += sizes[p]
        progress(0.95 * done / total)
    told: dict[str, Any] = {}
    for p in facts:
        try:
            told[p] = probe(p)
        except Unusable as error:
            told[p] = {"unusable": str(error)}
        progress(0.95)
    return {"sums": found, "facts": told}


def _size(path: str) -> int:
    try:
        return Path(path).stat().st_size
    except OSError:
        return 0
