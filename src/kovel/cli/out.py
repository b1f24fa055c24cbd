"""Outputs and open formats."""

import signal
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import click

from kovel.cli.common import (
    answer,
    check_folder,
    data_option,
    json_option,
    open_data,
    project_option,
    the_project,
    typed,
    wait_for,
    write_out,
)
from kovel.core.errors import Invalid
from kovel.core.plan.outputs import OUTPUT_KINDS, Output
from kovel.core.story.settings import SHAPES
from kovel.core.time.rate import Rate
from kovel.exchange.caption_formats import CAPTION_FORMATS
from kovel.exchange.documents import DOCUMENTS, to_csv
from kovel.exchange.timelines import TIMELINES
from kovel.media.whole_files import written_whole
from kovel.services.handoff.rendering import ready, start_output
from kovel.store import jobs, recordings, stories
from kovel.store.jobs import JobState


@click.command()
@click.option(
    "--out", type=click.Path(path_type=Path), help="File to write, or folder of stems (default: in the data folder)."
)
@click.option("--kind", default=None, help=f"{', '.join(OUTPUT_KINDS)} (default: mp4).")
@click.option(
    "--as", "choice", help="A ready-made choice by its name: web, upright, archive, review or one of your own."
)
@click.option("--quality", help="high or small (default: high).")
@click.option("--shape", help=f"{', '.join(shape for shape in SHAPES if SHAPES[shape])} (default: the story's).")
@click.option("--height", type=int, help="Lines of the picture, 120 to 4320 (default: the project's).")
@click.option("--rate", "fps", help="Frames a second, such as 25, 29.97 or 30000/1001 (default: the project's).")
@click.option("--from", "start", help="Where it begins, as a time of the story (default: its beginning).")
@click.option("--to", "end", help="Where it ends (default: its end).")
@click.option("--captions", is_flag=True, default=None, help="Burn the captions in.")
@click.option("--force", is_flag=True, help="Write over an existing file.")
@data_option
@project_option
@json_option
def render(
    out: Path | None,
    kind: str | None,
    choice: str | None,
    quality: str | None,
    shape: str | None,
    height: int | None,
    fps: str | None,
    start: str | None,
    end: str | None,
    captions: bool | None,
    force: bool,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Make a file of the story: a film, its sound, stems, a still. PATH without an ending gets the kind's."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    output = _choice(ready(data_folder), choice) if choice else Output()
    given: dict[str, Any] = {"kind": kind, "quality": quality, "shape": shape, "height": height, "captions": captions}
    output = replace(output, **{name: value for name, value in given.items() if value is not None})
    if fps:
        output = replace(output, rate=_rate(fps))
    if start:
        output = replace(output, start=typed(start, project.rate))
    if end:
        output = replace(output, end=typed(end, project.rate))
    if out and output.kind in OUTPUT_KINDS:
        out = _place(out, output.kind, force)
    job = start_output(data_folder, stories.current(data_folder.db, project.id), output, out)
    for ended in (signal.SIGTERM, signal.SIGHUP):  # whatever ends the command ends its render
        signal.signal(ended, signal.default_int_handler)
    try:
        (done,) = wait_for(data_folder, [job.id], quiet=as_json)
    except KeyboardInterrupt:
        jobs.end(data_folder.db, job.id, JobState.CANCELLED)
        raise click.ClickException("Stopped. Nothing half made was left behind.") from None
    if not done.is_done or done.result is None:
        raise click.ClickException(done.message or "The render was stopped.")
    for differs in done.result.get("differs", []) if not as_json else []:
        click.echo(f"The file differs from the story, {differs}", err=True)
    answer(
        as_json,
        done.result,
        f"{done.result['path']}: {done.result['frames']} frames, {done.result['bytes'] / 1e6:.1f} MB",
    )


def _choice(outputs_by_name: dict[str, Output], name: str) -> Output:
    named_outputs = [
        output
        for key, output in outputs_by_name.items()
        if name.casefold() in (key.casefold(), key.casefold().removeprefix("for the "))
    ]
    if not named_outputs:
        raise Invalid(f"There is no choice called {name}. There are: {', '.join(outputs_by_name)}.")
    return named_outputs[-1]


def _rate(text: str) -> Rate:
    try:
        fraction = Fraction(text.replace(",", "."))
    except (ValueError, ZeroDivisionError):
        raise Invalid(f"“{text}” is no rate of frames. Type one like 25 or 29.97.") from None
    return (
        Rate.nearest(fraction)
        if abs(Rate.nearest(fraction).fps - fraction) < Fraction(1, 100)
        else Rate(*fraction.limit_denominator(1001).as_integer_ratio())
    )


def _place(out: Path, kind: str, force: bool) -> Path:
    """Where it is written; refused before anything is worked out."""
    ending = OUTPUT_KINDS[kind].ending
    if kind == "stems":
        if not out.resolve().parent.is_dir():
            raise Invalid(f"There is no folder {out.resolve().parent}. Make it first, or name another one.")
        if out.is_file() or (out.is_dir() and any(out.glob("*.wav")) and not force):
            raise click.ClickException(f"{out} is there already. Choose another name, or add --force.")
        return out.resolve()
    if not out.suffix:
        out = out.with_name(out.name + ending)
    elif out.suffix.lower() != ending and out.suffix.lower() in {kind.ending for kind in OUTPUT_KINDS.values()}:
        raise Invalid(
            f"{out.name} says {out.suffix}, but this kind is written as {ending}. Name it {out.stem}{ending}."
        )
    check_folder(out)
    if out.exists() and not force:
        raise click.ClickException(f"{out} is there already. Choose another name, or add --force.")
    return out.resolve()


@click.command()
@click.argument("kind", type=click.Choice(list(TIMELINES)))
@click.option("--out", type=click.Path(path_type=Path), help="File to write (default: standard output).")
@data_option
@project_option
@json_option
def export(kind: str, out: Path | None, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """The story as OpenTimelineIO or EDL."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    kept_story = stories.load(data_folder.db, stories.current(data_folder.db, project.id))
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project.id)}
    write_out(
        out, TIMELINES[kind].write(kept_story.story, kept_story.name, project, recordings_by_id), as_json, kind=kind
    )


@click.command()
@click.option("--format", "kind", type=click.Choice(list(CAPTION_FORMATS)), default="vtt", show_default=True)
@click.option("--out", type=click.Path(path_type=Path), help="File to write (default: standard output).")
@click.option("--chars", type=click.IntRange(20, 80), default=37, show_default=True, help="Letters a line.")
@click.option(
    "--in",
    "file",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    help="A .vtt or .srt file to stand instead.",
)
@click.option("--words", is_flag=True, help="Follow the words again, after a file.")
@data_option
@project_option
@json_option
def captions(
    kind: str,
    out: Path | None,
    chars: int,
    file: Path | None,
    words: bool,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Captions of the story, from its words or from a file; chapters from its headings."""
    from kovel.services.handoff.captioning import bring, caption_file, too_fast
    from kovel.store import caption_rows as kept_captions

    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    kept_story = stories.load(data_folder.db, stories.current(data_folder.db, project.id))
    if file or words:
        n, notes = bring(data_folder, kept_story, file.name, file.read_bytes()) if file else (0, [])
        if not file:
            kept_captions.bring(data_folder.db, kept_story.id, "", None)
        summary = f"{n} captions brought in." if file else "The captions follow the words again."
        answer(as_json, {"captions": n, "notes": notes}, "\n".join([summary, *notes]))
        return
    format = CAPTION_FORMATS[kind]
    body, cue_rows = caption_file(data_folder, kept_story, format, chars)
    if format.is_chapters:
        write_out(out, body, as_json, kind=kind)
        return
    if not cue_rows:
        raise Invalid("There are no captions: nothing that is said in the story is transcribed.")
    write_out(
        out,
        body,
        as_json,
        kind=kind,
        captions=len(cue_rows),
        hard=sum(bool(too_fast(cue, project.rate)) for cue in cue_rows),
    )


@click.command()
@click.argument("kind", type=click.Choice(list(DOCUMENTS)))
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    help="CSV, or PDF by its ending, to write (default: CSV to standard output).",
)
@data_option
@project_option
@json_option
def papers(kind: str, out: Path | None, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Papers of the story as CSV or PDF: the paper cut, shots, the cue sheet of the music, what is used by tape,
    what to look at."""
    from kovel.services.handoff.story_documents import document, pdf_of

    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    kept_story = stories.load(data_folder.db, stories.current(data_folder.db, project.id))
    if out and out.suffix.lower() == ".pdf":
        check_folder(out)
        this_document, body = pdf_of(data_folder, kept_story, kind)
        with written_whole(out) as part_file:
            part_file.write_bytes(body)
        answer(as_json, {"path": str(out), "kind": kind, "rows": len(this_document.rows)}, f"{out} written.")
        return
    this_document = document(data_folder, kept_story, kind)
    write_out(out, to_csv(this_document), as_json, kind=kind, rows=len(this_document.rows))
