"""What every command shares: the data folder, finding things by name, answers, waiting for jobs."""

import atexit
import json
import sqlite3
import sys
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, TypeVar

import click

from kovel.core.errors import Invalid, Missing, Told
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import parse_entry
from kovel.data_folder import DataFolder, default_folder
from kovel.media.whole_files import written_whole
from kovel.services.job_kinds import scheduler_for
from kovel.store import jobs, projects, recordings, subclips
from kovel.store.db import in_words
from kovel.store.recordings import Recording
from kovel.store.subclips import Subclip

T = TypeVar("T")


class Refusal(click.ClickException):
    """One line on the standard error, and the exit code of what was refused."""

    def __init__(self, told: Told) -> None:
        super().__init__(str(told))
        self.code = told.exit_code

    def show(self, file: Any = None) -> None:
        """Prints what was refused and ends with its code."""
        super().show(file)
        sys.exit(self.code)


class Group(click.Group):
    """Errors of ours are told in one line; nothing an editor types brings a traceback."""

    def invoke(self, ctx: click.Context) -> Any:
        """Runs a command; what Kovel refuses is said in words, without a traceback."""
        try:
            return super().invoke(ctx)
        except Told as error:
            raise Refusal(error) from None
        except (sqlite3.Error, OSError) as error:
            told_words = in_words(error)
            raise (Refusal(told_words) if told_words else error) from None


data_option = click.option(
    "--data",
    "folder",
    type=click.Path(path_type=Path),
    help="Data folder (default: $KOVEL_DATA or the user's data directory).",
)
json_option = click.option("--json", "as_json", is_flag=True, help="Answer as JSON.")
project_option = click.option(
    "--project", "-p", "project_name", help="Project, by name or number (default: the only one)."
)


def open_data(folder: Path | None) -> DataFolder:
    data_folder = DataFolder(folder or default_folder())
    atexit.register(data_folder.db.close)
    return data_folder


def the_project(data_folder: DataFolder, name: str | None) -> projects.Project:
    if name:
        return projects.find(data_folder.db, name)
    open_projects = [project for project in projects.listing(data_folder.db) if not project.archived]
    if len(open_projects) == 1:
        return open_projects[0]
    raise Missing(
        "Say which project: --project NAME. `kovel list` shows them."
        if open_projects
        else "There is no project yet. `kovel import --new NAME FILE...` makes one."
    )


def answer(as_json: bool, value: Any, text: str) -> None:
    click.echo(json.dumps(value, ensure_ascii=False) if as_json else text)


def the_recording(data_folder: DataFolder, project: int, name: str) -> Recording:
    all_recordings = recordings.of_project(data_folder.db, project)
    recordings_found = [recording for recording in all_recordings if str(recording.id) == name] or [
        recording for recording in all_recordings if name in (recording.name, Path(recording.path).name)
    ]
    return only(recordings_found, name, "recording", lambda r: f"{r.id} ({r.path})")


def the_subclip(data_folder: DataFolder, project: int, name: str) -> Subclip:
    all_subclips = subclips.of_project(data_folder.db, project)
    names = {recording.id: recording.name for recording in recordings.of_project(data_folder.db, project)}
    subclips_found = [subclip for subclip in all_subclips if str(subclip.id) == name] or [
        subclip for subclip in all_subclips if subclip.name == name
    ]
    return only(subclips_found, name, "subclip", lambda c: f"{c.id} (in {names[c.recording]})")


def only(found: Sequence[T], name: str, what: str, told: Callable[[T], str]) -> T:
    """The one thing of a name; `Missing` if there is none, `Invalid`, with the number of each, if there are several."""
    if not found:
        raise Missing(f"There is no {what} called {name} in this project. `kovel list --project ...` shows them.")
    if len(found) > 1:
        raise Invalid(
            f"{len(found)} {what}s are called {name}. Say which by its number: {', '.join(map(told, found))}."
        )
    return found[0]


def write_out(out: Path | None, body: str, as_json: bool = False, **value: Any) -> None:
    """A text into a file, or (`-`, or none named) to standard output."""
    if out is None or str(out) == "-":
        click.echo(body, nl=False)
        return
    check_folder(out)
    with written_whole(out) as part_file:
        part_file.write_text(body)
    answer(as_json, {"path": str(out), **value}, f"{out} written.")


def check_folder(out: Path) -> None:
    """Refuse to write where there is no folder, before anything is worked out."""
    if not out.resolve().parent.is_dir():
        raise Invalid(f"There is no folder {out.resolve().parent}. Make it first, or name another one.")
    if out.is_dir():
        raise Invalid(f"{out} is a folder. Name a file in it.")


def _how_far(all_jobs: Sequence[jobs.Job]) -> str:
    seconds_left = max((job.seconds_left or 0 for job in all_jobs), default=0)
    share = sum(job.progress for job in all_jobs) / max(1, len(all_jobs))
    return f"{share:.0%}{f', {seconds_left} s left' if seconds_left else ''}   "


def wait_for(
    data_folder: DataFolder, ids: list[int], quiet: bool = False, most: float = float("inf")
) -> list[jobs.Job]:
    """Until these jobs are over, or `most` seconds have passed. If no running Kovel looks after the folder, this
    process does meanwhile."""
    scheduler = scheduler_for(data_folder)
    is_own_scheduler = scheduler.start()
    end = time.monotonic() + most
    try:
        while True:
            waited_for = [jobs.get(data_folder.db, job_id) for job_id in ids]
            is_over = not any(job.is_open for job in waited_for) or time.monotonic() > end
            if not quiet and sys.stderr.isatty():
                click.echo(f"\r{'' if is_over else _how_far(waited_for)}", nl=False, err=True)
            if is_over:
                return waited_for
            time.sleep(0.1)
            if not is_own_scheduler:
                is_own_scheduler = scheduler.start()  # the server may have ended meanwhile
    finally:
        if is_own_scheduler:
            scheduler.stop()


def typed(text: str, frame_rate: Rate, now: int = 0) -> int:
    return parse_entry(text, frame_rate, now=now)
