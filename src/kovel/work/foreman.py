"""The foreman: gives waiting jobs to workers, writes progress and results to the database. One a data folder."""

import contextlib
import os
import subprocess
import sys
import threading
from typing import Any

from kovel.store import jobs, recordings
from kovel.store.projects import Missing
from kovel.work.folder import Data
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
        self._out: dict[str, jobs.Job] = {}  # tries handed out, by their key, until their end is applied
        self._failed: dict[str, int] = {}  # how often an end could not be applied

    def start(self) -> bool:
        self._lock = self.data.lock()
        if self._lock is None:
            return False
        self.queue = Queue(str(self.data.queue))
        self.queue.clear()
        self._take_back()  # left over from a process that is gone
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
            self._take_back()
            self.queue.clear()
            self._hire()
        for key, job in list(self._out.items()):
            self._look_after(key, job)
        free = self.workers - len(self._out)
        seen = recordings.in_stories(self.data.db)  # what the stories show is wanted first
        waiting = sorted(jobs.in_state(self.data.db, "waiting"), key=lambda j: (URGENT[j.kind], j.recording not in seen, j.id))
        out = {j.id for j in self._out.values()}
        heavy = sum(j.kind == "transcribe" for j in self._out.values())  # one recogniser fills the machine
        for job in waiting:
            if free <= 0:
                break
            if (job.kind == "transcribe" and heavy) or job.id in out:  # an earlier try of it is still ending
                continue
            begun = jobs.begin(self.data.db, job.id)
            if begun is None:
                continue
            heavy += job.kind == "transcribe"
            free -= 1
            self._out[begun.key] = begun
            self.queue.put(begun.key, CALLS[job.kind], job.params)

    def _take_back(self) -> None:
        for job in jobs.in_state(self.data.db, "working"):
            jobs.again(self.data.db, job.id, "working")
        self._out.clear()

    def _look_after(self, key: str, job: jobs.Job) -> None:
        """Progress noted, or the end applied; a try that counts no more is told to stop, and its answer passed over."""
        try:
            now = jobs.get(self.data.db, job.id)
        except Missing:
            now = None
        current = now is not None and now.state == "working" and now.attempt == job.attempt
        answer = self.queue.result(key)
        if answer is None:
            if not current:
                self.queue.cancel(key)
                return
            x = self.queue.progress(key)
            if x is not None and x != now.progress:  # type: ignore[union-attr]
                jobs.advance(self.data.db, job.id, x)
            return
        if current:
            try:
                with self.data.db.write():  # what it brought and its end, together and once
                    self._end(job, answer)
            except Exception as e:
                self._failed[key] = self._failed.get(key, 0) + 1
                if self._failed[key] < 5:  # a full disk or a foreign lock may pass
                    raise
                jobs.end(self.data.db, job.id, "failed", f"Its result could not be kept ({type(e).__name__}: {e}). Try again.")
        self._failed.pop(key, None)
        self._out.pop(key, None)
        self.queue.forget(key)

    def _end(self, job: jobs.Job, answer: dict[str, Any]) -> None:
        if "cancelled" in answer:
            jobs.end(self.data.db, job.id, "cancelled")
            return
        if "result" not in answer:
            jobs.end(self.data.db, job.id, "failed", answer["unusable"])
            return
        result = answer["result"]
        message = ""
        if job.kind == "prepare" and job.recording is not None:
            recordings.set_ready(self.data.db, job.recording, result["checksum"], result["frames"])
            listen(self.data, job.recording)
        elif job.kind == "sync":
            message = take_sync(self.data, job, result)
        elif job.kind in ("transcribe", "align") and job.recording is not None:
            message = take_heard(self.data, job.recording, result)
        kept = None if job.kind in ("transcribe", "align") else result
        jobs.end(self.data.db, job.id, "done", message, result=kept)
