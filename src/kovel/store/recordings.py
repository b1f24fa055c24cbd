"""Recordings and their words, as rows. The files themselves are never written."""

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from kovel.core.errors import Invalid, Missing
from kovel.core.story.model import Source, Sync
from kovel.core.story.settings import NONE, SETTINGS, Values
from kovel.core.story.values import on_recording
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import TimeError, parse_entry
from kovel.core.words.languages import NAMES
from kovel.store import steps
from kovel.store.db import Database, fresh
from kovel.store.projects import clean_name

RECORDING_KINDS = ("interview", "b-roll", "sound", "music", "still", "voice")


CLEAR = 0.6  # how sure a match by sound is that shows one clear peak


@dataclass(frozen=True, slots=True)
class Recording:
    id: int
    project: int
    path: str
    name: str
    kind: str
    roll: str
    camera: str
    day: str
    aside: bool
    size: int
    checksum: str
    rate: Rate
    frames: int | None
    picture: bool
    sound: bool
    width: int
    height: int
    channels: int
    start_timecode: str
    remarks: tuple[str, ...]
    ready: bool
    microphones: tuple[str, ...] = ()  # its sound channels over all tracks, by name
    heard: tuple[int, ...] = ()  # which of them are heard; none: the first track as it is
    poster: int | None = None  # frame of the project's clock that stands for it; None: one is chosen
    changed: int = 0  # when its file was written, in ns; 0: not known
    language: str = ""  # the code of the one that the editor said it is in; empty: found by itself
    spoken: str = ""  # and of the one that was found
    sync: Sync | None = None
    sync_sure: float = 0.0
    sync_how: str = ""
    settings: Values = NONE

    @property
    def sync_is_clear(self) -> bool:
        """Whether its sound matches at one offset far better than at any other."""
        return self.sync_sure > CLEAR

    @property
    def source(self) -> Source:
        """What the core needs of it. Two recordings of one roll and camera share a setup; without a roll each is its
        own."""
        setup = f"{self.roll}/{self.camera}" if self.roll and self.kind == "interview" else f"#{self.id}"
        return Source(
            self.id,
            self.name,
            self.rate,
            self.frames,
            self.picture,
            self.sound,
            setup,
            self.sync,
            self.settings,
            self.channels,
        )

    @property
    def tongue(self) -> str:
        """The code of its language, as far as it is known."""
        return self.language or self.spoken

    @property
    def drops(self) -> bool:
        """Whether its timecode drops frames."""
        return ";" in self.start_timecode

    @property
    def first(self) -> int:
        """Its start timecode in its own frames; 0 where there is none."""
        try:
            return parse_entry(self.start_timecode, self.rate, drop=self.drops) if self.start_timecode else 0
        except TimeError:
            return 0

    def face(self, clock: Rate) -> int:
        """The frame that stands for it in lists: the editor's choice, else one a third into it."""
        return self.length(clock) // 3 if self.poster is None else min(self.poster, self.length(clock) - 1)

    def length(self, clock: Rate) -> int:
        """Frames of the project's clock; a still counts as 5 seconds where a length is needed."""
        return self.source.length(clock) or clock.nominal * 5


@lru_cache(4096)  # the same row is asked for again and again: by every edit, by every page
def _recording(recording_row: sqlite3.Row) -> Recording:
    return Recording(
        recording_row["id"],
        recording_row["project"],
        recording_row["path"],
        recording_row["name"],
        recording_row["kind"],
        recording_row["roll"],
        recording_row["camera"],
        recording_row["day"],
        bool(recording_row["aside"]),
        recording_row["size"],
        recording_row["checksum"],
        Rate(recording_row["rate_num"], recording_row["rate_den"]),
        recording_row["frames"],
        bool(recording_row["picture"]),
        bool(recording_row["sound"]),
        recording_row["width"],
        recording_row["height"],
        recording_row["channels"],
        recording_row["start_timecode"],
        tuple(json.loads(recording_row["remarks"])),
        bool(recording_row["ready"]),
        tuple(json.loads(recording_row["microphones"])),
        tuple(json.loads(recording_row["heard"])),
        recording_row["poster"],
        recording_row["changed"],
        recording_row["language"],
        recording_row["spoken"],
        None
        if recording_row["sync_set"] is None
        else Sync(recording_row["sync_set"], recording_row["sync_offset"], recording_row["sync_ppm"]),
        recording_row["sync_sure"],
        recording_row["sync_how"],
        Values.from_json(json.loads(recording_row["settings"])),
    )


def add(
    database: Database,
    project: int,
    path: str,
    name: str,
    kind: str,
    facts: dict[str, Any],
    *,
    roll: str = "",
    camera: str = "",
    day: str = "",
) -> Recording:
    """A new recording from what the probe found (`facts`); `Invalid` if that file is in the project already."""
    with database.write() as connection:
        old = connection.execute(
            "SELECT name, gone FROM recording WHERE project = ? AND path = ?", (project, path)
        ).fetchone()
        if old and old["gone"]:
            raise Invalid(f"{old['name']} was taken out of this project. Bring it back, in Footage under “Taken out”.")
        if old:
            raise Invalid(f"{old['name']} is already in this project.")
        recording_id = fresh(connection, "recording")
        connection.execute(
            "INSERT INTO recording (id, project, path, name, kind, roll, camera, day, ordinal, size, rate_num, "
            "rate_den, frames, picture, sound,"
            " width, height, channels, start_timecode, remarks, changed, microphones, heard)"
            " VALUES (?,?,?,?,?,?,?,?,(SELECT coalesce(max(ordinal), 0) + 1 FROM recording WHERE project = "
            "?),?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
            (
                recording_id,
                project,
                path,
                clean_name(name, limit=120),
                kind,
                roll,
                camera,
                day,
                project,
                facts["size"],
                facts["rate"][0],
                facts["rate"][1],
                facts["frames"],
                facts["picture"],
                facts["sound"],
                facts["width"],
                facts["height"],
                facts["channels"],
                facts["start_timecode"],
                json.dumps(facts["remarks"]),
                facts.get("changed", 0),
                json.dumps(facts.get("microphones", [])),
                json.dumps(facts.get("heard", [])),
            ),
        )
    return get(database, recording_id)


def get(database: Database, recording: int) -> Recording:
    recording_row = database.read().execute("SELECT * FROM recording WHERE id = ?", (recording,)).fetchone()
    if recording_row is None:
        raise Missing("There is no such recording in the project.")
    return _recording(recording_row)


def of_project(database: Database, project: int) -> list[Recording]:
    recording_rows = database.read().execute(
        "SELECT * FROM recording WHERE project = ? AND gone IS NULL ORDER BY ordinal, id", (project,)
    )
    return [_recording(recording_row) for recording_row in recording_rows]


def taken_out(database: Database, project: int) -> list[Recording]:
    """Those that were taken out of a project and can be brought back, the last one first."""
    recording_rows = database.read().execute(
        "SELECT * FROM recording WHERE project = ? AND gone IS NOT NULL ORDER BY gone DESC, id", (project,)
    )
    return [_recording(recording_row) for recording_row in recording_rows]


def all_ids(database: Database) -> set[int]:
    """Every recording there is, those of deleted projects too: these can be brought back."""
    return {recording_row[0] for recording_row in database.read().execute("SELECT id FROM recording")}


def sources(database: Database, project: int) -> dict[int, Source]:
    return {recording.id: recording.source for recording in of_project(database, project)}


def in_stories(database: Database) -> set[int]:
    """Recordings that any story uses."""
    source_rows = database.read().execute(
        "SELECT source FROM piece UNION SELECT source FROM cover UNION SELECT source FROM laid_sound"
    )
    return {source_row[0] for source_row in source_rows}


def cleaned(fields: Mapping[str, str | int]) -> dict[str, str | int]:
    """Values for columns of a recording as they are kept; `Invalid` for what cannot be."""
    fields = dict(fields)
    if "name" in fields:
        fields["name"] = clean_name(str(fields["name"]), limit=120)
    if fields.get("kind", "b-roll") not in RECORDING_KINDS:
        raise Invalid(f"A recording is one of: {', '.join(RECORDING_KINDS)}.")
    if fields.get("language", "") not in ("", *NAMES):
        raise Invalid("That is no language that can be heard.")
    for field_name in ("roll", "camera", "day"):
        if field_name in fields:
            fields[field_name] = str(fields[field_name]).strip()[:40]
    return fields


def update(database: Database, recording: int, **fields: str | int) -> Recording:
    """Change name, kind, roll, camera, day, language, aside or poster."""
    return update_all(database, [(recording, cleaned(fields))])[0]


def update_all(
    database: Database, changed_recordings: Sequence[tuple[int, Mapping[str, str | int]]], did: str = ""
) -> list[Recording]:
    """Change several recordings of one project: clean values, as `update` makes them. One undoable step of the log."""
    recordings_found = [get(database, recording_id) for recording_id, _ in changed_recordings]
    if not recordings_found:
        raise Invalid("Choose one or more recordings.")
    with steps.step(database, recordings_found[0].project, did or f"{recordings_found[0].name} changed") as step:
        for recording_id, fields in changed_recordings:
            step.update(recording_id, fields)
    return [get(database, recording_id) for recording_id, _ in changed_recordings]


def set_value(database: Database, recording: int, setting: str, value: object) -> tuple[Recording, str]:
    """Set a setting of a recording, in every story of its project, or (None) take it back; and what was done. Undone
    in the log."""
    with database.write():
        this_recording = get(database, recording)
        new = on_recording(this_recording.source, setting, value)
        this_setting = SETTINGS[setting]
        summary = (
            f"{this_recording.name}: {this_setting.label.lower()} "
            f"{'taken back' if value is None else this_setting.says(new[setting])}"
        )
        with steps.step(database, this_recording.project, summary) as step:
            step.set(recording, json.dumps(new.to_json()))
    return get(database, recording), summary


def reorder(database: Database, recording: int, before: int | None) -> None:
    """Put a recording before another one of its project (None: last)."""
    this_recording = get(database, recording)
    rest = [other.id for other in of_project(database, this_recording.project) if other.id != recording]
    if before is not None and before not in rest:
        raise Missing("There is no such recording in the project to put it before.")
    rest.insert(len(rest) if before is None else rest.index(before), recording)
    with database.write() as connection:
        connection.executemany(
            "UPDATE recording SET ordinal = ? WHERE id = ?",
            [(index, recording_id) for index, recording_id in enumerate(rest)],
        )


def all_paths(database: Database) -> list[str]:
    """Where the files of all recordings of all projects lie."""
    return [path_row["path"] for path_row in database.read().execute("SELECT DISTINCT path FROM recording")]


def set_ready(database: Database, recording: int) -> None:
    """It can be opened: what is known of it is known, and what is made of it comes."""
    with database.write() as connection:
        connection.execute("UPDATE recording SET ready = 1 WHERE id = ?", (recording,))


def set_whole(database: Database, recording: int, checksum: str, frames: int | None) -> None:
    """Everything is made of it; `frames` is the exact count found while making it."""
    with database.write() as connection:
        connection.execute(
            "UPDATE recording SET ready = 1, checksum = ?, frames = ? WHERE id = ?", (checksum, frames, recording)
        )


def remove(database: Database, recording: int) -> None:
    """Take a recording out of its project (never its file), with its words and subclips: an undoable step of the
    log. Refused while a story uses it."""
    used = (
        database.read()
        .execute(
            "SELECT 1 FROM piece WHERE source = ?1 UNION SELECT 1 FROM cover WHERE source = ?1"
            " UNION SELECT 1 FROM laid_sound WHERE source = ?1 LIMIT 1",
            (recording,),
        )
        .fetchone()
    )
    if used:
        raise Invalid("The story uses this recording. Take it out of the story first, or set it aside.")
    with database.write() as connection:
        this_recording = get(database, recording)
        with steps.step(database, this_recording.project, f"{this_recording.name} taken out") as step:
            step.taken_out(recording)
        connection.execute(
            "UPDATE job SET state = 'cancelled' WHERE recording = ? AND state IN ('waiting', 'working')", (recording,)
        )


def bring_back(database: Database, recording: int) -> Recording:
    """A recording that was taken out is in its project again, with all that belongs to it; an undoable step of the
    log."""
    this_recording = get(database, recording)
    with steps.step(database, this_recording.project, f"{this_recording.name} brought back") as step:
        step.taken_out(recording, out=False)
    return this_recording


def forget(database: Database, ids: Sequence[int]) -> None:
    """Take recordings away for good that were taken out."""
    with database.write() as connection:
        connection.executemany(
            "DELETE FROM recording WHERE id = ? AND gone IS NOT NULL", [(recording_id,) for recording_id in ids]
        )


def clock_of(database: Database, project: int) -> Rate:
    """The project's rate, on which all positions inside its recordings are counted."""
    clock_row = database.read().execute("SELECT rate_num, rate_den FROM project WHERE id = ?", (project,)).fetchone()
    if clock_row is None:
        raise Missing("There is no such project. It may have been deleted.")
    return Rate(*clock_row)


def set_heard(database: Database, recording: int, heard: Sequence[int]) -> None:
    """Which microphones of a recording are heard."""
    with database.write() as connection:
        connection.execute(
            "UPDATE recording SET heard = ?, channels = ? WHERE id = ?",
            (json.dumps(list(heard)), len(heard), recording),
        )


def set_spoken(database: Database, recording: int, code: str) -> None:
    """The language that was found in its sound or its words."""
    with database.write() as connection:
        connection.execute("UPDATE recording SET spoken = ? WHERE id = ?", (code, recording))


def set_changed(database: Database, recording: int, changed: int) -> None:
    """Its file was written anew, but is the same."""
    with database.write() as connection:
        connection.execute("UPDATE recording SET changed = ? WHERE id = ?", (changed, recording))


def set_checksum(database: Database, recording: int, checksum: str) -> None:
    """The SHA-256 of its file, known before it is prepared."""
    with database.write() as connection:
        connection.execute("UPDATE recording SET checksum = ? WHERE id = ?", (checksum, recording))


def replace_file(database: Database, recording: int, path: str, facts: Mapping[str, Any]) -> None:
    """Another file of the same recording takes its place: size, rate and picture are its own, the checksum is found
    anew."""
    with database.write() as connection:
        connection.execute(
            "UPDATE recording SET path = ?, size = ?, checksum = '', rate_num = ?, rate_den = ?, frames = ?, width = "
            "?, height = ?,"
            " channels = ?, remarks = ?, changed = ?, microphones = ?, heard = ?, ready = 0 WHERE id = ?",
            (
                path,
                facts["size"],
                *facts["rate"],
                facts["frames"],
                facts["width"],
                facts["height"],
                facts["channels"],
                json.dumps(facts["remarks"]),
                facts.get("changed", 0),
                json.dumps(facts.get("microphones", [])),
                json.dumps(facts.get("heard", [])),
                recording,
            ),
        )


def set_sync(database: Database, sync_rows: Sequence[tuple[int, Sync | None, float, str]]) -> None:
    """Put recordings on the clock of a sync set, or (None) take them out: (recording, place, how sure, how found)."""
    with database.write() as connection:
        for recording, sync, sure, how in sync_rows:
            where = (None, 0, 0.0) if sync is None else (sync.set, sync.offset, sync.ppm)
            connection.execute(
                "UPDATE recording SET sync_set = ?, sync_offset = ?, sync_ppm = ?, sync_sure = ?, sync_how = ? WHERE "
                "id = ?",
                (*where, sure, how, recording),
            )


def new_set(database: Database) -> int:
    """A number no sync set has yet."""
    return int(database.read().execute("SELECT coalesce(max(sync_set), 0) + 1 FROM recording").fetchone()[0])
