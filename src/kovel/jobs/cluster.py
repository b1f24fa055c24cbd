"""Workers on other machines: a Dask cluster that runs already, as the server sees it.

    server   Client ──►  Dask scheduler  ◄── kovel worker: a Dask worker with Kovel's calls (`jobs/cluster_worker.py`)
             submit             │  who is alive, who is free; the work of the dead goes to others
             cancel             │  metadata "kovel": {token of a server: its version, folders}
             progress  ◄────────┘  events: (key, how far, machine)

A call needs *resources*: the folders its files lie in, as this server calls them, by this version of Kovel. Only
workers that said they have them are given it. What the cluster knows is in its memory alone; the job rows here are the
truth, and a call that nobody can tell of is made again.
"""

from __future__ import annotations

import contextlib
import json
import socket
import sys
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from hashlib import sha256
from importlib import resources
from pathlib import Path
from secrets import token_hex
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from kovel import __version__
from kovel.core.errors import Told
from kovel.jobs.shared_folders import roots_needed
from kovel.jobs.workplaces import Answer, Params
from kovel.media.whole_files import keep

if TYPE_CHECKING:  # it takes a second to load: only where there is a cluster
    from distributed import Client, Future, Security

TOKEN = "shared.token"  # in the data folder, written once: a worker that reads it sees the same folder
ALONE = "kovel: all of a machine"
ENOUGH = 1e9  # of a resource that is not used up
LOOK = 0.5  # seconds between two looks at the cluster
PATIENCE = 5.0  # seconds the Dask scheduler may take to answer
LOOPBACK = ("127.0.0.1", "localhost", "::1")


class Unfit(Told):
    """The cluster cannot be used as it is; what it says is for whoever starts the server or the worker."""


def secured(address: str, certs: Path | None) -> Security:
    """How the connections to a cluster are secured; `Unfit` for an address that is none, or open to others without
    TLS."""
    from distributed import Security

    at = urlsplit(address)
    if at.scheme not in ("tls", "tcp") or not at.hostname or not at.port:
        raise Unfit(f"{address} is no address of a cluster. It is like tls://HOST:8786.")
    if at.scheme == "tcp":
        if at.hostname not in LOOPBACK:
            raise Unfit(
                f"{address} is open to everybody on the network: whoever reaches it can run programs. Use tls://"
            )
        return Security()
    if certs is None or not (certs / "authority.pem").is_file():
        raise Unfit("A cluster over TLS needs its certificates: --certs DIR. `kovel certs DIR` makes them.")
    own = {"cert": str(certs / "kovel.pem"), "key": str(certs / "kovel-key.pem")}
    ends = {f"tls_{end}_{part}": path for end in ("client", "worker") for part, path in own.items()}
    return Security(tls_ca_file=str(certs / "authority.pem"), require_encryption=True, **ends)


@cache
def form() -> str:
    """What a worker must have in common with its server: the version, and everything that calls are made of."""
    seen = sha256()
    for part in ("core", "media", "jobs", "services"):
        for path in sorted(Path(str(resources.files("kovel"))).joinpath(part).rglob("*.py")):
            seen.update(path.read_bytes())
    return f"{__version__} ({seen.hexdigest()[:8]})"


def token_in(root: Path) -> str:
    """What tells this data folder from any other; empty where there is nothing that does."""
    try:
        return str(json.loads((root / TOKEN).read_text())["folder"])
    except (OSError, ValueError, KeyError, TypeError):
        return ""


def kept_token(root: Path) -> str:
    """The same, written first where it is not there or not whole."""
    if not token_in(root):
        keep(root / TOKEN, {"folder": token_hex(16)})
    return token_in(root)


def resource(token: str, root: str) -> str:
    """What a worker has that reaches a folder of a server and is of its version."""
    return f"kovel {token[:12]} {form()} {root}"


@dataclass(frozen=True, slots=True)
class Worker:
    """A worker that this server can give calls to, and how many it makes just now."""

    node: str
    slots: int
    busy: int
    has: frozenset[str]


class Cluster:
    """Keep it informed with `start`: it asks the cluster in a thread of its own, for a network that is gone must hold
    up nothing here."""

    is_here = False

    def __init__(self, address: str, root: Path, media: Sequence[Path] = (), certs: Path | None = None) -> None:
        self.address, self.security = address, secured(address, certs)
        self.root, self.roots = root, [str(root), *(str(path) for path in media)]
        self.token = ""
        self.away = "it was not asked yet"  # why the cluster cannot be used just now; empty where it can
        self._is_told = False
        self.dashboard = ""
        self._workers: list[Worker] = []
        self._client: Client | None = None
        self._calls: dict[str, Future[Answer]] = {}
        self._heard: dict[str, tuple[float, str]] = {}  # by call: how far it is, and where
        self._answers: dict[str, Answer] = {}
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    def start(self) -> None:
        """Begins. Where nothing answers there, or not to these certificates, it says so and asks again: the work goes
        on here."""
        self.token = kept_token(self.root)
        self._ask()
        self._thread = threading.Thread(target=self._run, name="cluster", daemon=True)
        self._thread.start()

    def _connect(self) -> None:
        self._client = client = self._new_client()
        who = {"node": socket.gethostname(), "form": form(), "roots": self.roots}
        client.set_metadata(["kovel", self.token], who)
        client.subscribe_topic(f"kovel {self.token}", self._hear)
        self.dashboard = str(client.dashboard_link or "")
        self._look()

    def _new_client(self) -> Client:
        from distributed import Client

        at = urlsplit(self.address)  # asked first, for a client that reaches nobody is slow to go
        socket.create_connection((str(at.hostname), at.port or 0), PATIENCE).close()
        return Client(self.address, security=self.security, timeout=PATIENCE, set_as_default=False)

    def workers_seen(self) -> tuple[list[Worker], int]:
        """One look, without beginning anything: the workers for this folder, and how many others there are; `Unfit`
        where the cluster does not answer."""
        self.token = token_in(self.root)
        try:
            with self._new_client() as client:
                return self._sorted(client)
        except Exception as error:  # whatever Dask, TLS or the network say of it
            raise Unfit(f"the cluster at {self.address} does not answer ({error})") from None

    def _hear(self, event: tuple[float, Any]) -> None:
        key, progress, node = event[1]
        if key in self._calls:
            self._heard[key] = (progress, node)

    def _run(self) -> None:
        while not self._stop.wait(LOOK):
            self._ask()

    def _ask(self) -> None:
        """Who is there, connected anew where the connection is lost."""
        try:
            if self._client is None or self._client.status in ("closed", "closing"):
                self._connect()
            self._look()
        except Exception as error:  # whatever Dask, TLS or the network say of it
            if not self._is_told:
                print(f"kovel: the cluster at {self.address} is away ({error}); the work goes on here", file=sys.stderr)
            self._is_told = True
            self.away, self._workers = str(error) or type(error).__name__, []

    def _look(self) -> None:
        """Who is there. Raises whatever keeps it from asking."""
        assert self._client is not None
        if self._client.status != "running":
            raise ConnectionError("the connection is lost")
        self._workers, self.away, self._is_told = self._sorted(self._client)[0], "", False

    def _sorted(self, client: Client) -> tuple[list[Worker], int]:
        """The workers for this server, and how many others there are."""
        rows = list(client.scheduler_info(n_workers=-1)["workers"].values())
        mine = resource(self.token, str(self.root))
        workers = [
            Worker(
                str(row["name"]).rsplit("-", 1)[0],
                int(row["nthreads"]),
                int(row["metrics"].get("executing", 0)),
                frozenset(row["resources"]),
            )
            for row in rows
            if mine in row["resources"]
        ]
        return workers, len(rows) - len(workers)

    def workers(self) -> list[Worker]:
        """Those that can be given calls of this server."""
        return list(self._workers)

    @property
    def slots(self) -> int:
        """Calls that all of them make at once; 0 while the cluster is away."""
        is_there = self._client is not None and self._client.status == "running"
        return sum(worker.slots for worker in self._workers) if is_there else 0

    def reaches(self, params: Params) -> bool:
        """Whether a worker has all the folders that a call names."""
        needed = self._needed(params)
        return needed is not None and any(needed <= worker.has for worker in self._workers)

    def _needed(self, params: Params) -> frozenset[str] | None:
        roots = roots_needed(params, self.roots)
        return None if roots is None else frozenset(resource(self.token, root) for root in {self.roots[0], *roots})

    def submit(self, key: str, name: str, params: Params, urgency: float = 0, *, fills_machine: bool = False) -> None:
        """Hand it to the cluster."""
        from kovel.jobs.cluster_worker import make_call

        needs: dict[str, float] = dict.fromkeys(self._needed(params) or (), 1)
        if fills_machine:
            needs[ALONE] = 1
        if self._client is None or self.away:
            raise ConnectionError(self.away)
        future = self._client.submit(
            make_call, self.token, name, params, key=key, pure=False, resources=needs, priority=-urgency
        )
        self._calls[key] = future
        future.add_done_callback(lambda done: self._ended(key, done))

    def _ended(self, key: str, future: Future[Answer]) -> None:
        """Takes its answer, in a thread of Dask's: the worker may be gone by now."""
        from distributed import KilledWorker

        if key not in self._calls:
            return
        try:
            answer: Answer = future.result(timeout=PATIENCE * 6)
            if "cancelled" in answer:  # not by this server: `stop` had answered already
                answer = {"lost": "its worker was ended"}
        except KilledWorker:
            answer = {"unusable": "Several machines were lost while they worked on it. Look at them, then try again."}
        except BaseException as error:  # CancelledError is none of Exception
            answer = {"lost": f"the cluster lost it ({type(error).__name__})"}
        self._answers.setdefault(key, answer)

    def progress(self, key: str) -> float | None:
        """How far a call is, 0 to 1."""
        return self._heard[key][0] if key in self._heard else None

    def where(self, key: str) -> str:
        """The machine that makes it."""
        return self._heard[key][1] if key in self._heard else "the cluster" if key in self._calls else ""

    def stop(self, key: str) -> None:
        """The worker sees that nobody wants it any more, and ends its child."""
        self._answers.setdefault(key, {"cancelled": True})
        if key in self._calls:
            self._calls[key].cancel()

    def result(self, key: str) -> Answer | None:
        """How a call ended."""
        if key not in self._calls:
            return {"lost": "it was not begun"}
        return self._answers.get(key)

    def forget(self, key: str) -> None:
        """Its result has been taken."""
        if future := self._calls.pop(key, None):
            future.release()
        self._heard.pop(key, None)
        self._answers.pop(key, None)

    def close(self) -> None:
        """Workers end what nobody wants any more."""
        self._stop.set()
        if self._thread:
            self._thread.join(PATIENCE)
        if self._client is not None:
            with contextlib.suppress(Exception):
                self._client.close(timeout=2)
