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


def add(database: Database, recording: int, frame: int, name: str = "") -> Marker:
    this_recording = recordings.get(database, recording)
    frame_rate = recordings.clock_of(database, this_recording.project)
    if not 0 <= frame <= this_recording.length(frame_rate):
        raise Invalid(f"That lies outside {this_recording.name}.")
    name = clean_name(name, limit=120) if name.strip() else ""
    with steps.step(database, this_recording.project, f"marker on {this_recording.name}") as step:
        marker_id = fresh(step.c, "marker")
        step.c.execute(
            "INSERT INTO marker (id, recording, frame, name) VALUES (?,?,?,?)", (marker_id, recording, frame, name)
        )
        mid = step.made("marker", marker_id)
    return get(database, mid)


def get(database: Database, marker: int) -> Marker:
    marker_row = (
        database.read().execute("SELECT id, recording, frame, name FROM marker WHERE id = ?", (marker,)).fetchone()
    )
    if marker_row is None:
        raise Missing("That marker is not there any more.")
    return Marker(*marker_row)


def rename(database: Database, marker: int, name: str) -> Marker:
    this_marker = get(database, marker)
    name = clean_name(name, limit=120) if name.strip() else ""
    with steps.step(database, recordings.get(database, this_marker.recording).project, "marker named") as step:
        step.before("marker", [marker])
        step.c.execute("UPDATE marker SET name = ? WHERE id = ?", (name, marker))
    return get(database, marker)


def remove(database: Database, marker: int) -> Marker:
    this_marker = get(database, marker)
    with steps.step(database, recordings.get(database, this_marker.recording).project, "marker taken away") as step:
        step.before("marker", [marker])
        step.c.execute("DELETE FROM marker WHERE id = ?", (marker,))
    return this_marker


def of_recording(database: Database, recording: int) -> list[Marker]:
    marker_rows = database.read().execute(
        "SELECT id, recording, frame, name FROM marker WHERE recording = ? ORDER BY frame, id", (recording,)
    )
    return [Marker(*marker_row) for marker_row in marker_rows]
