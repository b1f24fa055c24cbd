"""The scheduler: hands waiting jobs to where they are worked on, writes progress and results to the database. One a
data folder."""

import contextlib
import os
import sys
import threading
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from secrets import token_hex
from typing import Any

from kovel.core.errors import Invalid, Missing
from kovel.data_folder import DataFolder, looked_at, sounded
from kovel.jobs.kinds import Chore, Follower, JobKind, JobStep, NeededSound, SoFar, Steps
from kovel.jobs.log_files import note, notebook
from kovel.jobs.workplaces import ThisMachine, Workplace
from kovel.media.calls import CALLS, Place
from kovel.media.child import swept
from kovel.store import jobs, recordings
from kovel.store.db import in_words
from kovel.store.jobs import JobState

SPARE = 1  # calls here beyond the usual ones, for what a recording opens with and what is about to be heard
HELD = 10.0  # seconds until what the disk holds up is tried again
TAKE_OVER = 2.0  # seconds between two looks whether the work is to be taken over
TRIES = 3  # at making a recording whole


@dataclass(frozen=True, slots=True)
class Out:
    """A call that was handed out: the try at a job it belongs to, which step of it, and where it is made."""

    job: jobs.Job
    step: JobStep | None
    place: Workplace
    began: float = field(default_factory=time.monotonic)
    once: str = field(default_factory=lambda: token_hex(4))  # a step may be given out again in the same try

    @property
    def key(self) -> str:
        """The key of the call, of its job, step and try."""
        return f"{self.job.key} {self.step.name} {self.once}" if self.step else f"{self.job.key} {self.once}"


def ended_how(answer: Mapping[str, Any]) -> str:
    """How a call ended, in a word: cancelled, held, lost, done or failed."""
    ended = "done" if "result" in answer else "failed"
    return next((how for how in ("cancelled", "held", "lost") if how in answer), ended)


class Scheduler:
    """Works on the jobs of one data folder. Begin with `start`: False if another process does the work for this
    folder already."""

    def __init__(
        self,
        data_folder: DataFolder,
        kinds: Iterable[JobKind],
        chores: Iterable[Chore] = (),
        workers: int | None = None,
        elsewhere: Sequence[Workplace] = (),
    ) -> None:
        """:param workers: calls at once on this machine; elsewhere: where else calls can be made"""
        self.data = data_folder
        self.kinds = {kind.name: kind for kind in kinds}
        self.chores = tuple(chores)
        self.places: list[Workplace] = [ThisMachine(workers or max(1, min(4, os.cpu_count() or 2))), *elsewhere]
        self._stop = threading.Event()
        self._lock: int | None = None
        self._thread: threading.Thread | None = None
        self._out: dict[str, Out] = {}  # calls handed out, by their key, until their end is applied
        self._ended: dict[int, set[str]] = {}  # by job in several calls: the steps of this try that brought a result
        self._followed: dict[str, Follower] = {}  # what takes in what calls under way bring, by their key
        self._failed: dict[str, int] = {}  # how often an end could not be applied
        self._short: dict[int, int] = {}  # by job: how often a recording was finished and not whole
        self._lost: dict[str, str] = {}  # calls that ended nobody knows how, not given back yet, and why
        self._held: dict[int, float] = {}  # jobs that the disk holds up, and when they are tried again

    def start(self) -> bool:
        """Begins in a thread of its own; False where another process serves this folder."""
        if not self._begin():
            return False
        self._thread = threading.Thread(target=self._run, name="scheduler", daemon=True)
        self._thread.start()
        return True

    def start_or_wait(self) -> None:
        """Do the work, or take it over once the process that does it now has ended."""
        self._thread = threading.Thread(target=self._wait, name="scheduler", daemon=True)
        if self._begin():
            self._thread = threading.Thread(target=self._run, name="scheduler", daemon=True)
        self._thread.start()

    def _wait(self) -> None:
        while not self._stop.wait(TAKE_OVER):
            with contextlib.suppress(OSError):
                if self._begin():
                    return self._run()

    def _begin(self) -> bool:
        self._lock = self.data.lock()
        if self._lock is None:
            return False
        for old_queue in self.data.root.glob("queue.db*"):  # of versions that had one
            old_queue.unlink(missing_ok=True)
        self._take_back()  # left over from a process that is gone
        return True

    def stop(self) -> None:
        """Ends; what is out is handed out again at the next start."""
        self._stop.set()
        if self._thread:
            self._thread.join(30)
        for place in self.places:
            place.close()
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None

    def _run(self) -> None:
        for chore in self.chores:
            if chore.seconds is None:
                chore.begin(self.data)()
        chores = [(chore.seconds, chore.begin(self.data)) for chore in self.chores if chore.seconds is not None]
        due = [0.0] * len(chores)
        for place in self.places:
            if isinstance(place, ThisMachine):
                place.warm_up()
        while not self._stop.wait(0.15):
            try:
                self.step()
                for index, (seconds, do) in enumerate(chores):
                    if time.monotonic() > due[index]:
                        due[index] = time.monotonic() + seconds
                        do()
            except Exception as error:  # a locked database or a full disk passes; the loop must not end
                print(f"kovel: jobs are held up ({in_words(error) or error}); trying again", file=sys.stderr)
                self._stop.wait(2)

    def step(self) -> None:
        """One round: results in, progress noted, cancellations passed on, waiting jobs handed out."""
        for call_key in list(self._lost):  # any of these may be held up by the disk, and is tried again
            self._lose(call_key)
        for call_key, out in list(self._out.items()):
            self._look_after(call_key, out)
        self._hand_out()

    def _lose(self, key: str) -> None:
        """Nobody knows what became of it: it is made again. A step that is not brought is given out again anyway."""
        out = self._out[key]
        if self._begins_files(out.job):
            swept(out.job.params)
        if not out.step:
            with contextlib.suppress(Missing, Invalid):
                job_now = jobs.get(self.data.db, out.job.id)
                if job_now.attempt == out.job.attempt:
                    jobs.again(self.data.db, job_now.id, JobState.WORKING)
        self._log(out, "lost", self._lost[key])
        out.place.forget(key)
        self._let_go(key)

    def _begins_files(self, job: jobs.Job) -> bool:
        kind = self.kinds.get(job.kind)
        return kind is not None and kind.call in CALLS and CALLS[kind.call].begins_files

    def _let_go(self, key: str) -> None:
        self._out.pop(key, None)
        self._followed.pop(key, None)
        self._failed.pop(key, None)
        self._lost.pop(key, None)

    def _is_known(self, job: jobs.Job) -> bool:
        """Whether this Kovel can make it; a job that a later version left behind has failed, and says so."""
        if job.kind in self.kinds:
            return True
        told_newer = (
            f"A newer version of Kovel started this (“{job.kind}”); this one cannot finish it. "
            "Start the newer one again."
        )
        jobs.end(self.data.db, job.id, JobState.FAILED, told_newer)
        return False

    def _end_the_silent(self, all_jobs: list[jobs.Job]) -> None:
        """Words of a recording whose sound is not made any more are not waited for, whether one listens already or
        not."""
        silent = [
            job
            for job in all_jobs
            if self.kinds[job.kind].needs_sound is not NeededSound.NONE and not sounded(job.params["out"])
        ]
        for project in {job.project for job in silent}:
            makers = jobs.latest_of_recordings(self.data.db, project, "prepare")
            for job in (job for job in silent if job.project == project):
                maker = makers.get(job.recording or 0)
                if maker is not None and maker.can_be_tried_again:
                    why = maker.message or "preparing it was stopped."
                    told_silence = f"Its sound is not there: {why} Try again in Footage, then this once more."
                    jobs.end(self.data.db, job.id, JobState.FAILED, told_silence)
                    all_jobs.remove(job)

    def _hand_out(self) -> None:
        """Free workers get what is most urgent: sound before pictures, what is looked at and what the stories show
        first."""
        known_jobs = [job for job in jobs.unfinished(self.data.db) if self._is_known(job)]
        self._end_the_silent(known_jobs)
        free = [place.slots for place in self.places]
        for out in self._out.values():
            free[self.places.index(out.place)] -= 1
        if all(places <= -SPARE for places in free):
            return
        for _, job, step in sorted(self._calls_of(known_jobs), key=lambda call: call[0]):
            self._offer(job, step, free)

    def _calls_of(self, all_jobs: list[jobs.Job]) -> Iterator[tuple[tuple[float, ...], jobs.Job, JobStep | None]]:
        """(how urgent, job, step) of every call that can be made now: what comes first has the smallest."""
        shown = recordings.in_stories(self.data.db)
        looked = looked_at(self.data)
        under_way = {out.job.id for out in self._out.values()}
        coming = {out.job.recording for out in self._out.values() if out.step and out.step.brings_sound}
        for job in all_jobs:
            if job.paused or self._held.get(job.id, 0.0) > time.monotonic():
                continue
            kind = self.kinds[job.kind]
            unseen = job.recording not in shown
            if job.state is JobState.WAITING and (job.id in under_way or not self._is_ready(kind, job, coming)):
                continue  # or an earlier try of it is still ending
            if kind.steps is not None:
                wanted = -looked.get(job.recording or 0, 0.0)  # what was looked at last, first
                for index, step in enumerate(self._steps_of(kind.steps, job)):
                    yield (step.urgency, wanted, unseen, job.id + index / 1e4), job, step
            elif job.state is JobState.WAITING:
                yield (kind.urgency, 0.0, unseen, job.id), job, None

    def _steps_of(self, steps: Steps, job: jobs.Job) -> list[JobStep]:
        """What can be done next of a job in several calls; nothing while an earlier try of it is still ending."""
        if any(out.job.id == job.id and out.job.attempt != job.attempt for out in self._out.values()):
            return []
        return steps.following(job, self._so_far(job))

    def _so_far(self, job: jobs.Job) -> SoFar:
        of_job = [(out.step, out) for out in self._out.values() if out.job.id == job.id and out.step]
        return SoFar(
            tuple(step for step, _ in of_job),
            {step.name: out.place.progress(out.key) or 0.0 for step, out in of_job},
            frozenset(self._ended.get(job.id, ())),
            sum(place.slots for place in self.places if place.is_here),
            sum(place.slots for place in self.places if not place.is_here),
        )

    def _is_ready(self, kind: JobKind, job: jobs.Job, coming: set[int | None]) -> bool:
        """Whether a job can be handed out. `coming`: the recordings whose sound is being made."""
        if kind.needs_sound is not NeededSound.NONE:
            begun = kind.needs_sound is NeededSound.SOME and job.recording in coming
            if not sounded(job.params["out"], begun):
                return False
        held = kind.hold(self.data, job)
        if held is not None and held.why:
            jobs.end(self.data.db, job.id, JobState.FAILED, held.why)
        return held is None

    def _offer(self, job: jobs.Job, step: JobStep | None, free: list[int]) -> None:
        """Have a call made wherever there is a place for it, if there is any."""
        kind = self.kinds[job.kind]
        call, params = (step.call, step.params) if step else (kind.call, job.params)
        number = self._for(free, kind, call, params)
        if number is None:
            return
        job_now: jobs.Job | None = jobs.get(self.data.db, job.id)
        if job_now is not None and job_now.state is JobState.WAITING:
            self._ended.pop(job.id, None)
            base = kind.steps.progress(job_now, SoFar()) if kind.steps and step and not step.makes_all else 0.0
            job_now = jobs.begin(self.data.db, job.id, base)
        if job_now is None or (step and job_now.state is not JobState.WORKING):
            return
        self._give(Out(job_now, step, self.places[number]), call, params)
        free[number] -= 1

    def _for(self, free: list[int], kind: JobKind, name: str, params: dict[str, Any]) -> int | None:
        """Where a call is to be made: somewhere that has a place for it and reaches its files. One recogniser fills a
        machine; what takes long leaves room for other work, and what somebody waits for finds a place here whatever
        goes on."""
        call = CALLS[name]
        swift = sum(1 for o in self._out.values() if o.place.is_here and o.step and CALLS[o.step.call].is_swift)
        spare = SPARE if call.is_swift else min(SPARE, swift)  # the swift ones take the spare place
        able = [
            number
            for number, place in enumerate(self.places)
            if free[number] > (-spare if place.is_here else 0)
            and not (kind.is_long and self._is_long_there(place, kind))
        ]
        here = [number for number in able if self.places[number].is_here]
        if call.place is Place.HERE or (call.place is Place.NEAR and here):
            able = here
        able = [number for number in able if self.places[number].reaches(params)]
        return max(able, key=lambda number: (not self.places[number].is_here, free[number]), default=None)

    def _is_long_there(self, place: Workplace, kind: JobKind) -> bool:
        """Whether as much is made there that takes long as leaves room for other work; one that fills this machine is
        made alone (a cluster sees to that itself)."""
        there = [out.job.kind for out in self._out.values() if out.place is place]
        long = [name for name in there if self.kinds[name].is_long]
        return len(long) >= max(1, place.slots - 1) or (place.is_here and kind.fills_machine and kind.name in long)

    def _give(self, out: Out, call: str, params: dict[str, Any]) -> None:
        kind = self.kinds[out.job.kind]
        self._out[out.key] = out
        try:
            if kind.follow is not None:
                self._followed[out.key] = kind.follow(self.data, out.job)
            urgency = out.step.urgency if out.step else kind.urgency
            out.place.submit(out.key, call, params, urgency, fills_machine=kind.fills_machine)
        except Exception as error:
            self._lost[out.key] = f"it could not be begun ({type(error).__name__})"
            raise

    def _take_back(self) -> None:
        for job in jobs.in_state(self.data.db, JobState.WORKING):
            if self._begins_files(job):
                swept(job.params)
            jobs.again(self.data.db, job.id, JobState.WORKING)
        for call_key in list(self._out):
            self._let_go(call_key)

    def _keep_result(self, key: str, out: Out, answer: dict[str, Any]) -> None:
        """What it brought and its end, together and once. Raises what went wrong, until it did so five times."""
        try:
            with self.data.db.write():
                if self._counting(out):
                    self._end(out, answer)
        except Exception as error:
            self._failed[key] = self._failed.get(key, 0) + 1
            if self._failed[key] < 5:  # a full disk or a foreign lock may pass
                raise
            error_told = in_words(error) or f"({type(error).__name__}: {error})"
            why = f"Its result could not be kept. {error_told} Try again."
            jobs.end(self.data.db, out.job.id, JobState.FAILED, why)
            self._log(out, "not kept", why)

    def _look_after(self, key: str, out: Out) -> None:
        """Progress noted, or the end applied; a try that counts no more is told to stop, and its answer passed over."""
        job_now = self._counting(out)
        answer = out.place.result(key)
        if answer is None:
            if job_now:
                self._note(job_now, key, out)
            else:
                out.place.stop(key)
            return
        if "lost" in answer and job_now:
            self._lost[key] = answer["lost"]
            return self._lose(key)
        if key not in self._failed:
            how = ended_how(answer)
            self._log(out, how if job_now else f"{how}, passed over", answer.get("unusable") or answer.get("held", ""))
        if job_now:
            self._keep_result(key, out, answer)
        self._clear(out.job)
        self._let_go(key)
        out.place.forget(key)

    def _clear(self, job: jobs.Job) -> None:
        """Files that nobody needs once a job has ended; also what a machine that went down had begun to write, unless
        another job writes there by now."""
        unfinished = jobs.unfinished(self.data.db)
        if any(other.id == job.id for other in unfinished):
            return
        clear = self.kinds[job.kind].clear
        if clear is not None:
            clear(job)
        if self._begins_files(job) and not any(other.params.get("out") == job.params["out"] for other in unfinished):
            swept(job.params)

    def _counting(self, out: Out) -> jobs.Job | None:
        """The job that a call belongs to, as long as that try at it counts."""
        with contextlib.suppress(Missing):
            job_now = jobs.get(self.data.db, out.job.id)
            if job_now.state == JobState.WORKING and job_now.attempt == out.job.attempt:
                return job_now
        return None

    def _log(self, out: Out, ended: str, why: str = "") -> None:
        """A line in logs/jobs.log for every call that ended: what it was, how long it took, how it ended."""
        note(
            notebook(self.data.logs, "jobs.log"),
            job=out.job.id,
            attempt=out.job.attempt,
            kind=out.job.kind,
            **({"step": out.step.name} if out.step else {}),
            **({"where": node} if (node := out.place.where(out.key)) else {}),
            recording=out.job.recording,
            project=out.job.project,
            seconds=round(time.monotonic() - out.began, 2),
            ended=ended,
            **({"why": why} if why else {}),
        )

    def _note(self, now: jobs.Job, key: str, out: Out) -> None:
        """How far a job is, by what its calls have told."""
        if key in self._followed:
            self._followed[key].take()
        steps = self.kinds[now.kind].steps
        if steps is None:
            progress = out.place.progress(key)
        else:
            progress = steps.progress(now, self._so_far(now))
        machine = self._machines(now)
        if progress is not None and (abs(progress - now.progress) > 1e-4 or machine != now.machine):
            jobs.advance(self.data.db, now.id, progress, machine)

    def _machines(self, job: jobs.Job) -> str:
        """The machines that work on a job, as far as they are others than this one."""
        places = {out.place.where(out.key) for out in self._out.values() if out.job.id == job.id}
        names = sorted(name for name in places if name)
        if names and "" in places:
            names.append("this machine")
        return f"{names[0]} and {len(names) - 1} more" if len(names) > 2 else " and ".join(names)

    def _make_again(self, out: Out, short: str) -> None:
        """What a finished recording lacks is made again, by the steps that its folder lacks now; after some tries it
        has failed."""
        self._log(out, "short", short)
        self._short[out.job.id] = self._short.get(out.job.id, 0) + 1
        if self._short[out.job.id] >= TRIES:
            told_tries = (
                f"It did not come out whole, {TRIES} times: {short}. The disk may be failing; "
                "look at it, then try again."
            )
            jobs.end(self.data.db, out.job.id, JobState.FAILED, told_tries)
            del self._short[out.job.id]

    def _end(self, out: Out, answer: dict[str, Any]) -> None:
        job, step, kind = out.job, out.step, self.kinds[out.job.kind]
        if "cancelled" in answer:
            jobs.end(self.data.db, job.id, JobState.CANCELLED)
        elif "held" in answer:
            self._held[job.id] = time.monotonic() + HELD
            jobs.hold(self.data.db, job.id, answer["held"])
        elif "result" in answer:
            if out.key in self._followed:
                self._followed[out.key].end(answer["result"])
            took = (
                kind.steps.take(self.data, job, step, answer["result"])
                if kind.steps and step
                else kind.take(self.data, job, answer["result"])
            )
            if took.short:
                self._make_again(out, took.short)
            elif took.goes_on and step:
                self._ended.setdefault(job.id, set()).add(step.name)
            else:
                self._short.pop(job.id, None)
                self._ended.pop(job.id, None)
                jobs.end(self.data.db, job.id, JobState.DONE, took.message, result=took.result)
        elif not (kind.steps and step and kind.steps.spared(job, step)):
            jobs.end(self.data.db, job.id, JobState.FAILED, answer["unusable"])
