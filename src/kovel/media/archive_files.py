"""A project's one file written: what the project is, and the files that go with it, in a ZIP (docs/archive.md)."""

import json
import os
import shutil
import time
import zipfile
import zlib
from collections.abc import Callable, Iterator, Sequence
from fractions import Fraction
from hashlib import sha256
from pathlib import Path
from typing import Any

from kovel.core.time.rate import Rate
from kovel.media.cutting import cut_pictures, ending
from kovel.media.derive import checksum
from kovel.media.files import Unusable, spare
from kovel.media.whole_files import own_part, placed, standing, written_whole

BLOCK = 4 << 20


def archive(
    about: str, files: dict[str, str], out: str, progress: Callable[[float], None], cuts: Sequence[dict[str, Any]] = ()
) -> dict[str, Any]:
    """Write `out`: the JSON file `about` as project.json, and `files` (name inside: path). Raises `Unusable` where
    one of them is gone; nothing stands under the name unless it is whole. `cuts`: recordings of which only pictures
    of some seconds are wanted (number, name, path, rate, ranges); those that cannot be cut exactly are taken whole."""
    began = time.monotonic()
    final = Path(out)
    part_file, before = own_part(final), standing(final)
    final.parent.mkdir(parents=True, exist_ok=True)
    done = 0
    short: list[Path] = []
    begin = 0.5 if cuts else 0.0
    try:
        for index, cut in enumerate(cuts):
            short.append(own_part(final.with_name(f"{final.name}.{index}")))
            share = lambda x, k=index: progress(0.5 * (k + x) / len(cuts))  # noqa: E731
            name, taken = _shortened(cut, short[-1], share)
            files[name] = str(taken)
            _note(Path(about), cut["number"], name, taken if taken == short[-1] else None)
        total = sum(os.stat(file).st_size for file in files.values()) or 1
        with zipfile.ZipFile(part_file, "w", zipfile.ZIP_STORED, allowZip64=True) as archive_zip:
            archive_zip.write(about, "project.json", zipfile.ZIP_DEFLATED)
            for name, path in files.items():
                with open(path, "rb") as src, archive_zip.open(name, "w", force_zip64=True) as dst:
                    while block := src.read(BLOCK):
                        dst.write(block)
                        done += len(block)
                        progress(begin + (1 - begin) * done / total)
        placed(part_file, final, before)
    except FileNotFoundError as error:
        gone = Path(str(error.filename)).name
        raise Unusable(
            f"{gone} is not where it was any more. Find it again in Footage, or leave recordings out, then try again."
        ) from None
    finally:
        for this_path in (part_file, *short):
            this_path.unlink(missing_ok=True)
    return {"path": out, "bytes": final.stat().st_size, "files": len(files), "took": round(time.monotonic() - began, 1)}


def _shortened(cut: dict[str, Any], to: Path, progress: Callable[[float], None]) -> tuple[str, Path]:
    """A recording's name inside and its file: with the pictures that are wanted, or whole."""
    src = Path(cut["path"])
    ranges = [(Fraction(*a), Fraction(*b)) for a, b in cut["ranges"]]
    if cut_pictures(src, to, Rate(*cut["rate"]), ranges, progress):
        return f"{cut['name'].rsplit('.', 1)[0]}, used pictures{ending(src)}", to
    return cut["name"], src


def _note(about: Path, number: int, name: str, short: Path | None) -> None:
    """Write into project.json under which name a recording lies inside, and what its file is where it is a shortened
    one."""
    told_about = json.loads(about.read_text())
    told_about["media"][str(number)] = name
    if short is not None:
        told_about.setdefault("cut", {})[str(number)] = {"size": short.stat().st_size, "checksum": checksum(short)}
    with written_whole(about) as part_file:
        part_file.write_text(json.dumps(told_about, ensure_ascii=False, indent=1))


LARGEST = {"project.json": 400_000_000, "tables": 40_000_000, "fonts": 20_000_000}  # bytes of one member, by its kind


def unpack(path: str, out: str, progress: Callable[[float], None]) -> dict[str, Any]:
    """Take an archive apart into folder `out`, each member held to a limit by its kind while it comes out of the
    file. The members by name, with their file, size and checksum; `Unusable`, and nothing is left, for what is none."""
    folder = Path(out)
    folder.mkdir(parents=True)
    try:
        return {"members": _members(Path(path), folder, progress)}
    except (zipfile.BadZipFile, NotImplementedError, EOFError, zlib.error, RuntimeError, ValueError, KeyError) as error:
        shutil.rmtree(folder, ignore_errors=True)
        raise (
            error if isinstance(error, Unusable) else Unusable("it is no archive of Kovel, or it is damaged")
        ) from None
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise


def _members(path: Path, folder: Path, progress: Callable[[float], None]) -> dict[str, Any]:
    found_members: dict[str, Any] = {}
    with zipfile.ZipFile(path) as archive_zip:
        wanted = [(member, kind) for member in archive_zip.infolist() if (kind := _kind(member.filename))]
        if not any(name == "project.json" for _, name in wanted):
            raise Unusable("it is no archive of Kovel: there is no project in it")
        total, done = sum(member.file_size for member, name in wanted if name == "media") or 1, 0
        spare(folder, float(total))
        for index, (member, kind) in enumerate(wanted):
            member_place, sha, size = folder / f"{index}", sha256(), 0
            for block in _written(archive_zip, member, LARGEST.get(kind), member_place):
                sha.update(block)
                size += len(block)
                if kind == "media":
                    done += len(block)
                    progress(min(1.0, done / total))
            found_members[member.filename] = {
                "file": str(member_place),
                "size": size,
                "checksum": sha.hexdigest(),
                "kind": kind,
            }
            if kind == "project.json":
                _refuse_unreadable(member_place)
    return found_members


def _written(z: zipfile.ZipFile, member: zipfile.ZipInfo, most: int | None, to: Path) -> Iterator[bytes]:
    """The blocks of a member, each written to `to`. Raises `Unusable` where it is larger than `most` or
    than it says."""
    name = Path(member.filename).name
    if most is not None and member.file_size > most:
        raise Unusable(f"{name} in it is larger than such a file can be ({member.file_size / 1e6:.0f} MB)")
    bytes_left = member.file_size
    with z.open(member) as src, to.open("xb") as dst:
        while block := src.read(BLOCK):
            bytes_left -= len(block)
            if bytes_left < 0:
                raise Unusable(f"{name} in it is larger than it says")
            dst.write(block)
            yield block


def _refuse_unreadable(project: Path) -> None:
    try:
        json.loads(project.read_text("utf-8"))
    except (RecursionError, UnicodeDecodeError, MemoryError):
        raise Unusable("the project in it cannot be read") from None


def _kind(name: str) -> str:
    """What a member of an archive is, by its name; empty for what does not belong in one."""
    if name == "project.json":
        return name
    top, _, rest = name.partition("/")
    plain = rest == Path(rest).name and rest not in ("", ".", "..") and not rest.startswith(".")
    return top if top in ("tables", "fonts", "media") and plain else ""
