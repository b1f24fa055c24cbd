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
    sizes = {sum_path: _size(sum_path) for sum_path in sums}
    total, done = sum(sizes.values()) + 1, 0
    found_matches: dict[str, str] = {}
    for sum_path in sums:
        try:
            found_matches[sum_path] = checksum(Path(sum_path))
        except OSError:
            found_matches[sum_path] = ""
        done += sizes[sum_path]
        progress(0.95 * done / total)
    told_matches: dict[str, Any] = {}
    for sum_path in facts:
        try:
            told_matches[sum_path] = probe(sum_path)
        except Unusable as error:
            told_matches[sum_path] = {"unusable": str(error)}
        progress(0.95)
    return {"sums": found_matches, "facts": told_matches}


def _size(path: str) -> int:
    try:
        return Path(path).stat().st_size
    except OSError:
        return 0
