"""The log: ranges kept, taken from CSV, given out."""

import sys
from pathlib import Path

import click
import opentimelineio as otio

from kovel.cli.common import (
    Group,
    answer,
    data_option,
    json_option,
    open_data,
    project_option,
    the_project,
    the_recording,
    typed,
    write_out,
)
from kovel.exchange.log_formats import from_csv, to_csv, to_otio
from kovel.services.log.log_rows import log_lines
from kovel.services.received_files import text_of
from kovel.store import markers, recordings, subclips


@click.group(cls=Group)
def log() -> None:
    """The log: add, import, export."""


@log.command()
@click.argument("recording")
@click.argument("start")
@click.argument("end")
@click.option("--name", default="")
@click.option("--note", default="")
@click.option("--tags", default="", help="With commas between.")
@click.option("--verdict", default="keep", help="keep, maybe or drop.", show_default=True)
@data_option
@project_option
@json_option
def add(
    recording: str,
    start: str,
    end: str,
    name: str,
    note: str,
    tags: str,
    verdict: str,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Keep START to END of a recording as a subclip. Times as typed: 3:15, 1.5s, 00:00:03:15; END may be +12."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    this_recording = the_recording(data_folder, project.id, recording)
    frame = typed(start, project.rate)
    subclip = subclips.add(
        data_folder.db,
        this_recording.id,
        frame,
        typed(end, project.rate, frame),
        name=name,
        note=note,
        tags=tags,
        verdict=verdict,
    )
    value = {
        "id": subclip.id,
        "name": subclip.name,
        "recording": this_recording.id,
        "start": subclip.start,
        "length": subclip.length,
    }
    answer(as_json, value, f"Kept “{subclip.name}” as number {subclip.id}.")


@log.command("import")
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@data_option
@project_option
@json_option
def import_(file: Path, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Take a CSV log with the columns recording, in, out (and name, note, tags, verdict); rows that don't fit are
    told."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    new, left_out = from_csv(
        text_of(file.name, file.read_bytes()), recordings.of_project(data_folder.db, project.id), project.rate
    )
    new_subclips = subclips.add_all(data_folder.db, project.id, new, f"log taken from {file.name}") if new else []
    answer(
        as_json,
        {"kept": [subclip.id for subclip in new_subclips], "refused": left_out},
        "\n".join([f"{len(new_subclips)} subclips taken.", *left_out]),
    )
    if not new_subclips:
        sys.exit(1)


@log.command()
@click.argument("kind", type=click.Choice(["csv", "otio"]))
@click.option("--out", type=click.Path(path_type=Path), help="File to write (default: standard output).")
@data_option
@project_option
def export(kind: str, out: Path | None, folder: Path | None, project_name: str | None) -> None:
    """The log as CSV, or as OpenTimelineIO with markers."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project.id)}
    clips = subclips.of_project(data_folder.db, project.id)
    if kind == "csv":
        body = to_csv(log_lines(data_folder, project.id), project.rate)
    else:
        marked = {log_row: markers.of_recording(data_folder.db, log_row) for log_row in recordings_by_id}
        body = otio.adapters.write_to_string(
            to_otio("log", project, list(recordings_by_id.values()), clips, marked), "otio_json"
        )
    write_out(out, body)
