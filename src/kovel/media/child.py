"""Decoding in a process of its own, with limits: a hostile or broken file can hurt nothing but this child.

Protocol: one JSON request on the child's standard input, which stays open (when it closes, the parent is gone and
the child ends). Answers are JSON lines: {"progress": x}, and last {"result": ...}, {"unusable": "why"} or {"no
room": ["why", "what to do"]}.
"""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import resource
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from kovel.media.calls import CALLS
from kovel.media.files import NoRoom, Unusable, refused
from kovel.media.fork_server import Forked, begin
from kovel.media.whole_files import left_parts, name_try, new_try, sweep

SILENT = 300.0  # seconds without progress before a child is given up


class Cancelled(RuntimeError):
    """The editor stopped the job."""


class Lost(Unusable):
    """The process that worked on it was ended from outside, with all that this one had begun: it can be made again."""

    def __init__(self) -> None:
        super().__init__("Work on it was interrupted from outside. Try again.")


def call(
    name: str,
    params: dict[str, Any],
    on_progress: Callable[[float], None] | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> Any:
    """Make one of CALLS in a child and wait. Raises `Unusable` (`NoRoom`, if it can be made later), `Lost`, or
    `Cancelled` within half a second."""
    asked_call = CALLS[name]
    limits = [str(asked_call.cpu), str(round(asked_call.memory * 2**30))]
    try:
        process = begin("kovel.media.child", limits, ["kovel.media.child", "av", asked_call.path], errors=True)
    except ConnectionError:
        raise Lost from None
    listener = _Listener(process, on_progress)
    name_of = os.path.basename(params.get("path") or params.get("out") or "The file")
    this_try = new_try()
    try:
        listener.ask({"call": name, "params": params, "try": this_try})
        _wait_for(process, listener, asked_call.wall, name_of, cancelled)
    except BrokenPipeError:
        pass
    finally:
        if process.poll() is None:
            process.kill()
            process.wait()
        listener.close()
        if asked_call.begins_files:
            swept(params, this_try)
    for answer in listener.answers:
        if "result" in answer:
            return answer["result"]
        if "no room" in answer:
            raise NoRoom(*answer["no room"])
        if "unusable" in answer:
            raise Unusable(answer["unusable"])
    if isinstance(process, Forked) and process.is_orphan:
        raise Lost
    why = listener.noise[-1].strip() if listener.noise else f"code {process.returncode}"
    raise Unusable(f"{name_of} could not be worked on: it is damaged or needs more memory than allowed ({why[:160]}).")


def _wait_for(
    process: Forked | subprocess.Popen[str],
    listener: _Listener,
    wall: float | None,
    name_of: str,
    cancelled: Callable[[], bool] | None,
) -> None:
    """Waits for the end of a child. Raises `Cancelled` when asked, `Unusable` where it takes longer than `wall`
    seconds or says nothing for long."""
    began = time.monotonic()
    while process.poll() is None:
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(0.1)
        if cancelled and cancelled():
            raise Cancelled
        moment_now = time.monotonic()
        if (wall and moment_now - began > wall) or moment_now - listener.heard > SILENT:
            raise Unusable(
                f"{name_of} took too long to read and was given up. It may be damaged; copy it from the card again."
            )


class _Listener:
    """Hears what a child says, in threads of its own: answers and progress by line, and its errors."""

    def __init__(self, process: Forked | subprocess.Popen[str], on_progress: Callable[[float], None] | None) -> None:
        assert process.stdin and process.stdout and process.stderr
        self.stdin, self.stdout, self.stderr = process.stdin, process.stdout, process.stderr
        self.answers: list[dict[str, Any]] = []
        self.noise: list[str] = []
        self.heard = time.monotonic()  # when it last said something
        self._on_progress = on_progress
        self._threads = [threading.Thread(target=hear, daemon=True) for hear in (self._lines, self._errors)]
        for thread in self._threads:
            thread.start()

    def ask(self, line: dict[str, Any]) -> None:
        """Tells the child what to do."""
        self.stdin.write(json.dumps(line) + "\n")
        self.stdin.flush()

    def _lines(self) -> None:
        for answer_line in self.stdout:
            self.heard = time.monotonic()
            with contextlib.suppress(ValueError):
                said_line = json.loads(answer_line)
                if "progress" not in said_line:
                    self.answers.append(said_line)
                elif self._on_progress:
                    self._on_progress(said_line["progress"])

    def _errors(self) -> None:
        self.noise.extend(self.stderr)

    def close(self) -> None:
        """Waits for the last lines of a child that has ended."""
        for thread in self._threads:
            thread.join(5)
        for pipe in (self.stdin, self.stdout, self.stderr):
            pipe.close()


def swept(params: dict[str, Any], which: str = "") -> None:
    """Take away what a try that is gone had begun to write ("": whichever it was; none of them counts any more)."""
    made_file, parts = Path(params["out"]), Path(params.get("parts") or os.devnull)
    for part_file in left_parts(made_file, which):
        sweep(part_file)
    if which and parts.is_dir():
        for part_file in parts.glob(f"*.{which}.*.part"):
            sweep(part_file)


def without_network() -> bool:
    """Put this process into a network of its own, where there is nobody; False where the system does not let it, and
    the lists of containers and protocols stand alone. Before any thread is begun."""
    try:
        unshare = ctypes.CDLL(None, use_errno=True).unshare
    except (AttributeError, OSError):
        return False
    new_net, new_user = 0x40000000, 0x10000000  # linux/sched.h
    return unshare(new_net) == 0 or (os.geteuid() != 0 and unshare(new_net | new_user) == 0)


def main() -> None:
    without_network()
    cpu, memory = int(sys.argv[1]), int(sys.argv[2])
    resource.setrlimit(resource.RLIMIT_CPU, (cpu, cpu))
    resource.setrlimit(resource.RLIMIT_AS, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl+C at a terminal reaches all: whoever asked decides
    request = json.loads(sys.stdin.readline())
    name_try(request["try"])
    asked_call = CALLS[request["call"]]
    os.nice(asked_call.niceness)
    if asked_call.is_batch and hasattr(os, "SCHED_BATCH"):
        with contextlib.suppress(OSError):
            os.sched_setscheduler(0, os.SCHED_BATCH, os.sched_param(0))

    def orphaned() -> None:
        sys.stdin.read()
        os._exit(3)

    threading.Thread(target=orphaned, daemon=True).start()
    import av

    av.logging.set_level(None)
    answer_stream = os.fdopen(os.dup(1), "w", buffering=1)
    os.dup2(2, 1)  # libraries that print cannot break the protocol
    last = 0.0

    def progress(x: float) -> None:
        nonlocal last
        if time.monotonic() - last > 0.2:
            last = time.monotonic()
            answer_stream.write(json.dumps({"progress": round(x, 4)}) + "\n")

    from importlib import import_module

    try:
        work = getattr(import_module(asked_call.path), asked_call.name)
        result = work(**request["params"], **({"progress": progress} if asked_call.tells_progress else {}))
        answer = {"result": result}
    except Unusable as error:
        answer = _told(error)
    except MemoryError:
        answer = {"unusable": "The file needs more memory than allowed to read. It is damaged or far too large."}
    except OSError as error:
        answer = _told(refused(error))
    answer_stream.write(json.dumps(answer) + "\n")
    answer_stream.flush()
    os._exit(0)


def _told(error: Unusable) -> dict[str, Any]:
    return {"no room": [error.what, error.do]} if isinstance(error, NoRoom) else {"unusable": str(error)}


if __name__ == "__main__":
    main()
