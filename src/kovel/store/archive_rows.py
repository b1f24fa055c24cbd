"""A whole project as rows, and back: every table that belongs to it, whatever tables there are (see docs/archive.md).

Numbers of rows are moved up by what this folder has already, so that nothing meets; a project of an older Kovel is
brought up to the present tables in a database of its own first.
"""

from __future__ import annotations

import json
import sqlite3
from typing import Any

from kovel.core.errors import Invalid, Missing, Told
from kovel.core.story.patch import VALUES, rescoped
from kovel.store.archive_checks import hold
from kovel.store.db import Database, migrate
from kovel.store.projects import Project, get
from kovel.store.stories import REDO, UNDO

Tables = dict[str, list[dict[str, Any]]]

LEFT = ("job", "issued", "setting", "looks", "meaning")  # not of a project, or made anew
NUMBERED = ("project", "recording", "story", "subclip", "marker", "journal", "log_step", "theme", "bin")
MORE = {  # columns that name a row of another table without saying so
    ("project", "story"): "story",
    ("story", "head"): "journal",
    ("piece", "source"): "recording",
    ("cover", "source"): "recording",
    ("laid_sound", "source"): "recording",
    ("story_marker", "source"): "recording",
    ("caption_edit", "recording"): "recording",
    ("caption_step", "recording"): "recording",
    ("desk_step", "recording"): "recording",
    ("retold", "a_recording"): "recording",
    ("retold", "b_recording"): "recording",
}
SOURCED = (
    "pieces",
    "covers",
    "loose",
    "sounds",
    "loose_sounds",
    "markers",
)  # of a patch: rows whose second value is a recording


def schema(connection: sqlite3.Connection) -> int:
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


def _named(connection: sqlite3.Connection) -> dict[str, dict[str, str]]:
    """For each table of a project: which of its columns name rows of which table."""
    named_values: dict[str, dict[str, str]] = {}
    tables = connection.execute(
        "SELECT name FROM sqlite_master WHERE type = 'table' AND sql NOT LIKE 'CREATE VIRTUAL%'"
    ).fetchall()
    for (table,) in tables:
        if table in LEFT or table.startswith(("sqlite_", "sentence_search")):
            continue
        cols = {
            key_row["from"]: _at_last(connection, key_row)
            for key_row in connection.execute(f"PRAGMA foreign_key_list({table})").fetchall()
        }
        cols |= {col: to for (name, col), to in MORE.items() if name == table}
        if table in NUMBERED:
            cols["id"] = table
        if cols:
            named_values[table] = cols
    return named_values


def _at_last(connection: sqlite3.Connection, key: sqlite3.Row) -> str:
    """The numbered table that a foreign key names, by way of others whose key is one itself."""
    table, col = key["table"], key["to"]
    while table not in NUMBERED:
        table, col = next(
            (key_row["table"], key_row["to"])
            for key_row in connection.execute(f"PRAGMA foreign_key_list({table})").fetchall()
            if key_row["from"] == col
        )
    return str(table)


def _root(cols: dict[str, str]) -> tuple[str, str]:
    """(column, table) by which a row belongs to a recording, a story or the project."""
    return next(
        (col, to) for to in ("recording", "story", "project") for col, to_ in cols.items() if to_ == to and col == to
    )


def rows_of(database: Database, project: int) -> tuple[int, Tables]:
    """The schema's number and all rows of a project, by table."""
    rows_by_table: Tables = {}
    with database.snapshot() as connection:
        named = _named(connection)
        project_row = connection.execute("SELECT * FROM project WHERE id = ?", (project,)).fetchall()
        if not project_row:
            raise Missing("There is no such project.")
        rows_by_table["project"] = [dict(found_row) for found_row in project_row]
        mine = {"project": "SELECT ?1", **{t: f"SELECT id FROM {t} WHERE project = ?1" for t in ("recording", "story")}}
        for table in sorted(named):
            if table == "project":
                continue
            col, to = _root(named[table])
            table_rows = connection.execute(f"SELECT * FROM {table} WHERE {col} IN ({mine[to]})", (project,)).fetchall()
            if table_rows:
                rows_by_table[table] = [dict(table_row) for table_row in table_rows]
        return schema(connection), rows_by_table


def put(database: Database, number: int, tables: Tables, name: str) -> tuple[Project, dict[int, int]]:
    """A project from rows of schema `number`, under a name; and what its recordings are called now. All or nothing."""
    newest = schema(database.read())
    if number > newest:
        raise Invalid("That archive was made by a newer Kovel. Open it with that one, or update this one.")
    try:
        tables = tables if number == newest else _brought_up(number, tables)
        with database.write() as connection:
            project_id = _put(database, connection, tables, name)
            hold(database, project_id[0].id)
            return project_id
    except (
        sqlite3.Error,
        KeyError,
        TypeError,
        ValueError,
        AttributeError,
        IndexError,
        ArithmeticError,
        RecursionError,
        Told,
    ) as error:
        if isinstance(error, Told):
            raise Invalid(f"{str(error)[:1].lower()}{str(error)[1:].rstrip('.')}. Nothing was brought in.") from None
        raise Invalid(
            f"its rows do not fit together ({type(error).__name__}): it is damaged. Nothing was brought in."
        ) from None


def _brought_up(number: int, tables: Tables) -> Tables:
    connection = sqlite3.connect(":memory:", isolation_level=None)
    connection.row_factory = sqlite3.Row
    migrate(connection, number)
    for table, table_rows in tables.items():
        _insert(connection, table, table_rows)
    migrate(connection)
    return {
        text: [dict(table_row) for table_row in connection.execute(f"SELECT * FROM {text}")]
        for text in _named(connection)
    }


def _insert(connection: sqlite3.Connection, table: str, table_rows: list[dict[str, Any]]) -> None:
    known = [column_row["name"] for column_row in connection.execute(f"PRAGMA table_info({table})")]
    if not known:
        raise ValueError(table)
    for table_row in table_rows:
        cols = [name for name in table_row if name in known]
        marks = ",".join("?" * len(cols))
        connection.execute(
            f"INSERT INTO {table} ({','.join(cols)}) VALUES ({marks})", [table_row[column] for column in cols]
        )


def _renumber_inside(table: str, row: dict[str, Any], up: dict[str, int]) -> None:
    """What a row keeps as JSON gets the numbers that it has here; a recording is prepared anew here."""
    if table == "recording":
        row["ready"] = 0
    elif table == "story":
        row["settings"] = json.dumps(rescoped(json.loads(row["settings"]), lambda i: i + up["recording"]))
    elif table == "journal":
        row["patch"] = json.dumps(_patch(json.loads(row["patch"]), up["recording"]))
        if row["command"] in (UNDO, REDO):
            row["params"] = json.dumps({"entry": json.loads(row["params"])["entry"] + up["journal"]})
    elif table == "log_step":
        row["change"] = json.dumps(_step(json.loads(row["change"]), up))


def _put(
    database: Database, connection: sqlite3.Connection, tables: Tables, name: str
) -> tuple[Project, dict[int, int]]:
    connection.execute("PRAGMA defer_foreign_keys = ON")
    named = _named(connection)
    up = {text: _highest(connection, text) for text in NUMBERED}

    def moved(to: str, value: Any) -> Any:
        return value + up[to] if isinstance(value, int) and value and to in up else value

    for table, table_rows in tables.items():
        if table not in named:
            continue
        new = [
            {
                name: moved(named[table][name], value) if name in named[table] else value
                for name, value in table_row.items()
            }
            for table_row in table_rows
        ]
        for new_row in new:
            _renumber_inside(table, new_row, up)
        if table == "project":
            new = [{**new_row, "name": name, "archived": 0, "deleted": None} for new_row in new]
        if table == "sentence":  # numbered by its search
            new = [{name: value for name, value in new_row.items() if name != "id"} for new_row in new]
        _insert(connection, table, new)
    for text in NUMBERED:
        connection.execute("INSERT OR IGNORE INTO issued VALUES (?, 0)", (text,))
        connection.execute(
            f"UPDATE issued SET last = max(last, (SELECT coalesce(max(id), 0) FROM {text})) WHERE kind = ?", (text,)
        )
    (project,) = tables["project"]
    return get(database, project["id"] + up["project"]), {
        recording_row["id"]: recording_row["id"] + up["recording"] for recording_row in tables.get("recording", [])
    }


def _highest(connection: sqlite3.Connection, table: str) -> int:
    """The highest number that a row of a table has, or had."""
    last = connection.execute("SELECT last FROM issued WHERE kind = ?", (table,)).fetchone()
    return max(
        int(connection.execute(f"SELECT coalesce(max(id), 0) FROM {table}").fetchone()[0]), int(last[0]) if last else 0
    )


def _patch(stored: dict[str, Any], up: int) -> dict[str, Any]:
    """A patch of a story with its recordings' numbers moved."""
    for name in SOURCED:
        for patch_rows in stored.get(name, [0, [], []])[1:]:
            for patch_row in patch_rows:
                patch_row[1] = patch_row[1] + up if patch_row[1] else patch_row[1]
    for name in VALUES:
        if name in stored:
            stored[name] = [rescoped(stored_value, lambda i: i + up) for stored_value in stored[name]]
    return stored


def _step(stored: dict[str, Any], up: dict[str, int]) -> dict[str, Any]:
    """A step of the log with its rows' numbers moved."""
    for table in ("subclip", "marker"):
        for entry in stored.get(table, []):
            entry[0] += up[table]
            for entry_row in entry[1:]:
                if entry_row:
                    entry_row[0], entry_row[1] = entry_row[0] + up[table], entry_row[1] + up["recording"]
    for field_name in ("words", "settings", "out"):
        if field_name in stored:
            stored[field_name]["recording"] += up["recording"]
    for entry_row in stored.get("fields", ()):
        entry_row[0] += up["recording"]
    for group_rows in stored.get("groups", {}).values():
        for theme_row in group_rows["theme"]:
            theme_row[0] += up["theme"]
        for theme_row in group_rows["statement"]:
            theme_row[0], theme_row[3] = theme_row[0] + up["recording"], theme_row[3] + up["theme"]
        for theme_row in group_rows["retold"]:
            theme_row[0], theme_row[2] = theme_row[0] + up["recording"], theme_row[2] + up["recording"]
        for theme_row in group_rows.get("bin", ()):
            theme_row[0] += up["bin"]
        for theme_row in group_rows.get("binned", ()):
            theme_row[0], theme_row[1] = theme_row[0] + up["bin"], theme_row[1] + up["recording"]
    return stored


SHORT = (
    "Only the pictures that a story uses are here, and all of its sound. "
    "Find again, with better versions, takes the whole one in its place."
)


def shortened(database: Database, recording: int, size: int, checksum: str) -> None:
    """A recording's file is one with some of its pictures: what it is, and a remark that tells so."""
    with database.write() as connection:
        (remarks,) = connection.execute("SELECT remarks FROM recording WHERE id = ?", (recording,)).fetchone()
        new_remarks = [*(remark for remark in json.loads(remarks) if remark != SHORT), SHORT]
        connection.execute(
            "UPDATE recording SET size = ?, checksum = ?, remarks = ? WHERE id = ?",
            (size, checksum, json.dumps(new_remarks), recording),
        )


def moved_to(database: Database, recording: int, path: str, changed: int = 0) -> None:
    """A recording's file lies there now, written at that time (ns; 0: not known)."""
    with database.write() as connection:
        connection.execute("UPDATE recording SET path = ?, changed = ? WHERE id = ?", (path, changed, recording))
