"""What an editor decided about a recording: Tighten's desk with its undo, the quick cut's choices, corrected beats; and how
recordings were matched by sound."""

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


def desk(db: Database, recording: int) -> Desk:
    with db.snapshot() as c:
        return _desk(c, recording)


def _desk(c: sqlite3.Connection, recording: int) -> Desk:
    r = c.execute("SELECT * FROM tighten WHERE recording = ?", (recording,)).fetchone()
    if r is None:
        return Desk()
    rows = c.execute(
        "SELECT key, taken, start, end FROM tighten_decision WHERE recording = ? ORDER BY key", (recording,)
    ).fetchall()
    kinds = c.execute("SELECT kind FROM tighten_kind_off WHERE recording = ? ORDER BY kind", (recording,))
    safe = c.execute("SELECT start, end FROM tighten_protected WHERE recording = ? ORDER BY start, end", (recording,))
    return Desk(
        Settings(r["shortest"], r["before"], r["after"], r["island"], r["threshold"]),
        [x["key"] for x in rows if x["taken"] == 0],
        [x["key"] for x in rows if x["taken"] == 1],
        [x["kind"] for x in kinds],
        {x["key"]: [x["start"], x["end"]] for x in rows if x["start"] is not None},
        [[x["start"], x["end"]] for x in safe],
    )


def put_desk(db: Database, recording: int, d: Desk) -> None:
    """Keep a desk; the one before it is kept for `undo_desk`."""
    with db.write() as c:
        was = json.dumps(asdict(_desk(c, recording)))
        n = c.execute("SELECT coalesce(max(n), 0) + 1 FROM desk_step WHERE recording = ?", (recording,)).fetchone()[0]
        c.execute("INSERT INTO desk_step VALUES (?, ?, ?)", (recording, n, was))
        _put_desk(c, recording, d)


def _put_desk(c: sqlite3.Connection, recording: int, d: Desk) -> None:
    s = d.settings
    c.execute("DELETE FROM tighten WHERE recording = ?", (recording,))  # and with it all that refers to it
    c.execute(
        "INSERT INTO tighten VALUES (?, ?, ?, ?, ?, ?)", (recording, s.shortest, s.before, s.after, s.island, s.threshold)
    )
    c.executemany("INSERT INTO tighten_kind_off VALUES (?, ?)", [(recording, k) for k in dict.fromkeys(d.kinds_off)])
    taken = dict.fromkeys(d.off, 0) | dict.fromkeys(d.on, 1)
    c.executemany(
        "INSERT INTO tighten_decision VALUES (?, ?, ?, ?, ?)",
        [(recording, k, taken.get(k), *d.moved.get(k, (None, None))) for k in dict.fromkeys([*taken, *d.moved])],
    )
    c.executemany("INSERT OR IGNORE INTO tighten_protected VALUES (?, ?, ?)", [(recording, a, b) for a, b in d.protected])


def undo_desk(db: Database, recording: int) -> bool:
    """Back to the desk before the last change; False if there is none before."""
    with db.write() as c:
        r = c.execute("SELECT n, value FROM desk_step WHERE recording = ? ORDER BY n DESC LIMIT 1", (recording,)).fetchone()
        if r is None:
            return False
        c.execute("DELETE FROM desk_step WHERE recording = ? AND n = ?", (recording, r["n"]))
        d = json.loads(r["value"]) if r["value"] else asdict(Desk())
        _put_desk(c, recording, Desk(Settings(**d.pop("settings")), **d))
    return True


def quick(db: Database, recording: int) -> QuickDesk:
    with db.snapshot() as c:
        r = c.execute("SELECT * FROM quick_cut WHERE recording = ?", (recording,)).fetchone()
        if r is None:
            return QuickDesk()
        off = [x[0] for x in c.execute("SELECT sample FROM hit_off WHERE recording = ? ORDER BY sample", (recording,))]
    how = Quick(r["before"], r["length"], bool(r["ring"]), r["most"], r["intro"], r["target"])
    return QuickDesk(how, r["sensitivity"], off, r["music"])


def put_quick(db: Database, recording: int, d: QuickDesk) -> None:
    q = d.how
    with db.write() as c:
        c.execute("DELETE FROM quick_cut WHERE recording = ?", (recording,))
        c.execute(
            "INSERT INTO quick_cut VALUES (?,?,?,?,?,?,?,?,?)",
            (recording, q.before, q.length, q.ring, q.most, q.intro, q.target, d.sensitivity, d.music),
        )
        c.executemany("INSERT INTO hit_off VALUES (?, ?)", [(recording, s) for s in dict.fromkeys(d.off)])


def beats(db: Database, recording: int) -> Beats | None:
    """The beats as the editor corrected them; None while they are as they were found."""
    with db.snapshot() as c:
        r = c.execute("SELECT * FROM beats_corrected WHERE recording = ?", (recording,)).fetchone()
        if r is None:
            return None
        rows = c.execute("SELECT sample FROM beat WHERE recording = ? ORDER BY sample", (recording,))
        return Beats(tuple(x[0] for x in rows), r["tempo"], r["first"], r["bar"])


def put_beats(db: Database, recording: int, b: Beats | None) -> None:
    """Keep corrected beats, or (None) go back to those found."""
    with db.write() as c:
        c.execute("DELETE FROM beats_corrected WHERE recording = ?", (recording,))
        if b is not None:
            c.execute("INSERT INTO beats_corrected VALUES (?, ?, ?, ?)", (recording, b.tempo, b.first, b.bar))
            c.executemany("INSERT INTO beat VALUES (?, ?)", [(recording, s) for s in dict.fromkeys(b.beats)])


@dataclass(frozen=True, slots=True)
class Match:
    """How a recording was matched by sound: the likeness at each offset (s, 0 to 1), and which windows agree."""

    curve: list[tuple[float, float]]
    windows: list[tuple[float, float, bool]]


def match(db: Database, recording: int) -> Match:
    """Empty where it was not matched by sound."""
    r = db.read().execute("SELECT curve, windows FROM sync_match WHERE recording = ?", (recording,)).fetchone()
    return Match([], []) if r is None else Match(json.loads(r[0]), json.loads(r[1]))


def put_match(db: Database, recording: int, curve: list[Any], windows: list[Any]) -> None:
    with db.write() as c:
        c.execute("INSERT OR REPLACE INTO sync_match VALUES (?, ?, ?)", (recording, json.dumps(curve), json.dumps(windows)))


# tables with one row or more for a recording, parents first: what a copy of a recording takes along
OF_RECORDING = (
    "tighten", "tighten_kind_off", "tighten_decision", "tighten_protected", "quick_cut", "hit_off", "beats_corrected", "beat",
    "sync_match",
)  # fmt: skip


def copy(c: sqlite3.Connection, ids: dict[int, int]) -> None:
    """All decisions on recordings once more for their copies; music that a quick cut goes to is the copy's as well."""
    for table in OF_RECORDING:
        found = c.execute(f"SELECT * FROM {table}").fetchall()
        for r in found:
            if r["recording"] in ids:
                row = [ids.get(r[k]) if k in ("recording", "music") else r[k] for k in r.keys()]  # noqa: SIM118
                c.execute(f"INSERT INTO {table} VALUES ({','.join('?' * len(row))})", row)
