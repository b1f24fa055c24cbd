"""Papers: the paper cut, shots, the cue sheet, the list by tape: every use once, at the timecode that is on the
recording."""

import csv
import io
import json
import os
import re
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import av
import pytest
from click.testing import CliRunner
from fastapi.testclient import TestClient
from pypdf import PdfReader
from timecode import Timecode

from kovel.cli import main
from kovel.core.plan.outputs import OUTPUT_KINDS, Coding, Kind, Output
from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.exchange.caption_formats import CAPTION_FORMATS, CaptionFormat
from kovel.exchange.document_pdf import to_pdf
from kovel.exchange.documents import DOCUMENTS, Document, DocumentKind, to_csv
from kovel.exchange.timelines import TIMELINES
from kovel.media.encode import PictureFile
from kovel.services.handoff.story_documents import document
from kovel.store import stories, transcripts
from kovel.store.recordings import Recording
from kovel.web.app import create_app

Coded = tuple[DataFolder, dict[str, Recording]]


@pytest.fixture
def cut(coded: Coded) -> Coded:
    data, r = coded
    with data.db.write() as c:
        c.execute("UPDATE recording SET start_timecode = '14:22:05:10', roll = 'M1' WHERE id = ?", (r["talk"].id,))
    transcripts.set_words(
        data.db,
        r["talk"].id,
        [Word(w, 48_000 * (4 + i), 48_000 * (5 + i) - 4_800, "maren") for i, w in enumerate(["=We", "haul", "it."])],
    )
    for name, params in (
        ("add_at_end", {"source": r["talk"].id, "start": 100, "length": 60}),
        ("add_at_end", {"source": r["fifty"].id, "start": 20, "length": 50}),
        ("set_heading", {"piece": 1, "heading": "River"}),
        ("lay_cover", {"source": r["boat"].id, "at": 20, "until": 50, "start": 5}),
        ("set_speed", {"item": stories.load(data.db, 1).story.next_id, "percent": 200, "keep": "place"}),
    ):
        if name == "set_speed":
            params = {**params, "item": stories.load(data.db, 1).story.covers[0].id}
        stories.edit(data.db, 1, None, name, params)
    stories.edit(
        data.db, 1, None, "lay_sound", {"source": r["boat"].id, "at": 10, "until": 90, "start": 3, "kind": "music"}
    )
    return coded


def test_every_use_stands_at_its_own_timecode(cut: Coded) -> None:
    """Against the package `timecode`: frame 100 of a recording that starts at 14:22:05:10."""
    data, _ = cut
    kept = stories.load(data.db, 1)
    own = Timecode(25, "14:22:05:10")
    rows = document(data, kept, "cut").rows
    assert rows[0][2] == "RIVER" and rows[1] == (
        "00:00:00:00",
        "00:00:02:10",
        "talk",
        str(own + 100),
        str(own + 160),
        "Maren",
        "=We haul",
    )
    assert rows[2][2] == "fifty" and rows[2][3] == "00:00:00:40"  # at its own fifty frames a second
    (shot,) = document(data, kept, "shots").rows
    assert (
        shot[:4] == ("00:00:00:20", "00:00:02:00", "1", "boat")
        and shot[-1] == "200 %"
        and shot[5:7] == ("00:00:00:05", "00:00:02:15")
    )
    (cue,) = document(data, kept, "music").rows
    assert cue[0] == "1" and cue[3] == "0:03+05" and cue[4] == "boat"
    tapes = document(data, kept, "tapes").rows
    assert (
        len(tapes) == 4
        and [t[4] for t in tapes if t[1] == "talk"] == ["dialogue"]
        and tapes == tuple(sorted(tapes, key=lambda t: (t[0], t[1], t[2])))
    )
    assert document(data, kept, "faults").heads == ("Begins", "What")
    # by hand: Maren's piece is 60 frames of 25 a second, and two of her words begin in it
    assert document(data, kept, "speakers").rows == (("Maren", "1", "0:02+10", "100 %", "2", "50"),)


def test_as_csv_and_to_print(cut: Coded, room: TestClient) -> None:
    for kind, (title, heads) in ((d.name, (d.title, d.heads)) for d in DOCUMENTS.values()):
        text = room.get(f"/p/1/papers/{kind}.csv").text
        rows = list(csv.reader(io.StringIO(text)))
        page = room.get(f"/p/1/papers/{kind}").text
        assert tuple(rows[0]) == heads and title in page and page.count("<tr>") == max(2, len(rows))
    assert "'=We haul" in room.get("/p/1/papers/cut.csv").text  # no formula
    assert room.get("/p/1/papers/tea").status_code == 404 and room.get("/p/1/papers/tea.csv").status_code == 404
    assert re.search(r'href="/p/1/papers/cut"', room.get("/p/1/handoff").text)
    assert to_csv(Document("x", ("a", "b"), (('say "so"', "1,2"),))) == 'a,b\r\n"say ""so""","1,2"\r\n'


def test_a_paper_as_pdf_has_every_word_on_its_pages(
    cut: Coded, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    """Read back by pypdf: rows and headings, every page with its heading and number; odd letters and long texts."""
    data, _ = cut
    app = TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463", headers={"x-kovel": "1"})
    got = app.get("/p/1/papers/cut.pdf")
    assert got.headers["content-type"] == "application/pdf" and "Paper cut.pdf" in got.headers["content-disposition"]
    (page,) = PdfReader(io.BytesIO(got.content)).pages
    text = page.extract_text()
    for row in document(data, stories.load(data.db, 1), "cut").rows:
        assert all(x in text for x in row), row
    assert "1 of 1" in text and page.mediabox.width > page.mediabox.height
    empty = (
        PdfReader(io.BytesIO(to_pdf(Document("To look at", DOCUMENTS["faults"].heads, ()), "P", "S", "0:00")))
        .pages[0]
        .extract_text()
    )
    assert "Nothing." in empty
    assert app.get("/p/1/papers/lies.pdf").status_code == 404
    out = tmp_path / "cut.pdf"
    told = CliRunner().invoke(main, ["papers", "shots", "--data", str(data.root), "--out", str(out), "--json"])
    assert json.loads(told.output)["rows"] == 1 and "200 %" in PdfReader(out).pages[0].extract_text()
    heads = DOCUMENTS["cut"].heads
    rows = tuple(
        (
            f"{n}",
            "",
            "a name without end " * 6,
            "14:22:05:10",
            "",
            "Zoë",
            f"begins {n} " + "and goes on " * 40 + f"ends {n}",
        )
        for n in range(40)
    )
    long = PdfReader(io.BytesIO(to_pdf(Document("Paper cut", heads, rows), "日本 \U0001f600 \ud83d", "S\n\t", "1:00")))
    assert not caplog.records  # nothing that could not be written
    words = " ".join(" ".join(p.extract_text() for p in long.pages).split())
    assert len(long.pages) > 3 and all(f"begins {n} " in words and f"ends {n}" in words for n in range(40))
    assert all(heads[-1] in p.extract_text() for p in long.pages) and f"2 of {len(long.pages)}" in words


def with_pictures(path: Path) -> None:
    """Two frames written as the kind that a test has added."""
    file = PictureFile(path, Output(kind="mkv"), (64, 48), Rate(25))
    for _ in range(2):
        file.add(av.VideoFrame(64, 48, "yuv420p"))
    file.finish()
    with av.open(str(path)) as container:
        assert container.format.name.startswith("matroska") and len(list(container.decode(video=0))) == 2


def test_a_new_format_is_one_entry(coded: Coded, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A document, a caption format, a timeline format and an output of one's own: on the page, at their address, on the
    command line."""
    data, r = coded
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["talk"].id, "start": 0, "length": 50})
    lasts = DocumentKind("lasts", "Running order", ("Lasts",), lambda told: iter([(str(told.story.length),)]))
    monkeypatch.setitem(DOCUMENTS, "lasts", lasts)
    counted = CaptionFormat("count", "Count", ".txt", "text/plain", lambda c: f"{len(c.cues)} in {c.length}")
    monkeypatch.setitem(CAPTION_FORMATS, "count", counted)
    mkv = Kind(
        "mkv", "MKV: H.264 and FLAC", ".mkv", (8_000_000, 2_500_000), coding=Coding("matroska", "flac", "libx264")
    )
    monkeypatch.setitem(OUTPUT_KINDS, "mkv", mkv)
    with_pictures(tmp_path / "new.mkv")
    edl = TIMELINES["edl"]
    monkeypatch.setitem(
        TIMELINES, "names", replace(edl, name="names", label="Names", write=lambda story, name, *of: name)
    )
    with TestClient(create_app(data, [], jobs=False), base_url="http://localhost:8463") as page:
        handoff = page.get("/p/1/handoff").text
        assert (
            "MKV: H.264 and FLAC" in handoff
            and "running order" in handoff
            and ">Names</a>" in handoff
            and ".otio,.edl,.names" in handoff
        )
        assert ">Count</a>" in page.get("/p/1/captions").text and page.get("/p/1/captions.count").text == "0 in 50"
        assert page.get("/p/1/papers/lasts.csv").text.split() == ["Lasts", "50"]
        assert page.get("/p/1/export/names").text == stories.load(data.db, 1).name
    printed = subprocess.run(
        [sys.executable, "-c", SEEN], capture_output=True, text=True, env={**os.environ, "PYTHONPATH": "src"}
    )
    assert printed.stdout.split("\n")[:3] == ["lasts", "count", "names"], printed.stderr


SEEN = """
from kovel.exchange.caption_formats import CAPTION_FORMATS
from kovel.exchange.documents import DOCUMENTS
from kovel.exchange.timelines import TIMELINES
for kinds, name in ((DOCUMENTS, "lasts"), (CAPTION_FORMATS, "count"), (TIMELINES, "names")):
    kinds[name] = next(iter(kinds.values()))
from kovel.cli.out import captions, export, papers
for command, name in ((papers, "kind"), (captions, "kind"), (export, "kind")):
    print(next(p for p in command.params if p.name == name).type.choices[-1])
"""
