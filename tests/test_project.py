"""The project's own rules: style, types, one-way dependencies, current styles, no calls home."""

import os
import re
import shutil
import subprocess
import sys
import sysconfig
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def test_pages_load_nothing_from_elsewhere_and_carry_no_inline_script() -> None:
    web = ROOT / "src" / "kovel" / "web"
    for f in [
        *web.rglob("*.html"),
        *web.glob("static/js/*.js"),
        *web.glob("rooms/*/scripts/*.js"),
        web / "static" / "kovel.css",
    ]:
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


def test_a_wheel_carries_all_that_runs(tmp_path: Path) -> None:
    """Built, installed in an environment of its own (its requirements lent by this one), and used from another
    folder."""
    source = tmp_path / "source"
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
    for name in ("pyproject.toml", "README.md"):
        shutil.copy(ROOT / name, source)

    def run(*args: str | Path, **env: str) -> str:
        clean = {k: v for k, v in os.environ.items() if k != "PYTHONPATH"} | env
        done = subprocess.run([str(a) for a in args], cwd=tmp_path, env=clean, capture_output=True, text=True)
        assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
        return done.stdout

    run(sys.executable, "-m", "pip", "wheel", source, "--no-deps", "--no-build-isolation", "-q", "-w", tmp_path)
    run(sys.executable, "-m", "venv", "--without-pip", tmp_path / "env")
    python, wheel = tmp_path / "env" / "bin" / "python", next(tmp_path.glob("kovel-*.whl"))
    run(sys.executable, "-m", "pip", "--python", python, "install", "-q", "--no-deps", "--no-index", wheel)
    theirs = Path(run(python, "-c", "import site; print(site.getsitepackages()[0])").strip())
    (theirs / "lent.pth").write_text(sysconfig.get_path("purelib"))
    where = run(python, "-c", "import kovel; print(kovel.__path__[0])").strip()
    assert where == str(theirs / "kovel")
    look = """
import sys; from pathlib import Path; from fastapi.testclient import TestClient
from kovel.demo import project; from kovel.web.app import create_app; from kovel.data_folder import DataFolder
c = TestClient(create_app(DataFolder(Path(sys.argv[1])), jobs=False), base_url="http://127.0.0.1:8463")
for url in ("/", "/static/kovel.css", "/static/js/edits.js", "/static/story/story.js", "/static/vendor/htmx.min.js"): assert c.get(url).status_code == 200, url
assert len(list((Path(project.__file__).parent / "footage").iterdir())) > 10
"""
    run(python, "-c", look, tmp_path / "data")
    command = tmp_path / "env" / "bin" / "kovel"
    assert "set_value" in run(command, "story", "edits") and "No projects yet" in run(
        command, "list", "--data", tmp_path / "data"
    )


def test_every_place_that_the_docs_name_is_there() -> None:
    """A path in `docs` or the README, from the project's folder or from src/kovel; what is followed by a colon is in
    that file."""
    for page in (*(ROOT / "docs").glob("*.md"), ROOT / "README.md"):
        text = page.read_text()
        for name, inside in re.findall(r"`((?:\w+/)+\w+\.(?:py|js|html|css|txt|sql))(?:: (\w+))?`", text):
            found = [d / name for d in (ROOT, ROOT / "src/kovel") if (d / name).is_file()]
            assert found, f"{page.name}: {name}"
            assert not inside or re.search(rf"\b{inside}\b", found[0].read_text()), f"{page.name}: {name}: {inside}"
