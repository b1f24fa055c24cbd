"""Bins of the editor's own: named heaps of recordings, a recording in as many as they like."""

from collections.abc import Sequence
from dataclasses import dataclass

from kovel.core.errors import Invalid, Missing
from kovel.store import steps
from kovel.store.db import Database, fresh
from kovel.store.projects import clean_name


@dataclass(frozen=True, slots=True)
class Bin:
    id: int
    name: str
    recordings: frozenset[int]


def of_project(database: Database, project: int) -> list[Bin]:
    """By name."""
    inside: dict[int, set[int]] = {}
    for b, binned_row in database.read().execute(
        "SELECT x.bin, x.recording FROM bin_recording x JOIN bin b ON b.id = x.bin JOIN recording r ON r.id = "
        "x.recording"
        " WHERE b.project = ? AND r.gone IS NULL",
        (project,),
    ):
        inside.setdefault(b, set()).add(binned_row)
    bins_found = database.read().execute(
        "SELECT id, name FROM bin WHERE project = ? ORDER BY name COLLATE NOCASE, id", (project,)
    )
    return [Bin(bin_id, name, frozenset(inside.get(bin_id, ()))) for bin_id, name in bins_found]


def get(database: Database, project: int, bin_: int) -> Bin:
    for folder in of_project(database, project):
        if folder.id == bin_:
            return folder
    raise Missing("There is no such bin in the project.")


def _free(database: Database, project: int, name: str, but: int = 0) -> str:
    name = clean_name(name, limit=60)
    if any(folder.name.casefold() == name.casefold() and folder.id != but for folder in of_project(database, project)):
        raise Invalid(f"There is a bin called {name} already.")
    return name


def make(database: Database, project: int, name: str, recordings: Sequence[int] = ()) -> Bin:
    """A new bin with these recordings in it; one undoable step of the log."""
    name = _free(database, project, name)
    with steps.step(database, project, f"bin {name} made") as step:
        step.groups(project)
        bin_ = fresh(step.c, "bin")
        step.c.execute("INSERT INTO bin (id, project, name) VALUES (?,?,?)", (bin_, project, name))
        step.c.executemany(
            "INSERT OR IGNORE INTO bin_recording VALUES (?,?)", [(bin_, recording) for recording in recordings]
        )
    return get(database, project, bin_)


def put(database: Database, project: int, bin_: int, recordings: Sequence[int], out: bool = False) -> Bin:
    """Recordings into a bin, or out of it; they are otherwise as they were."""
    folder = get(database, project, bin_)
    changed_recordings = [recording for recording in recordings if (recording in folder.recordings) is out]
    if not changed_recordings:
        raise Invalid(f"They are {'not in' if out else 'in'} {folder.name} {'' if out else 'already'}".strip() + ".")
    with steps.step(
        database, project, f"{len(changed_recordings)} {'out of' if out else 'into'} bin {folder.name}"
    ) as step:
        step.groups(project)
        sql = (
            "DELETE FROM bin_recording WHERE bin = ? AND recording = ?"
            if out
            else "INSERT INTO bin_recording VALUES (?,?)"
        )
        step.c.executemany(sql, [(bin_, changed_recording) for changed_recording in changed_recordings])
    return get(database, project, bin_)


def rename(database: Database, project: int, bin_: int, name: str) -> Bin:
    folder = get(database, project, bin_)
    name = _free(database, project, name, bin_)
    with steps.step(database, project, f"bin {folder.name} called {name}") as step:
        step.groups(project)
        step.c.execute("UPDATE bin SET name = ? WHERE id = ?", (name, bin_))
    return get(database, project, bin_)


def remove(database: Database, project: int, bin_: int) -> Bin:
    """The bin goes, its recordings stay."""
    folder = get(database, project, bin_)
    with steps.step(database, project, f"bin {folder.name} taken away") as step:
        step.groups(project)
        step.c.execute("DELETE FROM bin WHERE id = ?", (bin_,))
    return folder
