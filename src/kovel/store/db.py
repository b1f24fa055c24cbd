"""The database: one SQLite file, WAL, foreign keys, numbered migrations, short immediate transactions."""

import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import resources
from pathlib import Path

from kovel.core.story.model import Story
from kovel.core.words.transcript import Word


class Database:
    """Connections to one file, one a thread. `read()` for queries, `write()` for a transaction that all or nothing lands."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._local = threading.local()
        self.stories: dict[int, tuple[int, Story]] = {}  # by id: the revision last seen and the story at it
        self.words: dict[int, tuple[str, tuple[Word, ...]]] = {}  # by recording: the state last seen and the words at it
        path.parent.mkdir(parents=True, exist_ok=True)
        migrate(self._connection())

    def _connection(self) -> sqlite3.Connection:
        c = getattr(self._local, "connection", None)
        if c is None:
            c = sqlite3.connect(self.path, timeout=15, isolation_level=None)
            c.row_factory = sqlite3.Row
            c.execute("PRAGMA journal_mode = WAL")
            c.execute("PRAGMA synchronous = FULL")
            c.execute("PRAGMA foreign_keys = ON")
            self._local.connection = c
        return c

    def read(self) -> sqlite3.Connection:
        return self._connection()

    @contextmanager
    def write(self) -> Iterator[sqlite3.Connection]:
        """A transaction that holds the write lock from its first read; rolled back on any exception. Inside another one of
        the same thread it is part of that."""
        c = self._connection()
        if c.in_transaction:
            yield c
            return
        c.execute("BEGIN IMMEDIATE")
        try:
            yield c
        except BaseException:
            c.execute("ROLLBACK")
            raise
        c.execute("COMMIT")

    @contextmanager
    def snapshot(self) -> Iterator[sqlite3.Connection]:
        """Several queries that all see the same state."""
        c = self._connection()
        if c.in_transaction:
            yield c
            return
        c.execute("BEGIN")
        try:
            yield c
        finally:
            c.execute("COMMIT")

    def close(self) -> None:
        c = getattr(self._local, "connection", None)
        if c is not None:
            c.close()
            self._local.connection = None


def fresh(c: sqlite3.Connection, table: str) -> int:
    """A number for a new row of a table, never one that a row had before; inside a transaction."""
    c.execute("INSERT OR IGNORE INTO issued VALUES (?, 0)", (table,))
    sql = f"UPDATE issued SET last = max(last, (SELECT coalesce(max(id), 0) FROM {table})) + 1 WHERE kind = ? RETURNING last"
    return int(c.execute(sql, (table,)).fetchone()[0])


def migrate(c: sqlite3.Connection, until: int = 9999) -> None:
    """Apply each migrations/NNNN_*.sql up to that number that this file has not seen, in order, each in a transaction of its own."""
    files = sorted(
        (f for f in resources.files("kovel.store").joinpath("migrations").iterdir() if f.name.endswith(".sql")),
        key=lambda f: f.name,
    )
    for f in files:
        number = int(f.name[:4])
        if number > until:
            return
        if c.execute("PRAGMA user_version").fetchone()[0] >= number:
            continue
        c.execute("BEGIN IMMEDIATE")
        if c.execute("PRAGMA user_version").fetchone()[0] < number:  # another process may have been first
            script = "\n".join(line.split("--")[0] for line in f.read_text().splitlines())
            for statement in filter(str.strip, script.split(";")):
                c.execute(statement.replace("|", ";"))  # a semicolon inside a trigger is written |
            c.execute(f"PRAGMA user_version = {number}")
        c.execute("COMMIT")
