"""Working for a Kovel on another machine, and the certificates for it."""

import os
import signal
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from kovel.core.errors import Told

NOT_INSTALLED = (
    "Workers on other machines need packages that are not installed. From a checkout, `./kovel worker` installs them; "
    "else: pip install 'kovel[cluster]'."
)


def cluster_options(f: Callable[..., Any]) -> Callable[..., Any]:
    """Which cluster, and how it is secured."""
    for option in (
        click.option(
            "--certs",
            type=click.Path(path_type=Path, file_okay=False),
            envvar="KOVEL_CERTS",
            help="Folder of the cluster's certificates, as `kovel certs` makes it.",
        ),
        click.option(
            "--cluster", envvar="KOVEL_CLUSTER", help="Dask scheduler with workers for Kovel: tls://HOST:8786."
        ),
    ):
        f = option(f)
    return f


@click.command()
@cluster_options
@click.option(
    "--media", multiple=True, help="A folder shared with the server, DIR or THERE=HERE. Its data folder is one of them."
)
@click.option(
    "--at-once",
    type=click.IntRange(1, 64),
    default=lambda: max(1, min(4, os.cpu_count() or 2)),
    help="Calls at a time.",
)
@click.option("--queue", envvar="KOVEL_QUEUE", hidden=True)
def worker(cluster: str | None, certs: Path | None, media: tuple[str, ...], at_once: int, queue: str | None) -> None:
    """Work for a Kovel on another machine that was started with --cluster. Ctrl-C ends it."""
    refuse_queue(queue)
    if not cluster:
        raise click.UsageError("Say which cluster: --cluster tls://HOST:8786, or KOVEL_CLUSTER.")
    try:
        from kovel.jobs.cluster import secured
        from kovel.jobs.cluster_worker import Asked, work_on

        asked = Asked(cluster, secured(cluster, certs), media, at_once)
    except ImportError:
        raise click.ClickException(NOT_INSTALLED) from None
    signal.signal(signal.SIGTERM, signal.default_int_handler)  # a service that is stopped ends as by Ctrl-C
    try:
        work_on(asked)
    except KeyboardInterrupt:
        return
    except Told as error:
        click.echo(f"kovel worker: {error}", err=True)
        raise SystemExit(2) from None


def refuse_queue(queue: str | None) -> None:
    """What took the work over Redis does so by a Dask cluster now."""
    if queue:
        raise click.ClickException(
            "Workers on other machines do not use a queue on Redis any more: start a Dask scheduler and give its "
            "address with --cluster tls://HOST:8786. docs/machines.md shows how."
        )


@click.command()
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False))
def certs(folder: Path) -> None:
    """Make the certificates for a cluster: an authority of its own, and what each machine shows."""
    try:
        from kovel.jobs.certificates import make_certificates
    except ImportError:
        raise click.ClickException(NOT_INSTALLED) from None
    for path in make_certificates(folder.expanduser()):
        click.echo(path)
    click.echo(
        "Copy authority.pem, kovel.pem and kovel-key.pem to each machine, by a way nobody else reads. Keep "
        "authority-key.pem here.",
        err=True,
    )
