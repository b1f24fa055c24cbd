"""What every command shares: the data folder, finding things by name, answers, waiting for jobs."""

import json
import sys
import time
from pathlib import Path
from typing import Any

import click

from kovel.core.rate import Rate
from kovel.core.story import Refused
from kovel.core.timecode import TimeError, parse_entry
from kovel.media.files import Unusable
from kovel.store import jobs, projects, recordings
from kovel.store.projects import Invalid, Missing
from kovel.store.recordings import Recording
from kovel.store.stories import Stale
from kovel.work.data import Data, default_folder
from kovel.work.foreman import Foreman

KNOWN = (Invalid, Missing, Refused, Stale, Unusable, TimeError)


class Group(click.Group):
    """Errors of ours are told in one line; nothing an editor types brings a traceback."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except KNOWN as e:
            raise click.ClickException(str(e)) from None


data_option = click.option(
    "--data", "folder", type=click.Path(path_type=Path), help="Data folder (default: $KOVEL_DATA or the user's data directory)."
)
json_option = click.option("--json", "as_json", is_flag=True, help="Answer as JSON.")
project_option = click.option("--project", "-p", "project_name", help="Project, by name or number (default: the only one).")


def open_data(folder: Path | None) -> Data:
    return Data(folder or default_folder())


def the_project(data: Data, name: str | None) -> projects.Project:
    if name:
        return projects.find(data.db, name)
    rows = [p for p in projects.listing(data.db) if not p.archived]
    if len(rows) == 1:
        return rows[0]
    raise Missing(
        "Say which project: --project NAME. `kovel list` shows them."
        if rows
        else "There is no project yet. `kovel import --new NAME FILE...` makes one."
    )


def answer(as_json: bool, value: Any, text: str) -> None:
    click.echo(json.dumps(value, ensure_ascii=False) if as_json else text)


def the_recording(data: Data, project: int, name: str) -> Recording:
    for r in recordings.of_project(data.db, project):
        if name in (r.name, str(r.id), Path(r.path).name):
            return r
    raise Missing(f"There is no recording called {name} in this project. `kovel list` shows them.")


def wait_for(data: Data, ids: list[int], quiet: bool = False, most: float = float("inf")) -> list[jobs.Job]:
    """Until these jobs are over, or `most` seconds have passed. If no running Kovel looks after the folder, this process does meanwhile."""
    foreman = Foreman(data)
    own = foreman.start()
    end = time.monotonic() + most
    try:
        while True:
            rows = [jobs.get(data.db, i) for i in ids]
            if not quiet and sys.stderr.isatty():
                left = max((j.seconds_left or 0 for j in rows), default=0)
                click.echo(
                    f"\r{sum(j.progress for j in rows) / max(1, len(rows)):.0%}{f', {left} s left' if left else ''}   ",
                    nl=False,
                    err=True,
                )
            if all(j.state in ("done", "failed", "cancelled") for j in rows) or time.monotonic() > end:
                if not quiet and sys.stderr.isatty():
                    click.echo("\r", nl=False, err=True)
                return rows
            time.sleep(0.1)
            if not own:
                own = foreman.start()  # the server may have ended meanwhile
    finally:
        if own:
            foreman.stop()


def typed(text: str, rate: Rate, now: int = 0) -> int:
    return parse_entry(text, rate, now=now)
