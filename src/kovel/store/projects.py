"""Projects: made, renamed, duplicated, archived, deleted and brought back."""

import json
import sqlite3
from dataclasses import dataclass

from kovel.core.errors import Invalid, Missing
from kovel.core.story.patch import rescoped
from kovel.core.time.rate import RATES, Rate
from kovel.core.time.timecode import TimeError, can_drop, format_timecode, parse_entry
from kovel.store.db import Database, fresh
from kovel.store.decisions import copy as copy_decisions

SIZES = {
    "1920x1080": "16:9 HD",
    "3840x2160": "16:9 UHD",
    "1280x720": "16:9 small",
    "1080x1920": "9:16 upright",
    "1080x1080": "1:1 square",
}
NAME_LIMIT = 80


@dataclass(frozen=True, slots=True)
class Project:
    id: int
    name: str
    rate: Rate
    width: int
    height: int
    start_frame: int
    drop: bool
    created: str
    archived: bool
    deleted: bool

    @property
    def start_timecode(self) -> str:
        """The timecode of the first frame."""
        return format_timecode(self.start_frame, self.rate, self.drop)

    def timecode(self, frame: int) -> str:
        """The timecode of a frame of a story."""
        return format_timecode(self.start_frame + frame, self.rate, self.drop)


def clean_name(name: str, what: str = "name", limit: int = NAME_LIMIT) -> str:
    """A name without control characters or outer space; `Invalid` when empty or longer than `limit` characters."""
    cleaned_text = " ".join("".join(ch if ch.isprintable() or ch == "\u200d" else " " for ch in name).split())
    if not cleaned_text:
        raise Invalid(f"Give it a {what}.")
    if len(cleaned_text) > limit:
        raise Invalid(f"That {what} has {len(cleaned_text)} characters. Please keep it to {limit}.")
    return cleaned_text


def _project(project_row: sqlite3.Row) -> Project:
    return Project(
        project_row["id"],
        project_row["name"],
        Rate(project_row["rate_num"], project_row["rate_den"]),
        project_row["width"],
        project_row["height"],
        project_row["start_frame"],
        bool(project_row["drop_frame"]),
        project_row["created"],
        bool(project_row["archived"]),
        project_row["deleted"] is not None,
    )


def create(
    database: Database,
    name: str,
    rate: str = "25",
    size: str = "1920x1080",
    start: str = "00:00:00:00",
    drop: bool = False,
) -> Project:
    """A new project with one empty story."""
    name = clean_name(name)
    try:
        project_rate = Rate.parse(rate)
    except ValueError as error:
        raise Invalid(str(error)) from None
    if project_rate not in RATES or size not in SIZES:
        raise Invalid(f"Choose one of these sizes: {', '.join(SIZES)}.")
    if drop and not can_drop(project_rate):
        raise Invalid(f"Drop-frame timecode exists at 29.97 and 59.94 only, not at {project_rate}.")
    try:
        first = parse_entry(start or "0", project_rate, drop=drop)
    except TimeError as error:
        raise Invalid(f"Start timecode: {error}") from None
    if first < 0:
        raise Invalid("The start timecode cannot lie before 00:00:00:00.")
    w, h = map(int, size.split("x"))
    with database.write() as connection:
        piece_id = (
            connection.execute(
                "INSERT INTO project (name, rate_num, rate_den, width, height, start_frame, drop_frame) VALUES "
                "(?,?,?,?,?,?,?)",
                (name, project_rate.num, project_rate.den, w, h, first, drop),
            ).lastrowid
            or 0
        )
        connection.execute(
            "INSERT INTO story (id, project, name) VALUES (?, ?, 'Story cut')", (fresh(connection, "story"), piece_id)
        )
    return get(database, piece_id)


def get(database: Database, project: int) -> Project:
    project_row = (
        database.read().execute("SELECT * FROM project WHERE id = ? AND deleted IS NULL", (project,)).fetchone()
    )
    if project_row is None:
        raise Missing("There is no such project. It may have been deleted.")
    if not _is_whole(project_row):
        raise Invalid(
            f"{project_row['name']} is damaged: its frame rate, size or start is none. "
            "It can only be deleted, on the start page."
        )
    return _project(project_row)


def name_of(database: Database, project: int) -> str:
    """What a project is called, also one that cannot be read."""
    project_row = (
        database.read().execute("SELECT name FROM project WHERE id = ? AND deleted IS NULL", (project,)).fetchone()
    )
    if project_row is None:
        raise Missing("There is no such project. It may have been deleted.")
    return str(project_row["name"])


def listing(database: Database) -> list[Project]:
    """Every project that is not deleted, newest first, archived ones last; without those whose row is none
    (`broken`)."""
    return [_project(project_row) for project_row in _rows(database) if _is_whole(project_row)]


def broken(database: Database) -> list[tuple[int, str]]:
    """Projects whose row cannot be read, as earlier versions took them out of archives: (number, name)."""
    return [
        (project_row["id"], str(project_row["name"])) for project_row in _rows(database) if not _is_whole(project_row)
    ]


def _rows(database: Database) -> list[sqlite3.Row]:
    return database.read().execute("SELECT * FROM project WHERE deleted IS NULL ORDER BY archived, id DESC").fetchall()


def _is_whole(project_row: sqlite3.Row) -> bool:
    numbers = [project_row[field_name] for field_name in ("rate_num", "rate_den", "width", "height")]
    return all(type(number) is int and number > 0 for number in numbers) and type(project_row["start_frame"]) is int


def find(database: Database, name: str) -> Project:
    """By id or by name, for the command line."""
    for project in listing(database):
        if name in (project.name, str(project.id)):
            return project
    raise Missing(f"There is no project called {name}. `kovel list` shows them all.")


def rename(database: Database, project: int, name: str) -> Project:
    name = clean_name(name)
    with database.write() as connection:
        connection.execute("UPDATE project SET name = ? WHERE id = ?", (name, project))
    return get(database, project)


def set_archived(database: Database, project: int, archived: bool) -> None:
    with database.write() as connection:
        connection.execute("UPDATE project SET archived = ? WHERE id = ?", (archived, project))


def set_deleted(database: Database, project: int, deleted: bool) -> None:
    """Delete, or bring back. Recordings and derived media stay until the next clean-up, so undo loses nothing."""
    with database.write() as connection:
        connection.execute(
            "UPDATE project SET deleted = CASE WHEN ? THEN strftime('%Y-%m-%dT%H:%M:%fZ', 'now') END WHERE id = ?",
            (deleted, project),
        )


def remove(database: Database, project: int) -> None:
    """Take a project away for good, with all that belongs to it."""
    with database.write() as connection:
        connection.execute("DELETE FROM project WHERE id = ?", (project,))


def duplicate(database: Database, project: int) -> Project:
    """A second project with the same recordings, words, subclips, decisions of Tighten, hits and beats, and stories
    (their present state, without history).

    Derived media are made once more by the caller's jobs; recordings themselves are never copied.
    """
    old = get(database, project)
    name = f"{old.name[: NAME_LIMIT - 7]} (copy)"
    with database.write() as connection:
        new = (
            connection.execute(
                "INSERT INTO project (name, rate_num, rate_den, width, height, start_frame, drop_frame)"
                " SELECT ?, rate_num, rate_den, width, height, start_frame, drop_frame FROM project WHERE id = ?",
                (name, project),
            ).lastrowid
            or 0
        )
        ids = {}
        cols = (
            "path, name, kind, roll, camera, day, ordinal, aside, size, checksum, rate_num, rate_den, frames, "
            "picture, sound, width, height, channels, start_timecode, remarks, sync_set, sync_offset, sync_ppm, "
            "sync_sure, sync_how, settings, changed, poster, microphones, heard, language, spoken"
        )
        for (recording_id,) in connection.execute(
            "SELECT id FROM recording WHERE project = ? AND gone IS NULL", (project,)
        ).fetchall():
            ids[recording_id] = fresh(connection, "recording")
            connection.execute(
                f"INSERT INTO recording (id, project, {cols}) SELECT ?, ?, {cols} FROM recording WHERE id = ?",
                (ids[recording_id], new, recording_id),
            )
            connection.execute(
                "INSERT INTO word (recording, i, text, start, end, speaker, sure) SELECT ?, i, text, start, end, "
                "speaker, sure FROM word WHERE recording = ?",
                (ids[recording_id], recording_id),
            )
            connection.execute(
                "INSERT INTO sentence (recording, start, end, speaker, text) SELECT ?, start, end, speaker, text FROM "
                "sentence WHERE recording = ?",
                (ids[recording_id], recording_id),
            )
            connection.execute(
                "INSERT INTO subclip (recording, name, start, length, note, tags, verdict, board)"
                " SELECT ?, name, start, length, note, tags, verdict, board FROM subclip WHERE recording = ?",
                (ids[recording_id], recording_id),
            )
            connection.execute(
                "INSERT INTO marker (recording, frame, name) SELECT ?, frame, name FROM marker WHERE recording = ?",
                (ids[recording_id], recording_id),
            )
        copy_decisions(connection, ids)
        for bid, name in connection.execute("SELECT id, name FROM bin WHERE project = ?", (project,)).fetchall():
            copied = fresh(connection, "bin")
            connection.execute("INSERT INTO bin (id, project, name) VALUES (?,?,?)", (copied, new, name))
            inside = connection.execute("SELECT recording FROM bin_recording WHERE bin = ?", (bid,)).fetchall()
            connection.executemany(
                "INSERT INTO bin_recording VALUES (?,?)",
                [(copied, ids[inside_id]) for (inside_id,) in inside if inside_id in ids],
            )
        for (story_id,) in connection.execute("SELECT id FROM story WHERE project = ?", (project,)).fetchall():
            kept = "name, next_id, locked, muted, soloed, target, along, settings"
            copy = fresh(connection, "story")
            connection.execute(
                f"INSERT INTO story (id, project, {kept}) SELECT ?, ?, {kept} FROM story WHERE id = ?",
                (copy, new, story_id),
            )
            (wide,) = connection.execute("SELECT settings FROM story WHERE id = ?", (copy,)).fetchone()
            connection.execute(
                "UPDATE story SET settings = ? WHERE id = ?", (json.dumps(rescoped(json.loads(wide), ids.get)), copy)
            )
            for table in ("piece", "cover", "laid_sound", "seam", "section", "story_marker"):
                rows_found = connection.execute(f"SELECT * FROM {table} WHERE story = ?", (story_id,))
                names = [d[0] for d in rows_found.description]
                copies = [
                    [
                        copy if name == "story" else ids.get(found_row[name]) if name == "source" else found_row[name]
                        for name in names
                    ]
                    for found_row in rows_found.fetchall()
                ]
                connection.executemany(f"INSERT INTO {table} VALUES ({','.join('?' * len(names))})", copies)
    return get(database, new)


OWNERS = {  # what a request names by its number: which project it is of
    "recording": "SELECT project FROM recording WHERE id = ? AND gone IS NULL",
    "story": "SELECT project FROM story WHERE id = ?",
    "job": "SELECT project FROM job WHERE id = ?",
    "subclip": (
        "SELECT r.project FROM subclip s JOIN recording r ON r.id = s.recording WHERE s.id = ? AND r.gone IS NULL"
    ),
    "marker": "SELECT r.project FROM marker m JOIN recording r ON r.id = m.recording WHERE m.id = ? AND r.gone IS NULL",
}


def belongs(database: Database, project: int, what: str, number: int) -> None:
    """`Missing` unless a recording, story, job, subclip or marker is one of this project."""
    owner_row = database.read().execute(OWNERS[what], (number,)).fetchone()
    if owner_row is None or owner_row[0] != project:
        raise Missing(f"There is no such {what} in the project.")
