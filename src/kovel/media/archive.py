"""A project's one file written: what the project is, and the files that go with it, in a ZIP (docs/archive.md)."""

import json
import os
import time
import zipfile
from collections.abc import Callable, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

from kovel.core.time.rate import Rate
from kovel.media.cutting import cut_pictures, ending
from kovel.media.derive import checksum
from kovel.media.files import Unusable

BLOCK = 4 << 20


def archive(
    about: str, files: dict[str, str], out: str, progress: Callable[[float], None], cuts: Sequence[dict[str, Any]] = ()
) -> dict[str, Any]:
    """Write `out`: the JSON file `about` as project.json, and `files` (name inside: path). Raises `Unusable` where one of them is
    gone; nothing stands under the name unless it is whole. `cuts`: recordings of which only pictures of some seconds are wanted
    (number, name, path, rate, ranges); those that cannot be cut exactly are taken whole."""
    began = time.monotonic()
    final = Path(out)
    part = final.with_name(f"{final.name}.{os.getpid()}.part")
    final.parent.mkdir(parents=True, exist_ok=True)
    done = 0
    short: list[Path] = []
    begin = 0.5 if cuts else 0.0
    try:
        for k, cut in enumerate(cuts):
            short.append(final.with_name(f"{final.name}.{k}.{os.getpid()}.part"))
            share = lambda x, k=k: progress(0.5 * (k + x) / len(cuts))  # noqa: E731
            name, taken = _shortened(cut, short[-1], share)
            files[name] = str(taken)
            _note(Path(about), cut["number"], name, taken if taken == short[-1] else None)
        total = sum(os.stat(p).st_size for p in files.values()) or 1
        with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED, allowZip64=True) as z:
            z.write(about, "project.json", zipfile.ZIP_DEFLATED)
            for name, path in files.items():
                with open(path, "rb") as src, z.open(name, "w", force_zip64=True) as dst:
                    while block := src.read(BLOCK):
                        dst.write(block)
                        done += len(block)
                        progress(begin + (1 - begin) * done / total)
        os.replace(part, final)
    except FileNotFoundError as e:
        gone = Path(str(e.filename)).name
        raise Unusable(
            f"{gone} is not where it was any more. Find it again in Footage, or leave recordings out, then try again."
        ) from None
    finally:
        for p in (part, *short):
            p.unlink(missing_ok=True)
    Path(about).unlink(missing_ok=True)
    return {"path": out, "bytes": final.stat().st_size, "files": len(files), "took": round(time.monotonic() - began, 1)}


def _shortened(cut: dict[str, Any], to: Path, progress: Callable[[float], None]) -> tuple[str, Path]:
    """A recording's name inside and its file: with the pictures that are wanted, or whole."""
    src = Path(cut["path"])
    ranges = [(Fraction(*a), Fraction(*b)) for a, b in cut["ranges"]]
    if cut_pictures(src, to, Rate(*cut["rate"]), ranges, progress):
        return f"{cut['name'].rsplit('.', 1)[0]}, used pictures{ending(src)}", to
    return cut["name"], src


def _note(about: Path, number: int, name: str, short: Path | None) -> None:
    """Write into project.json under which name a recording lies inside, and what its file is where it is a shortened one."""
    told = json.loads(about.read_text())
    told["media"][str(number)] = name
    if short is not None:
        told.setdefault("cut", {})[str(number)] = {"size": short.stat().st_size, "checksum": checksum(short)}
    about.write_text(json.dumps(told, ensure_ascii=False, indent=1))
