"""Looks in a project: tables that were loaded, one recording matched to another, white found, levels before and
after."""

from __future__ import annotations

import hashlib
import json
import os
import re
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from uuid import uuid4

import numpy as np
import numpy.typing as npt

from kovel.core.errors import Invalid, Missing
from kovel.core.picture import look as looks
from kovel.core.picture.colour import cube_text
from kovel.core.plan.layers import Look
from kovel.core.story.settings import LOOK, SETTINGS, TITLE_DRAWN
from kovel.core.story.sync import same_moment
from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.media.drawing import kept_in
from kovel.media.title_pictures import OWN
from kovel.media.whole_files import written_whole
from kovel.services.footage.thumbnails import colours
from kovel.services.received_files import taken_apart
from kovel.store import projects, recordings
from kovel.store.recordings import Recording

LARGEST_FONT = 20_000_000  # bytes
LARGEST = 40_000_000  # bytes of a table in text
SAMPLES = 40  # small frames that stand for a recording's colours
Array = npt.NDArray[np.float64]


def checked(look_rows: Sequence[Any]) -> Look:
    """Looks as they were sent, every value one that can be set; `Missing` for what is none."""
    checked_looks = []
    for given in look_rows[:8]:
        if not isinstance(given, dict):
            raise Missing("There is no such look.")
        pairs = [(n, SETTINGS[n].as_kept(value)) for n, value in sorted(given.items()) if n in LOOK]
        if any(value is None for _, value in pairs) or len(pairs) != len(given):
            raise Missing("There is no such look.")
        checked_looks.append(tuple(pairs))
    return tuple(checked_looks)


def checked_title(of: str) -> dict[str, Any]:
    """How a title is drawn, as it was sent; `Missing` for what is none."""
    try:
        given = json.loads(of)
    except ValueError:
        given = None
    names = TITLE_DRAWN
    if not isinstance(given, dict) or set(given) != set(names):
        raise Missing("There is no such title.")
    kept_values = {name: SETTINGS[name].as_kept(given[name]) for name in names}
    if any(title_row is None for title_row in kept_values.values()):
        raise Missing("There is no such title.")
    return kept_values


def table_of(data_folder: DataFolder, look: Look) -> looks.Table:
    return looks.made([dict(look_rows) for look_rows in look], kept_in(data_folder.tables))


def table_names(data_folder: DataFolder) -> list[str]:
    return sorted(path.stem for path in data_folder.tables.glob("*.cube")) if data_folder.tables.is_dir() else []


def keep_table(data_folder: DataFolder, name: str, table: looks.Table) -> str:
    """Write a table into the folder under a name of its own; the name it has there. One that is there alike is used."""
    name = re.sub(r"[^\w .,()'-]", "_", " ".join(name.split()))[:60].strip(" .") or "table"
    text = cube_text(table)
    data_folder.tables.mkdir(parents=True, exist_ok=True)
    for name_number in range(1, 1000):
        free = name if name_number == 1 else f"{name} {name_number}"
        to = data_folder.tables / f"{free}.cube"
        if to.exists():
            if hashlib.sha256(to.read_bytes()).digest() == hashlib.sha256(text.encode()).digest():
                return free
            continue
        with written_whole(to) as part:
            part.write_text(text)
        return free
    raise Invalid("There are too many tables of that name.")


def font_names(data_folder: DataFolder) -> list[str]:
    return (
        sorted(path.stem for path in data_folder.fonts.iterdir() if not path.name.startswith("."))
        if data_folder.fonts.is_dir()
        else []
    )


def take_in_font(data_folder: DataFolder, name: str, body: bytes) -> str:
    """A font file that an editor brings; refused in words where it is none. Its own name is what it is called by."""
    if len(body) > LARGEST_FONT:
        raise Invalid("That file is too large for a font.")
    kind = {b"OTTO": ".otf", b"wOF2": ".woff2"}.get(body[:4], ".ttf")
    data_folder.fonts.mkdir(parents=True, exist_ok=True)
    part = data_folder.fonts / f".{os.getpid()}.{threading.get_ident()}{kind}"
    try:
        part.write_bytes(body)
        told_font = taken_apart(data_folder, "read_font", name or "That file", body)
        family = re.sub(r"[^\w .,()'-]", "_", told_font["family"])[:60].strip(" .") or "font"
        if family in OWN:
            family = f"{family} 2"
        os.replace(part, data_folder.fonts / f"{family}{kind}")
    finally:
        part.unlink(missing_ok=True)
    return family


def take_in_table(data_folder: DataFolder, name: str, body: bytes) -> str:
    """A `.cube` table that an editor loads; refused in words where it is none."""
    if len(body) > LARGEST:
        raise Invalid("That file is too large for a table of colours.")
    read = data_folder.root / f"sent-{uuid4().hex}.cube"  # as it is written again by the child that read it
    try:
        taken_apart(data_folder, "read_table", name, body, out=str(read))
        return keep_table(data_folder, re.sub(r"\.cube$", "", name, flags=re.I), looks.read_cube(read.read_text()))
    finally:
        read.unlink(missing_ok=True)


def own_look(recording: Recording) -> dict[str, Any]:
    return {setting: recording.settings[setting] for setting in recording.settings if setting in LOOK}


def match(data_folder: DataFolder, recording: int, other: int) -> tuple[str, str]:
    """Give a recording the colours of another: a table is made, kept and set on the recording. (what was done, the
    table).

    Where both are of one moment (synced) the same moments are compared, else each as a whole.
    """
    mine, theirs = recordings.get(data_folder.db, recording), recordings.get(data_folder.db, other)
    if mine.project != theirs.project or mine.id == theirs.id:
        raise Invalid("Choose another recording of this project to match to.")
    frame_rate = projects.get(data_folder.db, mine.project).rate
    a, b, together = _pixels(data_folder, mine, theirs, frame_rate)
    if a is None or b is None:
        lacking = mine if a is None else theirs
        raise Invalid(f"{lacking.name} has no small pictures yet: match it when they are made.")
    kept = kept_in(data_folder.tables)
    own_values = {name: value for name, value in own_look(mine).items() if name != "table"}
    table = looks.matching(looks.looked(a, own_values, kept), looks.looked(b, own_look(theirs), kept))
    name = keep_table(data_folder, f"{mine.name} like {theirs.name}", table)
    recordings.set_value(data_folder.db, recording, "table", name)
    how = "at the same moments" if together else "as a whole, for they are not synced"
    return f"{mine.name} has the colours of {theirs.name} now, compared {how}", name


def _pixels(
    data_folder: DataFolder, mine: Recording, theirs: Recording, frame_rate: Rate
) -> tuple[Array | None, Array | None, bool]:
    """Colours of frames of both recordings, and whether they are of the same moments."""
    count, most = mine.length(frame_rate) or 1, theirs.length(frame_rate) or 1
    moments = _spread(count)
    there = [same_moment(mine.source, theirs.source, moment, frame_rate) for moment in moments]
    pairs = [
        (moment, other) for moment, other in zip(moments, there, strict=True) if other is not None and 0 <= other < most
    ]
    together = len(pairs) >= 5
    if not together:
        pairs = list(zip(moments, _spread(most), strict=True))
    of_mine = _colours_at(data_folder, mine, [moment for moment, _ in pairs], frame_rate)
    return of_mine, _colours_at(data_folder, theirs, [other for _, other in pairs], frame_rate), together


def _spread(length: int) -> list[int]:
    """Frames in the middles of equal parts of a recording."""
    return [length * (2 * part + 1) // (2 * SAMPLES) for part in range(SAMPLES)]


def _colours_at(data_folder: DataFolder, recording: Recording, frames: Sequence[int], frame_rate: Rate) -> Array | None:
    found_colours = [
        seen for seen in (colours(data_folder, recording, frame, frame_rate) for frame in frames) if seen is not None
    ]
    return np.concatenate([seen[::2, ::2].reshape(-1, 3) for seen in found_colours]) if found_colours else None


@dataclass(frozen=True, slots=True)
class Levels:
    """How a picture's levels are spread, as lines of drawings `WIDE` wide and `HIGH` high: how often each level
    comes, and from left to right between which levels the picture lies; and how much of it is cut off at either end,
    in percent."""

    often: str
    spread: str
    black: float
    white: float


WIDE, HIGH = 168, 44


def levels(pixels: Array) -> Levels:
    luma = pixels @ looks.LUMA
    often = np.histogram(luma, 56, (0, 1))[0].astype(float)
    often = np.sqrt(often / max(1.0, often.max()))
    line = " ".join(f"{WIDE * index / 55:.0f},{HIGH - (HIGH - 3) * value:.1f}" for index, value in enumerate(often))
    columns = np.array_split(luma, min(56, luma.shape[1]), axis=1)
    low, high = ([float(np.percentile(column, percentile)) for column in columns] for percentile in (3, 97))
    n = len(columns) - 1
    edge = [f"{WIDE * index / n:.0f},{HIGH - (HIGH - 3) * value:.1f}" for index, value in enumerate(high)]
    edge += [
        f"{WIDE * level_index / n:.0f},{HIGH - (HIGH - 3) * value:.1f}"
        for level_index, value in reversed(list(enumerate(low)))
    ]
    cut = pixels.reshape(-1, 3)
    return Levels(
        line,
        " ".join(edge),
        round(100 * float((cut.max(1) <= 1 / 255).mean()), 1),
        round(100 * float((cut.max(1) >= 254 / 255).mean()), 1),
    )
