"""The project's own rules: style, types, one-way dependencies, current styles, no calls home."""

import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parent.parent


@pytest.mark.parametrize(
    "command",
    [
        ["ruff", "check", "src", "tests", "tools", "bench"],
        ["mypy"],
        ["importlinter.cli", "lint"],
        ["tools/build_css.py", "--check"],
    ],
    ids=["ruff", "types", "dependencies", "styles"],
)
def test_checks(command: list[str]) -> None:
    if command[0].endswith(".py"):
        args = [sys.executable, *command]
    elif command[0].startswith("importlinter"):
        args = [
            sys.executable,
            "-c",
            "from importlinter.cli import lint_imports; import sys; sys.exit(lint_imports(no_cache=True))",
        ]
    else:
        args = [sys.executable, "-m", *command]
    done = subprocess.run(args, cwd=ROOT, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-3000:]


def test_pages_load_nothing_from_elsewhere_and_carry_no_inline_script() -> None:
    web = ROOT / "src" / "kovel" / "web"
    for f in [*web.rglob("*.html"), *web.glob("static/js/*.js"), web / "static" / "kovel.css"]:
        text = f.read_text()
        assert not re.search(r"""(src|href|url\()\s*=?\s*["']?(https?:)?//""", text), f
        assert not re.search(r"<script(?![^>]*\bsrc=)|\son[a-z]+\s*=\s*[\"']", text), f


def test_lock_installs_everything_that_is_asked_for() -> None:
    lock = (ROOT / "requirements.lock").read_text()
    project = (ROOT / "pyproject.toml").read_text()
    for name in re.findall(r'"([a-z][a-z0-9-]+)', project.split("dependencies = [")[1].split("]")[0]):
        assert re.search(rf"^{name}==", lock, re.M), name
    blocks = re.split(r"\n(?=[a-z])", lock)
    assert all("--hash=sha256:" in b for b in blocks if "==" in b)
