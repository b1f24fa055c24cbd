"""Machines of a cluster as processes on this one: a Dask scheduler, workers for Kovel, and networks of their own."""

import os
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any

from kovel.jobs import cluster_worker
from kovel.jobs.certificates import make_certificates

SRC = str(Path(cluster_worker.__file__).parents[2])


def until(done: Callable[[], Any], what: str, most: float = 120) -> Any:
    end = time.monotonic() + most
    while not (found := done()):
        assert time.monotonic() < end, f"never: {what}"
        time.sleep(0.05)
    return found


class Machines:
    """A Dask scheduler and workers for Kovel, as processes of their own; `inside`: what each is begun through."""

    def __init__(self, folder: Path, *, tls: bool = False, host: str = "127.0.0.1") -> None:
        self.folder, self.host = folder, host
        self.certs = folder / "certs" if tls else None
        if self.certs:
            make_certificates(self.certs)
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        self.scheduler: subprocess.Popen[bytes] | None = None
        self.workers: list[subprocess.Popen[bytes]] = []

    def address(self, host: str = "") -> str:
        return f"{'tls' if self.certs else 'tcp'}://{host or self.host}:{self.port}"

    def start(self) -> None:
        told = ["--host", f"{'tls' if self.certs else 'tcp'}://0.0.0.0" if self.certs else self.host]
        told += ["--port", str(self.port), "--no-dashboard"]
        for option, name in (("ca-file", "authority"), ("cert", "kovel"), ("key", "kovel-key")):
            told += [f"--tls-{option}", str(self.certs / f"{name}.pem")] if self.certs else []
        env = {**os.environ, "DASK_DISTRIBUTED__COMM__TIMEOUTS__TCP": "12s"}
        program = [sys.executable, "-m", "distributed.cli.dask_scheduler"]
        self.scheduler = subprocess.Popen([*program, *told], env=env, stderr=(self.folder / "dask.log").open("ab"))
        until(self._listens, "the scheduler listens")

    def _listens(self) -> bool:
        with socket.socket() as s:
            return s.connect_ex(("127.0.0.1", self.port)) == 0

    def work(
        self,
        *media: str,
        at_once: int = 1,
        inside: tuple[str, ...] = (),
        host: str = "",
        src: str = SRC,
        more: Mapping[str, str] = MappingProxyType({}),
    ) -> subprocess.Popen[bytes]:
        """A worker with these folders. `src`: where its Kovel lies; `more`: added to its environment."""
        shared = [x for m in media for x in ("--media", m)]
        args = [*inside, sys.executable, "-m", "kovel", "worker", "--cluster", self.address(host), *shared]
        args += ["--at-once", str(at_once), *(["--certs", str(self.certs)] if self.certs else [])]
        env = {**os.environ, "PYTHONPATH": src, "DASK_DISTRIBUTED__COMM__TIMEOUTS__TCP": "12s", **more}
        log = (self.folder / f"worker {len(self.workers)}.log").open("wb")
        process = subprocess.Popen(args, env=env, stderr=log)
        self.workers.append(process)
        return process

    def told(self, process: "subprocess.Popen[bytes]") -> str:
        """What a worker has said."""
        return (self.folder / f"worker {self.workers.index(process)}.log").read_text()

    def end(self) -> list[str]:
        told = []
        for process in self.workers:
            process.kill()
            process.wait(60)
            told.append(self.told(process))
        if self.scheduler:
            self.scheduler.kill()
            self.scheduler.wait()
        return told


def children_of(pid: int, name: str) -> list[int]:
    """The processes of that name below one, however deep."""
    parents: dict[int, int] = {}
    names: dict[int, str] = {}
    for p in Path("/proc").glob("[0-9]*/stat"):
        try:
            head, rest = p.read_text().rsplit(")", 1)
        except OSError:
            continue
        number = int(p.parent.name)
        parents[number], names[number] = int(rest.split()[1]), head.split("(", 1)[1]
    found = []
    for number, called in names.items():
        up = number
        while up in parents and up != pid:
            up = parents[up]
        if up == pid and called == name:
            found.append(number)
    return found


class Host:
    """A machine of its own, as far as a network goes: a namespace, and a cable to this one."""

    def __init__(self, n: int) -> None:
        self.name = f"kovel{os.getpid() % 100_000}x{n}"
        self.cable = f"kv{os.getpid() % 100_000}x{n}"
        net = f"10.{77 + n}.{os.getpid() // 250 % 250}"
        self.server, own = f"{net}.1", f"{net}.2"
        run("netns", "add", self.name)
        run("link", "add", self.cable, "type", "veth", "peer", "name", "eth0", "netns", self.name)
        run("addr", "add", f"{self.server}/24", "dev", self.cable)
        run("link", "set", self.cable, "up")
        run("-n", self.name, "addr", "add", f"{own}/24", "dev", "eth0")
        run("-n", self.name, "link", "set", "eth0", "up")
        run("-n", self.name, "link", "set", "lo", "up")
        self.inside = ("ip", "netns", "exec", self.name)

    def cut(self, *, off: bool) -> None:
        run("link", "set", self.cable, "down" if off else "up")

    def end(self) -> None:
        subprocess.run(["ip", "link", "del", self.cable], check=False)
        subprocess.run(["ip", "netns", "del", self.name], check=False)


def run(*args: str) -> None:
    subprocess.run(["ip", *args], check=True, capture_output=True)
