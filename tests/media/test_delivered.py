"""What is seen of a recording is what was filmed: colours, pixel shape, fields, the first sample; each way Kovel shows
it.

Patches are coded here by the published equations (ITU-R BT.601-7, BT.709-6, BT.2100-2), read back by the same, and must
come within 2 of 255 in proxy, small frame, frame and render.
"""

import json
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from PIL import Image, ImageCms

from kovel.core.picture.colour import HLG, PQ, Coding, cube_text, hlg_light, pq_light, shown, table, toned_down
from kovel.core.plan.plan import make_plan
from kovel.core.story.model import Piece, Source, Story
from kovel.core.time.rate import Rate
from kovel.media.child import call
from kovel.media.files import kind_of
from kovel.media.probe import probe
from kovel.media.reader import Fit, FrameReader, linked, still_frame
from kovel.media.render import render
from kovel.services.footage.intake import in_project
from tests import made

PATCHES = [(200, 40, 40), (40, 170, 60), (40, 60, 190), (128, 128, 128), (224, 186, 160), (90, 90, 30)]
WEIGHTS = {1: (0.2126, 0.0722), 6: (0.299, 0.114), 9: (0.2627, 0.0593)}  # of red and blue, by H.273 code point


def coded(rgb: np.ndarray, matrix: int, full: bool, bits: int) -> np.ndarray:
    """RGB 0..1 (..., 3) -> code values of Y, Cb, Cr."""
    kr, kb = WEIGHTS[matrix]
    r, b = rgb[..., 0], rgb[..., 2]
    y = kr * r + (1 - kr - kb) * rgb[..., 1] + kb * b
    u, v = (b - y) / 2 / (1 - kb), (r - y) / 2 / (1 - kr)
    s, top = 1 << bits - 8, (1 << bits) - 1
    rows = (
        (y * top, u * top + 128 * s, v * top + 128 * s)
        if full
        else ((16 + 219 * y) * s, (128 + 224 * u) * s, (128 + 224 * v) * s)
    )
    return np.round(np.stack(rows, -1)).astype(np.uint16)


def rgb_of(f: av.VideoFrame) -> np.ndarray:
    """A yuv420p frame in BT.709 limited -> RGB 0..255, (h, w, 3)."""
    y, u, v = (np.frombuffer(p, np.uint8).reshape(p.height, p.line_size)[:, : p.width].astype(float) for p in f.planes)
    u, v = (np.repeat(np.repeat(c, 2, 0), 2, 1)[: y.shape[0], : y.shape[1]] for c in (u, v))
    kr, kb = WEIGHTS[1]
    y, u, v = (y - 16) / 219, (u - 128) / 224, (v - 128) / 224
    r, b = y + 2 * (1 - kr) * v, y + 2 * (1 - kb) * u
    return np.stack([r, (y - kr * r - kb * b) / (1 - kr - kb), b], -1) * 255


def patches(im: np.ndarray) -> np.ndarray:
    """The mean of the middle of each patch, (patches, 3)."""
    h, w = im.shape[:2]
    n = len(PATCHES)
    return np.array(
        [
            im[h // 3 : 2 * h // 3, (4 * k + 1) * w // (4 * n) : (4 * k + 3) * w // (4 * n)].mean((0, 1))
            for k in range(n)
        ]
    )


def filmed(
    path: Path, size: tuple[int, int], fmt: str, matrix: int, full: bool, tags: Coding, frames: int = 13
) -> Path:
    """A recording of the patches side by side, tagged as told and no otherwise."""
    bits = 10 if "10" in fmt else 8
    with av.open(str(path), "w") as c:
        v = c.add_stream(
            "libx264", rate=25, options={"preset": "ultrafast", "qp": "4", "x264-params": "log-level=none"}
        )
        v.width, v.height, v.pix_fmt = *size, fmt
        k = v.codec_context
        k.colorspace, k.color_primaries, k.color_trc = tags.matrix, tags.primaries, tags.transfer
        k.color_range = {None: 0, False: 1, True: 2}[tags.full]
        f = av.VideoFrame(*size, fmt)
        row = coded(np.array(PATCHES) / 255, matrix, full, bits)
        for i, p in enumerate(f.planes):
            x = np.zeros((p.height, p.line_size // (2 if bits > 8 else 1)), "<u2" if bits > 8 else np.uint8)
            x[:, : p.width] = np.repeat(row[:, i], -(-p.width // len(PATCHES)))[: p.width]
            p.update(x.tobytes())
        for n in range(frames):
            f.pts, f.time_base = n, Fraction(1, 25)
            c.mux(v.encode(f))
        c.mux(v.encode(None))
    return path


def derived(path: Path, out: Path) -> tuple[dict, dict]:
    facts = probe(str(path))
    call(
        "derive", {"path": str(path), "out": str(out), **{k: facts[k] for k in ("rate", "picture", "sound", "frames")}}
    )
    return facts, json.loads((out / "media.json").read_text())


def rendered(path: Path, facts: dict, out: Path, size: tuple[int, int], clock: Rate = Rate(25)) -> list[av.VideoFrame]:
    """Frames of a render of the whole recording, as a player decodes them."""
    rate = Rate(*facts["rate"])
    src = Source(1, path.name, rate, facts["frames"], sound=False)
    story = Story(clock, (Piece(1, 1, 0, src.length(clock) or 5),))
    files = {
        "1": {
            "name": path.name,
            "path": str(path),
            "rate": facts["rate"],
            "still": facts["frames"] is None,
            "pcm": None,
            "channels": 1,
        }
    }
    render(make_plan(story, {1: src}).to_json({1: src}), files, str(out), *size, {}, lambda x: None)
    with av.open(str(out)) as c:
        return list(c.decode(video=0))


SDR = [
    # size, pixel format, matrix, full range, tags
    ((640, 360), "yuv420p", 1, False, Coding(1, 1, 1, False)),
    ((640, 360), "yuv420p", 6, False, Coding(6, 6, 6, False)),
    ((640, 360), "yuv420p", 6, False, Coding()),
    ((1280, 720), "yuv420p", 1, False, Coding()),
    ((640, 360), "yuvj420p", 1, True, Coding(1, 1, 1, True)),
    ((640, 360), "yuvj420p", 6, True, Coding(6, 1, 1, True)),
    ((640, 360), "yuv422p", 6, False, Coding(5, 5, 6, False)),
    ((640, 360), "yuv422p10le", 1, False, Coding(1, 1, 1, False)),
    ((640, 360), "yuv420p10le", 1, True, Coding(1, 1, 1, True)),
    ((1280, 720), "yuv420p10le", 1, False, Coding()),
    ((642, 362), "yuv444p", 6, False, Coding(6, 6, 6, False)),
    ((854, 480), "yuv444p", 6, False, Coding()),
]


@pytest.mark.parametrize(
    "kind", SDR, ids=lambda k: f"{k[0][0]}-{k[1]}-{k[2]}-{'full' if k[3] else 'limited'}-{k[4].matrix}"
)
def test_colours_are_those_that_were_filmed(kind: tuple, tmp_path: Path) -> None:
    path = filmed(tmp_path / "a.mp4", *kind)
    facts, media = derived(path, tmp_path / "d")
    want = np.array(PATCHES)
    with av.open(str(tmp_path / "d/proxy.mp4")) as c:
        proxy = next(c.decode(video=0))
    assert (int(proxy.colorspace), int(proxy.color_primaries), int(proxy.color_trc), int(proxy.color_range)) == (
        1,
        1,
        1,
        1,
    )
    reader = FrameReader(path, Rate(25))
    still = Fit(640, 360, reader.filmed)(reader.get(3))
    large = rendered(path, facts, tmp_path / "r.mp4", (1280, 720))[5]
    assert int(large.colorspace) == int(large.color_range) == 1
    s = media["small"]
    small = np.asarray(Image.open(tmp_path / "d/small-0.jpg"), float)[: s["height"], : s["width"]]
    for name, im in (("proxy", rgb_of(proxy)), ("still", rgb_of(still)), ("render", rgb_of(large)), ("small", small)):
        off = np.abs(patches(im) - want).mean(1)
        assert off.max() <= 2, (name, off.round(1))


def test_high_dynamic_range_is_toned_down_by_the_standards(tmp_path: Path) -> None:
    """BT.2408-7: reference white, 203 cd/m2, is 58 % of PQ and 75 % of HLG, grey 38 %; BT.2446-1 method C at its
    knee."""
    assert pq_light(np.array(0.5807)) == pytest.approx(203, rel=0.01) and pq_light(np.array(1.0)) == pytest.approx(
        10000
    )
    for v, light in ((0.75, 203), (1.0, 1000), (0.38, 26)):
        assert hlg_light(np.full(3, v)) == pytest.approx(np.full(3, light), rel=0.01)
    assert toned_down(np.array([50.0, 203, 1000])) == pytest.approx([41.9, 90.7, 118.4], abs=0.1)
    for transfer, white in ((PQ, 0.5807), (HLG, 0.75)):
        c = Coding(9, 9, transfer, False)
        top, white_, grey = (shown(np.full(3, v), c)[0] for v in (0.7518 if transfer == PQ else 1.0, white, 0.376))
        assert top == pytest.approx(1, abs=0.002) and 0.87 < white_ < 0.92 and 0.45 < grey < 0.53
        ramp = shown(np.repeat(np.linspace(0, 1, 101)[:, None], 3, 1), c)
        assert (np.diff(ramp[:, 0]) >= 0).all() and np.ptp(ramp, 1).max() < 1e-3  # rises, and grey stays grey
        # and so it is in a file: what the table says, through libav, in the proxy and in the render
        path = filmed(tmp_path / f"{transfer}.mp4", (640, 360), "yuv420p10le", 9, False, Coding(9, 9, transfer, False))
        facts, _ = derived(path, tmp_path / str(transfer))
        want = shown(np.array(PATCHES) / 255, c) * 255
        inside = [
            k for k in range(len(PATCHES)) if want[k].min() > 3 and want[k].max() < 252
        ]  # not clipped at the edge of BT.709
        assert inside
        with av.open(str(tmp_path / str(transfer) / "proxy.mp4")) as f:
            proxy = next(f.decode(video=0))
        for im in (rgb_of(proxy), rgb_of(rendered(path, facts, tmp_path / "r.mp4", (1280, 720))[5])):
            assert np.abs(patches(im) - want)[inside].mean(1).max() <= 3
    rows = table(Coding(9, 9, PQ, False), 5)
    text = cube_text(rows).split("\n")  # Cube LUT Specification 1.0: red changes fastest
    assert (
        text[0] == "LUT_3D_SIZE 5"
        and len(text) == 127
        and [float(x) for x in text[2].split()] == pytest.approx(rows[1], abs=1e-6)
    )


@pytest.mark.parametrize(
    ("size", "pixel", "true"), [((1440, 1080), "4/3", (1920, 1080)), ((720, 576), "64/45", (1024, 576))]
)
def test_pixels_that_are_not_square_are_shown_in_their_shape(
    size: tuple[int, int], pixel: str, true: tuple[int, int], tmp_path: Path
) -> None:
    """BT.601 and DV wide: 720 x 576 at 64:45 is 16:9; HDV: 1440 x 1080 at 4:3 too. A circle stays one, within a
    pixel."""
    path = tmp_path / "wide.mp4"
    y, x = np.mgrid[: size[1], : size[0]]
    r = size[1] * 0.3
    disc = ((x - size[0] / 2) * float(Fraction(pixel))) ** 2 + (y - size[1] / 2) ** 2 < r * r
    with av.open(str(path), "w") as c:
        v = c.add_stream("libx264", rate=25, options={"preset": "ultrafast", "qp": "4"})
        v.width, v.height, v.pix_fmt = *size, "yuv420p"
        v.codec_context.sample_aspect_ratio = Fraction(pixel)
        for n in range(3):
            f = av.VideoFrame.from_ndarray(
                np.repeat((disc * 255).astype(np.uint8)[..., None], 3, 2), format="rgb24"
            ).reformat(format="yuv420p")
            f.pts = n
            c.mux(v.encode(f))
        c.mux(v.encode(None))
    facts, media = derived(path, tmp_path / "d")
    assert (facts["width"], facts["height"]) == true and media["width"] * true[1] == media["height"] * true[0]
    with av.open(str(tmp_path / "d/proxy.mp4")) as c:
        proxy = made.luma(next(c.decode(video=0)))
    for lum in (proxy, made.luma(rendered(path, facts, tmp_path / "r.mp4", (1280, 720))[1])):
        on = lum > 128
        wide, tall = np.flatnonzero(on.any(0)), np.flatnonzero(on.any(1))
        assert abs(np.ptp(wide) - np.ptp(tall)) <= 1 and np.ptp(tall) > 0.55 * lum.shape[0]
        assert wide[0] + wide[-1] == pytest.approx(lum.shape[1] - 1, abs=2)


def woven(path: Path, frames: int, first: str) -> Path:
    """Interlaced MPEG-2: each field carries a bar of its own, 12 pixels further than in the field before."""
    w, h = 720, 576
    with av.open(str(path), "w") as c:
        v = c.add_stream(
            "mpeg2video",
            rate=25,
            options={"flags": "+ildct+ilme", "field_order": "tt" if first == "top" else "bb", "g": "12"},
        )
        v.width, v.height, v.pix_fmt, v.bit_rate = w, h, "yuv420p", 9_000_000
        for n in range(frames):
            y = np.full((h, w), 60, np.uint8)
            for k in range(2):
                row = 0 if (k == 0) == (first == "top") else 1
                at = (2 * n + k) * 12
                y[row::2, at : at + 60] = 220
            f = av.VideoFrame(w, h, "yuv420p")
            for p, plane in zip(f.planes, (y, *[np.full((h // 2, w // 2), 128, np.uint8)] * 2), strict=True):
                x = np.zeros((p.height, p.line_size), np.uint8)
                x[:, : p.width] = plane
                p.update(x.tobytes())
            graph = linked(f, Fraction(1, 25), [("setfield", "tff" if first == "top" else "bff")])
            graph.push(f)
            f = graph.pull()
            f.pts, f.time_base = n, Fraction(1, 25)
            c.mux(v.encode(f))
        c.mux(v.encode(None))
    return path


@pytest.mark.parametrize("first", ["top", "bottom"])
def test_fields_become_whole_pictures(first: str, tmp_path: Path) -> None:
    """At 25 one picture a frame; in a project of 50 each field is one. No combing: lines that neighbour agree."""
    path = woven(tmp_path / "a.mpg", 20, first)
    facts, _ = derived(path, tmp_path / "d")
    assert facts["interlaced"] and facts["rate"] == [25, 1]

    def bar(f: av.VideoFrame) -> float:
        y = made.luma(f).astype(int)
        middle = y[y.shape[0] // 4 : 3 * y.shape[0] // 4]
        assert np.abs(np.diff(middle, axis=0)).mean() < 2.5  # combed: 12 pixels in 720 of 160, about 5
        return float(np.flatnonzero(middle.mean(0) > 140).mean()) * 720 / y.shape[1]

    reader = FrameReader(path, Rate(25))
    inside = range(2, 18)
    whole = {n: bar(reader.get(n)) for n in inside}
    assert all(whole[n] == pytest.approx(24 * n + 29.5, abs=3) for n in inside)
    assert bar(reader.get(5)) == whole[5]  # the same picture, however it is come by
    with av.open(str(tmp_path / "d/proxy.mp4")) as c:
        proxy = list(c.decode(video=0))
    assert len(proxy) == 20 and bar(proxy[9]) == pytest.approx(whole[9], abs=2)
    fast = in_project(facts | {"frames": 20}, Rate(50))  # (an MPEG stream does not say how long its last picture lasts)
    assert fast["rate"] == [50, 1] and fast["frames"] == 40 and in_project(facts, Rate(25)) == facts
    reader = FrameReader(path, Rate(50))
    assert all(bar(reader.get(n)) == pytest.approx(12 * n + 29.5, abs=3) for n in range(3, 36))
    assert bar(rendered(path, fast, tmp_path / "r.mp4", (720, 576), Rate(50))[21]) == pytest.approx(
        12 * 21 + 29.5, abs=3
    )


@pytest.mark.parametrize("kind", ["mp3", "mp3-bare", "mp3-441", "m4a", "aac", "ac3", "ogg"])
def test_sound_alone_begins_with_its_first_sample(kind: str, tmp_path: Path) -> None:
    """What an encoder puts before the sound is no silence of the recording's."""
    ending, codec, rate = {
        "m4a": ("m4a", "aac", 48000),
        "aac": ("aac", "aac", 48000),
        "ac3": ("ac3", "ac3", 48000),
        "ogg": ("ogg", "libopus", 48000),
    }.get(kind, ("mp3", "libmp3lame", 44100 if kind == "mp3-441" else 48000))
    path = tmp_path / f"a.{ending}"
    x = np.zeros(rate * 3, np.float32)
    for s in range(3):
        x[s * rate + rate // 2 : s * rate + rate // 2 + 96] = 0.8 * np.sin(np.arange(96) * 2 * np.pi * 2000 / rate)
    with av.open(str(path), "w", options={"write_xing": "0"} if kind == "mp3-bare" else {}) as c:
        a = c.add_stream(codec, rate=rate, layout="mono")
        a.bit_rate = 192_000
        resample = av.AudioResampler(a.format, a.layout, rate, a.frame_size or 1024)
        f = av.AudioFrame.from_ndarray(x[None], "fltp", "mono")
        f.sample_rate, f.pts, f.time_base = rate, 0, Fraction(1, rate)
        for g in (*resample.resample(f), *resample.resample(None)):
            c.mux(a.encode(g))
        c.mux(a.encode(None))
    facts, media = derived(path, tmp_path / "d")
    pcm = np.fromfile(tmp_path / "d/sound.pcm", "<i2").reshape(-1, media["channels"])[:, 0].astype(float)
    want = np.interp(np.arange(144000) * rate / 48000, np.arange(len(x)), x)
    late, alike = made.lag(pcm, want)
    assert abs(late) <= 1 and alike > 0.8
    assert in_project(facts, Rate(30))["rate"] == [30, 1] and "25" not in " ".join(facts["remarks"])


def test_stills_of_every_depth_and_profile(tmp_path: Path) -> None:
    import pi_heif  # noqa: F401  (registers with Pillow by the reader)

    grey = np.linspace(0, 65535, 256).astype(np.uint16)[None].repeat(64, 0)
    Image.fromarray(grey).save(tmp_path / "grey16.tif")
    Image.fromarray(grey).save(tmp_path / "grey16.png")
    for name in ("grey16.tif", "grey16.png"):
        y = np.asarray(still_frame(tmp_path / name).to_ndarray())[32, :, 0].astype(int)
        assert np.abs(y - np.arange(256)).max() <= 1
    wide = ImageCms.ImageCmsProfile(
        ImageCms.createProfile("LAB")
    ).tobytes()  # a profile that does not fit is passed over
    Image.new("RGB", (64, 64), (200, 40, 40)).save(tmp_path / "odd.png", icc_profile=wide)
    assert np.abs(still_frame(tmp_path / "odd.png").to_ndarray().reshape(-1, 3).mean(0) - (200, 40, 40)).max() <= 1
    frames = [Image.new("RGB", (64, 36), (i, 0, 0)) for i in (10, 200)]
    frames[0].save(tmp_path / "moves.webp", save_all=True, append_images=frames[1:], duration=100)
    facts = probe(str(tmp_path / "moves.webp"))
    assert facts["frames"] is None and "It holds 2 pictures; the first is used" in facts["remarks"][0]
    Image.new("RGB", (64, 64), (40, 170, 60)).save(tmp_path / "leaf.avif", quality=95)
    assert probe(str(tmp_path / "leaf.avif"))["kind"] == "still"
    (tmp_path / "phone.heic").write_bytes(b"\0\0\0\x18ftypheic" + bytes(64))
    assert kind_of(tmp_path / "phone.heic") == "still"  # never a film of one picture a second
