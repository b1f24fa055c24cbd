"""Retimed pieces and peak dips in the browser: heard and seen as delivered, set by hand."""

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect

from kovel.core.plan.plan import make_plan
from kovel.data_folder import DataFolder
from kovel.services.sound.derived_sounds import made_file
from kovel.services.story.story_checks import mix_of
from kovel.store import recordings, stories
from tests.browser.seen import until
from tests.browser.test_sound_room import MIX, Spoken, opened, story


def plan_of(data: DataFolder):
    return make_plan(story(data), recordings.sources(data.db, 1))


def test_a_retimed_piece_is_heard_as_it_is_delivered(
    page: Page, spoken: Spoken, serve: Callable, tmp_path: Path
) -> None:
    """Opening the page has its sound made; then no sample of the page's mix is more than 1 of 32,768 from the
    renderer's."""
    data, r = spoken
    for name, params in (
        ("add_at_end", {"source": r["maren"].id, "start": 20, "length": 200}),
        ("add_at_end", {"source": r["odile"].id, "start": 20, "length": 150}),
        ("set_speed", {"item": 1, "percent": 60}),
        ("set_ramp", {"item": 2, "line": [[20, 100], [120, 180], [170, 70]]}),
        ("set_value", {"to": 2, "setting": "heard", "value": "with the speed"}),
        ("set_value", {"to": 1, "setting": "level", "value": [[40, 0], [150, -12]]}),
        ("split_edit", {"piece": 2, "frames": -6}),
        ("crossfade", {"piece": 2, "frames": 4}),
    ):
        stories.edit(data.db, 1, None, name, params)
    opened(page, serve, data, tmp_path)
    plan = plan_of(data)
    wanted = [made_file(data, i, n) for i, names in plan.made.items() for n in names]
    assert len(wanted) == 2
    end = time.monotonic() + 60
    while not all(p.exists() for p in wanted):
        assert time.monotonic() < end, "they are never made"
        time.sleep(0.1)
    page.reload()
    until(page, "window.kovel?.sound && kovel.strip.loud")
    worst = 0.0
    for a in range(0, plan.samples - 9_600, plan.samples // 12):
        got = page.evaluate(MIX, [plan.to_json(recordings.sources(data.db, 1)), a, a + 9_600])
        want = mix_of(data, plan).block(a, a + 9_600)
        worst = max(worst, float(np.abs(np.array(got, np.float32).T - want).max()))
    assert worst < 1 / 32768 and np.abs(mix_of(data, plan).block(0, plan.samples)).max() > 0.02
    run = page.evaluate("kovel.strip.data.blocks.filter((b) => b.kind === 'piece').map((b) => [b.start, b.run])")
    assert run[0][0] == 20 and abs(run[0][1] - 0.6) < 0.01 and run[1][0] == 20


def test_a_peak_dip_is_moved_deepened_and_taken_away(
    page: Page, spoken: Spoken, serve: Callable, tmp_path: Path
) -> None:
    data, r = spoken
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["maren"].id, "start": 20, "length": 200})
    for at, value in ((60, -4), (140, -2)):
        stories.edit(data.db, 1, None, "dip_here", {"at": at, "value": value})
    opened(page, serve, data, tmp_path)
    box = page.locator("#strip-canvas").bounding_box()
    assert box

    def dips() -> list[tuple[int, float]]:
        return [m for m in dict(story(data).settings)["story"]["dips"] if m[1] < 0] if story(data).settings else []

    def place(frame: int) -> tuple[float, float]:
        x, y = page.evaluate("(f) => [kovel.strip.x(f), kovel.strip.graph + 3]", frame)
        return box["x"] + x, box["y"] + y

    (x, y), (to, _) = place(60), place(90)
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(to, y + 9, steps=4)  # three decibels deeper
    expect(page.locator("#chosen-said")).to_contain_text("dips to -7.0 dB")
    page.mouse.up()
    until(page, "kovel.strip.data.dips.some(([f, db]) => f === 90 && db === -7)")
    assert dips() == [(90, -7.0), (140, -2.0)]
    page.keyboard.down("Alt")
    page.mouse.click(*place(140))
    page.keyboard.up("Alt")
    until(page, "!kovel.strip.data.dips.some(([f]) => f === 140)")
    assert dips() == [(90, -7.0)]
    page.keyboard.press("q")
    page.keyboard.type("take the nearest peak dip")
    page.keyboard.press("Enter")
    until(page, "kovel.strip.data.dips.length === 0")
    assert dips() == []
    page.keyboard.press("z")
    until(page, "kovel.strip.data.dips.length > 0")
    assert dips() == [(90, -7.0)]


def test_a_piece_is_retimed_in_the_picture_rooms_panel(
    page: Page, spoken: Spoken, serve: Callable, tmp_path: Path
) -> None:
    """Every control of its pace: percent, the length it lasts, sound, frames, backwards, a ramp at the playhead, in
    steps, out."""
    data, r = spoken
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["creek"].id, "start": 4, "length": 60})
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/picture")
    until(page, "window.kovel?.picture && kovel.player.shown")
    page.keyboard.press("g")
    report = page.locator("#report")

    def piece():
        page.evaluate("kovel.picture.idle()")
        return story(data).pieces[0]

    def typed(field: str, text: str, told: str) -> None:
        page.locator(field).fill(text)
        page.locator(field).press("Enter")
        expect(report).to_contain_text(told)

    typed("#pace-percent", "50", "at 50 %, now 120 frames")
    assert piece().length == 120
    page.locator("#pace-between").select_option("blended")
    expect(report).to_contain_text("frames of slow motion blended")
    page.locator("#pace-heard").select_option("with the speed")
    expect(report).to_contain_text("follows the speed")
    assert (piece().settings["between"], piece().settings["heard"]) == ("blended", "with the speed")
    typed("#pace-length", "1s", "now 25 frames")
    assert (piece().length, piece().used) == (25, (4, 62))
    expect(page.locator("#pace-between")).to_have_count(0)  # it is faster than it was shot
    typed("#pace-length", "soon", "soon")
    assert piece().length == 25
    typed("#pace-percent", "100", "at 100 %, now 60 frames")
    page.locator("#pace [data-set=backwards]").check()
    expect(report).to_contain_text("backwards")
    assert (piece().moment(0), piece().moment(59)) == (63, 4)
    page.locator("#pace [data-set=backwards]").uncheck()
    expect(report).to_contain_text("forwards again")
    page.evaluate("kovel.player.seek(30)")
    page.locator("#pace-ramp summary").click()
    page.locator("#pace-here").fill("300")
    page.locator("[data-do=ramp]").click()
    expect(report).to_contain_text("ramped from 100 to 300 %")
    page.locator("#pace-steps").check()
    until(
        page,
        "document.getElementById('pace-steps').checked && document.querySelectorAll('#pace-draw button').length === 2",
    )
    assert piece().settings["steps"] and [m for m, _ in piece().settings["speed"]] == [4, 34]
    page.locator("[data-do=unramp]").click()
    expect(report).to_contain_text("at 100 %")
    assert piece().as_shot
    page.evaluate("kovel.player.seek(20)")
    page.locator("[data-do=land]").click()
    page.evaluate("kovel.player.seek(40)")
    page.locator("[data-do=land]").click()
    expect(report).to_contain_text("lands at")
    assert piece().moment(40) == 24
