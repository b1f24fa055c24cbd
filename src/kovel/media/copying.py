"""Files copied off a card: read once, hashed while they are read, and the copy read again; what is there already is
passed over."""

import hashlib
import json
import os
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any

from kovel.media import mhl
from kovel.media.files import Unusable
from kovel.media.whole_files import keep, own_part

BLOCK = 4 << 20
FAULT = ".fails-after"  # in the folder of a made-up card: so many bytes can be read of it


def _why_not(error: Exception, file: str, whole: int, count: int) -> str:
    if isinstance(error, CardGone):
        return (
            f"The card could not be read any further, at {file}: it was pulled out or is failing. {whole} of {count} "
            "files are safely copied; put it back and try again, and it goes on from there."
        )
    return (
        f"{file} did not come out as it was read: the disk it is copied to may be failing. Try again, or another disk."
    )


def _list(folder: Path, files: Iterable[str], known: Mapping[str, Any]) -> None:
    """Write a generation of the manifest with those that stand in none yet."""
    generations = (mhl.read(folder / "ascmhl" / generation) for generation in mhl.generations(folder))
    listed = {hashed.path for hashed_files in generations for hashed in hashed_files}
    new_files = [(file, known[file]) for file in files if file not in listed]
    if new_files:
        mhl.write(
            folder, [mhl.Hashed(file, facts["size"], facts["changed"], facts["md5"]) for file, facts in new_files]
        )


def copy(card: str, files: list[str], out: str, progress: Callable[[float], None]) -> dict[str, Any]:
    """Copy `files` (paths below folder `card`) into folder `out`, verify them, write a manifest. Raises `Unusable`
    where the card is gone: what is whole stays, and another try goes on from there.

    Returns copied (path, size, sha256), those that were there already, bytes.
    """
    root, to = Path(card), Path(out)
    to.mkdir(parents=True, exist_ok=True)
    log = to.with_name(f".{to.name}.copied.json")  # beside it: in it there is nothing but what was on the card
    known: dict[str, Any] = json.loads(log.read_text()) if log.exists() else {}
    total = sum(_size(root, file) for file in files) or 1
    limit = _limit(root)
    done = 0
    fresh: list[str] = []
    before: list[str] = []
    for file in files:
        size = _size(root, file)
        if file in known and known[file]["size"] == size and _is_whole(to / file, size):
            before.append(file)
            done += size
            continue
        report = lambda copied, done=done: progress(0.9 * (done + copied) / total)  # noqa: E731
        try:
            known[file] = _copied(root / file, to / file, None if limit is None else limit - done, report)
        except (CardGone, Spoilt) as error:
            raise Unusable(_why_not(error, file, len(fresh) + len(before), len(files))) from None
        done += size
        keep(log, known)
        fresh.append(file)
    _list(to, (*before, *fresh), known)
    progress(1.0)
    copied_files = [
        {"path": str(to / copied_file), "size": known[copied_file]["size"], "sha256": known[copied_file]["sha256"]}
        for copied_file in (*before, *fresh)
    ]
    return {
        "copied": copied_files,
        "before": before,
        "bytes": sum(known[copied_file]["size"] for copied_file in fresh),
        "folder": out,
    }


class CardGone(Exception):
    """The card, or the disk, could not be read or written any further."""


class Spoilt(Exception):
    """What was written is not what was read."""


def _is_whole(path: Path, size: int) -> bool:
    """Whether a file of this size is there."""
    return path.is_file() and path.stat().st_size == size


def _copied(source: Path, final: Path, limit: int | None, report: Callable[[int], None]) -> dict[str, Any]:
    """Copy one file and read it back; its size, sums and time. `limit`: bytes that the card still gives (a simulated
    card that is pulled out). Raises `CardGone` or `Spoilt`, and leaves nothing then."""
    md5, sha = hashlib.md5(usedforsecurity=False), hashlib.sha256()
    final.parent.mkdir(parents=True, exist_ok=True)
    part_file = own_part(final)
    copied = 0
    try:
        with source.open("rb") as src, part_file.open("wb") as dst:
            while block := src.read(BLOCK if limit is None else min(BLOCK, max(1, limit - copied))):
                if limit is not None and copied >= limit:
                    raise OSError
                md5.update(block)
                sha.update(block)
                dst.write(block)
                copied += len(block)
                report(copied)
            dst.flush()
            os.fsync(dst.fileno())
    except OSError:
        part_file.unlink(missing_ok=True)
        raise CardGone from None
    if mhl.md5_of(part_file) != md5.hexdigest():
        part_file.unlink(missing_ok=True)
        raise Spoilt
    stat = source.stat()
    os.utime(part_file, (stat.st_atime, stat.st_mtime))
    os.replace(part_file, final)
    return {"size": copied, "md5": md5.hexdigest(), "sha256": sha.hexdigest(), "changed": stat.st_mtime}


def _size(root: Path, f: str) -> int:
    try:
        return (root / f).stat().st_size
    except OSError:
        return 0


def _limit(root: Path) -> int | None:
    try:
        return int((root / FAULT).read_text())
    except (OSError, ValueError):
        return None
