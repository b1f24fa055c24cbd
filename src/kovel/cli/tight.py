"""Tightening from the command line."""

from pathlib import Path
from typing import Any

import click

from kovel.cli.common import answer, data_option, json_option, open_data, project_option, the_project, the_recording
from kovel.core.errors import Invalid
from kovel.core.sound.pauses import Settings
from kovel.core.words.fillers import PROPOSAL_KINDS
from kovel.services.tighten import proposals as work
from kovel.store import stories
from kovel.store.decisions import Desk


def _kinds_named(text: str) -> list[str]:
    names = [name.strip() for name in text.split(",") if name.strip()]
    if unknown := [name for name in names if name not in PROPOSAL_KINDS]:
        raise Invalid(f"There is no kind called {unknown[0]}. The kinds are: {', '.join(PROPOSAL_KINDS)}.")
    return names


@click.command()
@click.argument("recordings", nargs=-1, required=True)
@click.option(
    "--kinds",
    default="pause,filler,repeat,false start",
    help=f"What goes: {', '.join(PROPOSAL_KINDS)}.",
    show_default=True,
)
@click.option(
    "--min",
    "shortest",
    default=0.3,
    type=click.FloatRange(0.02, 60),
    help="Shortest pause, seconds.",
    show_default=True,
)
@click.option(
    "--pad-before",
    default=0.08,
    type=click.FloatRange(0, 10),
    help="Air left before speech, seconds.",
    show_default=True,
)
@click.option(
    "--pad-after", default=0.12, type=click.FloatRange(0, 10), help="Air left after speech, seconds.", show_default=True
)
@click.option(
    "--in-place",
    is_flag=True,
    help="Take it out where the story uses these recordings, instead of adding pieces at the end.",
)
@click.option("--dry", is_flag=True, help="Only say what would come of it.")
@data_option
@project_option
@json_option
def tighten(
    recordings: tuple[str, ...],
    kinds: str,
    shortest: float,
    pad_before: float,
    pad_after: float,
    in_place: bool,
    dry: bool,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Make pieces of RECORDINGS without their pauses, fillers and false starts: one undo step in the story."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    wanted = _kinds_named(kinds)
    story_id = stories.current(data_folder.db, project.id)
    story = stories.load(data_folder.db, story_id).story
    before, ranges, cuts, desks = 0, [], [], []
    for name in recordings:
        recording = the_recording(data_folder, project.id, name)
        desk = Desk(
            Settings(shortest, pad_before, pad_after), kinds_off=[kind for kind in PROPOSAL_KINDS if kind not in wanted]
        )
        proposal_rows = work.rows(data_folder, recording.id, project.rate, desk)
        if in_place:
            cuts += work.in_story(data_folder, story, recording.id, desk)
        desks.append((recording.id, desk))
        pieces = work.left(proposal_rows, 0, recording.length(project.rate))
        before += recording.length(project.rate)
        ranges += [[recording.id, start, end - start] for start, end in pieces]
    after = sum(n for _, _, n in ranges)
    value = {"pieces": len(ranges), "before": before, "after": after, "saved": before - after, "cuts": len(cuts)}
    summary = "Nothing was changed."
    if not dry:
        if in_place and not cuts:
            raise Invalid("Nothing of what would be taken out stands in the story.")
        asked_edit: tuple[str, dict[str, Any]] = ("insert_several", {"at": story.length, "ranges": ranges})
        if in_place:
            asked_edit = ("take_out", {"cuts": sorted(cuts)})
        summary = stories.edit(data_folder.db, story_id, None, *asked_edit)[1].did
        for recording_id, desk in desks if in_place else []:
            work.put(data_folder, recording_id, desk)
    seconds = [float(padding / project.rate.fps) for padding in (before, after)]
    answer(as_json, value, f"{summary} {seconds[0]:.1f} s before, {seconds[1]:.1f} s after, {len(ranges)} pieces.")
