"""Rows of themes, of what was told twice, and of bins, all of a project at once: as they are kept for undo."""

import sqlite3
from typing import Any

Rows = dict[str, list[list[Any]]]
THEME = ("id", "name", "by_hand", "aside", "ordinal")
STATEMENT = ("recording", "start", "end", "theme", "by_hand")
RETOLD = ("a_recording", "a_start", "b_recording", "b_start", "better")


def rows_of(connection: sqlite3.Connection, project: int) -> Rows:
    """Everything the editor sees of the themes and bins of a project."""
    return {
        "theme": _all(
            connection, f"SELECT {', '.join(THEME)} FROM theme WHERE project = ? ORDER BY ordinal, id", project
        ),
        "statement": _all(
            connection,
            f"SELECT {', '.join(f's.{name}' for name in STATEMENT)} FROM theme_statement s JOIN theme t ON t.id = "
            "s.theme"
            " WHERE t.project = ? ORDER BY s.recording, s.start",
            project,
        ),
        "retold": _all(
            connection, f"SELECT {', '.join(RETOLD)} FROM retold WHERE project = ? ORDER BY 1, 2, 3, 4", project
        ),
        "bin": _all(connection, "SELECT id, name FROM bin WHERE project = ? ORDER BY id", project),
        "binned": _all(
            connection,
            "SELECT r.bin, r.recording FROM bin_recording r JOIN bin b ON b.id = r.bin WHERE b.project = ? ORDER BY "
            "1, 2",
            project,
        ),
    }


def _all(connection: sqlite3.Connection, sql: str, project: int) -> list[list[Any]]:
    return [list(group_row) for group_row in connection.execute(sql, (project,))]


def put_rows(connection: sqlite3.Connection, project: int, setting_rows: Rows) -> None:
    """Inside a transaction: these instead of those there are. Statements of recordings that are gone are passed
    over."""
    connection.execute("DELETE FROM theme WHERE project = ?", (project,))
    connection.execute("DELETE FROM retold WHERE project = ?", (project,))
    connection.executemany(
        f"INSERT INTO theme (project, {', '.join(THEME)}) VALUES (?,?,?,?,?,?)",
        [(project, *theme_row) for theme_row in setting_rows["theme"]],
    )
    there = {
        recording_row[0]
        for recording_row in connection.execute("SELECT id FROM recording WHERE project = ?", (project,))
    }
    connection.executemany(
        f"INSERT OR REPLACE INTO theme_statement ({', '.join(STATEMENT)}) VALUES (?,?,?,?,?)",
        [statement_row for statement_row in setting_rows["statement"] if statement_row[0] in there],
    )
    connection.executemany(
        f"INSERT INTO retold (project, {', '.join(RETOLD)}) VALUES (?,?,?,?,?,?)",
        [(project, *retold_row) for retold_row in setting_rows["retold"]],
    )
    if "bin" in setting_rows:  # a step of before there were any says nothing of them
        connection.execute("DELETE FROM bin WHERE project = ?", (project,))
        connection.executemany(
            "INSERT INTO bin (id, project, name) VALUES (?,?,?)",
            [(bin_row[0], project, bin_row[1]) for bin_row in setting_rows["bin"]],
        )
        connection.executemany(
            "INSERT INTO bin_recording VALUES (?,?)",
            [binned_row for binned_row in setting_rows["binned"] if binned_row[1] in there],
        )
