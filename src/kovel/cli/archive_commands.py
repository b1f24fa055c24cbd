"""A project in one file, and out of it."""

from pathlib import Path

import click

from kovel.cli.common import (
    answer,
    check_folder,
    data_option,
    json_option,
    open_data,
    project_option,
    the_project,
    wait_for,
)
from kovel.core.errors import Invalid
from kovel.services.handoff import archiving
from kovel.store import jobs
from kovel.store.jobs import JobState


@click.group()
def archive() -> None:
    """A project in one file: its stories, log, words and undo, with its recordings or without."""


@archive.command("out")
@click.argument("path", type=click.Path(path_type=Path))
@click.option(
    "--media",
    type=click.Choice(["none", "pictures", "used", "all"]),
    default="none",
    show_default=True,
    help=(
        "Recordings to put in: none, those that a story uses (only the pictures it uses, with all sound, or whole), "
        "or all."
    ),
)
@click.option(
    "--handle",
    type=click.FloatRange(0, 600),
    default=archiving.HANDLE,
    show_default=True,
    help="Seconds of pictures to leave around what is used, with --media pictures.",
)
@click.option("--force", is_flag=True, help="Write over an existing file.")
@data_option
@project_option
@json_option
def out_(
    path: Path,
    media: archiving.Media,
    handle: float,
    force: bool,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Write the project to PATH (.kovel.zip where it has no ending)."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    path = path if path.suffix else path.with_name(f"{path.name}.kovel.zip")
    check_folder(path)
    if path.exists() and not force:
        raise Invalid(f"{path} is there already. Choose another name, or add --force.")
    job, done = archiving.start_archive(data_folder, project.id, media, path.resolve(), handle)
    try:
        (ended,) = wait_for(data_folder, [job.id], quiet=as_json)
    except KeyboardInterrupt:
        jobs.end(data_folder.db, job.id, JobState.CANCELLED)
        raise click.ClickException("Stopped. Nothing half made was left behind.") from None
    if not ended.is_done:
        raise Invalid(ended.message or "It was stopped.")
    told_lines = [f"{done.path}: {project.name}, {done.recordings} recordings, {done.media} of them with their files."]
    told_lines += [f"{name} is off-line: its file is not in it." for name in done.missing]
    value = {"path": done.path, "recordings": done.recordings, "media": done.media, "missing": list(done.missing)}
    answer(as_json, value, "\n".join(told_lines))


@archive.command("in")
@click.argument("path", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@data_option
@json_option
def in_(path: Path, folder: Path | None, as_json: bool) -> None:
    """Open an archive as a project of this folder."""
    data_folder = open_data(folder)
    done = archiving.read(data_folder, path.resolve())
    told_lines = [f"{done.name}: {done.recordings} recordings, {done.media} of them brought along."]
    told_lines += [f"{name} is off-line: find it with `kovel relink`." for name in done.missing]
    value = {
        "project": done.project,
        "name": done.name,
        "recordings": done.recordings,
        "media": done.media,
        "missing": list(done.missing),
    }
    answer(as_json, value, "\n".join(told_lines))
