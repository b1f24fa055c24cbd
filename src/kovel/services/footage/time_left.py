"""How long preparing goes on: from what this machine did before, and more and more from what it does now.

before    [60 s][30 s]  [90 s]      180 s of recordings in so many seconds of work, several side by side
now       [####......][##....]      what is under way, and what waits behind it
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from time import time

from kovel.store import jobs
from kovel.store.db import Database

SURE = 60.0  # seconds of work after which only what is seen now counts
STEADY = 20.0  # seconds before anything is said where this machine has done nothing like it yet
SOME = 0.05  # and how much of all must be done by then


@dataclass(frozen=True, slots=True)
class Work:
    """A recording that is, or was, prepared: its length in seconds, how far it is, when it began and ended (seconds
    since 1970)."""

    length: float
    progress: float
    started: float | None
    finished: float | None = None


def seconds_left(coming: Sequence[Work], before: Sequence[Work], now: float) -> int | None:
    """Seconds until all that is coming is done; None until that can be said without taking it back soon."""
    begun = [work.started for work in coming if work.started is not None]
    to_do = sum(work.length * (1 - work.progress) for work in coming)
    began = min(begun, default=now)
    known = _pace([work for work in before if work.finished is not None and work.finished <= began])
    if not begun:
        return round(to_do / known) if known else None
    spent = max(0.0, now - began)
    done = sum(work.length * work.progress for work in coming) + sum(
        work.length * _share(work, began) for work in before
    )
    share = min(1.0, spent / SURE)
    if known is None and (spent < STEADY or done < SOME * (done + to_do)):
        return None
    seen = done / spent if spent else 0.0
    pace = share * seen + (1 - share) * known if known is not None else seen
    return round(to_do / pace) if pace > 0 else None


def _share(work: Work, began: float) -> float:
    """How much of a finished one was done since `began`."""
    if work.started is None or work.finished is None or work.finished <= began:
        return 0.0
    return min(1.0, (work.finished - began) / max(1e-3, work.finished - work.started))


def _pace(before: Sequence[Work]) -> float | None:
    """Seconds of recordings that were prepared in a second of work; what ran side by side counts once. None where
    little is known."""
    spans = sorted(
        (work.started, work.finished) for work in before if work.started is not None and work.finished is not None
    )
    length = sum(work.length for work in before if work.started is not None and work.finished is not None)
    busy, until = 0.0, 0.0
    for start, end in spans:
        busy += max(0.0, end - max(start, until))
        until = max(until, end)
    return length / busy if busy >= 5 and length else None


def preparing_ends(database: Database, coming: Sequence[jobs.Job]) -> int | None:
    """Seconds until these recordings are prepared, by what this machine prepared before."""

    def of(job: jobs.Job) -> Work:
        num, den = job.params["rate"]
        return Work(float((job.params["frames"] or 1) * den / num), job.progress, job.started, job.finished)

    return seconds_left(
        [of(job) for job in coming if not job.paused],
        [of(job) for job in jobs.finished(database, "prepare", 30)],
        time(),
    )
