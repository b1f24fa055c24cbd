"""Starting the server, with the demo project or without."""

import gc
import os
import socket
import sys
import threading
import time
import webbrowser
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from kovel.cli.common import data_option, open_data
from kovel.cli.worker_commands import NOT_INSTALLED, cluster_options, refuse_queue
from kovel.data_folder import DataFolder, default_folder
from kovel.store import jobs
from kovel.store.backup import copies, daily, damage

if TYPE_CHECKING:
    from kovel.jobs.cluster import Cluster


@dataclass(frozen=True, slots=True)
class At:
    """Where it is served, and how."""

    host: str
    port: int
    browser: bool
    media: tuple[Path, ...]
    cert: Path | None
    key: Path | None
    cluster: str | None
    certs: Path | None

    @property
    def is_local(self) -> bool:
        """Whether only this machine reaches it."""
        return self.host in ("127.0.0.1", "localhost", "::1")

    @property
    def is_everywhere(self) -> bool:
        """Whether it answers at every address of this machine."""
        return self.host in ("0.0.0.0", "::")


def _free_port(at: At) -> int:
    family = socket.AF_INET6 if ":" in at.host else socket.AF_INET
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((at.host, at.port))
        except OSError:
            raise click.ClickException(
                f"Port {at.port} is taken, perhaps by another Kovel. Choose another: --port {at.port + 1}"
            ) from None
        port: int = probe.getsockname()[1]
        return port


def _hosts_answered(at: At) -> set[str]:
    """The names of this machine that a request may ask for, beside those of its own loopback."""
    if at.is_local:
        return set()
    name = socket.gethostname().lower()
    return {"*" if at.is_everywhere else at.host, name, name if name.endswith(".local") else f"{name}.local"}


def _named_in_address(at: At) -> str:
    if at.is_everywhere:
        return "127.0.0.1"
    return f"[{at.host}]" if ":" in at.host else at.host


def _has_screen() -> bool:
    return sys.platform == "darwin" or any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY"))


def _serve(data_folder: DataFolder, at: At, path: str = "/") -> None:
    import uvicorn

    from kovel.demo.project import FOOTAGE
    from kovel.web.app import create_app

    passphrase = os.environ.pop("KOVEL_PASSPHRASE", "") or None  # nobody this process starts needs to know it
    if (at.cert is None) != (at.key is None):
        raise click.ClickException("TLS needs both: --cert FILE and --key FILE, in PEM form.")
    if not at.is_local and not passphrase:
        raise click.ClickException(
            "Open to other machines, Kovel needs a passphrase: set KOVEL_PASSPHRASE and start again."
        )
    port = _free_port(at)
    roots = [
        Path.home(),
        FOOTAGE,
        *(path.expanduser().resolve() for path in at.media),
        *(path for path in (Path("/media"), Path("/mnt"), Path("/Volumes")) if path.is_dir()),
    ]
    address = f"http{'s' if at.cert else ''}://{_named_in_address(at)}:{port}{path}"
    cluster = _cluster(data_folder, roots, at) if at.cluster else None
    application = create_app(
        data_folder, roots, hosts=_hosts_answered(at), passphrase=passphrase, secure=bool(at.cert), cluster=cluster
    )
    config = uvicorn.Config(
        application,
        host=at.host,
        port=port,
        log_level="warning",
        access_log=False,
        timeout_graceful_shutdown=2,
        ssl_certfile=str(at.cert) if at.cert else None,
        ssl_keyfile=str(at.key) if at.key else None,
    )
    try:
        config.load()
    except (OSError, ValueError) as error:  # ssl.SSLError is an OSError
        raise click.ClickException(f"{at.cert} and {at.key} are no certificate and its key ({error}).") from None
    server = uvicorn.Server(config)

    def announce() -> None:
        while not server.started:
            if server.should_exit:
                return
            time.sleep(0.02)
        click.echo(f"Kovel is at {address}   (data in {data_folder.root}; Ctrl-C ends it)")
        sys.stdout.flush()
        if at.browser and _has_screen():
            webbrowser.open(address)

    threading.Thread(target=announce, daemon=True).start()
    os.umask(0o077)  # what is written is this user's alone
    gc.freeze()  # what stands now stays: collecting it again and again would make edits stutter
    gc.set_threshold(50_000, 20, 50)
    server.run()


def _cluster(data_folder: DataFolder, roots: Sequence[Path], at: At) -> "Cluster":
    """The cluster that takes work from this server. `roots`: the folders recordings may lie in."""
    try:
        from kovel.jobs.cluster import Cluster

        cluster = Cluster(str(at.cluster), data_folder.root, roots, at.certs)
        cluster.start()
    except ImportError:
        raise click.ClickException(NOT_INSTALLED) from None
    return cluster


def _looked_after(data_folder: DataFolder) -> None:
    """The database is whole, and today's copy of it is made, before anything is served."""
    if wrong := damage(data_folder.db.path):
        raise click.ClickException(
            f"The database in {data_folder.root} is damaged ({wrong}). "
            + (
                f"The last good copy is of {found_copies[0][0]}: "
                f"`kovel restore --data {data_folder.root} latest` brings it back."
                if (found_copies := copies(data_folder.backups))
                else "There is no copy of it in its folder."
            )
        )
    daily(data_folder.db, data_folder.backups, date.today())


def server_options(f: Callable[[Path | None, At], None]) -> Callable[..., Any]:
    """What `serve` and `demo` understand, handed on as the data folder and where it is served."""

    @wraps(f)
    def taken(folder: Path | None, no_browser: bool, queue: str | None, **where: Any) -> None:
        refuse_queue(queue)
        f(folder, At(browser=not no_browser, **where))

    out: Callable[..., Any] = taken
    for o in (
        click.option(
            "--media",
            type=click.Path(path_type=Path),
            multiple=True,
            help="A further folder recordings may be brought in from.",
        ),
        click.option("--no-browser", is_flag=True, help="Do not open a browser."),
        click.option(
            "--host",
            default="127.0.0.1",
            show_default=True,
            help="Other than this machine's own needs KOVEL_PASSPHRASE.",
        ),
        click.option("--port", default=8463, show_default=True),
        click.option("--cert", type=click.Path(path_type=Path), help="Certificate (PEM): served by TLS."),
        click.option("--key", type=click.Path(path_type=Path), help="The certificate's key (PEM)."),
        click.option("--queue", envvar="KOVEL_QUEUE", hidden=True),
        cluster_options,
        data_option,
    ):
        out = o(out)
    return out


@click.command()
@server_options
def serve(folder: Path | None, at: At) -> None:
    """Start Kovel and print its address."""
    data_folder = open_data(folder)
    _looked_after(data_folder)
    _serve(data_folder, at)


@click.command()
@server_options
def demo(folder: Path | None, at: At) -> None:
    """Start with the demo project (its own data folder unless --data is given)."""
    from kovel.demo.project import ensure

    data_folder = DataFolder(folder or default_folder().with_name("kovel-demo"))
    project = ensure(data_folder)
    if jobs.unfinished(data_folder.db):
        click.echo("Kovel: the demo footage is being prepared, once; the page shows how far it is.", err=True)
    _looked_after(data_folder)
    _serve(data_folder, at, f"/p/{project}/story")
