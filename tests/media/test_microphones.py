"""Several microphones in a file: each is reached, sample by sample; names and times that recorders write (EBU Tech
3285, iXML)."""

import shutil
import struct
import wave
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from fastapi.testclient import TestClient

from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.media.microphones import names_of, written
from kovel.media.probe import probe
from kovel.media.soundtrack import make_sound, samples_of
from kovel.services.footage.intake import bring_in, in_project
from kovel.store import projects, recordings
from kovel.web.app import create_app
from tests.conftest import said

RATE = 48_000
IXML = (
    '<?xml version="1.0"?><BWFXML><TRACK_LIST><TRACK_COUNT>4</TRACK_COUNT><TRACK><CHANNEL_INDEX>1</CHANNEL_INDEX><NAME>Boom</NAME></TRACK>'
    "<TRACK><CHANNEL_INDEX>3</CHANNEL_INDEX><NAME> Anna  lav "
    "</NAME></TRACK><TRACK><CHANNEL_INDEX>99</CHANNEL_INDEX></TRACK></TRACK_LIST></BWFXML>"
)


def noise(channels: int, seconds: float = 1.5) -> np.ndarray:
    """(n, channels) int16: no two channels alike."""
    return np.random.default_rng(channels).integers(-9000, 9000, (int(RATE * seconds), channels)).astype(np.int16)


def chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack("<I", len(body)) + body + bytes(len(body) % 2)


def poly(path: Path, x: np.ndarray, ixml: str = "", reference: int | None = None) -> Path:
    """A WAV of a recorder with so many channels, with its chunks."""
    with wave.open(str(path), "wb") as w:
        w.setparams((x.shape[1], 2, RATE, 0, "NONE", ""))
        w.writeframes(x.astype("<i2").tobytes())
    body = path.read_bytes()
    more = chunk(b"iXML", ixml.encode()) if ixml else b""
    if reference is not None:
        more = chunk(b"bext", bytes(338) + struct.pack("<Q", reference) + struct.pack("<H", 1) + bytes(254)) + more
    body = body[:36] + more + body[36:]  # before the samples, behind the format
    path.write_bytes(body[:4] + struct.pack("<I", len(body) - 8) + body[8:])
    return path


def tracks(path: Path, x: np.ndarray, titles: tuple[str, ...] = (), late: int = 0) -> Path:
    """A MOV with a track of one channel for each; the last one begins `late` samples later."""
    with av.open(str(path), "w") as c:
        streams = [c.add_stream("pcm_s16le", rate=RATE, layout="mono") for _ in range(x.shape[1])]
        for s, t in zip(streams, titles, strict=False):
            s.metadata["title"] = t
        for k, s in enumerate(streams):
            for a in range(0, len(x), 1024):
                f = av.AudioFrame.from_ndarray(np.ascontiguousarray(x[None, a : a + 1024, k]), "s16", "mono")
                f.rate, f.pts, f.time_base = RATE, a + (late if k == len(streams) - 1 else 0), Fraction(1, RATE)
                c.mux(s.encode(f))
            c.mux(s.encode(None))
    return path


def heard(path: Path, folder: Path, *which: int) -> np.ndarray:
    shutil.rmtree(folder, ignore_errors=True)  # as the application does when other microphones are chosen
    made = make_sound(str(path), str(folder), [25, 1], False, 40, lambda _: None, list(which))
    out = np.array(samples_of(folder / "sound.pcm", made["channels"]))
    assert made == {"samples": len(out), "channels": out.shape[1]}
    return out


@pytest.mark.parametrize("make", [poly, tracks])
def test_every_microphone_is_reached_to_the_sample(make: Callable[[Path, np.ndarray], Path], tmp_path: Path) -> None:
    x = noise(4)
    path = make(tmp_path / ("a.wav" if make is poly else "a.mov"), x)
    facts = probe(str(path))
    assert facts["microphones"] == ["1", "2", "3", "4"] and facts["heard"] == [0, 1] and facts["channels"] == 2
    assert "It has 4 sound channels: 1, 2, 3, 4." in facts["remarks"]
    for which in ([0, 1], [3, 0], [2], [1, 2]):
        assert np.array_equal(heard(path, tmp_path / "out", *which), x[:, which])


def test_tracks_that_begin_later_keep_their_place(tmp_path: Path) -> None:
    x = noise(2)
    path = tracks(tmp_path / "late.mov", x, late=4800)
    facts = probe(str(path))
    assert facts["heard"] == [0, 1]
    made = make_sound(str(path), str(tmp_path / "o"), [25, 1], False, 40, lambda _: None, [0])
    assert made["samples"] == len(x)
    both = heard(path, tmp_path / "o2", 0, 1)
    assert np.array_equal(both[: len(x), 0], x[:, 0]) and not both[len(x) :, 0].any()
    at = int(np.argmax(both[:, 1] != 0))
    assert np.array_equal(both[at : at + len(x), 1], x[:, 1]) and len(both) - at == len(x)


def test_what_a_recorder_writes_is_read(tmp_path: Path) -> None:
    """Names of tracks; a time reference of ten hours, as frames of the project's rate."""
    path = poly(tmp_path / "T01.wav", noise(4), IXML, 36_000 * RATE + RATE // 2)
    facts = probe(str(path))
    assert facts["microphones"] == ["Boom", "2", "Anna lav", "4"] and facts["began"] == [72_001, 2]
    for rate, timecode in ((Rate(25), "10:00:00:13"), (Rate(24), "10:00:00:12"), (Rate(30_000, 1001), "09:59:24:16")):
        assert in_project(facts, rate)["start_timecode"] == timecode
    titled = tracks(tmp_path / "t.mov", noise(3), ("Boom", "", "Lav"))
    assert probe(str(titled))["channels"] == 2
    assert written(tmp_path / "T01.wav") == {1: "Boom", 3: "Anna lav", 99: ""}
    with av.open(str(path)) as c:
        assert names_of(path, c, 4)[0] == "Boom"


@pytest.mark.parametrize(
    "ixml",
    [
        "<BWFXML><TRACK>",
        "x" * 3000,
        '<!DOCTYPE a [<!ENTITY b "cccc">]><BWFXML>&b;</BWFXML>',
        "<a>\x00</a>",
        "<BWFXML><TRACK><CHANNEL_INDEX>-1</CHANNEL_INDEX><NAME>x</NAME></TRACK></BWFXML>",
    ],
)
def test_a_broken_chunk_brings_nothing_down(ixml: str, tmp_path: Path) -> None:
    x = noise(3)
    path = poly(tmp_path / "b.wav", x, ixml)
    assert probe(str(path))["microphones"] == ["1", "2", "3"]
    assert np.array_equal(heard(path, tmp_path / "o", 2), x[:, 2:])
    body = bytearray(path.read_bytes())
    body[40:44] = b"\xff\xff\xff\x7f"  # a chunk that says it is longer than the file
    (tmp_path / "c.wav").write_bytes(body)
    assert written(tmp_path / "c.wav") == {}


def test_stereo_mono_and_surround_stay_as_they_were(tmp_path: Path) -> None:
    for channels in (1, 2):
        path = poly(tmp_path / f"{channels}.wav", noise(channels))
        facts = probe(str(path))
        assert facts["heard"] == [] and facts["channels"] == channels and len(facts["microphones"]) in (0, 2)
        assert np.array_equal(heard(path, tmp_path / "o"), noise(channels))


def test_microphones_are_chosen_in_footage(
    data: DataFolder, tmp_path: Path, finished: Callable[[DataFolder], None]
) -> None:
    p = projects.create(data.db, "P", "25", "1280x720")
    x = noise(4)
    path = poly(tmp_path / "T01.wav", x, IXML, 3600 * RATE)
    r = bring_in(data, p.id, path)
    assert r.start_timecode == "01:00:00:00" and r.microphones[2] == "Anna lav" and r.heard == (0, 1)
    finished(data)
    room = TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463", headers={"x-kovel": "1"})
    page = room.get(f"/p/{p.id}/footage").text
    assert "1 Boom · 2" in page and "3 Anna lav" in page
    url = f"/p/{p.id}/recordings/{r.id}/hear"
    assert "Anna lav and 4 are heard" in said(room.post(url, data={"heard": "2 3"}))
    finished(data)
    now = recordings.get(data.db, r.id)
    assert now.heard == (2, 3) and now.source.channels == 2
    assert np.array_equal(samples_of(data.derived(r.id) / "sound.pcm", 2), x[:, 2:])
    room.post(url, data={"heard": "2"})
    assert recordings.get(data.db, r.id).source.channels == 1
    for bad in ("", "9", "0 0", "0 1 2", "x", "-1", "2"):
        assert room.post(url, data={"heard": bad}).status_code == 422
    copy = projects.duplicate(data.db, p.id)
    assert [y.heard for y in recordings.of_project(data.db, copy.id)] == [(2,)]
    path.unlink()
    assert "off-line" in said(room.post(url, data={"heard": "0"}))
