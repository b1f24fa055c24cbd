"""A project in one file and out again: the same stories, undo step by step, log, words, captions; anything odd is
refused whole."""

import json
import shutil
import zipfile
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from fastapi.testclient import TestClient

from kovel.cli.common import wait_for
from kovel.core.errors import Invalid
from kovel.core.story.patch import story_to_json
from kovel.core.time.rate import Rate
from kovel.core.words.transcript import Word
from kovel.data_folder import DataFolder
from kovel.media.derive import checksum
from kovel.media.reader import FrameReader
from kovel.services.footage.intake import bring_in
from kovel.services.handoff import archiving
from kovel.store import (
    archive_rows,
    caption_rows,
    history,
    jobs,
    looks,
    markers,
    projects,
    recordings,
    steps,
    stories,
    subclips,
    transcripts,
)
from kovel.store.recordings import Recording
from tests import made
from tests.conftest import finish, said
from tests.media.test_cutting import N as FILMED
from tests.media.test_cutting import filmed
from tests.media.test_media import build
from tests.test_finding import relink

Coded = tuple[DataFolder, dict[str, Recording]]


def write(data: DataFolder, out: Path, media: archiving.Media = "none") -> archiving.Archived:
    """A project's file, once it is whole."""
    job, what = archiving.start_archive(data, 1, media, out)
    (done,) = wait_for(data, [job.id], quiet=True)
    assert done.state == "done" and done.result and done.result["bytes"] == out.stat().st_size, done.message
    assert not list((data.root / "archives").iterdir())
    return what


@pytest.fixture
def full(coded: Coded) -> Coded:
    """A project in which everything is used: log and its undo, words, story with undo and redo, captions, settings,
    a group."""
    data, r = coded
    transcripts.set_words(
        data.db,
        r["talk"].id,
        [Word(w, 48_000 * i, 48_000 * i + 40_000, "maren") for i, w in enumerate(["We", "haul", "it", "by", "hand."])],
    )
    c = subclips.add(data.db, r["talk"].id, 10, 90, name="by hand")
    subclips.add(data.db, r["boat"].id, 0, 40)
    subclips.remove(data.db, [c.id])
    steps.undo_or_redo(data.db, 1)
    markers.add(data.db, r["fifty"].id, 7, "bell")
    recordings.set_value(data.db, r["talk"].id, "brightness", 0.3)
    build(data, r)
    for name, params in (
        ("set_group", {"ids": [p.id for p in stories.load(data.db, 1).story.pieces[:2]]}),
        ("set_value", {"to": "story", "setting": "level", "value": -2}),
        ("set_value", {"to": f"recording {r['talk'].id}", "setting": "warmth", "value": 12}),
        ("lay_title", {"at": 5, "text": "Maren", "length": 50}),
        ("set_heading", {"piece": stories.load(data.db, 1).story.pieces[0].id, "heading": "River"}),
    ):
        stories.edit(data.db, 1, None, name, params)
    history.undo(data.db, 1)
    caption_rows.change(data.db, 1, (r["talk"].id, 0), "We haul", "We pull")
    return data, r


def told(data: DataFolder, project: int) -> dict[str, Any]:
    """All of a project that an editor knows of, without the numbers of its recordings."""
    names = {r.id: r.name for r in recordings.of_project(data.db, project)}
    sid = stories.current(data.db, project)

    def named(story: dict[str, Any]) -> dict[str, Any]:
        for k in ("pieces", "covers", "loose", "sounds", "loose_sounds"):
            for row in story[k]:
                row[1] = names.get(row[1], row[1])
        story["settings"] = {
            " ".join(names.get(int(x), x) if x.isdecimal() else x for x in k.split()): v
            for k, v in story["settings"].items()
        }
        return story

    out: dict[str, Any] = {"now": named(story_to_json(stories.load(data.db, sid).story)), "undone": [], "redone": []}
    while stories.load(data.db, sid).can_undo:
        out["undone"].append(
            [history.undo(data.db, sid)[1].did, named(story_to_json(stories.load(data.db, sid).story))]
        )
    while stories.load(data.db, sid).can_redo:
        out["redone"].append(
            [history.redo(data.db, sid)[1].did, named(story_to_json(stories.load(data.db, sid).story))]
        )
    out["log"] = [(names[c.recording], c.name, c.start, c.length) for c in subclips.of_project(data.db, project)]
    out["words"] = {names[i]: [w.text for w in transcripts.words(data.db, i)] for i in names}
    out["edits"] = {names[i]: v for (i, _), v in caption_rows.edits(data.db, sid).items()}
    out["set"] = {r.name: r.settings for r in recordings.of_project(data.db, project)}
    out["found"] = len(transcripts.search(data.db, project, "haul"))
    return out


@pytest.mark.parametrize("media", ["none", "pictures", "used", "all"])
def test_it_is_the_same_project_elsewhere_undo_included(full: Coded, tmp_path: Path, media: archiving.Media) -> None:
    data, _ = full
    done = write(data, tmp_path / "film.kovel.zip", media)
    assert (done.recordings, done.media) == (
        3,
        0 if media == "none" else 3,
    ) and not done.missing
    with zipfile.ZipFile(tmp_path / "film.kovel.zip") as z:  # as it is documented: JSON Schema, draft 2020-12
        schema = json.loads((Path(__file__).parent.parent / "docs" / "archive.schema.json").read_text())
        jsonschema.Draft202012Validator(schema).validate(json.loads(z.read("project.json")))
    want = told(data, 1)
    assert len(want["undone"]) > 8 and len(want["redone"]) > 8 and want["log"] and want["found"] == 1
    elsewhere = DataFolder(tmp_path / "elsewhere")
    there = archiving.read(elsewhere, tmp_path / "film.kovel.zip")
    assert told(elsewhere, there.project) == want and there.name == "Coded"
    if media != "none":
        for r in recordings.of_project(elsewhere.db, there.project):
            assert str(elsewhere.root) in r.path and Path(r.path).stat().st_size == r.size
    beside = archiving.read(
        data, tmp_path / "film.kovel.zip"
    )  # in the folder it came from: a second one, apart from the first
    assert beside.name == "Coded (2)" and told(data, beside.project) == want
    steps.undo_or_redo(data.db, beside.project)
    steps.undo_or_redo(elsewhere.db, there.project)
    assert told(data, beside.project) == told(elsewhere, there.project) != want  # the log's last step, undone in both
    steps.undo_or_redo(elsewhere.db, there.project, redo=True)
    stories.edit(data.db, stories.current(data.db, beside.project), None, "extract", {"a": 0, "b": 20})
    assert told(data, 1) == told(elsewhere, there.project)
    projects.remove(data.db, beside.project)
    assert told(data, 1) == told(elsewhere, there.project)


def test_an_editors_own_undo_is_known_elsewhere(full: Coded, tmp_path: Path) -> None:
    """What an editor took back from under another's edit is done again in another folder, whose numbers are others."""
    data, _ = full
    for length, who in ((10, "ana"), (20, "ben")):
        data.db.editor = lambda who=who: (who, who)  # type: ignore[misc]
        stories.edit(data.db, 1, None, "insert_space", {"at": 0, "length": length})
    data.db.editor = lambda: ("ana", "ana")
    assert history.undo(data.db, 1)[1].did == "Undone: A space of 10 frames"
    write(data, tmp_path / "film.kovel.zip", "none")
    beside = archiving.read(data, tmp_path / "film.kovel.zip")  # in the same folder: every number is moved
    sid = stories.current(data.db, beside.project)
    with pytest.raises(history.Others, match=r"^The last edit is by ben"):  # hers is taken back already
        history.undo(data.db, sid)
    assert history.redo(data.db, sid)[1].did == "Done again: A space of 10 frames"
    assert [p.length for p in stories.load(data.db, sid).story.pieces[:2]] == [20, 10]
    assert history.undo(data.db, sid)[1].did == "Undone: A space of 10 frames"


def test_files_that_are_gone_are_told_and_an_older_one_is_brought_up(full: Coded, tmp_path: Path) -> None:
    data, r = full
    moved = tmp_path / "moved.mp4"
    shutil.copy(r["boat"].path, moved)
    archive_rows.moved_to(data.db, r["boat"].id, str(moved))
    write(data, tmp_path / "a.zip")
    moved.unlink()
    assert write(data, tmp_path / "b.zip", "all").missing == ("boat",)
    there = archiving.read(DataFolder(tmp_path / "other"), tmp_path / "a.zip")
    assert there.missing == ("boat",)
    number, tables = archive_rows.rows_of(data.db, 1)
    old = {t: rows for t, rows in tables.items() if not t.startswith("caption")}
    p, _ = archive_rows.put(data.db, number - 1, old, "Before")  # of a Kovel that had no captions
    assert stories.load(data.db, stories.current(data.db, p.id)).story.length == stories.load(data.db, 1).story.length
    with pytest.raises(Invalid, match="newer Kovel"):
        archive_rows.put(data.db, number + 1, tables, "After")


def test_only_the_pictures_that_are_used_go_along(coded: Coded, tmp_path: Path) -> None:
    """Fourteen seconds of which the stories show two: the file is smaller, and what it shows and says is the same
    there."""
    data, r = coded
    long = filmed(tmp_path / "long.mp4", "libx264", "aac", {"preset": "ultrafast"})
    added = bring_in(data, 1, long, name="long", kind="interview")
    recordings.set_whole(data.db, added.id, checksum(long), FILMED)
    stories.edit(data.db, 1, None, "add_at_end", {"source": added.id, "start": 120, "length": 50})
    stories.edit(data.db, 1, None, "add_at_end", {"source": r["boat"].id, "start": 0, "length": 20})
    ranges = archiving.used_ranges(data, 1, 1.0)
    assert ranges == {added.id: [(Fraction(19, 5), Fraction(39, 5))], r["boat"].id: [(Fraction(0), Fraction(9, 5))]}
    write(data, tmp_path / "small.zip", "pictures")
    with zipfile.ZipFile(tmp_path / "small.zip") as z:
        about = json.loads(z.read("project.json"))
        names = {x.filename: x.file_size for x in z.infolist()}
    assert str(added.id) in about["cut"] and about["media"][str(added.id)].endswith("long, used pictures.mov")
    assert names[about["media"][str(added.id)]] == about["cut"][str(added.id)]["size"] < 0.9 * long.stat().st_size
    jsonschema.Draft202012Validator(
        json.loads((Path(__file__).parent.parent / "docs" / "archive.schema.json").read_text())
    ).validate(about)
    there = DataFolder(tmp_path / "there")
    archiving.read(there, tmp_path / "small.zip")
    finish(there)
    short = next(x for x in recordings.of_project(there.db, 1) if x.name == "long")
    assert short.frames == FILMED and "Only the pictures that a story uses are here" in short.remarks[-1]
    assert told(there, 1)["now"] == told(data, 1)["now"]
    seen = FrameReader(Path(short.path), Rate(25))
    assert [made.read(made.luma(seen.get(n))) for n in (120, 145, 169)] == [(1, 120), (1, 145), (1, 169)]
    (tmp_path / "whole").mkdir()
    shutil.copy(long, tmp_path / "whole")  # the whole recording takes its place again, and the remark goes
    assert dict(relink(there, 1, tmp_path / "whole", better=True).better) == {
        "long": str(tmp_path / "whole" / "long.mp4")
    }
    assert not any("Only the pictures" in x for x in recordings.get(there.db, short.id).remarks)


def spoilt(path: Path, out: Path, **change: Any) -> Path:
    """A copy of an archive with its description changed, or without a file."""
    with zipfile.ZipFile(path) as z, zipfile.ZipFile(out, "w") as o:
        for x in z.infolist():
            body = z.read(x)
            if x.filename == "project.json":
                body = json.dumps(json.loads(body) | change).encode()
            elif x.filename.startswith("media/"):
                body = body[: len(body) // 2]
            o.writestr(x.filename, body)
    return out


def test_what_is_odd_is_refused_and_leaves_nothing(full: Coded, tmp_path: Path) -> None:
    data, _ = full
    good = tmp_path / "good.zip"
    write(data, good, "used")
    before = [p.name for p in projects.listing(data.db)], len(list((data.root / "uploads").rglob("*")))
    _, tables = archive_rows.rows_of(data.db, 1)
    piece = {**tables["piece"][0], "length": -5}
    (tmp_path / "text.zip").write_text("tea")
    with zipfile.ZipFile(tmp_path / "empty.zip", "w") as z:
        z.writestr("x", "y")
    for path, why in (
        (tmp_path / "text.zip", "no archive of Kovel"),
        (tmp_path / "empty.zip", "no archive of Kovel"),
        (spoilt(good, tmp_path / "form.zip", form="other"), "another kind"),
        (spoilt(good, tmp_path / "short.zip"), "not whole in that archive"),
        (spoilt(good, tmp_path / "rows.zip", tables=tables | {"piece": [piece]}), "damaged"),
        (spoilt(good, tmp_path / "no.zip", tables={"project": []}), "damaged"),
        (
            spoilt(good, tmp_path / "patch.zip", tables=tables | {"journal": [tables["journal"][0] | {"patch": "{"}]}),
            "damaged",
        ),
    ):
        with pytest.raises(Invalid, match=why):
            archiving.read(data, path)
        assert ([p.name for p in projects.listing(data.db)], len(list((data.root / "uploads").rglob("*")))) == before, (
            path
        )
    looks.save(data.db, "Warm", {"warmth": 20})
    assert told(data, 1)["log"]


def test_it_is_written_as_a_job_and_told_where_it_cannot_be(
    full: Coded, room: TestClient, finished: Callable[[DataFolder], None]
) -> None:
    data, r = full
    assert "Writing Coded.kovel.zip" in said(room.post("/p/1/handoff/archive", data={"media": "used"}))
    finished(data)
    (job,) = jobs.of_project(data.db, 1, "archive")
    page = room.get("/p/1/handoff/renders").text
    assert "Coded.kovel.zip" in page and 'data-state="done"' in page
    got = room.get(f"/p/1/handoff/renders/{job.id}/file")
    assert got.headers["content-type"] == "application/zip" and got.content[:2] == b"PK"
    again = room.post("/projects.in", files={"file": ("Coded.kovel.zip", got.content)})
    assert again.status_code == 204 and projects.get(data.db, 2).name == "Coded (2)"
    bad = room.post("/projects.in", files={"file": ("notes.zip", b"tea")})
    assert "notes.zip cannot be read: it is no archive of Kovel" in said(bad)
    assert room.post("/p/1/handoff/archive", data={"media": "some"}).status_code == 422
    archive_rows.moved_to(data.db, r["talk"].id, str(shutil.copy(r["talk"].path, data.root / "talk.mp4")))
    late, _ = archiving.start_archive(data, 1, "all")
    next_one, _ = archiving.start_archive(data, 1, "none")
    assert next_one.params["out"] != late.params["out"]  # a name that is still to be written is taken too
    (data.root / "talk.mp4").unlink()
    (done,) = wait_for(data, [late.id], quiet=True)
    assert done.state == "failed" and "talk.mp4 is not where it was any more" in done.message
    assert not Path(late.params["out"]).exists() and not list(Path(late.params["out"]).parent.glob("*.part"))
