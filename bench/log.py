"""The Log room with a three-hour recording and 30,000 words, in the browser: `python -m bench.log`.

Made sound (bursts of noise, three hours at 48 kHz), prepared as any recording is, and made words. Times stand beside
the least the page can take in the same run: a request that answers next to nothing, and refreshes in which nothing
moves.
"""

import subprocess
import sys
import tempfile
import time
import wave
from pathlib import Path
from statistics import median

import numpy as np
from playwright.sync_api import Page

from bench.served import served
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.store import transcripts

HOURS, SAID = 3, 30_000

FETCHED = """async (urls) => {
  const rows = [];
  for (const u of urls) { const t = performance.now(); await (await fetch(u, { headers: { "HX-Request": "true", "X-Kovel": "1" } })).text(); rows.push(performance.now() - t); }
  return rows;
}"""
REFRESHES = """async (what) => {
  const words = document.getElementById("words"), loupe = document.getElementById("loupe-in"), r = loupe.getBoundingClientRect(), gaps = [];
  const event = (kind, x) => loupe.dispatchEvent(new PointerEvent(kind, { bubbles: true, clientX: x, clientY: r.y + 30, pointerId: 1, buttons: 1 }));
  loupe.setPointerCapture = () => {};
  if (what === "loupe") event("pointerdown", r.x + r.width / 2);
  let last = performance.now();
  for (let i = 0; i < 240; i++) {
    if (what === "words") words.scrollTop += 60;
    if (what === "loupe") event("pointermove", r.x + r.width / 2 + 60 * Math.sin(i / 9));
    await new Promise((r) => requestAnimationFrame(r));
    const now = performance.now(); gaps.push(now - last); last = now;
  }
  if (what === "loupe") event("pointerup", r.x + r.width / 2);
  return gaps;
}"""


def made(folder: Path) -> tuple[DataFolder, list[str]]:
    """Three hours in a data folder, with words over all of it; and the vocabulary."""
    rng = np.random.default_rng(3)
    minute = (rng.standard_normal(48_000 * 60) * 3000).astype("<i2")
    minute *= np.repeat(rng.random(240) < 0.8, 12_000)
    with wave.open(str(folder / "talk.wav"), "wb") as w:
        w.setnchannels(1)
        w.setsampwidth(2)
        w.setframerate(48_000)
        for _ in range(60 * HOURS):
            w.writeframes(minute.tobytes())
    t = time.perf_counter()
    subprocess.run(
        [
            sys.executable,
            "-m",
            "kovel",
            "import",
            "--new",
            "Long",
            str(folder / "talk.wav"),
            "--data",
            str(folder / "data"),
        ],
        check=True,
        stdout=subprocess.DEVNULL,
    )
    print(f"three hours of sound prepared in {time.perf_counter() - t:.0f} s", flush=True)
    data = DataFolder(folder / "data")
    vocabulary = ["".join(rng.choice(list("aeioulnrst"), rng.integers(3, 8))) for _ in range(4000)]
    step = HOURS * 3600 * 48_000 // SAID
    said = [
        Word(
            vocabulary[rng.integers(4000)] + ("." if i % 13 == 0 else ""),
            i * step,
            i * step + 9000,
            ("M", "T")[i // 400 % 2],
        )
        for i in range(SAID)
    ]
    transcripts.set_words(data.db, 1, said)
    return data, vocabulary


def memory(page: Page) -> tuple[float, float]:
    """MB the page's scripts hold, and MB of its own process on Linux (what it shares with none)."""
    heap = page.evaluate("performance.memory.usedJSHeapSize") / 1e6
    own = 0.0
    for p in Path("/proc").glob("[0-9]*"):
        try:
            if b"--type=renderer" in (p / "cmdline").read_bytes():
                rows = (p / "smaps_rollup").read_text().splitlines()
                own = max(own, sum(int(r.split()[1]) for r in rows if r.startswith("Private")) / 1000)
        except OSError:
            continue
    return heap, own


def main() -> None:
    with tempfile.TemporaryDirectory() as d:
        data, vocabulary = made(Path(d))
        rows = []
        for w in vocabulary[:200]:
            t = time.perf_counter()
            transcripts.search(data.db, 1, w)
            rows.append((time.perf_counter() - t) * 1000)
        print(f"search at the store: median {median(rows):.1f} ms, worst of 200 {max(rows):.0f}", flush=True)
        with served(str(data.root)) as (url, page):
            page.goto(f"{url}/p/1/log?rec=1")
            for _ in range(3):
                t = time.perf_counter()
                page.goto(f"{url}/p/1/log?rec=1", wait_until="commit")
                while not page.evaluate("Boolean(window.kovel?.marks && document.querySelector('#words .w'))"):
                    page.wait_for_timeout(3)
                usable = (time.perf_counter() - t) * 1000
                while page.evaluate("document.querySelectorAll('#words .w').length") < SAID:
                    page.wait_for_timeout(20)
                print(f"usable after {usable:.0f} ms, all words after {time.perf_counter() - t:.1f} s", flush=True)
            page.wait_for_timeout(1500)
            least = median(page.evaluate(FETCHED, ["/p/1/story/revision?seen=0&story=1"] * 20))
            found = page.evaluate(FETCHED, [f"/p/1/search?q={w}" for w in vocabulary[200:240]])
            print(
                f"search from the page: median {median(found):.0f} ms, {median(found) / least:.1f} of the least "
                "request",
                flush=True,
            )
            page.evaluate("kovel.player.seek(120000)")
            page.keyboard.press("i")
            for what in ("nothing", "words", "loupe"):
                gaps = page.evaluate(REFRESHES, what)
                late = sum(g > 25 for g in gaps)
                print(
                    f"refreshes, {what} moves: median {median(gaps):.1f} ms, {late} of 240 over 25, worst "
                    f"{max(gaps):.0f}",
                    flush=True,
                )
            _, before = memory(page)
            page.context.new_cdp_session(page).send("HeapProfiler.collectGarbage")
            page.wait_for_timeout(1000)
            heap, own = memory(page)
            print(
                f"the page's scripts hold {heap:.0f} MB, its process {own:.0f} MB ({before:.0f} before garbage is "
                "collected)"
            )


if __name__ == "__main__":
    main()
