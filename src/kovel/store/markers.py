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
    this_recording = recordings.get(db, recording)
    rate = recordings.clock_of(db, this_recording.project)
    if not 0 <= frame <= this_recording.length(rate):
        raise Invalid(f"That lies outside {this_recording.name}.")
    name = clean_name(name, limit=120) if name.strip() else ""
    with steps.step(db, this_recording.project, f"marker on {this_recording.name}") as step:
        row = fresh(step.c, "marker")
        step.c.execute(
            "INSERT INTO marker (id, recording, frame, name) VALUES (?,?,?,?)", (row, recording, frame, name)
        )
        mid = step.made("marker", row)
    return get(db, mid)


def get(db: Database, marker: int) -> Marker:
    row = db.read().execute("SELECT id, recording, frame, name FROM marker WHERE id = ?", (marker,)).fetchone()
    if row is None:
        raise Missing("That marker is not there any more.")
    return Marker(*row)


def rename(db: Database, marker: int, name: str) -> Marker:
    this_marker = get(db, marker)
    name = clean_name(name, limit=120) if name.strip() else ""
    with steps.step(db, recordings.get(db, this_marker.recording).project, "marker named") as step:
        step.before("marker", [marker])
        step.c.execute("UPDATE marker SET name = ? WHERE id = ?", (name, marker))
    return get(db, marker)


def remove(db: Database, marker: int) -> Marker:
    this_marker = get(db, marker)
    with steps.step(db, recordings.get(db, this_marker.recording).project, "marker taken away") as step:
        step.before("marker", [marker])
        step.c.execute("DELETE FROM marker WHERE id = ?", (marker,))
    return this_marker


def of_recording(db: Database, recording: int) -> list[Marker]:
    rows = db.read().execute(
        "SELECT id, recording, frame, name FROM marker WHERE recording = ? ORDER BY frame, id", (recording,)
    )
    return [Marker(*row) for row in rows]
