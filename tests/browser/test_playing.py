"""Playing in the browser, frame by frame and sample by sample, and how soon long ones open. Run alone: it looks at
the clock."""

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from bench.edits import made as long_story
from bench.edits import timed
from playwright.sync_api import Page, expect

from kovel.core.plan.layers import Image, Layer, Opacity, Place, Run
from kovel.core.plan.plan import Plan, make_plan
from kovel.core.story.model import Card
from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.media.reader import rgb_of
from kovel.media.render import Pictures, Sound
from kovel.store import recordings, transcripts
from tests.browser.seen import truth, until, wrong


def test_no_wrong_frame_across_forty_cuts(page: Page, watch: Callable, forty: tuple) -> None:
    data, server = forty
    _, want, _ = truth(data, 1)
    page.goto(f"{server.url}/p/1/story")
    until(page, "window.kovel?.story")
    watch(page)
    page.locator("#scroll").click(position={"x": 700, "y": 500})
    for _ in range(3):  # a machine that is short of breath may stumble once: a late picture, never another one
        page.evaluate("window.seen.length = 0")
        page.keyboard.press("Home")
        page.keyboard.press("Space")
        until(page, "kovel.player.playing")
        assert page.evaluate("kovel.player.pictures.exact")
        page.wait_for_timeout(2000)
        passed = page.evaluate("""() => { const p = kovel.player.pictures;
          return [...p.kept].flatMap(([g, frames]) => [...frames.keys()].filter((n) => !(n >= p.wanted.get(g)))).length; }""")
        assert passed == 0  # frames that were passed are let go
        until(page, "!kovel.player.playing", seconds=90)
        rows = page.evaluate("window.seen")
        bad = wrong(rows, want)
        if not bad and len({t for t, *_ in rows}) > 0.8 * len(want):
            break
    assert len(bad) == 0, (len(bad), len(rows), bad[:5])
    assert len({t for t, *_ in rows}) > 0.8 * len(want)  # a busy machine refreshes its screen less often
    starts = []
    for t in (560, 33, 411, 202):  # start anywhere
        seen = page.evaluate(
            "async t => { kovel.player.seek(t); await kovel.player.play(1); return window.readCode(); }", t
        )
        assert tuple(seen) == want[t]  # the clock starts with its first frame on the canvas
        starts.append(page.evaluate("kovel.player.startMs"))
        page.evaluate("kovel.player.stop()")
    assert sorted(starts)[1] < 300, starts  # the better ones: what a machine does that is not short of breath
    without = page.evaluate("""async () => { const p = kovel.player; p.pictures.clear(); p.pictures.want = () => {}; p.seek(480); await p.play(1);
      const seen = window.readCode(); delete p.pictures.want; p.stop(); return [p.startMs, seen]; }""")
    assert without[0] > 1400 and without[1] is None  # no picture comes: black, never one from another place
    for speed, keys in ((2, "lll"), (-1, "j")):  # again for faster; backwards
        late = []
        for _ in range(3):  # a machine short of breath may be late here, but what it shows was right just before
            page.evaluate("window.seen.length = 0; kovel.player.stop(); kovel.player.seek(300)")
            for k in keys:
                page.keyboard.press(k)
                until(page, "kovel.player.playing")
            until(page, "s => kovel.player.speed === s && window.seen.length > 60", arg=speed)
            page.keyboard.press("k")
            rows = page.evaluate("window.seen")
            bad = wrong(rows, want)
            step = 1 if speed > 0 else -1
            just = [(t, [want[q] for q in range(t, t - 20 * step, -step) if 0 <= q < len(want)]) for t, _, _ in bad]
            assert all(tuple(code or ()) in before for (_, code, _), (_, before) in zip(bad, just, strict=True)), bad[
                :5
            ]
            assert (rows[-1][0] > rows[0][0]) == (speed > 0)
            late.append(len(bad) / len(rows))
            if late[-1] < 0.25:
                break
        assert min(late) < 0.5, late  # at twice the speed a slow machine misses every other refresh


def test_browser_mixes_and_schedules_the_renderers_samples(page: Page, forty: tuple) -> None:
    data, server = forty
    page.goto(f"{server.url}/p/1/story")
    until(page, "window.kovel?.story")
    sources = recordings.sources(data.db, 1)
    plan = make_plan(truth(data, 1)[0].story, sources)
    raw = {i: (data.derived(i) / "sound.pcm", 1) for i in {h.source for h in plan.sounds}}
    a, b = 3 * 48000 + 17, 8 * 48000 + 5
    got = page.evaluate(
        "async ([a, b]) => { const { mix } = await import('/static/js/sound.js'); "
        "return Array.from((await mix(kovel.player.plan, a, b))[0]); }",
        [a, b],
    )
    want = Sound(plan.sounds, raw).block(a, b)[:, 0]
    assert np.abs(np.array(got, np.float32) - want).max() < 1e-6
    lined = replace(
        plan, sounds=tuple(replace(h, line=((0, -30.0), (h.end - h.at, 6.0)), gain=0.7) for h in plan.sounds)
    )
    got = page.evaluate(
        "async ([plan, a, b]) => { const { mix } = await import('/static/js/sound.js'); "
        "return Array.from((await mix(plan, a, b))[0]); }",
        [lined.to_json(sources), a, a + 48_000],
    )
    assert np.abs(np.array(got, np.float32) - Sound(lined.sounds, raw).block(a, a + 48_000)[:, 0]).max() < 1e-6
    heard = page.evaluate(
        """async ([a, n]) => {
      const { Sound } = await import('/static/js/sound.js');
      const s = new Sound(); s.context = new OfflineAudioContext(2, n, 48000);
      await s.ready(kovel.player.plan, a); s.start(480 / 48000, a, 1);
      await new Promise((r) => setTimeout(r, 600));
      return Array.from((await s.context.startRendering()).getChannelData(0));
    }""",
        [a, 72000],
    )
    x = np.array(heard, np.float32)
    assert (
        np.abs(x[:480]).max() == 0
        and np.abs(x[480:72000] - Sound(plan.sounds, raw).block(a, a + 71520)[:, 0]).max() < 1e-4
    )


def test_another_plan_is_heard_within_a_tenth_of_a_second_without_a_gap(page: Page, forty: tuple) -> None:
    """A level changed while it plays: sample for sample the old sound, then the new; the picture never stops."""
    data, server = forty
    page.goto(f"{server.url}/p/1/story")
    until(page, "window.kovel?.story")
    sources = recordings.sources(data.db, 1)
    plan = make_plan(truth(data, 1)[0].story, sources)
    raw = {i: (data.derived(i) / "sound.pcm", 1) for i in {h.source for h in plan.sounds}}
    softer = replace(plan, sounds=tuple(replace(h, gain=h.gain / 2) for h in plan.sounds))
    a, n = 3 * 48_000 + 17, 96_000
    got = page.evaluate(
        """async ([softer, a, n]) => {
      const { Sound } = await import('/static/js/sound.js');
      const s = new Sound(), c = new OfflineAudioContext(2, n, 48000); s.context = c;
      await s.ready(kovel.player.plan, a); s.start(480 / 48000, a, 1);
      await new Promise((r) => setTimeout(r, 600));
      c.suspend(0.5).then(async () => {
        s.change({ ...softer, pictures: [] }); await s.change(softer); // only the last of two is taken
        await new Promise((r) => setTimeout(r, 600));
        c.resume();
      });
      return Array.from((await c.startRendering()).getChannelData(0));
    }""",
        [softer.to_json(sources), a, n],
    )
    x = np.array(got, np.float32)[480:]
    old, new = (Sound(p.sounds, raw).block(a, a + len(x))[:, 0] for p in (plan, softer))
    right = np.abs(x - old) < 1e-4
    over = int(np.argmin(right)) if not right.all() else 0
    assert 24_000 - 480 < over < 24_000 + 4_800  # within a tenth of a second of the change
    assert np.abs(x[over:] - new[over:]).max() < 1e-4
    page.evaluate("kovel.player.seek(60); kovel.player.play(1)")
    until(page, "kovel.player.playing && kovel.player.frame > 66")
    went = page.evaluate(
        """(softer) => {
      const p = kovel.player, was = p.now();
      p.load({ ...p.plan, sounds: softer.sounds });
      return [p.playing, p.now() - was, p.plan.sounds[0][4]];
    }""",
        softer.to_json(sources),
    )
    assert went[0] and 0 <= went[1] < 2 and went[2] == softer.sounds[0].gain
    until(page, "kovel.player.frame > 90")
    page.evaluate("kovel.player.stop()")


def test_layers_are_drawn_alike_by_player_and_renderer(page: Page, forty: tuple) -> None:
    """See-through, in a quarter of the picture, over each other and over black: the same colours at the same places."""
    _, server = forty
    page.goto(f"{server.url}/p/1/story")
    until(page, "window.kovel?.story")
    card = lambda colour, **more: Layer(Image(card=Card(colour)), **more)  # noqa: E731
    stacks = [
        (card("#c02020"), card("#2040c0", opacity=Opacity(1, 0, 4))),
        (card("#20a040", opacity=Opacity(2, 0, 5)),),
        (
            card("#c0c040"),
            card("#2040c0", place=Place(0.5, 0, 0.5, 0.5)),
            card("#ffffff", opacity=Opacity(1, 0, 2), place=Place(0, 0.5, 1, 0.5)),
        ),
        (card("#ffffff", place=Place(0.25, 0.25, 0.25, 0.5)),),
    ]
    plan = Plan(Rate(25), len(stacks), tuple(Run(t, t + 1, x) for t, x in enumerate(stacks)), ())
    drawn = Pictures({}, 640, 360)
    page.evaluate(
        "plan => kovel.player.load({ ...plan, project: 1, frames: {}, pieces: [], seams: [], covers: [] })",
        plan.to_json({}),
    )
    points = [(x, y) for x in (0.1, 0.3, 0.45, 0.6, 0.9) for y in (0.1, 0.4, 0.6, 0.9)]
    for t, stack in enumerate(stacks):
        frame = drawn.frame([Layer.from_json(x.to_json({})) for x in stack], 0)
        rgb = rgb_of(frame.reformat(format="yuv444p")).astype(int)
        page.evaluate(
            "t => { window.drew = null; kovel.player.drawn = (f) => { window.drew = f; }; kovel.player.seek(t); }", t
        )
        until(page, f"window.drew === {t}")
        seen = page.evaluate(
            """points => { const c = kovel.player.canvas, g = c.getContext("2d");
            return points.map(([x, y]) => [...g.getImageData(x * c.width, y * c.height, 1, 1).data.slice(0, 3)]); }""",
            points,
        )
        want = [rgb[int(y * 360), int(x * 640)] for x, y in points]
        assert np.abs(np.array(seen) - np.array(want)).max() <= 8, (t, seen, want)  # 8-bit colours through YUV and back


def test_without_webcodecs_pictures_stay_within_a_frame(page: Page, watch: Callable, forty: tuple) -> None:
    data, server = forty
    _, want, _ = truth(data, 1)
    page.goto(f"{server.url}/p/1/story?pool")
    until(page, "window.kovel?.story")
    expect(page.locator("[data-note]")).to_contain_text("within one frame")
    watch(page)
    page.wait_for_timeout(600)

    def close(
        t: int, code: list[int]
    ) -> bool:  # the right recording, within a frame of the story (two of the 50 fps one's)
        return any(w and code[0] == w[0] and abs(code[1] - w[1]) <= 2 for w in want[max(0, t - 1) : t + 2])

    shares = []
    for _ in range(3):  # a machine that is short of breath may stumble over it once
        page.evaluate("window.seen.length = 0; kovel.player.stop(); kovel.player.seek(0)")
        page.keyboard.press("Space")
        page.wait_for_timeout(6000)
        page.keyboard.press("k")
        rows = [r for r in page.evaluate("window.seen") if r[1]][20:]
        shares.append(sum(close(r[0], r[1]) for r in rows) / len(rows) if len(rows) > 50 else 0)
        if shares[-1] > 0.85:
            break
    assert max(shares) > 0.85, shares


def test_long_ones_open_and_answer_soon(page: Page, serve: Callable, data: DataFolder, tmp_path: Path) -> None:
    """Three hours with 30,000 words, and a story of 2,000 pieces: twice what is asked, for machines are noisy (see
    bench)."""
    long_story(data)
    recordings.set_whole(data.db, 1, "", 270_000)
    transcripts.set_words(
        data.db, 1, [Word(f"w{i % 4000}x", 17_000 * i, 17_000 * i + 9000, "MT"[i // 400 % 2]) for i in range(30_000)]
    )
    assert timed(lambda: transcripts.search(data.db, 1, "w700x"), 5) < 100 and transcripts.search(data.db, 1, "w700x")
    server = serve(data.root, tmp_path)
    for path, ready in (
        ("log?rec=1", "window.kovel?.marks && document.querySelector('#words .w')"),
        ("story", "window.kovel?.story && document.querySelector('.piece')"),
    ):
        took = []
        for _ in range(4):
            began = time.perf_counter()
            page.goto(f"{server.url}/p/1/{path}", wait_until="commit")
            until(page, ready)
            took.append(time.perf_counter() - began)
        assert min(took) < 2, (path, took)
    edits = []
    for _ in range(5):
        page.keyboard.press("s")
        page.evaluate("kovel.story.idle()")
        edits.append(page.evaluate("kovel.lastEditMs"))
        page.keyboard.press("ArrowRight")
    assert min(edits) < 300, edits
