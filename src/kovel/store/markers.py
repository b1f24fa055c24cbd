"""Markers: a moment of a recording, set on the fly, named after."""

from dataclasses import dataclass

from kovel.core.errors import Invalid, Missing
from kovel.store import recordings, steps
from kovel.store.db import Database, fresh
from kovel.store.projects import clean_name


@dataclass(frozen=True, slots=True)
class Marker:
    id: int
    recording: int
    frame: int  # project frames on the recording's clock
    name: str


def add(db: Database, recording: int, frame: int, name: str = "") -> Marker:
    r = recordings.get(db, recording)
    rate = recordings.clock_of(db, r.project)
    if not 0 <= frame <= r.length(rate):
        raise Invalid(f"That lies outside {r.name}.")
    name = clean_name(name, limit=120) if name.strip() else ""
    with steps.step(db, r.project, f"marker on {r.name}") as s:
        row = fresh(s.c, "marker")
        s.c.execute("INSERT INTO marker (id, recording, frame, name) VALUES (?,?,?,?)", (row, recording, frame, name))
        mid = s.made("marker", row)
    return get(db, mid)


def get(db: Database, marker: int) -> Marker:
    r = db.read().execute("SELECT id, recording, frame, name FROM marker WHERE id = ?", (marker,)).fetchone()
    if r is None:
        raise Missing("That marker is not there any more.")
    return Marker(*r)


def rename(db: Database, marker: int, name: str) -> Marker:
    m = get(db, marker)
    name = clean_name(name, limit=120) if name.strip() else ""
    with steps.step(db, recordings.get(db, m.recording).project, "marker named") as s:
        s.before("marker", [marker])
        s.c.execute("UPDATE marker SET name = ? WHERE id = ?", (name, marker))
    return get(db, marker)


def remove(db: Database, marker: int) -> Marker:
    m = get(db, marker)
    with steps.step(db, recordings.get(db, m.recording).project, "marker taken away") as s:
        s.before("marker", [marker])
        s.c.execute("DELETE FROM marker WHERE id = ?", (marker,))
    return m


def of_recording(db: Database, recording: int) -> list[Marker]:
    rows = db.read().execute(
        "SELECT id, recording, frame, name FROM marker WHERE recording = ? ORDER BY frame, id", (recording,)
    )
    return [Marker(*r) for r in rows]
