"""Every key, button and drag of the Story room, each checked by what the store then holds."""

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from kovel.core.words import Word
from kovel.store import recordings, stories, subclips
from kovel.work.data import Data
from tests.browser.test_newcomer import until


class Room:
    """The page, and the story as kept."""

    def __init__(self, page: Page, data: Data, r: dict) -> None:
        self.page, self.data, self.r = page, data, r

    @property
    def story(self):
        self.page.evaluate("kovel.story.idle()")
        return stories.load(self.data.db, 1).story

    def shape(self) -> list[tuple[int | None, int, int]]:
        return [(p.source, p.start, p.length) for p in self.story.pieces]

    def press(self, *keys: str) -> None:
        for k in keys:
            self.page.keyboard.press(k)
            self.page.evaluate("kovel.story.idle()")

    def seek(self, frame: int) -> None:
        self.page.evaluate("f => { kovel.player.stop(); kovel.player.seek(f) }", frame)

    def pick(self, name: str) -> None:
        """Pick a shelf item up by keyboard."""
        item = self.page.locator(".shelf-item:visible", has_text=name)
        item.focus()
        if item.get_attribute("aria-pressed") != "true":
            self.page.keyboard.press("Enter")
        expect(item).to_have_attribute("aria-pressed", "true")

    def report(self, text: str) -> None:
        expect(self.page.locator("#report")).to_contain_text(text)


@pytest.fixture
def room(page: Page, coded: tuple[Data, dict], serve: Callable, tmp_path: Path) -> Iterator[Room]:
    """Two bites of the talk in the log, words every half second, a story of | talk 100+50 | talk 300+75 | fifty 0+60 |."""
    data, r = coded
    talk, fifty = r["talk"].id, r["fifty"].id
    recordings.set_words(data.db, talk, [Word(f"word{i}", 24000 * i + 960, 24000 * i + 20000, "Maren") for i in range(78)])
    subclips.add(data.db, talk, 500, 540, name="Bite one")
    subclips.add(data.db, fifty, 200, 220, name="Bite two")
    for source, start, length in ((talk, 100, 50), (talk, 300, 75), (fifty, 0, 60)):
        stories.edit(data.db, 1, None, "add_at_end", {"source": source, "start": start, "length": length})
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/story")
    until(page, "window.kovel?.story")
    yield Room(page, data, r)


def test_dialogue_by_key(room: Room) -> None:
    t, f = room.r["talk"].id, room.r["fifty"].id
    start = room.shape()
    room.press("e")
    room.report("Pick a soundbite up first")
    room.pick("Bite one")
    room.press("e")
    assert room.shape() == [*start, (t, 500, 40)]
    room.press("z")
    room.seek(20)
    room.press("n")
    assert room.shape()[:3] == [(t, 100, 20), (t, 500, 40), (t, 120, 30)] and room.page.evaluate("kovel.player.frame") == 60
    room.press("z")
    room.seek(20)
    room.press("w")
    assert room.shape()[:3] == [(t, 100, 20), (t, 500, 40), (t, 310, 65)]
    room.press("z", "Escape")
    room.seek(70)
    room.press("s")
    assert room.shape()[1:3] == [(t, 300, 20), (t, 320, 55)]
    room.press("g", "x")  # the piece at the playhead, out
    assert room.shape() == [(t, 100, 50), (t, 300, 20), (f, 0, 60)]
    room.press("z", "g", "Shift+X")
    assert room.shape() == [(t, 100, 50), (t, 300, 20), (None, 0, 55), (f, 0, 60)]
    room.press("z", "z")
    assert room.shape() == start
    room.seek(60)
    room.press("g", "]", "]", "Alt+]", "Shift+[")
    assert room.shape()[1] == (t, 305, 71)
    room.press("Alt+[")
    assert room.shape()[1] == (t, 304, 72)
    room.press("Alt+ArrowUp")
    assert room.shape()[0] == (t, 304, 72)
    room.press("Alt+ArrowUp")
    room.report("first piece already")
    room.press("Alt+ArrowDown", "Alt+ArrowDown")
    assert room.shape()[2] == (t, 304, 72)
    room.press("Alt+ArrowUp", "y")
    assert room.shape() == [(t, 100, 50), (f, 0, 60), (t, 304, 72)]
    room.press("y")
    room.report("another one after it")
    while room.page.locator('[data-do="undo"]').is_enabled() and room.shape():
        room.press("z")
    assert room.shape() == [] and room.page.locator("#page").get_by_text("The page is empty").is_visible()
    room.press(*["Shift+Z"] * 3)
    assert room.shape() == start


def test_covers_by_key(room: Room) -> None:
    p = room.page
    room.press("c")
    room.report("Pick a shot up first")
    room.press("2")
    room.pick("boat")
    room.seek(40)
    room.press("c")  # four seconds where nothing is chosen
    room.report("boat laid over")
    (c,) = room.story.covers
    assert (room.story.at(c), c.length, c.start) == (40, 100, 0) and p.locator("[data-use]").first.inner_text() == "used"
    room.press("]", "Shift+]", "Alt+[")
    room.report("nothing before this in point")
    room.press("[", "Alt+]")
    (c,) = room.story.covers
    assert (room.story.at(c), c.length, c.start) == (41, 104, 1)
    room.seek(90)
    room.press("m")
    (c,) = room.story.covers
    assert room.story.at(c) == 90 and c.tether.moment == 340
    p.locator(".piece .w", has_text="word27").click()  # its word: 13.52 s, frame 338
    p.locator(".piece .w", has_text="word27").click(modifiers=["Shift"])
    p.keyboard.press("x")  # told first what it would cost
    expect(p.locator(".ask")).to_contain_text("boat came loose")
    assert len(stories.load(room.data.db, 1).story.covers) == 1
    p.keyboard.press("Escape")
    expect(p.locator(".ask")).to_have_count(0)
    p.keyboard.press("x")
    expect(p.locator(".ask")).to_be_visible()
    room.press("Enter")
    room.report("came loose")
    assert not room.story.covers and len(room.story.loose) == 1
    expect(p.locator("#loose-count")).to_have_text("1")
    room.press("4")
    room.pick("boat")
    room.seek(10)
    room.press("m")
    (c,) = room.story.covers
    assert room.story.at(c) == 10 and not room.story.loose
    p.get_by_label("Lock cover lane 1").click()
    room.report("still follows its words")
    room.seek(12)
    room.press("v", "x")
    room.report("cover 1 lane is locked")
    p.get_by_label("Lock cover lane 1").click()
    room.report("Cover 1 lane unlocked")
    room.press("Escape", "v")
    room.seek(12)
    room.press("v", "x")
    assert not room.story.covers and len(room.story.pieces) >= 3
    room.press("2")
    room.pick("boat")
    p.locator(".piece .w", has_text="word9").click()
    p.locator(".piece .w", has_text="word10").click(modifiers=["Shift"])
    room.press("c")  # over the chosen words: from 4.52 s to 5.417 s
    room.report("boat laid over 0:00+13, 23 frames")
    (c,) = room.story.covers
    assert (room.story.at(c), c.length) == (13, 23)


def test_drags(room: Room) -> None:
    p, t, f = room.page, room.r["talk"].id, room.r["fifty"].id
    grip = lambda n: p.locator(".piece .grip").nth(n)  # noqa: E731
    p.locator(".shelf-item", has_text="Bite two").drag_to(p.locator(".piece").nth(1), target_position={"x": 200, "y": 12})
    assert room.shape()[1] == (f, 200, 20)
    room.press("z")
    grip(2).drag_to(p.locator(".piece").nth(0), target_position={"x": 100, "y": 5})
    assert room.shape() == [(f, 0, 60), (t, 100, 50), (t, 300, 75)]
    room.press("z")
    p.get_by_role("tab", name="B-roll").click()
    p.locator("#cover-length").fill("2s")
    p.locator(".shelf-item:visible", has_text="boat").drag_to(p.locator(".piece .w", has_text="word10"))
    room.report("boat laid over")
    (c,) = room.story.covers
    assert (room.story.at(c), c.length) == (25, 50)  # word10 begins at 5.02 s: frame 125
    p.locator(".laid").drag_to(p.locator(".piece .w", has_text="word25"), source_position={"x": 40, "y": 9})
    (c,) = room.story.covers
    assert (
        c.tether.moment == 313 and room.story.at(c) == 63
    )  # held in its middle, yet it is the word it is let go on that counts
    p.locator(".piece .w", has_text="word24").hover()
    p.mouse.down()
    p.locator(".piece .w", has_text="word26").hover()
    p.mouse.up()
    expect(p.locator(".w.is-on")).to_have_count(3)
    p.locator('[data-do="lift"]').click()  # 12.02 s to 13.417 s: frames 300 to 336
    p.locator("[data-ask=yes]").click()  # the cover's word goes with it
    room.report("leaving a space")
    assert room.shape() == [(t, 100, 50), (None, 0, 36), (t, 336, 39), (f, 0, 60)]


def test_buttons_tabs_zoom_and_looks(room: Room) -> None:
    p = room.page
    p.locator(".shelf-item", has_text="Bite one").click()
    for name, count in (("Add", 4), ("Insert", 6)):
        room.seek(20)
        p.get_by_role("button", name=name, exact=True).click()
        assert len(room.story.pieces) == count
        room.press("Space")  # a clicked button gives the space bar back to the player
        until(p, "kovel.player.playing")
        room.press("k")
    p.get_by_role("button", name="Undo").click()
    assert len(room.story.pieces) == 4
    p.get_by_role("button", name="Redo").click()
    assert len(room.story.pieces) == 6
    p.get_by_role("button", name="Lock", exact=True).click()
    expect(p.get_by_role("button", name="Locked")).to_have_attribute("aria-pressed", "true")
    room.seek(33)
    room.press("s")
    room.report("dialogue lane is locked")
    p.get_by_role("button", name="Locked").click()
    room.report("Dialogue lane unlocked")
    assert len(room.story.pieces) == 6 and not room.story.locked
    for tab, panel in (("B-roll", "shots"), ("Loose", "loose"), ("History", "history"), ("Bites", "bites")):
        p.get_by_role("tab", name=tab).click()
        expect(p.locator(f"#shelf-{panel}")).to_be_visible()
        expect(p.locator("[role=tabpanel]:visible")).to_have_count(1)
    p.get_by_role("tab", name="Bites").press("ArrowRight")
    expect(p.locator("#shelf-shots")).to_be_visible()
    p.get_by_role("tab", name="History").click()
    expect(p.locator("#shelf-history li")).to_have_count(8)
    tall = lambda: p.locator("#page").bounding_box()["height"]  # type: ignore[index]  # noqa: E731
    two = tall()
    p.locator("#zoom").select_option("1")
    p.wait_for_timeout(300)
    assert abs(tall() - 8 - 2 * (two - 8)) < 1
    look = p.evaluate("document.documentElement.dataset.theme")
    p.get_by_label("Day or night look").click()
    p.reload()
    until(p, "window.kovel?.story")
    assert p.evaluate("document.documentElement.dataset.theme") != look
    p.keyboard.press("?")
    expect(p.get_by_role("dialog")).to_be_visible()
    p.keyboard.press("x")  # keys of the room rest while the sheet is open
    p.keyboard.press("Escape")
    expect(p.get_by_role("dialog")).to_be_hidden()
    assert len(room.story.pieces) == 6
    joins = [p.evaluate("kovel.player.frame")]
    for _ in range(3):
        room.press("ArrowDown")
        joins.append(p.evaluate("kovel.player.frame"))
    assert joins[1:] == list(room.story.starts[1:4])
