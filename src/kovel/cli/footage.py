"""Recordings, their log and their words."""

import sys
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
    data = open_data(folder)
    if not project_name:
        rows = projects.listing(data.db)
        value = [
            {"id": p.id, "name": p.name, "rate": str(p.rate), "width": p.width, "height": p.height, "archived": p.archived}
            for p in rows
        ]
        return answer(
            as_json,
            value,
            "\n".join(f"{p.id:>4}  {p.name}  {p.rate} fps  {p.width}x{p.height}" for p in rows) or "No projects yet.",
        )
    p = projects.find(data.db, project_name)
    latest = jobs.latest_of_recordings(data.db, p.id)
    recs = recordings.of_project(data.db, p.id)
    inside: dict[str, Any] = {
        "recordings": [
            {
                "id": r.id,
                "name": r.name,
                "kind": r.kind,
                "path": r.path,
                "rate": str(r.rate),
                "frames": r.frames,
                "ready": r.ready,
                "state": latest[r.id].state if r.id in latest else "",
            }
            for r in recs
        ],
        "subclips": [
            {
                "id": c.id,
                "recording": c.recording,
                "name": c.name,
                "start": c.start,
                "length": c.length,
                "verdict": c.verdict,
                "tags": c.tags,
            }
            for c in subclips.of_project(data.db, p.id)
        ],
    }
    text = [
        f"{r.id:>4}  {r.name}  {r.kind}  {'ready' if r.ready else latest[r.id].state if r.id in latest else 'not prepared'}"
        for r in recs
    ]
    text += [f"      {c['id']:>4}  {c['name']}  {c['start']}+{c['length']}" for c in inside["subclips"]]
    return answer(as_json, inside, "\n".join(text) or "No recordings yet.")


def bring_timeline(data: DataFolder, p: projects.Project, kind: str, file: Path, as_json: bool) -> None:
    """A timeline or an edit list as a story of its own."""
    from kovel.services.story.timeline_import import bring_in

    if not file.is_file():
        raise Missing(f"There is no file {file}.")
    sid, name, left = bring_in(data, p.id, kind, file.name, file.read_bytes())
    told = [f"{name}: story {sid}, {stories.load(data.db, sid).story.length} frames.", *left]
    answer(as_json, {"story": sid, "name": name, "left": left}, "\n".join(told))


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
    data = open_data(folder)
    if len(files) == 2 and str(files[0]) in TIMELINES and not files[0].exists():
        bring_timeline(data, the_project(data, project_name), str(files[0]), files[1], as_json)
        return
    paths = [f for given in files for f in (files_in(given.resolve()) if given.exists() else [given.absolute()])]
    if not paths:
        raise Invalid(f"There are no recordings in {', '.join(map(str, files))}. Nothing was made.")
    p = projects.create(data.db, new, rate, size, start, drop) if new else the_project(data, project_name)
    for given in files:
        if given.is_dir() and not as_json:
            click.echo(f"{given}: {len(files_in(given.resolve()))} files", err=True)
    made, bad = bring_in_all(data, p.id, paths, kind=kind)
    if words and len(made) == 1:
        bad += take_words(data, made[0], words.name, text_of(words.name, words.read_bytes()))[1]
    if made and not no_wait:
        done = wait_for(
            data,
            [j.id for j in jobs.latest_of_recordings(data.db, p.id).values() if j.recording in {r.id for r in made}],
            quiet=as_json,
        )
        bad += [j.message for j in done if j.has_failed]
    value = {
        "project": p.id,
        "recordings": [{"id": r.id, "name": r.name, "ready": recordings.get(data.db, r.id).ready} for r in made],
        "refused": bad,
    }
    answer(as_json, value, "\n".join(f"{r.name}: in {p.name} as number {r.id}" for r in made))
    for why in [] if as_json else bad:
        click.echo(why, err=True)
    if not made:
        sys.exit(1)


@click.command()
@click.argument("words", nargs=-1)
@click.option("--meaning", help="What is meant, in any words or language: hits by word first, then those near in meaning.")
@click.option("--limit", default=20, show_default=True, type=click.IntRange(1, 200), help="Of --meaning.")
@data_option
@project_option
@json_option
def search(
    words: tuple[str, ...], meaning: str | None, limit: int, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """Sentences in which all WORDS were said. A part in "quotes" stands together; a word with * at its end begins so."""
    data = open_data(folder)
    p = the_project(data, project_name)
    names = {r.id: r.name for r in recordings.of_project(data.db, p.id)}
    if meaning is not None:
        if words:
            raise Invalid("Look for words or for a meaning, not for both at once.")
        return _by_meaning(data, p, names, meaning, limit, as_json)
    if not words:
        raise Invalid("Say what to look for: words, or --meaning TEXT.")
    asked = " ".join(f'"{w}"' if " " in w and '"' not in w else w for w in words)
    rows = transcripts.search(data.db, p.id, asked)
    plain = [f.text.replace("\x02", "").replace("\x03", "") for f in rows]
    value = [
        {
            "recording": f.recording,
            "name": names[f.recording],
            "start": f.start / 48000,
            "end": f.end / 48000,
            "speaker": f.speaker,
            "text": t,
        }
        for f, t in zip(rows, plain, strict=True)
    ]
    lines = [
        f"{names[f.recording]}  {running(p.rate.sample_to_frame(f.start), p.rate)}  {f.speaker}: {t}"
        for f, t in zip(rows, plain, strict=True)
    ]
    return answer(as_json, value, "\n".join(lines) or "Nobody says that in this project.")


def _by_meaning(data: DataFolder, p: projects.Project, names: dict[int, str], asked: str, limit: int, as_json: bool) -> None:
    from kovel.cli.meaning_commands import worked_out
    from kovel.services.log.sentence_meaning import search as found

    worked_out(data, p.id, as_json)
    hits = [
        {
            "recording": names[h.said.recording], "start": h.said.start / 48000, "end": h.said.end / 48000, "speaker": h.said.speaker,
            "text": h.said.text, "how": h.how, "score": h.score,
        }
        for h in found(data, p.id, asked, limit)
    ]  # fmt: skip
    lines = [
        f"{h['how']:<8} {h['recording']}  {running(p.rate.sample_to_frame(round(float(str(h['start'])) * 48000)), p.rate)}  {h['text']}"
        for h in hits
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
    data = open_data(folder)
    r = the_recording(data, the_project(data, project_name).id, recording)
    body = transcript(transcripts.words(data.db, r.id), kind)
    write_out(out, body)


@click.command("set", context_settings={"ignore_unknown_options": True})  # -6 is a value
@click.argument("recording")
@click.argument("setting", type=click.Choice(sorted(n for n, s in SETTINGS.items() if s.wide)))
@click.argument("value")
@data_option
@project_option
@json_option
def set_(recording: str, setting: str, value: str, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """A setting of RECORDING in every story of the project: a number, on, off, or `none` to take it back."""
    data = open_data(folder)
    r = the_recording(data, the_project(data, project_name).id, recording)
    words: dict[str, object] = {"on": True, "off": False, "none": None}
    given = words.get(value, value)
    if isinstance(given, str) and not (SETTINGS[setting].choices or SETTINGS[setting].named):
        try:
            given = int(given) if given.lstrip("+-").isdecimal() else float(given)
        except ValueError:
            raise Invalid(f"{value} is no value: type a number, on, off or none.") from None
    now, did = set_on_recording(data, r.id, setting, given)
    answer(as_json, {"did": did, "settings": now.settings.to_json()}, did)
