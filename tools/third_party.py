"""Writes THIRD-PARTY.md: what ships with Kovel or is installed for it, with licences, from the lock file and the
packages."""

from __future__ import annotations

import re
import sys
from importlib import metadata
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SHIPPED = (
    ("htmx", "Zero-Clause BSD", "src/kovel/web/static/vendor"),
    ("Source Serif 4", "SIL Open Font License 1.1", "src/kovel/web/static/fonts, src/kovel/media/fonts"),
    ("Public Sans", "SIL Open Font License 1.1", "src/kovel/web/static/fonts"),
)


def licence(name: str) -> str:
    """The licence of an installed package as it says itself: by expression, by classifier, or by the first line."""
    m = metadata.metadata(name)
    if m.get("License-Expression"):
        return str(m["License-Expression"])
    said = [c.split(" :: ")[-1] for c in m.get_all("Classifier") or [] if c.startswith("License ::")]
    text = str(m.get("License") or "").strip().splitlines()
    return ", ".join(said) or (text[0][:80] if text else "see the package")


def main() -> int:
    names = sorted(set(re.findall(r"^([A-Za-z0-9][A-Za-z0-9._-]*)==", (ROOT / "requirements.lock").read_text(), re.M)))
    rows = []
    for n in names:
        try:
            rows.append((n, metadata.version(n), licence(n)))
        except metadata.PackageNotFoundError:  # for another machine or Python
            rows.append((n, "", "not installed here"))
    lines = [
        "# What Kovel is built on",
        "",
        "Written by `tools/third_party.py`.",
        "",
        "## Shipped with the source",
        "",
        "| what | licence | where |",
        "|---|---|---|",
        *(f"| {a} | {b} | {c} |" for a, b, c in SHIPPED),
        "",
        "The demo's footage, voices and music are made by scripts of its own (`src/kovel/demo/making`).",
        "",
        "## Installed from the lock file",
        "",
        "| package | version | licence |",
        "|---|---|---|",
        *(f"| {a} | {b} | {c} |" for a, b, c in rows),
        "",
    ]
    text = "\n".join(lines)
    to = ROOT / "THIRD-PARTY.md"
    if "--check" in sys.argv:
        missing = [n for n in names if f"| {n} |" not in (to.read_text() if to.exists() else "")]
        print(
            f"THIRD-PARTY.md does not list: {', '.join(missing)}" if missing else "THIRD-PARTY.md lists every package"
        )
        return 1 if missing else 0
    to.write_text(text)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
