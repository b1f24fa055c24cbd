"""Hand movements of the Story and the Sound room with a real pointer: several clips at once, edges and seams dragged,
what a drop does; each checked by what the store then holds. Common practice, no source."""

from collections.abc import Callable, Iterator

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from kovel.store import stories
from tests.browser.seen import until
from tests.browser.test_story_room import Room
from tests.browser.test_story_room import room as room  # the fixture


def middle(of: Locator, x: float = 0.5, y: float = 0.5) -> tuple[float, float]:
    box = of.bounding_box()
    assert box
    return box["x"] + box["width"] * x, box["y"] + box["height"] * y


def dragged(page: Page, start: tuple[float, float], by: tuple[float, float]) -> None:
    """The pointer down, along and up again, as a hand does it."""
    (x, y), (across, down) = start, by
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + across / 3, y + down / 3, steps=3)
    page.mouse.move(x + across, y + down, steps=6)
    page.wait_for_timeout(50)
    page.mouse.up()
    page.evaluate("kovel.story?.idle?.()")


def selected(room: Room) -> list[str]:
    names = "[...document.querySelectorAll('#page .is-chosen')].map((e) => e.className.split(' ')[0])"
    return sorted(room.page.evaluate(names))


@pytest.fixture
def laid(room: Room) -> Iterator[Room]:
    """The story with two covers of the boat and a title over it, and a sound under it."""
    fifty = room.r["fifty"].id
    for at in (10, 70):
        stories.edit(room.data.db, 1, None, "lay_cover", {"source": fifty, "at": at, "until": at + 30, "start": 5})
    stories.edit(room.data.db, 1, None, "lay_title", {"at": 120, "text": "Maren", "length": 30})
    talk = {"source": room.r["talk"].id, "at": 20, "until": 100, "start": 0}
    stories.edit(room.data.db, 1, None, "lay_sound", {**talk, "kind": "effect"})
    room.page.reload()
    until(room.page, "window.kovel?.story")
    yield room


def test_several_are_chosen_by_ctrl_shift_and_a_frame_and_edited_in_one_step(laid: Room) -> None:
    room, page = laid, laid.page
    before = room.story
    covers, bar = page.locator(".laid"), page.locator("#selection-bar")
    covers.nth(0).click(position={"x": 40, "y": 7})
    expect(bar).to_contain_text("Cover: fifty")
    covers.nth(1).click(position={"x": 40, "y": 7}, modifiers=["Control"])
    page.locator(".sound-line").click(modifiers=["Control"])
    assert selected(room) == ["laid", "laid", "sound-line"]
    expect(bar).to_contain_text("2 covers and 1 sound selected")
    room.press("]", "]")
    assert [c.length for c in room.story.covers[:2]] == [32, 32] and room.story.sounds[0].length == 82
    assert selected(room) == ["laid", "laid", "sound-line"]  # what is chosen stays chosen
    room.seek(30)
    room.press("m")  # the first of them to the playhead, the others as far
    assert [room.story.at(c) for c in room.story.covers[:2]] == [30, 90] and room.story.at(room.story.sounds[0]) == 40
    bar.get_by_role("button", name="Group", exact=True).click()
    room.report("2 covers and 1 sound grouped")
    bar.locator("[name=length]").fill("1s")
    page.keyboard.press("Enter")
    room.report("made 25 frames long")
    room.press("Escape")
    covers.nth(0).click(position={"x": 40, "y": 7})
    room.seek(20)
    room.press("m")  # of a group that one is moved and the others with it
    assert [room.story.at(c) for c in room.story.covers[:2]] == [20, 80] and room.story.at(room.story.sounds[0]) == 30
    # pieces: a frame around all of them from the margin; with Ctrl one is taken out of it again
    x, y = middle(page.locator(".piece").first, 0, 0)
    dragged(page, (x - 30, y + 3), (200, 190))
    assert selected(room) == ["piece"] * 3
    page.keyboard.down("Control")
    x, y = middle(page.locator(".piece").nth(1), 0)
    page.mouse.click(x + 240, y)
    page.keyboard.up("Control")
    assert selected(room) == ["piece"] * 2
    page.keyboard.press("x")
    expect(page.locator("#ask-place .ask")).to_contain_text("Deleted 2 pieces")  # what it dislodges is said first
    page.keyboard.press("Enter")
    room.report("Deleted 2 pieces")
    assert room.shape() == [(room.r["talk"].id, 300, 75)]
    for _ in range(7):
        room.press("z")
    assert room.story == before
    room.press("Control+a")  # all pieces; copied and pasted at the end they are there twice
    room.press("Control+c")
    room.report("Copied")
    room.seek(185)
    room.press("Control+v")
    assert room.shape() == [*[(p.source, p.start, p.length) for p in before.pieces]] * 2


def test_a_seam_is_rolled_and_edges_are_trimmed_by_dragging_with_their_frames_shown(laid: Room) -> None:
    room, page = laid, laid.page
    start = room.shape()
    px = page.evaluate("Number(document.getElementById('page').dataset.px)")
    x, y = middle(page.locator(".seam").first)
    page.keyboard.down("Alt")  # nothing caught
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y + 20 * px, steps=6)
    expect(page.locator("#edge-view")).to_contain_text("Seam: 0.80 s (20 frames) later")
    expect(page.locator("#edge-view")).to_contain_text("word")  # what is said on both sides
    expect(page.locator(".w.is-changing").first).to_be_visible()
    page.mouse.up()
    page.keyboard.up("Alt")
    expect(page.locator("#edge-view")).to_have_count(0)
    assert [length for *_, length in room.shape()] == [70, 55, 60]
    room.press("z")

    def edge(piece: int, which: str, down: float) -> None:
        page.keyboard.down("Alt")
        dragged(page, middle(page.locator(".piece").nth(piece).locator(f".edge[data-edge={which}]")), (0, down))
        page.keyboard.up("Alt")

    edge(1, "in", 30 * px)
    assert room.shape()[1] == (start[1][0], 330, 45)
    room.press("z")
    edge(0, "in", -400)
    assert room.shape()[0][1] == 0  # as far as its recording goes, and no further
    room.press("z")
    out = page.locator(".piece").nth(2).locator(".edge[data-edge=out]")
    page.mouse.move(*middle(out))
    page.mouse.down()
    page.mouse.move(*[sum(z) for z in zip(middle(out), (0, -25), strict=True)], steps=5)
    page.keyboard.press("Escape")  # nothing after all
    page.mouse.up()
    assert room.shape() == start
    page.locator(".seam").first.click()
    expect(page.locator("#desk")).to_be_visible()  # a click opens the seam desk as ever
    room.press("Escape", "Shift+W")  # waveforms to trim by, as wide as the words
    wave = page.locator(".piece canvas.thin").first
    assert wave.evaluate("(el) => el.clientWidth") == 400
    page.reload()
    until(page, "window.kovel?.story")
    assert wave.evaluate("(el) => el.clientWidth") == 400  # the room stands as it was left
    room.press("Shift+W")
    assert wave.evaluate("(el) => el.clientWidth") == 20


def test_a_drop_says_before_what_it_does_and_does_it(room: Room) -> None:
    page, fifty, talk = room.page, room.r["fifty"].id, room.r["talk"].id
    start = room.shape()
    bite = page.locator(".shelf-item", has_text="Bite two")
    word = page.locator(".piece .w", has_text="word10")

    def drop(at: tuple[float, float], key: str, says: str) -> None:
        page.mouse.move(*middle(bite))
        page.mouse.down()
        page.mouse.move(*[x + 15 for x in middle(bite)], steps=3)
        if key:
            page.keyboard.down(key)
        page.mouse.move(at[0], at[1] - 6, steps=5)
        page.mouse.move(*at, steps=3)
        expect(page.locator(".landing")).to_have_attribute("data-at", says)
        page.mouse.up()
        if key:
            page.keyboard.up(key)
        page.evaluate("kovel.story.idle()")

    drop(middle(page.locator(".piece").nth(1), 0.25, 0.2), "", "insert")
    assert room.shape() == [start[0], (fifty, 200, 20), *start[1:]]
    room.press("z")
    drop(middle(word), "Shift", "overwrite")
    assert room.shape()[:3] == [(talk, 100, 25), (fifty, 200, 20), (talk, 145, 5)]
    room.press("z")
    drop(middle(word), "Control", "insert here")
    assert room.shape()[:3] == [(talk, 100, 25), (fifty, 200, 20), (talk, 125, 25)]
    room.press("z")
    lanes = page.evaluate("document.getElementById('page').dataset.lanes.split(',').map(Number)")
    left = page.locator("#page").bounding_box()
    assert left
    drop((left["x"] + lanes[0] + lanes[1] * 1.5, middle(word)[1]), "", "cover, lane 2")
    (cover,) = room.story.covers
    assert (cover.lane, cover.source, cover.start) == (2, fifty, 200) and room.shape() == start


def test_the_strip_trims_rolls_and_selects_by_a_frame(laid: Room, serve: Callable) -> None:
    room, page = laid, laid.page
    start, second = room.shape(), room.story.pieces[1].id
    page.goto(page.url.replace("/story", "/sound"))
    until(page, "window.kovel?.strip?.data?.blocks?.length")
    place = """(id) => { const s = kovel.strip, b = s.data.blocks.find((x) => x.id === id), r = s.canvas.getBoundingClientRect(),
      box = s.box(b); return [r.left + box.x, r.top + box.y, box.w, box.h, s.px]; }"""

    def at(clip: int) -> list[float]:
        return page.evaluate(place, clip)

    def drag(x: float, y: float, by: float) -> None:
        page.keyboard.down("Shift")  # nothing caught
        dragged(page, (x, y), (by, 0))
        page.keyboard.up("Shift")
        page.evaluate("kovel.sound.idle()")

    x, y, wide, tall, px = at(second)
    drag(x + 1, y + tall - 12, 12 * px)
    assert [length for *_, length in shape(room)] == [62, 63, 60]
    page.keyboard.press("z")
    page.evaluate("kovel.sound.idle()")
    x, y, wide, tall, px = at(second)
    drag(x + wide - 6, y + tall - 12, -10 * px)
    assert shape(room)[1] == (start[1][0], 300, 65)
    page.keyboard.press("z")
    page.evaluate("kovel.sound.idle()")
    (sound,) = stories.load(room.data.db, 1).story.sounds
    x, y, wide, tall, px = at(sound.id)
    dragged(page, (x + wide + 60, y + tall - 4), (-100, -8))
    assert page.evaluate("[...kovel.strip.chosen]") == [sound.id]


def shape(room: Room) -> list[tuple[int | None, int, int]]:
    return [(p.source, p.start, p.length) for p in stories.load(room.data.db, 1).story.pieces]


def test_markers_are_set_while_it_plays_named_snapped_to_and_cuts_go_to_them(room: Room) -> None:
    page = room.page
    room.seek(25)
    page.keyboard.press("Space")
    page.wait_for_function("() => window.kovel.player.frame > 30")
    room.press("m")
    room.report("Marker at")
    assert page.evaluate("kovel.player.playing")  # it plays on
    page.keyboard.press("Space")
    (first,) = room.story.markers
    assert 25 < room.story.at_of(first.tether) < 50
    room.seek(60)
    room.press("m", "m")
    room.report("There is a marker at 0:02+10 already")
    page.keyboard.press("Shift+M")
    names = page.locator("#markers-here [name=text]")
    names.nth(1).fill("bell")
    page.keyboard.press("Tab")
    page.locator("#markers-here [name=shape]").nth(1).select_option("diamond")
    room.report("Marker “bell” changed")
    page.locator("#markers-here [data-go]").nth(1).click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    assert page.evaluate("kovel.player.frame") == 60
    expect(page.locator(".story-marker")).to_have_count(2)
    page.locator(".seam").first.click()  # at 50; the marker at 60 is the nearest
    room.press("Alt+m")
    room.report("1 seam rolled to the nearest marker or beat (0:02+00: 10 frames later)")
    assert [length for *_, length in room.shape()] == [60, 65, 60]
    assert sorted(m.name for m in room.story.markers) == ["", "bell"]
    page.reload()
    until(page, "window.kovel?.story")
    expect(page.locator(".story-marker")).to_have_count(2)


def test_words_covers_and_edges_by_finger(laid: Room, chromium: Browser) -> None:
    """A tablet on its side: touch points as the browser gets them, 1180 x 820, a coarse pointer."""
    room, url = laid, laid.page.url
    room.page.close()
    context = chromium.new_context(viewport={"width": 1180, "height": 820}, has_touch=True, is_mobile=True)
    page = context.new_page()
    page.goto(url)
    until(page, "window.kovel?.story")
    room.page = page
    touch = context.new_cdp_session(page)

    def swipe(start: tuple[float, float], end: tuple[float, float]) -> None:
        steps = [(start[0] + (end[0] - start[0]) * k / 8, start[1] + (end[1] - start[1]) * k / 8) for k in range(9)]
        for kind, (x, y) in [("touchStart", steps[0]), *(("touchMove", at) for at in steps[1:])]:
            touch.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": [{"x": x, "y": y}]})
            page.wait_for_timeout(16)
        touch.send("Input.dispatchTouchEvent", {"type": "touchEnd", "touchPoints": []})
        page.wait_for_timeout(50)
        page.evaluate("kovel.story.idle()")

    word = page.locator(".piece .w", has_text="word25")
    page.touchscreen.tap(*middle(word))  # the playhead goes there
    assert page.evaluate("kovel.player.frame") == 63
    swipe(middle(word), middle(page.locator(".piece .w", has_text="word27")))
    expect(page.locator(".w.is-on")).to_have_count(3)
    start = room.story
    px = page.evaluate("Number(document.getElementById('page').dataset.px)")
    x, y = middle(page.locator(".laid").nth(0))
    swipe((x, y), (x, y + 40 * px))
    assert room.story.at(room.story.covers[0]) > start.at(start.covers[0]) + 20
    x, y = middle(page.locator(".piece").nth(2).locator(".edge[data-edge=out]"))
    swipe((x, y), (x, y - 20 * px))
    assert room.shape()[2][2] < 50
    size = page.locator(".piece").nth(2).locator(".edge[data-edge=out]").bounding_box()
    assert size and size["width"] >= 24 and size["height"] >= 24
    context.close()
