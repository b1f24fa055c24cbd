"""Workers on other machines, by Redis, as the server sees them: who is there, what each can take, and who is gone.

    server   kovel:server {form, roots, lease, ...} ─┐       ┌─ kovel:crew {worker: {beat, slots, roots, ...}}   workers
             kovel:epoch  which start of it this is ─┤  Redis  ├─ answers, progress
             a queue for each worker ────────────────┘         └─ kovel:gone   who may not come back under his name

A worker that could not tell that it lives for a *lease* ends itself and all it works on; the server waits a little
longer before it gives its calls to others. So two never work on the same, whichever part of the network fails
(leases: Gray and Cheriton 1989). Here are names, sizes and paths of recordings, and what is asked of them: Redis is
to have a passphrase, and TLS where others listen.
"""

import json
import secrets
import socket
import sys
import threading
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from functools import cache
from hashlib import sha256
from importlib import resources
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from huey import RedisHuey
from redis import ConnectionPool, Redis, RedisError
from redis.backoff import NoBackoff
from redis.retry import Retry

from kovel import __version__
from kovel.core.errors import Told
from kovel.jobs.call_queue import Move, Plain, Queue
from kovel.media.whole_files import keep

SERVER, EPOCH, CREW, GONE = "kovel:server", "kovel:epoch", "kovel:crew", "kovel:gone"
LEASE = 20.0  # seconds a worker may be unheard of
PATIENCE = 3.0  # seconds Redis may take to answer
TOKEN = (
    "shared.token"  # in the data folder, written once: a worker that reads what the server tells sees the same folder
)


class Unfit(Told):
    """The queue cannot be used as it is; what it says is for whoever starts the server or the worker."""


def linked(url: str, *, text: bool = False) -> ConnectionPool:
    """Connections to a Redis that is told by its address; one that does not answer is told soon. `text`: they give
    `str`."""
    try:
        if urlsplit(url).scheme not in ("redis", "rediss"):
            raise ValueError
        return ConnectionPool.from_url(
            url,
            socket_timeout=PATIENCE,
            socket_connect_timeout=PATIENCE,
            retry=Retry(NoBackoff(), 0),
            decode_responses=text,
        )
    except ValueError:
        raise Unfit(
            f"{without_secret(url)} is no address of a queue. It is like redis://:PASSPHRASE@HOST:6379/0."
        ) from None


def without_secret(url: str) -> str:
    """The address without what only its users are to know."""
    with suppress(ValueError):
        at = urlsplit(url)
        return f"{at.scheme}://{at.hostname or ''}{f':{at.port}' if at.port else ''}{at.path}"
    return "This"


def queue_of(pool: ConnectionPool, worker: str, here: Move | None = None, there: Move | None = None) -> Queue:
    """The queue of one worker."""
    name = f"kovel{worker.replace('-', '')}"
    return Queue(RedisHuey(name, connection_pool=pool, results=False, serializer=Plain()), here, there)


def of_queue(url: str) -> tuple[dict[str, Any] | None, list[dict[str, Any]]]:
    """The server that a queue belongs to, if one uses it, and its workers; `Unfit` if it does not answer."""
    link = Redis(connection_pool=linked(url, text=True))
    try:
        told_server, worker_rows = link.get(SERVER), link.hgetall(CREW)
    except RedisError as error:
        raise Unfit(
            f"The queue at {without_secret(url)} cannot be used: {error}. Start Redis there, or leave --queue away."
        ) from None
    return json.loads(told_server) if told_server else None, [
        json.loads(worker_row) for worker_row in worker_rows.values()
    ]


def kept_token(root: Path) -> str:
    """What tells this data folder from any other; one that is not whole is made anew."""
    found_token = token_in(root)
    if not found_token:
        found_token = secrets.token_hex(16)
        keep(root / TOKEN, {"folder": found_token})
    return found_token


def token_in(root: Path) -> str:
    """That of a folder, as it is seen from here; empty where there is none."""
    try:
        return str(json.loads((root / TOKEN).read_text())["folder"])
    except (OSError, ValueError, KeyError, TypeError):
        return ""


@cache
def form() -> str:
    """What a worker must have in common with its server: the version, and everything that calls are made of."""
    seen = sha256()
    for part in ("core", "media", "jobs", "services"):
        for path in sorted(Path(str(resources.files("kovel"))).joinpath(part).rglob("*.py")):
            seen.update(path.read_bytes())
    return f"{__version__} ({seen.hexdigest()[:8]})"


@dataclass(slots=True)
class Hand:
    """Where calls are worked on: this machine's own workers (no name), or those of another."""

    queue: Queue
    slots: int
    name: str = ""
    roots: tuple[str, ...] | None = None  # what it reaches; None: everything
    node: str = ""
    beat: int = -1
    heard: float = field(default_factory=time.monotonic)
    dismissed: float | None = None


class Crew:
    """Keep it informed with `start`; it asks Redis in a thread of its own, for a network that is gone must hold up
    nothing here."""

    def __init__(self, url: str, root: Path, media: Sequence[Path] = (), lease: float = LEASE) -> None:
        self.url, self.pool = url, linked(url)
        self.redis: Redis = Redis(connection_pool=linked(url, text=True))
        self.at = without_secret(url)
        self.lease, self.dead = lease, lease * 1.25
        self.root = root
        self.roots = [str(root), *(str(path) for path in media)]
        self.epoch, self.token = secrets.token_hex(8), ""
        self.hands: dict[str, Hand] = {}
        self.away = ""  # why Redis cannot be asked just now
        self.settled = False  # whether nobody works any more on what an earlier start of the server has given out
        self._began = time.monotonic()
        self._gone: set[str] = set()
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    @property
    def _who(self) -> dict[str, Any]:
        return {
            "node": socket.gethostname(),
            "form": form(),
            "roots": self.roots,
            "lease": self.lease,
            "token": self.token,
        }

    def look_first(self) -> None:
        """`Unfit` if there is no such queue, or it is another server's."""
        other = of_queue(self.url)[0] or self._who
        if (other["node"], other["roots"][0]) != (self._who["node"], str(self.root)):
            raise Unfit(
                f"{self.at} is the queue of another Kovel, on {other['node']}. "
                "Give this one a database of its own, as in redis://HOST/1."
            )

    def start(self) -> None:
        """Take the queue; `Unfit` if that cannot be."""
        self.look_first()
        self.token = kept_token(self.root)
        try:
            for key in self.redis.scan_iter(match="huey.*.kovel*"):
                self.redis.delete(key)
            self._begin()
        except RedisError as error:
            raise Unfit(f"The queue at {self.at} cannot be used: {error}.") from None
        self._thread = threading.Thread(target=self._run, name="crew", daemon=True)
        self._thread.start()

    def _begin(self) -> None:
        """This start of the server, or of Redis, for the workers to know."""
        self._tell()
        self.redis.set(EPOCH, self.epoch)

    def _tell(self) -> None:
        """The server lives: workers that do not hear so for long end what they do."""
        self.redis.set(SERVER, json.dumps(self._who), px=int(self.lease * 3000))

    def stop(self) -> None:
        """Says good-bye: workers elsewhere end their calls."""
        self._stop.set()
        if self._thread:
            self._thread.join(2 * PATIENCE)
        with suppress(RedisError):
            self.redis.delete(SERVER)
        self.pool.disconnect()

    def _run(self) -> None:
        while not self._stop.wait(min(0.5, self.lease / 20)):
            try:
                self.look()
                self.away = ""
            except (RedisError, OSError, ValueError, KeyError) as error:
                if not self.away:
                    print(
                        f"kovel: the queue at {self.at} does not answer ({error}); the work goes on here",
                        file=sys.stderr,
                    )
                self.away = str(error) or type(error).__name__

    def look(self) -> None:
        """One look at who is there."""
        moment_now = time.monotonic()
        if self.redis.get(EPOCH) != self.epoch:  # Redis has begun anew, and knows nothing
            self.epoch = secrets.token_hex(8)
            self._begin()
            for hand in self.hands.values():
                self.dismiss(hand)
        self._tell()
        told_workers = {str(key): json.loads(value) for key, value in self.redis.hgetall(CREW).items()}
        before = [name for name, t in told_workers.items() if t["epoch"] != self.epoch and name not in self.hands]
        if before and moment_now - self._began > self.dead:
            self.redis.hdel(CREW, *before)
            before = []
        self.settled = self.settled or not before
        with self._lock:
            self._welcome(told_workers)
            for name, hand in list(self.hands.items()):
                if name in told_workers and told_workers[name]["beat"] != hand.beat:
                    hand.beat, hand.heard = told_workers[name]["beat"], moment_now
                has_left = name not in told_workers and hand.dismissed is None  # it has ended, and said so
                if has_left or self._is_silent(hand, moment_now):
                    self._give_up(name, hand)

    def _welcome(self, told: dict[str, Any]) -> None:
        for name, t in told.items():
            if name not in self.hands and t["epoch"] == self.epoch and not self.redis.sismember(GONE, name):
                queue = queue_of(self.pool, name)
                self.hands[name] = Hand(queue, int(t["slots"]), name, tuple(t["roots"]), str(t["node"]))

    def _is_silent(self, hand: Hand, now: float) -> bool:
        dismissed_long = hand.dismissed is not None and now - hand.dismissed > self.dead
        return now - hand.heard > self.dead or dismissed_long

    def _give_up(self, name: str, hand: Hand) -> None:
        self.redis.sadd(GONE, name)
        self.redis.hdel(CREW, name)
        hand.queue.clear()
        del self.hands[name]
        self._gone.add(name)

    def dismiss(self, hand: Hand) -> None:
        """What it has is not known any more: it is to end, and its calls go to others once it surely has."""
        hand.dismissed = hand.dismissed or time.monotonic()
        with suppress(RedisError):
            self.redis.sadd(GONE, hand.name)

    def gone(self) -> set[str]:
        """The names of those who are gone since this was last asked."""
        with self._lock:
            gone_workers, self._gone = self._gone, set()
            return gone_workers

    def there(self) -> list[Hand]:
        """Those who can be given something now."""
        with self._lock:
            return [] if self.away else [hand for hand in self.hands.values() if hand.dismissed is None]
