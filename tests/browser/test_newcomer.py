"""The newcomer's whole path in the real interface, frames read off the canvas, the rendered file checked frame by
frame."""

import json
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, Route, expect

from kovel.core.time.rate import RATES, Rate
from kovel.core.time.timecode import format_timecode
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.store import recordings, stories, transcripts
from tests import made
from tests.browser.seen import truth, until, wrong
from tests.media.test_media import expected_sound


def test_from_footage_to_a_film_on_disk(
    page: Page, serve: Callable, watch: Callable, clips: dict[str, Path], tmp_path: Path
) -> None:
    media = tmp_path / "media"
    media.mkdir()
    for p in clips.values():
        shutil.copy(p, media)
    server = serve(tmp_path / "data", media, own=True)
    page.goto(server.url)
    page.get_by_label("Name", exact=True).fill("Ferry \u201cone\u201d <1>")
    page.get_by_label("Picture size").select_option("1280x720")
    page.get_by_role("button", name="Make project").click()
    page.wait_for_url("**/footage")

    # Footage: one by path, one uploaded, one by the command line while the server runs
    page.get_by_label("From this machine").fill(str(media / "fifty.mov"))
    page.get_by_role("button", name="Bring in").click()
    expect(page.locator("#report")).to_contain_text("1 recording brought in")
    page.locator("input[type=file]").set_input_files(str(media / "boat.mp4"))
    expect(page.locator("tr[data-recording]")).to_have_count(2)
    words = [{"text": f"word{i}", "start": i * 0.5 + 0.02, "end": i * 0.5 + 0.4, "speaker": "Maren"} for i in range(78)]
    (tmp_path / "words.json").write_text(json.dumps({"words": words}))
    out = json.loads(
        server.cli(
            "import", str(media / "talk.mov"), "--words", str(tmp_path / "words.json"), "--kind", "interview", "--json"
        )
    )
    assert out["recordings"][0]["ready"] and not out["refused"]
    expect(page.locator("[data-poll]")).to_have_count(0, timeout=240_000)
    page.reload()
    expect(page.locator("td", has_text="ready")).to_have_count(3)
    page.get_by_label("Kind of boat").select_option("b-roll")
    expect(page.locator("#report")).to_contain_text("boat changed")

    # Log: in, out, a name, kept; once by keys, once by dragging over words
    page.get_by_role("link", name="Log", exact=True).click()
    page.locator(".rail a", has_text="talk").click()
    expect(page.locator(".w")).to_have_count(78)
    until(page, "window.kovel?.player?.plan")
    page.evaluate("kovel.player.seek(100)")
    page.keyboard.press("i")
    for _ in range(10):
        page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("o")
    page.keyboard.press("n")
    page.keyboard.type("First bite")
    page.keyboard.press("Enter")
    expect(page.locator("[data-clip]")).to_have_count(1)
    page.locator(".w", has_text="word30").hover()
    page.mouse.down()
    page.locator(".w", has_text="word33").hover()
    page.mouse.up()
    page.get_by_placeholder("Name of the soundbite (N)").fill("Second bite")
    page.get_by_role("button", name="Save bite (Enter)").click()
    expect(page.locator("[data-clip]")).to_have_count(2)
    first, second = (json.loads(server.cli("list", "-p", "1", "--json"))["subclips"][i] for i in (0, 1))
    assert (first["start"], first["length"]) == (100, 51) and second["start"] in range(372, 376)

    # Story: two bites by key, a shot dragged on to a word before the seam
    page.get_by_role("link", name="Story", exact=True).click()
    until(page, "window.kovel?.story")
    for name in ("First bite", "Second bite"):
        page.locator("#shelf-bites .shelf-item", has_text=name).focus()
        page.keyboard.press("Enter")
        page.keyboard.press("b")
        expect(page.locator("#report")).to_contain_text("at the end")
        page.evaluate("kovel.story.idle()")
    expect(page.locator(".piece")).to_have_count(2)
    expect(page.locator('.seam[data-kind="jump"]')).to_have_count(1)
    page.get_by_role("tab", name="B-roll").click()
    page.locator("#cover-length").fill("1s")
    page.locator(".shelf-item:visible", has_text="boat").drag_to(page.locator(".piece .w", has_text="word11"))
    expect(page.locator(".laid")).to_have_count(1)
    expect(page.locator('.seam[data-kind="covered"]')).to_have_count(1)
    page.evaluate("kovel.story.idle()")
    data = DataFolder(tmp_path / "data")
    kept, want, number = truth(data, 1)
    (cover,) = kept.story.covers
    assert kept.story.at(cover) == 38 and cover.length == 25  # word11 begins at 5.52 s: frame 138 of its recording
    assert want[37][0] == 1 and want[38] == (3, 0) and want[62] == (3, 24) and want[63][0] == 1

    # words swept with the pointer are what the next edit is about
    page.locator(".piece .w", has_text="word9").hover()
    page.mouse.down()
    page.locator(".piece .w", has_text="word10").hover()
    page.mouse.up()
    expect(page.locator(".w.is-on")).to_have_text(["word9", "word10"])
    page.keyboard.press("x")
    expect(page.locator("#report")).to_contain_text("Took out 22 frames")  # 4.52 s to 5.4 s: frames 113 to 135
    page.keyboard.press("z")
    expect(page.locator("#report")).to_contain_text("Undone")
    page.evaluate("kovel.story.idle()")
    assert truth(data, 1)[0].story == kept.story

    # play it all: every refresh shows the plan's frame
    watch(page)
    page.keyboard.press("Home")
    page.locator("body").click(position={"x": 1200, "y": 700})
    page.keyboard.press("Home")
    page.keyboard.press("Space")
    until(page, "kovel.player.playing")
    until(page, "!kovel.player.playing", seconds=15)
    rows = page.evaluate("window.seen")
    assert len({r[0] for r in rows}) > 0.5 * len(want)  # how many is for test_playing, which has the machine alone
    assert wrong(rows, want, late=page.evaluate("kovel.player.late")) == []
    for key, frame in (
        ("Home", 0),
        ("ArrowRight", 1),
        ("Shift+ArrowRight", 6),
        ("ArrowLeft", 5),
        ("ArrowDown", 51),
        ("End", len(want)),
    ):
        page.keyboard.press(key)
        assert page.evaluate("kovel.player.frame") == frame
    page.keyboard.press("ArrowUp")
    until(page, "f => JSON.stringify(readCode()) === JSON.stringify(f)", arg=list(want[51]))

    # undo, redo; then the browser is gone, the server is killed, and all stands as it was
    page.keyboard.press("z")
    expect(page.locator(".laid")).to_have_count(0)
    page.keyboard.press("Shift+Z")
    expect(page.locator(".laid")).to_have_count(1)
    revision = page.locator("#page").get_attribute("data-revision")
    before = page.locator("#page").inner_text()
    page.goto("about:blank")
    server.kill()
    server.start()
    page.goto(f"{server.url}/p/1/story")
    until(page, "window.kovel?.story")
    assert (
        page.locator("#page").inner_text() == before
        and page.locator("#page").get_attribute("data-revision") == revision
    )
    assert truth(data, 1)[0].story == kept.story

    # hand-off: a file whose every frame and sample is what was seen and heard
    page.get_by_role("link", name="Hand-off").click()
    page.get_by_label("Quality").select_option("small")
    expect(page.locator("#out-quality")).to_have_value("small")
    expect(page.locator("#expected")).to_contain_text("to make")
    page.get_by_role("button", name="Render").click()
    page.wait_for_selector('[data-render][data-state="done"]', timeout=240_000)
    with page.expect_download() as got:
        page.get_by_role("link", name="Save the file").click()
    film = tmp_path / "film.mp4"
    got.value.save_as(film)
    assert made.codes(film) == want
    k, fit = made.lag(made.decoded_sound(film), expected_sound(kept, recordings.sources(data.db, 1), number))
    assert k == 0 and fit > 0.97


def test_another_window_is_followed_and_a_stale_page_is_told(page: Page, forty: tuple) -> None:
    """The page opens also where its first answers are lost on the way."""
    _, server = forty
    lost: list[str] = []

    def lose(route: Route) -> None:
        if route.request.url in lost:
            route.continue_()
        else:
            lost.append(route.request.url)
            route.abort("connectionreset")

    for asked in ("**/story/plan*", "**/story/edits"):
        page.route(asked, lose)
    page.goto(f"{server.url}/p/1/story")
    until(page, "window.kovel?.story")
    assert len(lost) == 2
    page.evaluate("kovel.player.seek(0)")
    page.route("**/story/revision*", lambda r: r.fulfill(status=204))  # the page has not followed yet
    server.cli("story", "edit", "split", "at=3")
    page.evaluate("kovel.story.edit('split', { at: 2 })")
    expect(page.locator("#report")).to_contain_text("your edit was not made")
    page.unroute("**/story/revision*")
    expect(page.locator(".piece")).to_have_count(42)
    server.cli("story", "undo")
    expect(page.locator(".piece")).to_have_count(41, timeout=60_000)
    page.evaluate("kovel.story.edit('split', { at: 2 })")
    expect(page.locator(".piece")).to_have_count(42)


def test_loupes_set_the_edge_to_the_frame(
    page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path
) -> None:
    """By key, and by dragging: the edge lands on the frame under the pointer, however long the recording."""
    data, r = coded
    transcripts.set_words(
        data.db, r["talk"].id, [Word(f"word{i}", 24000 * i, 24000 * i + 20000, "M") for i in range(78)]
    )
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/log?rec={r['talk'].id}")
    until(page, "window.kovel?.marks")
    page.evaluate("kovel.player.seek(500)")
    page.keyboard.press("i")
    page.evaluate("kovel.player.seek(900)")
    page.keyboard.press("o")
    loupe = page.get_by_role("slider", name="In point, close up")
    loupe.focus()
    for k in ("ArrowRight", "ArrowRight", "ArrowRight", "Shift+ArrowLeft"):
        page.keyboard.press(k)
    assert page.evaluate("kovel.marks()") == {"in": 498, "out": 900} and page.evaluate("kovel.player.frame") == 498
    expect(loupe).to_have_attribute("aria-valuetext", "00:00:19:23")
    expect(loupe.locator(".loupe-words")).to_contain_text("word40")
    for times, seconds in ((0, 4), (3, 4 * 0.8**3)):
        for _ in range(times):
            page.keyboard.press("+")
        centre = page.evaluate("kovel.marks().in")
        box = loupe.bounding_box()
        assert box
        x = box["x"] + box["width"] * 0.7
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 40)
        page.mouse.down()
        page.mouse.move(x, box["y"] + 40, steps=4)
        page.mouse.up()
        assert page.evaluate("kovel.marks().in") == round(centre + 0.2 * seconds * 25)
    page.get_by_role("searchbox").fill('"word40 word41"')
    page.locator("#found a:not([aria-label])").click()
    until(page, "kovel.player?.frame === 0 || kovel.player?.frame > 0")
    assert "#" in page.url and page.locator(".w.is-now").count() <= 1


def test_the_page_writes_timecode_as_the_core_does(page: Page, forty: tuple) -> None:
    _, server = forty
    page.goto(server.url)
    rng = np.random.default_rng(5)
    for rate, drop in [(r, False) for r in RATES] + [(Rate(30000, 1001), True), (Rate(60000, 1001), True)]:
        n = rate.nominal
        frames = [
            *rng.integers(0, n * 80_000, 300).tolist(),
            *(n * 60 * k + d for k in range(1, 40) for d in (-1, 0, 1, 4)),
        ]
        got = page.evaluate(
            "async ([f, rate, drop]) => { const { timecode } = await import('/static/js/transport.js'); "
            "return f.map((x) => timecode(x, rate, 0, drop)); }",
            [frames, [rate.num, rate.den], drop],
        )
        assert got == [format_timecode(f, rate, drop) for f in frames], rate


def test_everything_can_be_reached_and_read(page: Page, forty: tuple) -> None:
    """WCAG 2.2 AA by computation: every control has a name; text keeps 4.5:1 on its ground, by day and by night."""
    _, server = forty
    for path in ("/", "/p/1/footage", "/p/1/log", "/p/1/story", "/p/1/handoff"):
        page.goto(server.url + path)
        page.wait_for_timeout(300)
        for look in ("day", "night"):
            page.evaluate("l => { document.documentElement.dataset.theme = l }", look)
            bad = page.evaluate(AUDIT)
            assert not bad, (path, look, bad[:6])
    page.evaluate("document.documentElement.style.setProperty('--soft', '#777')")
    assert page.evaluate(AUDIT)  # it does find what is too faint


AUDIT = """() => {
  const bad = [], num = (c) => { const x = document.createElement('canvas').getContext('2d'); x.fillStyle = c; x.fillRect(0, 0, 1, 1); return [...x.getImageData(0, 0, 1, 1).data]; };
  const lum = (c) => { const v = c.slice(0, 3).map((x) => { x /= 255; return x <= 0.03928 ? x / 12.92 : ((x + 0.055) / 1.055) ** 2.4; }); return 0.2126 * v[0] + 0.7152 * v[1] + 0.0722 * v[2]; };
  const ground = (e) => { for (; e; e = e.parentElement) { const c = num(getComputedStyle(e).backgroundColor); if (c[3] > 250) return c; } return [255, 255, 255, 255]; };
  for (const e of document.querySelectorAll('button, a, input:not([type=hidden]), select, summary, [tabindex="0"]')) {
    if (!e.checkVisibility()) continue;
    const name = e.getAttribute('aria-label') || e.textContent.trim() || e.title || e.labels?.[0]?.textContent.trim() || e.closest('label')?.textContent.trim();
    if (!name && !e.closest('[aria-hidden=true]')) bad.push(['no name', e.outerHTML.slice(0, 120)]);
  }
  const walk = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (walk.nextNode()) {
    const e = walk.currentNode.parentElement;
    if (!walk.currentNode.textContent.trim() || !e.checkVisibility({ opacityProperty: true }) || e.closest('script, template, :disabled, .aside, [aria-hidden=true], #report')) continue;
    const a = lum(num(getComputedStyle(e).color)), b = lum(ground(e)), ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
    if (ratio < 4.5) bad.push([ratio.toFixed(2), e.outerHTML.slice(0, 120)]);
  }
  return bad;
}"""


def test_a_two_hour_story_opens_scrolls_and_answers(
    page: Page, serve: Callable, data: DataFolder, tmp_path: Path
) -> None:
    """2,000 pieces and 1,500 covers: only what is near the screen is in the page, wherever one scrolls or edits."""
    from bench.edits import made as long_story

    long_story(data)
    kept = stories.load(data.db, 1)
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/story")
    until(page, "window.kovel?.story")
    assert page.locator(".piece").count() < 120
    far = kept.story.starts[1500]
    page.evaluate("f => kovel.player.seek(f)", far)
    expect(page.locator(f'[data-piece="{kept.story.pieces[1500].id}"]')).to_have_count(1)
    assert page.locator(".piece").count() < 120
    page.evaluate("f => kovel.player.seek(f)", far + 20)
    page.keyboard.press("s")
    expect(page.locator("#report")).to_contain_text("Split at")
    page.evaluate("kovel.story.idle()")
    page.keyboard.press("g")
    page.keyboard.press("Alt+ArrowUp")
    expect(page.locator("#report")).to_contain_text("moved")
    page.keyboard.press("ArrowDown")
    assert page.evaluate("kovel.player.frame") in stories.load(data.db, 1).story.starts
    page.evaluate("kovel.story.idle()")
    page.evaluate("document.getElementById('scroll').scrollTop = 1e9")
    page.evaluate("kovel.player.reload()")  # a plan that comes after one has scrolled away does not bring the page back
    expect(page.locator(f'[data-piece="{kept.story.pieces[-1].id}"]')).to_have_count(1)
