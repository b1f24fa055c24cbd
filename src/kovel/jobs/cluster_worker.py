"""A worker for a Kovel on another machine: a Dask worker in this process, which makes Kovel's calls in children.

It finds its server in the cluster's metadata, by the folders that it shares with one; refuses another version and a
folder that is not the server's; and begins again when the cluster or the way to it was lost.
"""

import asyncio
import logging
import os
import socket
import sys
import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from secrets import token_hex
from typing import Any

from distributed import Client, Security, Status, get_worker
from distributed import Worker as DaskWorker

from kovel.jobs.cluster import ALONE, ENOUGH, PATIENCE, Unfit, form, resource, token_in
from kovel.jobs.shared_folders import Shared, parsed
from kovel.jobs.workplaces import WARM, Answer, Params, answered
from kovel.media import fork_server
from kovel.media.child import call

AGAIN = 2.0  # seconds between two looks for a server
TOLD = 0.5  # seconds between two reports of how far a call is
ALIVE = (Status.running, Status.paused)  # a paused one takes nothing new
_shared: dict[str, Shared] = {}  # by the token of a server: the folders that this process has of it


@dataclass(frozen=True, slots=True)
class Asked:
    """What a worker is to be: whose cluster, the folders it has as (there, here), how many calls at once."""

    address: str
    security: Security
    media: tuple[str, ...]
    slots: int


def say(what: str) -> None:
    print(f"kovel worker: {what}", file=sys.stderr, flush=True)


def make_call(token: str, name: str, params: Params) -> Answer:
    """One call, as Dask has it made: with the paths of this machine, and those of its result as the server has them.
    Stopped where nobody wants it any more."""
    worker = get_worker()
    key, shared, told = worker.get_current_task(), _shared[token], 0.0

    def progress(x: float) -> None:
        nonlocal told
        if time.monotonic() - told > TOLD:
            told = time.monotonic()
            worker.log_event(f"kovel {token}", [key, x, socket.gethostname()])

    def is_unwanted() -> bool:
        task = worker.state.tasks.get(key)
        return task is None or task.state != "executing" or worker.status not in ALIVE

    progress(0)
    return answered(lambda: shared.result(call(name, shared.call(params), progress, is_unwanted)))


def fitting(server: Mapping[str, Any], token: str, media: tuple[str, ...]) -> Shared:
    """The folders that are shared with this server; `Unfit` with the reason where it cannot be worked for."""
    if server["form"] != form():
        raise Unfit(
            f"this is Kovel {form()}, and the server on {server['node']} is {server['form']}. Install the same here."
        )
    home = server["roots"][0]
    pairs = [(root, here) for root in server["roots"] if (here := _here(root, media)) and Path(here).is_dir()]
    if home not in dict(pairs):
        raise Unfit(
            f"the server's own folder {home} is not shared. Mount it here and add --media {home} (or {home}=HERE)."
        )
    mounted = Path(dict(pairs)[home])
    if token_in(mounted) != token or not os.access(mounted, os.W_OK):
        raise Unfit(f"{mounted} is not the server's {home}, or cannot be written. Mount that here.")
    return Shared(tuple(pairs))


def _here(root: str, media: tuple[str, ...]) -> str:
    """Where a folder of the server is on this machine, by what was said; empty where it is not."""
    said = [(there, here) for there, here in parsed(media) if Path(root).is_relative_to(there)]
    return str(Path(said[0][1]) / Path(root).relative_to(said[0][0])) if said else ""


def chosen(servers: Mapping[str, Mapping[str, Any]], media: tuple[str, ...]) -> tuple[str, Shared] | None:
    """The server that can be worked for, by its token; None where there is none yet, `Unfit` where none fits."""
    why: Unfit | None = None
    for token, server in servers.items():
        try:
            return token, fitting(server, token, media)
        except Unfit as error:
            why = error
    if why:
        raise why
    return None


async def work(asked: Asked) -> None:
    """Work as long as there is a server to work for; raises `Unfit` where there is none that fits, and whatever Dask
    raises where the cluster is not reached."""
    async with Client(asked.address, security=asked.security, timeout=PATIENCE, asynchronous=True) as client:
        waits = False
        while (found := chosen(await client.get_metadata(["kovel"], {}), asked.media)) is None:
            if not waits:
                say(f"waits for a server on the cluster at {asked.address}")
            waits = True
            await asyncio.sleep(AGAIN)
        token, shared = found
        _shared[token] = shared
        has = {resource(token, root): ENOUGH for root, _ in shared.pairs} | {ALONE: 1}
        name = f"{socket.gethostname()}-{token_hex(4)}"
        async with DaskWorker(
            asked.address, security=asked.security, nthreads=asked.slots, name=name, resources=has
        ) as worker:
            where = ", ".join(here if here == there else f"{there} at {here}" for there, here in shared.pairs)
            say(f"works on the cluster at {asked.address}, {asked.slots} at a time, with {where}")
            fork_server.warm(WARM)
            while worker.status in ALIVE:
                await asyncio.sleep(AGAIN)
                servers = await client.get_metadata(["kovel"], {})
                if token in servers:
                    fitting(servers[token], token, asked.media)  # it may be another version by now


def work_on(asked: Asked) -> None:
    """Work until ended; begins again whenever the cluster was lost. Raises `Unfit` for whoever started it."""
    logging.getLogger("distributed").setLevel(logging.WARNING)
    told = False
    while True:
        try:
            asyncio.run(work(asked))
        except Unfit:
            raise
        except Exception as error:  # whatever Dask, TLS or the network say of it
            if not told:
                say(f"the cluster at {asked.address} is not reached ({type(error).__name__}); trying again")
            told = True
        else:
            told = False
        time.sleep(AGAIN)
