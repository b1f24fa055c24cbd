"""From a fresh start to a film on disk, on a machine that is kept busy; and then the *file* is listened to and
looked at: every word of the story, every cut, cover and title, music under the words. Once by the demo's own way in,
once with fresh uploads of three cameras. (Once the demo's film was silent in three of four fresh starts while every
test was green.)"""

import json
import os
import shutil
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import pytest
from bench.prepared import busy
from playwright.sync_api import Page, expect

from kovel.data_folder import DataFolder
from kovel.demo.project import FOOTAGE
from kovel.media.wholeness import shortcomings
from kovel.store import recordings, stories
from tests.acceptance import (
    Delivered,
    film_frames,
    heard_share,
    late_cuts,
    missing_titles,
    music_over_speech,
    plain,
    wrong_pictures,
)
from tests.browser.conftest import Server
from tests.browser.seen import until

PATIENT = 600_000  # ms
View = Callable[[np.ndarray], np.ndarray]


class Demo(Server):
    command = "demo"


def idle_cores() -> int:
    """Cores that no other test keeps busy beside this one."""
    beside = int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1")) - 1
    return max(0, (os.cpu_count() or 2) - beside)


def rendered(page: Page, url: str, to: Path, height: str) -> Path:
    """The open story rendered through Hand-off and saved, as an editor does it."""
    page.goto(f"{url}/handoff")
    page.get_by_label("Lines high").fill(height)
    page.get_by_label("Lines high").press("Tab")
    expect(page.locator("#expected")).to_contain_text(f"× {height} ·", timeout=60_000)  # the form is drawn anew
    row = page.locator("[data-render]").first
    for _ in range(500):  # what is still being made of a sound is said, and rendered when it is there
        page.get_by_role("button", name="Render").click()
        expect(row.or_(page.locator("#report", has_text="still being made"))).to_be_visible()
        if row.count():
            break
        page.wait_for_timeout(1000)
    expect(row).to_have_attribute("data-state", "done", timeout=PATIENT)
    expect(row).to_contain_text("Checked: every picture and sound is there as in the story.")
    with page.expect_download() as got:
        row.get_by_role("link", name="Save the file").click()
    got.value.save_as(to)
    return to


def listened_to(film: Delivered) -> None:
    """What whoever gets the film hears and sees of it is what the story has."""
    share, missing = heard_share(film)
    assert share >= 0.9, missing
    shown = film_frames(film.path)
    assert wrong_pictures(film, shown) == [] and late_cuts(film, shown) == [] and missing_titles(film) == []
    over, both = music_over_speech(film)
    assert len(over) <= 0.05 * both, over


@pytest.mark.timeout(1500)
def test_the_demo_from_a_fresh_start_on_a_busy_machine(page: Page, tmp_path: Path) -> None:
    with busy(idle_cores()):
        server = Demo(tmp_path / "data", tmp_path)
        data = DataFolder(tmp_path / "data")
        page.set_default_timeout(120_000)
        page.goto(f"{server.url}/p/1/story")
        until(page, "window.kovel?.story", seconds=120)
        film = Delivered(tmp_path / "film.mp4", data, stories.load(data.db, stories.current(data.db, 1)))
        heard = {h.source for h in film.plan.sounds}
        for i in heard:  # as soon as a page plays it
            until(page, "async i => (await (await fetch(`/media/${i}/media.json`)).json()).sounded", arg=i, seconds=600)
    rendered(page, f"{server.url}/p/1", film.path, "360")
    server.kill()
    listened_to(film)
    assert (
        len(film.plan.pictures) >= 9 and len(film.kept.story.covers) >= 7
    )  # it is a film with cuts, covers and titles
    for r in recordings.of_project(data.db, 1):
        assert shortcomings(data.derived(r.id)) == "", r.name


def beginning(src: Path, to: Path, seconds: float) -> Path:
    """The first seconds of a recording, as they were recorded."""
    with av.open(str(src)) as c, av.open(str(to), "w") as out:
        streams = {x.index: out.add_stream_from_template(x) for x in c.streams if x.type in ("video", "audio")}
        for packet in c.demux(*(c.streams[i] for i in streams)):
            if packet.dts is not None and packet.pts * packet.time_base < seconds:
                packet.stream = streams[packet.stream_index]
                out.mux(packet)
    return to


def camera(src: Path, to: Path, start: float, seconds: float, size: tuple[int, int], view: View) -> Path:
    """Another camera of the same moment: begun later, of another size, from where `view` sees it."""
    with av.open(str(src)) as c, av.open(str(to), "w") as out:
        v: Any = out.add_stream("libx264", rate=25, options={"preset": "veryfast", "crf": "20", "g": "100"})
        v.width, v.height, v.pix_fmt = *size, "yuv420p"
        v.codec_context.color_primaries = v.codec_context.color_trc = v.codec_context.colorspace = 1
        a: Any = out.add_stream("aac", rate=48_000, layout="mono")
        resample = av.AudioResampler("fltp", "mono", 48_000, frame_size=1024)
        c.streams.video[0].thread_type = "AUTO"
        n = m = 0
        for frame in c.decode(c.streams.video[0], c.streams.audio[0]):
            if frame.time is None or not start <= frame.time < start + seconds:
                if frame.time is not None and frame.time > start + seconds + 1:
                    break
                continue
            if isinstance(frame, av.VideoFrame):
                seen = np.ascontiguousarray(view(frame.reformat(640, 360, "rgb24").to_ndarray()))
                x = av.VideoFrame.from_ndarray(seen, "rgb24").reformat(*size, "yuv420p")
                x.pts, x.time_base, x.pict_type, n = n, Fraction(1, 25), 0, n + 1
                out.mux(v.encode(x))
            else:
                for g in resample.resample(frame):
                    g.pts, g.time_base, m = m, Fraction(1, 48_000), m + g.samples
                    out.mux(a.encode(g))
        out.mux(v.encode(None))
        out.mux(a.encode(None))
    return to


@pytest.mark.timeout(1500)
def test_three_cameras_uploaded_afresh(page: Page, serve: Callable, tmp_path: Path) -> None:
    a = beginning(FOOTAGE / "maren-a.mp4", tmp_path / "Front.mp4", 21)
    b = camera(FOOTAGE / "maren-a.mp4", tmp_path / "Side.mp4", 2, 19, (640, 360), lambda x: x[:, ::-1])
    c = camera(FOOTAGE / "maren-a.mp4", tmp_path / "Close.mp4", 1, 19, (960, 540), lambda x: x[30:300, 80:560])
    shutil.copy(FOOTAGE / "gulls.mp4", tmp_path / "Gulls.mp4")
    server = serve(tmp_path / "data", tmp_path, own=True)
    page.goto(server.url)
    page.get_by_label("Name", exact=True).fill("Three cameras")
    page.get_by_label("Picture size").select_option("1280x720")
    page.get_by_role("button", name="Make project").click()
    page.wait_for_url("**/footage")
    page.locator("input[type=file]").set_input_files([str(p) for p in (a, b, c, tmp_path / "Gulls.mp4")])
    expect(page.locator("tr[data-recording]")).to_have_count(4, timeout=120_000)
    page.get_by_label("Kind of Front").select_option("interview")  # the words of one camera are those of all
    expect(page.locator("#report")).to_contain_text("Front changed")
    expect(page.locator("[data-poll]")).to_have_count(0, timeout=PATIENT)
    page.reload()
    page.get_by_role("button", name="Transcribe").click()
    expect(page.locator("td", has_text="ready, with words")).to_have_count(1, timeout=PATIENT)
    for name in ("Front", "Side", "Close"):
        page.get_by_label(f"Choose {name} to sync").check()
    page.get_by_role("button", name="By sound").click()
    expect(page.get_by_role("region", name="Sync set 1")).to_contain_text("Close", timeout=PATIENT)

    page.get_by_role("link", name="Log", exact=True).click()
    page.locator(".rail a", has_text="Front").click()
    until(page, "window.kovel?.player?.plan")
    words = page.locator(".w")
    there = [plain(x) for x in words.all_inner_texts()]
    last = there.index("last")
    bites = (
        (there.index("nobody") - 6, last, "One"),
        (last + 1, there.index("chain"), "Two"),
        (there.index("chain") + 1, there.index("rest"), "Three"),
    )
    for k, (first, last, name) in enumerate(bites, 1):
        words.nth(first).hover()
        page.mouse.down()
        words.nth(last).hover()
        page.mouse.up()
        page.get_by_placeholder("Name of the soundbite (N)").fill(name)
        page.get_by_role("button", name="Save bite (Enter)").click()
        expect(page.locator("[data-clip]")).to_have_count(k)
    page.get_by_role("link", name="Story", exact=True).click()
    until(page, "window.kovel?.story")
    for name in ("One", "Two", "Three"):
        page.locator("#shelf-bites .shelf-item", has_text=name).focus()
        page.keyboard.press("Enter")
        page.keyboard.press("b")
        expect(page.locator("#report")).to_contain_text("at the end")
        page.evaluate("kovel.story.idle()")
    page.locator("body").click(position={"x": 1200, "y": 700})
    page.keyboard.press("Home")
    page.keyboard.press("ArrowDown")  # inside the second bite, another camera
    for _ in range(3):
        page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("h")
    expect(page.locator(".laid")).to_have_count(1)
    page.evaluate("kovel.story.idle()")
    page.get_by_role("tab", name="B-roll").click()
    page.locator("#cover-length").fill("1s")
    page.locator(".shelf-item:visible", has_text="Gulls").drag_to(page.locator(".piece").nth(2).locator(".w").nth(3))
    expect(page.locator(".laid")).to_have_count(2)
    page.evaluate("kovel.story.idle()")
    film = rendered(page, f"{server.url}/p/1", tmp_path / "film.mp4", "360")
    data = DataFolder(tmp_path / "data")
    got = Delivered(film, data, stories.load(data.db, stories.current(data.db, 1)))
    assert (
        len({x.source for x in (*got.kept.story.pieces, *got.kept.story.covers)}) == 3
    )  # two cameras of three, and a shot
    listened_to(got)
    names = [json.loads(server.cli("list", "-p", "1", "--json"))["recordings"][i]["name"] for i in range(4)]
    assert names == ["Front", "Side", "Close", "Gulls"]
