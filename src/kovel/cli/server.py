"""Starting the server, with the demo project or without."""

import gc
import os
import socket
import sys
import threading
import time
import webbrowser
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from functools import wraps
from pathlib import Path
from typing import Any

import click

from kovel.cli.common import data_option, open_data
from kovel.data_folder import DataFolder, default_folder
from kovel.jobs.remote_workers import Crew
from kovel.store import jobs
from kovel.store.backup import copies, daily, damage


@dataclass(frozen=True, slots=True)
class At:
    """Where it is served, and how."""

    host: str
    port: int
    browser: bool
    media: tuple[Path, ...]
    cert: Path | None
    key: Path | None
    queue: str | None


def _serve(data: DataFolder, at: At, path: str = "/") -> None:
    import uvicorn

    from kovel.demo.project import FOOTAGE
    from kovel.web.app import create_app

    passphrase = os.environ.pop("KOVEL_PASSPHRASE", "") or None  # nobody this process starts needs to know it
    host, port = at.host, at.port
    if (at.cert is None) != (at.key is None):
        raise click.ClickException("TLS needs both: --cert FILE and --key FILE, in PEM form.")
    local = host in ("127.0.0.1", "localhost", "::1")
    if not local and not passphrase:
        raise click.ClickException(
            "Open to other machines, Kovel needs a passphrase: set KOVEL_PASSPHRASE and start again."
        )
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError:
            raise click.ClickException(
                f"Port {port} is taken, perhaps by another Kovel. Choose another: --port {port + 1}"
            ) from None
        port = probe.getsockname()[1]
    roots = [
        Path.home(),
        FOOTAGE,
        *(path.expanduser().resolve() for path in at.media),
        *(path for path in (Path("/media"), Path("/mnt"), Path("/Volumes")) if path.is_dir()),
    ]
    wild = host in ("0.0.0.0", "::")  # every address of this machine
    name = socket.gethostname().lower()
    hosts = set() if local else {"*" if wild else host, name, name if name.endswith(".local") else f"{name}.local"}
    address = (
        f"http{'s' if at.cert else ''}://{'127.0.0.1' if wild else f'[{host}]' if ':' in host else host}:{port}{path}"
    )
    crew = Crew(at.queue, data.root, [path.expanduser().resolve() for path in at.media]) if at.queue else None
    if crew:
        crew.look_first()
    app = create_app(data, roots, hosts=hosts, passphrase=passphrase, secure=bool(at.cert), crew=crew)
    config = uvicorn.Config(
        app,
        host=host,
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
        click.echo(f"Kovel is at {address}   (data in {data.root}; Ctrl-C ends it)")
        sys.stdout.flush()
        if at.browser and (sys.platform == "darwin" or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
            webbrowser.open(address)

    threading.Thread(target=announce, daemon=True).start()
    os.environ.pop("KOVEL_QUEUE", None)
    os.umask(0o077)  # what is written is this user's alone
    gc.freeze()  # what stands now stays: collecting it again and again would make edits stutter
    gc.set_threshold(50_000, 20, 50)
    server.run()


def _looked_after(data: DataFolder) -> None:
    """The database is whole, and today's copy of it is made, before anything is served."""
    if wrong := damage(data.db.path):
        raise click.ClickException(
            f"The database in {data.root} is damaged ({wrong}). "
            + (
                f"The last good copy is of {found[0][0]}: `kovel restore --data {data.root} latest` brings it back."
                if (found := copies(data.backups))
                else "There is no copy of it in its folder."
            )
        )
    daily(data.db, data.backups, date.today())


def server_options(f: Callable[[Path | None, At], None]) -> Callable[..., Any]:
    """What `serve` and `demo` understand, handed on as the data folder and where it is served."""

    @wraps(f)
    def taken(folder: Path | None, no_browser: bool, **where: Any) -> None:
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
        click.option(
            "--queue",
            envvar="KOVEL_QUEUE",
            help="Redis for workers on other machines: redis://:PASSPHRASE@HOST:6379/0, or KOVEL_QUEUE.",
        ),
        data_option,
    ):
        out = o(out)
    return out


@click.command()
@server_options
def serve(folder: Path | None, at: At) -> None:
    """Start Kovel and print its address."""
    data = open_data(folder)
    _looked_after(data)
    _serve(data, at)


@click.command()
@server_options
def demo(folder: Path | None, at: At) -> None:
    """Start with the demo project (its own data folder unless --data is given)."""
    from kovel.demo.project import ensure

    data = DataFolder(folder or default_folder().with_name("kovel-demo"))
    project = ensure(data)
    if jobs.unfinished(data.db):
        click.echo("Kovel: the demo footage is being prepared, once; the page shows how far it is.", err=True)
    _looked_after(data)
    _serve(data, at, f"/p/{project}/story")
