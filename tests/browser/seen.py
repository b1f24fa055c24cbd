"""What browser tests ask of the page: until something holds, and whether each frame seen was the plan's."""

import time
from pathlib import Path

from playwright.sync_api import Page

from kovel.core.plan.plan import make_plan
from kovel.data_folder import DataFolder
from kovel.store import recordings, stories

NUMBER = {"talk": 1, "fifty": 2, "boat": 3}


def truth(data: DataFolder, project: int) -> tuple[stories.Kept, list[tuple[int, int] | None], dict[int, int]]:
    """The story as kept, the code every frame of its plan must show, and each recording's code number."""
    kept = stories.load(data.db, stories.current(data.db, project))
    rows = recordings.of_project(data.db, project)
    sources = {r.id: r.source for r in rows}
    number = {r.id: NUMBER[Path(r.path).stem] for r in rows}
    plan = make_plan(kept.story, sources)
    want = [(number[x[0]], x[1]) if (x := plan.recording_frame(t, sources)) else None for t in range(plan.length)]
    return kept, want, number


STANDS = """() => JSON.stringify({ // where a page stands that did not get ready in time
  state: document.readyState, url: location.href, kovel: Object.keys(window.kovel || {}),
  report: document.querySelector("#report")?.textContent,
  open: performance.getEntriesByType("resource").filter((e) => !e.responseEnd || e.responseStatus >= 400).map((e) => e.name),
  got: performance.getEntriesByType("resource").length })"""


def until(page: Page, what: str, arg: object = None, seconds: float = 150) -> None:
    """Wait for something to be true in the page (Playwright's own waiting needs eval, which the page forbids)."""
    end = time.monotonic() + seconds
    while not page.evaluate(what if "=>" in what else f"() => Boolean({what})", arg):
        assert time.monotonic() < end, f"{what}: {page.evaluate(STANDS)}"
        page.wait_for_timeout(15)


def wrong(rows: list, want: list, late: int = 0) -> list:
    """The refreshes that showed another frame than the story's. Where `late` pictures were late (the player counts
    them), the last right one may have been held: never another one."""
    bad, last = [], None
    for t, read, _ in (row for row in rows if row[0] < len(want)):
        code = tuple(read) if read else None
        if code == want[t]:
            last = code
        elif not (late and code == last):
            bad.append((t, code, want[t]))
    return bad
