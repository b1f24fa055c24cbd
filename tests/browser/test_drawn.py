"""Seen = delivered: what the page draws on its canvas against the renderer's frames before they are encoded.

No published source: the bounds are Kovel's own promise (mean within 1.0 of 255, every edge within a pixel).
"""

import base64
import os
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from random import Random

import numpy as np
from playwright.sync_api import Page
from scipy.ndimage import maximum_filter, minimum_filter

from kovel.core.plan.geometry import standing
from kovel.core.plan.layers import Image, Layer, Opacity, Part, Place, Run, TitleImage, flat, ratios
from kovel.core.plan.plan import Plan
from kovel.core.story.settings import PLACES, SETTINGS, TITLE_DRAWN
from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.media.drawing import Pictures
from kovel.media.reader import rgb_of
from kovel.store.recordings import Recording
from tests.browser.seen import until

MANY = int(os.environ.get("KOVEL_DRAWN", "12"))  # random stacks; 300 are asked for
R = Rate(25)


def looks(r: Random) -> tuple:
    one = {
        "brightness": round(r.uniform(-1, 0.8), 2),
        "contrast": r.randint(-40, 40),
        "saturation": r.randint(-80, 50),
        "warmth": r.randint(-60, 60),
        "tint": r.randint(-30, 30),
        "blacks": r.randint(-10, 15),
        "whites": r.randint(-15, 10),
        "night": r.choice([0, 0, 60]),
    }
    keys = r.sample(sorted(one), 3)
    return (tuple((k, one[k]) for k in sorted(keys)),)


def part(r: Random, drift: bool = False) -> Part:
    crop = (0.1, 0.0, 0.05, 0.2) if r.random() < 0.15 else (0.0, 0.0, 0.0, 0.0)
    moves = ((-5.0, 100.0, 0.5, 0.4), (30.0, round(r.uniform(101, 180), 1), 0.3, 0.6)) if r.random() < 0.4 else ()
    return Part(
        r.choice([100.0, round(r.uniform(100, 250), 1), 80.0]),
        round(r.random(), 3),
        round(r.random(), 3),
        round(r.uniform(-12, 12), 1) if r.random() < 0.25 else 0.0,
        r.random() < 0.2,
        crop,
        r.choice(["whole", "filled"]),
        r.choice([0.0, 0.0, 0.01]),
        moves=moves,
        drift=((2.0, -1.0, 0.0), (20.0, 0.0, 0.06)) if drift else (),
        ease=r.choice(["both", "in", "out", "none"]),
        clear=any(crop),
    )


def layer(r: Random, source: int, first: bool, deep: int = 1) -> Layer:
    opacity = Opacity() if first or r.random() < 0.5 else Opacity(r.randint(1, 9), 0, 10)
    place = Place(*PLACES[r.choice(list(PLACES))]) if r.random() < 0.3 else Place()
    framed = part(r) if r.random() < 0.7 or place != Place() else Part()
    image = Image(source, r.randint(0, 60))
    if deep and r.random() < 0.2:
        image = Image(stack=tuple(layer(r, r.choice([1, 2]), i == 0, deep - 1) for i in range(2)))
    return Layer(image, opacity, framed, place, looks(r) if r.random() < 0.5 else ())


def lettered(text: str) -> Layer:
    rows = {n: SETTINGS[n].default for n in TITLE_DRAWN} | {"text": text, "size": 40.0, "weight": 800, "edge": 0.0}
    return Layer(
        Image(title=TitleImage(tuple(rows.items()))), part=Part(clear=True, drift=((0.0, -0.1, 0.0), (9.0, 0.1, 0.0)))
    )


def far(seen: np.ndarray, want: np.ndarray, around: int = 1) -> float:
    """The share of pixels outside of what the other picture has within a pixel around, give or take what coding
    costs."""
    low, high = (f(want, size=(1 + 2 * around, 1 + 2 * around, 1)) for f in (minimum_filter, maximum_filter))
    return float(((seen < low - 14) | (seen > high + 14)).any(-1).mean())


def test_page_and_renderer_draw_the_same(
    page: Page, serve: Callable, shown: tuple[DataFolder, dict[str, Recording]], tmp_path: Path
) -> None:
    data, by_name = shown
    rows = [by_name["bell"], by_name["rope"]]
    server = serve(data.root, tmp_path)
    page.goto(f"{server.url}/p/1/story")
    until(page, "window.kovel?.story")
    r = Random(5)
    stacks = [tuple(layer(r, r.choice([1, 2]), i == 0) for i in range(r.choice([1, 1, 2, 3]))) for _ in range(MANY)]
    # letters that show a shot, also within a group that is seen as one picture; all of it framed and looked once more
    stacks[1] = (layer(r, 2, True), Layer(Image(stack=(layer(r, 1, True),), cut=lettered("RIVER"))))
    stacks[2] = (replace(layer(r, 1, True), image=Image(stack=(*stacks[1], layer(r, 1, False)))),)
    # a ground out of focus under a whole picture in an upright half, as the plan makes it
    behind = Part(fit="filled", blur=True)
    stacks[0] = tuple(
        Layer(Image(1, 20), part=p, place=Place(0.0, 0.0, 0.5, 1.0)) for p in (behind, Part(fit="whole", clear=True))
    )
    plan = Plan(R, 10 * len(stacks), tuple(Run(10 * t, 10 * t + 10, x) for t, x in enumerate(stacks)), ())
    sources = {x.id: x.source for x in rows}
    size = (960, 540)
    files = {  # the page's own pictures: what differs then is the drawing
        x.id: {"path": str(data.derived(x.id) / "proxy.mp4"), "rate": [25, 1], "still": False, "name": x.name}
        for x in rows
    }
    drawn = Pictures(files, *size, tables=data.tables)
    more = {"project": 1, "frames": {str(x.id): x.frames for x in rows}, "pieces": [], "seams": [], "covers": []}
    page.evaluate(
        "plan => { kovel.player.drawn = (f) => { window.drew = f; }; kovel.player.load(plan); }",
        {**plan.to_json(sources), **more},
    )
    means = []
    for t, stack in enumerate(stacks):
        k = r.randint(0, 9)
        page.evaluate("t => { window.drew = null; kovel.player.seek(t); }", 10 * t + k)
        until(page, f"window.drew === {10 * t + k}")
        raw = page.evaluate(
            """() => { const c = kovel.player.canvas, d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data;
            let s = ""; for (let i = 0; i < d.length; i += 8192) s += String.fromCharCode(...d.subarray(i, i + 8192));
            return [c.width, c.height, btoa(s)]; }"""
        )
        assert tuple(raw[:2]) == size
        seen = np.frombuffer(base64.b64decode(raw[2]), np.uint8).reshape(540, 960, 4)[..., :3].astype(int)
        frame = drawn.frame([Layer.from_json(x.to_json(ratios(sources, R))) for x in stack], k)
        want = rgb_of(frame.reformat(format="yuv444p")).astype(int)
        means.append(np.abs(seen - want).mean())
        # the browser's own way from YUV to 8-bit RGB costs up to 1.8 where a look lifts it
        nested = any(x.image.stack for x in stack)  # look upon look; cut by letters, where chroma is half as fine
        assert means[-1] < (2.5 if nested else 2.0), (t, k, means[-1], stack)
        most = 0.01 if nested else 0.003
        large = max(max([x.part.zoom, *(m[1] for m in x.part.moves)]) for x in (*stack, *flat(stack)))
        away = far(seen, want, 1 if large <= 200 else 2)  # colours are half as fine, and enlarged more than twice
        assert away < most, (t, k, away, stack)
    assert np.mean(means) < 1.0, means
    print(f"{MANY} stacks: {np.mean(means):.2f} of 255 in the mean, {max(means):.2f} at most")


def test_both_place_an_image_by_the_same_rule(
    page: Page, serve: Callable, shown: tuple[DataFolder, dict[str, Recording]], tmp_path: Path
) -> None:
    """framing.js against core/plan/geometry.py: clip, matrix and cut of random parts, places, shapes and moments."""
    data, _ = shown
    page.goto(f"{serve(data.root, tmp_path).url}/p/1/picture")
    r = Random(9)
    asked, want = [], []
    for _ in range(400):
        p, place = part(r, True), Place(*PLACES[r.choice(list(PLACES))])
        image, picture, k = (
            (r.randint(16, 4000), r.randint(16, 3000)),
            r.choice([(960, 540), (540, 960), (700, 700)]),
            r.randint(-9, 60),
        )
        s = standing(image, picture, p, place, k)
        asked.append([*image, *picture, p.to_json(), [place.x, place.y, place.w, place.h], k])
        cut = (s.cut[0], s.cut[1], s.cut[2] - s.cut[0], s.cut[3] - s.cut[1])
        want.append([*s.clip, *s.matrix, *cut, *p.at(k), *p.drifted(k)])
    got = page.evaluate(
        """async (rows) => { const { standing, at, drifted, WHOLE } = await import("/static/js/framing.js");
        return rows.map(([iw, ih, w, h, part, place, k]) => { const p = { ...WHOLE, ...part }, s = standing(iw, ih, w, h, p, place, k);
          return [...s.clip, ...s.matrix, ...s.cut, ...at(p, k), ...drifted(p, k)]; }); }""",
        asked,
    )
    assert np.abs(np.array(got) - np.array(want)).max() < 1e-6
