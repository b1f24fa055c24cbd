"""Renders and open formats."""

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
    write_out,
)  # fmt: skip
from kovel.store import jobs, recordings, stories
from kovel.work.intake import start_render


@click.command()
@click.option("--out", type=click.Path(path_type=Path), help="File to write (default: in the data folder).")
@click.option("--quality", default="high", help="high or small.", show_default=True)
@click.option("--force", is_flag=True, help="Write over an existing file.")
@data_option
@project_option
@json_option
def render(out: Path | None, quality: str, force: bool, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Render the story to MP4."""
    data = open_data(folder)
    p = the_project(data, project_name)
    if out:
        check_folder(out)
    if out and out.exists() and not force:
        raise click.ClickException(f"{out} is there already. Choose another name, or add --force.")
    job = start_render(data, stories.current(data.db, p.id), quality, out.resolve() if out else None)
    try:
        (done,) = wait_for(data, [job.id], quiet=as_json)
    except KeyboardInterrupt:
        jobs.end(data.db, job.id, "cancelled")
        raise click.ClickException("Stopped. Nothing half made was left behind.") from None
    if done.state != "done" or done.result is None:
        raise click.ClickException(done.message or "The render was stopped.")
    answer(as_json, done.result, f"{done.result['path']}: {done.result['frames']} frames, {done.result['bytes'] / 1e6:.1f} MB")


@click.command()
@click.argument("kind", type=click.Choice(["otio", "edl"]))
@click.option("--out", type=click.Path(path_type=Path), help="File to write (default: standard output).")
@data_option
@project_option
@json_option
def export(kind: str, out: Path | None, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """The story as OpenTimelineIO or EDL."""
    import opentimelineio as otio

    from kovel.exchange.story import to_edl, to_otio

    data = open_data(folder)
    p = the_project(data, project_name)
    kept = stories.load(data.db, stories.current(data.db, p.id))
    rows = {r.id: r for r in recordings.of_project(data.db, p.id)}
    make = to_edl if kind == "edl" else lambda *a: otio.adapters.write_to_string(to_otio(*a), "otio_json")
    body = make(kept.story, kept.name, p, rows)
    write_out(out, body, as_json, kind=kind)
