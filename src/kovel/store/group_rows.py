"""Rows of themes, of what was told twice, and of bins, all of a project at once: as they are kept for undo."""

import sqlite3
from typing import Any

Rows = dict[str, list[list[Any]]]
THEME = ("id", "name", "own", "aside", "ordinal")
STATEMENT = ("recording", "start", "end", "theme", "own")
RETOLD = ("a_recording", "a_start", "b_recording", "b_start", "better")


def rows_of(c: sqlite3.Connection, project: int) -> Rows:
    """Everything the editor sees of the themes and bins of a project."""
    return {
        "theme": _all(c, f"SELECT {', '.join(THEME)} FROM theme WHERE project = ? ORDER BY ordinal, id", project),
        "statement": _all(
            c,
            f"SELECT {', '.join(f's.{k}' for k in STATEMENT)} FROM theme_statement s JOIN theme t ON t.id = s.theme"
            " WHERE t.project = ? ORDER BY s.recording, s.start",
            project,
        ),
        "retold": _all(c, f"SELECT {', '.join(RETOLD)} FROM retold WHERE project = ? ORDER BY 1, 2, 3, 4", project),
        "bin": _all(c, "SELECT id, name FROM bin WHERE project = ? ORDER BY id", project),
        "binned": _all(
            c,
            "SELECT r.bin, r.recording FROM bin_recording r JOIN bin b ON b.id = r.bin WHERE b.project = ? ORDER BY 1, 2",
            project,
        ),
    }


def _all(c: sqlite3.Connection, sql: str, project: int) -> list[list[Any]]:
    return [list(r) for r in c.execute(sql, (project,))]


def put_rows(c: sqlite3.Connection, project: int, rows: Rows) -> None:
    """Inside a transaction: these instead of those there are. Statements of recordings that are gone are passed over."""
    c.execute("DELETE FROM theme WHERE project = ?", (project,))
    c.execute("DELETE FROM retold WHERE project = ?", (project,))
    c.executemany(
        f"INSERT INTO theme (project, {', '.join(THEME)}) VALUES (?,?,?,?,?,?)", [(project, *r) for r in rows["theme"]]
    )
    there = {r[0] for r in c.execute("SELECT id FROM recording WHERE project = ?", (project,))}
    c.executemany(
        f"INSERT OR REPLACE INTO theme_statement ({', '.join(STATEMENT)}) VALUES (?,?,?,?,?)",
        [r for r in rows["statement"] if r[0] in there],
    )
    c.executemany(
        f"INSERT INTO retold (project, {', '.join(RETOLD)}) VALUES (?,?,?,?,?,?)", [(project, *r) for r in rows["retold"]]
    )
    if "bin" in rows:  # a step of before there were any says nothing of them
        c.execute("DELETE FROM bin WHERE project = ?", (project,))
        c.executemany("INSERT INTO bin (id, project, name) VALUES (?,?,?)", [(r[0], project, r[1]) for r in rows["bin"]])
        c.executemany("INSERT INTO bin_recording VALUES (?,?)", [r for r in rows["binned"] if r[1] in there])
