"""The Picture room in the browser: framed by drag and key, looks typed and compared, titles laid, at the scope that
is picked."""

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, expect

from kovel.data_folder import DataFolder
from kovel.store import recordings, stories
from kovel.store.recordings import Recording
from tests.browser.seen import until

Shown = tuple[DataFolder, dict[str, Recording]]
POINT = """([x, y]) => { const c = kovel.player.canvas; return [...c.getContext("2d").getImageData(x * c.width, y * c.height, 1, 1).data.slice(0, 3)]; }"""


@pytest.fixture
def film(shown: Shown) -> Shown:
    """Two pieces of Maren with a jump between, a shot over the second."""
    data, r = shown
    for name, params in (
        ("add_at_end", {"source": r["maren-a"].id, "start": 0, "length": 30}),
        ("add_at_end", {"source": r["maren-a"].id, "start": 40, "length": 30}),
        ("lay_cover", {"source": r["bell"].id, "at": 40, "until": 60, "start": 10}),
    ):
        stories.edit(data.db, 1, None, name, params)
    return shown


def story(data: DataFolder) -> Any:
    return stories.load(data.db, 1).story


def opened(page: Page, serve: Callable, data: DataFolder, tmp_path: Path) -> None:
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/picture")
    until(page, "window.kovel?.picture && kovel.player.shown")


def idle(page: Page) -> None:
    page.evaluate("kovel.picture.idle()")


def test_a_side_is_cut_off_by_hand(page: Page, film: Shown, serve: Callable, tmp_path: Path) -> None:
    """Alt and a drag inwards from near a side; mirrored, the side that is seen there; out again, it is back."""
    data, _ = film
    opened(page, serve, data, tmp_path)
    page.keyboard.press("g")
    until(page, "document.querySelector('#items-zoom')")
    box = page.evaluate("""() => { const c = kovel.player.canvas, r = c.getBoundingClientRect(), k = Math.min(r.width / c.width, r.height / c.height);
      return [r.left + (r.width - c.width * k) / 2, r.top, c.width * k, c.height * k]; }""")

    def cut(a: tuple[float, float], b: tuple[float, float]) -> None:
        page.keyboard.down("Alt")
        page.mouse.move(box[0] + a[0] * box[2], box[1] + a[1] * box[3])
        page.mouse.down()
        page.mouse.move(box[0] + b[0] * box[2], box[1] + b[1] * box[3], steps=4)
        page.mouse.up()
        page.keyboard.up("Alt")

    def value(side: str) -> float:
        return float(story(data).pieces[0].settings[f"crop_{side}"])

    cut((0.02, 0.5), (0.22, 0.55))
    expect(page.locator("#report")).to_contain_text("cut left")
    idle(page)
    assert abs(value("left") - 20) < 0.6
    until(page, "kovel.player.plan.pictures[0][2][0][4].part.crop[0] > 0.19")
    cut((0.7, 0.98), (0.7, 0.88))
    expect(page.locator("#report")).to_contain_text("cut bottom")
    idle(page)
    assert abs(value("bottom") - 10) < 0.6
    cut((0.2, 0.5), (0.0, 0.5))  # back out
    expect(page.locator("#report")).to_contain_text("cut left 0 %")  # what is seen meanwhile is a draft
    idle(page)
    assert value("left") == 0
    page.locator("#items-flip").check()
    until(page, "kovel.player.plan.pictures[0][2][0][4].part.flip")
    cut((0.02, 0.5), (0.12, 0.5))
    expect(page.locator("#report")).to_contain_text("cut right")
    idle(page)
    assert abs(value("right") - 10) < 0.6


def test_framed_by_key_and_by_hand(page: Page, film: Shown, serve: Callable, tmp_path: Path) -> None:
    data, _ = film
    opened(page, serve, data, tmp_path)
    page.keyboard.press("g")
    until(page, "document.querySelector('#items-zoom')")
    for _ in range(3):
        page.keyboard.press("+")
    expect(page.locator("#report")).to_contain_text("zoom 103 %")
    page.locator("#items-zoom").fill("150")
    page.locator("#items-zoom").press("Enter")
    expect(page.locator("#report")).to_contain_text("zoom 150 %")
    idle(page)
    until(page, "kovel.player.plan.pictures[0][2][0][4].part.zoom === 150")
    box = page.locator(".room-picture canvas").bounding_box()
    assert box
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 40, y + 10, steps=4)
    page.mouse.up()  # what is seen goes with the hand: less of its left is cut away
    expect(page.locator("#report")).to_contain_text("across")
    idle(page)
    p = story(data).pieces[0]
    assert p.settings["zoom"] == 150 and 20 < p.settings["across"] < 48 and p.settings["down"] < 40
    page.keyboard.press("z")
    expect(page.locator("#report")).to_contain_text("Undone")
    page.evaluate("kovel.player.seek(29)")
    page.keyboard.press("p")  # a push towards here
    expect(page.locator("#report")).to_contain_text("zoom 168 % at")
    idle(page)
    line = story(data).pieces[0].settings["zoom"]
    assert line == ((0, 150.0), (29, 168.0))
    until(page, "document.querySelector('#items-zoom').value === '150 to 168'")
    page.locator("#items-zoom").fill("100 to 120")
    page.locator("#items-zoom").press("Enter")
    expect(page.locator("#report")).to_contain_text("a push from 100 to 120 %")
    idle(page)
    page.keyboard.press("s")
    expect(page.locator("#report")).to_contain_text("Framed on the face")


def test_jumps_are_judged_before_they_are_punched_in(page: Page, film: Shown, serve: Callable, tmp_path: Path) -> None:
    """By its button and from the list of all edits: what would be shown larger, done or left."""
    data, _ = film
    opened(page, serve, data, tmp_path)
    page.locator("[data-do=punch]").click()
    expect(page.locator("#ask-place")).to_contain_text("1 of 2 pieces punched in at 1 jump")
    expect(page.locator("#ask-place li")).to_have_text("maren-a at 0:01+05: 125 %")
    page.keyboard.press("Escape")
    expect(page.locator("#ask-place")).to_be_empty()
    assert not story(data).pieces[1].settings
    page.keyboard.press("q")
    page.keyboard.type("punch every 130")
    page.keyboard.press("Enter")
    expect(page.locator("#ask-place li")).to_have_text("maren-a at 0:01+05: 130 %")
    page.keyboard.press("Enter")
    expect(page.locator("#report")).to_contain_text("punched in")
    idle(page)
    assert story(data).pieces[1].settings["zoom"] == 130
    page.keyboard.press("z")
    expect(page.locator("#report")).to_contain_text("Undone")
    page.locator("[data-do=punch]").click()
    page.locator("[data-ask=yes]").click()
    expect(page.locator("#report")).to_contain_text("punched in")
    idle(page)
    assert story(data).pieces[1].settings["across"] > 55  # on her face


def test_looks_at_the_scope_that_is_picked_before_and_after(
    page: Page, film: Shown, serve: Callable, tmp_path: Path
) -> None:
    data, r = film
    opened(page, serve, data, tmp_path)
    page.evaluate("kovel.player.seek(70 - 60)")
    page.keyboard.press("g")
    until(page, "document.querySelector('#items-brightness')")
    page.locator("#scope").select_option("recording")
    page.locator("#recording-brightness").fill("1.5")
    page.locator("#recording-brightness").press("Enter")
    expect(page.locator("#report")).to_contain_text("brightness +1.5 stops")
    idle(page)
    assert recordings.get(data.db, r["maren-a"].id).settings["brightness"] == 1.5
    until(page, "kovel.player.shown?.includes('brightness')")
    at = [0.3, 0.3]
    looked = page.evaluate(POINT, at)
    page.keyboard.press("c")
    until(page, "kovel.player.shown && !kovel.player.shown.includes('brightness')")
    plain = page.evaluate(POINT, at)
    page.keyboard.press("c")
    page.keyboard.press("h")  # half and half
    until(page, "kovel.player.shown?.includes('true')")
    page.wait_for_timeout(100)
    assert (
        sum(looked) > sum(plain) + 60
        and page.evaluate(POINT, at) == plain
        and page.evaluate(POINT, [0.9, 0.3]) != page.evaluate(POINT, [0.49, 0.3])
    )
    page.keyboard.press("h")
    expect(page.locator("#levels svg")).to_have_count(2)
    page.locator("#scope").select_option("items")
    until(page, "document.querySelector('#items-contrast') && !document.querySelector('#items-contrast').disabled")
    page.locator("#items-contrast").fill("much")
    page.locator("#items-contrast").press("Enter")
    expect(page.locator("#report")).to_contain_text("is not a number")
    page.locator("#items-contrast").fill("500")
    page.locator("#items-contrast").press("Enter")
    expect(page.locator("#report")).to_contain_text("Contrast is set to -100 to 100 %")
    page.keyboard.press("w")
    page.locator(".room-picture canvas").click(position={"x": 200, "y": 150})
    expect(page.locator("#report")).to_contain_text("White set by what was picked")
    idle(page)
    assert "warmth" in story(data).pieces[0].settings
    table = "LUT_1D_SIZE 2\n0 0 0\n1 1 0\n"
    page.locator("#table-in").set_input_files(
        {"name": "no blue.cube", "mimeType": "text/plain", "buffer": table.encode()}
    )
    until(page, "kovel.player.shown?.includes('no blue')")
    assert page.evaluate(POINT, at)[2] == 0
    page.locator("#table-in").set_input_files({"name": "x.cube", "mimeType": "text/plain", "buffer": b"nonsense"})
    expect(page.locator("#report")).to_contain_text("no line of a .cube table")
    page.keyboard.press("Control+c")
    page.locator(".film-row[data-lane='cover 1'] .film-shot").click()
    page.keyboard.press("Control+v")
    expect(page.locator("#report")).to_contain_text("for 1 more")
    idle(page)
    assert story(data).covers[0].settings["table"] == "no blue"


def test_titles_split_screens_and_another_shape(page: Page, film: Shown, serve: Callable, tmp_path: Path) -> None:
    data, _ = film
    opened(page, serve, data, tmp_path)
    page.keyboard.press("n")
    page.locator("#title-how").select_option("lower third")
    page.locator("#title-text").fill("Maren\nferrywoman")
    page.locator("#title-form button").click()
    expect(page.locator("#report")).to_contain_text("Lower third “Maren”")
    idle(page)
    until(page, "document.querySelector('#items-text')?.value === 'Maren\\nferrywoman'")
    page.locator("#items-colour").fill("#ff0000")
    expect(page.locator("#report")).to_contain_text("colour #ff0000")
    idle(page)
    page.evaluate("kovel.player.seek(20)")
    until(page, "kovel.player.shown?.includes('#ff0000')")
    page.locator(".film-row[data-lane='cover 1'] .film-shot").first.click()
    page.locator(".film-row[data-lane='dialogue'] .film-shot").nth(1).click(modifiers=["Shift"])
    page.locator("[data-do=split]").click()
    expect(page.locator("#report")).to_contain_text("Split screen of 2")
    idle(page)
    assert {x.settings["place"] for x in (*story(data).pieces, *story(data).covers)} == {
        "whole picture",
        "left half",
        "right half",
    }
    found = Axe().run(page)
    assert not found.response["violations"], found.generate_report()
    page.locator("[data-do=upright]").click()
    with page.expect_navigation(timeout=240_000):  # the new story is opened
        page.locator("#upright-form button").click()
    until(page, "window.kovel?.picture")
    until(page, "kovel.player.plan.size[1] > kovel.player.plan.size[0]", seconds=30)
    assert page.evaluate("[kovel.player.canvas.width, kovel.player.canvas.height]") == [540, 960]


def test_a_ramp_is_drawn_dragged_and_landed(page: Page, film: Shown, serve: Callable, tmp_path: Path) -> None:
    """A moment by double click, dragged, changed by arrows, taken out; a frame that lands elsewhere is seen there."""
    data, _ = film
    opened(page, serve, data, tmp_path)
    page.evaluate("kovel.player.seek(45)")
    page.keyboard.press("v")
    until(page, "document.querySelector('#pace-draw')")
    page.get_by_text("Ramp and landing").click()
    page.get_by_label("keep its place").check()
    box = page.locator("#pace-draw").bounding_box()
    assert box
    page.mouse.dblclick(box["x"] + box["width"] / 2, box["y"] + box["height"] * 0.35)
    expect(page.locator("#report")).to_contain_text("ramped from 100 to")
    until(page, "document.querySelectorAll('#pace-draw button').length === 2")
    cover = story(data).covers[0]
    (a, slow), (b, fast) = cover.settings["speed"]
    assert a == 10 and slow == 100 and abs(b - 20) <= 1 and 150 < fast < 260 and cover.length == 20
    page.locator("#pace-draw button").nth(1).focus()
    page.keyboard.press("ArrowUp")
    expect(page.locator("#report")).to_contain_text(f"ramped from 100 to {fast + 10:g} %")
    idle(page)
    assert story(data).covers[0].length == 20 and page.get_by_label("keep its place").is_checked()  # as it was set
    until(page, "document.activeElement.closest('#pace-draw')")
    box = page.locator("#pace-draw button").nth(1).bounding_box()
    assert box
    page.mouse.move(box["x"] + 12, box["y"] + 12)
    page.mouse.down()
    page.mouse.move(box["x"] + 40, box["y"] + 30, steps=4)
    page.mouse.up()
    idle(page)
    assert story(data).covers[0].settings["speed"][1][0] > b
    page.evaluate("kovel.player.seek(52)")
    there = (
        "(t) => { const r = kovel.player.plan.pictures.find((r) => r[0] <= t && t < r[1])[2][0]; "
        "return [r[0], Math.floor(r[1] / r[3])]; }"
    )
    wanted = page.evaluate(there, 52)
    page.get_by_role("button", name="Land it").click()
    page.evaluate("kovel.player.seek(56)")
    page.get_by_role("button", name="Land it").click()
    expect(page.locator("#report")).to_contain_text("lands at")
    idle(page)
    until(page, f"JSON.stringify(({there})(56)) === '{json.dumps(wanted, separators=(',', ':'))}'")
    page.get_by_role("button", name="Take the ramp out").click()
    expect(page.locator("#report")).to_contain_text("at 100 %")
