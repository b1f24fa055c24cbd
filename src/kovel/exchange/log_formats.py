"""The log in open formats: CSV in and out, OpenTimelineIO out."""

import csv
import io
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import opentimelineio as otio

from kovel.core.errors import Invalid
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import TimeError, format_timecode, parse_entry
from kovel.exchange.cells import begins_formula
from kovel.exchange.otio_out import clip_of
from kovel.store.markers import Marker
from kovel.store.projects import Project
from kovel.store.recordings import Recording
from kovel.store.subclips import VERDICTS, New, Subclip

COLUMNS = (
    "name",
    "recording",
    "in",
    "out",
    "length",
    "verdict",
    "tags",
    "note",
    "speaker",
    "words",
    "used",
    "day",
    "roll",
    "camera",
)


@dataclass(frozen=True, slots=True)
class Line:
    """A subclip with all that is told of it."""

    clip: Subclip
    recording: Recording
    speaker: str
    words: str
    used: int


def to_csv(lines: Iterable[Line], frame_rate: Rate) -> str:
    """RFC 4180 rows under COLUMNS. In and out are timecodes from the recording's first frame, at the project's rate.

    A cell that a spreadsheet would take for a formula gets an apostrophe before it.
    """
    text_file = io.StringIO()
    sheet = csv.writer(text_file)
    sheet.writerow(COLUMNS)
    lines = list(lines)
    names = Counter(
        recording_id
        for _, recording_id in {(log_line.recording.id, log_line.recording.name.casefold()) for log_line in lines}
    )
    for log_line in lines:
        subclip, recording = log_line.clip, log_line.recording
        times = [format_timecode(clip_frame, frame_rate) for clip_frame in (subclip.start, subclip.end, subclip.length)]
        cells = [
            subclip.name,
            recording.name if names[recording.name.casefold()] == 1 else f"{recording.name} #{recording.id}",
            *times,
            subclip.verdict,
            ", ".join(subclip.tags),
            subclip.note,
            log_line.speaker,
            log_line.words,
            log_line.used,
            recording.day,
            recording.roll,
            recording.camera,
        ]
        sheet.writerow([f"'{cell}" if isinstance(cell, str) and begins_formula(cell) else cell for cell in cells])
    return text_file.getvalue()


def from_csv(text: str, recordings: Sequence[Recording], frame_rate: Rate) -> tuple[list[New], list[str]]:
    """Ranges to keep, and for each row that does not fit its line and why. Columns by name: recording, in and out
    are needed, `length` may stand for out; recordings are known by name or by file name, or, where several are
    called alike, by their number behind it (`C0001 #7`); times are as editors type them."""
    known = _by_name(recordings)
    text = text.lstrip("\ufeff")
    first = text.split("\n", 1)[0]
    sheet = csv.DictReader(io.StringIO(text), delimiter=max(",;\t", key=first.count))
    heads = {(head or "").strip().casefold() for head in sheet.fieldnames or ()}
    if not {"recording", "in"} <= heads or not heads & {"out", "length"}:
        return [], ["Line 1: the columns recording, in and out are needed, named like that in the first line."]
    new_clips: list[New] = []
    left_out: list[str] = []
    for sheet_row in sheet:
        cells = {
            (name or "").strip().casefold(): (cell or "").strip().removeprefix("'")
            for name, cell in sheet_row.items()
            if isinstance(cell, str | None)
        }
        if any(cells.values()):
            try:
                new_clips.append(_range_of(cells, known, frame_rate))
            except (Invalid, TimeError) as error:
                left_out.append(f"Line {sheet.line_num}: {error}")
    return new_clips, left_out


def _by_name(recordings: Sequence[Recording]) -> dict[str, list[Recording]]:
    """Recordings by everything they are called; a recording's name counts before another one's file name."""
    known: dict[str, list[Recording]] = {}
    for recording in recordings:
        file, name = Path(recording.path), recording.name.casefold()
        number = f"#{recording.id}"
        for called in {name, file.name.casefold(), file.stem.casefold(), number, f"{name} {number}"}:
            known.setdefault(called, []).append(recording)
    for called, found_recordings in known.items():
        named = [recording for recording in found_recordings if recording.name.casefold() == called]
        known[called] = named if len(named) == 1 else found_recordings
    return known


def _range_of(cells: dict[str, str], known: dict[str, list[Recording]], frame_rate: Rate) -> New:
    """The range that a row asks for. Raises `Invalid` or `TimeError` where it does not fit."""
    called = cells.get("recording", "")
    found_recordings = known.get(called.casefold(), [])
    if not found_recordings:
        raise Invalid(f"there is no recording called “{called[:60]}” in this project.")
    if len(found_recordings) > 1:
        several = ", ".join(f"“{called[:60]} #{recording.id}”" for recording in found_recordings)
        raise Invalid(f"{len(found_recordings)} recordings are called “{called[:60]}”. Write which: {several}.")
    recording = found_recordings[0]
    start = parse_entry(cells.get("in", ""), frame_rate)
    if cells.get("out"):
        end = parse_entry(cells["out"], frame_rate, now=start)
    else:
        end = start + parse_entry(cells.get("length", ""), frame_rate)
    verdict = cells.get("verdict", "keep").casefold()
    if verdict not in VERDICTS:
        raise Invalid(f"“{verdict[:30]}” is no verdict (keep, maybe or drop).")
    if end <= start:
        raise Invalid("the out point is not after the in point.")
    if start < 0 or end > recording.length(frame_rate):
        raise Invalid(f"the range runs past the {'start' if start < 0 else 'end'} of {recording.name}.")
    name, note, tags = cells.get("name", "")[:120], cells.get("note", ""), cells.get("tags", "")
    return New(recording.id, start, end, name, note, tags, verdict)


def to_otio(
    name: str,
    project: Project,
    recordings: Sequence[Recording],
    clips: Sequence[Subclip],
    markers: Mapping[int, Sequence[Marker]],
) -> otio.schema.SerializableCollection:
    """A collection: each recording whole, with its markers, then each subclip as a clip of its range."""
    fps = float(project.rate.fps)
    by_id = {recording.id: recording for recording in recordings}
    clip_collection = otio.schema.SerializableCollection(f"{project.name} - {name}")
    for recording in recordings:
        if not markers.get(recording.id):
            continue
        whole = clip_of(recording, project, 0, recording.length(project.rate))
        zero = whole.source_range.start_time
        for marker in markers[recording.id]:
            at = otio.opentime.TimeRange(
                zero + otio.opentime.RationalTime(marker.frame, fps), otio.opentime.RationalTime(0, fps)
            )
            whole.markers.append(otio.schema.Marker(marker.name, at))
        clip_collection.append(whole)
    for subclip in clips:
        clip = clip_of(by_id[subclip.recording], project, subclip.start, subclip.length, subclip.name)
        clip.metadata["kovel"] = {
            **clip.metadata["kovel"],
            "note": subclip.note,
            "tags": list(subclip.tags),
            "verdict": subclip.verdict,
        }
        clip_collection.append(clip)
    return clip_collection
