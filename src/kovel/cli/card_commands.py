"""Cards and recorders: listed, copied with checksums, verified."""

from pathlib import Path

import click

from kovel.cli.common import answer, data_option, json_option, open_data, project_option, the_project, wait_for
from kovel.core.errors import Invalid
from kovel.demo.cards import MADE_UP, plug_in, pull_out
from kovel.services.footage import camera_cards
from kovel.store import jobs
from kovel.store.jobs import JobState


@click.group()
def card() -> None:
    """Camera cards and sound recorders: a made-up one of each ships with Kovel; any folder is taken the same way."""


@card.command("list")
@data_option
@project_option
@json_option
def list_(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """What is plugged in, and what of it is here already."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    listed_cards = camera_cards.listing(data_folder, project.id)
    value = [
        {
            "name": camera_card.name,
            "folder": str(camera_card.folder),
            "files": [{"path": file.path, "bytes": file.size, "taken": file.taken} for file in camera_card.files],
        }
        for camera_card in listed_cards
    ]
    told_lines = [
        told_line
        for camera_card in listed_cards
        for told_line in (
            f"{camera_card.name}  {len(camera_card.files)} files",
            *(
                f"  {file.path}  {file.size} bytes{f'  is {file.taken}' if file.taken else ''}"
                for file in camera_card.files
            ),
        )
    ]
    answer(
        as_json,
        {"cards": value},
        "\n".join(told_lines) or f"No card is plugged in. `kovel card in NAME` plugs one in: {', '.join(MADE_UP)}.",
    )


@card.command("in")
@click.argument("name", type=click.Choice(list(MADE_UP)))
@click.option("--failing", is_flag=True, help="It can be read to its middle only.")
@data_option
@json_option
def in_(name: str, failing: bool, folder: Path | None, as_json: bool) -> None:
    """Plug in a made-up card."""
    at = plug_in(open_data(folder), name, failing)
    answer(as_json, {"folder": str(at)}, f"{name} is plugged in: {at}")


@card.command("out")
@click.argument("name", type=click.Choice(list(MADE_UP)))
@data_option
@json_option
def out_(name: str, folder: Path | None, as_json: bool) -> None:
    """Pull a made-up card out."""
    pull_out(open_data(folder), name)
    answer(as_json, {"name": name}, f"{name} is pulled out.")


@card.command()
@click.argument("name")
@click.option("--file", "files", multiple=True, help="A file of it (default: all that are not here yet).")
@click.option("--to", type=click.Path(path_type=Path), help="Folder to copy to (default: in the data folder).")
@data_option
@project_option
@json_option
def copy(
    name: str, files: tuple[str, ...], to: Path | None, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """Copy a card (its name, or a folder) with checksums, verify it, bring it in. A copy that broke off is gone on
    with."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    job = camera_cards.start_copy(
        data_folder,
        project.id,
        camera_cards.find(data_folder, project.id, name),
        list(files) or None,
        to and to.resolve(),
    )
    try:
        (done,) = wait_for(data_folder, [job.id], quiet=as_json)
    except KeyboardInterrupt:
        jobs.end(data_folder.db, job.id, JobState.CANCELLED)
        raise click.ClickException("Stopped. What was copied whole stays.") from None
    if not done.is_done or done.result is None:
        raise Invalid(done.message or "The copy was stopped.")
    result = done.result
    told_lines = [
        f"{len(result['copied']) - len(result['before'])} files copied and verified to {result['folder']}, "
        f"{len(result['before'])} were there already.",
        done.message,
    ]
    answer(as_json, result, "\n".join(told_line for told_line in told_lines if told_line))


@card.command()
@click.argument("folder_copied", metavar="DIR", type=click.Path(path_type=Path))
@json_option
def verify(folder_copied: Path, as_json: bool) -> None:
    """Read a copied folder again and hold it against its manifest (ASC MHL)."""
    good, wrong = camera_cards.verify(folder_copied)
    if wrong:
        raise Invalid("\n".join([*wrong, f"{good} files are as they were copied."]))
    answer(as_json, {"verified": good}, f"{good} files are as they were copied.")
