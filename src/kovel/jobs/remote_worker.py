"""A worker on another machine: takes calls from a queue on Redis, as long as its server can know that it lives (see
`remote_workers`).

It is told on its standard input, in one line of JSON, and ends when that closes; its code says why: REFUSED is for
whoever started it, after CUT_OFF it is to begin anew, under another name.
"""

import json
import logging
import os
import secrets
import socket
import sys
import threading
import time
from contextlib import suppress
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from redis import AuthenticationError, Redis, RedisError

from kovel.jobs.remote_workers import CREW, EPOCH, GONE, SERVER, Unfit, form, linked, queue_of, token_in, without_secret
from kovel.jobs.shared_folders import Shared, parsed
from kovel.jobs.worker import Quiet
from kovel.media.fork_server import stand_by

REFUSED, CUT_OFF = 2, 75


@dataclass(frozen=True, slots=True)
class Asked:
    """What a worker is to be: its queue, the folders it shares as (there, here), how many calls at once, its name."""

    queue: str
    media: tuple[str, ...]
    slots: int
    name: str

    def line(self) -> str:
        """As it is given to the worker: one line of JSON."""
        return json.dumps(asdict(self)) + "\n"


def new_name() -> str:
    return f"{socket.gethostname()[:20]}-{secrets.token_hex(4)}"


def say(what: str) -> None:
    print(f"kovel worker: {what}", file=sys.stderr, flush=True)


def fitting(server: dict[str, Any], media: tuple[str, ...]) -> Shared:
    """The folders that are shared with this server; `Unfit` with the reason where it cannot be worked for."""
    if server["form"] != form():
        raise Unfit(
            f"this is Kovel {form()}, and the server on {server['node']} is {server['form']}. Install the same here."
        )
    said_folders = parsed(media)
    pairs = []
    for index, root in enumerate(server["roots"]):
        here = next(
            (str(Path(b) / Path(root).relative_to(a)) for a, b in said_folders if Path(root).is_relative_to(a)), None
        )
        if here and Path(here).is_dir():
            pairs.append((root, here))
        elif index == 0:
            raise Unfit(
                f"the server's own folder {root} is not shared. Mount it here and start with --media {root}"
                + (f"=WHERE ({here} is no folder)." if here else " (or --media THERE=HERE).")
            )
    home = Path(pairs[0][1])
    if token_in(home) != server["token"] or not os.access(home, os.W_OK):
        raise Unfit(f"{home} is not the server's {server['roots'][0]}, or cannot be written. Mount that here.")
    return Shared(tuple(pairs))


def main() -> None:
    told_options = json.loads(sys.stdin.readline())
    asked_options = Asked(**{**told_options, "media": tuple(told_options["media"])})
    os.dup2(2, 1)
    stand_by()
    logging.getLogger("huey").setLevel(logging.CRITICAL)
    threading.Thread(target=lambda: (sys.stdin.read(), os._exit(0)), daemon=True).start()
    os._exit(_work(asked_options))


def _work(asked: Asked) -> int:
    try:
        pool = linked(asked.queue)
        redis: Redis = Redis(connection_pool=linked(asked.queue, text=True))
        told_server, epoch = redis.get(SERVER), redis.get(EPOCH)
        if not told_server or not epoch:
            return CUT_OFF
        server = json.loads(told_server)
        shared = fitting(server, asked.media)
    except (Unfit, AuthenticationError) as error:
        say(str(error))
        return REFUSED
    except (RedisError, OSError):
        return CUT_OFF
    queue = queue_of(pool, asked.name, shared.call, shared.result)
    who = {
        "epoch": epoch,
        "slots": asked.slots,
        "node": socket.gethostname(),
        "roots": [a for a, _ in shared.pairs],
        "pid": os.getpid(),
    }
    lease, heard_at = float(server["lease"]), time.monotonic()

    def watch() -> None:
        while time.monotonic() - heard_at < lease:
            time.sleep(lease / 50)
        say("the queue was not reached for too long; what was worked on here goes to others")
        os._exit(CUT_OFF)

    threading.Thread(target=watch, daemon=True).start()
    begun = False
    for beat in range(1 << 60):
        with suppress(RedisError, OSError):
            ask = redis.pipeline(transaction=False)
            ask.get(SERVER)
            ask.get(EPOCH)
            ask.sismember(GONE, asked.name)
            lives, now, gone = ask.execute()
            if not lives or now != epoch or gone:
                return CUT_OFF
            at = time.monotonic()
            redis.hset(CREW, asked.name, json.dumps({**who, "beat": beat}))
            heard_at = at
            if not begun:
                begun = True
                Quiet(queue.huey, workers=asked.slots, initial_delay=0.05, max_delay=0.3, periodic=False).start()
                where = ", ".join(b if a == b else f"{a} at {b}" for a, b in shared.pairs)
                say(
                    f"works for {server['node']} over {without_secret(asked.queue)}, {asked.slots} at a time, with "
                    f"{where}"
                )
        time.sleep(min(1.0, lease / 10))
    return 0


def farewell(asked: Asked) -> None:
    """It has ended, with all it worked on: the server need not wait to find out."""
    with suppress(RedisError, Unfit):
        Redis(connection_pool=linked(asked.queue, text=True)).hdel(CREW, asked.name)
