"""The database: one SQLite file, WAL, foreign keys, numbered migrations, short immediate transactions."""

import contextlib
import errno
import re
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib import resources
from importlib.resources.abc import Traversable
from pathlib import Path

from kovel.core.errors import Told
from kovel.core.story.model import Story
from kovel.core.words.transcript import Word


class Unopened(Told):
    """A database that cannot be opened, or must not be."""

    status = 503
    exit_code = 5


class Held(Told):
    """The disk, or who else holds it, does not let it be written now; nothing was changed."""

    status = 507
    exit_code = 5


def in_words(e: Exception) -> Told | None:
    """What a failure of disk or database means to the editor; None for what is none."""
    text = str(e)
    if (isinstance(e, OSError) and e.errno in (errno.ENOSPC, errno.EDQUOT)) or "disk is full" in text:
        return Held("The disk is full: nothing was changed. Make room on it, then try again.")
    if isinstance(e, sqlite3.OperationalError) and "locked" in text:
        return Held("Another program holds Kovel's database. Nothing was changed; close that program, then try again.")
    if (
        (isinstance(e, OSError) and e.errno in (errno.EACCES, errno.EPERM, errno.EROFS))
        or "readonly" in text
        or "unable to open" in text
    ):
        where = f" ({e.filename})" if isinstance(e, OSError) and e.filename else ""
        return Held(f"Kovel's folder cannot be written{where}. Nothing was changed; allow writing there, then try again.")
    if (isinstance(e, OSError) and e.errno == errno.EIO) or "disk I/O" in text:
        return Held("The disk does not answer as it should. Nothing was changed; look after the disk, then try again.")
    if isinstance(e, sqlite3.DatabaseError) and ("malformed" in text or "not a database" in text):
        return Unopened(
            "Kovel's database is damaged. `kovel doctor` tells more, `kovel restore` brings the last good copy back."
        )
    return None


LASTS = re.compile("readonly|disk I/O|unable to open")  # what a connection does not get over by itself


class Database:
    """Connections to one file, one a thread. `read()` for queries, `write()` for a transaction that all or nothing lands."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._local = threading.local()
        self.stories: dict[int, tuple[int, Story]] = {}  # by id: the revision last seen and the story at it
        self.words: dict[int, tuple[str, tuple[Word, ...]]] = {}  # by recording: the state last seen and the words at it
        self.guard: Callable[[int], None] = lambda story: None  # raises where whoever asks may not change a story now
        self.editor: Callable[[], tuple[str, str]] = lambda: ("", "")  # who asks, and what they are called; a program is nobody
        self._all: list[tuple[threading.Thread, sqlite3.Connection]] = []
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch(0o600)
            c = self._connection()
            if c.execute("PRAGMA user_version").fetchone()[0] > NEWEST:
                raise Unopened(
                    f"{path.parent} was written by a newer Kovel. Open it with that one, or update this one; nothing was changed."
                )
            migrate(c)
        except (sqlite3.Error, OSError) as e:
            told = in_words(e)
            raise (Unopened(str(told)) if told else e) from None

    def _connection(self) -> sqlite3.Connection:
        c = getattr(self._local, "connection", None)
        if c is None:
            c = sqlite3.connect(self.path, timeout=15, isolation_level=None, check_same_thread=False)
            c.row_factory = sqlite3.Row
            c.execute("PRAGMA journal_mode = WAL")
            c.execute("PRAGMA synchronous = FULL")
            c.execute("PRAGMA foreign_keys = ON")
            self._local.connection = c
            for t, old in self._all:
                if not t.is_alive():
                    old.close()
            self._all = [(t, old) for t, old in self._all if t.is_alive()] + [(threading.current_thread(), c)]
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
        try:
            c.execute("BEGIN IMMEDIATE")
            yield c
            c.execute("COMMIT")
        except BaseException as e:
            self.stories.clear()  # what was seen inside may be a revision that never was
            if c.in_transaction:  # SQLite takes some back by itself, on a full disk for one
                with contextlib.suppress(sqlite3.Error):
                    c.execute("ROLLBACK")
            if isinstance(e, sqlite3.OperationalError) and LASTS.search(str(e)):
                self._let_go(c)
            raise

    def _let_go(self, c: sqlite3.Connection) -> None:
        """Open a new connection the next time: one that was opened while the disk could not be written stays so."""
        with contextlib.suppress(sqlite3.Error):
            c.close()
        self._all = [x for x in self._all if x[1] is not c]
        self._local.connection = None

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
        """Close every connection, with all that was written in the main file: a copy of it alone is whole."""
        with contextlib.suppress(sqlite3.Error):
            self._connection().execute("PRAGMA wal_checkpoint(TRUNCATE)")
        for _, c in self._all:
            with contextlib.suppress(sqlite3.Error):
                c.close()
        self._all.clear()
        self._local = threading.local()


def fresh(c: sqlite3.Connection, table: str) -> int:
    """A number for a new row of a table, never one that a row had before; inside a transaction."""
    c.execute("INSERT OR IGNORE INTO issued VALUES (?, 0)", (table,))
    sql = f"UPDATE issued SET last = max(last, (SELECT coalesce(max(id), 0) FROM {table})) + 1 WHERE kind = ? RETURNING last"
    return int(c.execute(sql, (table,)).fetchone()[0])


def _files() -> list[Traversable]:
    folder = resources.files("kovel.store").joinpath("migrations")
    return sorted((f for f in folder.iterdir() if f.name.endswith(".sql")), key=lambda f: f.name)


NEWEST = max(int(f.name[:4]) for f in _files())  # the schema this Kovel writes


def _statements(script: str) -> Iterator[str]:
    """The statements of a script, each whole: those inside a trigger end no statement, and text and comments may hold semicolons."""
    begun = ""
    *parts, rest = script.split(";")
    for part in parts:
        begun += f"{part};"
        if sqlite3.complete_statement(begun):
            yield begun
            begun = ""
    left = re.sub(r"--[^\n]*", "", begun + rest).strip()
    if left:
        raise ValueError(f"a migration ends amid a statement: {left[:80]}")


def migrate(c: sqlite3.Connection, until: int = 9999) -> None:
    """Apply each migrations/NNNN_*.sql up to that number that this file has not seen, in order, each in a transaction of its own."""
    for f in _files():
        number = int(f.name[:4])
        if number > until:
            return
        if c.execute("PRAGMA user_version").fetchone()[0] >= number:
            continue
        c.execute("BEGIN IMMEDIATE")
        if c.execute("PRAGMA user_version").fetchone()[0] < number:  # another process may have been first
            for statement in _statements(f.read_text()):
                c.execute(statement)
            c.execute(f"PRAGMA user_version = {number}")
        c.execute("COMMIT")
