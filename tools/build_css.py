"""Compile the styles: `python tools/build_css.py` (needs node; the result is committed). `--check` only compares.

The first line of the built file carries a hash of what it was built from, so that a stale file is found without node.
"""

import hashlib
import subprocess
import sys
import tempfile
from pathlib import Path

WEB = Path(__file__).resolve().parent.parent / "src" / "kovel" / "web"
BUILT = WEB / "static" / "kovel.css"
VERSION = "4.3.5"


def inputs_hash() -> str:
    h = hashlib.sha256()
    for p in sorted([*WEB.glob("css/*.css"), *WEB.glob("templates/**/*.html"), *WEB.glob("static/js/*.js")]):
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
        subprocess.run(
            ["npm", "install", "--silent", "--prefix", tmp, f"@tailwindcss/cli@{VERSION}", f"tailwindcss@{VERSION}"], check=True
        )
        source = (WEB / "css" / "kovel.in.css").read_text().replace('@source "../', f'@source "{WEB}/')
        (Path(tmp) / "in.css").write_text(source)
        cmd = [f"{tmp}/node_modules/.bin/tailwindcss", "-i", f"{tmp}/in.css", "-o", f"{tmp}/out.css", "--minify"]
        subprocess.run(cmd, check=True, cwd=tmp)
        css = (Path(tmp) / "out.css").read_text()
    BUILT.write_text(f"/* built from {inputs_hash()} */\n{css}")
    print(f"{BUILT.name}: {len(css)} bytes")


if __name__ == "__main__":
    main()
