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
    desk_row = connection.execute("SELECT * FROM tighten WHERE recording = ?", (recording,)).fetchone()
    if desk_row is None:
        return Desk()
    decision_rows = connection.execute(
        "SELECT key, taken, start, end FROM tighten_decision WHERE recording = ? ORDER BY key", (recording,)
    ).fetchall()
    kinds = connection.execute("SELECT kind FROM tighten_kind_off WHERE recording = ? ORDER BY kind", (recording,))
    safe = connection.execute(
        "SELECT start, end FROM tighten_protected WHERE recording = ? ORDER BY start, end", (recording,)
    )
    return Desk(
        Settings(
            desk_row["shortest"], desk_row["before"], desk_row["after"], desk_row["island"], desk_row["threshold"]
        ),
        [decision_row["key"] for decision_row in decision_rows if decision_row["taken"] == 0],
        [decision_row["key"] for decision_row in decision_rows if decision_row["taken"] == 1],
        [kind["kind"] for kind in kinds],
        {
            decision_row["key"]: [decision_row["start"], decision_row["end"]]
            for decision_row in decision_rows
            if decision_row["start"] is not None
        },
        [[safe_span["start"], safe_span["end"]] for safe_span in safe],
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
        step_row = connection.execute(
            "SELECT n, value FROM desk_step WHERE recording = ? ORDER BY n DESC LIMIT 1", (recording,)
        ).fetchone()
        if step_row is None:
            return False
        connection.execute("DELETE FROM desk_step WHERE recording = ? AND n = ?", (recording, step_row["n"]))
        d = json.loads(step_row["value"]) if step_row["value"] else asdict(Desk())
        _put_desk(connection, recording, Desk(Settings(**d.pop("settings")), **d))
    return True


def quick(database: Database, recording: int) -> QuickDesk:
    with database.snapshot() as connection:
        quick_row = connection.execute("SELECT * FROM quick_cut WHERE recording = ?", (recording,)).fetchone()
        if quick_row is None:
            return QuickDesk()
        off = [
            off_row[0]
            for off_row in connection.execute(
                "SELECT sample FROM hit_off WHERE recording = ? ORDER BY sample", (recording,)
            )
        ]
    how = Quick(
        quick_row["before"],
        quick_row["length"],
        bool(quick_row["ring"]),
        quick_row["most"],
        quick_row["intro"],
        quick_row["target"],
    )
    return QuickDesk(how, quick_row["sensitivity"], off, quick_row["music"])


def put_quick(database: Database, recording: int, this_desk: QuickDesk) -> None:
    quick_values = this_desk.how
    with database.write() as connection:
        connection.execute("DELETE FROM quick_cut WHERE recording = ?", (recording,))
        connection.execute(
            "INSERT INTO quick_cut VALUES (?,?,?,?,?,?,?,?,?)",
            (
                recording,
                quick_values.before,
                quick_values.length,
                quick_values.ring,
                quick_values.most,
                quick_values.intro,
                quick_values.target,
                this_desk.sensitivity,
                this_desk.music,
            ),
        )
        connection.executemany(
            "INSERT INTO hit_off VALUES (?, ?)",
            [(recording, off_sample) for off_sample in dict.fromkeys(this_desk.off)],
        )


def beats(database: Database, recording: int) -> Beats | None:
    """The beats as the editor corrected them; None while they are as they were found."""
    with database.snapshot() as connection:
        corrected_row = connection.execute("SELECT * FROM beats_corrected WHERE recording = ?", (recording,)).fetchone()
        if corrected_row is None:
            return None
        beat_rows = connection.execute("SELECT sample FROM beat WHERE recording = ? ORDER BY sample", (recording,))
        return Beats(
            tuple(beat_row[0] for beat_row in beat_rows),
            corrected_row["tempo"],
            corrected_row["first"],
            corrected_row["bar"],
        )


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
                "INSERT INTO beat VALUES (?, ?)",
                [(recording, beat_sample) for beat_sample in dict.fromkeys(this_beats.beats)],
            )


@dataclass(frozen=True, slots=True)
class Match:
    """How a recording was matched by sound: the likeness at each offset (s, 0 to 1), and which windows agree."""

    curve: list[tuple[float, float]]
    windows: list[tuple[float, float, bool]]


def match(database: Database, recording: int) -> Match:
    """Empty where it was not matched by sound."""
    match_row = (
        database.read().execute("SELECT curve, windows FROM sync_match WHERE recording = ?", (recording,)).fetchone()
    )
    return Match([], []) if match_row is None else Match(json.loads(match_row[0]), json.loads(match_row[1]))


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
        rows_found = connection.execute(f"SELECT * FROM {table}").fetchall()
        for found_row in rows_found:
            if found_row["recording"] in ids:
                copied_row = [
                    ids.get(value) if column_name in ("recording", "music") else value
                    for column_name, value in dict(found_row).items()
                ]
                connection.execute(f"INSERT INTO {table} VALUES ({','.join('?' * len(copied_row))})", copied_row)
