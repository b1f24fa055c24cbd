"""What the scheduler has to know of each kind of job. A kind is declared beside its service and listed in
`services/job_kinds.py`.

service asks      scheduler                              service
jobs.add(kind) ─► hold? ─► needs_sound? ─► call ─► take ─► Outcome: done with a message, made again, or its next step
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any, Protocol

from kovel.data_folder import DataFolder
from kovel.store.jobs import Job

Result = dict[str, Any]


class NeededSound(StrEnum):
    """How much of a recording's sound must be there before a job can be worked on."""

    NONE = "none"
    SOME = "some"  # it follows the sound while that is being made
    ALL = "all"


@dataclass(frozen=True, slots=True)
class Hold:
    """A job cannot be handed out just now; with `why`, it never will be: it has failed for that."""

    why: str = ""


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of a job when its call had brought a result.

    :param message: for the editor, beside the finished job
    :param result: what is kept in the job's row
    :param short: what is lacking of what it was to make: it is made again
    :param goes_on: other steps of it follow
    """

    message: str = ""
    result: Result | None = None
    short: str = ""
    goes_on: bool = False


class Follower(Protocol):
    """Takes in what a call brings while it still works."""

    def take(self) -> None:
        """What has come since."""

    def end(self, result: Result) -> None:
        """It is done: the result is all of it."""


@dataclass(frozen=True, slots=True)
class JobStep:
    """One of several calls of a job: its name among them, and what it makes of the pieces, [first, last)."""

    name: str
    call: str
    params: Result = field(hash=False)
    urgency: int
    pieces: tuple[int, int | None] | None = None
    brings_sound: bool = False
    makes_all: bool = False


@dataclass(frozen=True, slots=True)
class SoFar:
    """How far the calls of a job have come.

    :param under_way: the steps that are being made
    :param told: how far each of them says it is, 0 to 1, by its name
    :param ended: the names of those that brought their result in this try; nobody remembers them after a restart
    :param here: calls at once on this machine
    :param elsewhere: and on others, just now
    """

    under_way: tuple[JobStep, ...] = ()
    told: Mapping[str, float] = field(default_factory=dict)
    ended: frozenset[str] = frozenset()
    here: int = 1
    elsewhere: int = 0


@dataclass(frozen=True, slots=True)
class Steps:
    """How a job is made in several calls, some of them side by side.

    :param following: the steps that can be made next, beside those that are under way
    :param progress: how far it is, 0 to 1
    :param take: what becomes of a step's result
    :param spared: whether the job goes on where this step failed
    """

    following: Callable[[Job, SoFar], list[JobStep]]
    progress: Callable[[Job, SoFar], float]
    take: Callable[[DataFolder, Job, JobStep, Result], Outcome]
    spared: Callable[[Job, JobStep], bool]


def keep_result(data_folder: DataFolder, job: Job, result: Result) -> Outcome:
    """Nothing but the result itself."""
    return Outcome(result=result)


@dataclass(frozen=True, slots=True)
class JobKind:
    """One kind of job.

    :param call: the call that a child makes for it (`media/calls.py`); where it has `steps`, the one that ends it, if
        that writes where its result will be
    :param urgency: the lower, the sooner
    :param take: what becomes of its result, in the transaction that ends the job
    :param hold: why it cannot be handed out yet
    :param is_long: it takes minutes and more, and leaves room for other work
    :param fills_machine: one at a time on each machine
    :param follow: takes in what comes while it is worked on
    :param clear: files between a job and its worker that nobody needs once it has ended
    """

    name: str
    call: str = ""
    urgency: float = 0
    take: Callable[[DataFolder, Job, Result], Outcome] = keep_result
    hold: Callable[[DataFolder, Job], Hold | None] = lambda data, job: None
    needs_sound: NeededSound = NeededSound.NONE
    is_long: bool = False
    fills_machine: bool = False
    follow: Callable[[DataFolder, Job], Follower] | None = None
    clear: Callable[[Job], None] | None = None
    steps: Steps | None = None


@dataclass(frozen=True, slots=True)
class Chore:
    """What the scheduler sees to beside jobs, every so many seconds (None: once, when it begins).

    :param begin: gives what is done each time; it may remember in there what it has seen
    """

    seconds: float | None
    begin: Callable[[DataFolder], Callable[[], object]]
