"""The foreman: gives waiting jobs to workers, writes progress and results to the database. One a data folder."""

import contextlib
import os
import sqlite3
import subprocess
import sys
import threading
import time
from dataclasses import asdict, dataclass, field
from datetime import date
from pathlib import Path
from secrets import token_hex
from typing import Any

from redis import RedisError

from kovel.media.child import swept
from kovel.media.forks import Process, begin
from kovel.media.whole_files import keep
from kovel.media.wholeness import shortcomings, take_apart, whole_sound
from kovel.store import jobs, recordings
from kovel.store.backup import daily
from kovel.store.db import Database, in_words
from kovel.store.projects import Invalid, Missing
from kovel.work import preparing
from kovel.work.cards import take_copied
from kovel.work.crew import Crew, Hand, Unfit
from kovel.work.finding import take_found
from kovel.work.folder import Data, looked_at, sounded
from kovel.work.hearing import SoFar, listen, take_heard, take_listened
from kovel.work.made import throw_old_away
from kovel.work.meaning import clear_up, keep_up, take_meant
from kovel.work.mending import mend_all
from kovel.work.noting import note, notebook
from kovel.work.preparing import Step
from kovel.work.queue import on_this_machine
from kovel.work.room import make_room
from kovel.work.shared import reached
from kovel.work.speakers import take_voices
from kovel.work.syncing import take_sync
from kovel.work.theming import follow

CALLS = {
    "render": "render",
    "listen": "listen",
    "pulse": "pulse",
    "clean": "clean",
    "retime": "retime",
    "copy": "copy",
    "relink": "compare",
    "archive": "archive",
    "meaning": "meant",
    "transcribe": "transcribe",
    "align": "align_text",
    "voices": "voices",
    "sync": "sync_by_sound",
}
URGENT = {
    "render": 0,
    "copy": 0,
    "relink": 1,
    "archive": 0,
    "clean": 1,
    "retime": 0.5,
    "listen": 0.8,  # before short recordings are made whole, of whatever project: somebody waits for pauses and for cameras in step
    "pulse": 3,
    "sync": 0.7,
    "align": 4,
    "voices": 4,
    "transcribe": 5,
    "meaning": 5.5,
}
ON_SOUND = ("pulse", "transcribe", "align")  # they need a recording's sound; all but the last follow it as it grows
LONG = ("transcribe", "meaning")  # these take minutes and more
SPARE = 1  # workers here beyond the usual ones, for
SWIFT = ("make_heard_sound", "make_index", "make_look", "retime")  # what a recording opens with, what is about to be heard
# small, or waited for: better where the files are
NEAR = ("make_heard_sound", "make_index", "make_look", "derive", "listen", "pulse", "retime")
WRITES = ("render", "archive")  # files that are begun beside where they will be, under names of their own
CLEARED = ("meaning", "archive")  # files were written for them that nobody needs once they have ended
AT_HOME = ("copy", "archive", "compare")  # of cards and folders of this machine, or to where the editor wants it


@dataclass(frozen=True, slots=True)
class Out:
    """A call that a worker has: the try at a job it belongs to, which step of it, and where it is."""

    job: jobs.Job
    step: Step | None
    hand: Hand
    began: float = field(default_factory=time.monotonic)
    once: str = field(default_factory=lambda: token_hex(4))  # a step may be given out again in the same try

    @property
    def key(self) -> str:
        return f"{self.job.key} {self.step.name} {self.once}" if self.step else f"{self.job.key} {self.once}"


def _will_not_come(db: Database, job: jobs.Job, lacking: list[str]) -> str:
    """Why a made sound that a job waits for is not made any more; empty while one is."""
    coming = {j.params["name"]: j for j in jobs.latest_of_recordings(db, job.project, "clean").values()}
    for j in reversed(jobs.of_project(db, job.project, "retime")):  # the newest of a name counts
        coming[j.params["name"]] = j
    for p in map(Path, lacking):
        maker = coming.get(p.stem)
        if maker is None or maker.state == "cancelled":
            return "The sound of a recording was changed while it waited. Try again."
        if maker.state == "failed" and maker.kind == "clean":
            return f"A recording could not be cleaned: {maker.message} Try again in the Sound room, then once more here."
        if maker.state == "failed":
            return f"The sound of a retimed shot could not be made: {maker.message} Try again."
    return ""


def _listening(data: Data, job: jobs.Job) -> bool:
    """Whether the recording of a job is still listened to."""
    now = jobs.latest_of_recordings(data.db, job.project, "listen").get(job.recording or 0)
    return now is not None and now.state in ("waiting", "working")


def _is_mended(rows: list[jobs.Job], render: jobs.Job) -> bool:
    """Whether the sound of a recording that a render reads is being made again just now."""
    coming = {str(j.recording) for j in rows if j.kind == "prepare"}
    files = render.params.get("files", {})
    return any(f.get("pcm") and i in coming and not whole_sound(Path(f["pcm"]).parent) for i, f in files.items())


def made_for(params: dict[str, Any]) -> list[str]:
    """The made sounds that a job reads: all that a render does; the cleaned one that a retimed one is made of."""
    if "pace" in params:
        return [str(Path(params["out"]) / "made" / f"{params['pace']['of']}.pcm")] if params["pace"]["of"] else []
    return [p for f in params.get("files", {}).values() for p in f.get("made", {}).values()]


WARM = [
    "kovel.work.worker",
    "av",
    *(f"kovel.media.{m}" for m in ("probe", "glance", "soundtrack", "derive", "pieces", "listen")),
]
HELD = 10.0  # seconds until what the disk holds up is tried again
TAKE_OVER = 2.0  # seconds between two looks whether the work is to be taken over
WORDS = 4.0  # seconds between two looks whether there are new words
ROOM = 30.0  # seconds between two looks at the disk
TRIES = 3  # at making a recording whole


class Foreman:
    """Start it with `start`; False if another process does the work for this folder already."""

    def __init__(self, data: Data, workers: int | None = None, crew: Crew | None = None) -> None:
        self.data = data
        self.crew = crew
        self.workers = workers or max(1, min(4, os.cpu_count() or 2))
        self._stop = threading.Event()
        self._lock: int | None = None
        self._thread: threading.Thread | None = None
        self._process: Process | None = None
        self._out: dict[str, Out] = {}  # calls handed out, by their key, until their end is applied
        self._heard: dict[str, SoFar] = {}  # words of transcriptions under way, by their key
        self._words: dict[int, str] = {}  # by project: the state of its words when their meaning was last seen to
        self._failed: dict[str, int] = {}  # how often an end could not be applied
        self._short: dict[int, int] = {}  # by job: how often a recording was finished and not whole
        self._unsent: set[str] = set()  # calls that a queue has not taken yet
        self._lost: set[str] = set()  # calls whose worker is gone, and that are not given back yet
        self._held: dict[int, float] = {}  # jobs that the disk holds up, and when they are tried again

    def start(self) -> bool:
        if not self._begin():
            return False
        self._thread = threading.Thread(target=self._run, name="foreman", daemon=True)
        self._thread.start()
        return True

    def start_or_wait(self) -> None:
        """Do the work, or take it over once the process that does it now has ended."""
        self._thread = threading.Thread(target=self._wait, name="foreman", daemon=True)
        if self._begin():
            self._thread = threading.Thread(target=self._run, name="foreman", daemon=True)
        self._thread.start()

    def _wait(self) -> None:
        while not self._stop.wait(TAKE_OVER):
            with contextlib.suppress(OSError, Unfit):
                if self._begin():
                    return self._run()

    def _begin(self) -> bool:
        self._lock = self.data.lock()
        if self._lock is None:
            return False
        try:
            self.queue = on_this_machine(str(self.data.queue))
            self.queue.clear()
        except sqlite3.DatabaseError:  # damaged: the jobs' rows are the truth, the queue is made of them
            for end in ("", "-wal", "-shm"):
                Path(f"{self.data.queue}{end}").unlink(missing_ok=True)
            self.queue = on_this_machine(str(self.data.queue))
        if self.crew:
            try:
                self.crew.start()
            except Unfit:  # another try, here or by another process, begins with the lock
                os.close(self._lock)
                self._lock = None
                raise
        self._take_back()  # left over from a process that is gone
        return True

    def _hire(self) -> None:
        self._process = begin("kovel.work.worker", [str(self.data.queue), str(self.workers + SPARE)], WARM)

    def stop(self) -> None:
        self._stop.set()
        if self._thread:
            self._thread.join(30)
        if self.crew:
            self.crew.stop()
        if self._process:
            with contextlib.suppress(OSError):
                self._process.stdin.close()  # type: ignore[union-attr]
            try:
                self._process.wait(3)
            except subprocess.TimeoutExpired:
                self._process.kill()
        if self._lock is not None:
            os.close(self._lock)
            self._lock = None

    def _run(self) -> None:
        next_look = next_words = 0.0
        self._mend()
        while not self._stop.wait(0.15):
            try:
                if self._process is None:  # here, for its libraries take seconds to load and the server is to answer at once
                    self._hire()
                self.step()
                if time.monotonic() > next_look:
                    next_look = time.monotonic() + ROOM
                    make_room(self.data)
                    daily(self.data.db, self.data.backups, date.today())
                if time.monotonic() > next_words:
                    next_words = time.monotonic() + WORDS
                    keep_up(self.data, self._words)
            except Exception as e:  # a locked database or a full disk passes; the loop must not end
                print(f"kovel: jobs are held up ({in_words(e) or e}); trying again", file=sys.stderr)
                self._stop.wait(2)

    def _mend(self) -> None:
        """What an earlier version, or a disk, has left short is found and made again before anybody works with it."""
        try:
            for told in mend_all(self.data):
                print(f"kovel: {told}", file=sys.stderr)
        except Exception as e:  # it is tried again by whoever opens the recording
            print(f"kovel: recordings could not be looked through ({in_words(e) or e})", file=sys.stderr)

    def step(self) -> None:
        """One round: results in, progress noted, cancellations passed on, waiting jobs handed out."""
        gone = self.crew.gone() if self.crew else set()
        if self._process and self._process.poll() is not None:  # the workers here died
            gone.add("")
            self.queue.clear()
            self._hire()
        self._lost |= {key for key, out in self._out.items() if out.hand.name in gone}
        for key in list(self._lost):  # any of these may be held up by the disk, and is tried again
            self._lose(key)
        for key in list(self._unsent):
            self._send(key)
        if self.crew and not self.crew.settled:
            return  # somebody may still work on what an earlier start of the server gave him
        for key, out in list(self._out.items()):
            if out.hand.name and self.crew and self.crew.away:
                continue
            try:
                self._look_after(key, out)
            except RedisError:
                continue  # of this one nothing can be known just now
        self._hand_out()

    def _hands(self) -> list[Hand]:
        """Where calls can be given: to this machine's workers, and to those of others."""
        return [Hand(self.queue, self.workers), *(self.crew.there() if self.crew else ())]

    def _lose(self, key: str) -> None:
        """The worker that had it is gone: it waits for another. A step that is not brought is given out again anyway."""
        out = self._out[key]
        if not out.step:
            if out.job.kind in WRITES:
                swept(out.job.params)
            with contextlib.suppress(Missing, Invalid):
                now = jobs.get(self.data.db, out.job.id)
                if now.attempt == out.job.attempt:
                    jobs.again(self.data.db, now.id, "working")
        self._log(out, "lost", f"{out.hand.node or 'the process that worked on it'} is gone")
        self._let_go(key)

    def _let_go(self, key: str) -> None:
        self._out.pop(key, None)
        self._heard.pop(key, None)
        self._failed.pop(key, None)
        self._lost.discard(key)
        self._unsent.discard(key)

    def _end_the_silent(self, rows: list[jobs.Job]) -> None:
        """Words of a recording whose sound is not made any more are not waited for, whether one listens already or not."""
        silent = [j for j in rows if j.kind in ON_SOUND and not sounded(j.params["out"])]
        for project in {j.project for j in silent}:
            makers = jobs.latest_of_recordings(self.data.db, project, "prepare")
            for job in (j for j in silent if j.project == project):
                maker = makers.get(job.recording or 0)
                if maker is not None and maker.state in ("failed", "cancelled"):
                    why = maker.message or "preparing it was stopped."
                    told = f"Its sound is not there: {why} Try again in Footage, then this once more."
                    jobs.end(self.data.db, job.id, "failed", told)
                    rows.remove(job)

    def _hand_out(self) -> None:
        """Free workers get what is most urgent: sound before pictures, what is looked at and what the stories show first."""
        rows = jobs.in_state(self.data.db, "waiting", "working")
        self._end_the_silent(rows)
        hands = self._hands()
        free = {h.name: h.slots for h in hands}
        for o in self._out.values():
            free[o.hand.name] = free.get(o.hand.name, 0) - 1
        if all(n <= -SPARE for n in free.values()):
            return
        db = self.data.db
        shown = recordings.in_stories(db)
        looked = looked_at(self.data)
        under_way = {o.job.id for o in self._out.values()}
        coming = {o.job.recording for o in self._out.values() if o.step and o.step.name in ("sound", "all")}
        workers = sum(h.slots for h in hands)
        calls: list[tuple[tuple[float, ...], jobs.Job, Step | None]] = []
        for job in rows:
            if job.paused or self._held.get(job.id, 0.0) > time.monotonic():
                continue
            if job.kind != "prepare":
                if job.kind in ON_SOUND and not sounded(job.params["out"], job.kind != "align" and job.recording in coming):
                    continue
                if job.kind == "clean" and _listening(self.data, job):
                    continue  # its pauses tell what its noise is
                if job.kind in ("render", "retime") and (lacking := [p for p in made_for(job.params) if not Path(p).exists()]):
                    if why := _will_not_come(db, job, lacking):
                        jobs.end(db, job.id, "failed", why)
                    continue  # a sound that it reads is being made
                if job.kind == "render" and _is_mended(rows, job):
                    continue  # a recording that it reads is being made again
                if job.state == "waiting" and job.id not in under_way:  # an earlier try of it may still be ending
                    calls.append(((URGENT[job.kind], job.recording not in shown, 0, job.id), job, None))
                continue
            busy = [o.step for o in self._out.values() if o.job.id == job.id and o.step]
            if any(o.job.id == job.id and o.job.attempt != job.attempt for o in self._out.values()):
                continue
            wanted = -looked.get(job.recording or 0, 0.0)  # what was looked at last, first
            for n, s in enumerate(preparing.steps(job, busy, workers)):
                calls.append(((s.urgency, wanted, job.recording not in shown, job.id + n / 1e4), job, s))
        for _, job, step in sorted(calls, key=lambda c: c[0]):
            call, params = (step.call, step.params) if step else (CALLS[job.kind], job.params)
            hand = self._for(hands, free, call, params)
            if hand is None:
                continue
            now: jobs.Job | None = jobs.get(db, job.id)
            if now is not None and now.state == "waiting":
                base = preparing.progress(now, {}) if step and step.name != "all" else 0.0
                now = jobs.begin(db, job.id, base)
            if now is None or (step and now.state != "working"):
                continue
            self._give(Out(now, step, hand))
            free[hand.name] -= 1

    def _for(self, hands: list[Hand], free: dict[str, int], call: str, params: dict[str, Any]) -> Hand | None:
        """Who is to make a call: somebody who is free and reaches its files. One recogniser fills a machine; what takes long leaves
        room for other work, and what somebody waits for finds a place here whatever goes on."""
        swift = sum(
            1 for o in self._out.values() if not o.hand.name and o.step and o.step.call in SWIFT
        )  # they take the spare one
        spare = SPARE if call in SWIFT else min(SPARE, swift)
        able = [h for h in hands if free[h.name] > (0 if h.name else -spare)]
        if call in [CALLS[kind] for kind in LONG]:
            there = [(o.hand.name, o.job.kind) for o in self._out.values() if o.job.kind in LONG]
            able = [h for h in able if sum(name == h.name for name, _ in there) < max(1, h.slots - 1)]
            able = [h for h in able if call != "transcribe" or (h.name, call) not in there]
        here = [h for h in able if not h.name]
        if call in AT_HOME or (call in NEAR and here):
            able = here
        able = [h for h in able if h.roots is None or reached(params, h.roots)]
        return max(able, key=lambda h: (bool(h.name), free[h.name]), default=None)

    def _give(self, out: Out) -> None:
        self._out[out.key] = out
        self._unsent.add(out.key)
        self._send(out.key)

    def _send(self, key: str) -> None:
        out = self._out[key]
        if out.job.kind == "transcribe":
            self._heard[key] = SoFar(self.data, out.job)
        call, params = (out.step.call, out.step.params) if out.step else (CALLS[out.job.kind], out.job.params)
        try:
            out.hand.queue.put(key, call, params)
        except RedisError:  # whether it got it nobody knows
            if self.crew:
                self.crew.dismiss(out.hand)
        self._unsent.discard(key)

    def _take_back(self) -> None:
        for job in jobs.in_state(self.data.db, "working"):
            if job.kind in WRITES:
                swept(job.params)
            jobs.again(self.data.db, job.id, "working")
        for key in list(self._out):
            self._let_go(key)

    def _look_after(self, key: str, out: Out) -> None:
        """Progress noted, or the end applied; a try that counts no more is told to stop, and its answer passed over."""
        try:
            now = jobs.get(self.data.db, out.job.id)
        except Missing:
            now = None
        current = now is not None and now.state == "working" and now.attempt == out.job.attempt
        answer = out.hand.queue.result(key)
        if answer is None:
            if now is None or not current:
                out.hand.queue.cancel(key)
            else:
                self._note(now, key, out)
            return
        if key not in self._failed:
            how = next((k for k in ("cancelled", "held") if k in answer), "done" if "result" in answer else "failed")
            self._log(out, how if current else f"{how}, passed over", answer.get("unusable") or answer.get("held", ""))
        if current:
            try:
                with self.data.db.write():  # what it brought and its end, together and once
                    self._end(out, answer)
            except Exception as e:
                self._failed[key] = self._failed.get(key, 0) + 1
                if self._failed[key] < 5:  # a full disk or a foreign lock may pass
                    raise
                why = f"Its result could not be kept. {in_words(e) or f'({type(e).__name__}: {e})'} Try again."
                jobs.end(self.data.db, out.job.id, "failed", why)
                self._log(out, "not kept", why)
        if out.job.kind in CLEARED and not any(j.id == out.job.id for j in jobs.in_state(self.data.db, "waiting", "working")):
            clear_up(out.job)
        self._let_go(key)
        out.hand.queue.forget(key)

    def _log(self, out: Out, ended: str, why: str = "") -> None:
        """A line in logs/jobs.log for every call that ended: what it was, how long it took, how it ended."""
        note(
            notebook(self.data.logs, "jobs.log"), job=out.job.id, attempt=out.job.attempt, kind=out.job.kind,
            **({"step": out.step.name} if out.step else {}), **({"where": out.hand.node} if out.hand.name else {}), recording=out.job.recording, project=out.job.project,
            seconds=round(time.monotonic() - out.began, 2), ended=ended, **({"why": why} if why else {}),
        )  # fmt: skip

    def _note(self, now: jobs.Job, key: str, out: Out) -> None:
        """How far a job is, by what its calls have told."""
        if key in self._heard:
            self._heard[key].take()
        if now.kind != "prepare":
            x = out.hand.queue.progress(key)
        else:
            outs = [o for o in self._out.values() if o.job.id == now.id and o.step]
            told = {o.step.name: o.hand.queue.progress(o.key) or 0.0 for o in outs if o.step}
            x = preparing.progress(now, told)
        if x is not None and abs(x - now.progress) > 1e-4:
            jobs.advance(self.data.db, now.id, x)

    def _make_again(self, out: Out, short: str) -> None:
        """What a finished recording lacks is made again, by the steps that its folder lacks now; after some tries it has failed."""
        self._log(out, "short", short)
        self._short[out.job.id] = self._short.get(out.job.id, 0) + 1
        if self._short[out.job.id] >= TRIES:
            told = f"It did not come out whole, {TRIES} times: {short}. The disk may be failing; look at it, then try again."
            jobs.end(self.data.db, out.job.id, "failed", told)
            del self._short[out.job.id]

    def _end(self, out: Out, answer: dict[str, Any]) -> None:
        job, step = out.job, out.step
        if "cancelled" in answer:
            jobs.end(self.data.db, job.id, "cancelled")
            return
        if "held" in answer:
            self._held[job.id] = time.monotonic() + HELD
            jobs.hold(self.data.db, job.id, answer["held"])
            return
        if "result" not in answer:
            if step and step.name == "look":  # something to see at once would be nice; the pieces come anyway
                keep(Path(job.params["out"]) / "look.json", {})
                return
            jobs.end(self.data.db, job.id, "failed", answer["unusable"])
            return
        result = answer["result"]
        message = ""
        if step and job.recording is not None:
            if "short" in result:
                self._make_again(out, result["short"])
                return
            if step.name == "sound" or (step.name == "all" and job.params["sound"]):
                listen(self.data, job.recording)
            if step.name not in ("all", "finish"):
                return
            if short := shortcomings(Path(job.params["out"])):
                take_apart(Path(job.params["out"]))
                self._make_again(out, short)
                return
            recordings.set_whole(self.data.db, job.recording, result["checksum"], result["frames"])
            self._short.pop(job.id, None)
            if job.params.get("mended"):
                message = f"It was prepared again: {job.params['mended']}."
        elif job.kind in ("clean", "retime") and job.recording is not None:
            throw_old_away(self.data, job.recording)
        elif job.kind == "listen" and job.recording is not None:
            message = take_listened(self.data, job.recording, result)
        elif job.kind == "meaning":
            message = take_meant(self.data, job, result)
            follow(self.data, job.project)
        elif job.kind == "copy":
            message = take_copied(self.data, job, result)
        elif job.kind == "relink":
            done = take_found(self.data, job, result)
            message, result = done.told, asdict(done)
        elif job.kind == "sync":
            message = take_sync(self.data, job, result)
        elif job.kind == "voices":
            message = take_voices(self.data, job, result)
        elif job.kind in ("transcribe", "align") and job.recording is not None:
            if result["words"] and out.key in self._heard:
                self._heard[out.key].end()
            message = take_heard(self.data, job.recording, result)
        kept = None if job.kind in jobs.ON_WORDS else result
        jobs.end(self.data.db, job.id, "done", message, result=kept)
