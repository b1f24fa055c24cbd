"""Subclips: named ranges of recordings."""

import sqlite3
from dataclasses import dataclass

from kovel.store import recordings
from kovel.store.db import Database
from kovel.store.projects import Invalid, Missing, clean_name

VERDICTS = ("keep", "maybe", "drop")


@dataclass(frozen=True, slots=True)
class Subclip:
    id: int
    recording: int
    name: str
    start: int
    length: int
    note: str
    tags: tuple[str, ...]
    verdict: str


def _subclip(r: sqlite3.Row) -> Subclip:
    return Subclip(
        r["id"],
        r["recording"],
        r["name"],
        r["start"],
        r["length"],
        r["note"],
        tuple(filter(None, r["tags"].split(","))),
        r["verdict"],
    )


def _tags(text: str) -> str:
    return ",".join(dict.fromkeys(t.strip().lower()[:40] for t in text.replace(";", ",").split(",") if t.strip()))


def add(
    db: Database, recording: int, start: int, end: int, *, name: str = "", note: str = "", tags: str = "", verdict: str = "keep"
) -> Subclip:
    """Keep [start, end) of a recording, in project frames on its clock."""
    r = recordings.get(db, recording)
    rate = db.read().execute("SELECT rate_num, rate_den FROM project WHERE id = ?", (r.project,)).fetchone()
    total = r.length(recordings.Rate(*rate))
    if end <= start:
        raise Invalid("In and out are at the same place. Set the out point after the in point.")
    if start < 0 or end > total:
        raise Invalid(f"The range runs past the {'start' if start < 0 else 'end'} of {r.name}.")
    if verdict not in VERDICTS:
        raise Invalid("A verdict is keep, maybe or drop.")
    count = db.read().execute("SELECT count(*) FROM subclip WHERE recording = ?", (recording,)).fetchone()[0]
    name = clean_name(name or f"{r.name} {count + 1}", limit=120)
    with db.write() as c:
        sid = c.execute(
            "INSERT INTO subclip (recording, name, start, length, note, tags, verdict) VALUES (?,?,?,?,?,?,?)",
            (recording, name, start, end - start, note.strip()[:2000], _tags(tags), verdict),
        ).lastrowid
    return get(db, sid)


def get(db: Database, subclip: int) -> Subclip:
    r = db.read().execute("SELECT * FROM subclip WHERE id = ?", (subclip,)).fetchone()
    if r is None:
        raise Missing("That subclip is not there any more.")
    return _subclip(r)


def update(db: Database, subclip: int, **fields: str) -> Subclip:
    get(db, subclip)
    if set(fields) - {"name", "note", "tags", "verdict"}:
        raise Invalid("That cannot be changed on a subclip.")
    if "name" in fields:
        fields["name"] = clean_name(fields["name"], limit=120)
    if "tags" in fields:
        fields["tags"] = _tags(fields["tags"])
    if fields.get("verdict", "keep") not in VERDICTS:
        raise Invalid("A verdict is keep, maybe or drop.")
    with db.write() as c:
        c.execute(f"UPDATE subclip SET {', '.join(f'{k} = ?' for k in fields)} WHERE id = ?", (*fields.values(), subclip))
    return get(db, subclip)


def remove(db: Database, subclip: int) -> Subclip:
    old = get(db, subclip)
    with db.write() as c:
        c.execute("DELETE FROM subclip WHERE id = ?", (subclip,))
    return old


def of_recording(db: Database, recording: int) -> list[Subclip]:
    return [
        _subclip(r) for r in db.read().execute("SELECT * FROM subclip WHERE recording = ? ORDER BY start, id", (recording,))
    ]


def of_project(db: Database, project: int) -> list[Subclip]:
    rows = db.read().execute(
        "SELECT s.* FROM subclip s JOIN recording r ON r.id = s.recording WHERE r.project = ? ORDER BY r.ordinal, s.start, s.id",
        (project,),
    )
    return [_subclip(r) for r in rows]
