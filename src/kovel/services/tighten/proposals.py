"""Tightening: what is proposed for a recording, what the editor decided, and the pieces that come of it.

The editor's decisions are kept beside the recording, by what a proposal stands for (a pause, a word); so more or
less air loses none of them.
"""

import csv
import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, Literal

from kovel.core.errors import Invalid
from kovel.core.sound.levels import Levels
from kovel.core.story.model import Story
from kovel.core.time.rate import Rate
from kovel.core.time.timecode import format_timecode
from kovel.core.words.fillers import PROPOSAL_KINDS, Proposal, kept, proposals, word_proposals
from kovel.core.words.languages import Language
from kovel.data_folder import DataFolder
from kovel.services.log.recording_languages import set_list, spoken
from kovel.services.log.speech_levels import found_pauses, levels
from kovel.store import decisions, kept_settings, recordings, transcripts
from kovel.store.decisions import Desk


@dataclass(frozen=True, slots=True)
class Row:
    """A proposal in the project's frames [start, end) on the recording's clock; `out` when it will be taken out."""

    key: str
    start: int
    end: int
    kind: str
    why: str
    sure: float
    out: bool

    @property
    def length(self) -> int:
        """Length in samples."""
        return self.end - self.start


def desk(data_folder: DataFolder, recording: int) -> Desk:
    return decisions.desk(data_folder.db, recording)


def put(data_folder: DataFolder, recording: int, this_desk: Desk) -> None:
    """Keep a desk, and the one before it for undo."""
    decisions.put_desk(data_folder.db, recording, this_desk)


def undo(data_folder: DataFolder, recording: int) -> str:
    """Take the last decision or setting back."""
    if not decisions.undo_desk(data_folder.db, recording):
        raise Invalid("There is nothing to undo here.")
    return "Undone."


def interviewer(data_folder: DataFolder) -> str:
    """The name under which the interviewer's words stand in transcripts."""
    return kept_settings.get(data_folder.db, "interviewer") or "interviewer"


@lru_cache(8)
def _of_words(
    data_folder: DataFolder, recording: int, state: str, heard: Levels | None, of: Language, interviewer: str
) -> list[Proposal]:
    """Kept while neither the words (in `state`) nor the sound change: so a setting of the pauses answers at once."""
    return word_proposals(transcripts.words(data_folder.db, recording), heard, of, interviewer)


def rows(data_folder: DataFolder, recording: int, frame_rate: Rate, this_desk: Desk | None = None) -> list[Row]:
    """Every proposal for a recording, whole frames inside what was found, in order."""
    this_desk = this_desk or desk(data_folder, recording)
    said_words = transcripts.words(data_folder.db, recording)
    pauses = found_pauses(data_folder, recording, this_desk.settings, said_words)
    state = transcripts.said(data_folder.db, recording)
    of_words = _of_words(
        data_folder,
        recording,
        state,
        levels(data_folder, recording),
        spoken(data_folder, recordings.get(data_folder.db, recording)),
        interviewer(data_folder),
    )
    found_proposals = proposals(pauses, this_desk.settings, of_words)
    proposal_rows: list[Row] = []
    seen: set[str] = set()
    off, on = set(this_desk.off), set(this_desk.on)
    for proposal in found_proposals:
        start, end = frame_rate.sample_to_frame(proposal.start), frame_rate.sample_to_frame(proposal.end)
        start += frame_rate.frame_to_sample(start) < proposal.start
        if end <= start:
            continue
        key = f"{proposal.kind[:2]}{proposal.start if proposal.anchor < 0 else proposal.anchor}"
        if key in seen:  # the second part of a pause in which something else is proposed
            key += f"+{start}"
        seen.add(key)
        start, end = this_desk.moved.get(key, [start, end])
        safe = any(protected_start < end and start < y for protected_start, y in this_desk.protected)
        take = not safe and (key in on or (key not in off and proposal.kind not in this_desk.kinds_off))
        proposal_rows.append(
            Row(
                key,
                start,
                end,
                proposal.kind,
                proposal.why if not safe else f"protected; {proposal.why}",
                proposal.sure,
                take,
            )
        )
    return proposal_rows


def _proposal(data_folder: DataFolder, recording: int, frame_rate: Rate, key: str, this_desk: Desk) -> Row:
    proposal_row = next(
        (
            proposal_row
            for proposal_row in rows(data_folder, recording, frame_rate, this_desk)
            if proposal_row.key == key
        ),
        None,
    )
    if proposal_row is None:
        raise Invalid("That proposal is not there any more: the settings changed it. Choose another one.")
    return proposal_row


# Each decision reads the desk and keeps it in one transaction: two pages that decide at once lose nothing. What was
# done, in words, comes back.


def toggle(data_folder: DataFolder, recording: int, frame_rate: Rate, key: str) -> str:
    """Take a proposal out, or leave it in."""
    with data_folder.db.write():
        this_desk = desk(data_folder, recording)
        proposal_row = _proposal(data_folder, recording, frame_rate, key, this_desk)
        this_desk.off, this_desk.on = (
            [name for name in this_desk.off if name != key],
            [name for name in this_desk.on if name != key],
        )
        if proposal_row.out:
            this_desk.off.append(key)
        elif proposal_row.kind in this_desk.kinds_off:
            this_desk.on.append(key)
        this_desk.protected = [
            protected_span
            for protected_span in this_desk.protected
            if proposal_row.out or not (protected_span[0] < proposal_row.end and proposal_row.start < protected_span[1])
        ]
        put(data_folder, recording, this_desk)
        return "Left in." if proposal_row.out else "Taken out."


def nudge(
    data_folder: DataFolder, recording: int, frame_rate: Rate, key: str, edge: Literal["start", "end"], by: int
) -> str:
    """Move an edge of a proposal by frames."""
    with data_folder.db.write():
        this_desk = desk(data_folder, recording)
        proposal_row = _proposal(data_folder, recording, frame_rate, key, this_desk)
        start, end = (
            (proposal_row.start + by, proposal_row.end)
            if edge == "start"
            else (proposal_row.start, proposal_row.end + by)
        )
        if not 0 <= start < end <= recordings.get(data_folder.db, recording).length(frame_rate):
            raise Invalid("There is no room to move that edge further.")
        this_desk.moved[key] = [start, end]
        put(data_folder, recording, this_desk)
        return f"Edge moved by {abs(by)} frame{'s' if abs(by) != 1 else ''}."


def decide_all(data_folder: DataFolder, recording: int, frame_rate: Rate, kind: str, out: bool) -> str:
    """Take every proposal of a kind out, or leave them all in; what was decided of single ones is forgotten."""
    if kind not in PROPOSAL_KINDS:
        raise Invalid("There is no such kind of proposal.")
    with data_folder.db.write():
        this_desk = desk(data_folder, recording)
        here = {
            proposal_row.key
            for proposal_row in rows(data_folder, recording, frame_rate, this_desk)
            if proposal_row.kind == kind
        }
        this_desk.kinds_off = [name for name in this_desk.kinds_off if name != kind] + ([] if out else [kind])
        this_desk.off, this_desk.on = (
            [name for name in this_desk.off if name not in here],
            [name for name in this_desk.on if name not in here],
        )
        put(data_folder, recording, this_desk)
        return f"Every {kind} is {'taken out' if out else 'left in'}."


def protect(data_folder: DataFolder, recording: int, start: int, end: int) -> str:
    """Nothing is taken out of frames [start, end) of the recording."""
    if end <= start:
        raise Invalid("Drag over a stretch of the recording's line first, then protect it.")
    with data_folder.db.write():
        this_desk = desk(data_folder, recording)
        this_desk.protected.append([start, end])
        put(data_folder, recording, this_desk)
        return "Protected: nothing is taken out there."


def reset(data_folder: DataFolder, recording: int) -> str:
    """Take every decision back; the settings stay."""
    with data_folder.db.write():
        put(data_folder, recording, Desk(desk(data_folder, recording).settings))
        return "All decisions taken back; the settings stay."


WITHIN = {
    "shortest": (0.05, 10.0),
    "before": (0.0, 5.0),
    "after": (0.0, 5.0),
    "island": (0.0, 2.0),
    "threshold": (-90.0, 0.0),
}


def set_up(
    data_folder: DataFolder,
    recording: int,
    values: Mapping[str, float | None],
    lists: Mapping[str, str],
    asking: str | None,
) -> str:
    """Change how pauses are looked for (`values` of `Settings`, kept `WITHIN` their bounds; a threshold of None is
    found anew), the `lists` of the recording's language, and the name the interviewer stands under."""
    kept: dict[str, Any] = {
        name: None if value is None else within(*WITHIN[name], value) for name, value in values.items()
    }
    with data_folder.db.write():
        this_desk = desk(data_folder, recording)
        this_desk.settings = replace(this_desk.settings, **kept)
        for which, text in lists.items():
            set_list(data_folder, which, spoken(data_folder, recordings.get(data_folder.db, recording)).code, text)
        if asking is not None:
            kept_settings.put(data_folder.db, "interviewer", " ".join(asking.split())[:40])
        put(data_folder, recording, this_desk)
        return "Settings changed."


def within(low: float, high: float, x: float) -> float:
    return min(high, max(low, x))


def left(found: Sequence[Row], start: int, end: int) -> list[tuple[int, int]]:
    """The pieces of [start, end) that stay."""
    return kept(start, end, [(found_row.start, found_row.end) for found_row in found if found_row.out])


@dataclass(frozen=True, slots=True)
class StoryCut:
    """A stretch [at, end) of the story that a decision would take out of it."""

    at: int
    end: int
    recording: int
    row: Row

    @property
    def length(self) -> int:
        """Length in frames."""
        return self.end - self.at


def story_cuts(
    data_folder: DataFolder, story: Story, only: int | None = None, this_desk: Desk | None = None
) -> list[StoryCut]:
    """All that is decided to go and stands in the story, in its order (`only` of one recording, by desk `d` if
    given)."""
    story_cuts_found: list[StoryCut] = []
    known: dict[int, list[Row]] = {}
    for at, piece in zip(story.starts, story.pieces, strict=False):
        if piece.source is None or (only is not None and piece.source != only) or not piece.clock.as_shot:
            continue
        if piece.source not in known:
            known[piece.source] = [
                proposal_row
                for proposal_row in rows(data_folder, piece.source, story.rate, this_desk)
                if proposal_row.out
            ]
        for proposal_row in known[piece.source]:
            start, end = max(proposal_row.start, piece.start), min(proposal_row.end, piece.end)
            if end > start and (start > piece.start or end < piece.end):
                story_cuts_found.append(
                    StoryCut(at + start - piece.start, at + end - piece.start, piece.source, proposal_row)
                )
    return sorted(story_cuts_found, key=lambda c: (c.at, c.end))


def in_story(
    data_folder: DataFolder, story: Story, only: int | None = None, this_desk: Desk | None = None
) -> list[list[int]]:
    """Stretches of the story to take out, apart from each other."""
    return apart(story_cuts(data_folder, story, only, this_desk))


def apart(cuts: Sequence[StoryCut]) -> list[list[int]]:
    """Cuts in order as stretches [a, b): those that touch or overlap are one."""
    kept_apart: list[list[int]] = []
    for story_cut in cuts:
        if kept_apart and story_cut.at <= kept_apart[-1][1]:
            kept_apart[-1][1] = max(story_cut.end, kept_apart[-1][1])
        else:
            kept_apart.append([story_cut.at, story_cut.end])
    return kept_apart


def as_csv(found: Sequence[Row], frame_rate: Rate) -> str:
    """What is proposed and decided, as CSV."""
    text_file = io.StringIO()
    sheet = csv.writer(text_file)
    sheet.writerow(["start", "end", "length", "kind", "why", "sure", "decision"])
    for found_row in found:
        times = [
            format_timecode(cut_edge, frame_rate) for cut_edge in (found_row.start, found_row.end, found_row.length)
        ]
        sheet.writerow(
            [*times, found_row.kind, found_row.why, found_row.sure, "take out" if found_row.out else "leave in"]
        )
    return text_file.getvalue()


@dataclass(frozen=True, slots=True)
class Sums:
    """Lengths before and after in frames, what is saved, and the jump cuts it makes."""

    before: int
    after: int
    saved: int
    jumps: int


def saved(pieces: Sequence[tuple[int, int]], start: int, end: int) -> Sums:
    """What it comes to when of [start, end) only `pieces` stay."""
    after = sum(end - start for start, end in pieces)
    return Sums(end - start, after, end - start - after, max(0, len(pieces) - 1))
