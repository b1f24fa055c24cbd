"""What is heard in a file: words and pauses, without a project."""

import json
import sys
from collections.abc import Sequence
from contextlib import ExitStack
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
)
from kovel.core.sound.hits import Hit, at_sensitivity
from kovel.core.sound.levels import QUIETEST
from kovel.core.sound.pauses import Settings, noise_floor, pauses
from kovel.core.words.transcript import sentences
from kovel.data_folder import DataFolder
from kovel.media.child import call
from kovel.media.files import Unusable
from kovel.services.footage import binning, syncing
from kovel.services.log import speaker_separation, transcription
from kovel.services.log.recording_languages import code_of
from kovel.services.single_file import ready
from kovel.store import jobs, recordings, transcripts
from kovel.store.projects import Project


@click.command()
@click.argument("file")
@click.option("--model", default="", help="Folder of another recogniser model of the same format.")
@click.option(
    "--name", "names", multiple=True, help="A person, place or thing to be heard as written; may be given again."
)
@click.option(
    "--language", default="auto", help="Its language, as a code (fr) or in English (French).", show_default=True
)
@data_option
@project_option
@json_option
def transcribe(
    file: str,
    model: str,
    names: tuple[str, ...],
    language: str,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Words with times of FILE, on this machine. If FILE names a recording of --project, they are kept there."""
    path = Path(file)
    remark = ""
    if project_name or not path.exists():
        data_folder = open_data(folder)
        if not project_name and not path.exists() and "/" in file:
            raise Unusable(f"There is no file {file}.")
        recording = the_recording(data_folder, the_project(data_folder, project_name).id, file)
        if code := code_of(language):
            binning.set_all(data_folder, [recording.id], {"language": code})
        (done,) = wait_for(data_folder, [transcription.transcribe(data_folder, recording.id).id], quiet=as_json)
        if not done.is_done:
            raise click.ClickException(done.message or "The transcription was stopped.")
        said_words, remark = transcripts.words(data_folder.db, recording.id), jobs.get(data_folder.db, done.id).message
        tongue = recordings.get(data_folder.db, recording.id).tongue
        spoken_words = [
            {"text": word.text, "start": word.start / 48000, "end": word.end / 48000, "sure": round(word.sure, 3)}
            for word in said_words
        ]
    else:
        with ready(path) as this_ready:
            params = {
                "out": str(this_ready.folder),
                "channels": this_ready.channels,
                "model": model,
                "names": list(names),
                "language": code_of(language),
            }
            got = call("transcribe", params, _told if sys.stderr.isatty() else None)
        remark, tongue = got["remark"], got["language"]
        spoken_words = [
            {"text": t, "start": a / 48000, "end": b / 48000, "sure": confidence}
            for t, a, b, confidence in got["words"]
        ]
    answer(
        as_json,
        {"words": spoken_words, "remark": remark, "language": tongue},
        " ".join(str(spoken_word["text"]) for spoken_word in spoken_words) + (f"\n{remark}" if remark else ""),
    )


def _told(x: float) -> None:
    click.echo(f"\r{x:.0%} ", nl=False, err=True)


def threshold_of(ctx: click.Context, param: click.Parameter, value: str) -> float | None:
    if value == "auto":
        return None
    try:
        x = float(value)
    except ValueError:
        raise click.BadParameter("auto, or a level in dBFS such as -40") from None
    if not -100 <= x <= 0:
        raise click.BadParameter("a level in dBFS lies between -100 and 0")
    return x


@click.command("voices")
@click.argument("recording")
@data_option
@project_option
@json_option
def voices(recording: str, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Tell two voices of a RECORDING apart, and name who says which sentence."""
    data_folder = open_data(folder)
    this_recording = the_recording(data_folder, the_project(data_folder, project_name).id, recording)
    (done,) = wait_for(data_folder, [speaker_separation.tell_apart(data_folder, this_recording.id).id], quiet=as_json)
    if not done.is_done:
        raise click.ClickException(done.message or "It was stopped.")
    told_sentences = [
        {"speaker": sentence.speaker, "start": sentence.start / 48000, "text": sentence.text}
        for sentence in sentences(transcripts.words(data_folder.db, this_recording.id))
    ]
    answer(as_json, {"told": done.message, "sentences": told_sentences}, done.message)


@click.command("pauses")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--threshold", default="auto", callback=threshold_of, help="auto, or a level in dBFS.", show_default=True)
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
    default=0.0,
    type=click.FloatRange(0, 10),
    help="Air left before speech, seconds.",
    show_default=True,
)
@click.option(
    "--pad-after", default=0.0, type=click.FloatRange(0, 10), help="Air left after speech, seconds.", show_default=True
)
@click.option(
    "--island",
    default=0.08,
    type=click.FloatRange(0, 5),
    help="Speech shorter than this is a click.",
    show_default=True,
)
@json_option
def find_pauses(
    file: Path,
    threshold: float | None,
    shortest: float,
    pad_before: float,
    pad_after: float,
    island: float,
    as_json: bool,
) -> None:
    """Pauses of FILE: stretches in which nobody speaks. Air makes each as much shorter."""
    settings = Settings(shortest, pad_before, pad_after, island, threshold)
    with ready(file) as this_ready:
        assert this_ready.levels is not None
        found_pauses = pauses(this_ready.levels, settings)
        pause_rows = []
        for pause in found_pauses:
            if cut_there := pause.cut(settings):
                pause_rows.append(
                    {
                        "start": cut_there[0] / 48000,
                        "end": min(cut_there[1], this_ready.samples) / 48000,
                        "confidence": pause.sure,
                    }
                )
        value = {
            "rate": 48000,
            "duration": this_ready.samples / 48000,
            "pauses": pause_rows,
            "noise_floor_dbfs": round(noise_floor(this_ready.levels) if len(this_ready.levels) else QUIETEST, 1),
        }
    text = (
        "\n".join(
            f"{pause_row['start']:9.2f} {pause_row['end']:9.2f}   {pause_row['confidence']:.0%}"
            for pause_row in pause_rows
        )
        or "No pauses."
    )
    answer(as_json, value, text)


@click.command("hits")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--sensitivity",
    default=0.5,
    type=click.FloatRange(0, 1),
    help="0: only the plainest, 1: all that might be.",
    show_default=True,
)
@json_option
def hits_(file: Path, sensitivity: float, as_json: bool) -> None:
    """Hits of FILE: sudden sounds, to the millisecond."""
    with ready(file, levels=False) as this_ready:
        call("pulse", {"out": str(this_ready.folder), "channels": this_ready.channels})
        kept_hits = json.loads((this_ready.folder / "pulse.json").read_text())["hits"]
    found_hits = at_sensitivity([Hit(*found_hit[:3]) for found_hit in kept_hits], sensitivity)
    value = {"hits": [{"time": hit.sample / 48000, "strength": hit.strength} for hit in found_hits]}
    answer(
        as_json, value, "\n".join(f"{hit.sample / 48000:9.3f}   {hit.strength:.0%}" for hit in found_hits) or "No hits."
    )


@click.command("beats")
@click.argument("file", type=click.Path(path_type=Path))
@json_option
def beats_(file: Path, as_json: bool) -> None:
    """Tempo and beats of a music file."""
    with ready(file, levels=False) as this_ready:
        call("pulse", {"out": str(this_ready.folder), "channels": this_ready.channels})
        got = json.loads((this_ready.folder / "pulse.json").read_text())
    times = [b / 48000 for b in got["beats"]]
    text = f"{got['tempo']:.1f} beats a minute, {len(times)} beats" if times else "No pulse was found in it."
    answer(as_json, {"tempo": got["tempo"], "beats": times, "downbeats": times[got["first"] :: got["bar"]]}, text)


def _synced_in(
    data_folder: DataFolder, project: Project, files: Sequence[str], timecode: bool, quiet: bool
) -> list[dict[str, Any]]:
    """Recordings of a project as a sync set: each one's place on the first one's clock."""
    ids = [the_recording(data_folder, project.id, file).id for file in files]
    if timecode:
        syncing.sync_by_timecode(data_folder, project.id, ids)
    else:
        (done,) = wait_for(data_folder, [syncing.sync_by_sound(data_folder, project.id, ids).id], quiet=quiet)
        if not done.is_done or done.message:
            raise click.ClickException(done.message or "The matching was stopped.")
    kept = [recordings.get(data_folder.db, recording_id) for recording_id in ids]
    first = kept[0].sync.offset if kept[0].sync else 0
    return [
        {
            "file": file,
            "offset": (recording.sync.offset - first) / 48000,
            "drift_ppm": recording.sync.ppm,
            "confidence": recording.sync_sure,
        }
        for file, recording in zip(files, kept, strict=True)
        if recording.sync
    ]


def _synced(files: Sequence[str]) -> list[dict[str, Any]]:
    """Files that are in no project: each one's place on the first one's clock, by their sound."""
    with ExitStack() as stack:
        ready_files = [stack.enter_context(ready(Path(file), levels=False)) for file in files]
        members = [
            {"out": str(other.folder), "channels": other.channels, "name": Path(file).name}
            for file, other in zip(files, ready_files, strict=True)
        ]
        found_sync = call("sync_by_sound", {"members": members}, _told if sys.stderr.isatty() else None)["members"]
    bad = [member["unrelated"] for member in found_sync if "unrelated" in member]
    if bad:
        raise Unusable(" ".join(bad))
    return [
        {"file": file, "offset": member["offset"], "drift_ppm": member["ppm"], "confidence": member["sure"]}
        for file, member in zip(files, found_sync, strict=True)
    ]


@click.command("sync")
@click.argument("files", nargs=-1, required=True)
@click.option("--timecode", is_flag=True, help="By start timecode instead of by sound (with --project).")
@data_option
@project_option
@json_option
def sync_(files: tuple[str, ...], timecode: bool, folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Where recordings of one moment begin on the first one's clock. With --project they become a sync set."""
    if len(files) < 2:
        raise click.UsageError("Name two or more recordings of the same moment.")
    if timecode and not project_name:
        raise click.UsageError("By timecode needs --project.")
    if project_name:
        data_folder = open_data(folder)
        synced_recordings = _synced_in(
            data_folder, the_project(data_folder, project_name), files, timecode, quiet=as_json
        )
    else:
        synced_recordings = _synced(files)
    text = "\n".join(
        f"{synced['offset']:+12.5f} s  {synced['drift_ppm']:+7.2f} ppm  {synced['confidence']:.0%}  {synced['file']}"
        for synced in synced_recordings
    )
    answer(as_json, {"members": synced_recordings}, text)
