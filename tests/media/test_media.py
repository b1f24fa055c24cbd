"""Probe, derived media and render on made recordings of every awkward kind."""

import json
import shutil
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import av
import numpy as np
import pytest
from PIL import Image

from kovel.core.plan.outputs import Output
from kovel.core.plan.plan import make_plan
from kovel.core.plan.sounds import RAMP
from kovel.core.story.model import Refused
from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.media.child import call
from kovel.media.files import Unusable
from kovel.media.reader import Fit, FrameReader
from kovel.services.handoff.rendering import start_output
from kovel.store import jobs, recordings, stories
from tests import made


def derive(path: Path, out: Path) -> tuple[dict, dict]:
    facts = call("probe", {"path": str(path)})
    call(
        "derive", {"path": str(path), "out": str(out), **{k: facts[k] for k in ("rate", "picture", "sound", "frames")}}
    )
    return facts, json.loads((out / "media.json").read_text())


def packets(out: Path, media: dict) -> list[bytes]:
    sizes = np.fromfile(out / "proxy.idx", "<u4")
    at = media["first"] + np.concatenate([[0], np.cumsum(sizes)]).astype(int)
    raw = (out / "proxy.mp4").read_bytes()
    return [raw[a:b] for a, b in pairwise(at)]


def test_proxy_index_sound_and_peaks_are_exact(clips: dict[str, Path], tmp_path: Path) -> None:
    facts, media = derive(clips["fifty"], tmp_path)
    assert (facts["rate"], facts["frames"], media["frames"], media["samples"]) == ([50, 1], 1200, 1200, 24 * 48000)
    assert made.codes(tmp_path / "proxy.mp4") == [(2, n) for n in range(1200)]
    rows = packets(tmp_path, media)
    assert len(rows) == 1200 and all(
        (r[4] & 31 in (5, 6, 7)) == (i % 12 == 0) for i, r in enumerate(rows)
    )  # H.264 NAL types: key frames every 12
    pcm = np.fromfile(tmp_path / "sound.pcm", "<i2")
    assert np.array_equal(pcm, made.noise(2, 24 * 48000))
    raw = (tmp_path / "peaks.bin").read_bytes()
    n = np.frombuffer(raw[4:20], "<u4")
    assert raw[:4] == b"KVP1" and list(n) == [3, 2400, 300, 38]
    first = np.frombuffer(raw[20 : 20 + 4800], np.int8).reshape(-1, 2)
    block = pcm[480 * 7 : 480 * 8]
    assert first[7, 0] == block.min() >> 8 and first[7, 1] == -(-int(block.max()) >> 8)


def test_variable_rate_keeps_step_with_its_sound(tmp_path: Path) -> None:
    """A long held frame, then quick ones: each tick shows the frame that stood at its time."""
    stamps = [0, 40, 80, 1000, 1010, 1020, 1100, 1140, 1180, 1220, 1500, 1540]
    path = made.clip(tmp_path / "phone.mkv", 1, len(stamps), stamps=stamps)
    facts, media = derive(path, tmp_path / "out")
    assert any("varies" in r for r in facts["remarks"])
    rate = Rate(*facts["rate"])
    shown = [c[1] for c in made.codes(tmp_path / "out" / "proxy.mp4") if c]
    for tick, n in enumerate(shown):
        t = 1000 * (tick + 0.25) / rate.fps
        assert n == max(i for i, s in enumerate(stamps) if s <= t)
    assert media["samples"] == 48 * 1580


@pytest.mark.parametrize("name", ["odd", "silent", "ntsc"])
def test_unusual_pictures(name: str, tmp_path: Path) -> None:
    path = {
        "odd": lambda: made.clip(tmp_path / "odd.mkv", 1, 30, size=(641, 361)),
        "silent": lambda: made.clip(tmp_path / "silent.mp4", 1, 30, sound=False),
        "ntsc": lambda: made.clip(tmp_path / "ntsc.mkv", 1, 90, Rate(30000, 1001)),
    }[name]()
    facts, media = derive(path, tmp_path / "out")
    assert media["width"] % 2 == 0 and facts["sound"] == (name != "silent")
    assert [c[1] for c in made.codes(tmp_path / "out" / "proxy.mp4") if c] == list(range(90 if name == "ntsc" else 30))
    assert facts["rate"] == ([30000, 1001] if name == "ntsc" else [25, 1])
    assert {"odd": "odd", "silent": "no sound", "ntsc": ""}[name] in " ".join(facts["remarks"])


def test_turned_camera_still_and_sound_alone(tmp_path: Path) -> None:

    from kovel.media.reader import still_frame

    Image.fromarray(np.dstack([made.picture(1, 5, 640, 360)] * 3)).save(tmp_path / "s.png")
    facts, media = derive(tmp_path / "s.png", tmp_path / "still")
    assert (facts["kind"], facts["frames"], media["frames"]) == ("still", None, None)
    assert made.read(made.luma(Fit(1280, 720)(still_frame(tmp_path / "s.png")))) == (1, 5)
    exif = Image.Exif()
    exif[274] = 6  # turned a quarter
    Image.new("RGB", (64, 32)).save(tmp_path / "t.jpg", exif=exif)
    assert call("probe", {"path": str(tmp_path / "t.jpg")})["height"] == 64
    with av.open(str(tmp_path / "v.wav"), "w") as c:
        a = c.add_stream("pcm_s16le", rate=44100, layout="stereo")
        f = av.AudioFrame.from_ndarray(np.zeros((1, 2 * 44100), np.int16), "s16", "stereo")
        f.sample_rate = 44100
        c.mux(a.encode(f))
    facts, media = derive(tmp_path / "v.wav", tmp_path / "voice")
    assert not facts["picture"] and media["samples"] == 48000 and media["channels"] == 2 and media["frames"] == 25


def test_a_turned_camera_is_shown_upright(tmp_path: Path) -> None:
    path = made.turned(made.clip(tmp_path / "phone.mp4", 1, 30, sound=False))
    facts, media = derive(path, tmp_path / "out")
    assert (facts["width"], facts["height"], media["width"], media["height"]) == (
        360,
        640,
        360,
        640,
    ) and "upright" in facts["remarks"][0]
    with av.open(str(tmp_path / "out" / "proxy.mp4")) as c:
        assert [made.read(np.rot90(made.luma(f))) for f in c.decode(video=0)] == [(1, n) for n in range(30)]


@pytest.mark.parametrize(
    ("name", "body", "says"),
    [
        ("talk.mp4", b"Dear diary, this is no film.\n" * 40, "text file"),
        ("list.m3u8", b"#EXTM3U\n#EXT-X-VERSION:3\nhttp://127.0.0.1/x.ts\n", "playlist"),
        ("zero.mp4", b"", "empty"),
        ("noise.mov", bytes(range(256)) * 20, "not a kind of file"),
        ("concat.mp4", b"ffconcat version 1.0\nfile /etc/passwd\n", "text file"),
    ],
)
def test_bad_files_are_refused_in_words(name: str, body: bytes, says: str, tmp_path: Path) -> None:
    (tmp_path / name).write_bytes(body)
    with pytest.raises(Unusable, match=says) as e:
        call("probe", {"path": str(tmp_path / name)})
    assert name in str(e.value)


def test_truncated_recordings(clips: dict[str, Path], tmp_path: Path) -> None:
    whole = clips["boat"].read_bytes()
    cut = tmp_path / "cut.mp4"
    cut.write_bytes(whole[: len(whole) // 2])  # its table of contents stood at the end
    with pytest.raises(Unusable, match=r"cut\.mp4"):
        call("probe", {"path": str(cut)})
    fast = tmp_path / "fast.mp4"
    with av.open(str(clips["boat"])) as a, av.open(str(fast), "w", options={"movflags": "faststart"}) as b:
        s = {st.index: b.add_stream_from_template(st) for st in a.streams}
        for p in a.demux():
            if p.dts is not None:
                p.stream = s[p.stream.index]
                b.mux(p)
    raw = fast.read_bytes()
    fast.write_bytes(raw[: len(raw) * 2 // 3])  # opens, but ends early: what is there is used
    _, media = derive(fast, tmp_path / "out")
    assert 0 < media["frames"] <= 300


def build(data: DataFolder, r: dict[str, recordings.Recording]) -> stories.Kept:
    """Jump cuts, two rates, a cover over a seam, a space, a continuous split, a still-standing loose end."""
    do = lambda name, **v: stories.edit(data.db, 1, None, name, v)[0]  # noqa: E731
    do("add_at_end", source=r["talk"].id, start=100, length=61)
    do("add_at_end", source=r["talk"].id, start=300, length=5)
    do("add_at_end", source=r["fifty"].id, start=33, length=40)
    do("add_at_end", source=r["talk"].id, start=20, length=47)
    do("split", at=130)
    do("insert_space", at=66, length=9)
    do("lay_cover", source=r["boat"].id, at=50, until=72, start=111)
    return do("lay_cover", source=r["fifty"].id, at=60, until=64, start=3)


def expected_sound(kept: stories.Kept, sources: dict, ids: dict[int, int]) -> np.ndarray:
    """The plainest reading of the plan's sound, from the recordings' own samples."""
    plan = make_plan(kept.story, sources)
    out = np.zeros(plan.samples, np.float32)
    for h in plan.sounds:
        x = made.noise(ids[h.source], 40 * 48000)[h.start : h.start + h.end - h.at].astype(np.float32) / 32768
        n = len(x)
        i = np.arange(n)
        out[h.at : h.end] += x * np.minimum(1, np.minimum(i, n - i) / RAMP)
    return out


def test_render_is_frame_and_sample_exact(
    coded: tuple[DataFolder, dict], finished: Callable[[DataFolder], None], tmp_path: Path
) -> None:
    data, r = coded
    kept = build(data, r)
    out = tmp_path / "film.mp4"
    start_output(data, 1, Output(quality="small"), out)
    finished(data)
    sources = recordings.sources(data.db, 1)
    plan = make_plan(kept.story, sources)
    number = {r["talk"].id: 1, r["fifty"].id: 2, r["boat"].id: 3}
    want = [(number[x[0]], x[1]) if (x := plan.recording_frame(t, sources)) else None for t in range(plan.length)]
    got = made.codes(out)
    assert len(got) == plan.length == 162 and got == want
    assert want.count(None) == 3 and want[60] == (2, 6)  # the space that no cover hides; the second cover on top
    heard = made.decoded_sound(out)
    k, fit = made.lag(heard, expected_sound(kept, sources, number))
    assert k == 0 and fit > 0.97
    for a, b in ((0, 66), (75, 115), (115, 162)):  # each stretch by itself, too
        x = slice(a * 1920, b * 1920)
        assert made.lag(heard[x], expected_sound(kept, sources, number)[x])[0] == 0
    assert not list(out.parent.glob("*.part"))


def test_render_that_cannot_be_finished_leaves_nothing(
    coded: tuple[DataFolder, dict], finished: Callable[[DataFolder], None], tmp_path: Path
) -> None:
    data, r = coded
    with pytest.raises(Refused, match="empty"):
        start_output(data, 1)
    gone = tmp_path / "gone.mp4"
    shutil.copy(r["boat"].path, gone)
    with data.db.write() as c:
        c.execute("UPDATE recording SET path = ? WHERE id = ?", (str(gone), r["boat"].id))
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["boat"].id, "start": 0, "length": 30})
    job = start_output(data, 1, Output(quality="small"), tmp_path / "x.mp4")
    gone.unlink()
    with pytest.raises(AssertionError, match="off-line"):
        finished(data)
    assert (
        jobs.get(data.db, job.id).state == "failed"
        and not (tmp_path / "x.mp4").exists()
        and not list(tmp_path.glob("*.part"))
    )


def test_jobs_go_on_after_a_restart_and_stop_when_told(
    clips: dict[str, Path], data: DataFolder, finished: Callable[[DataFolder], None]
) -> None:
    from kovel.services.footage.intake import bring_in
    from kovel.services.job_kinds import scheduler_for
    from kovel.store import projects

    p = projects.create(data.db, "P")
    r = bring_in(data, p.id, clips["talk"])
    (job,) = jobs.of_project(data.db, p.id)
    with data.db.write() as c:  # as a killed process leaves it
        c.execute("UPDATE job SET state = 'working', progress = 0.4, started = 1 WHERE id = ?", (job.id,))
    finished(data)
    assert recordings.get(data.db, r.id).ready and len(recordings.get(data.db, r.id).checksum) == 64
    jobs.again(data.db, job.id, "done")
    foreman = scheduler_for(data, workers=1)
    assert foreman.start() and not scheduler_for(data).start()  # one foreman a folder
    import time

    end = time.time() + 20
    while jobs.get(data.db, job.id).progress == 0 and time.time() < end:
        time.sleep(0.02)
    jobs.end(data.db, job.id, "cancelled")
    time.sleep(1.5)
    foreman.stop()
    assert jobs.get(data.db, job.id).state == "cancelled"


def test_sound_that_begins_later_or_at_another_rate_keeps_its_place(tmp_path: Path) -> None:
    """A click 1.5 s after the first picture lies at sample 72 000, whatever the stream's own start, rate or
    channels."""
    for name, rate, layout, delay in (
        ("late.mkv", 48000, "mono", 24000),
        ("cd.mkv", 44100, "stereo", 0),
        ("five.mkv", 48000, "5.1", 4800),
    ):
        path = tmp_path / name
        with av.open(str(path), "w") as c:
            v = c.add_stream("libx264", rate=25, options={"preset": "ultrafast"})
            v.width, v.height, v.pix_fmt = 64, 48, "yuv420p"
            a = c.add_stream("pcm_s16le", rate=rate, layout=layout)
            channels = a.codec_context.channels
            for n in range(75):
                f = av.VideoFrame(64, 48, "yuv420p")
                f.pts = n
                c.mux(v.encode(f))
            c.mux(v.encode(None))
            x = np.zeros((3 * rate - delay, channels), np.int16)
            x[rate * 3 // 2 - delay : rate * 3 // 2 - delay + rate // 100, :2] = 20000
            for i in range(0, len(x), 1000):
                f = av.AudioFrame.from_ndarray(np.ascontiguousarray(x[i : i + 1000].reshape(1, -1)), "s16", layout)
                f.sample_rate, f.pts, f.time_base = rate, delay + i, Fraction(1, rate)
                c.mux(a.encode(f))
            c.mux(a.encode(None))
        facts, media = derive(path, tmp_path / name.split(".")[0])
        pcm = np.fromfile(tmp_path / name.split(".")[0] / "sound.pcm", "<i2").reshape(-1, media["channels"])
        loud = np.flatnonzero(np.abs(pcm[:, 0].astype(int)) > 4000)
        assert abs(loud[0] - 72000) <= (0 if rate == 48000 else 2) and abs(len(pcm) - 144000) <= 48, (
            name,
            loud[0],
            len(pcm),
        )
        told = any(
            "mixed to two" in r or "sound channels" in r for r in facts["remarks"]
        )  # a container that keeps no layout tells of channels
        assert media["channels"] == (1 if layout == "mono" else 2) and told == (layout == "5.1")


def test_frames_are_exact_in_any_order_and_fit_the_project(clips: dict[str, Path], tmp_path: Path) -> None:
    """Forwards, backwards and at random in a recording with B-frames and a key frame every 250; letterboxed, never
    stretched."""
    path = tmp_path / "long.mp4"
    with av.open(str(path), "w") as c:
        v = c.add_stream("libx264", rate=25, options={"preset": "medium", "g": "250", "bf": "3"})
        v.width, v.height, v.pix_fmt = 640, 480, "yuv420p"
        for n in range(400):
            f = av.VideoFrame.from_ndarray(
                np.repeat(made.picture(1, n, 640, 480)[..., None], 3, 2), format="rgb24"
            ).reformat(format="yuv420p")
            f.pts = n
            c.mux(v.encode(f))
        c.mux(v.encode(None))
    reader = FrameReader(path, Rate(25))
    order = [0, 1, 2, 399, 398, 10, 260, 250, 249, 251, 5, *np.random.default_rng(1).integers(0, 400, 40).tolist(), 405]
    assert [made.read(made.luma(reader.get(n))) for n in order] == [(1, min(n, 399)) for n in order]
    y = made.luma(Fit(1280, 720)(reader.get(77)))
    assert (
        y.shape == (720, 1280)
        and y[:, :158].max() <= 18
        and y[:, -158:].max() <= 18
        and made.read(y[:, 160:1120]) == (1, 77)
    )
    upright = made.luma(Fit(1080, 1920)(reader.get(78)))
    assert made.read(upright[555:1365]) == (1, 78) and upright[:540].max() <= 18
    reader.close()


@pytest.mark.parametrize("limit", ["wall", "memory"])
def test_a_child_that_goes_wild_is_ended_and_told(
    limit: str, clips: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from kovel.media import child

    least = {"wall": 0.6} if limit == "wall" else {"memory": 0.176}
    monkeypatch.setitem(child.CALLS, "derive", replace(child.CALLS["derive"], cpu=60, **least))
    with pytest.raises(
        Unusable, match="took too long" if limit == "wall" else r"talk\.mov could not be worked on|more memory"
    ) as e:
        child.call(
            "derive",
            {
                "path": str(clips["talk"]),
                "out": str(tmp_path / "o"),
                "rate": [25, 1],
                "picture": True,
                "sound": True,
                "frames": 1000,
            },
        )
    assert "Traceback" not in str(e.value) and not (tmp_path / "o" / "media.json").exists()


def test_when_the_parent_of_all_children_dies_their_jobs_are_taken_up_again(
    clips: dict[str, Path], data: DataFolder
) -> None:
    import os
    import signal
    import time

    from kovel.media import fork_server
    from kovel.services.footage.intake import bring_in
    from kovel.services.job_kinds import scheduler_for
    from kovel.store import projects

    p = projects.create(data.db, "P")
    r = bring_in(data, p.id, clips["boat"])
    foreman = scheduler_for(data, workers=1)
    assert foreman.start()
    end = time.time() + 60
    while not jobs.in_state(data.db, "working") and time.time() < end:
        time.sleep(0.02)
    while fork_server._begun is None and time.time() < end:
        time.sleep(0.02)
    assert fork_server._begun
    os.kill(fork_server._begun.pid, signal.SIGKILL)
    while not recordings.get(data.db, r.id).ready and time.time() < end:
        time.sleep(0.05)
    foreman.stop()
    assert recordings.get(data.db, r.id).ready and not jobs.in_state(data.db, "failed")


def test_a_database_of_the_first_version_is_brought_up_to_date(tmp_path: Path) -> None:
    """Migrations run once each, in order, and keep what is there."""
    import sqlite3
    from importlib import resources

    from kovel.store.db import Database

    first_of = resources.files("kovel.store").joinpath("migrations")
    first = first_of.joinpath("0001_first.sql").read_text()
    c = sqlite3.connect(tmp_path / "kovel.db")
    c.executescript(
        first
        + "PRAGMA user_version = 1; INSERT INTO project (name, rate_num, rate_den, width, height) VALUES ('Old', 25, 1, 16, 9);"
    )
    c.close()
    for _ in range(2):
        db = Database(tmp_path / "kovel.db")
        names = {r[0] for r in db.read().execute("SELECT name FROM sqlite_master")}
        assert (
            db.read().execute("SELECT name FROM project").fetchone()[0] == "Old" and {"sentence", "word_time"} <= names
        )
        assert (
            db.read().execute("PRAGMA user_version").fetchone()[0] == len(list(first_of.iterdir()))
            and db.read().execute("PRAGMA journal_mode").fetchone()[0] == "wal"
        )
        db.close()
