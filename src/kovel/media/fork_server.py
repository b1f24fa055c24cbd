"""Processes that are there at once: a parent that has loaded the libraries forks them, instead of each loading them
anew.

    this process ── begin("kovel.media.child", …) ──►  parent of all ── fork ──►  child    5 ms instead of 0.5 to 3 s
                 ◄── standard input, output, errors, and how it ended ──────────┘

The parent never decodes and runs no threads; it ends when this process ends, and its children with it. Where the
system is not Linux, each is a process begun as usual (forking after system libraries are loaded is not safe
everywhere).
"""

import ctypes
import gc
import json
import os
import select
import signal
import socket
import subprocess
import sys
import threading
import traceback
from collections.abc import Iterable
from contextlib import suppress
from importlib import import_module
from typing import Any, TextIO

THREADS = {"OPENBLAS_NUM_THREADS": "1"}  # the scheduler shares out the cores: threads of each one's own would only wait
LONGEST = 1 << 16  # bytes of one request
TRIES = 4  # at beginning one, where its parent is ended again and again

_lock = threading.Lock()
_parent: socket.socket | None = None
_begun: subprocess.Popen[bytes] | None = None  # that parent, where it was not forked from this process


class Forked:
    """One such process, held as `subprocess.Popen` holds one: text at its standard ends, `poll`, `wait`, `kill`,
    `returncode`."""

    def __init__(self, stdin: TextIO, stdout: TextIO, stderr: TextIO | None, told: int) -> None:
        self.stdin, self.stdout, self.stderr = stdin, stdout, stderr
        self._told = told  # where its parent writes its number, and its code once it has ended
        self.returncode: int | None = None
        self.is_orphan = False  # its parent is gone, and took it along
        self._heard = b""
        self._taking = threading.Lock()  # one may wait for it while another ends it
        while b"\n" not in self._heard:
            got = os.read(told, 64)
            if not got:
                raise ConnectionError("no process was begun")
            self._heard += got
        first, self._heard = self._heard.split(b"\n", 1)
        self.pid = int(first)

    def poll(self) -> int | None:
        """Its exit code; None while it runs."""
        with suppress(subprocess.TimeoutExpired):
            return self.wait(0)
        return None

    def wait(self, timeout: float | None = None) -> int:
        """Its exit code, below 0 for the signal that ended it; `subprocess.TimeoutExpired` after so many seconds."""
        look = select.poll()
        while self.returncode is None:
            look.register(self._told, select.POLLIN)
            if b"\n" not in self._heard and not look.poll(None if timeout is None else timeout * 1000):
                raise subprocess.TimeoutExpired("kovel", timeout or 0)
            with self._taking:
                if self.returncode is None and (b"\n" in self._heard or look.poll(0)):
                    self._take()
        return self.returncode

    def _take(self) -> None:
        """What its parent has told."""
        if b"\n" not in self._heard:
            got = os.read(self._told, 64)
            self._heard += got
            if not got:
                self.is_orphan = True
                with suppress(ProcessLookupError):
                    os.kill(self.pid, signal.SIGKILL)
                self._heard = b"-9\n"
        if b"\n" in self._heard:
            os.close(self._told)
            self.returncode = int(self._heard)

    def kill(self) -> None:
        """Ends it at once."""
        if self.poll() is None:
            with suppress(ProcessLookupError):
                os.kill(self.pid, signal.SIGKILL)


Process = Forked | subprocess.Popen[str]


def begin(module: str, args: Iterable[str] = (), warm: Iterable[str] = (), *, errors: bool = False) -> Process:
    """Run a module's `main` in a process of its own, its standard input and output piped.

    :param args: what it finds in `sys.argv[1:]`
    :param warm: modules that the parent loads first and keeps, if it can
    :param errors: whether its standard errors are piped too; else they go where those of this process go
    """
    if sys.platform != "linux":
        pipe = subprocess.PIPE
        argv = [sys.executable, "-m", module, *args]
        env = {**os.environ, **THREADS}
        return subprocess.Popen(argv, stdin=pipe, stdout=pipe, stderr=pipe if errors else None, text=True, env=env)
    asked_child = {"module": module, "args": list(args), "warm": list(warm)}
    for tries_left in range(TRIES - 1, -1, -1):
        try:
            return _ask(asked_child, errors)
        except OSError:  # somebody ended the parent: another takes its place
            if not tries_left:
                raise
    raise AssertionError


def _ask(asked: dict[str, Any], errors: bool) -> Forked:
    pipes = [os.pipe() for _ in range(4 if errors else 3)]
    ours = [pipes[0][1], *(read_end for read_end, _ in pipes[1:])]
    theirs = [pipes[0][0], *(w for _, w in pipes[1:])]
    try:
        parent = _send(asked, theirs)
    except OSError:
        for fd in ours:
            os.close(fd)
        raise
    finally:
        for fd in theirs:
            os.close(fd)
    stdin, stdout = os.fdopen(ours[0], "w"), os.fdopen(ours[1])
    stderr = os.fdopen(ours[2], errors="replace") if errors else None
    try:
        return Forked(stdin, stdout, stderr, ours[-1])
    except OSError:
        os.close(ours[-1])
        for end in (stdin, stdout, stderr):
            if end:
                end.close()
        with _lock:
            if _parent is parent:  # nobody else has noticed yet
                _leave()
        raise


def _start() -> socket.socket:
    global _begun
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    with theirs:
        args = [sys.executable, "-m", "kovel.media.fork_server", str(theirs.fileno())]
        _begun = subprocess.Popen(
            args,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            pass_fds=[theirs.fileno()],
            env={**os.environ, **THREADS},
        )
    return ours


def warm(modules: Iterable[str]) -> None:
    """Load these into the parent of all, so that what is begun first need not wait for them."""
    if sys.platform == "linux":
        with suppress(OSError):
            _send({"module": "", "warm": list(modules)}, [])


def _send(asked: dict[str, Any], fds: list[int]) -> socket.socket:
    """Ask the parent, which is begun where there is none; gives which one it was."""
    global _parent
    body = json.dumps(asked).encode()
    assert len(body) <= LONGEST
    with _lock:
        _parent = _parent or _start()
        try:
            socket.send_fds(_parent, [body], fds)
        except OSError:
            _leave()
            raise
        return _parent


def _leave() -> None:
    """End the parent there is. The lock is held."""
    global _parent, _begun
    if _parent is not None:
        _parent.close()
    if _begun is not None:
        _begun.wait()
    _parent = _begun = None


def stop() -> None:
    """End the parent, and all that it has begun."""
    with _lock:
        _leave()


def _become(name: str, mother: int, ends: dict[int, int], keep: int | None = None) -> None:
    """In a fork: none of the open files of what it was forked from but these, and an end with that."""
    signal.set_wakeup_fd(-1)
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    for to, fd in ends.items():
        os.dup2(fd, to)
    for fd in [int(open_number) for open_number in os.listdir("/proc/self/fd")]:
        if fd > 2 and fd != keep:
            with suppress(OSError):  # the one that lists them is closed already
                os.close(fd)
    with suppress(AttributeError, OSError):
        ctypes.CDLL(None).prctl(1, signal.SIGKILL)  # PR_SET_PDEATHSIG, linux/prctl.h
    _call_it(name)
    if os.getppid() != mother:  # that ended before it could be told so
        os._exit(9)


def _call_it(name: str) -> None:
    """What this process is called in a list of processes."""
    with suppress(AttributeError, OSError):
        ctypes.CDLL(None).prctl(15, f"kovel-{name}".encode()[:15])  # PR_SET_NAME, linux/prctl.h


def _serve(asks: socket.socket) -> None:
    """Fork what is asked for and tell how it ended, until nobody can ask any more."""
    woken, wake = os.pipe()
    for fd in (woken, wake):
        os.set_blocking(fd, False)
    signal.set_wakeup_fd(wake)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl+C at a terminal reaches all; whoever asked decides
    alive: dict[int, int] = {}
    while True:
        ready, _, _ = select.select([asks.fileno(), woken], [], [])
        if woken in ready:
            with suppress(BlockingIOError):
                os.read(woken, 1024)
            _bury(alive)
        if asks.fileno() in ready:
            data, fds, _, _ = socket.recv_fds(asks, LONGEST, 4)
            if not data:
                os._exit(0)
            asked_child = json.loads(data)
            for module in asked_child["warm"]:
                with suppress(Exception):  # the child will tell
                    import_module(module)
            gc.freeze()
            if not asked_child["module"]:
                continue
            mother = os.getpid()
            piece_id = os.fork()
            if piece_id == 0:
                _run(asked_child, mother, fds)
            *theirs, told_pipe = fds
            for fd in theirs:
                os.close(fd)
            alive[piece_id] = told_pipe
            _tell(told_pipe, piece_id)


def _bury(alive: dict[int, int]) -> None:
    while alive:
        piece_id, status = os.waitpid(-1, os.WNOHANG)
        if piece_id == 0:
            return
        told_pipe = alive.pop(piece_id, None)
        if told_pipe is not None:
            _tell(told_pipe, os.waitstatus_to_exitcode(status))
            os.close(told_pipe)


def _tell(told: int, n: int) -> None:
    with suppress(OSError):  # nobody waits for it any more
        os.write(told, f"{n}\n".encode())


def _run(asked: dict[str, Any], mother: int, fds: list[int]) -> None:
    """The forked process itself."""
    code = 1
    try:
        _become(asked["module"].rsplit(".", 1)[1], mother, dict(enumerate(fds[:-1])))
        signal.signal(signal.SIGINT, signal.default_int_handler)
        sys.argv = [asked["module"], *asked["args"]]
        import_module(asked["module"]).main()
        code = 0
    except SystemExit as error:
        code = error.code if isinstance(error.code, int) else 1
    except KeyboardInterrupt:
        code = 130
    except BaseException:
        traceback.print_exc()
    finally:
        with suppress(Exception):
            sys.stdout.flush()
        with suppress(Exception):
            sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    _call_it("parent")
    _serve(socket.socket(fileno=int(sys.argv[1])))
