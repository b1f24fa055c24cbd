"""Compile the styles: `python tools/build_css.py` (needs node; the result is committed). `--check` only compares.

The first line of the built file carries a hash of what it was built from, so that a stale file is found without node.
"""

import hashlib
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
WEB = ROOT / "src" / "kovel" / "web"
BUILT = WEB / "static" / "kovel.css"


def inputs_hash() -> str:
    h = hashlib.sha256()
    for p in sorted(
        [*WEB.glob("css/*.css"), *WEB.rglob("*.html"), *WEB.glob("static/js/*.js"), *WEB.glob("rooms/*/scripts/*.js")]
    ):
        h.update(p.name.encode() + p.read_bytes())
    return h.hexdigest()[:32]


def current() -> bool:
    return BUILT.exists() and BUILT.open().readline().strip() == f"/* built from {inputs_hash()} */"


def main() -> None:
    if "--check" in sys.argv:
        sys.exit(
            0
            if current()
            else "src/kovel/web/static/kovel.css is not built from the present templates. Run tools/build_css.py."
        )
    with tempfile.TemporaryDirectory() as tmp:
        if not (ROOT / "node_modules/.bin/tailwindcss").exists():
            subprocess.run(["npm", "ci", "--silent", "--ignore-scripts"], check=True, cwd=ROOT)
        cmd = [
            str(ROOT / "node_modules/.bin/tailwindcss"),
            "-i",
            str(WEB / "css" / "kovel.in.css"),
            "-o",
            f"{tmp}/out.css",
            "--minify",
        ]
        subprocess.run(cmd, check=True, cwd=ROOT)
        css = (Path(tmp) / "out.css").read_text()
    BUILT.write_text(f"/* built from {inputs_hash()} */\n{css}")
    print(f"{BUILT.name}: {len(css)} bytes")


if __name__ == "__main__":
    main()
