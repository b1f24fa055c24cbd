"""Programme loudness against EBU's own test signals and libav's meter; what is found of a story's sound."""

import av
import numpy as np
import pytest

from kovel.core.checks.mix_loudness import mixed, sound_findings
from kovel.core.plan.plan import make_plan
from kovel.core.sound.loudness import STEP, PowerMaker, integrated
from kovel.core.story.catalogue import run
from kovel.core.story.model import Source, Story
from kovel.core.time.rate import Rate
from kovel.demo.project import FOOTAGE
from kovel.media.render import ramped

R = Rate(25)
SOURCES = {1: Source(1, "Talk", R, 1500), 2: Source(2, "Band", R, 1500, picture=False)}


def rows(x: np.ndarray, block: int = 3_333) -> np.ndarray:
    """Measured in blocks of an odd size, as decoders give them."""
    maker = PowerMaker()
    for i in range(0, len(x), block):
        maker.feed(x[i : i + block])
    return maker.finish()


def sine(parts: list[tuple[float, float]], channels: int = 2) -> np.ndarray:
    """1000 Hz at so many dBFS for so many seconds, one after the other; int16 (n, channels)."""
    x = np.concatenate([np.full(round(s * 48_000), 10 ** (db / 20)) for db, s in parts])
    y = x * np.sin(2 * np.pi * 1000 * np.arange(len(x)) / 48_000)
    return np.repeat(np.round(y * 32768).clip(-32768, 32767).astype(np.int16)[:, None], channels, 1)


@pytest.mark.parametrize(
    ("parts", "lufs"),
    [
        ([(-23, 20)], -23.0),
        ([(-33, 20)], -33.0),
        ([(-36, 10), (-23, 60), (-36, 10)], -23.0),
        ([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23.0),
        ([(-26, 20), (-20, 20.1), (-26, 20)], -23.0),
    ],
)
def test_the_test_signals_of_ebu(parts: list[tuple[float, float]], lufs: float) -> None:
    """EBU Tech 3341, table 1, test signals 1 to 5: within 0.1 LU."""
    got = integrated(rows(sine(parts))[:, 0])
    assert got is not None and abs(got - lufs) <= 0.1


@pytest.mark.parametrize("name", ["maren-a.mp4", "odile.mp4", "bed.m4a"])
def test_agrees_with_libavs_meter(name: str) -> None:
    """libav's ebur128 filter on the same samples: within 0.1 LU; and one channel is heard from both sides, 3 dB
    louder."""
    path = next(p for p in FOOTAGE.iterdir() if p.stem == name.split(".")[0] and p.suffix != ".json")
    with av.open(str(path)) as c:
        to = av.AudioResampler("s16", "stereo", 48_000)
        x = np.concatenate([g.to_ndarray().reshape(-1, 2) for f in c.decode(audio=0) for g in to.resample(f)])
    g = av.filter.Graph()
    source = g.add_abuffer(sample_rate=48_000, format="s16", layout="stereo", time_base="1/48000")
    meter, sink = g.add("ebur128", "metadata=1"), g.add("abuffersink")
    source.link_to(meter)
    meter.link_to(sink)
    g.configure()
    said = None
    for i in range(0, len(x) // 4800 * 4800, 4800):
        f = av.AudioFrame.from_ndarray(np.ascontiguousarray(x[i : i + 4800]).reshape(1, -1), "s16", "stereo")
        f.sample_rate, f.pts = 48_000, i
        source.push(f)
        while True:
            try:
                said = sink.pull().metadata.get("lavfi.r128.I", said)
            except (BlockingIOError, EOFError):
                break
    got = integrated(rows(x)[:, 0])
    assert got is not None and said is not None and abs(got - float(said)) <= 0.1
    one = integrated(rows(np.ascontiguousarray(x[:, :1]))[:, 0])
    both = integrated(rows(np.repeat(x[:, :1], 2, 1))[:, 0])
    assert one is not None and both is not None and abs(one - both) < 0.01


def test_silence_and_crumbs() -> None:
    assert integrated(rows(np.zeros((48_000, 2), np.int16))[:, 0]) is None
    assert integrated(rows(np.ones((100, 1), np.int16))[:, 0]) is None
    assert PowerMaker().finish().shape == (0, 3) and len(rows(np.ones((STEP + 1, 1), np.int16))) == 2


def test_what_is_found_of_a_storys_sound() -> None:
    """A clipped second, a mix over full scale where music comes under loud talk, and the loudness of the mix itself."""
    rng = np.random.default_rng(4)
    talk = (rng.standard_normal((60 * 48_000, 1)) * 1200).astype(np.int16)
    talk[20 * 48_000 : 21 * 48_000] = np.clip(talk[20 * 48_000 : 21 * 48_000].astype(np.int32) * 80, -32768, 32767)
    band = (rng.standard_normal((60 * 48_000, 2)) * 1000).astype(np.int16)
    measured = {(1, ""): rows(talk), (2, ""): rows(band)}
    s = Story(R)
    for name, params in (
        ("add_at_end", {"source": 1, "start": 100, "length": 250}),
        ("add_at_end", {"source": 1, "start": 475, "length": 75}),  # 19 s to 22 s of it
        ("lay_sound", {"source": 2, "at": 200, "until": 320, "start": 13, "kind": "music", "clock_bound": True}),
    ):
        s, _ = run(s, SOURCES, name, params)
    plan = make_plan(s, SOURCES)
    full = np.zeros((plan.samples, 2), np.float64)
    for h in plan.sounds:
        x = ({1: talk, 2: band}[h.source][h.start : h.start + h.end - h.at] / 32768).astype(np.float32)
        full[h.at : h.end] += ramped(np.repeat(x, 2, 1) if x.shape[1] == 1 else x, 0, h)
    peak = lambda a, b: float(np.abs(full[a:b]).max())  # noqa: E731
    exact = integrated(rows(np.round(full * 8192).astype(np.int16))[:, 0])  # at a quarter: 12.04 dB under
    near = integrated(mixed(plan, measured).power)
    assert exact is not None and near is not None and abs(near - exact - 12.04) < 0.15
    found = {f.kind: f for f in sound_findings(s, SOURCES, plan, measured, peak)}
    assert set(found) == {"clip", "over", "loudness"}
    assert found["clip"].at == 275 and "Talk is clipped" in found["clip"].text and "for 1.0 s" in found["clip"].text
    worst = int(np.abs(full).max(1).argmax()) // STEP * STEP
    assert found["over"].at == R.sample_to_frame(worst) and 275 <= worst * 25 // 48_000 < 300
    assert (
        f"{20 * np.log10(np.abs(full).max()):.1f} dB over" in found["over"].text
        and "9 times more from 0:11+00" in found["over"].text
    )
    assert f"{near:.1f} LUFS" in found["loudness"].text
    quiet, _ = run(s, SOURCES, "set_muted", {"lane": "music", "muted": True})
    assert "over" not in {
        f.kind for f in sound_findings(quiet, SOURCES, make_plan(quiet, SOURCES), measured, lambda a, b: 1.0)
    }
