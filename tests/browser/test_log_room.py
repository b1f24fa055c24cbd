"""The Log room in the browser, on recorded speech: from no words to soundbites in the story."""

from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect
from scipy.io import wavfile
from scipy.signal import resample_poly

from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.services.footage.intake import bring_in
from kovel.store import markers, projects, recordings, stories, subclips, transcripts
from tests.browser.seen import until
from tests.conftest import finish
from tests.recorded import talk


def test_from_sound_to_soundbites(page: Page, serve: Callable, tmp_path: Path) -> None:
    said = talk(25, 5)
    x = said.sound["room"]
    wav = tmp_path / "prompts.wav"
    wavfile.write(wav, 48000, (np.clip(resample_poly(x, 3, 1), -1, 1) * 32767).astype(np.int16))
    data = DataFolder(tmp_path / "data")
    projects.create(data.db, "Talk")
    bring_in(data, 1, wav, name="Prompts", kind="interview")
    finish(data)
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/log")
    page.get_by_role("button", name="Transcribe", exact=True).click()
    expect(page.locator("#hearing")).to_be_visible()
    expect(page.locator("#words .w").nth(5)).to_be_visible(timeout=400_000)  # it gives way to all else
    expect(page.locator("#hearing")).to_have_count(0, timeout=200_000)
    words = transcripts.words(data.db, 1)
    assert len(words) > 25
    # a click goes to the word, a double click corrects it, a space splits it, and Ctrl Z takes it back
    third = page.locator("#words .w").nth(2)
    third.click()
    assert page.evaluate("kovel.player.frame") == words[2].frames(projects.get(data.db, 1).rate)[0]
    third.dblclick()
    page.get_by_label("Corrected word").fill("two words")
    page.keyboard.press("Enter")
    expect(page.locator("#words .w").nth(3)).to_have_text("words")
    assert transcripts.words(data.db, 1)[3].end == words[2].end
    page.keyboard.press("Escape")
    page.keyboard.press("Control+z")
    expect(page.locator("#words .w").nth(2)).to_have_text(words[2].text)
    assert transcripts.words(data.db, 1) == words
    page.locator("#words .turn").first.hover()
    page.locator("#words .who").first.click()
    page.get_by_label("Who speaks").fill("Allison")
    page.get_by_label("everywhere").check()
    page.get_by_role("button", name="Name", exact=True).click()
    expect(page.locator("#words .who").first).to_have_text("Allison")
    assert {w.speaker for w in transcripts.words(data.db, 1)} == {"Allison"}
    # the transcript's menu lies over the room, whatever its size: find and replace, undone
    page.get_by_role("button", name="Transcript…").click()
    page.get_by_label("Find").fill(words[0].text.strip(".,!?"))
    page.get_by_label("Put instead").fill("Hark")
    page.get_by_text("Another recogniser…").click()
    box = page.get_by_role("button", name="Use it").bounding_box()
    assert box and box["y"] + box["height"] < 800
    page.get_by_role("button", name="Replace", exact=True).click()
    expect(page.locator("#words .w").first).to_contain_text("Hark")
    page.locator("body").press("Control+z")
    expect(page.locator("#words .w").first).to_have_text(words[0].text)
    # twice as fast with the pitch kept: 440 Hz stays 440 Hz, and a click of the recording comes at half its time
    got = page.evaluate("""async () => {
      const { Stretch } = await import('/static/js/sound.js'), N = 48000 * 4, x = new Float32Array(N);
      for (let i = 0; i < N; i++) x[i] = 0.3 * Math.sin((2 * Math.PI * 440 * i) / 48000);
      for (let i = 0; i < 96; i++) x[96000 + i] += 0.9;
      const read = async (a, b) => { const y = new Float32Array(b - a); for (let i = a; i < b; i++) if (i >= 0 && i < N) y[i - a] = x[i]; return [y, y.slice()]; };
      const s = new Stretch(read, 0, 2), out = [];
      for (let k = 0; k < 3; k++) out.push(...(await s.next(33))[0]);
      let crossings = 0, click = 0;
      for (let i = 1; i < 40000; i++) if (out[i - 1] < 0 && out[i] >= 0) crossings++;
      for (let i = 0; i < out.length; i++) if (out[i] > out[click]) click = i;
      return [crossings / (40000 / 48000), click / 48000, out.length];
    }""")
    assert abs(got[0] - 440) < 4 and abs(got[1] - 1.0) < 0.02 and got[2] == 3 * 33 * 720
    # what a page keeps is so many bytes: what was used longest ago goes, never what came last
    gone = page.evaluate("""async () => {
      const { Kept } = await import('/static/js/kept.js'), kept = new Kept(100), gone = [], add = (k, n) => kept.add(k, n, () => gone.push(k));
      add("a", 40); add("b", 40); kept.use("a"); add("c", 40); add("c", 30); add("d", 500);
      return [gone, kept.taken];
    }""")
    assert gone == [["b", "a", "c"], 500]
    # slice while listening, at double speed with sound, then judge by key
    page.evaluate("kovel.player.seek(0)")
    page.locator("body").press("l")
    page.keyboard.press("l")
    page.keyboard.press("l")
    until(page, "kovel.player.playing && kovel.player.speed === 2 && kovel.player.audible")
    for _ in range(4):
        page.keyboard.press("s")
        page.wait_for_timeout(700)
    page.keyboard.press("Shift+S")
    page.keyboard.press("k")
    expect(page.locator("[data-clip]")).to_have_count(4)
    expect(page.locator("#clips")).to_contain_text("4 to judge")
    rows = subclips.of_recording(data.db, 1)
    assert all(c.end == d.start for c, d in pairwise(rows)) and {c.verdict for c in rows} == {""}
    page.get_by_role("button", name="Pull slices to pauses").click()
    expect(page.locator("#report")).to_contain_text("pulled to the nearest pauses")
    page.keyboard.press("ArrowDown")
    for k in "1231":  # faster than they are answered
        page.keyboard.press(k)
    until(page, "document.getElementById('clips').dataset.unjudged === '0'")
    assert [c.verdict for c in subclips.of_recording(data.db, 1)] == ["keep", "maybe", "drop", "keep"]
    # marks by key: to the nearest pause, around the edge, snapped in the loupe
    page.evaluate("kovel.player.seek(40)")
    page.keyboard.press("i")
    page.evaluate("kovel.player.seek(160)")
    page.keyboard.press("o")
    page.keyboard.press("g")
    expect(page.locator("#report")).to_contain_text("pulled to the nearest pause", ignore_case=True)
    talking = said.talking
    for f in page.evaluate("[kovel.marks().in, kovel.marks().out]"):
        assert f in (40, 160) or not talking[f * 4 : f * 4 + 4].all()
    out = page.evaluate("kovel.marks().out")
    page.keyboard.press("a")
    until(page, "kovel.player.playing")
    until(page, "!kovel.player.playing")
    assert abs(page.evaluate("kovel.player.frame") - (out + 25)) <= 1
    page.keyboard.press("m")
    expect(page.locator("[data-marker]")).to_have_count(1)
    page.keyboard.press("Shift+M")
    page.keyboard.type("the bit")
    page.keyboard.press("Tab")
    expect(page.locator("#report")).to_contain_text("the bit")
    assert [m.name for m in markers.of_recording(data.db, 1)] == ["the bit"]
    # the whole log by key: judge, choose, to the story
    page.goto(f"{server.url}/p/1/log/whole?verdict=keep")
    expect(page.locator("tr[data-id]")).to_have_count(2)
    page.keyboard.press("ArrowDown")
    page.keyboard.press("x")
    expect(page.locator("[data-chosen]")).to_have_text("1")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("2")
    expect(page.locator("#report")).to_contain_text("changed")
    page.keyboard.press("b")
    expect(page.locator("#report")).to_contain_text("1 piece")
    (p,) = stories.load(data.db, 1).story.pieces
    kept = subclips.of_recording(data.db, 1)
    assert (p.start, p.length) == (kept[0].start, kept[0].length) and kept[3].verdict == "maybe"
    page.goto(f"{server.url}/p/1/log/whole?view=cards")
    for box in page.locator(".card [name=ids]").all():
        box.check()
    page.get_by_role("button", name="On the storyboard").click()
    expect(page.locator("#report")).to_contain_text("put on the storyboard")
    page.get_by_text("Storyboard", exact=True).click()
    expect(page.locator(".board .card")).to_have_count(4)
    first = page.locator(".board .card").first.get_attribute("data-id")
    page.locator(".board .card").nth(3).drag_to(page.locator(".board .card").first, target_position={"x": 20, "y": 20})
    expect(page.locator("#report")).to_contain_text("arranged")
    assert page.locator(".board .card").nth(1).get_attribute("data-id") == first


def test_a_three_hour_recording(page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path) -> None:
    """30,000 words over three hours: they come in parts, a range is set to the frame without zooming, the page stays
    small."""
    data, r = coded
    recordings.set_whole(data.db, r["talk"].id, "", 25 * 3600 * 3)
    rng = np.random.default_rng(1)
    vocabulary = ["".join(rng.choice(list("aeioulnrst"), rng.integers(2, 8))) for _ in range(4000)]
    said, t = [], 0
    for i in range(30_000):
        t += int(rng.integers(2000, 20_000)) + (90_000 if i % 40 == 0 else 0)
        said.append(
            Word(
                vocabulary[rng.integers(4000)] + ("." if i % 13 == 0 else ""),
                t,
                t + 9000,
                ("Maren", "Tobin")[i // 400 % 2],
            )
        )
        t += 9000
    transcripts.set_words(data.db, r["talk"].id, said)
    server = serve(data.root, tmp_path)
    url = f"{server.url}/p/1/log?rec={r['talk'].id}"
    page.goto(url)
    until(page, "window.kovel && kovel.marks && document.querySelectorAll('#words .w').length >= 2500")
    # the rest comes in parts meanwhile; what is asked of the loupes is asked of the whole room
    until(page, "document.querySelectorAll('#words .w').length >= 29000", seconds=90)
    # a two-second range to the exact frame in the loupe, the overview as it is
    page.evaluate("kovel.player.seek(120000)")
    page.keyboard.press("i")
    page.evaluate("kovel.player.seek(120050)")
    page.keyboard.press("o")
    page.locator("#loupe-out").focus()
    page.keyboard.press("ArrowLeft")
    box = page.locator("#loupe-in").bounding_box()
    assert box
    per_frame = box["width"] / 100  # 4 s are 100 frames
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 40)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] / 2 + 3 * per_frame, box["y"] + 40, steps=4)
    page.mouse.up()
    assert page.evaluate("[kovel.marks().in, kovel.marks().out]") == [120003, 120049]
    heap = page.evaluate("performance.memory ? performance.memory.usedJSHeapSize : 0")
    assert heap < 300e6


def test_shots_by_hand(page: Page, coded: tuple[DataFolder, dict], serve: Callable, tmp_path: Path) -> None:
    data, r = coded
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/log/shots")
    shot = page.get_by_role("region", name="boat")
    expect(shot.locator(".shot-best")).to_be_visible()
    faces = shot.locator(".shot-faces")
    wide = faces.evaluate("(el) => el.clientWidth")
    faces.hover(position={"x": wide / 3, "y": 20})  # where it lies once the page stands still
    page.mouse.down()
    faces.hover(position={"x": wide * 2 / 3, "y": 20})
    page.mouse.up()
    expect(shot.locator(".shot-range")).to_be_visible()
    shot.get_by_label("Tags").fill("water")
    shot.locator(".shot-hold").focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    expect(page.locator("#report")).to_contain_text("Kept")
    (c,) = subclips.of_recording(data.db, r["boat"].id)
    assert abs(c.start - 101) <= 1 and abs(c.length - 100) <= 1 and c.tags == ("water",)
    shot.locator(".shot-hold").focus()
    page.keyboard.press("b")
    with page.expect_response(lambda x: x.request.method == "POST"):
        page.keyboard.press("Enter")
    assert [c.length for c in subclips.of_recording(data.db, r["boat"].id) if c.tags == ()] == [88]
