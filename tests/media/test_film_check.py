"""A file that was made is held against its plan: what is silent, too quiet, black, another picture, or cut short is
told, with its place; a good one is not suspected, whatever was set in it."""

from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
import pytest

from kovel.core.checks.delivered import heard_differences, seen_difference
from kovel.core.plan.layers import Layer
from kovel.core.plan.outputs import Output
from kovel.core.plan.plan import Plan, make_plan
from kovel.core.plan.sounds import Heard
from kovel.core.sound.loudness import PowerMaker, Weigher
from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.media.film_check import Greys, frames_in, picture_differences, sound_differences, sound_in
from kovel.media.render import Sound, render
from kovel.media.soundfiles import wav
from kovel.services.handoff.rendering import start_output
from kovel.store import jobs, recordings, stories
from kovel.store.recordings import Recording
from tests import made

R = Rate(25)
SR = 48_000


def voice(seconds: int, level: float, seed: int) -> np.ndarray:
    """Noise with a voice's ups and downs, mono 16 bits: words of 0.3 s, pauses of 0.1."""
    x = np.convolve(np.random.default_rng(seed).standard_normal(seconds * SR), np.ones(8) / 8**0.5, "same") * level
    return (
        (x * (np.arange(len(x)) % (SR * 4 // 10) < SR * 3 // 10) * 32767).clip(-32767, 32767).astype(np.int16)[:, None]
    )


@pytest.fixture
def spoken_film(tmp_path: Path) -> tuple[Plan, dict[tuple[int, str], np.ndarray], dict[int, np.ndarray]]:
    """Two speakers one after the other over music that fades out, and what is measured of each."""
    pcm = {1: voice(8, 0.1, 1), 2: voice(8, 0.08, 2), 3: voice(20, 0.03, 3)}
    measured = {}
    for i, x in pcm.items():
        maker = PowerMaker()
        maker.feed(x)
        measured[i, ""] = maker.finish()
    sounds = (
        Heard(0, 8 * SR, 1, 0),
        Heard(8 * SR, 16 * SR, 2, 0, gain=0.7),
        Heard(0, 16 * SR, 3, SR, gain=0.5, fall=4 * SR, line=((0, 0.0), (8 * SR, -6.0))),
    )
    return Plan(R, 400, (), sounds), measured, pcm


def power_of(plan: Plan, pcm: dict[int, np.ndarray], tmp_path: Path) -> np.ndarray:
    for i, x in pcm.items():
        (tmp_path / f"{i}.pcm").write_bytes(x.astype("<i2").tobytes())
    sound = Sound(plan.sounds, {i: (tmp_path / f"{i}.pcm", 1) for i in pcm})
    weigher = Weigher()
    weigher.feed(sound.block(0, plan.samples))
    return weigher.finish()


def test_what_is_not_heard_is_named_with_its_place(spoken_film: Any, tmp_path: Path) -> None:
    plan, measured, pcm = spoken_film
    name = {1: "Maren", 2: "Odile", 3: "the bed"}.__getitem__
    good = power_of(plan, pcm, tmp_path)
    assert heard_differences(plan, measured, good, name) == []
    cut = {
        **pcm,
        2: pcm[2] * (np.arange(8 * SR) < 2 * SR)[:, None],
    }  # as the demo's interviews were: only the beginning is there
    (d,) = heard_differences(plan, measured, power_of(plan, cut, tmp_path), name)
    assert (d.what, round(d.start), round(d.end)) == (
        "Odile is quieter than in the story (-35 LUFS instead of -25)",
        10,
        16,
    ) or (d.what.startswith("Odile is") and 9.8 <= d.start <= 10.3 and 15.7 <= d.end <= 16.0)
    silent = {**pcm, 1: pcm[1] * 0, 3: pcm[3] * 0}
    gone = heard_differences(plan, measured, power_of(plan, silent, tmp_path), name)
    assert str(gone[0]) == "0:00 to 0:08: Maren is not heard"
    fewer = replace(plan, sounds=plan.sounds[1:])  # Maren is heard where the plan has the bed alone
    (more,) = heard_differences(fewer, measured, good, name)
    assert more.what.startswith("it is louder than the story") and (round(more.start), round(more.end)) == (0, 8)
    nothing = replace(plan, sounds=())
    assert "something is heard that the story does not have" in heard_differences(nothing, measured, good, name)[0].what


def test_black_and_other_pictures() -> None:
    grey = np.linspace(0, 255, 144).reshape(9, 16)
    assert seen_difference(grey, grey + 6, "Maren", True) == "" and seen_difference(None, grey * 0, "Maren", True) == ""
    assert seen_difference(grey, grey * 0, "Maren", False) == "black where Maren should be seen"
    assert seen_difference(grey, grey[::-1], "Maren", True) == "another picture than Maren at that moment"
    assert (
        seen_difference(grey, grey[::-1], "Maren", False) == ""
        and seen_difference(grey * 0, grey * 0, "Maren", True) == ""
    )


def test_the_sound_of_a_file_is_measured_as_it_is(spoken_film: Any, tmp_path: Path) -> None:
    """WAV to the sample; AAC in MP4 within a third of a LU (its encoder's delay is no part of the film)."""
    plan, measured, pcm = spoken_film
    want = power_of(plan, pcm, tmp_path)
    sound = Sound(plan.sounds, {i: (tmp_path / f"{i}.pcm", 1) for i in pcm})
    wav(tmp_path / "mix.wav", sound.block, plan.samples, lambda x: None)
    power, samples, top = sound_in(tmp_path / "mix.wav")
    assert samples == plan.samples and np.allclose(power, want, rtol=1e-3, atol=1e-9) and 0.3 < top < 1
    with av.open(str(tmp_path / "mix.mp4"), "w") as c:
        a: Any = c.add_stream("aac", rate=SR, layout="stereo")
        a.bit_rate = 192_000
        x = sound.block(0, plan.samples)
        for k in range(0, len(x), 1024):
            f = av.AudioFrame.from_ndarray(np.ascontiguousarray(x[k : k + 1024].T), "fltp", "stereo")
            f.sample_rate, f.pts, f.time_base = SR, k, Fraction(1, SR)
            c.mux(a.encode(f))
        c.mux(a.encode(None))
    power, samples, _ = sound_in(tmp_path / "mix.mp4")
    assert abs(samples - plan.samples) <= 2048 and abs(10 * np.log10(power[:160].sum() / want.sum())) < 0.3
    files = {i: {"name": str(i), "pcm": str(tmp_path / "x" / str(i) / "sound.pcm"), "made": {}} for i in pcm}
    for i in pcm:
        (tmp_path / "x" / str(i)).mkdir(parents=True)
        np.save(tmp_path / "x" / str(i) / "power.npy", measured[i, ""])
    found, heard = sound_differences(tmp_path / "mix.mp4", plan, files, None)
    assert found == [] and heard["loudness"] is not None and heard["peak"] < 3
    assert sound_differences(tmp_path / "mix.wav", plan, files, -3.0)[0][0].what.startswith("the loudness is ")
    short = replace(plan, length=500)
    assert any(
        "the sound lasts 16.00 s instead of 20.00" in d.what
        for d in sound_differences(tmp_path / "mix.wav", short, files, None)[0]
    )


def test_pictures_are_held_against_the_recordings_own(
    coded: tuple[DataFolder, dict[str, Recording]], tmp_path: Path
) -> None:
    data, r = coded
    plan = make_plan(
        stories.edit(
            data.db,
            stories.current(data.db, 1),
            None,
            "add_at_end",
            {"source": r["talk"].id, "start": 100, "length": 100},
        )[0].story,
        recordings.sources(data.db, 1),
    )
    row = plan.to_json(recordings.sources(data.db, 1))["pictures"][0]
    stack = [Layer.from_json(x) for x in row[2]]
    moments = [(t, stack, t) for t in range(100)]
    files = {r["talk"].id: {"name": "talk", "derived": str(data.derived(r["talk"].id)), "pcm": None, "still": False}}
    greys = Greys(files, (1280, 720))
    right, late, black = (tmp_path / f"{n}.mp4" for n in ("right", "late", "black"))
    made.clip(right, 1, 200, size=(640, 360))
    with av.open(str(right)) as src:
        shown = [f.to_ndarray(format="rgb24") for f in src.decode(video=0)][100:]

    def write(path: Path, frames: list[np.ndarray]) -> None:
        with av.open(str(path), "w") as c:
            v: Any = c.add_stream("libx264", rate=25, options={"crf": "18"})
            v.width, v.height, v.pix_fmt = 640, 360, "yuv420p"
            for x in frames:
                c.mux(v.encode(av.VideoFrame.from_ndarray(x, format="rgb24")))
            c.mux(v.encode(None))

    write(late, shown)
    assert picture_differences(late, moments, greys, R) == [] and frames_in(late) == 100
    write(black, [*shown[:99], shown[99] * 0])
    assert [str(d) for d in picture_differences(black, moments, greys, R)] == ["0:03: black where talk should be seen"]
    write(black, [255 - x for x in shown])
    assert {d.what for d in picture_differences(black, moments, greys, R)} == {
        "another picture than talk at that moment"
    }
    write(black, shown[:60])
    assert [d.what for d in picture_differences(black, moments, greys, R)] == ["60 frames instead of 100"]


def test_a_film_whose_sound_went_while_it_waited_is_refused_or_told(
    coded: tuple[DataFolder, dict[str, Recording]], tmp_path: Path
) -> None:
    """Between asking and making: short is refused in words, and what is silent all the same (zeros, as long as it
    should be) is told."""
    data, r = coded
    stories.edit(
        data.db, stories.current(data.db, 1), None, "add_at_end", {"source": r["talk"].id, "start": 50, "length": 200}
    )
    job = start_output(data, stories.current(data.db, 1), Output(height=180), tmp_path / "film.mp4")
    params = {k: v for k, v in jobs.get(data.db, job.id).params.items() if k != "groups"}
    pcm = data.derived(r["talk"].id) / "sound.pcm"
    whole = pcm.read_bytes()
    assert render(**params, progress=lambda x: None)["differs"] == []
    pcm.write_bytes(whole[: 96_000 * 8])
    with pytest.raises(ValueError, match=r"talk: its sound had 8\.0 of 40\.0 s\. It is prepared again"):
        render(**params, progress=lambda x: None)
    pcm.write_bytes(bytes(len(whole)))
    told = render(**params, progress=lambda x: None)
    assert told["differs"][0] == "0:00 to 0:08: talk is not heard"
    greys = data.derived(r["talk"].id) / "greys.npy"
    np.save(greys, 255 - np.load(greys))
    pcm.write_bytes(whole)
    again = render(**{**params, "parts": ""}, progress=lambda x: None)
    assert "another picture than talk at that moment" in again["differs"][0]
