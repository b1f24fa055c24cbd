"""The story from the command line."""

import re
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, get_args, get_origin

import click

from kovel.cli.common import (
    answer,
    data_option,
    json_option,
    open_data,
    project_option,
    the_project,
    the_recording,
    the_subclip,
    typed,
)
from kovel.core.errors import Invalid
from kovel.core.story.catalogue import about, entries, parameters
from kovel.core.story.edit_offers import COMMANDS
from kovel.core.story.seams import seams
from kovel.core.story.settings import SETTINGS
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import running
from kovel.data_folder import DataFolder
from kovel.services.story.cover_offers import covers
from kovel.store import history, recordings, stories


@click.group()
def story() -> None:
    """The story: show, add, cover, edit, undo, redo."""


def tell(data_folder: DataFolder, as_json: bool, kept_story: stories.Kept, done: Any) -> None:
    value = {
        "revision": kept_story.revision,
        "length": kept_story.story.length,
        "did": done.did,
        "notes": list(done.notes),
        "made": list(done.made),
    }
    answer(as_json, value, "\n".join([done.did, *(f"  {note}" for note in done.notes)]))


def story_options(f: Callable[..., Any]) -> Callable[..., Any]:
    return data_option(project_option(json_option(f)))


@story.command("show")
@story_options
def story_show(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Pieces, seams and covers as they stand."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    kept_story = stories.load(data_folder.db, stories.current(data_folder.db, project.id))
    recordings_by_id = {recording.id: recording for recording in recordings.of_project(data_folder.db, project.id)}
    this_story = kept_story.story
    kinds = {
        seam.at: seam.kind
        for seam in seams(
            this_story, {recording_id: recording.source for recording_id, recording in recordings_by_id.items()}
        )
    }
    pieces = [
        {
            "id": piece.id,
            "at": at,
            "recording": piece.source,
            "start": piece.start,
            "length": piece.length,
            "seam": kinds.get(at),
        }
        for at, piece in zip(this_story.starts, this_story.pieces, strict=False)
    ]
    covers = [
        {
            "id": cover.id,
            "at": a,
            "recording": cover.source,
            "start": cover.start,
            "length": cover.length,
            "lane": cover.lane,
        }
        for a, _, cover in this_story.spans
    ]
    names = {key: recording.name for key, recording in recordings_by_id.items()}
    loose = [{"id": cover.id, "recording": cover.source, "length": cover.length} for cover in this_story.loose]
    text = [
        f"{running(at, this_story.rate):>7}  piece {piece.id:<4} "
        f"{recordings_by_id[piece.source].name if piece.source else 'space'}  {piece.length} "
        f"frames{f'  ({kinds[at]})' if at in kinds else ''}"
        for at, piece in zip(this_story.starts, this_story.pieces, strict=False)
    ]
    text += [
        f"{running(cover['at'], this_story.rate):>7}  cover {cover['id']:<4} "
        f"{names.get(cover['recording'], 'title')}  {cover['length']} frames, lane {cover['lane']}"
        for cover in covers
    ]
    text += [
        f"  loose  cover {loose_cover['id']:<4} {names.get(loose_cover['recording'], 'title')}" for loose_cover in loose
    ]
    answer(
        as_json,
        {
            "revision": kept_story.revision,
            "length": this_story.length,
            "rate": str(this_story.rate),
            "pieces": pieces,
            "covers": covers,
            "loose": loose,
        },
        "\n".join(text) or "The story is empty.",
    )


@story.command("add")
@click.argument("subclip", nargs=-1, required=True)
@click.option("--at", help="Insert at this story time instead of at the end.")
@story_options
def story_add(
    subclip: tuple[str, ...], at: str | None, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """Add subclips (by name or number) at the end of the story, or at a time."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    story_id = stories.current(data_folder.db, project.id)
    found_subclips = [the_subclip(data_folder, project.id, name) for name in subclip]
    place = stories.load(data_folder.db, story_id).story.length if at is None else typed(at, project.rate)
    ranges = [[subclip.recording, subclip.start, subclip.length] for subclip in found_subclips]
    tell(
        data_folder,
        as_json,
        *stories.edit(data_folder.db, story_id, None, "insert_several", {"at": place, "ranges": ranges}),
    )


@story.command("cover")
@click.argument("recording")
@click.option("--at", help="Story in point.")
@click.option("--until", help="Story out point.")
@click.option("--start", help="In point in the shot.")
@click.option("--end", help="Out point in the shot.")
@click.option("--lane", type=int)
@story_options
def story_cover(
    recording: str,
    at: str | None,
    until: str | None,
    start: str | None,
    end: str | None,
    lane: int | None,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Lay a shot over the dialogue by three points, picture only."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    values: dict[str, Any] = {"source": the_recording(data_folder, project.id, recording).id}
    values |= {
        name: typed(value, project.rate)
        for name, value in (("at", at), ("until", until), ("start", start), ("end", end))
        if value is not None
    }
    if lane is not None:
        values["lane"] = lane
    tell(
        data_folder,
        as_json,
        *stories.edit(data_folder.db, stories.current(data_folder.db, project.id), None, "lay_cover", values),
    )


@story.command("shots")
@click.option(
    "--at", required=True, help="A moment of the story: the sentence there, or with --until the stretch from there on."
)
@click.option("--until", help="End of the stretch.")
@click.option("--lay", type=click.IntRange(1), help="Lay the one of this number.")
@story_options
def story_shots(
    at: str, until: str | None, lay: int | None, folder: Path | None, project_name: str | None, as_json: bool
) -> None:
    """Shots that could cover what is said, best first."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    kept_story = stories.load(data_folder.db, stories.current(data_folder.db, project.id))
    offered_covers = covers(
        data_folder,
        project.id,
        kept_story.story,
        typed(at, project.rate),
        None if until is None else typed(until, project.rate),
    )
    if lay is not None:
        if lay > len(offered_covers.offers):
            raise Invalid(f"There are {len(offered_covers.offers)} shots to choose from.")
        offer = offered_covers.offers[lay - 1]
        return tell(
            data_folder, as_json, *stories.edit(data_folder.db, kept_story.id, None, offer.command, dict(offer.params))
        )
    offered_shots = [
        {"name": offer.name, "why": offer.why, "score": round(offer.score, 3), **offer.params}
        for offer in offered_covers.offers
    ]
    text = [
        f"{index}  {offered_shot['name']}  {offered_shot['why']}" for index, offered_shot in enumerate(offered_shots, 1)
    ]
    return answer(
        as_json,
        {"said": offered_covers.said, "at": offered_covers.a, "until": offered_covers.b, "shots": offered_shots},
        "\n".join([offered_covers.said, *text]),
    )


@story.command("edits")
@click.option("--json", "as_json", is_flag=True, help="Answer as JSON.")
def story_edits(as_json: bool) -> None:
    """Every edit there is: its name and values for `edit`, what it does, and its key in the Story room."""
    listed_edits = []
    for name in COMMANDS:
        keys = [entry.key for key, entry in entries() if key == name and entry.key]
        takes = [
            f"{name}=" if parameter is ... else f"[{name}={'none' if parameter is None else parameter}]"
            for name, (_, parameter) in parameters(name).items()
        ]
        listed_edits.append({"edit": name, "takes": takes, "does": about(name), "keys": list(dict.fromkeys(keys))})
    text = [
        f"{listed_edit['edit']} {' '.join(listed_edit['takes'])}\n    "
        f"{listed_edit['does']}{' Key: ' + ', '.join(listed_edit['keys']) if listed_edit['keys'] else ''}"
        for listed_edit in listed_edits
    ]
    answer(as_json, listed_edits, "\n".join(text))


@story.command("edit")
@click.argument("command", type=click.Choice(sorted(COMMANDS)))
@click.argument("values", nargs=-1)
@click.option("--revision", type=int, help="Refuse if the story has changed since.")
@story_options
def story_edit(
    command: str,
    values: tuple[str, ...],
    revision: int | None,
    folder: Path | None,
    project_name: str | None,
    as_json: bool,
) -> None:
    """Any edit of the core: COMMAND name=value ... Lengths and times in frames (or as typed, with a colon or s)."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    known = parameters(command)
    given: dict[str, Any] = {}
    for value in values:
        name, eq, value_text = value.partition("=")
        if not eq or name not in known:
            raise Invalid(f"{command} takes {', '.join(f'{name}=...' for name in known)}.")
        try:
            given[name] = _value(known[name][0], value_text, project.rate)
        except ValueError as error:
            raise Invalid(f"{name}: {error}") from None
    tell(
        data_folder,
        as_json,
        *stories.edit(data_folder.db, stories.current(data_folder.db, project.id), revision, command, given),
    )


def _value(kind: Any, text: str, frame_rate: Rate) -> Any:
    """What was given for a parameter of this type: text, yes or no, a number or a time, `none`, or several with commas
    between (`pieces=2,5`; stretches as `cuts=10-20,40-55`, ranges as `ranges=1-0-50`)."""
    kinds = get_args(kind) or (kind,)
    if type(None) in kinds and text == "none":
        return None
    if bool in kinds and text in ("true", "false"):
        return text == "true"
    if kinds == (bool,):
        raise ValueError("say true or false.")
    if str in kinds and not ({int, float} & set(kinds) and re.fullmatch(r"[-+.,0-9]+", text)):
        return text
    if float in kinds and "," not in text:
        return float(text) if "." in text else int(text)
    return _values(kind, text, frame_rate)


def _values(kind: Any, text: str, frame_rate: Rate) -> Any:
    """A number; where a list is taken, numbers with commas between, or rows of them with hyphens."""
    takes_only_list = get_origin(kind) is list
    if not takes_only_list and all(get_origin(one) is not list for one in get_args(kind)):
        return _number(text, frame_rate)
    typed_values = [typed_row for typed_row in text.split(",") if typed_row.strip()]
    if get_args(kind) and get_origin(get_args(kind)[0]) is list:
        return [[_number(number, frame_rate) for number in typed_row.split("-")] for typed_row in typed_values]
    if takes_only_list or len(typed_values) > 1:
        return [_number(typed_row, frame_rate) for typed_row in typed_values]
    return _number(text, frame_rate)


def _number(text: str, frame_rate: Rate) -> int:
    return int(text) if text.strip().lstrip("-").isdecimal() else typed(text, frame_rate)


@story.command("set", context_settings={"ignore_unknown_options": True})
@click.argument("values", nargs=-1, required=True)
@story_options
def story_set(values: tuple[str, ...], folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Settings at a scope: `piece=4 level=-16`, `sound=9 cover=3 mute=on`, `story target=-16`, `group=5 zoom=120`,
    `recording=3 warmth=10` (every use of it in this story; in every story: kovel set). A value of none takes a
    setting back; a line is moments in frames of the recording with values, `level=100:-6,150:0`."""
    data_folder = open_data(folder)
    project = the_project(data_folder, project_name)
    scopes, settings = _scopes_and_settings(values)
    asked_edit = _as_edit([(scope, name, value) for scope in scopes for name, value in settings.items()])
    tell(
        data_folder,
        as_json,
        *stories.edit(data_folder.db, stories.current(data_folder.db, project.id), None, *asked_edit),
    )


def _scopes_and_settings(words: Sequence[str]) -> tuple[list[int | str], dict[str, Any]]:
    """Where something is to be set, and what; a value of None takes it back."""
    scopes: list[int | str] = []
    settings: dict[str, Any] = {}
    for word in words:
        name, equals, value = word.partition("=")
        if name in ("piece", "cover", "title", "sound") and value.isdecimal():
            scopes.append(int(value))
        elif word == "story":
            scopes.append("story")
        elif name in ("group", "recording") and equals:
            scopes.append(f"{name} {value}")
        elif equals and name in SETTINGS:
            settings[name] = _setting(name, value)
        else:
            raise Invalid(
                f"{word[:40]} is neither a scope (piece=4, cover=, title=, sound=, group=, recording=, story) nor a "
                "setting (kovel story settings lists them)."
            )
    if not scopes or not settings:
        raise Invalid("Say on what, and what: kovel story set piece=4 level=-16")
    return scopes, settings


def _as_edit(setting_rows: Sequence[tuple[int | str, str, Any]]) -> tuple[str, dict[str, Any]]:
    """The edit that sets (scope, setting, value): its name and what it is asked with."""
    if len(setting_rows) == 1:
        ((scope, setting, value),) = setting_rows
        if value is None:
            return "reset_value", {"to": scope, "setting": setting}
        return "set_value", {"to": scope, "setting": setting, "value": value}
    scopes = dict.fromkeys(str(scope) for scope, _, _ in setting_rows)
    settings = dict.fromkeys(f"{name} {'taken back' if value is None else value}" for _, name, value in setting_rows)
    return "set_several", {
        "rows": [list(setting_row) for setting_row in setting_rows],
        "did": f"{', '.join(scopes)}: {', '.join(settings)}",
    }


@story.command("settings")
@json_option
def story_settings(as_json: bool) -> None:
    """Every setting there is: its name, what it is, what it may be."""
    listed_settings = [
        {"name": setting.name, "label": setting.label, "of": list(setting.of), "between": setting.between}
        for setting in SETTINGS.values()
    ]
    text = "\n".join(
        f"{setting.name:<14} {setting.label} ({', '.join(setting.of)}): {setting.between}"
        for setting in SETTINGS.values()
    )
    answer(as_json, listed_settings, text)


def _setting(name: str, text: str) -> Any:
    """A setting's value as it is typed."""
    if text == "none":
        return None
    if isinstance(SETTINGS[name].default, bool):
        if text not in ("on", "off"):
            raise Invalid(f"{SETTINGS[name].label} is on or off.")
        return text == "on"
    if SETTINGS[name].choices or SETTINGS[name].named:
        return text
    try:
        if ":" in text:
            return [[int(moment), float(db)] for moment, db in (typed_row.split(":") for typed_row in text.split(","))]
        return float(text) if "." in text else int(text)
    except ValueError:
        raise Invalid(
            f"“{text[:30]}” is no value. {SETTINGS[name].label} is set to {SETTINGS[name].between}."
        ) from None


@story.command("undo")
@story_options
def story_undo(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Take the last edit back."""
    data_folder = open_data(folder)
    tell(
        data_folder,
        as_json,
        *history.undo(data_folder.db, stories.current(data_folder.db, the_project(data_folder, project_name).id)),
    )


@story.command("redo")
@story_options
def story_redo(folder: Path | None, project_name: str | None, as_json: bool) -> None:
    """Do again what was undone."""
    data_folder = open_data(folder)
    tell(
        data_folder,
        as_json,
        *history.redo(data_folder.db, stories.current(data_folder.db, the_project(data_folder, project_name).id)),
    )
