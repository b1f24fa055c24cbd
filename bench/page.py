"""How soon the page of a two-hour story follows a key, in the browser: `python -m bench.page`.

2,000 pieces, 1,500 covers and 20,000 words. Prints milliseconds, and as a ratio to the least an answer can take
here: one request that answers nothing, and a screen refresh.
"""

import statistics
import tempfile
import time
from pathlib import Path

from playwright.sync_api import Page

from bench.edits import made
from bench.served import served
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.store import transcripts

LEAST = """async () => {
  const rows = [];
  for (let i = 0; i < 15; i++) {
    const t = performance.now();
    const at = document.getElementById("page").dataset;
    await fetch(`/p/1/story/revision?seen=${at.revision}&story=${at.story}`);
    await new Promise((r) => requestAnimationFrame(r));
    rows.push(performance.now() - t);
  }
  return rows;
}"""
# From a key to the refresh that shows the new page: it has another revision, and a frame was drawn since.
KEY = """async (keys) => {
  const rows = [];
  for (const k of keys) {
    const old = document.getElementById("page").dataset.revision;
    const t = performance.now();
    document.body.dispatchEvent(new KeyboardEvent("keydown", { bubbles: true, cancelable: true, ...k }));
    while (document.getElementById("page").dataset.revision === old) await new Promise((r) => setTimeout(r, 1));
    await new Promise((r) => requestAnimationFrame(() => setTimeout(r, 0)));
    const seen = performance.now() - t;
    await kovel.story.idle();
    rows.push([seen, performance.now() - t]);
  }
  return rows;
}"""
SCROLL = """async () => {
  const s = document.getElementById("scroll"), gaps = [];
  let last = performance.now();
  for (let i = 0; i < 240; i++) {
    s.scrollTop += 40;
    await new Promise((r) => requestAnimationFrame(r));
    const now = performance.now(); gaps.push(now - last); last = now;
  }
  return gaps;
}"""
UNDOS = """async (n) => {
  const t = performance.now();
  for (let i = 0; i < n; i++) document.body.dispatchEvent(new KeyboardEvent("keydown", { bubbles: true, cancelable: true, key: "z" }));
  await kovel.story.idle();
  return performance.now() - t;
}"""

STRIP = """async (how) => {
  const rows = [];
  for (let i = 0; i < 40; i++) {
    kovel.strip.frame += 1;
    kovel.strip[how]();
    await new Promise((r) => requestAnimationFrame(() => setTimeout(r, 0)));
    rows.push(kovel.strip.took);
  }
  return rows;
}"""


def words(data: DataFolder) -> None:
    for i in (1, 2, 3):
        transcripts.set_words(data.db, i, [Word(f"word{k}", 24000 * k, 24000 * k + 20000, "M") for k in range(10_000)])


def told(page: Page, name: str, keys: list[dict], least: float) -> None:
    rows = page.evaluate(KEY, keys)
    seen, done = (statistics.median(r[i] for r in rows) for i in (0, 1))
    print(
        f"{name}: seen after {seen:.0f} ms ({seen / least:.1f} of the least), player ready after {done:.0f} ms",
        flush=True,
    )


def main() -> None:
    with tempfile.TemporaryDirectory() as d:
        data = DataFolder(Path(d))
        made(data)
        words(data)
        with served(d) as (url, page):
            page.goto(f"{url}/p/1/story")
            for name in ("first", "again"):
                t = time.perf_counter()
                page.goto(f"{url}/p/1/story", wait_until="commit")
                while not page.evaluate("Boolean(window.kovel?.story)"):
                    page.wait_for_timeout(5)
                print(f"opened ({name}): {(time.perf_counter() - t) * 1000:.0f} ms", flush=True)
            page.wait_for_timeout(1500)
            least = statistics.median(page.evaluate(LEAST))
            print(f"the least: {least:.0f} ms", flush=True)
            page.evaluate("kovel.player.seek(5000)")
            told(page, "split, the first edit of all", [{"key": "s"}], least)
            rows = []
            for k in range(7):
                page.evaluate(f"kovel.player.seek({5010 + 13 * k})")
                rows += page.evaluate(KEY, [{"key": "s"}])
            seen, done = (statistics.median(r[i] for r in rows) for i in (0, 1))
            print(
                f"split: seen after {seen:.0f} ms ({seen / least:.1f} of the least), player ready after {done:.0f} ms",
                flush=True,
            )
            told(page, "undo", [{"key": "z"}] * 8, least)
            page.evaluate("kovel.player.seek(5000)")
            page.keyboard.press("g")
            told(page, "trim", [{"key": "[", "code": "BracketLeft", "altKey": bool(i % 2)} for i in range(10)], least)
            told(page, "undo", [{"key": "z"}] * 10, least)
            told(page, "redo", [{"key": "Z", "shiftKey": True}] * 10, least)
            for _ in range(50):
                page.evaluate(KEY, [{"key": "[", "code": "BracketLeft", "altKey": bool(i % 2)} for i in range(10)])
            ms = page.evaluate(UNDOS, 500)
            print(f"500 undos in a row: {ms / 1000:.1f} s, {ms / 500:.0f} ms each", flush=True)
            gaps = sorted(page.evaluate(SCROLL))
            late = sum(1 for g in gaps if g > 25)
            print(
                f"scrolling: median {statistics.median(gaps):.1f} ms a refresh, {late} of 240 later than 25 ms, worst "
                f"{gaps[-1]:.0f} ms"
            )
            page.goto(f"{url}/p/1/sound")
            page.wait_for_timeout(8000)
            for name, zoom in (("the whole film", 0), ("in the middle", 50), ("a second", 100)):
                page.evaluate("(z) => kovel.strip.zoom(z)", zoom)
                drawn, followed = (statistics.median(page.evaluate(STRIP, how)) for how in ("draw", "follow"))
                print(
                    f"strip, {name} to the screen: drawn anew in {drawn:.1f} ms, its playhead moved in {followed:.1f} "
                    "ms",
                    flush=True,
                )


if __name__ == "__main__":
    main()
