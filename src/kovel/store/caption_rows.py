"""Captions of a story as far as they are the editor's: texts that were changed, a file of them that was brought in,
and their undo."""

import json
import sqlite3

from kovel.core.errors import Invalid
from kovel.core.words.subtitles import Cue
from kovel.store.db import Database

STEPS = 100  # that can be undone; a step of a file holds it whole
Pair = tuple[str, str] | None  # what its words said and what it says; or a file's name and cues


def edits(database: Database, story: int) -> dict[tuple[int, int], tuple[str, str]]:
    """By recording and sample of the first word: what it said when it was changed, and what it says."""
    caption_rows = database.read().execute(
        "SELECT recording, sample, was, text FROM caption_edit WHERE story = ?", (story,)
    )
    return {(caption_row[0], caption_row[1]): (caption_row[2], caption_row[3]) for caption_row in caption_rows}


def change(database: Database, story: int, key: tuple[int, int], was: str, text: str) -> None:
    """Change what a caption says; an empty text takes the change back. Can be undone."""
    database.guard(story)
    with database.write() as connection:
        summary = f"“{text[:40]}” typed" if text else "a caption as its words say"
        _step(connection, story, summary, key, (was, text) if text else None)


def brought(database: Database, story: int) -> tuple[str, list[Cue]] | None:
    """The file that stands instead of what follows the words: its name and cues."""
    file_row = _file(database.read(), story)
    if file_row is None:
        return None
    return file_row[0], [
        Cue(a, b, tuple(lines), speaker, (0, index))
        for index, (a, b, lines, speaker) in enumerate(json.loads(file_row[1]))
    ]


def bring(database: Database, story: int, name: str, cues: list[Cue] | None, did: str = "") -> None:
    """Let the captions of a file stand for a story; None: its words again. Can be undone."""
    database.guard(story)
    now = (
        None if cues is None else (name, json.dumps([[cue.at, cue.end, list(cue.lines), cue.speaker] for cue in cues]))
    )
    with database.write() as connection:
        _step(connection, story, did or (f"{name} brought in" if now else "the words again"), (0, 0), now)


def can(database: Database, story: int) -> tuple[bool, bool]:
    """Whether there is something to undo, and to do again."""
    undone_states = {
        bool(state_row[0])
        for state_row in database.read().execute("SELECT DISTINCT undone FROM caption_step WHERE story = ?", (story,))
    }
    return False in undone_states, True in undone_states


def undo_or_redo(database: Database, story: int, redo: bool = False) -> str:
    """Undo the last step of a story's captions, or do the last undone one again; what it was."""
    database.guard(story)
    with database.write() as connection:
        order = "undone = 1 ORDER BY n" if redo else "undone = 0 ORDER BY n DESC"
        step_row = connection.execute(
            f"SELECT * FROM caption_step WHERE story = ? AND {order} LIMIT 1", (story,)
        ).fetchone()
        if step_row is None:
            raise Invalid(f"There is nothing to {'do again' if redo else 'undo'} in these captions.")
        cues_there = json.loads(step_row["now" if redo else "was"])
        _put(
            connection,
            story,
            (step_row["recording"], step_row["sample"]),
            cues_there and (cues_there[0], cues_there[1]),
        )
        connection.execute(
            "UPDATE caption_step SET undone = ? WHERE story = ? AND n = ?", (not redo, story, step_row["n"])
        )
    return str(step_row["did"])


def _file(connection: sqlite3.Connection, story: int) -> Pair:
    file_row = connection.execute("SELECT name, cues FROM caption_file WHERE story = ?", (story,)).fetchone()
    return None if file_row is None else (file_row[0], file_row[1])


def _step(connection: sqlite3.Connection, story: int, did: str, key: tuple[int, int], now: Pair) -> None:
    """One change, and what undoes it; nothing where nothing changes."""
    one = "SELECT was, text FROM caption_edit WHERE story = ? AND recording = ? AND sample = ?"
    old = connection.execute(one, (story, *key)).fetchone() if key[0] else None
    was = (old[0], old[1]) if old else None if key[0] else _file(connection, story)
    if was == now:
        return
    _put(connection, story, key, now)
    connection.execute("DELETE FROM caption_step WHERE story = ? AND undone", (story,))
    (n,) = connection.execute("SELECT coalesce(max(n), 0) + 1 FROM caption_step WHERE story = ?", (story,)).fetchone()
    kept = (json.dumps(step_state, ensure_ascii=False) for step_state in (was, now))
    connection.execute("INSERT INTO caption_step VALUES (?,?,?,?,?,?,?,0)", (story, n, did, *key, *kept))
    connection.execute("DELETE FROM caption_step WHERE story = ? AND n <= ?", (story, n - STEPS))


def _put(connection: sqlite3.Connection, story: int, key: tuple[int, int], now: Pair) -> None:
    if not key[0]:
        connection.execute("DELETE FROM caption_file WHERE story = ?", (story,))
        if now:
            connection.execute("INSERT INTO caption_file VALUES (?,?,?)", (story, *now))
        return
    connection.execute("DELETE FROM caption_edit WHERE story = ? AND recording = ? AND sample = ?", (story, *key))
    if now:
        connection.execute("INSERT INTO caption_edit VALUES (?,?,?,?,?)", (story, *key, *now))
