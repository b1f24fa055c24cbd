"""Stories on disk: rows, journal and revision change together in one transaction, or not at all."""

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from kovel.core.errors import Invalid, Missing, Told
from kovel.core.story import catalogue
from kovel.core.story.bounds import held
from kovel.core.story.model import Report, Story
from kovel.core.story.patch import NUMBERS, ROWS, SETS, VALUES, Patch, values_from, values_json
from kovel.core.time.rate import Rate
from kovel.store import recordings
from kovel.store.db import Database, fresh


class Stale(Told, RuntimeError):
    """The page was made from an older revision. Nothing was changed; show the fresh story."""

    status = 409
    exit_code = 3


BROUGHT_IN = "brought in"  # the journal's word for a story that was made elsewhere
UNDO, REDO = "undo own edit", "redo own edit"  # an editor's edit taken back from under those of others; and done again


@dataclass(frozen=True, slots=True)
class Kept:
    """A story as it stands on disk."""

    id: int
    project: int
    name: str
    revision: int
    story: Story
    can_undo: bool
    can_redo: bool


def current(database: Database, project: int) -> int:
    """The story of a project that is open."""
    story_row = (
        database.read()
        .execute(
            "SELECT s.id FROM story s JOIN project p ON p.id = s.project WHERE p.id = ? ORDER BY s.id = p.story DESC, "
            "s.id LIMIT 1",
            (project,),
        )
        .fetchone()
    )
    if story_row is None:
        raise Missing("This project has no story.")
    return int(story_row[0])


def put_in(database: Database, project: int, ranges: Sequence[Sequence[int]], at: int | None) -> Report:
    """Ranges [recording, start, length] into a project's story, at the end or at a frame of it: one edit."""
    story_id = current(database, project)
    length = load(database, story_id).story.length
    place = length if at is None else max(0, min(at, length))
    return edit(database, story_id, None, "insert_several", {"at": place, "ranges": [list(span) for span in ranges]})[1]


def load(database: Database, story: int) -> Kept:
    with database.snapshot() as connection:
        return load_at(database, connection, story)


def load_at(database: Database, connection: sqlite3.Connection, story: int) -> Kept:
    """The story at the revision this connection sees; its rows are read only when that is another one than last
    time."""
    story_row = connection.execute(
        "SELECT s.*, p.rate_num, p.rate_den FROM story s JOIN project p ON p.id = s.project WHERE s.id = ?", (story,)
    ).fetchone()
    if story_row is None:
        raise Missing("There is no such story. It may have been deleted.")
    revision, known = database.stories.get(story, (-1, None))
    if known is None or revision != story_row["revision"]:
        known = _rows(connection, story, story_row)
        database.stories[story] = (story_row["revision"], known)
    redo = connection.execute(
        "SELECT 1 FROM journal WHERE story = ? AND (parent IS ? OR command = ? AND editor = ?) LIMIT 1",
        (story, story_row["head"], UNDO, database.editor()[0]),
    ).fetchone()
    return Kept(
        story_row["id"],
        story_row["project"],
        story_row["name"],
        story_row["revision"],
        known,
        story_row["head"] is not None,
        redo is not None,
    )


@dataclass(frozen=True, slots=True)
class _Table:
    """Where one row of things of a story is kept: beside story, loose and ordinal the columns are those of its JSON
    row."""

    name: str
    loose: int | None = None

    @property
    def where(self) -> str:
        """The condition for a story's rows."""
        return "story = ?" if self.loose is None else f"story = ? AND loose = {self.loose}"


_TABLES = {
    "pieces": _Table("piece"),
    "covers": _Table("cover", 0),
    "loose": _Table("cover", 1),
    "sounds": _Table("laid_sound", 0),
    "loose_sounds": _Table("laid_sound", 1),
    "transitions": _Table("seam"),
    "sections": _Table("section"),
    "markers": _Table("story_marker"),
}

_OWN = {"pieces", "covers", "loose", "sounds", "loose_sounds"}  # what has settings of its own, last in its row


def _rows(connection: sqlite3.Connection, story: int, story_row: sqlite3.Row) -> Story:
    parts: dict[str, Any] = {}
    for part, t in _TABLES.items():
        skip = {"story", "ordinal", "loose"}
        stored_rows = connection.execute(f"SELECT * FROM {t.name} WHERE {t.where} ORDER BY ordinal", (story,))
        keep = [index for index, d in enumerate(stored_rows.description) if d[0] not in skip]
        parts[part] = tuple(
            ROWS[part][1](_from_sql(part, [stored_row[part_index] for part_index in keep]))
            for stored_row in stored_rows
        )
    parts |= {name: frozenset(json.loads(story_row[name])) for name in SETS} | {
        name: story_row[name] for name in NUMBERS
    }
    parts |= {name: values_from(json.loads(story_row[name])) for name in VALUES}
    return Story(Rate(story_row["rate_num"], story_row["rate_den"]), **parts)


def _from_sql(part: str, row: list[Any]) -> list[Any]:
    if part == "pieces":
        row[4] = row[4] and json.loads(row[4])
    if part in _OWN:
        row[-1] = json.loads(row[-1]) if row[-1] != "{}" else {}
    return row


def _to_sql(story: int, t: _Table, ordinal: int, part: str, x: Any) -> tuple[Any, ...]:
    stored_row = ROWS[part][0](x)
    if part == "pieces":
        stored_row[4] = stored_row[4] and json.dumps(stored_row[4])
    if part in _OWN:
        stored_row[-1] = json.dumps(stored_row[-1])
    if part == "transitions":
        return (story, ordinal, *stored_row)
    return (story, stored_row[0], *(() if t.loose is None else (t.loose,)), ordinal, *stored_row[1:])


def _plain(key: str, value: Any) -> Any:
    """One of a story's own values as its column has it."""
    return json.dumps(sorted(value)) if key in SETS else json.dumps(values_json(value)) if key in VALUES else value


def write_rows(connection: sqlite3.Connection, story: int, patch: Patch, head: int | None) -> None:
    """Change the rows by a patch; the one place that does. All that goes goes first: an id may come back elsewhere."""
    for part, change in patch.rows.items():
        t = _TABLES[part]
        if change.old:
            connection.execute(
                f"DELETE FROM {t.name} WHERE {t.where} AND ordinal >= ? AND ordinal < ?",
                (story, change.index, change.index + len(change.old)),
            )
    for part, change in patch.rows.items():
        t, grow = _TABLES[part], len(change.new) - len(change.old)
        if grow:
            connection.execute(
                f"UPDATE {t.name} SET ordinal = ordinal + ? WHERE {t.where} AND ordinal >= ?",
                (grow, story, change.index + len(change.old)),
            )
        written_rows = [
            _to_sql(story, t, change.index + index, part, new_item) for index, new_item in enumerate(change.new)
        ]
        if written_rows:
            connection.executemany(
                f"INSERT INTO {t.name} VALUES ({','.join('?' * len(written_rows[0]))})", written_rows
            )
    connection.execute("UPDATE story SET revision = revision + 1, head = ? WHERE id = ?", (head, story))
    for name, (_, now) in patch.values.items():
        connection.execute(f"UPDATE story SET {name} = ? WHERE id = ?", (_plain(name, now), story))


def not_stale(database: Database, kept_story: Kept, revision: int | None) -> None:
    """`Stale` where a page shows another revision than the one that stands now."""
    database.guard(kept_story.id)
    if revision is not None and revision != kept_story.revision:
        raise Stale(
            "The story was changed elsewhere meanwhile. Here it is as it stands now; your edit was not made. "
            "Please try again."
        )


def edit(
    database: Database, story: int, revision: int | None, name: str, params: Mapping[str, Any]
) -> tuple[Kept, Report]:
    """Carry out a command of the core and keep the result. `revision` is what the page showed (None: whatever stands).

    Raises `Refused` (cannot be met) or `Stale` (page too old); in both cases nothing has changed.
    """
    with database.write() as connection:
        kept = load_at(database, connection, story)
        not_stale(database, kept, revision)
        new, report = catalogue.run(kept.story, recordings.sources(database, kept.project), name, params)
        patch = Patch.between(kept.story, new)
        write_edit(database, connection, story, name, dict(params), report, patch)
    return remembered(
        database, replace(kept, revision=kept.revision + 1, story=new, can_undo=True, can_redo=False)
    ), report


def write_edit(
    database: Database,
    connection: sqlite3.Connection,
    story: int,
    name: str,
    params: dict[str, Any],
    report: Report,
    patch: Patch,
) -> None:
    """Write an edit: its entry in the journal, and the rows that it changes."""
    head = connection.execute("SELECT head FROM story WHERE id = ?", (story,)).fetchone()[0]
    told_values = (
        json.dumps(params),
        report.did,
        json.dumps(report.notes),
        json.dumps(patch.to_json(), separators=(",", ":")),
    )
    entry = connection.execute(
        "INSERT INTO journal (story, parent, command, params, did, notes, patch, editor, editor_name) VALUES "
        "(?,?,?,?,?,?,?,?,?)",
        (story, head, name, *told_values, *database.editor()),
    ).lastrowid
    write_rows(connection, story, patch, entry)


def remembered(database: Database, kept_story: Kept) -> Kept:
    """Remember what was just committed, so that the next edit need not read it back."""
    database.stories[kept_story.id] = (kept_story.revision, kept_story.story)
    return kept_story


def previewed(database: Database, story: int, name: str, params: Mapping[str, Any]) -> tuple[Story, Report]:
    """The story as an edit would leave it, and what it would say; nothing is changed."""
    kept = load(database, story)
    return catalogue.run(kept.story, recordings.sources(database, kept.project), name, params)


def preview(database: Database, story: int, name: str, params: Mapping[str, Any]) -> Report:
    """What an edit would do; nothing is changed."""
    return previewed(database, story, name, params)[1]


def of_project(database: Database, project: int) -> list[Kept]:
    """All stories of a project, in the order they were made."""
    story_rows = database.read().execute("SELECT id FROM story WHERE project = ? ORDER BY id", (project,)).fetchall()
    return [load(database, story_row[0]) for story_row in story_rows]


def _name(name: str) -> str:
    name = " ".join(name.split())[:80]
    if not name:
        raise Invalid("A story needs a name.")
    return name


def create(database: Database, project: int, name: str, of: int | None = None) -> int:
    """A new story, empty or a copy of another one as it stands (whose history stays with it); it is opened."""
    with database.write() as connection:
        story_id = fresh(connection, "story")
        connection.execute("INSERT INTO story (id, project, name) VALUES (?, ?, ?)", (story_id, project, _name(name)))
        if of is not None:
            old = load_at(database, connection, of)
            if old.project != project:
                raise Missing("There is no such story in the project.")
            write_rows(connection, story_id, Patch.between(Story(old.story.rate), old.story), None)
        connection.execute("UPDATE project SET story = ? WHERE id = ?", (story_id, project))
    return int(story_id)


PROPOSED = "proposed"  # and for one that Kovel proposed


def create_with(
    database: Database,
    project: int,
    name: str,
    story: Story,
    did: str,
    notes: Sequence[str] = (),
    how: str = BROUGHT_IN,
) -> int:
    """A new story that was made elsewhere, or (`how`) proposed; undo leads back to an empty one. `notes`: what could
    not be taken, or why each piece is in it. One that was brought in is opened, a proposed one lies beside the one
    that is open."""
    held(story)
    with database.write() as connection:
        was = connection.execute("SELECT story FROM project WHERE id = ?", (project,)).fetchone()[0]
        story_id = create(database, project, name)
        if how == PROPOSED:
            connection.execute("UPDATE project SET story = ? WHERE id = ?", (was, project))
        empty = Story(story.rate)
        patch = Patch.between(empty, story)
        entry = connection.execute(
            "INSERT INTO journal (story, parent, command, params, did, notes, patch) VALUES (?,NULL,?,'{}',?,?,?)",
            (story_id, how, did, json.dumps(list(notes)), json.dumps(patch.to_json(), separators=(",", ":"))),
        ).lastrowid
        write_rows(connection, story_id, patch, entry)
    return story_id


def not_taken(database: Database, story: int) -> list[str]:
    """What could not be taken of the file that a story was brought in from."""
    notes_row = (
        database.read()
        .execute("SELECT notes FROM journal WHERE story = ? AND command = ?", (story, BROUGHT_IN))
        .fetchone()
    )
    notes: list[str] = json.loads(notes_row[0]) if notes_row else []
    return notes


def proposed(database: Database, project: int) -> list[tuple[int, str, list[str]]]:
    """Stories that were proposed and are still there, the newest first: number, name, why each piece was in it."""
    story_rows = database.read().execute(
        "SELECT s.id, s.name, j.notes FROM story s JOIN journal j ON j.story = s.id WHERE s.project = ? AND j.command "
        "= ?"
        " ORDER BY s.id DESC",
        (project, PROPOSED),
    )
    return [(story_row[0], story_row[1], json.loads(story_row[2])) for story_row in story_rows]


def open_story(database: Database, project: int, story: int) -> None:
    """Make this the story that is open."""
    with database.write() as connection:
        if not connection.execute("SELECT 1 FROM story WHERE id = ? AND project = ?", (story, project)).fetchone():
            raise Missing("There is no such story in the project.")
        connection.execute("UPDATE project SET story = ? WHERE id = ?", (story, project))


def rename(database: Database, story: int, name: str) -> None:
    with database.write() as connection:
        connection.execute("UPDATE story SET name = ? WHERE id = ?", (_name(name), story))


def delete(database: Database, project: int, story: int) -> None:
    """Delete a story with its history; the last one stays."""
    database.guard(story)
    with database.write() as connection:
        all_ = [story_row[0] for story_row in connection.execute("SELECT id FROM story WHERE project = ?", (project,))]
        if story not in all_:
            raise Missing("There is no such story in the project.")
        if len(all_) < 2:
            raise Invalid("A project keeps at least one story. Make another one first.")
        connection.execute("DELETE FROM journal WHERE story = ?", (story,))
        connection.execute("DELETE FROM story WHERE id = ?", (story,))
        connection.execute("UPDATE project SET story = NULL WHERE id = ? AND story = ?", (project, story))
