"""Subclips and soundbites: ranges of recordings that were found good, or waiting to be judged."""

import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass

from kovel.core.errors import Invalid, Missing
from kovel.store import recordings, steps
from kovel.store.db import Database, fresh
from kovel.store.projects import clean_name

VERDICTS = ("", "keep", "maybe", "drop")  # "": a slice nobody has judged yet
COLUMNS = "id, recording, name, start, length, note, tags, verdict, board"


@dataclass(frozen=True, slots=True)
class Subclip:
    id: int
    recording: int
    name: str
    start: int
    length: int
    note: str
    tags: tuple[str, ...]
    verdict: str
    board: float | None

    @property
    def end(self) -> int:
        """The frame after its last."""
        return self.start + self.length


def _subclip(subclip_row: sqlite3.Row) -> Subclip:
    tags = tuple(filter(None, subclip_row["tags"].split(",")))
    return Subclip(
        subclip_row["id"],
        subclip_row["recording"],
        subclip_row["name"],
        subclip_row["start"],
        subclip_row["length"],
        subclip_row["note"],
        tags,
        subclip_row["verdict"],
        subclip_row["board"],
    )


def clean_tags(text: str) -> str:
    return ",".join(
        dict.fromkeys(text.strip().lower()[:40] for text in text.replace(";", ",").split(",") if text.strip())
    )


@dataclass(frozen=True, slots=True)
class New:
    """A range to keep, in project frames on the recording's clock: [start, end)."""

    recording: int
    start: int
    end: int
    name: str = ""
    note: str = ""
    tags: str = ""
    verdict: str = "keep"


def check(recording: recordings.Recording, total: int, new: New) -> None:
    """`Invalid` for a range that is empty or leaves its recording, or a verdict that is none."""
    if new.end <= new.start:
        where = "at the same frame as" if new.end == new.start else "before"
        raise Invalid(f"The out point is {where} the in point. Move one of them, then save again.")
    if new.start < 0 or new.end > total:
        raise Invalid(f"The range runs past the {'start' if new.start < 0 else 'end'} of {recording.name}.")
    if new.verdict not in VERDICTS:
        raise Invalid("A verdict is keep, maybe or drop.")


def add_all(database: Database, project: int, new_subclips: Sequence[New], did: str) -> list[Subclip]:
    """Keep several ranges in one undoable step; `Invalid` and none is kept if one cannot be."""
    frame_rate = recordings.clock_of(database, project)
    known = {recording.id: recording for recording in recordings.of_project(database, project)}
    for new in new_subclips:
        if new.recording not in known:
            raise Missing("There is no such recording in the project.")
        check(known[new.recording], known[new.recording].length(frame_rate), new)
    counts = dict(
        database.read().execute("SELECT recording, count(*) FROM subclip GROUP BY recording").fetchall()
    )  # names are numbered on from these
    ids = []
    with steps.step(database, project, did) as step:
        for new in new_subclips:
            counts[new.recording] = counts.get(new.recording, 0) + 1
            name = clean_name(new.name or f"{known[new.recording].name[:100]} {counts[new.recording]}", limit=120)
            subclip_id = fresh(step.c, "subclip")
            step.c.execute(
                "INSERT INTO subclip (id, recording, name, start, length, note, tags, verdict) VALUES "
                "(?,?,?,?,?,?,?,?)",
                (
                    subclip_id,
                    new.recording,
                    name,
                    new.start,
                    new.end - new.start,
                    new.note.strip()[:2000],
                    clean_tags(new.tags),
                    new.verdict,
                ),
            )
            ids.append(step.made("subclip", subclip_id))
    return [get(database, subclip_id) for subclip_id in ids]


def add(
    database: Database,
    recording: int,
    start: int,
    end: int,
    *,
    name: str = "",
    note: str = "",
    tags: str = "",
    verdict: str = "keep",
) -> Subclip:
    """Keep [start, end) of a recording, in project frames on its clock."""
    project = recordings.get(database, recording).project
    (subclip_id,) = add_all(
        database, project, [New(recording, start, end, name, note, tags, verdict)], name or "range kept"
    )
    return subclip_id


def get(database: Database, subclip: int) -> Subclip:
    subclip_row = database.read().execute(f"SELECT {COLUMNS} FROM subclip WHERE id = ?", (subclip,)).fetchone()
    if subclip_row is None:
        raise Missing("That subclip is not there any more.")
    return _subclip(subclip_row)


def _cleaned(fields: dict[str, str | int | float | None]) -> dict[str, str | int | float | None]:
    """What is to be changed, as it is kept. Raises `Invalid`."""
    if set(fields) - {"name", "note", "tags", "verdict", "start", "length", "board", "add_tags"}:
        raise Invalid("That cannot be changed on a subclip.")
    cleaned_fields = dict(fields)
    if "name" in cleaned_fields:
        cleaned_fields["name"] = clean_name(str(cleaned_fields["name"]), limit=120)
    if "note" in cleaned_fields:
        cleaned_fields["note"] = str(cleaned_fields["note"]).strip()[:2000]
    if "tags" in cleaned_fields:
        cleaned_fields["tags"] = clean_tags(str(cleaned_fields["tags"]))
    if cleaned_fields.get("verdict", "keep") not in VERDICTS:
        raise Invalid("A verdict is keep, maybe or drop.")
    return cleaned_fields


def update(database: Database, ids: Sequence[int], **fields: str | int | float | None) -> list[Subclip]:
    """Change one or several subclips in one step: name, note, tags, verdict, start, length, board; `add_tags` adds
    to theirs."""
    old = [get(database, subclip_id) for subclip_id in ids]
    if not old:
        raise Invalid("Choose a subclip first.")
    fields = _cleaned(fields)
    more = str(fields.pop("add_tags", "") or "")
    first = recordings.get(database, old[0].recording)
    frame_rate = recordings.clock_of(database, first.project)
    if {"start", "length"} & set(fields):
        for subclip in old:
            a = int(fields.get("start", subclip.start) or 0)
            recording = recordings.get(database, subclip.recording)
            check(
                recording,
                recording.length(frame_rate),
                New(subclip.recording, a, a + int(fields.get("length", subclip.length) or 0)),
            )
    what = old[0].name if len(old) == 1 else f"{len(old)} subclips"
    with steps.step(database, first.project, f"{what} changed") as step:
        step.before("subclip", list(ids))
        for subclip in old:
            put = fields | ({"tags": clean_tags(",".join([*subclip.tags, more]))} if more else {})
            if put:
                step.c.execute(
                    f"UPDATE subclip SET {', '.join(f'{name} = ?' for name in put)} WHERE id = ?",
                    (*put.values(), subclip.id),
                )
    return [get(database, subclip_id) for subclip_id in ids]


def remove(database: Database, ids: Sequence[int]) -> list[Subclip]:
    old = [get(database, subclip_id) for subclip_id in ids]
    if not old:
        raise Invalid("Choose a subclip first.")
    what = old[0].name if len(old) == 1 else f"{len(old)} subclips"
    with steps.step(
        database, recordings.get(database, old[0].recording).project, f"{what} taken out of the log"
    ) as step:
        step.before("subclip", list(ids))
        step.c.executemany("DELETE FROM subclip WHERE id = ?", [(subclip_id,) for subclip_id in ids])
    return old


def arrange(database: Database, project: int, ids: Sequence[int]) -> None:
    """The storyboard holds these subclips in this order, and no others of the project."""
    here = {subclip.id: subclip for subclip in of_project(database, project)}
    changed = [key for key, subclip in here.items() if subclip.board is not None or key in ids]
    with steps.step(database, project, "storyboard arranged") as step:
        step.before("subclip", changed)
        step.c.executemany("UPDATE subclip SET board = NULL WHERE id = ?", [(subclip_id,) for subclip_id in changed])
        step.c.executemany(
            "UPDATE subclip SET board = ? WHERE id = ?",
            [(index, subclip_id) for index, subclip_id in enumerate(ids) if subclip_id in here],
        )


def on_board(database: Database, project: int) -> list[Subclip]:
    """The storyboard, in its order."""
    return sorted(
        (subclip for subclip in of_project(database, project) if subclip.board is not None), key=lambda c: c.board or 0
    )


def of_recording(database: Database, recording: int) -> list[Subclip]:
    subclip_rows = database.read().execute(
        f"SELECT {COLUMNS} FROM subclip WHERE recording = ? ORDER BY start, id", (recording,)
    )
    return [_subclip(subclip_row) for subclip_row in subclip_rows]


def of_project(database: Database, project: int) -> list[Subclip]:
    cols = ", ".join(f"s.{column_name}" for column_name in COLUMNS.split(", "))
    subclip_rows = database.read().execute(
        f"SELECT {cols} FROM subclip s JOIN recording r ON r.id = s.recording WHERE r.project = ? AND r.gone IS NULL "
        "ORDER BY r.ordinal, s.start, s.id",
        (project,),
    )
    return [_subclip(subclip_row) for subclip_row in subclip_rows]


def reshape(database: Database, project: int, changed_subclips: Sequence[tuple[int, int, int]], did: str) -> None:
    """New edges (subclip, start, end) for several subclips, in one undoable step."""
    with steps.step(database, project, did) as step:
        step.before("subclip", [subclip_id for subclip_id, _, _ in changed_subclips])
        step.c.executemany(
            "UPDATE subclip SET start = ?, length = ? WHERE id = ?",
            [(start, end - start, subclip_id) for subclip_id, start, end in changed_subclips],
        )
