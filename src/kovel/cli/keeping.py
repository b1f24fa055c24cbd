"""What is kept, copied and put back; and how everything is."""

import os
import sys
from datetime import datetime
from pathlib import Path

import click

from kovel.cli.common import answer, data_option, json_option, open_data
from kovel.cli.worker_commands import cluster_options
from kovel.core.errors import Invalid
from kovel.data_folder import default_folder, jobs_lock
from kovel.store import backup as copies


@click.command()
@click.argument("directory", metavar="DIR", type=click.Path(path_type=Path, file_okay=False))
@data_option
@json_option
def backup(directory: Path, folder: Path | None, as_json: bool) -> None:
    """Copy the database into DIR as it stands, also while Kovel is used: one file with every project, its history and
    undo.

    Recordings are not in it; they stay where they are. `kovel restore` brings it back.
    """
    data_folder = open_data(folder)
    copied_to = copies.back_up(data_folder.db, directory.resolve() / f"kovel-{datetime.now():%Y-%m-%d-%H%M%S}.db")
    answer(
        as_json,
        {"path": str(copied_to), "bytes": copied_to.stat().st_size},
        f"{copied_to} written, {copied_to.stat().st_size / 1e6:.1f} MB.",
    )


@click.command()
@click.argument("copy", metavar="COPY")
@data_option
@json_option
def restore(copy: str, folder: Path | None, as_json: bool) -> None:
    """Put COPY (a file that `kovel backup` wrote, or `latest` for the last daily copy) in the place of the database.

    What was there is kept beside it under another name. Kovel must not be running on the folder.
    """
    root = (folder or default_folder()).expanduser().resolve()
    if not root.is_dir():
        raise Invalid(f"There is no data folder {root}.")
    lock = jobs_lock(root)
    if lock is None:
        raise Invalid("Kovel is running on that folder. End it first, then bring the copy back.")
    try:
        path = Path(copy)
        if copy == "latest" and not path.exists():
            whole = [path for _, path in copies.copies(root / "backups") if not copies.damage(path)]
            if not whole:
                raise Invalid(f"There is no daily copy in {root / 'backups'} that is whole.")
            path = whole[0]
        aside = root / f"kovel-before-{datetime.now():%Y-%m-%d-%H%M%S}.db"
        copies.put_back(root / "kovel.db", path, aside)
    finally:
        os.close(lock)
    told_line = f"{path} is the database now." + (f" What was there is kept as {aside.name}." if aside.exists() else "")
    answer(as_json, {"from": str(path), "kept": str(aside) if aside.exists() else None}, told_line)


@click.command()
@cluster_options
@data_option
@json_option
def doctor(cluster: str | None, certs: Path | None, folder: Path | None, as_json: bool) -> None:
    """How Kovel is: versions, disk, database, copies, jobs, codecs, models, and workers on other machines (of
    --cluster). To be copied where help is asked for."""
    from kovel.services.doctor import examined

    examined_rows = examined(folder or default_folder(), cluster, certs)
    value = [
        {"what": examined_row.what, "well": examined_row.well, "found": examined_row.found}
        for examined_row in examined_rows
    ]
    answer(
        as_json,
        value,
        "\n".join(
            f"{'ok ' if examined_row.well else '!! '} {examined_row.what:<12} {examined_row.found}"
            for examined_row in examined_rows
        ),
    )
    if not all(examined_row.well for examined_row in examined_rows):
        sys.exit(1)
