"""Cards: copied with checksums while they are read once, verified, gone on with after they were pulled out; doubles
are told."""

import hashlib
import os
import shutil
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from kovel.cli.common import wait_for
from kovel.core.errors import Invalid, Missing
from kovel.data_folder import DataFolder
from kovel.demo.cards import plug_in, pull_out
from kovel.media import mhl
from kovel.media.copying import copy
from kovel.media.files import Unusable
from kovel.services.footage import camera_cards
from kovel.store import jobs, projects, recordings
from tests.conftest import said


def over(data: DataFolder, job: int) -> jobs.Job:
    """A copy when it is over; what is made of the recordings afterwards is nothing to wait for here."""
    (done,) = wait_for(data, [job], quiet=True)
    return done


@pytest.fixture
def shoot(data: DataFolder) -> DataFolder:
    projects.create(data.db, "Shoot", "25")
    return data


def sums(folder: Path) -> dict[str, str]:
    return {
        str(p.relative_to(folder)): hashlib.sha256(p.read_bytes()).hexdigest() for p in sorted(folder.rglob("*.MP4"))
    }


def test_copied_verified_brought_in_and_known_again(shoot: DataFolder) -> None:
    folder = plug_in(shoot, "camera-b")
    (card,) = camera_cards.listing(shoot, 1)
    assert [f.path for f in card.files] == [
        f"DCIM/100CREEK/C000{n}.MP4" for n in (1, 2, 3, 4)
    ] and card.new == card.files
    before = sums(folder)
    job = camera_cards.start_copy(shoot, 1, card)
    with pytest.raises(Invalid, match="being copied already"):
        camera_cards.start_copy(shoot, 1, card)
    assert over(shoot, job.id).state == "done"
    out = Path(job.params["out"])
    assert sums(out) == before == sums(folder)  # the card is as it was
    rows = recordings.of_project(shoot.db, 1)
    assert {r.checksum for r in rows} == set(before.values()) and all(str(out) in r.path for r in rows)
    assert camera_cards.verify(out) == (4, []) and all(
        (folder / f).stat().st_mtime == pytest.approx((out / f).stat().st_mtime, abs=1) for f in before
    )
    (card,) = camera_cards.listing(shoot, 1)
    assert [f.taken for f in card.files] == ["C0001", "C0002", "C0003", "C0004"] and not card.new
    with pytest.raises(Invalid, match="here already"):
        camera_cards.start_copy(shoot, 1, card)
    renamed = folder / "DCIM" / "other.MP4"
    os.replace(folder / "DCIM/100CREEK/C0003.MP4", renamed)
    assert camera_cards.listing(shoot, 1)[0].new == ()  # the same file by any name


def test_pulled_out_half_way_it_goes_on_from_there(shoot: DataFolder) -> None:
    folder = plug_in(shoot, "camera-b", failing=True)
    want = {f: hashlib.sha256((folder / f).read_bytes()).hexdigest() for f in sums(folder)}
    (card,) = camera_cards.listing(shoot, 1)
    job = camera_cards.start_copy(shoot, 1, card)
    assert "safely copied; put it back" in over(shoot, job.id).message
    out = Path(job.params["out"])
    whole = sums(out)
    assert (
        0 < len(whole) < 4
        and whole.items() <= want.items()
        and not list(out.rglob("*.part"))
        and not recordings.of_project(shoot.db, 1)
    )
    pull_out(shoot, "camera-b")
    jobs.again(shoot.db, job.id)
    assert "could not be read any further" in over(shoot, job.id).message  # it is gone altogether
    first = next(iter(whole))
    at = (out / first).stat().st_mtime_ns
    plug_in(shoot, "camera-b")
    jobs.again(shoot.db, job.id)
    assert over(shoot, job.id).state == "done"
    result = jobs.get(shoot.db, job.id).result
    assert (
        result and set(result["before"]) == set(whole) and sums(out) == want and (out / first).stat().st_mtime_ns == at
    )
    assert camera_cards.verify(out) == (4, [])
    with pytest.raises(Missing, match="not plugged in"):
        pull_out(shoot, "recorder")


def test_what_is_damaged_after_the_copy_is_found(tmp_path: Path) -> None:
    card, out = tmp_path / "card", tmp_path / "out"
    (card / "a").mkdir(parents=True)
    for name, body in (("a/one.bin", b"1" * 9_000_000), ("two.bin", b"2" * 10), ("three.bin", b"")):
        (card / name).write_bytes(body)
    told = copy(str(card), ["a/one.bin", "two.bin"], str(out), lambda x: None)
    assert [r["size"] for r in told["copied"]] == [9_000_000, 10] and told["bytes"] == 9_000_010
    copy(str(card), ["a/one.bin", "two.bin", "three.bin"], str(out), lambda x: None)
    assert len(mhl.generations(out)) == 2 and mhl.verify(out) == (3, [])
    raw = bytearray((out / "a/one.bin").read_bytes())
    raw[4_000_000] ^= 4
    (out / "a/one.bin").write_bytes(raw)
    (out / "two.bin").unlink()
    (out / "three.bin").write_bytes(b"x")
    good, wrong = mhl.verify(out)
    assert good == 0 and sorted(wrong) == [
        "a/one.bin is damaged: its checksum is another one.",
        "three.bin has 1 bytes, not 0.",
        "two.bin is missing.",
    ]
    g = out / "ascmhl" / mhl.generations(out)[0]
    g.write_bytes(g.read_bytes().replace(b'size="10"', b'size="11"'))
    assert any("was changed after it was written" in x for x in mhl.verify(out)[1])
    for body in (b"tea", b'<!DOCTYPE x [<!ENTITY a "b">]><hashlist/>'):
        g.write_bytes(body)
        with pytest.raises(Unusable, match="no media hash list"):
            mhl.verify(out)
    with pytest.raises(Unusable, match="no manifest"):
        mhl.verify(card)


def test_manifests_are_those_of_the_standard(tmp_path: Path) -> None:
    """ASC MHL 2.0 against a manifest that the standard's reference package (`ascmhl` 1.2) wrote, kept in `data/mhl`;
    what is written here was verified by that package when it was made. C4 IDs: SMPTE ST 2114, its example "alfa"
    from memory."""
    theirs = tmp_path / "mt"
    shutil.copytree(Path(__file__).parent / "data" / "mhl", theirs)
    (theirs / "Clips").mkdir()
    (theirs / "Clips" / "a.txt").write_text("a\n")
    (theirs / "b.txt").write_text("b\n")
    assert mhl.verify(theirs) == (2, [])  # paths, sizes, MD5 and the chain's C4
    ours = tmp_path / "card"
    ours.mkdir()
    (ours / "b.txt").write_text("b\n")
    mhl.write(ours, [mhl.Hashed("b.txt", 2, 1_700_000_000.5, hashlib.md5(b"b\n").hexdigest())])
    known, made = (ET.parse(d / "ascmhl" / mhl.generations(d)[0]).getroot() for d in (theirs, ours))
    assert (made.tag, made.attrib) == (known.tag, known.attrib)

    def shape(x: ET.Element) -> dict[str, tuple[str, ...]]:
        return {y.tag: tuple(y.attrib) for y in x.iter()}

    assert shape(made).items() <= shape(known).items() and [x.tag for x in made] == [x.tag for x in known]
    chains = [ET.parse(d / "ascmhl" / "ascmhl_chain.xml").getroot() for d in (theirs, ours)]
    assert shape(chains[0]) == shape(chains[1])
    assert (
        mhl.c4(b"alfa") == "c43zYcLni5LF9rR4Lg4B8h3Jp8SBwjcnyyeh4bc6gTPHndKuKdjUWx1kJPYhZxYt3zV6tQXpDs2shPsPYjgG81wZM1"
    )


def test_on_the_page(room: TestClient, coded: tuple[DataFolder, dict]) -> None:
    data, _ = coded
    assert "No card is plugged in" in room.get("/p/1/cards").text
    assert "Plugged in" in said(room.post("/p/1/cards/switch", data={"name": "recorder", "on": "in"}))
    folder = camera_cards.place(data) / "recorder"
    assert "0001.WAV" in room.get("/p/1/cards/list").text
    assert (
        room.get("/p/1/cards/frame", params={"card": str(folder), "file": "SOUND/0001.WAV"}).status_code == 404
    )  # nothing to see
    plug_in(data, "camera-b")
    shown = room.get(
        "/p/1/cards/frame",
        params={"card": str(camera_cards.place(data) / "camera-b"), "file": "DCIM/100CREEK/C0001.MP4"},
    )
    assert shown.headers["content-type"] == "image/jpeg" and shown.content[:2] == b"\xff\xd8"
    for file in ("../../kovel.db", "/etc/passwd", "no.MP4"):
        assert room.get("/p/1/cards/frame", params={"card": str(folder), "file": file}).status_code == 422
    assert "Choose what to copy" in said(room.post("/p/1/cards/copy", data={"card": str(folder)}))
    assert "not on that card" in said(room.post("/p/1/cards/copy", data={"card": str(folder), "files": ["x"]}))
    assert "outside the folders" in said(room.post("/p/1/cards/copy", data={"card": "/etc", "files": ["passwd"]}))
    assert "1 file of recorder" in said(
        room.post("/p/1/cards/copy", data={"card": str(folder), "files": ["SOUND/0001.WAV"]})
    )
    over(data, jobs.of_project(data.db, 1, "copy")[0].id)
    page = room.get("/p/1/cards/list").text
    assert "1 file copied and verified" in page and "here as 0001" in page
    assert "Pulled out" in said(room.post("/p/1/cards/switch", data={"name": "recorder", "on": "out"}))
    assert room.post("/p/1/cards/switch", data={"name": "nobody", "on": "in"}).status_code == 404
