"""Undo and redo in the log: each step keeps the rows it touched, as they were before and as they are after.

Subclips and markers are kept by row; words as the slice of a recording that was replaced; settings of a recording whole; that
one was taken out; its name and the like; the themes and bins of a project whole. A step lands in the same transaction as the change itself.
"""

import json
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from kovel.core.errors import Invalid, Missing
from kovel.core.words.transcript import Word
from kovel.store.db import Database
from kovel.store.group_rows import Rows, put_rows, rows_of
from kovel.store.word_rows import write_words

TABLES = {
    "subclip": ("id", "recording", "name", "start", "length", "note", "tags", "verdict", "board", "created"),
    "marker": ("id", "recording", "frame", "name"),
}


FIELDS = {"name", "kind", "roll", "camera", "day", "aside", "poster", "language"}  # of a recording


class Step:
    """A transaction under way. `before` must see rows before they change; `made` those that are new."""

    def __init__(self, c: sqlite3.Connection) -> None:
        self.c = c
        self.ids: dict[str, set[int]] = {t: set() for t in TABLES}
        self.rows: dict[str, dict[int, list[Any]]] = {t: {} for t in TABLES}
        self.words: dict[str, Any] | None = None
        self.settings: dict[str, Any] | None = None
        self.out: dict[str, Any] | None = None
        self.fields: dict[int, tuple[dict[str, Any], dict[str, Any]]] = {}
        self.grouped: tuple[int, Rows] | None = None

    def before(self, table: str, ids: Sequence[int]) -> None:
        self.rows[table] |= _rows(self.c, table, ids)
        self.ids[table] |= set(ids)

    def made(self, table: str, row: int | None) -> int:
        assert row is not None
        self.ids[table].add(row)
        return row

    def replaced(self, recording: int, at: int, old: Sequence[Word], new: Sequence[Word]) -> None:
        self.words = {"recording": recording, "at": at, "old": [_flat(w) for w in old], "new": [_flat(w) for w in new]}

    def set(self, recording: int, new: str) -> None:
        """A recording's settings, as JSON."""
        old = self.c.execute("SELECT settings FROM recording WHERE id = ?", (recording,)).fetchone()[0]
        self.c.execute("UPDATE recording SET settings = ? WHERE id = ?", (new, recording))
        self.settings = {"recording": recording, "old": old, "new": new}

    def update(self, recording: int, fields: Mapping[str, Any]) -> None:
        """Other values for columns of a recording (name, kind, roll, camera, day, language, aside, poster)."""
        cols = ", ".join(fields)
        old = dict(self.c.execute(f"SELECT {cols} FROM recording WHERE id = ?", (recording,)).fetchone())
        _put_fields(self.c, recording, fields)
        self.fields[recording] = (old, dict(fields))

    def groups(self, project: int) -> None:
        """The themes or bins of a project are going to be changed."""
        self.grouped = (project, rows_of(self.c, project))

    def taken_out(self, recording: int, out: bool = True) -> None:
        """A recording leaves its project, or comes back."""
        _put_out(self.c, recording, out)
        self.out = {"recording": recording, "out": out}


def _put_fields(c: sqlite3.Connection, recording: int, fields: Mapping[str, Any]) -> None:
    if set(fields) - FIELDS:
        raise Invalid("That cannot be changed on a recording.")
    c.execute(f"UPDATE recording SET {', '.join(f'{k} = ?' for k in fields)} WHERE id = ?", (*fields.values(), recording))


def _put_out(c: sqlite3.Connection, recording: int, out: bool) -> None:
    c.execute(
        "UPDATE recording SET gone = CASE WHEN ? THEN strftime('%Y-%m-%dT%H:%M:%fZ', 'now') END WHERE id = ?", (out, recording)
    )


def _flat(w: Word) -> list[Any]:
    return [w.text, w.start, w.end, w.speaker, w.sure]


def _rows(c: sqlite3.Connection, table: str, ids: Sequence[int]) -> dict[int, list[Any]]:
    cols, marks = ", ".join(TABLES[table]), ",".join("?" * len(ids))
    return {r["id"]: list(r) for r in c.execute(f"SELECT {cols} FROM {table} WHERE id IN ({marks})", list(ids))}


@contextmanager
def step(db: Database, project: int, did: str) -> Iterator[Step]:
    """One undoable change of the log, in one transaction."""
    with db.write() as c:
        s = Step(c)
        yield s
        change: dict[str, Any] = {}
        for t in TABLES:
            if s.ids[t]:
                after = _rows(c, t, sorted(s.ids[t]))
                change[t] = [[i, s.rows[t].get(i), after.get(i)] for i in sorted(s.ids[t])]
        if s.words:
            change["words"] = s.words
        if s.settings:
            change["settings"] = s.settings
        if s.out:
            change["out"] = s.out
        if s.fields:
            change["fields"] = [[i, old, new] for i, (old, new) in s.fields.items()]
        if s.grouped:
            change["groups"] = {"old": s.grouped[1], "new": rows_of(c, s.grouped[0])}
        c.execute("DELETE FROM log_step WHERE project = ? AND undone", (project,))
        c.execute("INSERT INTO log_step (project, did, change) VALUES (?,?,?)", (project, did, json.dumps(change)))


def undo_or_redo(db: Database, project: int, redo: bool = False) -> tuple[str, list[int]]:
    """Undo the last step of a project's log, or do the last undone one again: what it was, and the recordings touched."""
    with db.write() as c:
        order = "undone = 1 ORDER BY id" if redo else "undone = 0 ORDER BY id DESC"
        row = c.execute(f"SELECT * FROM log_step WHERE project = ? AND {order} LIMIT 1", (project,)).fetchone()
        if row is None:
            raise Invalid(f"There is nothing to {'do again' if redo else 'undo'} in the log.")
        change = json.loads(row["change"])
        touched: set[int] = set()
        for t, cols in TABLES.items():
            for i, before, after in change.get(t, ()):
                put = after if redo else before
                touched |= {r[1] for r in (before, after) if r}
                c.execute(f"DELETE FROM {t} WHERE id = ?", (i,))
                if put and c.execute("SELECT 1 FROM recording WHERE id = ?", (put[1],)).fetchone():
                    c.execute(f"INSERT INTO {t} ({', '.join(cols)}) VALUES ({','.join('?' * len(cols))})", put)
        if w := change.get("words"):
            old, new = (w["old"], w["new"]) if redo else (w["new"], w["old"])
            if not c.execute("SELECT 1 FROM recording WHERE id = ?", (w["recording"],)).fetchone():
                raise Missing("That recording is not in the project any more.")
            write_words(c, w["recording"], w["at"], len(old), [Word(*x) for x in new])
            touched.add(w["recording"])
        if v := change.get("settings"):
            c.execute("UPDATE recording SET settings = ? WHERE id = ?", (v["new" if redo else "old"], v["recording"]))
            touched.add(v["recording"])
        if o := change.get("out"):
            if not c.execute("SELECT 1 FROM recording WHERE id = ?", (o["recording"],)).fetchone():
                raise Missing("That recording was taken out for good.")
            _put_out(c, o["recording"], o["out"] if redo else not o["out"])
            touched.add(o["recording"])
        for i, was, now in change.get("fields", ()):
            _put_fields(c, i, now if redo else was)
            touched.add(i)
        if g := change.get("groups"):
            put_rows(c, project, g["new" if redo else "old"])
        c.execute("UPDATE log_step SET undone = ? WHERE id = ?", (not redo, row["id"]))
    return row["did"], sorted(touched)
