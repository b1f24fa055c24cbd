"""Copies of the database: made while it is used, whole or not at all, kept by the day and by the week; and put back."""

import contextlib
import os
import re
import sqlite3
from collections.abc import Sequence
from datetime import date
from pathlib import Path

from kovel.core.errors import Invalid
from kovel.store.db import NEWEST, Database, in_words

NAMED = re.compile(r"kovel-(\d{4}-\d\d-\d\d)\.db")
DAYS, WEEKS = 7, 4


def back_up(database: Database, to: Path) -> Path:
    """Copy the database as it stands into a file, by SQLite's own backup (a consistent state, also amid edits)."""
    part = to.with_name(f"{to.name}.{os.getpid()}.part")
    try:
        to.parent.mkdir(parents=True, exist_ok=True)
        part.touch(0o600)
        with contextlib.closing(sqlite3.connect(part)) as connection:
            database.read().backup(connection)
            connection.execute("PRAGMA journal_mode = DELETE")  # a copy is one file
        if wrong := damage(part):
            raise Invalid(f"The copy came out damaged ({wrong}). The disk may be failing; look at `kovel doctor`.")
        with part.open("rb") as file:
            os.fsync(file.fileno())
        part.replace(to)
    except (sqlite3.Error, OSError) as error:
        raise in_words(error) or error from None
    finally:
        part.unlink(missing_ok=True)
    return to


def damage(path: Path) -> str:
    """What is wrong with a database file; nothing where it is whole and this Kovel can read it."""
    try:
        with contextlib.closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as connection:
            damage_found = [damage_row[0] for damage_row in connection.execute("PRAGMA quick_check(3)")]
            version = int(connection.execute("PRAGMA user_version").fetchone()[0])
            names = {
                table_row[0] for table_row in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
            }
    except sqlite3.Error as error:
        return str(error)
    if damage_found != ["ok"]:
        return "; ".join(damage_found)[:300]
    if not {"project", "story", "journal"} <= names:
        return "it is no database of Kovel"
    return "it was written by a newer Kovel" if version > NEWEST else ""


def copies(folder: Path) -> list[tuple[date, Path]]:
    """The daily copies in a folder, newest first."""
    copies_found = [
        (date.fromisoformat(match[1]), path)
        for path in folder.glob("kovel-*.db")
        if (match := NAMED.fullmatch(path.name))
    ]
    return sorted(copies_found, reverse=True)


def old(days: Sequence[date], today: date) -> list[date]:
    """Which of the copies' days may go: kept are seven days, and the last of each of four weeks before."""
    keep = {day for day in days if (today - day).days < DAYS}
    weeks: dict[tuple[int, int], date] = {}
    for day in sorted(days):
        if day not in keep:
            weeks[day.isocalendar()[:2]] = day
    keep |= set(sorted(weeks.values())[-WEEKS:])
    return [day for day in days if day not in keep]


def daily(database: Database, folder: Path, today: date) -> Path | None:
    """Today's copy, if there is none yet; older ones that are not kept go."""
    to = folder / f"kovel-{today.isoformat()}.db"
    if to.exists():
        return None
    back_up(database, to)
    kept = dict(copies(folder))
    for d in old(list(kept), today):
        kept[d].unlink(missing_ok=True)
    return to


def put_back(path: Path, copy: Path, aside: Path) -> None:
    """A copy takes the place of the database at `path`, which goes `aside`. Nobody may have it open."""
    if not copy.is_file():
        raise Invalid(f"There is no file {copy}.")
    if wrong := damage(copy):
        raise Invalid(f"{copy.name} cannot be brought back: {wrong}. Nothing was changed.")
    part = path.with_name(f"{path.name}.part")
    try:
        with contextlib.closing(sqlite3.connect(f"file:{copy}?mode=ro", uri=True)) as connection:
            part.unlink(missing_ok=True)
            part.touch(0o600)
            with contextlib.closing(sqlite3.connect(part)) as db:
                connection.backup(db)
        for end in ("", "-wal", "-shm"):
            with contextlib.suppress(FileNotFoundError):
                path.with_name(path.name + end).replace(aside.with_name(aside.name + end))
        part.replace(path)
    except (sqlite3.Error, OSError) as error:
        raise in_words(error) or error from None
    finally:
        part.unlink(missing_ok=True)
