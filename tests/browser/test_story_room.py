"""Every key, button and drag of the Story room, each checked by what the store then holds."""

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from kovel.core.sound.beats import Beats
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.store import decisions, recordings, stories, subclips, transcripts
from tests.browser.seen import until


class Room:
    """The page, and the story as kept."""

    def __init__(self, page: Page, data: DataFolder, r: dict) -> None:
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
def room(page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path) -> Iterator[Room]:
    """Two bites of the talk in the log, words every half second, a story of | talk 100+50 | talk 300+75 | fifty 0+60
    |."""
    data, r = coded
    talk, fifty = r["talk"].id, r["fifty"].id
    transcripts.set_words(
        data.db, talk, [Word(f"word{i}", 24000 * i + 960, 24000 * i + 20000, "Maren") for i in range(78)]
    )
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
    room.press("b")
    room.report("Pick something up from the shelf")
    room.pick("Bite one")
    room.press("b")
    assert room.shape() == [*start, (t, 500, 40)]
    room.press("z")
    room.seek(20)
    room.press("n")
    assert (
        room.shape()[:3] == [(t, 100, 20), (t, 500, 40), (t, 120, 30)]
        and room.page.evaluate("kovel.player.frame") == 60
    )
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
    assert (room.story.at(c), c.length, c.start) == (40, 100, 0) and p.locator(
        "[data-use]"
    ).first.inner_text() == "used"
    room.press("]", "Shift+]", "Alt+[")
    room.report("nothing before this in point")
    room.press("[", "Alt+]")
    (c,) = room.story.covers
    assert (room.story.at(c), c.length, c.start) == (41, 104, 1)
    room.seek(90)
    room.press("m")
    (c,) = room.story.covers
    assert room.story.at(c) == 90 and c.tether.moment == 340
    room.press("Escape")
    room.seek(85)
    room.press("i", "End", "o")  # all its words
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
    p.get_by_role("button", name="cover 1").click()
    room.report("still follows its words")
    room.seek(12)
    room.press("v", "x")
    room.report("cover 1 lane is locked")
    p.get_by_role("button", name="cover 1:").click()
    room.report("Cover 1 lane unlocked")
    room.press("Escape", "v")
    room.seek(12)
    room.press("v", "x")
    assert not room.story.covers and len(room.story.pieces) == 2
    room.press("2")
    room.pick("boat")
    p.locator(".piece .w", has_text="word9").click()
    p.locator(".piece .w", has_text="word10").click(modifiers=["Shift"])
    room.press("c")  # over the chosen words: from 4.52 s to 5.417 s
    room.report("boat laid over 0:00+13, 23 frames")
    (c,) = room.story.covers
    assert (room.story.at(c), c.length) == (13, 23)
    # the shots that could cover the same words, by number; another key leaves the list as it is
    p.locator(".piece .w", has_text="word9").click()
    p.locator(".piece .w", has_text="word10").click(modifiers=["Shift"])
    room.press("Shift+V")
    expect(p.locator("#covers [data-lay]")).to_have_count(1)
    expect(p.locator("#covers")).to_contain_text("used once")
    room.press("7", "1")
    expect(p.locator("#covers")).to_be_hidden()
    room.report("boat laid over 0:00+13, 23 frames")
    assert [(room.story.at(x), x.length) for x in room.story.covers] == [(13, 23)] * 2


def test_a_sound_in_hand_lies_under_the_story_and_the_room_stands_as_it_was_left(room: Room) -> None:
    """The dialogue line takes a sound only where that is asked for by name. Loaded again, playhead, selection, shelf
    and marks are where they were."""
    p, before = room.page, room.shape()
    room.press("3")
    room.pick("boat")
    room.seek(30)
    for key in ("b", "n", "w"):
        room.press(key)
        room.report("A sound is laid under the story: C lays it")
    room.press("c")
    room.report("boat laid under")
    (sound,) = room.story.sounds
    assert room.shape() == before and room.story.at(sound) == 30
    room.press("i", "Escape", "g")
    p.reload()
    until(p, "window.kovel?.player?.frame === 30 && document.querySelector('#page .is-chosen')")
    assert p.locator("#page .is-chosen").get_attribute("data-piece") == str(room.story.pieces[0].id)
    expect(p.locator("#tab-beds")).to_have_attribute("aria-selected", "true")
    expect(p.locator("#page .mark")).to_have_count(1)
    room.press("Shift+L")
    until(p, "kovel.player.playing && kovel.player.again === 0 && kovel.player.until === 50")
    room.press("k")


def test_drags(room: Room) -> None:
    p, t, f = room.page, room.r["talk"].id, room.r["fifty"].id
    grip = lambda n: p.locator(".piece .grip").nth(n)  # noqa: E731
    p.locator(".shelf-item", has_text="Bite two").drag_to(
        p.locator(".piece").nth(1), target_position={"x": 200, "y": 12}
    )
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
    room.report("23 frames shorter")  # the cover begins at the first of its words that stays
    room.report("leaving a space")
    assert room.shape() == [(t, 100, 50), (None, 0, 36), (t, 336, 39), (f, 0, 60)]


FRESH = """async () => { // whether what stands in the page is what the server would draw now
  const s = document.getElementById("page"), t = document.createElement("template");
  const ask = { headers: { "X-Zoom": document.getElementById("zoom").value, "X-View": `${s.dataset.from}-${s.dataset.to}` } };
  t.innerHTML = await (await fetch("/p/1/story/page", ask)).text();
  const now = [...s.children].filter((e) => e.came).map((e) => e.came), fresh = [...t.content.querySelector("#page").children].map((e) => e.outerHTML);
  return JSON.stringify(now) === JSON.stringify(fresh) && s.getAttribute("style") === t.content.querySelector("#page").getAttribute("style");
}"""


def test_edits_exchange_only_what_changed(room: Room) -> None:
    """After each edit the page is what the server would draw anew; what the edit did not touch is the very same
    element."""
    p, boat, t = room.page, room.r["boat"].id, room.r["talk"].id
    ids = [x.id for x in room.story.pieces]
    p.evaluate("id => { document.querySelector(`[data-piece='${id}']`).mine = true }", ids[0])
    for command, params in (
        ("trim", {"piece": ids[2], "edge": "out", "delta": -8}),
        ("lay_cover", {"source": boat, "at": 70, "until": 90, "start": 5}),
        ("split", {"at": 120}),
        ("set_blend", {"piece": ids[1], "blend": "dissolve", "length": 10}),
        ("move", {"piece": ids[2], "before": ids[1]}),
        ("set_heading", {"piece": ids[2], "heading": "The crossing"}),
        ("lay_sound", {"source": boat, "at": 60, "until": 120, "start": 0, "kind": "natural"}),
        ("insert", {"at": 60, "source": t, "start": 600, "length": 40}),
        ("extract", {"a": 70, "b": 130}),
        ("insert_card", {"at": 60, "length": 30, "colour": "#102030", "text": "Two years on"}),
        ("set_lock", {"lane": "dialogue", "locked": True}),
    ):
        p.evaluate("([c, x]) => kovel.story.edit(c, x)", [command, params])
        p.evaluate("kovel.story.idle()")
        assert p.evaluate(FRESH), command
    for _ in range(11):
        p.evaluate("kovel.story.undo()")
        assert p.evaluate(FRESH)
    assert p.evaluate("id => document.querySelector(`[data-piece='${id}']`).mine", ids[0])
    p.locator("#zoom").select_option("8")
    until(p, "document.getElementById('page').dataset.px < 1")
    assert p.evaluate(FRESH) and not p.evaluate(
        "id => Boolean(document.querySelector(`[data-piece='${id}']`).mine)", ids[0]
    )


def test_a_drag_goes_to_a_beat_of_the_music(room: Room) -> None:
    """Let go near a beat, a cover's end lies on it; far from one it stays where it was let go."""
    p, boat = room.page, room.r["boat"].id
    every = 48_000 * 27 // 25  # a beat each 27 frames
    decisions.put_beats(room.data.db, boat, Beats(tuple(i * every for i in range(11)), 55.6))
    stories.edit(
        room.data.db,
        1,
        None,
        "lay_sound",
        {"source": boat, "at": 0, "until": 185, "start": 0, "kind": "music", "clock_bound": True},
    )
    stories.edit(room.data.db, 1, None, "lay_cover", {"source": boat, "at": 30, "until": 70, "start": 0})
    p.reload()
    until(p, "window.kovel?.story")
    px = float(p.locator("#page").get_attribute("data-px") or 0)
    for near, lands in ((79, 81), (94, 94)):
        end = p.locator('.laid .cover-end[data-edge="out"]').bounding_box()
        top = p.locator("#page").bounding_box()
        assert end and top
        p.mouse.move(end["x"] + 20, end["y"] + end["height"] / 2)
        p.mouse.down()
        p.mouse.move(end["x"] + 20, top["y"] + near * px, steps=5)
        p.mouse.up()
        (c,) = room.story.covers
        assert room.story.at(c) + c.length == lands


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
    p.get_by_role("button", name="Lanes", exact=True).click()
    p.get_by_role("checkbox", name="dialogue locked").check()
    p.get_by_role("checkbox", name="music goes along").check()
    room.report("Music goes along")
    p.get_by_role("button", name="Close").click()
    expect(p.get_by_role("button", name="Lanes: music along, dialogue locked")).to_be_visible()
    assert room.story.along == {"music"}
    room.seek(33)
    room.press("s")
    room.report("dialogue lane is locked")
    p.get_by_role("button", name="Lanes").click()
    p.get_by_role("checkbox", name="dialogue locked").uncheck()
    p.get_by_role("checkbox", name="music goes along").uncheck()
    p.keyboard.press("Escape")
    expect(p.get_by_role("button", name="Lanes", exact=True)).to_be_visible()
    assert len(room.story.pieces) == 6 and not room.story.locked
    for tab, panel in (("B-roll", "shots"), ("Loose", "loose"), ("History", "history"), ("Bites", "bites")):
        p.get_by_role("tab", name=tab).click()
        expect(p.locator(f"#shelf-{panel}")).to_be_visible()
        expect(p.locator("[role=tabpanel]:visible")).to_have_count(1)
    p.get_by_role("tab", name="Bites").press("ArrowRight")
    expect(p.locator("#shelf-shots")).to_be_visible()
    p.get_by_role("tab", name="History").click()
    expect(p.locator("#shelf-history li")).to_have_count(10)
    tall = lambda: p.locator("#page").bounding_box()["height"]  # type: ignore[index]  # noqa: E731
    two = tall()
    p.locator("#zoom").select_option("1")
    until(
        p,
        "tall => Math.abs(document.getElementById('page').getBoundingClientRect().height - tall) < 1",
        8 + 2 * (two - 8),
    )
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
    room.seek(0)
    seen = [p.evaluate("kovel.player.frame")]
    for _ in range(3):
        room.press("ArrowDown")
        seen.append(p.evaluate("kovel.player.frame"))
    assert seen[1:] == list(room.story.starts[1:4])


def test_seam_desk_by_hand(room: Room) -> None:
    """Frames, edges, roll, split edit, dissolve, crossfade, compare, offers: all at the seam that is chosen."""
    p, t = room.page, room.r["talk"].id
    at_seam = lambda: room.story.transition(1)  # noqa: E731
    p.locator(".seam").first.click()
    desk = p.locator("#desk")
    expect(desk).to_contain_text("Seam 1 of 2")
    expect(desk).to_contain_text("jump, exposed")
    codes = """() => [...document.querySelectorAll('.desk-frame')].map((c) => { // the code drawn into each frame, as on the player's canvas
      const g = c.getContext('2d'), w = c.width, h = c.height, a = g.getImageData(0, Math.floor(h / 12), w, 1).data, b = g.getImageData(0, Math.floor(h / 4), w, 1).data, bits = [];
      for (let i = 0; i < 16; i++) { const x = Math.floor(((2 * i + 1) * w) / 32) * 4; bits.push(a[x] > b[x] ? 1 : 0); }
      return bits.slice(4).reduce((n, x) => n * 2 + x, 0); })"""
    until(p, f"JSON.stringify(({codes})()) === '[149,300]'")  # last out and first in, to the frame
    p.get_by_label("Out edge 1 frame later").click()
    room.report("out point 1 frame later")
    assert room.shape()[:2] == [(t, 100, 51), (t, 300, 75)]
    until(p, f"JSON.stringify(({codes})()) === '[150,300]'")
    p.get_by_label("In edge 5 frames later").click()
    room.report("in point 5 frames later")
    room.press("Alt+ArrowLeft", "Alt+Shift+ArrowRight")  # the seam rolls
    assert room.shape()[:2] == [(t, 100, 55), (t, 309, 66)]
    redrawn = """() => new Promise((done) => { const old = document.querySelector("#desk"); document.dispatchEvent(new Event("look"));
      const look = () => old.isConnected ? setTimeout(look, 5) : done(); look(); })"""
    p.locator("#desk-split").click(click_count=3)
    p.evaluate(
        redrawn
    )  # the desk comes again while one is about to type, and while one types: it is never typed beside
    p.keyboard.type("-")
    p.evaluate(redrawn)
    p.keyboard.type("8")
    p.keyboard.press("Enter")
    room.report("J-cut of 8 frames")
    expect(desk).to_contain_text("before the picture (J)")
    box = p.locator(".desk-split").bounding_box()
    assert box
    p.mouse.move(box["x"] + box["width"] * 0.42, box["y"] + 18)
    p.mouse.down()
    p.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + 18, steps=4)
    p.mouse.up()
    room.report("L-cut of 10 frames")
    expect(desk).to_contain_text("after the picture (L)")
    p.locator("#desk-cross").fill("6")
    p.locator("#desk-cross").press("Enter")
    room.report("Crossfade of 6 frames")
    expect(p.locator("#desk-cross")).to_have_value("6")
    p.locator("#desk-blend").select_option("dissolve")
    room.report("A dissolve of 25 frames")
    assert (at_seam().split, at_seam().cross, at_seam().length) == (10, 6, 25) and p.locator(
        ".seam .blend"
    ).count() == 1
    p.evaluate("kovel.story.idle()")  # the desk is drawn anew after the edit before
    p.wait_for_timeout(150)
    p.get_by_label("Length of the dissolve or dip, frames").fill("900")
    p.get_by_label("Length of the dissolve or dip, frames").press("Enter")
    room.report("The longest that fits is 55 frames")
    p.locator(".seam").first.focus()
    room.press("Shift+D")
    room.report("A cut at")
    until(p, f"() => ({codes})().every((code) => code > 0)")
    last, first = p.evaluate(codes)
    p.get_by_role("button", name="Blink").click()
    for code in (last, first, last):  # now the one, now the other
        until(p, f"() => ({codes})()[1] === {code}")
    p.get_by_role("button", name="Overlay").click()
    p.locator("[data-offer]", has_text="Show the second piece at 125 %").click()
    room.report("zoom 125 %")
    expect(desk).to_contain_text("soft")
    room.press("z", "a")
    until(p, "kovel.player.playing")
    until(p, "f => kovel.player.frame > f", arg=room.story.starts[1])
    until(p, "f => kovel.player.frame < f", arg=room.story.starts[1])  # over and over, until it is stopped
    assert p.evaluate("kovel.player.until") == room.story.starts[1] + 25
    room.press("k")
    room.seek(room.story.starts[1] + 25)
    room.press("t")
    expect(desk).to_contain_text("Seam 2 of 2")
    room.press("Shift+U")
    expect(desk).to_contain_text("Seam 1 of 2")
    room.press("Escape")
    expect(desk).to_have_count(0)


def test_every_edit_by_name_marks_and_stories(room: Room) -> None:
    p, t, f = room.page, room.r["talk"].id, room.r["fifty"].id

    def named(text: str) -> None:
        p.keyboard.press("q")
        expect(p.locator("#all")).to_be_visible()
        p.keyboard.type(text)
        expect(p.locator("#all-list li").first).to_be_visible()
        p.keyboard.press("Enter")
        expect(p.locator("#all")).to_be_hidden()
        p.wait_for_timeout(60)
        p.evaluate("kovel.story.idle()")

    start = room.story
    room.seek(60)
    named("slip 5")
    assert room.shape()[1] == (t, 305, 75)
    named("punch 130")
    assert room.story.pieces[1].settings["zoom"] == 130
    named("heading The river")
    named("target section 0:10")
    assert (room.story.sections[0].heading, room.story.sections[0].target) == ("The river", 250)
    expect(p.locator(".section-head")).to_contain_text("The river")
    room.seek(0)
    named("title The Last Haul")
    assert room.story.pieces[0].card.text == "The Last Haul" and room.story.pieces[0].length == 75
    named("colour #1b3a4b")
    assert room.story.pieces[0].card == type(room.story.pieces[0].card)("#1b3a4b", "The Last Haul")
    named("dip 1s")
    named("fade up 10")
    assert [j.length for j in room.story.transitions] == [10, 25]
    named("target story 0:03")
    expect(p.locator("#total-length.is-over")).to_contain_text("of 0:03+00")
    room.press("Escape", "3")
    room.pick("boat")
    room.seek(80)
    named("lay sound")
    assert room.story.sounds[0].kind == "natural" and room.story.at(room.story.sounds[0]) == 80
    named("level -12")
    assert room.story.sounds[0].settings["level"] == -12.0
    named("mute natural")
    assert room.story.muted == {"natural"}
    room.press("Escape", "2")
    room.pick("boat")
    room.seek(100)
    room.press("i")
    room.seek(120)
    room.press("o")
    expect(p.locator(".mark")).to_have_count(1)
    named("back cover")  # both of the story's marks, and the shot's out point
    (c,) = room.story.covers
    assert (room.story.at(c), c.length, c.end) == (100, 20, 300)
    ends = p.locator(".laid .cover-end[data-edge=out]").bounding_box()
    assert ends
    p.mouse.move(ends["x"] + 30, ends["y"] + 1)
    p.mouse.down()
    p.mouse.move(ends["x"] + 30, ends["y"] - 4, steps=3)
    assert p.locator(".landing").get_attribute("data-at")  # it holds to a mark near by
    p.keyboard.down("Alt")  # and lets go
    p.mouse.move(ends["x"] + 30, ends["y"] - 3, steps=2)
    p.mouse.up()
    p.keyboard.up("Alt")
    room.report("out point")
    assert room.story.covers[0].length < 20
    room.press("Escape", "Control+c")  # the cover was selected last; now it is the marks again
    room.report("Copied")
    p.locator("#stories-more").click()
    p.get_by_label("Name of a new story").fill("Radio cut")
    with p.expect_navigation():
        p.get_by_label("Name of a new story").press("Enter")
    until(p, "window.kovel?.story && document.querySelector('#page').dataset.story === '2'")
    room.press("Control+v")
    assert stories.load(room.data.db, 2).story.length == 20
    with p.expect_navigation():
        p.locator("#stories").select_option("1")
    until(p, "document.querySelector('#page')?.dataset.story === '1' && window.kovel?.story")
    p.get_by_role("tab", name="History").click()
    p.get_by_role("button", name="Back to the beginning").click()
    expect(p.locator("#page").get_by_text("The page is empty")).to_be_visible()
    p.locator("[data-entry]", has_text="fifty").click()
    until(p, "document.querySelectorAll('.piece').length === 3")
    assert room.story == start
    p.keyboard.press("/")
    p.keyboard.type("word25")
    expect(p.locator("#find-count")).to_have_text("1 of 1")
    assert p.evaluate("kovel.player.frame") == 50 + 313 - 300
    p.keyboard.press("Escape")
    p.get_by_role("tab", name="Checks").click()
    p.get_by_role("button", name="Put back").click()
    room.report("150 frames put back")
    assert room.shape() == [(t, 100, 275), (f, 0, 60)]


def test_lips_after_many_edits(room: Room, watch: Callable) -> None:
    """500 random edits through the page's own endpoint; then what plays is, frame by frame, what each piece says, and
    every speech piece's samples begin where its pictures do: 0 frames, 0 samples."""
    import random

    from kovel.core.plan.plan import make_plan
    from kovel.core.time.rate import frame_shown

    p, r = room.page, random.Random(5)
    origin = p.evaluate("location.origin")
    t, f, boat = room.r["talk"].id, room.r["fifty"].id, room.r["boat"].id
    names = [
        "insert",
        "trim",
        "roll",
        "slip",
        "slide",
        "move",
        "swap",
        "split",
        "extract",
        "overwrite",
        "lay_cover",
        "split_edit",
        "undo",
    ]
    for _ in range(500):
        s = stories.load(room.data.db, 1).story
        n, ids = s.length, [x.id for x in s.pieces]
        at, d, one = r.randint(0, n), r.choice([-9, -2, 3, 8]), r.choice(ids) if ids else 0
        name = r.choice(names) if 150 < n < 700 else "insert" if n <= 150 else "extract"
        source = r.choice([t, t, f])
        params = {
            "insert": {"at": at, "source": source, "start": r.randint(0, 600), "length": r.randint(20, 60)},
            "trim": {"piece": one, "edge": r.choice(["in", "out"]), "delta": d},
            "roll": {"piece": one, "delta": d},
            "slip": {"piece": one, "delta": d},
            "slide": {"piece": one, "delta": d},
            "move": {"piece": one, "before": r.choice(ids) if ids else None},
            "swap": {"first": one, "second": r.choice(ids) if ids else 0},
            "split": {"at": at},
            "extract": {"a": min(at, max(0, n - 40)), "b": min(at, max(0, n - 40)) + 30},
            "overwrite": {"at": at, "source": source, "start": r.randint(0, 600), "length": 25},
            "lay_cover": {"source": boat, "at": at, "until": at + 20, "start": r.randint(0, 200)},
            "split_edit": {"piece": one, "frames": r.randint(-12, 12)},
        }
        how = {"Accept": "application/json", "X-Kovel": "1", "Origin": origin}
        if name == "undo":
            p.request.post(f"{origin}/p/1/story/undo", headers=how)
        else:
            p.request.post(f"{origin}/p/1/story/edit", headers=how, data={"command": name, **params[name]})
    s = stories.load(room.data.db, 1).story
    assert stories.load(room.data.db, 1).revision > 300
    sources = recordings.sources(room.data.db, 1)
    plan = make_plan(s, sources)
    for i, q in enumerate(s.pieces):
        if q.source is None:
            continue
        sample = s.rate.frame_to_sample(s.starts[i] + q.length // 2)
        heard = [h for h in plan.sounds if h.at <= sample < h.end and h.source == q.source]
        assert any(h.start + sample - h.at == s.rate.frame_to_sample(q.start + q.length // 2) for h in heard), "lips"
    until(
        p,
        "r => Number(document.querySelector('#page').dataset.revision) === r",
        arg=stories.load(room.data.db, 1).revision,
        seconds=10,
    )
    p.evaluate("kovel.story.idle()")
    p.evaluate("kovel.player.reload()")
    watch(p)
    number = {t: 1, f: 2, boat: 3}
    for at in r.sample(range(s.length), 60):
        room.seek(at)
        seen = plan.picture_at(at)
        want = (
            [number[seen.source], frame_shown(seen.image.start + at - seen.at, s.rate, sources[seen.source].rate)]
            if seen.source
            else None
        )
        until(p, "w => JSON.stringify(window.readCode()) === JSON.stringify(w)", arg=want, seconds=5)
