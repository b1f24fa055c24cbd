"""A recording with only some of its pictures: those wanted to the bit, its length and its sound as they were,
whatever it is made of."""

from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from kovel.core.time.rate import Rate
from kovel.media.cutting import cut_pictures, ending
from kovel.media.reader import FrameReader
from kovel.media.soundtrack import make_sound
from tests import made

R = Rate(25)
N = 350
WANTED = [(Fraction(4), Fraction(26, 5)), (Fraction(8), Fraction(42, 5))]  # seconds: frames 100 to 130, 200 to 210
quiet: Callable[[float], None] = lambda x: None  # noqa: E731


def filmed(path: Path, codec: str, sound: str, options: dict[str, str], form: str | None = None) -> Path:
    """14 s of coded pictures with noise, in groups of 50 frames."""
    with av.open(str(path), "w", format=form) as c:
        v = c.add_stream(codec, rate=25, options={"g": "50", **options})
        v.width, v.height, v.pix_fmt = 320, 180, "yuv420p"
        a = c.add_stream(sound, rate=48000, layout="mono")
        x = made.noise(1, N * 1920)
        rough = np.random.default_rng(2).integers(0, 100, (7, 115, 320), np.uint8)
        for n in range(N):
            y = made.picture(1, n, 320, 180)
            y[65:] = (y[65:] // 2 + rough[n % 7]).astype(np.uint8)  # so that pictures take room
            f = made.frame(y, "yuv420p")
            f.pts, f.time_base = n, Fraction(1, 25)
            c.mux(v.encode(f))
        c.mux(v.encode(None))
        block = 1152 if sound == "mp2" else 1024
        resample = av.AudioResampler("fltp" if sound == "aac" else "s16", "mono", 48000)
        for i in range(0, len(x) // block * block, block):
            f = av.AudioFrame.from_ndarray(x[None, i : i + block], "s16", "mono")
            f.sample_rate, f.pts, f.time_base = 48000, i, Fraction(1, 48000)
            for g in resample.resample(f):
                c.mux(a.encode(g))
        c.mux(a.encode(None))
    return path


@pytest.mark.parametrize(
    ("name", "codec", "sound", "options"),
    [
        ("camera.mp4", "libx264", "aac", {"preset": "ultrafast", "bf": "3"}),
        ("open.mov", "libx264", "pcm_s16le", {"preset": "ultrafast", "bf": "2", "x264-params": "open-gop=1"}),
        ("screen.mkv", "libx264", "aac", {"preset": "ultrafast"}),
        ("disc.ts", "mpeg2video", "mp2", {"bf": "2", "q": "3"}),
    ],
)
def test_the_wanted_pictures_and_all_of_the_sound_are_as_they_were(
    tmp_path: Path, name: str, codec: str, sound: str, options: dict[str, str]
) -> None:
    src = filmed(tmp_path / name, codec, sound, options)
    out = tmp_path / f"out{ending(src)}"
    assert cut_pictures(src, out, R, WANTED, quiet)
    whole, part = FrameReader(src, R), FrameReader(out, R)
    for n in (*range(100, 130), *range(200, 210), 0, N - 1):
        a, b = whole.get(n), part.get(n)
        assert made.read(made.luma(a)) == made.read(made.luma(b)) == (1, n), n
        assert np.array_equal(made.luma(a), made.luma(b)), n
    assert (made.read(made.luma(part.get(180))) or (0, 999))[1] < 150  # left out: a picture before it stands
    samples = []
    for p in (src, out):
        (tmp_path / p.stem).mkdir()
        make_sound(path=str(p), out=str(tmp_path / p.stem), rate=[25, 1], picture=True, frames=N, progress=quiet)
        samples.append((tmp_path / p.stem / "sound.pcm").read_bytes())
    a, b = (np.frombuffer(x, np.int16).astype(int) for x in samples)
    assert len(a) == len(b) > 650_000 and np.abs(a - b).max() <= (1 if sound == "mp2" else 0)


def test_what_cannot_be_shortened_is_left_whole(tmp_path: Path) -> None:
    """One group of pictures; a damaged file; something that is no film: nothing is written."""
    single = made.clip(tmp_path / "one.mp4", 2, 60, gop=60)
    odd = tmp_path / "odd.mov"
    odd.write_bytes(single.read_bytes()[:2000])
    words = tmp_path / "words.mov"
    words.write_text("not a film")
    for src in (single, odd, words):
        assert not cut_pictures(src, tmp_path / "out.mov", R, [(Fraction(0), Fraction(1))], quiet)
        assert not (tmp_path / "out.mov").exists()
