"""The foreman: gives waiting jobs to workers, writes progress and results to the database. One a data folder."""

import contextlib
import os
import subprocess
import sys
import threading

from kovel.store import jobs, recordings
from kovel.store.projects import Missing
from kovel.work.data import Data
from kovel.work.hearing import listen, take_heard
from kovel.work.queue import Queue
from kovel.work.syncing import take_sync

CALLS = {
    "prepare": "derive",
    "render": "render",
    "listen": "listen",
    "pulse": "pulse",
    "transcribe": "transcribe",
    "align": "align_text",
    "sync": "sync_by_sound",
}
URGENT = {"render": 0, "prepare": 1, "listen": 2, "pulse": 3, "sync": 3, "align": 4, "transcribe": 5}


class Foreman:
    """Start it with `start`; False if another process does the work for this folder already."""

    def __init__(self, data: Data, workers: int | None = None) -> None:
        self.data = data
        self.workers = workers or max(1, min(4, os.cpu_count() or 2))
        self._stop = threading.Event()
        self._lock: int | None = None
        self._thread: threading.Thread | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._told: set[int] = set()

    def start(self) -> bool:
        self._lock = self.data.lock()
        if self._lock is None:
            return False
        self.queue = Queue(str(self.data.queue))
        self.queue.clear()
        for job in jobs.in_state(self.data.db, "working"):  # left over from a process that is gone
            jobs.again(self.data.db, job.id)
        self._hire()
        self._thread = threading.Thread(target=self._run, name="foreman", daemon=True)
        self._thread.start()
        return True

    def _hire(self) -> None:
        args = [sys.executable, "-m", "kovel.work.worker", str(self.data.queue), str(self.workers)]
        self._process = subprocess.Popen(args, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL)

    def stop(self) -> None:
        self._stop.set()
        if self._thread:
            self._thread.join(5)
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
        while not self._stop.wait(0.15):
            try:
                self.step()
            except Exception as e:  # a locked database or a full disk passes; the loop must not end
                print(f"kovel: jobs are held up ({e}); trying again", file=sys.stderr)
                self._stop.wait(2)

    def step(self) -> None:
        """One round: results in, progress noted, cancellations passed on, waiting jobs handed out."""
        if self._process and self._process.poll() is not None:  # the workers died: their jobs go back
            for job in jobs.in_state(self.data.db, "working"):
                jobs.again(self.data.db, job.id)
            self.queue.clear()
            self._hire()
        working = jobs.in_state(self.data.db, "working")
        for job in working:
            self._look_after(job)
        for job_id in list(self._told):
            self._tell_cancelled(job_id)
        free = self.workers - len(working)
        waiting = sorted(jobs.in_state(self.data.db, "waiting"), key=lambda j: (URGENT[j.kind], j.id))
        heavy = sum(j.kind == "transcribe" for j in working)  # one recogniser fills the machine
        for job in waiting:
            if free <= 0:
                break
            if job.kind == "transcribe" and heavy:
                continue
            heavy += job.kind == "transcribe"
            free -= 1
            jobs.begin(self.data.db, job.id)
            self._told.add(job.id)
            self.queue.put(str(job.id), CALLS[job.kind], job.params)

    def _look_after(self, job: jobs.Job) -> None:
        answer = self.queue.result(str(job.id))
        if answer is None:
            x = self.queue.progress(str(job.id))
            if x is not None and x != job.progress:
                jobs.advance(self.data.db, job.id, x)
            return
        self._told.discard(job.id)
        if "result" in answer:
            if job.kind == "prepare" and job.recording is not None:
                recordings.set_ready(self.data.db, job.recording, answer["result"]["checksum"], answer["result"]["frames"])
                listen(self.data, job.recording)
            message = take_sync(self.data, job, answer["result"]) if job.kind == "sync" else ""
            if job.kind in ("transcribe", "align") and job.recording is not None:
                message = take_heard(self.data, job.recording, answer["result"])
            jobs.end(
                self.data.db,
                job.id,
                "done",
                message,
                result=answer["result"] if job.kind not in ("transcribe", "align") else None,
            )
        elif "cancelled" in answer:
            jobs.end(self.data.db, job.id, "cancelled")
        else:
            jobs.end(self.data.db, job.id, "failed", answer["unusable"])

    def _tell_cancelled(self, job_id: int) -> None:
        try:
            state = jobs.get(self.data.db, job_id).state
        except Missing:
            state = "cancelled"
        if state == "cancelled":
            self.queue.cancel(str(job_id))
            self._told.discard(job_id)
