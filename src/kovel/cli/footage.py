"""Recordings, their log and their words."""

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from kovel.cli.common import (
    answer,
    data_option,
    json_option,
    open_data,
    project_option,
    the_project,
    the_recording,
    wait_for,
    write_out,
)
from kovel.core.errors import Invalid, Missing
from kovel.core.story.settings import SETTINGS
from kovel.core.time.timecode import running
from kovel.data_folder import DataFolder
from kovel.exchange.timelines import TIMELINES
from kovel.services.footage.intake import bring_in_all, files_in
from kovel.services.log.transcription import take_words, transcript
from kovel.services.received_files import text_of
from kovel.services.sound.derived_sounds import set_on_recording
from kovel.store import jobs, projects, recordings, stories, subclips, transcripts


@click.command("list")
@data_option
@project_option
@json_option
def list_(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Projects; with --project its recordings and subclips."""
    data_folder = open_data(folder)
    if not project_name:
        listed_projects = projects.listing(data_folder.db)
        value = [
            {
                "id": project.id,
                "name": project.name,
                "rate": str(project.rate),
                "width": project.width,
                "height": project.height,
                "archived": project.archived,
            }
            for project in listed_projects
        ]
        return answer(
            as_json,
            value,
            "\n".join(
                f"{project.id:>4}  {project.name}  {project.rate} fps  {project.width}x{project.height}"
                for project in listed_projects
            )
            or "No projects yet.",
        )
    project = projects.find(data_folder.db, project_name)
    latest = jobs.latest_of_recordings(data_folder.db, project.id)
    recs = recordings.of_project(data_folder.db, project.id)
    inside: dict[str, Any] = {
        "recordings": [
            {
                "id": recording.id,
                "name": recording.name,
                "kind": recording.kind,
                "path": recording.path,
                "rate": str(recording.rate),
                "frames": recording.frames,
                "ready": recording.ready,
                "state": latest[recording.id].state if recording.id in latest else "",
            }
            for recording in recs
        ],
        "subclips": [
            {
                "id": subclip.id,
                "recording": subclip.recording,
                "name": subclip.name,
                "start": subclip.start,
                "length": subclip.length,
                "verdict": subclip.verdict,
                "tags": subclip.tags,
            }
            for subclip in subclips.of_project(data_folder.db, project.id)
        ],
    }
    text = [
        f"{recording.id:>4}  {recording.name}  {recording.kind}  "
        f"{'ready' if recording.ready else latest[recording.id].state if recording.id in latest else 'not prepared'}"
        for recording in recs
    ]
    text += [
        f"      {inside_clip['id']:>4}  {inside_clip['name']}  {inside_clip['start']}+{inside_clip['length']}"
        for inside_clip in inside["subclips"]
    ]
    return answer(as_json, inside, "\n".join(text) or "No recordings yet.")


def bring_timeline(data_folder: DataFolder, project: projects.Project, kind: str, file: Path, as_json: bool) -> None:
    """A timeline or an edit list as a story of its own."""
    from kovel.services.story.timeline_import import bring_in

    if not file.is_file():
        raise Missing(f"There is no file {file}.")
    story_id, name, left_out = bring_in(data_folder, project.id, kind, file.name, file.read_bytes())
    told_lines = [f"{name}: story {story_id}, {stories.load(data_folder.db, story_id).story.length} frames.", *left_out]
    answer(as_json, {"story": story_id, "name": name, "left": left_out}, "\n".join(told_lines))


def _prepared(data_folder: DataFolder, project: int, numbers: set[int], quiet: bool) -> list[str]:
    """Waits until these recordings are prepared: what failed, in words."""
    latest = jobs.latest_of_recordings(data_folder.db, project).values()
    done = wait_for(data_folder, [job.id for job in latest if job.recording in numbers], quiet=quiet)
    return [job.message for job in done if job.has_failed]


@click.command("import")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@data_option
@project_option
@click.option("--new", help="Make a project of this name first.")
@click.option("--rate", default="25", help="Its frames a second.", show_default=True)
@click.option("--size", default="1920x1080", help="Its picture size.", show_default=True)
@click.option("--start", default="00:00:00:00", help="Its start timecode.", show_default=True)
@click.option("--drop", is_flag=True, help="Drop-frame timecode (29.97 and 59.94).")
@click.option("--kind", default="", help="interview, b-roll, sound, music or still (default: a guess).")
@click.option(
    "--words",
    type=click.Path(path_type=Path, exists=True),
    help="Transcript with times for one recording: WebVTT, SRT or JSON.",
)
@click.option("--no-wait", is_flag=True, help="Do not wait until they are prepared.")
@json_option
def import_(
    folder: Path | None,
    files: tuple[Path, ...],
    project_name: str | None,
    new: str | None,
    rate: str,
    size: str,
    start: str,
    drop: bool,
    kind: str,
    words: Path | None,
    no_wait: bool,
    as_json: bool,
) -> None:
    """Bring recordings (files, or folders with all that lies below them) into a project and prepare them.

    `kovel import otio FILE` and `kovel import edl FILE` bring in a story that was made elsewhere.
    """
    data_folder = open_data(folder)
    if len(files) == 2 and str(files[0]) in TIMELINES and not files[0].exists():
        bring_timeline(data_folder, the_project(data_folder, project_name), str(files[0]), files[1], as_json)
        return
    paths = _recordings_at(files, tell=not as_json)
    project = (
        projects.create(data_folder.db, new, rate, size, start, drop) if new else the_project(data_folder, project_name)
    )
    new_recordings, bad = bring_in_all(data_folder, project.id, paths, kind=kind)
    if words and len(new_recordings) == 1:
        bad += take_words(data_folder, new_recordings[0], words.name, text_of(words.name, words.read_bytes()))[1]
    if new_recordings and not no_wait:
        bad += _prepared(data_folder, project.id, {recording.id for recording in new_recordings}, quiet=as_json)
    _tell_what_came(data_folder, project, new_recordings, bad, as_json)
    if not new_recordings:
        sys.exit(1)


def _recordings_at(given: Sequence[Path], tell: bool) -> list[Path]:
    """The files that were named, and those in the folders that were named; refused where there is none."""
    paths: list[Path] = []
    counts: list[str] = []
    for path in given:
        inside = files_in(path.resolve()) if path.exists() else [path.absolute()]
        paths += inside
        counts += [f"{path}: {len(inside)} files"] if path.is_dir() else []
    if not paths:
        raise Invalid(f"There are no recordings in {', '.join(map(str, given))}. Nothing was made.")
    for count in counts if tell else []:
        click.echo(count, err=True)
    return paths


def _tell_what_came(
    data_folder: DataFolder,
    project: projects.Project,
    made_recordings: list[recordings.Recording],
    bad: list[str],
    as_json: bool,
) -> None:
    imported_rows = [
        {"id": one.id, "name": one.name, "ready": recordings.get(data_folder.db, one.id).ready}
        for one in made_recordings
    ]
    lines = [f"{recording.name}: in {project.name} as number {recording.id}" for recording in made_recordings]
    answer(as_json, {"project": project.id, "recordings": imported_rows, "refused": bad}, "\n".join(lines))
    for why in [] if as_json else bad:
        click.echo(why, err=True)


@click.command()
@click.argument("words", nargs=-1)
@click.option(
    "--meaning", help="What is meant, in any words or language: hits by word first, then those near in meaning."
)
@click.option("--limit", default=20, show_default=True, type=click.IntRange(1, 200), help="Of --meaning.")
@data_option
@project_option
@json_option
def search(
    words: tuple[str, ...],
    meaning: str | None,
    limit: int,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Sentences in which all WORDS were said. A part in "quotes" stands together; a word with * at its end begins
    so."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    names = {recording.id: recording.name for recording in recordings.of_project(data_folder.db, project.id)}
    if meaning is not None:
        if words:
            raise Invalid("Look for words or for a meaning, not for both at once.")
        return _by_meaning(data_folder, project, names, meaning, limit, as_json)
    if not words:
        raise Invalid("Say what to look for: words, or --meaning TEXT.")
    quoted_words = " ".join(f'"{word}"' if " " in word and '"' not in word else word for word in words)
    found_sentences = transcripts.search(data_folder.db, project.id, quoted_words)
    plain = [found_sentence.text.replace("\x02", "").replace("\x03", "") for found_sentence in found_sentences]
    value = [
        {
            "recording": found_sentence.recording,
            "name": names[found_sentence.recording],
            "start": found_sentence.start / 48000,
            "end": found_sentence.end / 48000,
            "speaker": found_sentence.speaker,
            "text": text,
        }
        for found_sentence, text in zip(found_sentences, plain, strict=True)
    ]
    lines = [
        f"{names[found_sentence.recording]}  "
        f"{running(project.rate.sample_to_frame(found_sentence.start), project.rate)}  "
        f"{found_sentence.speaker}: {text}"
        for found_sentence, text in zip(found_sentences, plain, strict=True)
    ]
    return answer(as_json, value, "\n".join(lines) or "Nobody says that in this project.")


def _by_meaning(
    data_folder: DataFolder, project: projects.Project, names: dict[int, str], asked: str, limit: int, as_json: bool
) -> None:
    from kovel.cli.meaning_commands import worked_out
    from kovel.services.log.sentence_meaning import search as found

    worked_out(data_folder, project.id, as_json)
    hits = [
        {
            "recording": names[hit.said.recording],
            "start": hit.said.start / 48000,
            "end": hit.said.end / 48000,
            "speaker": hit.said.speaker,
            "text": hit.said.text,
            "how": hit.how,
            "score": hit.score,
        }
        for hit in found(data_folder, project.id, asked, limit)
    ]
    lines = [
        f"{hit['how']:<8} {hit['recording']}  "
        f"{running(project.rate.sample_to_frame(round(float(str(hit['start'])) * 48000)), project.rate)}  "
        f"{hit['text']}"
        for hit in hits
    ]
    answer(as_json, {"hits": hits}, "\n".join(lines) or "Nobody says anything near that in this project.")


@click.command()
@click.argument("recording")
@click.argument("kind", type=click.Choice(["vtt", "srt", "json", "txt"]))
@click.option("--out", type=click.Path(path_type=Path), help="File to write (default: standard output).")
@data_option
@project_option
def words(recording: str, kind: str, out: Path | None, folder: Path | None, project_name: str | None) -> None:
    """The transcript of a recording as WebVTT, SRT, JSON or plain text."""
    data_folder = open_data(folder)
    this_recording = the_recording(data_folder, the_project(data_folder, project_name).id, recording)
    body = transcript(transcripts.words(data_folder.db, this_recording.id), kind)
    write_out(out, body)


@click.command("set", context_settings={"ignore_unknown_options": True})  # -6 is a value
@click.argument("recording")
@click.argument("setting", type=click.Choice(sorted(name for name, setting in SETTINGS.items() if setting.wide)))
@click.argument("value")
@data_option
@project_option
@json_option
def set_(
    recording: str, setting: str, value: str, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """A setting of RECORDING in every story of the project: a number, on, off, or `none` to take it back."""
    data_folder = open_data(folder)
    this_recording = the_recording(data_folder, the_project(data_folder, project_name).id, recording)
    words: dict[str, object] = {"on": True, "off": False, "none": None}
    given = words.get(value, value)
    if isinstance(given, str) and not (SETTINGS[setting].choices or SETTINGS[setting].named):
        try:
            given = int(given) if given.lstrip("+-").isdecimal() else float(given)
        except ValueError:
            raise Invalid(f"{value} is no value: type a number, on, off or none.") from None
    now, summary = set_on_recording(data_folder, this_recording.id, setting, given)
    answer(as_json, {"did": summary, "settings": now.settings.to_json()}, summary)
