"""Undo and redo in the log: each step keeps the rows it touched, as they were before and as they are after.

Subclips and markers are kept by row; words as the slice of a recording that was replaced; settings of a recording
whole; that one was taken out; its name and the like; the themes and bins of a project whole. A step lands in the
same transaction as the change itself.
"""

import json
import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
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

    def __init__(self, connection: sqlite3.Connection) -> None:
        self.c = connection
        self.ids: dict[str, set[int]] = {table: set() for table in TABLES}
        self.rows: dict[str, dict[int, list[Any]]] = {table: {} for table in TABLES}
        self.words: dict[str, Any] | None = None
        self.settings: dict[str, Any] | None = None
        self.out: dict[str, Any] | None = None
        self.fields: dict[int, tuple[dict[str, Any], dict[str, Any]]] = {}
        self.grouped: tuple[int, Rows] | None = None

    def before(self, table: str, ids: Sequence[int]) -> None:
        """Notes rows as they are before they are changed."""
        self.rows[table] |= _rows(self.c, table, ids)
        self.ids[table] |= set(ids)

    def made(self, table: str, row: int | None) -> int:
        """Notes a row that is new, and gives its number back."""
        assert row is not None
        self.ids[table].add(row)
        return row

    def replaced(self, recording: int, at: int, old_words: Sequence[Word], new_words: Sequence[Word]) -> None:
        """Notes words of a recording that took the place of others."""
        self.words = {
            "recording": recording,
            "at": at,
            "old": [_flat(word) for word in old_words],
            "new": [_flat(word) for word in new_words],
        }

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


def _put_fields(connection: sqlite3.Connection, recording: int, fields: Mapping[str, Any]) -> None:
    if set(fields) - FIELDS:
        raise Invalid("That cannot be changed on a recording.")
    connection.execute(
        f"UPDATE recording SET {', '.join(f'{field} = ?' for field in fields)} WHERE id = ?",
        (*fields.values(), recording),
    )


def _put_out(connection: sqlite3.Connection, recording: int, out: bool) -> None:
    connection.execute(
        "UPDATE recording SET gone = CASE WHEN ? THEN strftime('%Y-%m-%dT%H:%M:%fZ', 'now') END WHERE id = ?",
        (out, recording),
    )


def _flat(word: Word) -> list[Any]:
    return [word.text, word.start, word.end, word.speaker, word.sure]


def _rows(connection: sqlite3.Connection, table: str, ids: Sequence[int]) -> dict[int, list[Any]]:
    cols, marks = ", ".join(TABLES[table]), ",".join("?" * len(ids))
    return {
        table_row["id"]: list(table_row)
        for table_row in connection.execute(f"SELECT {cols} FROM {table} WHERE id IN ({marks})", list(ids))
    }


@contextmanager
def step(database: Database, project: int, did: str) -> Iterator[Step]:
    """One undoable change of the log, in one transaction."""
    with database.write() as connection:
        this_step = Step(connection)
        yield this_step
        change: dict[str, Any] = {}
        for table in TABLES:
            if this_step.ids[table]:
                after = _rows(connection, table, sorted(this_step.ids[table]))
                change[table] = [
                    [row_id, this_step.rows[table].get(row_id), after.get(row_id)]
                    for row_id in sorted(this_step.ids[table])
                ]
        if this_step.words:
            change["words"] = this_step.words
        if this_step.settings:
            change["settings"] = this_step.settings
        if this_step.out:
            change["out"] = this_step.out
        if this_step.fields:
            change["fields"] = [[key, old, new] for key, (old, new) in this_step.fields.items()]
        if this_step.grouped:
            change["groups"] = {"old": this_step.grouped[1], "new": rows_of(connection, this_step.grouped[0])}
        connection.execute("DELETE FROM log_step WHERE project = ? AND undone", (project,))
        connection.execute(
            "INSERT INTO log_step (project, did, change) VALUES (?,?,?)", (project, did, json.dumps(change))
        )


def undo_or_redo(database: Database, project: int, redo: bool = False) -> tuple[str, list[int]]:
    """Undo the last step of a project's log, or do the last undone one again: what it was, and the recordings
    touched. Raises `Invalid` where there is none, `Missing` where its recording is gone."""
    with database.write() as connection:
        order = "undone = 1 ORDER BY id" if redo else "undone = 0 ORDER BY id DESC"
        step_row = connection.execute(
            f"SELECT * FROM log_step WHERE project = ? AND {order} LIMIT 1", (project,)
        ).fetchone()
        if step_row is None:
            raise Invalid(f"There is nothing to {'do again' if redo else 'undo'} in the log.")
        change = json.loads(step_row["change"])
        touched = _put_rows(connection, change, redo)
        for kind, put in PUT.items():
            if kept := change.get(kind):
                touched.add(put(connection, kept, redo))
        for row_id, was, now in change.get("fields", ()):
            _put_fields(connection, row_id, now if redo else was)
            touched.add(row_id)
        if groups := change.get("groups"):
            put_rows(connection, project, groups["new" if redo else "old"])
        connection.execute("UPDATE log_step SET undone = ? WHERE id = ?", (not redo, step_row["id"]))
    return step_row["did"], sorted(touched)


def _is_there(connection: sqlite3.Connection, recording: int) -> bool:
    """Whether a recording has a row."""
    return connection.execute("SELECT 1 FROM recording WHERE id = ?", (recording,)).fetchone() is not None


def _put_rows(connection: sqlite3.Connection, change: dict[str, Any], redo: bool) -> set[int]:
    """Rows of the log's tables as they were, or are to be again; the recordings they belong to."""
    touched: set[int] = set()
    for table, columns in TABLES.items():
        for row_id, before, after in change.get(table, ()):
            put = after if redo else before
            touched |= {step_row[1] for step_row in (before, after) if step_row}
            connection.execute(f"DELETE FROM {table} WHERE id = ?", (row_id,))
            if put and _is_there(connection, put[1]):
                places = ",".join("?" * len(columns))
                connection.execute(f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({places})", put)
    return touched


def _put_words(connection: sqlite3.Connection, words: dict[str, Any], redo: bool) -> int:
    """Words that took the place of others."""
    old, new = (words["old"], words["new"]) if redo else (words["new"], words["old"])
    if not _is_there(connection, words["recording"]):
        raise Missing("That recording is not in the project any more.")
    write_words(connection, words["recording"], words["at"], len(old), [Word(*word_row) for word_row in new])
    return int(words["recording"])


def _put_settings(connection: sqlite3.Connection, settings: dict[str, Any], redo: bool) -> int:
    """The settings of a recording."""
    value = settings["new" if redo else "old"]
    connection.execute("UPDATE recording SET settings = ? WHERE id = ?", (value, settings["recording"]))
    return int(settings["recording"])


def _put_taken_out(connection: sqlite3.Connection, taken: dict[str, Any], redo: bool) -> int:
    """A recording that was taken out of the project, or brought back."""
    if not _is_there(connection, taken["recording"]):
        raise Missing("That recording was taken out for good.")
    _put_out(connection, taken["recording"], taken["out"] if redo else not taken["out"])
    return int(taken["recording"])


# what of one recording a step may change: each puts it back, or again, and gives the recording
PUT: dict[str, Callable[[sqlite3.Connection, dict[str, Any], bool], int]] = {
    "words": _put_words,
    "settings": _put_settings,
    "out": _put_taken_out,
}
