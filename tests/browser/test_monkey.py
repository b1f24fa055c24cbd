"""Keys in any order: the rooms neither break nor lose step with what is kept."""

import random
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page

from kovel.core.sound.levels import Levels
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.media.listen import save
from kovel.services.tighten import proposals
from kovel.store import history, stories, subclips, transcripts
from tests.browser.seen import until
from tests.browser.test_story_room import FRESH

STORY = [
    *"sxgvtuaihdjklopqmywcnezr123456/.,[]",
    "Shift+X",
    "Shift+T",
    "Shift+U",
    "Shift+D",
    "Alt+[",
    "Shift+]",
    "Alt+ArrowUp",
    "Alt+ArrowDown",
    "Home",
    "End",
    "ArrowLeft",
    "ArrowRight",
    "Shift+ArrowRight",
    "ArrowUp",
    "ArrowDown",
    "Escape",
    "Enter",
    "Space",
    "Tab",
    "Control+c",
    "Control+v",
    "Control+z",
    "Shift+Control+z",
    "?",
]
LOG = [
    *"iojklsmnpqrwxyz123ebhgtu,.[]+-",
    "Shift+I",
    "Shift+O",
    "Space",
    "Enter",
    "Escape",
    "Tab",
    "ArrowLeft",
    "ArrowRight",
    "ArrowDown",
    "ArrowUp",
    "Home",
    "End",
    "Control+z",
    "?",
    "Backspace",
    "Delete",
]
TIGHTEN = [*"hxpgejkl[],.", "H", "Shift+[", "ArrowDown", "ArrowUp", "Space", "Escape", "Control+z", "Home", "End", "?"]


@pytest.mark.parametrize(
    ("path", "keys"), [("story", STORY), ("log", LOG), ("tighten", TIGHTEN)], ids=["story", "log", "tighten"]
)
def test_keys_in_any_order(
    page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path, path: str, keys: list[str]
) -> None:
    """200 keys at random. Errors of the page fail the test (see the fixture); afterwards the room answers, the page is
    what the server would draw, and undoing all leads back to the start."""
    data, r = coded
    talk = r["talk"].id
    transcripts.set_words(
        data.db, talk, [Word(f"word{i}", 24000 * i + 960, 24000 * i + 20000, "Maren") for i in range(78) if not i & 4]
    )
    on = np.tile(np.repeat([1.0, 0.0], 200), 10).astype(np.float32)  # two seconds of talk, two of none, and so on
    save(data.derived(talk), Levels(on, np.where(on > 0, -20, -70).astype(np.float32), np.full(4000, -70, np.float32)))
    subclips.add(data.db, talk, 500, 540, name="Bite one")
    for start in (100, 300, 700):
        stories.edit(data.db, 1, None, "add_at_end", {"source": talk, "start": start, "length": 60})
    kept = stories.load(data.db, 1)
    server = serve(data.root, tmp_path)
    ready = {"story": "window.kovel?.story", "log": "window.kovel?.marks", "tighten": "window.kovel?.tighten"}[path]
    address = f"{server.url}/p/1/{path}"
    page.goto(address)
    until(page, ready)
    if path == "tighten":  # decisions made faster than they are answered are all kept, in their order
        for _ in range(6):
            page.keyboard.press("ArrowDown")
            page.keyboard.press("x")
        until(
            page,
            "() => [...document.querySelectorAll('#list [data-out]')].filter((r) => r.dataset.out === '0').length === "
            "6",
        )
        assert len(proposals.desk(data, talk).off) == 6
    rnd = random.Random(11)
    pressed = []
    for i in range(200):
        key = rnd.choice(keys)
        pressed.append(key)
        page.keyboard.press(key)
        if not i % 10:
            page.wait_for_timeout(60)
        if page.url.split("?")[0].split("#")[0] != address:  # a link was followed
            page.goto(address)
            until(page, ready)
    page.wait_for_timeout(300)
    assert page.url.startswith(address), pressed[-20:]
    assert "does not answer" not in page.locator("#report").inner_text()
    if path == "story":
        page.evaluate("kovel.player.stop(); kovel.story.idle()")
        page.wait_for_timeout(200)
        assert page.evaluate(FRESH), pressed
        now = stories.load(data.db, 1)
        while stories.load(data.db, 1).can_undo and stories.load(data.db, 1).story != kept.story:
            history.undo(data.db, 1)
        assert stories.load(data.db, 1).story == kept.story and now.revision > kept.revision
    page.goto(address)
    until(page, ready)
