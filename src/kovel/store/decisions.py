"""What an editor decided about a recording: Tighten's desk with its undo, the quick cut's choices, corrected beats;
and how recordings were matched by sound."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import asdict, dataclass, field
from typing import Any

from kovel.core.sound.beats import Beats
from kovel.core.sound.hits import Quick
from kovel.core.sound.pauses import Settings
from kovel.store.db import Database


@dataclass
class Desk:
    """The editor's settings and decisions on tightening one recording."""

    settings: Settings = field(default_factory=Settings)
    off: list[str] = field(default_factory=list)  # keys of proposals left in
    on: list[str] = field(default_factory=list)  # keys taken out although their kind is left in
    kinds_off: list[str] = field(default_factory=lambda: ["question"])
    moved: dict[str, list[int]] = field(default_factory=dict)  # key -> [start, end] after nudging
    protected: list[list[int]] = field(default_factory=list)


@dataclass
class QuickDesk:
    """The editor's choices for the quick cut of one take."""

    how: Quick = field(default_factory=Quick)
    sensitivity: float = 0.5
    off: list[int] = field(default_factory=list)  # samples of hits left out
    music: int | None = None  # recording whose beats the hits go to


def desk(database: Database, recording: int) -> Desk:
    with database.snapshot() as connection:
        return _desk(connection, recording)


def _desk(connection: sqlite3.Connection, recording: int) -> Desk:
    row = connection.execute("SELECT * FROM tighten WHERE recording = ?", (recording,)).fetchone()
    if row is None:
        return Desk()
    rows = connection.execute(
        "SELECT key, taken, start, end FROM tighten_decision WHERE recording = ? ORDER BY key", (recording,)
    ).fetchall()
    kinds = connection.execute("SELECT kind FROM tighten_kind_off WHERE recording = ? ORDER BY kind", (recording,))
    safe = connection.execute(
        "SELECT start, end FROM tighten_protected WHERE recording = ? ORDER BY start, end", (recording,)
    )
    return Desk(
        Settings(row["shortest"], row["before"], row["after"], row["island"], row["threshold"]),
        [row["key"] for row in rows if row["taken"] == 0],
        [row["key"] for row in rows if row["taken"] == 1],
        [kind["kind"] for kind in kinds],
        {row["key"]: [row["start"], row["end"]] for row in rows if row["start"] is not None},
        [[x["start"], x["end"]] for x in safe],
    )


def put_desk(database: Database, recording: int, this_desk: Desk) -> None:
    """Keep a desk; the one before it is kept for `undo_desk`."""
    with database.write() as connection:
        was = json.dumps(asdict(_desk(connection, recording)))
        n = connection.execute(
            "SELECT coalesce(max(n), 0) + 1 FROM desk_step WHERE recording = ?", (recording,)
        ).fetchone()[0]
        connection.execute("INSERT INTO desk_step VALUES (?, ?, ?)", (recording, n, was))
        _put_desk(connection, recording, this_desk)


def _put_desk(connection: sqlite3.Connection, recording: int, this_desk: Desk) -> None:
    settings = this_desk.settings
    connection.execute("DELETE FROM tighten WHERE recording = ?", (recording,))  # and with it all that refers to it
    connection.execute(
        "INSERT INTO tighten VALUES (?, ?, ?, ?, ?, ?)",
        (recording, settings.shortest, settings.before, settings.after, settings.island, settings.threshold),
    )
    connection.executemany(
        "INSERT INTO tighten_kind_off VALUES (?, ?)", [(recording, name) for name in dict.fromkeys(this_desk.kinds_off)]
    )
    taken = dict.fromkeys(this_desk.off, 0) | dict.fromkeys(this_desk.on, 1)
    connection.executemany(
        "INSERT INTO tighten_decision VALUES (?, ?, ?, ?, ?)",
        [
            (recording, name, taken.get(name), *this_desk.moved.get(name, (None, None)))
            for name in dict.fromkeys([*taken, *this_desk.moved])
        ],
    )
    connection.executemany(
        "INSERT OR IGNORE INTO tighten_protected VALUES (?, ?, ?)",
        [(recording, start, end) for start, end in this_desk.protected],
    )


def undo_desk(database: Database, recording: int) -> bool:
    """Back to the desk before the last change; False if there is none before."""
    with database.write() as connection:
        row = connection.execute(
            "SELECT n, value FROM desk_step WHERE recording = ? ORDER BY n DESC LIMIT 1", (recording,)
        ).fetchone()
        if row is None:
            return False
        connection.execute("DELETE FROM desk_step WHERE recording = ? AND n = ?", (recording, row["n"]))
        d = json.loads(row["value"]) if row["value"] else asdict(Desk())
        _put_desk(connection, recording, Desk(Settings(**d.pop("settings")), **d))
    return True


def quick(database: Database, recording: int) -> QuickDesk:
    with database.snapshot() as connection:
        row = connection.execute("SELECT * FROM quick_cut WHERE recording = ?", (recording,)).fetchone()
        if row is None:
            return QuickDesk()
        off = [
            x[0]
            for x in connection.execute("SELECT sample FROM hit_off WHERE recording = ? ORDER BY sample", (recording,))
        ]
    how = Quick(row["before"], row["length"], bool(row["ring"]), row["most"], row["intro"], row["target"])
    return QuickDesk(how, row["sensitivity"], off, row["music"])


def put_quick(database: Database, recording: int, this_desk: QuickDesk) -> None:
    q = this_desk.how
    with database.write() as connection:
        connection.execute("DELETE FROM quick_cut WHERE recording = ?", (recording,))
        connection.execute(
            "INSERT INTO quick_cut VALUES (?,?,?,?,?,?,?,?,?)",
            (recording, q.before, q.length, q.ring, q.most, q.intro, q.target, this_desk.sensitivity, this_desk.music),
        )
        connection.executemany(
            "INSERT INTO hit_off VALUES (?, ?)", [(recording, s) for s in dict.fromkeys(this_desk.off)]
        )


def beats(database: Database, recording: int) -> Beats | None:
    """The beats as the editor corrected them; None while they are as they were found."""
    with database.snapshot() as connection:
        row = connection.execute("SELECT * FROM beats_corrected WHERE recording = ?", (recording,)).fetchone()
        if row is None:
            return None
        rows = connection.execute("SELECT sample FROM beat WHERE recording = ? ORDER BY sample", (recording,))
        return Beats(tuple(row[0] for row in rows), row["tempo"], row["first"], row["bar"])


def put_beats(database: Database, recording: int, this_beats: Beats | None) -> None:
    """Keep corrected beats, or (None) go back to those found."""
    with database.write() as connection:
        connection.execute("DELETE FROM beats_corrected WHERE recording = ?", (recording,))
        if this_beats is not None:
            connection.execute(
                "INSERT INTO beats_corrected VALUES (?, ?, ?, ?)",
                (recording, this_beats.tempo, this_beats.first, this_beats.bar),
            )
            connection.executemany(
                "INSERT INTO beat VALUES (?, ?)", [(recording, s) for s in dict.fromkeys(this_beats.beats)]
            )


@dataclass(frozen=True, slots=True)
class Match:
    """How a recording was matched by sound: the likeness at each offset (s, 0 to 1), and which windows agree."""

    curve: list[tuple[float, float]]
    windows: list[tuple[float, float, bool]]


def match(database: Database, recording: int) -> Match:
    """Empty where it was not matched by sound."""
    row = database.read().execute("SELECT curve, windows FROM sync_match WHERE recording = ?", (recording,)).fetchone()
    return Match([], []) if row is None else Match(json.loads(row[0]), json.loads(row[1]))


def put_match(database: Database, recording: int, curve: list[Any], windows: list[Any]) -> None:
    with database.write() as connection:
        connection.execute(
            "INSERT OR REPLACE INTO sync_match VALUES (?, ?, ?)", (recording, json.dumps(curve), json.dumps(windows))
        )


# tables with one row or more for a recording, parents first: what a copy of a recording takes along
OF_RECORDING = (
    "tighten",
    "tighten_kind_off",
    "tighten_decision",
    "tighten_protected",
    "quick_cut",
    "hit_off",
    "beats_corrected",
    "beat",
    "sync_match",
)


def copy(connection: sqlite3.Connection, ids: dict[int, int]) -> None:
    """All decisions on recordings once more for their copies; music that a quick cut goes to is the copy's as well."""
    for table in OF_RECORDING:
        found = connection.execute(f"SELECT * FROM {table}").fetchall()
        for r in found:
            if r["recording"] in ids:
                row = [ids.get(r[k]) if k in ("recording", "music") else r[k] for k in r.keys()]  # noqa: SIM118
                connection.execute(f"INSERT INTO {table} VALUES ({','.join('?' * len(row))})", row)
