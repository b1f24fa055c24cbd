"""The log in open formats: CSV in and out, OpenTimelineIO out."""

import csv
import io
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import opentimelineio as otio

from kovel.core.time.rate import Rate
from kovel.core.time.timecode import TimeError, format_timecode, parse_entry
from kovel.exchange.cells import begins_formula
from kovel.exchange.story_formats import clip_of
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


def to_csv(lines: Iterable[Line], rate: Rate) -> str:
    """RFC 4180 rows under COLUMNS. In and out are timecodes from the recording's first frame, at the project's rate.

    A cell that a spreadsheet would take for a formula gets an apostrophe before it.
    """
    out = io.StringIO()
    sheet = csv.writer(out)
    sheet.writerow(COLUMNS)
    lines = list(lines)
    names = Counter(i for _, i in {(x.recording.id, x.recording.name.casefold()) for x in lines})
    for x in lines:
        c, r = x.clip, x.recording
        times = [format_timecode(f, rate) for f in (c.start, c.end, c.length)]
        cells = [
            c.name,
            r.name if names[r.name.casefold()] == 1 else f"{r.name} #{r.id}",
            *times,
            c.verdict,
            ", ".join(c.tags),
            c.note,
            x.speaker,
            x.words,
            x.used,
            r.day,
            r.roll,
            r.camera,
        ]
        sheet.writerow([f"'{v}" if isinstance(v, str) and begins_formula(v) else v for v in cells])
    return out.getvalue()


def from_csv(text: str, rows: Sequence[Recording], rate: Rate) -> tuple[list[New], list[str]]:
    """Ranges to keep, and for each row that does not fit its line and why. Columns by name: recording, in and out are
    needed, `length` may stand for out; recordings are known by name or by file name, or, where several are called alike, by
    their number behind it (`C0001 #7`); times are as editors type them."""
    known: dict[str, list[Recording]] = {}
    for r in rows:
        file = Path(r.path)
        for n in {r.name.casefold(), file.name.casefold(), file.stem.casefold(), f"#{r.id}", f"{r.name.casefold()} #{r.id}"}:
            known.setdefault(n, []).append(r)
    for n in list(known):  # a recording's name counts before another one's file name
        named = [r for r in known[n] if r.name.casefold() == n]
        known[n] = named if len(named) == 1 else known[n]
    text = text.lstrip("\ufeff")
    first = text.split("\n", 1)[0]
    sheet = csv.DictReader(io.StringIO(text), delimiter=max(",;\t", key=first.count))
    heads = {(h or "").strip().casefold() for h in sheet.fieldnames or ()}
    if not {"recording", "in"} <= heads or not heads & {"out", "length"}:
        return [], ["Line 1: the columns recording, in and out are needed, named like that in the first line."]
    made: list[New] = []
    left: list[str] = []
    for row in sheet:
        line = sheet.line_num
        v = {
            (k or "").strip().casefold(): (x or "").strip().removeprefix("'")
            for k, x in row.items()
            if isinstance(x, str | None)
        }
        if not any(v.values()):
            continue
        called = v.get("recording", "")
        found = known.get(called.casefold(), [])
        if len(found) != 1:
            several = ", ".join(f"“{called[:60]} #{r.id}”" for r in found)
            left.append(
                f"Line {line}: {len(found)} recordings are called “{called[:60]}”. Write which: {several}."
                if found
                else f"Line {line}: there is no recording called “{called[:60]}” in this project."
            )
            continue
        r = found[0]
        try:
            a = parse_entry(v["in"], rate)
            b = parse_entry(v["out"], rate, now=a) if v.get("out") else a + parse_entry(v.get("length", ""), rate)
        except (TimeError, KeyError) as e:
            left.append(f"Line {line}: {e}")
            continue
        verdict = v.get("verdict", "keep").casefold()
        if verdict not in VERDICTS:
            left.append(f"Line {line}: “{verdict[:30]}” is no verdict (keep, maybe or drop).")
        elif b <= a:
            left.append(f"Line {line}: the out point is not after the in point.")
        elif a < 0 or b > r.length(rate):
            left.append(f"Line {line}: the range runs past the {'start' if a < 0 else 'end'} of {r.name}.")
        else:
            made.append(New(r.id, a, b, v.get("name", "")[:120], v.get("note", ""), v.get("tags", ""), verdict))
    return made, left


def to_otio(
    name: str, project: Project, rows: Sequence[Recording], clips: Sequence[Subclip], markers: Mapping[int, Sequence[Marker]]
) -> otio.schema.SerializableCollection:
    """A collection: each recording whole, with its markers, then each subclip as a clip of its range."""
    fps = float(project.rate.fps)
    by_id = {r.id: r for r in rows}
    out = otio.schema.SerializableCollection(f"{project.name} - {name}")
    for r in rows:
        if not markers.get(r.id):
            continue
        whole = clip_of(r, project, 0, r.length(project.rate))
        zero = whole.source_range.start_time
        for m in markers[r.id]:
            at = otio.opentime.TimeRange(zero + otio.opentime.RationalTime(m.frame, fps), otio.opentime.RationalTime(0, fps))
            whole.markers.append(otio.schema.Marker(m.name, at))
        out.append(whole)
    for c in clips:
        clip = clip_of(by_id[c.recording], project, c.start, c.length, c.name)
        clip.metadata["kovel"] = {**clip.metadata["kovel"], "note": c.note, "tags": list(c.tags), "verdict": c.verdict}
        out.append(clip)
    return out
