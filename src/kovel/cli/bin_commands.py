"""Bins, and names by a pattern."""

from pathlib import Path

import click

from kovel.cli.common import (
    answer,
    data_option,
    json_option,
    only,
    open_data,
    project_option,
    the_project,
    the_recording,
)
from kovel.data_folder import DataFolder
from kovel.services.footage import binning
from kovel.store import bin_rows, recordings


@click.group()
def bin_() -> None:
    """Bins: named heaps of recordings, a recording in as many as you like; and names by a pattern."""


def _found(data_folder: DataFolder, project: int, name: str) -> bin_rows.Bin:
    named_bins = [
        folder for folder in bin_rows.of_project(data_folder.db, project) if name in (folder.name, str(folder.id))
    ]
    return only(named_bins, name, "bin", lambda b: str(b.id))


def _told(data_folder: DataFolder, project: int, as_json: bool) -> None:
    names = {recording.id: recording.name for recording in recordings.of_project(data_folder.db, project)}
    folders = bin_rows.of_project(data_folder.db, project)
    inside = {folder.id: [names[number] for number in names if number in folder.recordings] for folder in folders}
    value = [{"id": folder.id, "name": folder.name, "recordings": inside[folder.id]} for folder in folders]
    text = "\n".join(f"{folder.name}: {', '.join(inside[folder.id]) or 'empty'}" for folder in folders)
    answer(as_json, {"bins": value}, text or "There are no bins yet.")


@bin_.command("list")
@data_option
@project_option
@json_option
def list_(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """The bins and what is in them."""
    data_folder = open_data(folder)
    _told(data_folder, the_project(data_folder, project_name).id, as_json)


@bin_.command("make")
@click.argument("name")
@click.argument("names", metavar="RECORDING...", nargs=-1)
@data_option
@project_option
@json_option
def make(name: str, names: tuple[str, ...], folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """A new bin with these recordings in it."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    bin_rows.make(data_folder.db, project.id, name, [the_recording(data_folder, project.id, name).id for name in names])
    _told(data_folder, project.id, as_json)


@bin_.command("put")
@click.argument("name")
@click.argument("names", metavar="RECORDING...", nargs=-1, required=True)
@click.option("--out", is_flag=True, help="Out of the bin instead.")
@data_option
@project_option
@json_option
def put(
    name: str, names: tuple[str, ...], out: bool, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """Recordings into a bin, or out of it."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    bin_rows.put(
        data_folder.db,
        project.id,
        _found(data_folder, project.id, name).id,
        [the_recording(data_folder, project.id, name).id for name in names],
        out,
    )
    _told(data_folder, project.id, as_json)


@bin_.command("remove")
@click.argument("name")
@data_option
@project_option
@json_option
def remove(name: str, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Take a bin away; its recordings stay."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    bin_rows.remove(data_folder.db, project.id, _found(data_folder, project.id, name).id)
    _told(data_folder, project.id, as_json)


@bin_.command("rename")
@click.argument("pattern")
@click.argument("names", metavar="RECORDING...", nargs=-1, required=True)
@click.option("--dry", is_flag=True, help="Only tell what they would be called.")
@data_option
@project_option
@json_option
def rename(
    pattern: str, names: tuple[str, ...], dry: bool, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """Names by a pattern: {name} {n} {n:3} {day} {camera} {roll} {kind} {timecode} {file}."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    ids = [the_recording(data_folder, project.id, name).id for name in names]
    new_names = binning.names(data_folder, project.id, ids, pattern)
    if not dry:
        binning.rename(data_folder, project.id, ids, pattern)
    value = [{"was": recording.name, "name": name} for recording, name in new_names]
    answer(as_json, {"names": value}, "\n".join(f"{recording.name}: {name}" for recording, name in new_names))
