"""A server on a free port and Debian's chromium, for what is measured in the page."""

import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from urllib.request import urlopen

from playwright.sync_api import Page, sync_playwright

ARGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
]


@contextmanager
def server(data: str, *more: str) -> Iterator[str]:
    """`kovel serve` on the folder `data`: its address."""
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    args = [sys.executable, "-m", "kovel", "serve", "--data", data, "--port", str(port), "--no-browser", *more]
    process = subprocess.Popen(args, env={**os.environ, "PYTHONPATH": "src"}, stdout=subprocess.DEVNULL)
    try:
        url = f"http://127.0.0.1:{port}"
        for _ in range(300):
            try:
                urlopen(url, timeout=1)
                break
            except OSError:
                time.sleep(0.1)
        yield url
    finally:
        process.terminate()
        process.wait()


@contextmanager
def served(data: str) -> Iterator[tuple[str, Page]]:
    """A server on the folder `data`: its address, and a page of 1280x800 that shows nothing yet."""
    with server(data) as url, sync_playwright() as p:
        browser = p.chromium.launch(executable_path="/usr/bin/chromium", args=ARGS)
        yield url, browser.new_page(viewport={"width": 1280, "height": 800})
        browser.close()
