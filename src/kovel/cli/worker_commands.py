"""Working for a Kovel on another machine."""

import os
import signal
import sys
import time

import click

from kovel.jobs.remote_worker import REFUSED, Asked, farewell, new_name
from kovel.jobs.remote_workers import linked, without_secret
from kovel.jobs.scheduler import WARM
from kovel.media.fork_server import begin

AWHILE = 10.0  # seconds a worker has worked for it to be told again that there is nobody to work for


@click.command()
@click.option(
    "--queue",
    envvar="KOVEL_QUEUE",
    required=True,
    help="The server's queue: redis://:PASSPHRASE@HOST:6379/0, or KOVEL_QUEUE.",
)
@click.option(
    "--media", multiple=True, help="A folder shared with the server, DIR or THERE=HERE. Its data folder is one of them."
)
@click.option(
    "--at-once",
    type=click.IntRange(1, 64),
    default=lambda: max(1, min(4, os.cpu_count() or 2)),
    help="Calls at a time.",
)
def worker(queue: str, media: tuple[str, ...], at_once: int) -> None:
    """Work for a Kovel on another machine that was started with --queue. Ctrl-C ends it."""
    linked(queue)
    signal.signal(signal.SIGTERM, signal.default_int_handler)  # a service that is stopped says farewell as well
    try:
        code = _worked(queue, media, at_once)
    except KeyboardInterrupt:
        code = 0
    sys.exit(code)


def _worked(queue: str, media: tuple[str, ...], at_once: int) -> int:
    """Work, and begin anew whenever the server or the way to it was lost, until it is refused or ended."""
    waiting = False
    while True:
        asked_options = Asked(queue, media, at_once, new_name())
        process = begin("kovel.jobs.remote_worker", warm=["kovel.jobs.remote_worker", *WARM])
        began = time.monotonic()
        try:
            assert process.stdin
            process.stdin.write(asked_options.line())
            process.stdin.flush()
            code = process.wait()
        finally:
            process.kill()
            process.wait()
            farewell(asked_options)
        if code in (0, REFUSED):
            return code
        if not waiting or time.monotonic() - began > AWHILE:
            click.echo(f"kovel worker: waiting for a server at {without_secret(queue)}", err=True)
        waiting = True
        time.sleep(1)
