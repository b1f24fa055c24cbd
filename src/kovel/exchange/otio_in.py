"""OpenTimelineIO in: a timeline made elsewhere as a story here; one that Kovel wrote, unchanged, as the very same
story."""

from __future__ import annotations

import json
import re
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlparse

from kovel.core.story.bounds import could_be_cut
from kovel.core.story.model import Card, Refused, Story
from kovel.core.story.patch import SETS, story_from_json, story_to_json
from kovel.core.story.settings import NONE, Values
from kovel.core.time.rate import Rate
from kovel.exchange.uses import ABSENT, MOST, Taken, Use, built, found, headed
from kovel.store.projects import Project
from kovel.store.recordings import Recording

DISSOLVE = "SMPTE_Dissolve"  # as the standard calls it
SOURCED = ("pieces", "covers", "loose", "sounds", "loose_sounds")


def from_otio(told: dict[str, Any], project: Project, recordings: dict[int, Recording]) -> Taken:
    """A story of a timeline that was taken apart (exchange/sent_files.py). One that Kovel wrote and nobody changed
    since is the same story again."""
    name = told["name"] or "Timeline"
    if told["unchanged"] and (same := _ours(told["ours"], project, recordings)):
        return Taken(name, same)
    left_out: list[str] = []
    tracks: dict[str, list[list[Use]]] = {"Video": [], "Audio": []}
    for t in told["tracks"]:
        uses = _uses(t, project, recordings, left_out)
        if t["kind"] in tracks and (uses or t["kind"] == "Video"):
            tracks[t["kind"]].append(uses)
    if sum(len(track_row) for track_clips in tracks.values() for track_row in track_clips) > MOST:
        raise Refused("That timeline is too long.")
    pictures = tracks["Video"] or [[]]
    first = next((number for number, uses in enumerate(pictures) if uses), len(pictures) - 1)
    story = built(project.rate, pictures[first], pictures[first + 1 :], tracks["Audio"], recordings, left_out)
    marks = [(marker, project.rate.seconds_to_frame(Fraction(*at))) for marker, at in told["markers"]]
    return Taken(name, headed(story, marks), left_out)


def _ours(stored: dict[str, Any], project: Project, recordings: dict[int, Recording]) -> Story | None:
    """The very story that was written, its recordings found by checksum, else by path; None where one is not here,
    or what stands there is no story that could have been cut from them."""
    try:
        kept = json.loads(json.dumps(stored["story"]))
        if kept["rate"] != [project.rate.num, project.rate.den]:
            return None
        ids: dict[int, int] = {}
        for old, (checksum, path) in stored["recordings"].items():
            found_ids = [
                recording.id for recording in recordings.values() if (checksum and recording.checksum == checksum)
            ] or [recording.id for recording in recordings.values() if recording.path == path]
            if not found_ids:
                return None
            ids[int(old)] = found_ids[0] if int(old) not in found_ids else int(old)
        for name in SOURCED:
            for kept_row in kept[name]:
                kept_row[1] = ids.get(kept_row[1], kept_row[1])
        story = story_from_json(kept)
        return story if could_be_cut(story, {key: recording.source for key, recording in recordings.items()}) else None
    except (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError):
        return None


def _uses(track: dict[str, Any], project: Project, recordings: dict[int, Recording], left_out: list[str]) -> list[Use]:
    """The clips of a track as uses of recordings, in order; what cannot be taken is told in `left_out`."""
    uses: list[Use] = []
    blend, frame_rate = 0, project.rate
    for track_item in track["items"]:
        if track_item["is"] == "transition":
            blend = frame_rate.seconds_to_frame(Fraction(*track_item["blend"]))
            if track_item["type"] != DISSOLVE:
                left_out.append(
                    f"A transition of another kind ({track_item['type'] or track_item['name']}) became a cut."
                )
                blend = 0
            continue
        begin = Fraction(*track_item["at"])
        at = frame_rate.seconds_to_frame(begin)
        where = f"{project.timecode(at)} on {track['name'] or track['kind']}"
        if track_item["is"] == "broken":
            left_out.append(f"{where}: “{track_item['name']}” has no length or place that can be read. It is left out.")
            continue
        end = frame_rate.seconds_to_frame(begin + Fraction(*track_item["length"]))
        if track_item["is"] == "gap" or end <= at:
            blend = 0
            continue
        if track_item["is"] != "clip":
            left_out.append(
                f"{where}: “{track_item['name']}” is a {track_item['type'].lower()} inside the timeline; "
                f"only clips are taken."
            )
            continue
        clip_use = _use(track_item, at, end, frame_rate, recordings, left_out, where)
        if clip_use is not None:
            uses.append(replace(clip_use, blend=max(0, blend)))
        blend = 0
    return uses


def _settings_on(x: dict[str, Any], left_out: list[str], where: str) -> Values:
    try:
        return Values.from_json(x["settings"] or {})
    except (ValueError, AttributeError, TypeError, KeyError, IndexError):
        left_out.append(f"{where}: what is set on “{x['name']}” cannot be read.")
        return NONE


def _generated(x: dict[str, Any], at: int, end: int, own_values: Values, left_out: list[str], where: str) -> Use | None:
    """A title or a card; None for what another generator makes, which is said in `left_out`."""
    if x["generator"] == "Title":
        return Use(at, end, 0, settings=own_values)
    if x["generator"] == "SolidColor":
        return _card(at, end, x["parameters"], left_out, where)
    left_out.append(f"{where}: “{x['name']}” is made by a generator ({x['generator']}) that is not known here.")
    return None


def _file_named(url: str) -> str:
    try:
        return Path(unquote(urlparse(url).path)).name
    except ValueError:
        return ""


def _use(
    x: dict[str, Any],
    at: int,
    end: int,
    frame_rate: Rate,
    recordings: dict[int, Recording],
    left_out: list[str],
    where: str,
) -> Use | None:
    own_values = _settings_on(x, left_out, where)
    if x["generator"] is not None:
        return _generated(x, at, end, own_values, left_out, where)
    file = _file_named(x["url"])
    first = Fraction(*x["first"]) if x["first"] else Fraction(0)
    begun = Fraction(*x["begun"]) if x["begun"] else None
    recording = found(recordings, (file, x["media"], x["name"]), None if begun is not None else first)
    if recording is None:
        left_out.append(f"{where}: {file or x['name'] or 'a clip without a name'} {ABSENT}.")
        return None
    speed = Fraction(1)
    for scalar, effect in x["effects"]:
        if scalar is not None:
            speed = Fraction(scalar).limit_denominator(10_000)
        else:
            left_out.append(f"{where}: the effect {effect} on “{x['name']}” is not taken.")
    zero = frame_rate.seconds_to_frame(begun if begun is not None else recording.rate.frame_to_seconds(recording.first))
    start = frame_rate.seconds_to_frame(first) - zero
    if begun is None and start < 0:  # counted from its beginning, without timecode
        start = frame_rate.seconds_to_frame(first)
    return Use(at, end, recording.id, start, speed, settings=own_values)


def _card(at: int, end: int, parameters: dict[str, Any], left_out: list[str], where: str) -> Use:
    """A card by its colour and text; what is no colour becomes black, and is told."""
    colour, text = str(parameters.get("colour", "#000000")), str(parameters.get("text", ""))[:500]
    if not re.fullmatch("#[0-9a-fA-F]{6}", colour):
        left_out.append(f"{where}: a card’s colour, {colour[:20]}, cannot be read; it is black.")
        colour = "#000000"
    return Use(at, end, None, card=Card(colour.lower(), text))


def described(story: Story, recordings: dict[int, Recording]) -> dict[str, Any]:
    """What `from_otio` needs to give the very same story back."""
    used = {x.source for name in SOURCED for x in getattr(story, name) if x.source}
    recordings_used = {
        str(recording_id): [recordings[recording_id].checksum, recordings[recording_id].path]
        for recording_id in sorted(used)
        if recording_id in recordings
    }
    kept = story_to_json(story)
    return {
        "story": json.loads(
            json.dumps(
                {name: value for name, value in kept.items() if value or name in (*SETS, "rate", "next_id", *SOURCED)}
            )
        ),
        "recordings": recordings_used,
    }
