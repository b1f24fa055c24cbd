"""Themes of what is said, what was told twice, and a first radio cut."""

from pathlib import Path

import click

from kovel.cli.common import answer, data_option, json_option, open_data, project_option, the_project, wait_for
from kovel.core.errors import Invalid, Missing
from kovel.core.time.timecode import TimeError, parse_seconds, running
from kovel.core.words.radio_cut import Order
from kovel.data_folder import DataFolder
from kovel.services.log import proposing, sentence_meaning, theming
from kovel.store import recordings


def worked_out(data_folder: DataFolder, project: int, quiet: bool) -> None:
    """Wait until the meaning of everything that is said is there."""
    job = sentence_meaning.work_out(data_folder, project)
    if job:
        (done,) = wait_for(data_folder, [job.id], quiet=quiet)
        if not done.is_done:
            raise Invalid(done.message or "It was stopped.")


@click.command()
@click.option("--anew", is_flag=True, help="Group anew around what was named, moved, merged or split by hand.")
@click.option("--twice", is_flag=True, help="What was told twice, instead.")
@data_option
@project_option
@json_option
def themes(anew: bool, twice: bool, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """What all interviews have in common: their statements grouped by meaning, with how much is said and kept of
    each."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    worked_out(data_folder, project.id, as_json)
    names = {recording.id: recording.name for recording in recordings.of_project(data_folder.db, project.id)}
    if twice:
        retellings = theming.told_twice(data_folder, project.id)
        pair = [
            [
                {
                    "recording": names[spoken.recording],
                    "start": spoken.start / 48000,
                    "end": spoken.end / 48000,
                    "text": spoken.text,
                }
                for spoken in (twice.a, twice.b)
            ]
            for twice in retellings
        ]
        value = [
            {"a": a, "b": pair_row, "alike": round(twice.alike, 3), "better": twice.better}
            for (a, pair_row), twice in zip(pair, retellings, strict=True)
        ]
        text = "\n".join(
            f"{twice.alike:.2f}  {names[twice.a.recording]}: {twice.a.text}\n      {names[twice.b.recording]}: "
            f"{twice.b.text}"
            for twice in retellings
        )
        return answer(as_json, {"pairs": value}, text or "Nothing is told twice.")
    found_themes = theming.listing(data_folder, project.id)
    if anew or not found_themes:
        found_themes = theming.group(data_folder, project.id)
    told_themes = [
        {
            "id": theme.id,
            "name": theme.name,
            "aside": theme.aside,
            "said": theme.said / 48000,
            "kept": theme.kept / 48000,
            "statements": [
                {
                    "recording": names[shown.statement.recording],
                    "start": shown.statement.start / 48000,
                    "end": shown.statement.end / 48000,
                    "speaker": shown.statement.speaker,
                    "text": shown.statement.text,
                }
                for shown in theme.shown
            ],
        }
        for theme in found_themes
    ]
    lines = []
    for theme in found_themes:
        lines.append(
            f"{theme.id:>4}  {theme.name}{' (set aside)' if theme.aside else ''}: {theme.said / 48000:.0f} s said, "
            f"{theme.kept / 48000:.0f} s kept"
        )
        for shown in theme.shown:
            at = running(project.rate.sample_to_frame(shown.statement.start), project.rate)
            lines.append(f"        {names[shown.statement.recording]}  {at}  {shown.statement.text[:90]}")
    return answer(as_json, {"themes": told_themes}, "\n".join(lines))


@click.command()
@click.option("--length", required=True, help="How long it should be: 2m, 90s, 1m30s.")
@click.option(
    "--theme", "chosen", multiple=True, help="A theme, by name or number (default: all that are not set aside)."
)
@click.option("--order", type=click.Choice(["theme", "time"]), default="theme", show_default=True)
@data_option
@project_option
@json_option
def propose(
    length: str, chosen: tuple[str, ...], order: Order, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """A first radio cut to judge: whole sentences, nothing told twice, as a new story beside the others."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    try:
        seconds = float(parse_seconds(length, project.rate))
    except TimeError as error:
        raise Invalid(str(error)) from None
    worked_out(data_folder, project.id, as_json)
    found_themes = theming.listing(data_folder, project.id) or theming.group(data_folder, project.id)
    ids = []
    for name in chosen:
        named_themes = [theme for theme in found_themes if name in (str(theme.id), theme.name)]
        if not named_themes:
            raise Missing(f"There is no theme called {name}. `kovel themes` shows them.")
        ids.append(named_themes[0].id)
    done = proposing.propose(data_folder, project.id, seconds, ids, order)
    value = {
        "story": done.story,
        "name": done.name,
        "frames": done.length,
        "seconds": float(done.length / project.rate.fps),
        "why": list(done.why),
    }
    answer(
        as_json,
        value,
        "\n".join([f"{done.name}: story {done.story}, {float(done.length / project.rate.fps):.1f} s", *done.why]),
    )
