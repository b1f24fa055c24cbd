"""Stories on disk: rows, journal and revision change together in one transaction, or not at all."""

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from kovel.core import commands
from kovel.core.patch import Patch, Splice, cover_row, piece_row
from kovel.core.rate import Rate
from kovel.core.story import Cover, Piece, Refused, Report, Story, Tether
from kovel.store import recordings
from kovel.store.db import Database
from kovel.store.projects import Missing


class Stale(RuntimeError):
    """The page was made from an older revision. Nothing was changed; show the fresh story."""


@dataclass(frozen=True, slots=True)
class Kept:
    """A story as it stands on disk."""

    id: int
    project: int
    name: str
    revision: int
    story: Story
    can_undo: bool
    can_redo: bool


def first_of(db: Database, project: int) -> int:
    r = db.read().execute("SELECT id FROM story WHERE project = ? ORDER BY id LIMIT 1", (project,)).fetchone()
    if r is None:
        raise Missing("This project has no story.")
    return int(r[0])


def put_in(db: Database, project: int, ranges: Sequence[Sequence[int]], at: int | None) -> Report:
    """Ranges [recording, start, length] into a project's story, at the end or at a frame of it: one edit."""
    sid = first_of(db, project)
    length = load(db, sid).story.length
    place = length if at is None else max(0, min(at, length))
    return edit(db, sid, None, "insert_several", {"at": place, "ranges": [list(r) for r in ranges]})[1]


def load(db: Database, story: int) -> Kept:
    return _load(db, db.read(), story)


def _load(db: Database, c: sqlite3.Connection, story: int) -> Kept:
    """The story at the revision this connection sees; its rows are read only when that is another one than last time."""
    r = c.execute(
        "SELECT s.*, p.rate_num, p.rate_den FROM story s JOIN project p ON p.id = s.project WHERE s.id = ?", (story,)
    ).fetchone()
    if r is None:
        raise Missing("There is no such story. It may have been deleted.")
    revision, known = db.stories.get(story, (-1, None))
    if known is None or revision != r["revision"]:
        known = _rows(c, story, r)
        db.stories[story] = (r["revision"], known)
    redo = c.execute("SELECT 1 FROM journal WHERE story = ? AND parent IS ? LIMIT 1", (story, r["head"])).fetchone()
    return Kept(r["id"], r["project"], r["name"], r["revision"], known, r["head"] is not None, redo is not None)


def _rows(c: sqlite3.Connection, story: int, r: sqlite3.Row) -> Story:
    pieces = tuple(
        Piece(*x) for x in c.execute("SELECT id, source, start, length FROM piece WHERE story = ? ORDER BY ordinal", (story,))
    )
    covers: tuple[list[Cover], list[Cover]] = ([], [])
    for x in c.execute(
        "SELECT loose, id, source, start, length, piece, moment, lane FROM cover WHERE story = ? ORDER BY ordinal", (story,)
    ):
        covers[x[0]].append(Cover(x[1], x[2], x[3], x[4], Tether(x[5], x[6]), x[7]))
    return Story(
        Rate(r["rate_num"], r["rate_den"]),
        pieces,
        tuple(covers[0]),
        tuple(covers[1]),
        frozenset(json.loads(r["locked"])),
        r["next_id"],
    )


def _write(c: sqlite3.Connection, story: int, p: Patch, head: int | None) -> None:
    """Change the rows by a patch; the one place that does."""
    _splice(c, "piece", "story = ?", (story,), p.pieces, lambda i, x: (story, x.id, i, *piece_row(x)[1:]))
    for loose, part in ((0, p.covers), (1, p.loose)):
        ids = [(story, x.id, loose) for x in part.old]
        c.executemany("DELETE FROM cover WHERE story = ? AND id = ? AND loose = ?", ids)
    for loose, part in ((0, p.covers), (1, p.loose)):
        _splice(
            c,
            "cover",
            "story = ? AND loose = ?",
            (story, loose),
            part,
            lambda i, x, loose=loose: (story, x.id, loose, i, *cover_row(x)[1:]),
        )
    c.execute(
        "UPDATE story SET revision = revision + 1, head = ?, locked = ?, next_id = ? WHERE id = ?",
        (head, json.dumps(sorted(p.locked[1])), p.next_id[1], story),
    )


def _splice(c: sqlite3.Connection, table: str, where: str, key: tuple[Any, ...], s: Splice, row: Any) -> None:
    if s.old:
        c.execute(f"DELETE FROM {table} WHERE {where} AND ordinal >= ? AND ordinal < ?", (*key, s.index, s.index + len(s.old)))
    grow = len(s.new) - len(s.old)
    if grow:
        c.execute(
            f"UPDATE {table} SET ordinal = ordinal + ? WHERE {where} AND ordinal >= ?", (grow, *key, s.index + len(s.old))
        )
    rows = [row(s.index + i, x) for i, x in enumerate(s.new)]
    if rows:
        c.executemany(f"INSERT INTO {table} VALUES ({','.join('?' * len(rows[0]))})", rows)


def _check(kept: Kept, revision: int | None) -> None:
    if revision is not None and revision != kept.revision:
        raise Stale(
            "The story was changed elsewhere meanwhile. Here it is as it stands now; your edit was not made. Please try again."
        )


def edit(db: Database, story: int, revision: int | None, name: str, params: Mapping[str, Any]) -> tuple[Kept, Report]:
    """Carry out a command of the core and keep the result. `revision` is what the page showed (None: whatever stands).

    Raises `Refused` (cannot be met) or `Stale` (page too old); in both cases nothing has changed.
    """
    with db.write() as c:
        kept = _load(db, c, story)
        _check(kept, revision)
        new, report = commands.run(kept.story, recordings.sources(db, kept.project), name, params)
        patch = Patch.between(kept.story, new)
        head = c.execute("SELECT head FROM story WHERE id = ?", (story,)).fetchone()[0]
        entry = c.execute(
            "INSERT INTO journal (story, parent, command, params, did, notes, patch) VALUES (?,?,?,?,?,?,?)",
            (
                story,
                head,
                name,
                json.dumps(dict(params)),
                report.did,
                json.dumps(report.notes),
                json.dumps(patch.to_json(), separators=(",", ":")),
            ),
        ).lastrowid
        _write(c, story, patch, entry)
    return _now(db, replace(kept, revision=kept.revision + 1, story=new, can_undo=True, can_redo=False)), report


def _now(db: Database, kept: Kept) -> Kept:
    """Remember what was just committed, so that the next edit need not read it back."""
    db.stories[kept.id] = (kept.revision, kept.story)
    return kept


def undo(db: Database, story: int, revision: int | None = None) -> tuple[Kept, Report]:
    """Back to exactly the story before the last edit."""
    with db.write() as c:
        kept = _load(db, c, story)
        _check(kept, revision)
        r = c.execute("SELECT j.* FROM journal j JOIN story s ON s.head = j.id WHERE s.id = ?", (story,)).fetchone()
        if r is None:
            raise Refused("There is nothing to undo.")
        patch = Patch.from_json(json.loads(r["patch"])).inverse()
        _write(c, story, patch, r["parent"])
    now = replace(
        kept, revision=kept.revision + 1, story=patch.apply(kept.story), can_undo=r["parent"] is not None, can_redo=True
    )
    return _now(db, now), Report(f"Undone: {r['did']}")


def redo(db: Database, story: int, revision: int | None = None) -> tuple[Kept, Report]:
    """Forward again along the newest branch."""
    with db.write() as c:
        kept = _load(db, c, story)
        _check(kept, revision)
        r = c.execute(
            "SELECT * FROM journal WHERE story = ?1 AND parent IS (SELECT head FROM story WHERE id = ?1) ORDER BY id DESC LIMIT 1",
            (story,),
        ).fetchone()
        if r is None:
            raise Refused("There is nothing to redo.")
        patch = Patch.from_json(json.loads(r["patch"]))
        _write(c, story, patch, r["id"])
        more = c.execute("SELECT 1 FROM journal WHERE story = ? AND parent = ? LIMIT 1", (story, r["id"])).fetchone()
    now = replace(kept, revision=kept.revision + 1, story=patch.apply(kept.story), can_undo=True, can_redo=more is not None)
    return _now(db, now), Report(f"Done again: {r['did']}")


def history(db: Database, story: int, limit: int = 50) -> list[dict[str, Any]]:
    """The newest edits on the way to the present state, latest first."""
    rows = db.read().execute(
        "WITH RECURSIVE line(id, parent, at, did, notes) AS ("
        " SELECT j.id, j.parent, j.at, j.did, j.notes FROM journal j JOIN story s ON s.head = j.id WHERE s.id = ?"
        " UNION ALL SELECT j.id, j.parent, j.at, j.did, j.notes FROM journal j JOIN line ON j.id = line.parent) SELECT * FROM line LIMIT ?",
        (story, limit),
    )
    return [{"at": r["at"], "did": r["did"], "notes": json.loads(r["notes"])} for r in rows]
