"""The Picture room's actions from the command line."""

from pathlib import Path

import click

from kovel.cli.common import answer, open_data, the_project, the_recording
from kovel.cli.story_commands import story_options, tell
from kovel.services.picture import face_framing, look_tables
from kovel.services.story import closest_poses
from kovel.store import stories


@click.group()
def picture() -> None:
    """How it looks: faces, jumps, another shape, colours matched, tables. Single settings: kovel story set."""


@picture.command("faces")
@click.argument("items", nargs=-1, type=int, required=True)
@story_options
def faces(items: tuple[int, ...], folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Frame these pieces and covers (by number) on the speaker's face."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    story_id = stories.current(data_folder.db, project.id)
    asked_edit = face_framing.sit_on_faces(
        data_folder, project.id, stories.load(data_folder.db, story_id).story, list(items)
    )
    tell(data_folder, as_json, *stories.edit(data_folder.db, story_id, None, *asked_edit))


@picture.command("punch")
@click.option("--zoom", default=125.0, help="Percent.")
@story_options
def punch(zoom: float, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Punch in on every second exposed jump, on the face."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    story_id = stories.current(data_folder.db, project.id)
    asked_edit, _ = face_framing.punch_in(data_folder, project.id, stories.load(data_folder.db, story_id).story, zoom)
    tell(data_folder, as_json, *stories.edit(data_folder.db, story_id, None, *asked_edit))


@picture.command("poses")
@click.option("--dry", is_flag=True, help="Only tell what it would do.")
@story_options
def poses(dry: bool, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Move exposed jumps to the frames within the pauses beside them that differ least."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    story_id = stories.current(data_folder.db, project.id)
    asked_edit, would = closest_poses.all_poses(data_folder, project.id, stories.load(data_folder.db, story_id).story)
    if dry:
        return answer(as_json, {"did": would.did, "notes": list(would.notes)}, "\n".join([would.did, *would.notes]))
    return tell(data_folder, as_json, *stories.edit(data_folder.db, story_id, None, *asked_edit))


@picture.command("shape")
@click.argument("shape")
@story_options
def shape(shape: str, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """This story in another shape (9:16, 4:5, 1:1, 16:9), as a story of its own."""
    data_folder = open_data(folder)
    story_id, summary = face_framing.other_shape(data_folder, the_project(data_folder, project_name).id, shape)
    answer(as_json, {"story": story_id, "did": summary}, f"{summary}.")


@picture.command("match")
@click.argument("recording")
@click.argument("other")
@story_options
def match(recording: str, other: str, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Give RECORDING the colours of OTHER."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    summary, table = look_tables.match(
        data_folder, *(the_recording(data_folder, project.id, name).id for name in (recording, other))
    )
    answer(as_json, {"did": summary, "table": table}, f"{summary}.")


@picture.command("table")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@story_options
def table(file: Path, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Take in a .cube table; then: kovel story set piece=4 table=NAME, or kovel set RECORDING table=NAME."""
    data_folder = open_data(folder)
    name = look_tables.take_in_table(data_folder, file.name, file.read_bytes()[: look_tables.LARGEST + 1])
    answer(as_json, {"name": name}, f"Kept as {name}.")
