"""Every kind of output: the frames and samples of the plan, what ffprobe's library says of it, parts that are used
again."""

import wave
from collections.abc import Callable
from fractions import Fraction
from itertools import pairwise
from math import floor
from pathlib import Path
from typing import Any

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from kovel.core.errors import Invalid
from kovel.core.plan.outputs import (
    OUTPUT_KINDS,
    Output,
    between,
    checked,
    expected,
    frames_made,
    size_made,
    story_frame,
)
from kovel.core.plan.parts import LEAST, MOST, divided, stretches
from kovel.core.plan.plan import make_plan
from kovel.core.story.model import Refused
from kovel.core.time.rate import RATES, Rate
from kovel.data_folder import DataFolder
from kovel.jobs.kinds import SoFar
from kovel.jobs.shared_folders import moved
from kovel.media import film_parts
from kovel.media.render import render, render_parts
from kovel.services.handoff import film_steps
from kovel.services.handoff.rendering import estimate, keep_ready, parts_of, ready, start_output, trim_parts
from kovel.services.story.story_checks import mix_of
from kovel.store import jobs, recordings, stories
from kovel.store.recordings import Recording
from tests import made
from tests.core.stories import SOURCES, R, do, three
from tests.media.test_media import build

Coded = tuple[DataFolder, dict[str, Recording]]
Finished = Callable[[DataFolder], None]


def wanted(data: DataFolder, r: dict[str, Recording]) -> list[Any]:
    """The code of each frame of the story as it stands."""
    sources = recordings.sources(data.db, 1)
    plan = make_plan(stories.load(data.db, 1).story, sources)
    number = {r["talk"].id: 1, r["fifty"].id: 2, r["boat"].id: 3}
    return [(number[x[0]], x[1]) if (x := plan.recording_frame(t, sources)) else None for t in range(plan.length)]


def rendered(data: DataFolder, finished: Finished, o: Output, out: Path) -> dict[str, Any]:
    job = start_output(data, 1, o, out)
    finished(data)
    result = jobs.get(data.db, job.id).result
    assert result and result["path"] == str(out) and not list(out.parent.glob("*.part"))
    assert result.get("differs", []) == []  # held against the story before it was called done
    return result


def codes(out: Path) -> list[Any]:
    """The code of every frame, whatever its depth."""
    with av.open(str(out)) as c:
        return [made.read(made.luma(f.reformat(format="yuv420p"))) for f in c.decode(video=0)]


FILMS = [
    ("mp4", "h264", "aac", "yuv420p"),
    ("webm", "vp9", "opus", "yuv420p"),
    ("av1", "av1", "opus", "yuv420p"),
    ("prores", "prores", "pcm_s24le", "yuv422p10le"),
    ("dnxhr", "dnxhd", "pcm_s24le", "yuv422p"),
]


@pytest.mark.parametrize(("kind", "picture", "sound", "fmt"), FILMS, ids=lambda x: str(x))
def test_every_kind_of_film_has_the_frames_and_samples_of_the_plan(
    kind: str, picture: str, sound: str, fmt: str, coded: Coded, finished: Finished, tmp_path: Path
) -> None:
    data, r = coded
    kept = build(data, r)
    stories.edit(data.db, 1, None, "set_heading", {"piece": kept.story.pieces[1].id, "heading": "Across"})
    out = tmp_path / f"film{OUTPUT_KINDS[kind].ending}"
    result = rendered(data, finished, Output(kind=kind, height=360), out)
    want = wanted(data, r)
    assert codes(out) == want and result["frames"] == len(want) and result["size"] == [640, 360]
    with av.open(str(out)) as c:
        v, a = c.streams.video[0], c.streams.audio[0]
        assert (v.codec_context.name.replace("libdav1d", "av1"), a.codec_context.name) == (picture, sound)
        assert v.format.name == fmt and (v.width, v.height) == (640, 360) and a.rate == 48_000
        assert v.codec_context.color_range == 1 and v.codec_context.colorspace == 1
        assert abs(float(c.duration or 0) / 1e6 - len(want) / 25) < 0.05
        assert [x["metadata"]["title"] for x in c.chapters()] == ["Beginning", "Across"]
        if OUTPUT_KINDS[kind].ending == ".mov":
            assert next(s.metadata["timecode"] for s in c.streams if "timecode" in s.metadata) == "00:00:00:00"
    sources = recordings.sources(data.db, 1)
    plan = make_plan(stories.load(data.db, 1).story, sources)
    mix = mix_of(data, plan).block(0, plan.samples)
    if sound.startswith("pcm"):
        with av.open(str(out)) as c:
            heard = np.concatenate([f.to_ndarray().reshape(-1, 2) for f in c.decode(audio=0)]) / 2**31
        assert heard.shape == mix.shape and np.abs(heard - mix).max() <= 2**-23
    else:
        k, fit = made.lag(made.decoded_sound(out), mix[:, 0])
        assert k == 0 and fit > 0.9


def test_sound_alone_stems_that_add_up_and_a_still(coded: Coded, finished: Finished, tmp_path: Path) -> None:
    data, r = coded
    build(data, r)
    c = next(c for c in stories.load(data.db, 1).story.covers if c.source == r["fifty"].id)
    stories.edit(data.db, 1, None, "set_value", {"to": c.id, "setting": "natural", "value": True})
    stories.edit(
        data.db, 1, None, "lay_sound", {"source": r["boat"].id, "at": 3, "until": 150, "start": 9, "kind": "music"}
    )
    plan = make_plan(stories.load(data.db, 1).story, recordings.sources(data.db, 1))
    mix = mix_of(data, plan).block(0, plan.samples)

    def whole(path: Path) -> np.ndarray:
        with wave.open(str(path)) as f:
            assert (f.getnchannels(), f.getsampwidth(), f.getframerate()) == (2, 3, 48_000)
            raw = np.frombuffer(f.readframes(f.getnframes()), np.uint8).reshape(-1, 3).astype(np.int32)
        return ((raw[:, 0] | raw[:, 1] << 8 | raw[:, 2] << 16) << 8 >> 8).reshape(-1, 2)

    told = rendered(data, finished, Output(kind="wav"), tmp_path / "mix.wav")
    heard = whole(tmp_path / "mix.wav")
    assert np.abs(heard / 2**23 - mix).max() <= 2**-23 and told["peak"] < 6 and told["loudness"] is not None
    rendered(data, finished, Output(kind="stems"), tmp_path / "stems")
    parts = {p.stem: whole(p) for p in sorted((tmp_path / "stems").iterdir())}
    assert set(parts) == {"dialogue", "music", "natural"}
    assert np.array_equal(sum(parts.values()), heard)  # to the sample
    rendered(data, finished, Output(kind="flac"), tmp_path / "mix.flac")
    with av.open(str(tmp_path / "mix.flac")) as f:
        got = np.concatenate([x.to_ndarray() for x in f.decode(audio=0)], 1).reshape(-1, 2)
    assert np.array_equal(got >> 8, heard)
    rendered(data, finished, Output(kind="m4a"), tmp_path / "mix.m4a")
    assert made.lag(made.decoded_sound(tmp_path / "mix.m4a"), mix[:, 0])[0] == 0
    rendered(data, finished, Output(kind="mp3"), tmp_path / "mix.mp3")
    with av.open(str(tmp_path / "mix.mp3")) as f:
        a = f.streams.audio[0]
        assert a.codec.name == "mp3float" and a.bit_rate == 192_000
        begins = round(
            float(a.start_time * a.time_base) * 48_000
        )  # what the coder puts before it; players leave it out
    assert made.lag(made.decoded_sound(tmp_path / "mix.mp3")[begins:], mix[:, 0])[0] == 0
    rendered(data, finished, Output(kind="still", start=100), tmp_path / "frame.png")
    grey = np.asarray(Image.open(tmp_path / "frame.png").convert("L"))
    assert grey.shape == (720, 1280) and made.read(grey) == wanted(data, r)[100]


@pytest.mark.parametrize(
    ("o", "size", "frames"),
    [
        (Output(start=20, end=101, height=360), (640, 360), range(20, 101)),
        (Output(height=180, quality="small"), (320, 180), range(162)),
        (Output(rate=Rate(50), end=70, height=360), (640, 360), [k // 2 for k in range(140)]),
        (
            Output(rate=Rate(30000, 1001), height=360),
            (640, 360),
            [floor(k * Fraction(25 * 1001, 30000)) for k in range(194)],
        ),
        (Output(rate=Rate(10), start=1, height=360), (640, 360), [1 + floor(k * 2.5) for k in range(64)]),
    ],
    ids=["in to out", "smaller", "50", "29.97", "10"],
)
def test_a_part_of_it_another_size_another_rate(
    o: Output, size: tuple[int, int], frames: Any, coded: Coded, finished: Finished, tmp_path: Path
) -> None:
    """At another rate each frame is the story's that stands at its time; the sound is the same."""
    data, r = coded
    build(data, r)
    rendered(data, finished, o, tmp_path / "film.mp4")
    want = wanted(data, r)
    assert made.codes(tmp_path / "film.mp4") == [want[t] for t in frames]
    with av.open(str(tmp_path / "film.mp4")) as c:
        assert (c.streams.video[0].width, c.streams.video[0].height) == size
        assert c.streams.video[0].average_rate == (o.rate or R).fps
    plan = make_plan(stories.load(data.db, 1).story, recordings.sources(data.db, 1))
    a, b = (R.frame_to_sample(t) for t in (o.start, o.end or 162))
    assert made.lag(made.decoded_sound(tmp_path / "film.mp4"), mix_of(data, plan).block(a, b)[:, 0])[0] == 0


def test_another_shape_and_a_draft_that_says_where_it_is(coded: Coded, finished: Finished, tmp_path: Path) -> None:
    data, r = coded
    build(data, r)
    rendered(data, finished, Output(shape="9:16", height=640), tmp_path / "up.mp4")
    with av.open(str(tmp_path / "up.mp4")) as c:
        assert (c.streams.video[0].width, c.streams.video[0].height) == (360, 640)
    rendered(data, finished, Output(kind="draft"), tmp_path / "draft.mp4")
    with av.open(str(tmp_path / "draft.mp4")) as c:
        pictures = [made.luma(f).copy() for f in c.decode(video=0)]
    assert [made.read(y) for y in pictures] == wanted(data, r)
    strips = [y[-24:, :190].astype(int) for y in pictures]
    assert all(np.abs(a - b).mean() > 0.5 for a, b in pairwise(strips[:61]))  # the timecode goes on
    assert all(20 < s.mean() < 140 and s.max() > 170 for s in strips)


def test_only_what_changed_is_made_anew(coded: Coded, finished: Finished, tmp_path: Path) -> None:
    """After one seam is moved the parts around it are made; the film is frame for frame what a whole render gives."""
    data, r = coded
    for k in range(10):
        name = ("talk", "fifty", "boat")[k % 3]
        stories.edit(data.db, 1, None, "add_at_end", {"source": r[name].id, "start": 7 * k, "length": 40 + k})
    first = rendered(data, finished, Output(quality="small", height=180), tmp_path / "a.mp4")
    assert first["anew"] == first["parts"] > 3
    again = rendered(data, finished, Output(quality="small", height=180), tmp_path / "b.mp4")
    assert again["anew"] == 0 and (tmp_path / "b.mp4").read_bytes() == (tmp_path / "a.mp4").read_bytes()
    piece = stories.load(data.db, 1).story.pieces[3].id
    stories.edit(data.db, 1, None, "trim", {"piece": piece, "edge": "out", "delta": -3})
    third = rendered(data, finished, Output(quality="small", height=180), tmp_path / "c.mp4")
    assert 0 < third["anew"] <= 3 and made.codes(tmp_path / "c.mp4") == wanted(data, r)
    for p in parts_of(data, 1).iterdir():
        p.unlink()
    rendered(data, finished, Output(quality="small", height=180), tmp_path / "d.mp4")
    frames = []
    for name in ("c.mp4", "d.mp4"):
        with av.open(str(tmp_path / name)) as c:
            frames.append([made.luma(f).copy() for f in c.decode(video=0)])
    assert all(np.array_equal(x, y) for x, y in zip(*frames, strict=True))
    most = sum(p.stat().st_size for p in parts_of(data, 1).iterdir()) // 2
    trim_parts(data, most)
    assert 0 < sum(p.stat().st_size for p in parts_of(data, 1).iterdir()) <= most


cuts = st.lists(st.tuples(st.integers(1, 4), st.integers(0, 300), st.integers(1, 500)), min_size=1, max_size=12)


@pytest.mark.parametrize("rate", [None, Rate(24)])
def test_parts_made_elsewhere_are_those_of_the_film(
    coded: Coded, finished: Finished, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, rate: Rate | None
) -> None:
    """In steps as several machines make them, whose folders have other paths: each part once, and the same bytes as in
    the film that was made in one call. Then with a part that was lost on the way."""
    monkeypatch.setattr(film_parts, "GROUP", 250)
    data, r = coded
    for start in (0, 100, 300):
        stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": start, "length": 260})
    job = start_output(data, 1, Output(height=180, rate=rate), tmp_path / "film.mp4")
    finished(data)
    alone = jobs.get(data.db, job.id).result
    assert alone and alone["parts"] == alone["anew"] == len(list(parts_of(data, 1).glob("*.mp4"))) >= 4
    own = {path.name: path.read_bytes() for path in parts_of(data, 1).glob("*.mp4")}
    trim_parts(data, 0)

    (tmp_path / "mounted").symlink_to(data.root)
    job = start_output(data, 1, Output(height=180, rate=rate), tmp_path / "film 2.mp4")
    [joined] = film_steps.steps(job, SoFar(here=2))  # on one machine it is one call
    groups = film_steps.steps(job, SoFar(here=1, elsewhere=2))
    assert len(groups) >= 3 and sum(count for _, _, count in job.params["groups"]) == alone["parts"]
    assert film_steps.steps(job, SoFar(tuple(groups[1:]), here=1, elsewhere=2)) == groups[:1]
    for step in groups:
        params = moved(step.params, lambda path: path.replace(str(data.root), str(tmp_path / "mounted")))
        result = render_parts(**params, progress=lambda done: None)
        assert result["parts"] == result["anew"] > 0
    assert {path.name: path.read_bytes() for path in parts_of(data, 1).glob("*.mp4")} == own
    names = frozenset(step.name for step in groups)
    far = SoFar(ended=names, here=1, elsewhere=2)
    assert film_steps.steps(job, far) == [joined] and film_steps.progress(job, far) == film_steps.PARTS_DONE
    assert 0 < film_steps.progress(job, SoFar(tuple(groups[:1]), {groups[0].name: 0.5}, here=1, elsewhere=2)) < 0.5
    next(parts_of(data, 1).glob("*.mp4")).unlink()
    result = render(**joined.params, progress=lambda done: None)
    assert (result["anew"], result["differs"]) == (1, [])
    kept = film_steps.take_step(data, job, joined, result).result
    assert kept and kept["anew"] == alone["parts"]  # none of them was there before
    assert (tmp_path / "film 2.mp4").stat().st_size == (tmp_path / "film.mp4").stat().st_size
    assert codes(tmp_path / "film 2.mp4") == codes(tmp_path / "film.mp4")
    jobs.end(data.db, job.id, "cancelled")


def story(rows: list[tuple[int, int, int]]) -> Any:
    s = three()
    for source, start, length in rows:
        total = SOURCES[source].length(R) or 10**9
        start = min(start, total - 2)
        s = do(s, "add_at_end", source=source, start=start, length=min(length, total - start))
    return s


@given(cuts, st.integers(0, 11), st.integers(1, 20))
def test_parts_fill_the_film_and_are_the_same_again_behind_a_change(
    rows: list[tuple[int, int, int]], which: int, cut: int
) -> None:
    def parts(s: Any) -> list[str]:
        plan = divided(make_plan(s, SOURCES))
        assert plan.pictures[0].at == 0 and plan.pictures[-1].end == s.length
        pictures = plan.to_json(SOURCES)["pictures"]
        ends = stretches(pictures)
        assert [i for a, b in ends for i in range(a, b)] == list(range(len(pictures)))
        long = [pictures[b - 1][1] - pictures[a][0] for a, b in ends]
        assert all(n <= MOST for n in long) and all(
            n >= LEAST or k == len(long) - 1 or n + pictures[ends[k + 1][0]][1] - pictures[ends[k + 1][0]][0] > MOST
            for k, n in enumerate(long)
        )
        return [str([[e - pictures[a][0], x] for _, e, x in pictures[a:b]]) for a, b in ends]

    s = story(rows)
    piece = s.pieces[which % len(s.pieces)]
    if piece.length <= cut:
        return
    was, now = parts(s), parts(do(s, "trim", piece=piece.id, edge="out", delta=-cut))
    i = s.index_of(piece.id)
    behind = [k for k, p in enumerate(s.pieces) if k > i]
    if len(behind) > 6:  # from somewhere behind it on, the same again
        assert set(was) & set(now)
    assert was != now


@given(st.data())
def test_what_lies_between_in_and_out_is_what_the_whole_has_there(data: st.DataObject) -> None:
    s = do(three(), "lay_cover", source=4, at=110, until=150, start=20)
    s = do(
        do(s, "set_blend", piece=2, blend="dissolve", length=12),
        "set_value",
        to=1,
        setting="zoom",
        value=[[100, 100.0], [180, 120.0]],
    )
    plan = make_plan(s, SOURCES)
    a = data.draw(st.integers(0, s.length - 1))
    b = data.draw(st.integers(a + 1, s.length))
    part = between(plan, a, b)
    assert part.length == b - a and part.pictures[0].at == 0 and part.pictures[-1].end == b - a
    for t in range(a, b):
        x, y = plan.picture_at(t), part.picture_at(t - a)
        assert [z.later(t - x.at) for z in x.layers] == [z.later(t - a - y.at) for z in y.layers]
    first = R.frame_to_sample(a)
    assert {
        (h.at - first, h.end - first, h.start, h.source)
        for h in plan.sounds
        if h.end > first and h.at < R.frame_to_sample(b)
    } == {(h.at, h.end, h.start, h.source) for h in part.sounds}


@given(st.integers(1, 5000), st.sampled_from(RATES), st.sampled_from(RATES))
def test_at_another_rate_it_lasts_as_long(length: int, clock: Rate, rate: Rate) -> None:
    n = frames_made(length, clock, rate)
    assert abs(n / rate.fps - length / clock.fps) <= Fraction(1, 2) / rate.fps + Fraction(1, 10**9) or n == 1
    shown = [story_frame(k, length, clock, rate) for k in range(0, n, max(1, n // 50))]
    assert shown == sorted(shown) and shown[0] == 0 and shown[-1] < length
    assert all(
        t == length - 1 or t / clock.fps <= k / rate.fps < (t + 1) / clock.fps
        for k, t in zip(range(0, n, max(1, n // 50)), shown, strict=True)
    )


def test_what_is_to_be_expected_and_what_cannot_be_made(coded: Coded) -> None:
    """File size = bit rate times length (common practice): one minute at 8 Mb/s and 192 kb/s are 61 MB."""
    assert expected(Output(), (1920, 1080), Rate(25), 1500)[0] == (8_000_000 + 192_000) * 60 // 8
    assert expected(Output(kind="wav"), (2, 2), Rate(25), 1500)[0] == 48_000 * 2 * 3 * 60
    s = three()
    assert size_made(Output(shape="9:16"), s, 1920, 1080) == (1080, 1920)
    assert size_made(Output(shape="1:1", height=721), s, 1920, 1080) == (720, 720)
    for o, why in (
        (Output(kind="gif"), "one of these kinds"),
        (Output(quality="best"), "high or small"),
        (Output(height=100), "120 to 4320"),
        (Output(shape="2:1"), "one of"),
        (Output(start=240), "behind the end"),
        (Output(start=50, end=50), "before it begins"),
        (Output(rate=Rate(120)), "1 to 60"),
    ):
        with pytest.raises(Refused, match=why):
            checked(o, s)
    data, r = coded
    build(data, r)
    kept = stories.load(data.db, 1)
    for kind in OUTPUT_KINDS:
        e = estimate(data, kept, Output(kind=kind, start=10))
        assert e.bytes > 1000 and e.seconds > 0 and e.frames == (1 if kind == "still" else 152), kind
    keep_ready(data, "  For  school ", Output(kind="webm", height=720, start=9))
    assert ready(data)["For school"] == Output(kind="webm", height=720)
    for name, why in (("", "a name"), ("Archive", "ships with")):
        with pytest.raises(Invalid, match=why):
            keep_ready(data, name, Output())
    keep_ready(data, "For school", None)
    assert "For school" not in ready(data)
