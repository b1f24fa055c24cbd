"""Documents of a story: the paper cut, shots, music, what lies on which tape, and what a review should look at; as
rows, and as CSV.

cut      what is said, in order       0:00 to 0:06   Maren, camera A   14:22:09:10   "We haul the ferry ..."
shots    what is laid over it         music   the cue sheet        tapes   everything used, by roll and timecode
speakers who speaks how long
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from kovel.core.checks.findings import Finding
from kovel.core.story.model import TITLE, Story
from kovel.core.time.rate import frame_shown
from kovel.core.time.timecode import format_timecode, stamp
from kovel.exchange.cells import begins_formula
from kovel.store.projects import Project
from kovel.store.recordings import Recording

Said = Callable[[int, int], list[tuple[str, str]]]  # (speaker, text) of story frames [a, b), a row a speaker
Row = tuple[str, ...]


@dataclass(frozen=True, slots=True)
class DocumentInput:
    """What a document may be made of: the story, its recordings by number, what is said in frames [a, b), what the
    checks found."""

    story: Story
    project: Project
    recordings: dict[int, Recording]
    said: Said
    findings: Callable[[], Sequence[Finding]]

    def timecode(self, frame: int) -> str:
        """A story frame as timecode of the film."""
        return self.project.timecode(frame)

    def source_timecode(self, recording: Recording, frame: int) -> str:
        """A story frame of a recording's clock in the recording's own timecode."""
        return source_time(recording, frame, self.project)


@dataclass(frozen=True, slots=True)
class DocumentKind:
    """One kind of document: its name in addresses and on the command line, its title, the heads of its columns, and
    its rows."""

    name: str
    title: str
    heads: Row
    rows: Callable[[DocumentInput], Iterator[Row]]


@dataclass(frozen=True, slots=True)
class Document:
    """A table of words."""

    title: str
    heads: Row
    rows: tuple[Row, ...]


def source_time(recording: Recording, frame: int, project: Project) -> str:
    """A story frame of a recording's clock in its own timecode."""
    if recording.frames is None:
        return ""
    return format_timecode(
        recording.first + frame_shown(frame, project.rate, recording.rate), recording.rate, recording.drops
    )


def _paper_cut(told: DocumentInput) -> Iterator[Row]:
    """What is said, in order, with the headings and titles over it."""
    story, timecode = told.story, told.timecode
    headings = {section.piece: section.heading.upper() for section in story.sections if section.heading}
    titles = sorted((begins, ends, cover.title) for begins, ends, cover in story.spans if cover.source == TITLE)
    for at, piece in zip(story.starts, story.pieces, strict=False):
        end = at + piece.length
        recording = told.recordings.get(piece.source or 0)
        if piece.id in headings:
            yield (timecode(at), "", headings[piece.id], "", "", "", "")
        times = [told.source_timecode(recording, frame) for frame in piece.used] if recording else ["", ""]
        piece_name = recording.name if recording else (piece.card.text or "card") if piece.card else "space"
        first, *more = told.said(at, end) or [("", "")]
        yield (timecode(at), timecode(end), piece_name, *times, *first)
        for speaker, text in more:
            yield ("", "", "", "", "", speaker, text)
        for begins, ends, text in titles:
            if at <= begins < end:
                shown = text.replace("\n", " / ")
                yield (timecode(begins), timecode(min(ends, story.length)), "title", "", "", "", shown)


def _shot_list(told: DocumentInput) -> Iterator[Row]:
    """What is laid over the dialogue."""
    story = told.story
    for begins, ends, cover in sorted(
        (start, end, cover) for start, end, cover in story.spans if cover.source and start < story.length
    ):
        recording = told.recordings.get(cover.source)
        if recording is not None:
            speed = "" if cover.as_shot else f"{100 * cover.used / cover.length:.3g} %"
            place = told.timecode(begins), told.timecode(min(ends, story.length)), str(cover.lane)
            yield (
                *place,
                recording.name,
                recording.roll,
                told.source_timecode(recording, cover.start),
                told.source_timecode(recording, cover.end),
                speed,
            )


def _cue_sheet(told: DocumentInput) -> Iterator[Row]:
    """The music, cue by cue."""
    story, frame_rate = told.story, told.story.rate
    cues = sorted((story.at(sound), sound) for sound in story.sounds if sound.kind == "music")
    for number, (at, sound) in enumerate(cues, 1):
        recording = told.recordings.get(sound.source)
        if recording is not None and at < story.length:
            end = min(at + sound.length, story.length)
            file = recording.path.rsplit("/", 1)[-1]
            yield (
                str(number),
                told.timecode(at),
                told.timecode(end),
                stamp(end - at, frame_rate),
                recording.name,
                file,
                stamp(sound.start, frame_rate),
            )


def _edit_list_by_tape(told: DocumentInput) -> Iterator[Row]:
    """Everything that is used, by roll and camera, in the order of the recording."""
    story = told.story
    uses: list[tuple[int | None, int, int, str, int, int]] = []
    for at, piece in zip(story.starts, story.pieces, strict=False):
        uses.append((piece.source, *piece.used, "dialogue", at, at + piece.length))
    for begins, ends, cover in story.spans:
        uses.append((cover.source, cover.start, cover.end, "cover", begins, ends))
    for sound in story.sounds:
        uses.append((sound.source, sound.start, sound.end, sound.kind, story.at(sound), story.at(sound) + sound.length))
    known = [
        (told.recordings[piece_use[0]], *piece_use[1:])
        for piece_use in uses
        if piece_use[0] is not None and piece_use[0] in told.recordings
    ]

    def by_tape(use: tuple[Any, ...]) -> tuple[str, str, str, int]:
        return use[0].roll, use[0].camera, use[0].name, use[1]

    for recording, first, last, how, begins, ends in sorted(known, key=by_tape):
        roll = f"{recording.roll}{f' {recording.camera}' if recording.camera else ''}"
        times = told.source_timecode(recording, first), told.source_timecode(recording, last)
        yield (roll, recording.name, *times, how, told.timecode(begins), told.timecode(ends))


def _speakers(told: DocumentInput) -> Iterator[Row]:
    """Who speaks how long: each piece's length, shared out by words where more than one speaks in it."""
    frames: dict[str, Fraction] = {}
    words: dict[str, int] = {}
    turns: dict[str, int] = {}
    for at, piece in zip(told.story.starts, told.story.pieces, strict=False):
        spoken = [(speaker or "Nobody named", len(text.split())) for speaker, text in told.said(at, at + piece.length)]
        total = sum(count for _, count in spoken)
        for speaker, count in spoken:
            frames[speaker] = frames.get(speaker, Fraction(0)) + Fraction(piece.length * count, max(1, total))
            words[speaker] = words.get(speaker, 0) + count
            turns[speaker] = turns.get(speaker, 0) + 1
    whole = sum(frames.values())
    for speaker in sorted(frames, key=lambda name: -frames[name]):
        lasts = frames[speaker]
        yield (
            speaker,
            str(turns[speaker]),
            stamp(round(lasts), told.story.rate),
            f"{float(100 * lasts / whole):.0f} %" if whole else "",
            str(words[speaker]),
            f"{float(words[speaker] * 60 * told.story.rate.fps / lasts):.0f}" if lasts else "",
        )


def _problem_list(told: DocumentInput) -> Iterator[Row]:
    """What the checks found, worst first."""
    for finding in told.findings():
        yield (told.timecode(finding.at) if finding.at is not None else "", finding.text)


DOCUMENTS = {
    kind.name: kind
    for kind in (
        DocumentKind(
            "cut",
            "Paper cut",
            ("Begins", "Ends", "Recording", "Timecode in", "Timecode out", "Speaker", "Words"),
            _paper_cut,
        ),
        DocumentKind(
            "shots",
            "Shot list",
            ("Begins", "Ends", "Lane", "Recording", "Roll", "Timecode in", "Timecode out", "Speed"),
            _shot_list,
        ),
        DocumentKind("music", "Cue sheet", ("Cue", "Begins", "Ends", "Lasts", "Title", "File", "From"), _cue_sheet),
        DocumentKind(
            "tapes",
            "Edit list by tape",
            ("Roll", "Recording", "Timecode in", "Timecode out", "Used as", "Begins", "Ends"),
            _edit_list_by_tape,
        ),
        DocumentKind(
            "speakers",
            "Speakers",
            ("Speaker", "Times", "Speaks for", "Of all speech", "Words", "Words a minute"),
            _speakers,
        ),
        DocumentKind("faults", "To look at", ("Begins", "What"), _problem_list),
    )
}


def document_of(kind: DocumentKind, told: DocumentInput) -> Document:
    """One document of a story."""
    return Document(kind.title, kind.heads, tuple(kind.rows(told)))


def to_csv(document: Document) -> str:
    """A document as CSV (RFC 4180); what a table program would take for a formula is held back by a quote."""
    text_file = io.StringIO()
    writer = csv.writer(text_file)
    writer.writerow(document.heads)
    writer.writerows(
        [f"'{cell_text}" if begins_formula(cell_text) else cell_text for cell_text in document_row]
        for document_row in document.rows
    )
    return text_file.getvalue()
