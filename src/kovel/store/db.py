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


def in_words(error: Exception) -> Told | None:
    """What a failure of disk or database means to the editor; None for what is none."""
    text = str(error)
    number = error.errno if isinstance(error, OSError) else None
    if number in (errno.ENOSPC, errno.EDQUOT) or "disk is full" in text:
        return Held("The disk is full: nothing was changed. Make room on it, then try again.")
    if isinstance(error, sqlite3.OperationalError) and "locked" in text:
        return Held("Another program holds Kovel's database. Nothing was changed; close that program, then try again.")
    if number in (errno.EACCES, errno.EPERM, errno.EROFS) or "readonly" in text or "unable to open" in text:
        file = getattr(error, "filename", None)
        where = f" ({file})" if file else ""
        return Held(
            f"Kovel's folder cannot be written{where}. Nothing was changed; allow writing there, then try again."
        )
    if number == errno.EIO or "disk I/O" in text:
        return Held("The disk does not answer as it should. Nothing was changed; look after the disk, then try again.")
    if isinstance(error, sqlite3.DatabaseError) and ("malformed" in text or "not a database" in text):
        return Unopened(
            "Kovel's database is damaged. `kovel doctor` tells more, `kovel restore` brings the last good copy back."
        )
    return None


LASTS = re.compile("readonly|disk I/O|unable to open")  # what a connection does not get over by itself


class Database:
    """Connections to one file, one a thread. `read()` for queries, `write()` for a transaction that all or nothing
    lands."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._local = threading.local()
        self.stories: dict[int, tuple[int, Story]] = {}  # by id: the revision last seen and the story at it
        self.words: dict[
            int, tuple[str, tuple[Word, ...]]
        ] = {}  # by recording: the state last seen and the words at it
        self.guard: Callable[[int], None] = lambda story: None  # raises where whoever asks may not change a story now
        self.editor: Callable[[], tuple[str, str]] = lambda: (
            "",
            "",
        )  # who asks, and what they are called; a program is nobody
        self._all: list[tuple[threading.Thread, sqlite3.Connection]] = []
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch(0o600)
            connection = self._connection()
            if connection.execute("PRAGMA user_version").fetchone()[0] > NEWEST:
                raise Unopened(
                    f"{path.parent} was written by a newer Kovel. Open it with that one, or update this one; "
                    "nothing was changed."
                )
            migrate(connection)
        except (sqlite3.Error, OSError) as error:
            told_words = in_words(error)
            raise (Unopened(str(told_words)) if told_words else error) from None

    def _connection(self) -> sqlite3.Connection:
        connection = getattr(self._local, "connection", None)
        if connection is None:
            connection = sqlite3.connect(self.path, timeout=15, isolation_level=None, check_same_thread=False)
            connection.row_factory = sqlite3.Row
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("PRAGMA synchronous = FULL")
            connection.execute("PRAGMA foreign_keys = ON")
            self._local.connection = connection
            for thread, old in self._all:
                if not thread.is_alive():
                    old.close()
            self._all = [(thread, old) for thread, old in self._all if thread.is_alive()] + [
                (threading.current_thread(), connection)
            ]
        return connection

    def read(self) -> sqlite3.Connection:
        """The connection of this thread, for reading."""
        return self._connection()

    @contextmanager
    def write(self) -> Iterator[sqlite3.Connection]:
        """A transaction that holds the write lock from its first read; rolled back on any exception. Inside another
        one of the same thread it is part of that."""
        connection = self._connection()
        if connection.in_transaction:
            yield connection
            return
        try:
            connection.execute("BEGIN IMMEDIATE")
            yield connection
            connection.execute("COMMIT")
        except BaseException as error:
            self.stories.clear()  # what was seen inside may be a revision that never was
            if connection.in_transaction:  # SQLite takes some back by itself, on a full disk for one
                with contextlib.suppress(sqlite3.Error):
                    connection.execute("ROLLBACK")
            if isinstance(error, sqlite3.OperationalError) and LASTS.search(str(error)):
                self._let_go(connection)
            raise

    def _let_go(self, connection: sqlite3.Connection) -> None:
        """Open a new connection the next time: one that was opened while the disk could not be written stays so."""
        with contextlib.suppress(sqlite3.Error):
            connection.close()
        self._all = [this_connection for this_connection in self._all if this_connection[1] is not connection]
        self._local.connection = None

    @contextmanager
    def snapshot(self) -> Iterator[sqlite3.Connection]:
        """Several queries that all see the same state."""
        connection = self._connection()
        if connection.in_transaction:
            yield connection
            return
        connection.execute("BEGIN")
        try:
            yield connection
        finally:
            connection.execute("COMMIT")

    def close(self) -> None:
        """Close every connection, with all that was written in the main file: a copy of it alone is whole."""
        with contextlib.suppress(sqlite3.Error):
            self._connection().execute("PRAGMA wal_checkpoint(TRUNCATE)")
        for _, connection in self._all:
            with contextlib.suppress(sqlite3.Error):
                connection.close()
        self._all.clear()
        self._local = threading.local()


def fresh(connection: sqlite3.Connection, table: str) -> int:
    """A number for a new row of a table, never one that a row had before; inside a transaction."""
    connection.execute("INSERT OR IGNORE INTO issued VALUES (?, 0)", (table,))
    sql = (
        f"UPDATE issued SET last = max(last, (SELECT coalesce(max(id), 0) FROM {table})) + 1 WHERE kind = ? RETURNING "
        "last"
    )
    return int(connection.execute(sql, (table,)).fetchone()[0])


def _files() -> list[Traversable]:
    folder = resources.files("kovel.store").joinpath("migrations")
    return sorted((file for file in folder.iterdir() if file.name.endswith(".sql")), key=lambda f: f.name)


NEWEST = max(int(file.name[:4]) for file in _files())  # the schema this Kovel writes


def _statements(script: str) -> Iterator[str]:
    """The statements of a script, each whole: those inside a trigger end no statement, and text and comments may
    hold semicolons."""
    begun = ""
    *parts, rest = script.split(";")
    for part in parts:
        begun += f"{part};"
        if sqlite3.complete_statement(begun):
            yield begun
            begun = ""
    rest_left = re.sub(r"--[^\n]*", "", begun + rest).strip()
    if rest_left:
        raise ValueError(f"a migration ends amid a statement: {rest_left[:80]}")


def migrate(connection: sqlite3.Connection, until: int = 9999) -> None:
    """Apply each migrations/NNNN_*.sql up to that number that this file has not seen, in order, each in a
    transaction of its own."""
    for file in _files():
        number = int(file.name[:4])
        if number > until:
            return
        if connection.execute("PRAGMA user_version").fetchone()[0] >= number:
            continue
        connection.execute("BEGIN IMMEDIATE")
        if connection.execute("PRAGMA user_version").fetchone()[0] < number:  # another process may have been first
            for statement in _statements(file.read_text()):
                connection.execute(statement)
            connection.execute(f"PRAGMA user_version = {number}")
        connection.execute("COMMIT")
