"""Long jobs as rows: what waits, what works, how far it is, how it ended."""

import json
import sqlite3
import time
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from kovel.core.errors import Invalid, Missing
from kovel.store.db import Database, fresh


class JobState(StrEnum):
    """How far a job is, as its row has it."""

    WAITING = "waiting"
    WORKING = "working"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"


@dataclass(frozen=True, slots=True)
class Job:
    id: int
    project: int
    recording: int | None
    kind: str
    params: dict[str, Any]
    state: JobState
    progress: float
    started: float | None
    finished: float | None
    message: str
    result: dict[str, Any] | None
    attempt: int = 0
    paused: bool = False
    base: float = 0.0  # how far it was when this try began
    machine: str = ""  # that works on it, where that is another one than the server's

    @property
    def key(self) -> str:
        """What this try at it is called in the queue."""
        return f"{self.id}.{self.attempt}"

    @property
    def is_open(self) -> bool:
        """Whether it waits or is worked on."""
        return self.state in (JobState.WAITING, JobState.WORKING)

    @property
    def is_waiting(self) -> bool:
        """Whether it waits for its turn."""
        return self.state is JobState.WAITING

    @property
    def is_working(self) -> bool:
        """Whether it is worked on."""
        return self.state is JobState.WORKING

    @property
    def was_cancelled(self) -> bool:
        """Whether somebody stopped it."""
        return self.state is JobState.CANCELLED

    @property
    def is_done(self) -> bool:
        """Whether it came out as asked."""
        return self.state is JobState.DONE

    @property
    def has_failed(self) -> bool:
        """Whether it failed."""
        return self.state is JobState.FAILED

    @property
    def can_be_tried_again(self) -> bool:
        """Whether it ended without what it was to bring."""
        return self.state in (JobState.FAILED, JobState.CANCELLED)

    @property
    def percent(self) -> int:
        """How far it is, in percent."""
        return round(100 * self.progress)

    @property
    def seconds_left(self) -> int | None:
        """From the pace so far; None until there is one."""
        done = self.progress - self.base
        if self.state is not JobState.WORKING or self.started is None or done < 0.03 * (1 - self.base):
            return None
        return round((time.time() - self.started) * (1 - self.progress) / done)


def _job(job_row: sqlite3.Row) -> Job:
    return Job(
        job_row["id"],
        job_row["project"],
        job_row["recording"],
        job_row["kind"],
        json.loads(job_row["params"]),
        JobState(job_row["state"]),
        job_row["progress"],
        job_row["started"],
        job_row["finished"],
        job_row["message"],
        json.loads(job_row["result"]) if job_row["result"] else None,
        job_row["attempt"],
        bool(job_row["paused"]),
        job_row["base"],
        job_row["machine"],
    )


def add(database: Database, project: int, kind: str, params: dict[str, Any], recording: int | None = None) -> Job:
    with database.write() as connection:
        jid = fresh(connection, "job")
        connection.execute(
            "INSERT INTO job (id, project, recording, kind, params) VALUES (?,?,?,?,?)",
            (jid, project, recording, kind, json.dumps(params)),
        )
    return get(database, jid)


def get(database: Database, job: int) -> Job:
    job_row = database.read().execute("SELECT * FROM job WHERE id = ?", (job,)).fetchone()
    if job_row is None:
        raise Missing("There is no such job.")
    return _job(job_row)


def in_state(database: Database, *states: str) -> list[Job]:
    return [
        _job(job_row)
        for job_row in database.read().execute(
            f"SELECT * FROM job WHERE state IN ({','.join('?' * len(states))}) ORDER BY id", states
        )
    ]


def unfinished(database: Database) -> list[Job]:
    """Every job that waits or is worked on, the oldest first."""
    return in_state(database, JobState.WAITING, JobState.WORKING)


def of_project(database: Database, project: int, kind: str | None = None) -> list[Job]:
    job_rows = database.read().execute(
        "SELECT * FROM job WHERE project = ? AND (? IS NULL OR kind = ?) ORDER BY id DESC", (project, kind, kind)
    )
    return [_job(job_row) for job_row in job_rows]


def finished(database: Database, kind: str, count: int) -> list[Job]:
    """The last so many of a kind that were done, of all projects."""
    job_rows = database.read().execute(
        "SELECT * FROM job WHERE kind = ? AND state = 'done' ORDER BY finished DESC LIMIT ?", (kind, count)
    )
    return [_job(job_row) for job_row in job_rows]


def latest_of_recordings(database: Database, project: int, *kinds: str) -> dict[int, Job]:
    """The newest job of these kinds (preparing, if none is named) for each recording."""
    marks = ",".join("?" * len(kinds or ("prepare",)))
    job_rows = database.read().execute(
        "SELECT * FROM job WHERE id IN (SELECT max(id) FROM job WHERE project = ? AND recording IS NOT NULL"
        f" AND kind IN ({marks}) GROUP BY recording)",
        (project, *(kinds or ("prepare",))),
    )
    return {job_row["recording"]: _job(job_row) for job_row in job_rows}


def begin(database: Database, job: int, base: float = 0.0) -> Job | None:
    """Another try at a job that waits, of which so much is done already; None if it waits no more, or is held."""
    with database.write() as connection:
        begun = connection.execute(
            "UPDATE job SET state = 'working', started = ?, progress = ?, base = ?, message = '', machine = '', "
            "attempt = attempt + 1"
            " WHERE id = ? AND state = 'waiting' AND NOT paused",
            (time.time(), base, base, job),
        ).rowcount
        return get(database, job) if begun else None


def advance(database: Database, job: int, progress: float, machine: str = "") -> None:
    """How far it is, and the machine that works on it, where that is another one."""
    with database.write() as connection:
        connection.execute(
            "UPDATE job SET progress = ?, machine = ? WHERE id = ? AND state = 'working'", (progress, machine, job)
        )


def end(database: Database, job: int, state: JobState, message: str = "", result: dict[str, Any] | None = None) -> None:
    """Close a job that is still open; a cancelled one stays cancelled."""
    with database.write() as connection:
        connection.execute(
            "UPDATE job SET state = ?, message = ?, result = ?, finished = ?, progress = CASE WHEN ? = 'done' THEN 1 "
            "ELSE progress END"
            " WHERE id = ? AND state IN ('waiting', 'working')",
            (state, message, json.dumps(result) if result else None, time.time(), state, job),
        )


def hold(database: Database, job: int, why: str) -> None:
    """One under way cannot go on just now: it waits, and says why."""
    with database.write() as connection:
        connection.execute(
            "UPDATE job SET state = 'waiting', started = NULL, message = ? WHERE id = ? AND state = 'working'",
            (why, job),
        )


def again(database: Database, job: int, *ended: JobState) -> None:
    """Back into the queue, from one of these states (failed or cancelled, unless others are named); `Invalid` from
    others."""
    ended = ended or (JobState.FAILED, JobState.CANCELLED)
    with database.write() as connection:
        back = connection.execute(
            "UPDATE job SET state = 'waiting', progress = 0, started = NULL, finished = NULL, message = '', paused = 0"
            f" WHERE id = ? AND state IN ({','.join('?' * len(ended))})",
            (job, *ended),
        ).rowcount
    if not back:
        raise Invalid("It is under way or finished already. There is nothing to try again.")


def pause(database: Database, ids: Sequence[int], paused: bool) -> int:
    """Hold jobs that are open, or let them go on; how many it was new to. One under way goes back to wait."""
    with database.write() as connection:
        return sum(
            connection.execute(
                "UPDATE job SET paused = ?, state = 'waiting' WHERE id = ? AND paused != ? AND state IN ('waiting', "
                "'working')",
                (paused, job_id, paused),
            ).rowcount
            for job_id in ids
        )


def forget_message(database: Database, job: int) -> None:
    """What it said was read: an ended job keeps its state only."""
    with database.write() as connection:
        connection.execute(
            "UPDATE job SET message = '', state = CASE state WHEN 'failed' THEN 'cancelled' ELSE state END"
            " WHERE id = ? AND state NOT IN ('waiting', 'working')",
            (job,),
        )
