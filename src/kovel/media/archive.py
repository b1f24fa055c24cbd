"""A project's one file written: what the project is, and the files that go with it, in a ZIP (docs/archive.md)."""

import os
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from kovel.media.files import Unusable

BLOCK = 4 << 20


def archive(about: str, files: dict[str, str], out: str, progress: Callable[[float], None]) -> dict[str, Any]:
    """Write `out`: the JSON file `about` as project.json, and `files` (name inside: path). Raises `Unusable` where one of them is
    gone; nothing stands under the name unless it is whole."""
    began = time.monotonic()
    final = Path(out)
    part = final.with_name(f"{final.name}.{os.getpid()}.part")
    final.parent.mkdir(parents=True, exist_ok=True)
    done = 0
    try:
        total = sum(os.stat(p).st_size for p in files.values()) or 1
        with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED, allowZip64=True) as z:
            z.write(about, "project.json", zipfile.ZIP_DEFLATED)
            for name, path in files.items():
                with open(path, "rb") as src, z.open(name, "w", force_zip64=True) as dst:
                    while block := src.read(BLOCK):
                        dst.write(block)
                        done += len(block)
                        progress(done / total)
        os.replace(part, final)
    except FileNotFoundError as e:
        gone = Path(str(e.filename)).name
        raise Unusable(
            f"{gone} is not where it was any more. Find it again in Footage, or leave recordings out, then try again."
        ) from None
    finally:
        part.unlink(missing_ok=True)
    Path(about).unlink(missing_ok=True)
    return {"path": out, "bytes": final.stat().st_size, "files": len(files), "took": round(time.monotonic() - began, 1)}
