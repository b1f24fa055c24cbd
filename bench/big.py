"""A big project in the browser: `python -m bench.big`. 200 recordings (20 hours), 180,000 words, 3,000 subclips, five
stories.

One recording of six minutes is prepared; the others are copies of it whose files are the same ones on the disk.
Prints how soon every room can be used (what it shows first is there and its scripts run), what its page holds, how
long searches and edits take, and what the server holds. Times stand beside the same of a project with that one
recording.
"""

import os
import random
import shutil
import subprocess
import tempfile
import time
from pathlib import Path
from statistics import median
from urllib.parse import quote

from playwright.sync_api import Page

from bench.log import FETCHED, memory
from bench.served import served
from kovel.core.story.model import Piece, Story
from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.services.footage.intake import bring_in
from kovel.services.job_kinds import scheduler_for
from kovel.store import jobs, projects, recordings, stories, subclips, transcripts

FOOTAGE = Path(__file__).parent.parent / "src" / "kovel" / "demo" / "footage"
MANY, MINUTES, CLIPS, STORIES, PIECES = 200, 6, 15, 5, 400
VOCABULARY = 4000
# What is there when a room can be used.
ROOMS = {
    "start page": ("/", "main a"),
    "Footage": ("/p/{}/footage", "#recordings"),
    "Log": ("/p/{}/log?rec={}", "#words .w"),
    "the whole log": ("/p/{}/log/whole", "main"),
    "Shots": ("/p/{}/log/shots", "main"),
    "Tighten": ("/p/{}/tighten?rec={}", "#desk"),
    "Story": ("/p/{}/story", "#page"),
    "Picture": ("/p/{}/picture", "main"),
    "Sound": ("/p/{}/sound", "main"),
    "Hand-off": ("/p/{}/handoff", "main"),
}


def words(seed: int) -> list[Word]:
    r = random.Random(seed)
    step = 60 * 48_000 // 150
    made = ("".join(r.choice("aeioulnrst") for _ in range(r.randint(3, 8))) for _ in range(MINUTES * 150))
    return [
        Word(w + ("." if i % 13 == 12 else ""), i * step, i * step + 9000, "MT"[i // 90 % 2])
        for i, w in enumerate(made)
    ]


def filled(data: DataFolder, project: int, ids: list[int], count: int) -> None:
    """Words, subclips and stories over recordings."""
    r = random.Random(project)
    for i in ids:
        transcripts.set_words(data.db, i, words(i))
    new = [
        subclips.New(
            i,
            a := 500 * k + 40,
            a + 180,
            f"Bite {i} {k}",
            tags="week" if k % 3 else "boat, tide",
            verdict=r.choice(("keep", "maybe", "")),
        )
        for i in ids
        for k in range(CLIPS)
    ]
    subclips.add_all(data.db, project, new, "logged")
    for n in range(count):
        pieces = tuple(Piece(k + 1, r.choice(ids), r.randrange(8000), r.randrange(40, 140)) for k in range(PIECES))
        stories.create_with(data.db, project, f"Version {n + 1}", Story(Rate(25), pieces, next_id=PIECES + 1), "made")


def made(root: Path) -> DataFolder:
    """Project 1 has one recording, project 2 two hundred."""
    talk = root / "talk.mp4"
    args = ["-stream_loop", "-1", "-i", str(FOOTAGE / "maren-a.mp4"), "-t", str(MINUTES * 60), "-c", "copy", str(talk)]
    subprocess.run(["ffmpeg", "-v", "error", "-y", *args], check=True)
    data = DataFolder(root / "data")
    small, big = (projects.create(data.db, name, "25", "1280x720").id for name in ("Small", "Big"))
    first = bring_in(data, small, talk, kind="interview")
    foreman = scheduler_for(data)
    foreman.start()
    while jobs.unfinished(data.db):
        time.sleep(0.1)
    foreman.stop()
    first = recordings.get(data.db, first.id)
    facts = {
        "size": first.size,
        "rate": [25, 1],
        "frames": first.frames,
        "picture": True,
        "sound": True,
        "width": first.width,
        "height": first.height,
        "channels": first.channels,
        "start_timecode": "",
        "remarks": [],
        "changed": first.changed,
    }
    ids = []
    for n in range(MANY):
        path = root / f"talk {n + 1:03}.mp4"
        os.link(talk, path)
        kind = "interview" if n % 4 else "b-roll"
        r = recordings.add(
            data.db, big, str(path), f"Talk {n + 1:03}", kind, facts, roll=f"A{n // 10 + 1:03}", day=f"{n // 20 + 1}"
        )
        shutil.copytree(data.derived(first.id), data.derived(r.id), copy_function=os.link)
        recordings.set_ready(data.db, r.id)
        recordings.set_whole(data.db, r.id, first.checksum, first.frames)
        ids.append(r.id)
    filled(data, small, [first.id], 1)
    filled(data, big, ids, STORIES)
    return data


def usable(page: Page, url: str, there: str) -> float:
    """Milliseconds until what is named is there and the page's scripts have run."""
    t = time.perf_counter()
    page.goto(url, wait_until="commit")
    while not page.evaluate("s => document.readyState === 'complete' && Boolean(document.querySelector(s))", there):
        page.wait_for_timeout(3)
    return (time.perf_counter() - t) * 1000


def held(page: Page) -> str:
    """What the page holds as it stands, and after Chromium gave back what it keeps only as long as nobody needs the
    room."""
    heap, own = memory(page)
    chromium = page.context.browser.new_browser_cdp_session()  # type: ignore[union-attr]
    chromium.send("Memory.simulatePressureNotification", {"level": "critical"})
    page.wait_for_timeout(1500)
    least = memory(page)[1]
    return f"its page holds {least:.0f} MB ({own:.0f} before Chromium gives back what it can), its scripts {heap:.0f}"


def resident(data: DataFolder) -> float:
    """MB of the server on that folder."""
    for p in Path("/proc").glob("[0-9]*"):
        line = (p / "cmdline").read_bytes() if (p / "cmdline").exists() else b""
        if b"serve" in line and str(data.root).encode() in line:
            return int((p / "statm").read_text().split()[1]) * 4096 / 1e6
    return 0.0


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="kovel-big-") as d:
        data = made(Path(d))
        ids = {p: [r.id for r in recordings.of_project(data.db, p)] for p in (1, 2)}
        print(
            f"{len(ids[2])} recordings, {len(subclips.of_project(data.db, 2))} subclips, "
            f"{len(stories.of_project(data.db, 2))} stories",
            flush=True,
        )
        with served(str(data.root)) as (url, page):
            for name, (path, there) in ROOMS.items():
                page.close()  # a page of its own: Chromium keeps those left behind for going back
                page = page.context.browser.new_page(viewport={"width": 1280, "height": 800})  # type: ignore[union-attr]
                at = {
                    p: url + path.replace("{}", str(p), 1).replace("{}", str(ids[p][len(ids[p]) // 2])) for p in (1, 2)
                }
                took = {p: min(usable(page, at[p], there) for _ in range(3)) for p in (1, 2)}
                page.wait_for_timeout(1500)
                heap, own = memory(page)
                print(
                    f"{name:<16} {took[2]:5.0f} ms ({took[2] / took[1]:.1f} of the small project's); "
                    f"its page holds {own:.0f} MB, its scripts {heap:.0f}",
                    flush=True,
                )
            page.goto(f"{url}/p/2/story")
            asked = [w.text.strip(".") for w in words(ids[2][70])[:40]]
            found = page.evaluate(FETCHED, [f"/p/2/search?q={quote(w)}" for w in asked])
            print(f"search: median {median(found):.0f} ms, worst of 40 {max(found):.0f}", flush=True)
            for p in (2, 1):
                page.goto(f"{url}/p/{p}/story")
                rows = page.evaluate(EDITS, [p, 30])
                print(f"an edit, project {p}: median {median(rows):.1f} ms, worst of 30 {max(rows):.0f}", flush=True)
            page.goto(f"{url}/p/2/story")
            page.wait_for_timeout(1000)
            page.evaluate("kovel.player.seek(0)")
            page.keyboard.press("Space")
            page.wait_for_timeout(60_000)
            print(f"after a minute of playing pieces of {MANY} recordings {held(page)}")
            print(f"the server holds {resident(data):.0f} MB")


EDITS = """async ([p, n]) => {
  const head = { "content-type": "application/json", accept: "application/json", "x-kovel": "1" }, rows = [];
  for (let k = 0; k < n; k++) {
    const t = performance.now();
    const r = await fetch(`/p/${p}/story/edit`, { method: "POST", headers: head, body: JSON.stringify({ command: "trim", piece: 20 + k, edge: "out", delta: -1 }) });
    await r.text();
    if (!r.ok) throw new Error(r.status);
    rows.push(performance.now() - t);
  }
  return rows;
}"""

if __name__ == "__main__":
    main()
