"""The Tighten room in the browser: gone through by key, heard, its threshold dragged, sent to the story."""

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect

from kovel.core.sound.levels import Levels
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.media.listen import save
from kovel.services.tighten import proposals
from kovel.store import decisions, recordings, stories, transcripts
from tests.browser.seen import until


def test_pauses_by_key(page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path) -> None:
    data, r = coded
    talk = r["talk"].id
    on = np.zeros(4000, np.float32)
    for s in range(0, 40, 6):
        on[s * 100 : s * 100 + 400] = 1
    save(data.derived(talk), Levels(on, np.where(on > 0, -20, -70).astype(np.float32), np.full(4000, -70, np.float32)))
    transcripts.set_words(
        data.db, talk, [Word(f"w{i}", 48_000 * i, 48_000 * i + 40_000) for i in range(40) if i % 6 < 4]
    )
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/tighten?rec={talk}")
    until(page, "window.kovel?.tighten")
    expect(page.locator("#list .proposal")).to_have_count(6)
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("x")
    expect(page.locator("#list .proposal").nth(1).get_by_role("checkbox")).not_to_be_checked()
    page.keyboard.press("Shift+BracketRight")
    expect(page.locator("#report")).to_contain_text("moved by 5 frames")
    rate = recordings.clock_of(data.db, 1)
    second = proposals.rows(data, talk, rate)[1]
    assert (second.start, second.end, second.out) == (253, 303, False)
    page.keyboard.press("x")
    page.keyboard.press("h")  # a second before, a second after, without what is between
    until(page, "kovel.player.playing && kovel.player.plan.length === 50")
    frames = page.evaluate("kovel.player.plan.pictures.map((p) => p[2][0][1])")
    assert frames == [228, 303]
    until(page, "!kovel.player.playing", seconds=8)
    until(page, "kovel.player.plan.length === 1000")
    hills = page.locator("#hills").bounding_box()
    assert hills
    page.mouse.move(hills["x"] + hills["width"] * 0.5, hills["y"] + 20)
    page.mouse.down()
    page.mouse.move(hills["x"] + hills["width"] * 5 / 80, hills["y"] + 20, steps=5)
    page.mouse.up()
    expect(page.locator("#list")).to_contain_text("Nothing is proposed")  # at -75 dBFS everything counts as sound
    page.get_by_role("button", name="set by hand: find it again").click()
    expect(page.locator("#list .proposal")).to_have_count(6)
    line = page.locator("#overview").bounding_box()
    assert line
    at = lambda f: line["x"] + line["width"] * f / 1000  # noqa: E731
    page.mouse.move(at(420), line["y"] + 8)
    page.mouse.down()
    page.mouse.move(at(430), line["y"] + 8, steps=3)
    page.mouse.up()
    page.keyboard.press("g")
    expect(page.locator("#report")).to_contain_text("Protected")
    page.keyboard.press("b")
    expect(page.locator("#report")).to_contain_text("One undo in the Story")
    pieces = [(p.start, p.length) for p in stories.load(data.db, 1).story.pieces]
    assert pieces == [(0, 103), (148, 105), (303, 250), (598, 105), (748, 105), (898, 102)]
    page.goto(f"{server.url}/p/1/story")
    expect(page.locator("article")).to_have_count(6)


def test_hits_and_taps(page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path) -> None:
    data, r = coded
    talk = r["talk"].id
    hits = [[48_000 * k, 0.9, 0.1, 0.1] for k in range(1, 30)]
    for name in ("talk", "fifty"):
        (data.derived(r[name].id) / "pulse.json").write_text(
            json.dumps({"hits": hits, "beats": [24_000 * k for k in range(48)], "tempo": 120.0, "first": 0, "bar": 4})
        )
    recordings.update(data.db, r["fifty"].id, kind="music")
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/hits?rec={talk}")
    until(page, "window.kovel?.hits")
    expect(page.locator("#marks .hit.is-on")).to_have_count(29)
    page.keyboard.press("Alt+ArrowRight")
    page.keyboard.press("Alt+ArrowRight")
    page.keyboard.press("x")
    expect(page.locator("#marks .hit.is-on")).to_have_count(28)
    page.get_by_label("Target length, frames").fill("50")
    page.get_by_label("Target length, frames").blur()
    expect(page.locator(".quick-piece")).to_have_count(10)
    page.keyboard.press("p")
    until(page, "kovel.player.playing && kovel.player.plan.length === 50")
    until(page, "!kovel.player.playing", seconds=8)
    page.keyboard.press("b")
    expect(page.locator("#report")).to_contain_text("10 pieces, 50 frames")
    # more of its sound has come: the desk is drawn anew under what is being typed, and the waveform is fetched again
    fewer = {"hits": hits[:20], "beats": [], "tempo": 0, "first": 0, "bar": 4}
    (data.derived(talk) / "pulse.json").write_text(json.dumps(fewer))
    page.get_by_label("Frames of a piece").press_sequentially("7")
    typed = page.get_by_label("Frames of a piece").input_value()
    with page.expect_request("**/peaks.bin"):
        page.evaluate(f"htmx.ajax('GET', '/p/1/hits/{talk}', {{target: '#desk', swap: 'outerHTML'}})")
    expect(page.locator("#marks .hit")).to_have_count(20)
    assert page.get_by_label("Frames of a piece").input_value() == typed == "75"  # nor sent before it is done
    assert page.evaluate("document.activeElement.name") == "length" and decisions.quick(data.db, talk).how.length == 5
    page.keyboard.press("Tab")
    expect(page.locator("#settings-here [name=length]")).to_have_value("25")  # sent now, and kept within its bounds
    page.goto(f"{server.url}/p/1/hits?rec={r['fifty'].id}")
    until(page, "window.kovel?.hits")
    expect(page.locator("#desk")).to_contain_text("120.0 beats a minute")
    page.locator("body").press(" ")
    until(page, "kovel.player.playing")
    for _ in range(5):
        page.keyboard.press("t")
        page.wait_for_timeout(400)
    page.keyboard.press("k")
    expect(page.locator("#report")).to_contain_text("beats a minute")
    expect(page.locator("#desk")).not_to_contain_text("120.0 beats")
