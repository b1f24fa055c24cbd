"""Recordings found again, and held against what was brought in."""

from pathlib import Path

import click

from kovel.cli.common import answer, data_option, json_option, open_data, project_option, the_project, wait_for
from kovel.services.footage import relinking, verifying


@click.command()
@click.argument("folder_to_search", metavar="DIR", type=click.Path(path_type=Path, exists=True, file_okay=False))
@click.option(
    "--better", is_flag=True, help="Let files of the same name, length and timecode take the place of recordings."
)
@data_option
@project_option
@json_option
def relink(folder_to_search: Path, better: bool, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Find recordings that are off-line in DIR and all below it: by checksum, whatever they are called now."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    (job,) = wait_for(
        data_folder, [relinking.search(data_folder, project.id, folder_to_search.resolve(), better).id], quiet=as_json
    )
    if not job.is_done or job.result is None:
        raise click.ClickException(job.message or "The search was stopped.")
    done = relinking.Found.of(job.result)
    told_lines = [f"{name}: {path}" for name, path in (*done.again, *done.better)]
    told_lines += [f"{name} is still off-line." for name in done.missing]
    value = {
        "found": dict(done.again),
        "better": dict(done.better),
        "missing": list(done.missing),
        "left": list(done.left),
    }
    answer(as_json, value, "\n".join([*told_lines, *done.left, f"{done.said[0].upper()}{done.said[1:]}."]))


@click.command()
@data_option
@project_option
@json_option
def verify(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Read every recording again: whether it is, byte for byte, what was brought in."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    (job,) = wait_for(data_folder, [verifying.verify(data_folder, project.id).id], quiet=as_json)
    if not job.is_done or job.result is None:
        raise click.ClickException(job.message or "It was stopped.")
    answer(as_json, job.result, job.message)
    if job.result["changed"] or job.result["unread"]:
        raise SystemExit(1)
