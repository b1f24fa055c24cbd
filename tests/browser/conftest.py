"""A real server in a process of its own, and Debian's chromium."""

import os
import re
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import uvicorn
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from kovel.data_folder import DataFolder
from kovel.demo.project import FOOTAGE
from kovel.store import stories
from kovel.web.app import create_app

ARGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


class Server:
    """`kovel serve` on a free port, or what else begins a server (`command`)."""

    command = "serve"

    def __init__(self, data: Path, media: Path) -> None:
        self.data, self.media = data, media
        self.process: subprocess.Popen[str] | None = None
        self.start()

    def start(self, port: int = 0) -> None:
        args = [
            sys.executable,
            "-m",
            "kovel",
            self.command,
            "--data",
            str(self.data),
            "--port",
            str(port),
            "--no-browser",
            "--media",
            str(self.media),
        ]
        env = {**os.environ, "PYTHONPATH": "src"}
        self.process = subprocess.Popen(args, stdout=subprocess.PIPE, text=True, env=env)
        assert self.process.stdout
        found = re.search(r"http://[^/\s]+", self.process.stdout.readline())
        assert found
        self.url = found[0].rstrip("/")

    def kill(self) -> None:
        assert self.process
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()

    def cli(self, *args: str) -> str:
        env = {**os.environ, "PYTHONPATH": "src"}
        done = subprocess.run(
            [sys.executable, "-m", "kovel", *args, "--data", str(self.data)], capture_output=True, text=True, env=env
        )
        assert done.returncode == 0, done.stderr
        return done.stdout


class Inside(Server):
    """The same application on a port of its own, in a thread of this process: there at once."""

    def start(self, port: int = 0) -> None:
        app = create_app(DataFolder(self.data), [Path.home(), FOOTAGE, self.media])
        config = uvicorn.Config(app, port=port, log_level="warning", access_log=False, timeout_graceful_shutdown=1)
        self.server = uvicorn.Server(config)
        self.thread = threading.Thread(target=self.server.run, daemon=True)
        self.thread.start()
        while not self.server.started:
            assert self.thread.is_alive()
            time.sleep(0.01)
        self.url = f"http://127.0.0.1:{self.server.servers[0].sockets[0].getsockname()[1]}"

    def kill(self) -> None:
        self.server.should_exit = True
        self.thread.join(15)


@pytest.fixture
def serve(tmp_path: Path) -> Iterator[Callable[..., Server]]:
    """Starts the application on a data folder; `own`: as a process of its own, as `kovel serve` does."""
    made: list[Server] = []

    def start(data: Path, media: Path, own: bool = False) -> Server:
        made.append((Server if own else Inside)(data, media))
        return made[-1]

    yield start
    for s in made:
        if isinstance(s, Inside) or (s.process and s.process.poll() is None):
            s.kill()


@pytest.fixture(scope="session")
def chromium() -> Iterator[Browser]:
    expect.set_options(timeout=20_000)  # the machine may be busy; what is wrong is wrong after that as well
    with sync_playwright() as p:
        b = p.chromium.launch(executable_path="/usr/bin/chromium", args=ARGS)
        yield b
        b.close()


@pytest.fixture
def page(chromium: Browser) -> Iterator[Page]:
    context: BrowserContext = chromium.new_context(viewport={"width": 1280, "height": 800})
    context.set_default_timeout(20_000)
    p = context.new_page()
    errors: list[str] = []
    p.on("pageerror", lambda e: errors.append(str(e)))
    p.on(
        "console",
        lambda m: errors.append(m.text) if m.type == "error" and "Failed to load resource" not in m.text else None,
    )
    yield p
    context.close()
    cut_off = ("Failed to fetch", "htmx:sendError", "htmx:afterRequest")  # requests under way when the page was left
    errors = [e for e in errors if not any(c in e for c in cut_off)]
    assert not errors, errors


WATCH = """
() => { // at every screen refresh: which story frame it should be, and the code on the canvas
  const player = window.kovel.player, c = player.canvas, g = c.getContext("2d"), rows = window.seen = [];
  const read = () => {
    const h = c.height, w = c.width, a = g.getImageData(0, Math.floor(h / 12), w, 1).data, b = g.getImageData(0, Math.floor(h / 4), w, 1).data, bits = [];
    for (let i = 0; i < 16; i++) { const x = Math.floor(((2 * i + 1) * w) / 32) * 4; if (Math.abs(a[x] - b[x]) < 60) return null; bits.push(a[x] > b[x] ? 1 : 0); }
    if (bits[0] !== 1 || bits[1] !== 0) return null;
    return [bits[2] * 2 + bits[3], bits.slice(4).reduce((n, x) => n * 2 + x, 0)];
  };
  window.readCode = read;
  const loop = () => { if (player.playing && (player.speed < 0 || player.now() >= player.base)) rows.push([player.frame, read(), performance.now()]); if (!window.enough) requestAnimationFrame(loop); };
  requestAnimationFrame(loop);
}
"""


@pytest.fixture
def watch() -> Callable[[Page], Any]:
    return lambda page: page.evaluate(WATCH)


@pytest.fixture
def forty(coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path):
    """Forty pieces in half a minute, 5 to 40 frames, jumps inside one recording among them, and six covers."""
    data, r = coded
    rng = np.random.default_rng(7)
    at = 0
    for i in range(41):
        source = r["talk"] if i % 3 else r["fifty"]
        n = int(rng.choice([5, 8, 10, 12, 16, 20, 25, 40]))
        most = (source.length(r["talk"].rate) or 0) - n
        stories.edit(
            data.db, 1, None, "add_at_end", {"source": source.id, "start": int(rng.integers(0, most)), "length": n}
        )
        at += n
    for i in range(6):
        stories.edit(
            data.db,
            1,
            None,
            "lay_cover",
            {"source": r["boat"].id, "at": 50 + 90 * i, "until": 70 + 90 * i, "start": 30 * i},
        )
    return data, serve(data.root, tmp_path, own=True)
