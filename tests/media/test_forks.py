"""Processes that are forked at once: they have nothing of each other, tell how they ended, and end with whoever
wanted them."""

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from kovel.media import fork_server
from kovel.media.fork_server import Process, begin

pytestmark = pytest.mark.skipif(sys.platform != "linux", reason="elsewhere each is begun as usual")
HERE = "tests.media.forked"


@pytest.fixture(autouse=True)
def its_own() -> Iterator[None]:
    fork_server.stop()
    yield
    fork_server.stop()


def out(*args: str) -> tuple[str, str, int]:
    p = begin(HERE, args, errors=True)
    assert p.stdin and p.stdout and p.stderr
    p.stdin.close()
    return p.stdout.read(), p.stderr.read(), p.wait(60)


def gone(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] == "Z"
    except OSError:
        return True


def soon(true: object, seconds: float = 20) -> bool:
    end = time.monotonic() + seconds
    while not true() and time.monotonic() < end:  # type: ignore[operator]
        time.sleep(0.02)
    return bool(true())  # type: ignore[operator]


def test_many_at_once_hear_only_their_own() -> None:
    some: list[Process] = []
    threads = [threading.Thread(target=lambda: some.append(begin(HERE, ["echo"]))) for _ in range(8)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert len({p.pid for p in some}) == 8
    for n, p in enumerate(some):
        assert p.stdin and p.stdout and p.poll() is None
        p.stdin.write(f"word {n}\n")
        p.stdin.flush()
    for n, p in enumerate(some):
        assert p.stdout and p.stdin
        assert p.stdout.readline() == f"WORD {n} {p.pid}\n"
        p.stdin.close()  # no other one holds it open
        assert p.wait(60) == 0


def test_how_they_ended_is_told() -> None:
    assert out("exit", "7")[2] == 7
    assert out("exit", "0") == ("", "", 0)
    said = out("fault")
    assert said[2] == 1 and "ValueError: of its own" in said[1]
    assert "MemoryError" in out("limit")[1]  # limits are each one's own
    assert out("open") == ("[0, 1, 2]\n", "", 0)  # and nothing that was open elsewhere is theirs
    with pytest.raises(subprocess.TimeoutExpired):
        begin(HERE, ["sleep"]).wait(0.05)
    p = begin(HERE, ["sleep"])
    waiting: list[int] = []
    t = threading.Thread(target=lambda: waiting.append(p.wait(60)))
    t.start()
    p.kill()
    p.kill()
    t.join(60)
    assert waiting == [-signal.SIGKILL] and p.poll() == p.returncode == -signal.SIGKILL
    assert begin("tests.media.no_such_module").wait(60) == 1


def test_when_their_parent_is_killed_they_go_and_another_takes_its_place() -> None:
    p = begin(HERE, ["sleep"])
    assert fork_server._begun
    os.kill(fork_server._begun.pid, signal.SIGKILL)
    assert p.wait(60) == -signal.SIGKILL and soon(lambda: gone(p.pid))
    assert out("exit", "3")[2] == 3


def test_they_end_with_the_process_that_wanted_them() -> None:
    code = (
        "import sys, time; from kovel.media.fork_server import begin\n"
        f"p = begin({HERE!r}, ['sleep']); print(p.pid, flush=True); time.sleep(600)"
    )
    env = {
        **os.environ,
        "PYTHONPATH": os.pathsep.join([str(Path(fork_server.__file__).parents[2]), str(Path(__file__).parents[2])]),
    }
    owner = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True, env=env)
    assert owner.stdout
    pid = int(owner.stdout.readline())
    assert not gone(pid)
    owner.kill()
    owner.wait()
    assert soon(lambda: gone(pid))
    assert owner.stdout.read() == ""  # nobody else holds its output open
