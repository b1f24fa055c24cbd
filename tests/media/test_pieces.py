"""Pictures in pieces: exact wherever and in whatever order they are made, whole or not there, going on after a kill."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from random import Random

import av
import numpy as np
import pytest
from fastapi.testclient import TestClient

from kovel.core.errors import Invalid
from kovel.core.sound.peaks import coarser
from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder, look_at, media_facts
from kovel.jobs.kinds import SoFar
from kovel.media import own_pictures
from kovel.media.child import call
from kovel.media.derive import finish, make_look
from kovel.media.pieces import PIECE, Maker, frames_found, make_pieces, missing, place, read_piece, there
from kovel.media.proxy import byte_stream, parameter_sets
from kovel.media.soundtrack import make_sound
from kovel.services.footage import disk_space as room
from kovel.services.footage import preparing, relinking, thumbnails
from kovel.services.footage.intake import bring_in
from kovel.services.job_kinds import scheduler_for
from kovel.store import jobs, kept_settings, projects, recordings
from kovel.web.app import create_app
from tests import made

R = Rate(25)
TAGGED = {"x264-params": "colorprim=bt709:transfer=bt709:colormatrix=bt709"}
quiet: Callable[[float], None] = lambda x: None  # noqa: E731


@pytest.fixture(scope="module")
def long(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """70 s of coded pictures in groups of 250 with B-frames, with sound: as a camera records, only smaller."""
    path = tmp_path_factory.mktemp("long") / "long.mp4"
    made.clip(path, 3, 1750, size=(320, 180), gop=250)
    return path


def codes(piece: bytes) -> list[tuple[int, int] | None]:
    """The frame codes in a piece, decoded on its own."""
    p = read_piece(piece)
    c = av.CodecContext.create("h264", "r")
    frames = c.decode(av.Packet(parameter_sets(p.setup) + byte_stream(p.packets[0])))
    for x in p.packets[1:]:
        frames += c.decode(av.Packet(byte_stream(x)))
    return [made.read(made.luma(f)) for f in frames + c.decode(None)]


def test_pieces_are_exact_in_any_order(long: Path, tmp_path: Path) -> None:
    order = list(range(37))
    Random(4).shuffle(order)
    makers = [Maker(long, tmp_path, R, 1740) for _ in range(2)]  # thought to be shorter than it is
    for i, k in enumerate(order):
        assert list(makers[i % 2].run(k, k + 1)) == ([k] if k * PIECE < 1750 else [])
        if k < 36:
            assert codes(place(tmp_path, k).read_bytes()) == [(3, n) for n in range(k * PIECE, (k + 1) * PIECE)]
    assert frames_found(tmp_path) == 1750 and not missing(tmp_path, 1740) and there(tmp_path) == set(range(37))
    assert codes(place(tmp_path, 36).read_bytes()) == [(3, n) for n in range(1728, 1750)]
    make_sound(str(long), str(tmp_path), [25, 1], True, 1750, quiet)
    assert finish(str(long), str(tmp_path), [25, 1], True, True, 1740, quiet)["frames"] == 1750
    assert made.codes(tmp_path / "proxy.mp4") == [(3, n) for n in range(1750)]
    assert not (tmp_path / "pieces").exists() and not (tmp_path / "sound.json").exists()
    assert np.load(tmp_path / "greys.npy").shape == (1750, 9, 16) and np.load(tmp_path / "motion.npy").shape == (
        1750,
        4,
    )
    call(
        "derive",
        {
            "path": str(long),
            "out": str(tmp_path / "b"),
            "rate": [25, 1],
            "picture": True,
            "sound": True,
            "frames": 1750,
        },
    )
    a, b = (np.load(d / "motion.npy").astype(float) for d in (tmp_path, tmp_path / "b"))
    assert np.abs(a - b).max() < 0.05  # as if made in one go
    assert (tmp_path / "sound.pcm").read_bytes() == (tmp_path / "b" / "sound.pcm").read_bytes()


def test_killed_at_any_moment_nothing_is_broken_and_it_goes_on(long: Path, tmp_path: Path) -> None:
    """kill -9, eight times: every piece that is there is whole, and at most the one at hand is made twice."""
    code = (
        "import sys; from kovel.media.pieces import make_pieces;"
        f"make_pieces({str(long)!r}, {str(tmp_path)!r}, [25, 1], 1750, 0, None, lambda x: None, 1)"
    )
    r, kills, seen = Random(1), 0, set()
    for _ in range(60):
        p = subprocess.Popen([sys.executable, "-c", code], env=os.environ)
        time.sleep(0.45 + r.random() * 0.25)
        ended = p.poll() is not None
        p.send_signal(signal.SIGKILL)
        p.wait()
        assert seen <= there(tmp_path)  # what was there stays
        seen = there(tmp_path)
        kills += not ended
        if ended or kills == 8:
            break
    stamps = {k: place(tmp_path, k).stat().st_mtime_ns for k in seen}
    for k in seen:
        n = len(codes(place(tmp_path, k).read_bytes()))
        assert n == PIECE or k == 36
    make_pieces(str(long), str(tmp_path), [25, 1], 1750, 0, None, quiet)
    assert all(place(tmp_path, k).stat().st_mtime_ns == t for k, t in stamps.items())  # none made again
    finish(str(long), str(tmp_path), [25, 1], True, False, 1750, quiet)
    assert made.codes(tmp_path / "proxy.mp4") == [(3, n) for n in range(1750)]


def test_steps_share_the_work_and_end_it(tmp_path: Path) -> None:
    """Which calls there are for a recording of an hour, as its folder fills."""
    folder = tmp_path / "o"
    params = {"path": "/x.mov", "out": str(folder), "rate": [25, 1], "picture": True, "sound": True, "frames": 90_000}
    job = jobs.Job(1, 1, 1, "prepare", params, "working", 0, None, None, "", None)
    first = preparing.steps(job, SoFar(here=2))
    assert [s.name for s in first[:3]] == ["sound", "look", "pieces 0"] and first[0].urgency < first[2].urgency
    spans = [s.pieces for s in first if s.pieces]
    assert spans[0] == (0, 150) and all(a[1] == b[0] for a, b in pairwise(spans)) and spans[-1][1] is None
    rest = preparing.steps(job, SoFar(tuple(first[:4]), here=2))  # what is out is not handed out again
    assert rest[0].pieces == (300, 450) and "sound" not in {s.name for s in rest}
    (folder / "pieces").mkdir(parents=True)
    for k in range(1875):
        if k not in (3, 4, 500):
            place(folder, k).touch()
    (folder / "pieces" / "end.json").write_text(json.dumps({"frames": 90_000}))
    assert [s.pieces for s in preparing.steps(job, SoFar(here=2)) if s.pieces] == [(3, 5), (500, 501)]
    assert [s.pieces for s in preparing.steps(job, SoFar((first[2],), here=2)) if s.pieces] == [(500, 501)]
    for k in (3, 4, 500):
        place(folder, k).touch()
    assert [s.name for s in preparing.steps(job, SoFar(here=2))] == ["sound"]
    (folder / "sound.pcm").write_bytes(bytes(96_000))
    made.whole_sound(folder)
    assert [s.name for s in preparing.steps(job, SoFar(here=2))] == ["finish"] and preparing.steps(
        job, SoFar(tuple(first[-1:]), here=2)
    ) == []
    assert 0.9 < preparing.progress(job, SoFar()) < 1


def test_a_recording_opens_before_anything_is_made_of_it(long: Path, data: DataFolder) -> None:
    """Brought in with nobody at work: facts at once, a piece for whoever asks for it; then sound and looks as they
    come."""
    p = projects.create(data.db, "P", "25", "1280x720")
    r = bring_in(data, p.id, long, kind="interview")
    folder = data.derived(r.id)
    app = create_app(data, [], jobs=False)
    with TestClient(app, base_url="http://localhost:8463") as room:
        facts = room.get(f"/media/{r.id}/media.json").json()
        assert (facts["whole"], facts["sounded"], facts["samples"], facts["frames"]) == (False, False, 0, 1750)
        assert room.get(f"/p/{p.id}/log?rec={r.id}").status_code == 200
        got = room.get(f"/media/{r.id}/pieces/7")
        assert got.status_code == 200 and codes(got.content) == [(3, n) for n in range(7 * PIECE, 8 * PIECE)]
        assert there(folder) == {7}
        assert room.get(f"/media/{r.id}/pieces/40").status_code == 404  # behind the end
        assert room.get(f"/media/{r.id}/peaks.bin").content.endswith(bytes(12))  # none yet
        (folder / "peaks.raw").write_bytes(bytes(range(200)))
        (folder / "sound.pcm").write_bytes(bytes(96_000))
        assert room.get(f"/media/{r.id}/media.json").json()["samples"] == 48_000
        pairs = np.frombuffer(bytes(range(200)), np.int8).reshape(-1, 2)
        assert room.get(f"/media/{r.id}/peaks.bin").content.endswith(coarser(pairs, 64).tobytes())
        make_look(str(long), str(folder), [25, 1], 1750, quiet)
        assert media_facts(data, r.id)["small"]["count"] == 98  # type: ignore[index]
        assert room.get(f"/media/{r.id}/look-0.jpg").status_code == 200
        f = scheduler_for(data)
        assert f.start()
        while jobs.unfinished(data.db):
            time.sleep(0.05)
        f.stop()
        assert not jobs.in_state(data.db, "failed"), jobs.in_state(data.db, "failed")
        whole = room.get(f"/media/{r.id}/media.json").json()
        assert whole["whole"] and whole["samples"] >= 70 * 48_000 and recordings.get(data.db, r.id).checksum
        assert codes(room.get(f"/media/{r.id}/pieces/7").content) == [(3, n) for n in range(7 * PIECE, 8 * PIECE)]
        assert room.get(f"/media/{r.id}/pieces/40").status_code == 404


def test_what_needs_no_proxy_is_shown_as_it_is(tmp_path: Path, data: DataFolder) -> None:
    """Its own packets, from the moment it is brought in; the file moved, changed, gone; what stands beside the
    pictures is made."""
    src = made.clip(tmp_path / "short.mp4", 2, 1590, size=(320, 180), gop=10, **TAGGED)
    p = projects.create(data.db, "P", "25", "1280x720")
    r = bring_in(data, p.id, src, kind="interview")
    assert "Its own pictures are played: it needs no proxy." in r.remarks
    folder = data.derived(r.id)
    with TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463") as room_:
        facts = room_.get(f"/media/{r.id}/media.json").json()
        assert (facts["whole"], facts["own"], facts["gop"], facts["piece"], facts["frames"]) == (
            False,
            10,
            10,
            40,
            1590,
        )
        f = scheduler_for(data)
        assert f.start()
        assert codes(room_.get(f"/media/{r.id}/pieces/7").content) == [
            (2, n) for n in range(280, 320)
        ]  # as soon as it can
        assert not (folder / "media.json").exists()
        while jobs.unfinished(data.db):
            time.sleep(0.05)
        f.stop()
        assert not jobs.in_state(data.db, "failed"), jobs.in_state(data.db, "failed")
        facts = room_.get(f"/media/{r.id}/media.json").json()
        assert (facts["whole"], facts["own"], facts["gop"], facts["piece"], facts["frames"]) == (True, 10, 10, 40, 1590)
        assert facts["small"]["count"] > 50 and recordings.get(data.db, r.id).checksum
        assert not list(folder.glob("proxy*")) and not (folder / "pieces").exists()
        assert len(np.load(folder / "greys.npy")) == len(np.load(folder / "motion.npy")) == 1590
        last = read_piece(room_.get(f"/media/{r.id}/pieces/39").content)
        with av.open(str(src)) as c:
            packets = [bytes(x) for x in c.demux(c.streams.video[0]) if x.size]
        assert (
            len(last.packets) == 30 and list(last.packets) == packets[1560:] and (last.width, last.height) == (320, 180)
        )
        assert room_.get(f"/media/{r.id}/pieces/40").status_code == 404
        part = room_.get(
            f"/media/{r.id}/proxy.mp4", headers={"range": "bytes=100-199"}
        )  # for a page without its own decoder
        assert part.status_code == 206 and part.content == src.read_bytes()[100:200]
        seen = thumbnails.near(data, recordings.get(data.db, r.id), [5, 1234], p.rate)
        assert [x.shape for x in seen if x is not None] == [(180, 320, 3)] * 2
        got = [made.read((16 + 219 * x.mean(-1)).astype(np.uint8)) for x in seen if x is not None]
        assert got == [(2, 0), (2, 1230)]  # the key frames before
        assert (
            room.throw_pictures_away(data, r.id) == 0 and (folder / "media.json").exists()
        )  # there are none to be thrown away
        src.rename(tmp_path / "moved.mp4")
        assert (
            room_.get(f"/media/{r.id}/pieces/7").status_code == 404 == room_.get(f"/media/{r.id}/proxy.mp4").status_code
        )
        relinking.search(data, p.id, tmp_path)
        f = scheduler_for(data)
        assert f.start()
        while jobs.unfinished(data.db):
            time.sleep(0.05)
        f.stop()
        assert codes(room_.get(f"/media/{r.id}/pieces/7").content) == [(2, n) for n in range(280, 320)]
        with (tmp_path / "moved.mp4").open("ab") as more:
            more.write(b"x")
        assert room_.get(f"/media/{r.id}/pieces/7").status_code == 404  # another file


def test_only_what_any_page_can_show_is_shown_as_it_is(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    hd, stamps = (320, 180), [40 * n + (11 if n % 3 else 0) for n in range(100)]
    kinds = {
        "fit.mp4": made.clip(tmp_path / "fit.mp4", 1, 1000, size=hd, gop=12, **TAGGED),
        "every.mov": made.clip(tmp_path / "every.mov", 1, 100, Rate(30000, 1001), hd, gop=1, **TAGGED),
        "b-frames.mp4": made.clip(tmp_path / "b.mp4", 1, 100, size=hd, gop=12, bf="2", **TAGGED),
        "long groups.mp4": made.clip(tmp_path / "long.mp4", 1, 100, size=hd, gop=50, **TAGGED),
        "rolling refresh.mp4": made.clip(
            tmp_path / "rolling.mp4",
            1,
            100,
            size=hd,
            gop=12,
            **{"x264-params": TAGGED["x264-params"] + ":intra-refresh=1"},
        ),
        "uneven.mp4": made.clip(tmp_path / "uneven.mp4", 1, 100, size=hd, gop=12, stamps=stamps, **TAGGED),
        "turned.mp4": made.turned(made.clip(tmp_path / "turned.mp4", 1, 100, size=hd, gop=12, **TAGGED)),
        "small, so BT.601.mp4": made.clip(tmp_path / "sd.mp4", 1, 100, size=hd, gop=12),
        "matroska.mkv": made.clip(tmp_path / "k.mkv", 1, 100, size=hd, gop=12, **TAGGED),
        "large.mp4": made.clip(tmp_path / "uhd.mp4", 1, 24, size=(3840, 2160), gop=12),
        "lossless.mp4": made.clip(tmp_path / "lossless.mp4", 1, 24, size=hd, gop=1, crf="0", **TAGGED),
    }
    found = {name: call("probe", {"path": str(path)})["own"] for name, path in kinds.items()}
    assert {n: g for n, g in found.items() if g} == {"fit.mp4": 12, "every.mov": 1}
    with av.open(str(kinds["fit.mp4"])) as c:
        video, bits = c.streams.video[0], own_pictures.MOST_BITS
        first = next(c.decode(video))
        assert (
            own_pictures.group_of(c, video, first, R) == 12 and own_pictures.group_of(c, video, first, Rate(24)) == 0
        )  # frame n is not packet n
        monkeypatch.setattr(own_pictures, "MOST_BITS", 1000)
        assert own_pictures.group_of(c, video, first, R) == 0
        monkeypatch.setattr(own_pictures, "MOST_BITS", bits)
        monkeypatch.setattr(own_pictures, "_idr", lambda packet, setup: packet[4] & 31 == 9)
        assert own_pictures.group_of(c, video, first, R) == 0
        monkeypatch.undo()
    setup = bytes([1, 100, 0, 31, 255])  # units with four bytes of length before them (ISO/IEC 14496-15)
    unit = lambda kind: b"\0\0\0\2" + bytes([0x60 | kind, 0])  # noqa: E731
    assert (
        own_pictures._idr(unit(6) + unit(5), setup)
        and not own_pictures._idr(unit(6) + unit(1), setup)
        and not own_pictures._idr(unit(6), setup)
    )


def test_pausing_lets_go_and_going_on_loses_nothing(long: Path, data: DataFolder) -> None:
    p = projects.create(data.db, "P", "25", "1280x720")
    r = bring_in(data, p.id, long, kind="interview")
    (job,) = jobs.in_state(data.db, "waiting")
    f = scheduler_for(data)
    assert f.start()
    try:
        until = time.monotonic() + 60
        while len(there(data.derived(r.id))) < 3:
            assert time.monotonic() < until
            time.sleep(0.05)
        assert jobs.pause(data.db, [job.id], True) == 1
        while f._out and time.monotonic() < until:
            time.sleep(0.05)
        have = there(data.derived(r.id))
        time.sleep(1)
        assert there(data.derived(r.id)) == have and jobs.get(data.db, job.id).paused
        jobs.pause(data.db, [job.id], False)
        until = time.monotonic() + 150  # a busy machine takes its time
        while jobs.get(data.db, job.id).state in ("waiting", "working") and time.monotonic() < until:
            time.sleep(0.05)
        assert jobs.get(data.db, job.id).state == "done"
    finally:
        f.stop()
    assert made.codes(data.derived(r.id) / "proxy.mp4") == [(3, n) for n in range(1750)]


def test_pictures_go_when_there_is_no_room_and_come_back_when_looked_at(prepared: Path, tmp_path: Path) -> None:
    """Over the budget the recording that was looked at least loses its pictures, nothing else; a piece asked for is
    made again."""
    shutil.copytree(prepared, tmp_path / "data")
    data = DataFolder(tmp_path / "data")
    talk, fifty, boat = (r.id for r in recordings.of_project(data.db, 1))
    (data.root / "derived" / "99").mkdir()
    (data.root / "derived" / "99" / "sound.pcm").write_bytes(bytes(1000))  # of a recording that is gone
    for i, ago in ((talk, 5000), (fifty, 9000), (boat, 10)):
        look_at(data, i)
        os.utime(data.derived(i) / "looked", (time.time() - ago,) * 2)
    before = {i: room.taken(data.derived(i)) for i in (talk, fifty, boat)}
    assert room.make_room(data) == 1000 and not (data.root / "derived" / "99").exists()
    assert room.set_budget(data, "") is None
    for bad in ("much", "-3", "0", "nan"):
        with pytest.raises(Invalid, match="how many GB"):
            room.set_budget(data, bad)
    kept_settings.put(data.db, "budget", str((sum(t.all for t in before.values()) - 1000) / room.GB))
    assert room.make_room(data) > 0
    assert not (data.derived(fifty) / "proxy.mp4").exists() and (data.derived(talk) / "proxy.mp4").exists()
    facts = media_facts(data, fifty)
    assert facts and (facts["whole"], facts["sounded"], facts["samples"], facts["frames"]) == (
        False,
        True,
        24 * 48_000,
        1200,
    )
    kept_settings.put(data.db, "budget", "0.000001")
    look_at(data, talk)
    assert room.make_room(data) == 0 and (data.derived(talk) / "proxy.mp4").exists()  # looked at just now
    os.utime(data.derived(talk) / "looked", (time.time() - 5000,) * 2)
    assert room.make_room(data) > 0 and not (data.derived(talk) / "proxy.mp4").exists()
    assert before[boat].pictures == 0 and (data.derived(boat) / "media.json").exists()  # its own are shown
    with TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463") as page:
        assert page.get(f"/p/1/log?rec={fifty}").status_code == 200
        got = page.get(f"/media/{fifty}/pieces/3")
        assert codes(got.content) == [(2, n) for n in range(3 * PIECE, 4 * PIECE)]
        start = page.get("/").text
        assert "Room on the disk" in start and "takes" in start
